"""Supports on a filament machine: what must be held, what is made for it, and what hands made of that."""

from __future__ import annotations

import math

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..geometry.mesh import Mesh, facet_normals
from ..geometry.tree import Tree
from ..graph import Keep, Source, maybe, recipe
from ..hanging.findings import Hanging
from ..hanging.islands import find_islands
from ..hanging.overhang_regions import Region
from ..layers.stack import LayerStack
from ..progress import Progress
from ..stance.figures import SHOW_DEG
from ..stance.pose import Placement, from_quaternion
from ..supports.byhand.kept import by_hand
from ..supports.demand.demand_overrides import Wishes
from ..supports.demand.patches import Hold, Measure, Patch, Style, patches
from ..supports.demand.side_contacts import steady_heights, steady_patches, wall_patches
from ..supports.filament.finish import finished
from ..supports.filament.styles import Grown, chosen_styles, grow_supports, kept_clear
from ..supports.model import Branches, Column
from ..supports.show_side import Shown
from ..supports.support_set import SupportSet
from .hanging import Painted, all_hanging, hangs, painted, walked, wishes
from .layers import layers
from .settings import Demand, FilamentSupports, Lift, ShowDirection, Styles, TakenOut, Turn
from .stance import placed_mesh, placement, show_facets, shown_mesh, tree

Held = list[tuple[Patch, Style]]
Clear = tuple[CrossSection | None, ...]
Supports = tuple[Column | Branches, ...]

# Supports that hands made or changed, and those that the automatic ones are made round.
KEPT: Source[tuple[Column | Branches, ...]] = Source("kept-supports", tuple)
AROUND: Source[tuple[Column | Branches, ...]] = Source("supports-around", tuple)


@recipe(
    "demand",
    version=4,
    stage="Finding what must be held",
    needs=(layers, placed_mesh, walked, hangs, wishes, tree, maybe(painted)),
    reads=(Demand, Lift),
)
def demand(
    stack: LayerStack,
    mesh: Mesh,
    found: Hanging,
    regions: tuple[Region, ...],
    asked: Wishes,
    part: Tree,
    coat: Painted | None,
    wanted: Demand,
    lift: Lift,
    progress: Progress,
) -> tuple[Patch, ...]:
    """What must be held, and why."""
    settings = wanted.supports()
    made = patches(
        stack,
        mesh,
        all_hanging(found, regions),
        find_islands(stack, on_plate=lift.mm == 0)[1],
        Measure(wanted.limit_deg, wanted.hold, wanted.let_be, wanted.smallest_mm2),
        wishes=asked,
        tree=part,
        progress=progress,
    )
    if coat is not None:
        made += wall_patches(stack, coat[0], coat[2], settings)
    if wanted.steady is not None or wanted.hold is Hold.ALL:
        heights = steady_heights(stack, wanted.steady, wanted.steady_at)
        made += steady_patches(stack, mesh, part, heights, settings)
    return tuple(made)


@recipe("held", version=2, needs=(demand,), reads=Styles, keep=Keep.LIGHT)
def held(asked: tuple[Patch, ...], styles: Styles) -> Held:
    """All patches with the style that each is held in."""
    return chosen_styles(asked, styles.style, dict(styles.by_patch))


@recipe("cleared", version=2, stage="Keeping places clear", needs=(painted, layers))
def cleared(coat: Painted, stack: LayerStack) -> Clear:
    """Where nothing may pass, by level from the plate; empty where nothing is painted so."""
    return tuple(kept_clear(coat[0], coat[2], stack) or ())


@recipe(
    "show_side",
    version=1,
    needs=(placed_mesh, tree, placement, maybe(shown_mesh), maybe(show_facets)),
    reads=(maybe(ShowDirection), Turn),
    keep=Keep.PASSING,
)
def show_side(
    mesh: Mesh,
    part: Tree,
    where: Placement,
    divided: Mesh | None,
    facets: NDArray[np.bool_] | None,
    direction: ShowDirection | None,
    turn: Turn,
) -> Shown | None:
    """The show side where the part stands: painted, or by its direction; ``None`` where there is none."""
    if facets is not None and divided is not None:
        return Shown(Tree.of(where.apply(divided)), facets)
    if direction is None:
        return None
    turned = from_quaternion(turn.quaternion) @ np.array(direction.show)
    return Shown(part, facet_normals(mesh)[0] @ turned >= math.cos(math.radians(SHOW_DEG)))


@recipe(
    "grown",
    version=8,
    stage="Making supports",
    needs=(layers, held, tree, maybe(cleared), maybe(AROUND), show_side),
    reads=FilamentSupports,
)
def grown(
    stack: LayerStack,
    patches_held: Held,
    part: Tree,
    clear: Clear | None,
    around: Supports | None,
    shown: Shown | None,
    asked: FilamentSupports,
    progress: Progress,
) -> Grown:
    """Supports as they are made, before hands change them."""
    return grow_supports(
        stack,
        patches_held,
        asked.settings,
        part,
        clear=clear or None,
        around=around or (),
        shown=shown,
        progress=progress,
    )


@recipe(
    "filament_supports",
    version=16,
    stage="Checking supports",
    needs=(layers, held, grown, maybe(KEPT), maybe(cleared)),
    reads=(FilamentSupports, TakenOut),
)
def filament_supports(
    stack: LayerStack,
    patches_held: Held,
    made: Grown,
    kept: Supports | None,
    clear: Clear | None,
    asked: FilamentSupports,
    taken: TakenOut,
    progress: Progress,
) -> SupportSet:
    """Supports with what hands made of them, checked in their layers."""
    every, lost = by_hand(made, taken.gone, kept or ())
    return finished(
        stack,
        patches_held,
        every,
        asked.settings,
        clear=clear or None,
        lost=lost,
        known=made.known,
        progress=progress,
    )

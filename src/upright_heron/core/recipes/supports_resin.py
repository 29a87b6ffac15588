"""Stilts under resin parts, and what is asked of supports whatever machine prints them."""

from __future__ import annotations

from ..errors import NotClosed
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..geometry.tree import Tree
from ..graph import Keep, choice, maybe, recipe
from ..hanging.findings import Hanging
from ..hanging.overhang_regions import Region
from ..layers.stack import LayerStack
from ..progress import Progress
from ..stance.pose import Placement
from ..supports.checks.holding import holding as holding_of
from ..supports.checks.holding import probes
from ..supports.checks.removal import Access, reach
from ..supports.model import Branches, Column
from ..supports.resin.hands import with_hands
from ..supports.resin.site import ByHand, Ground, Site, Stood
from ..supports.resin.sizes import Stoutness
from ..supports.resin.stilt_sets import finished
from ..supports.resin.stilts import stand
from ..supports.show_side import Shown
from ..supports.support_set import SupportSet
from .hanging import Painted, all_hanging, hangs, painted, walked
from .layers import layers
from .settings import (
    FilamentSupports,
    Limit,
    Peeling,
    ResinSupports,
    Tool,
)
from .settings_by_hand import TipsAround, TipsByHand
from .stance import placed_mesh, placed_solid, placement, tree
from .supports_filament import filament_supports, show_side
from .values import Holding


@recipe(
    "ground",
    version=1,
    needs=(placed_mesh, tree, layers, walked, hangs, placement, show_side),
    keep=Keep.PASSING,
)
def ground(
    mesh: Mesh,
    part: Tree,
    stack: LayerStack,
    found: Hanging,
    regions: tuple[Region, ...],
    where: Placement,
    shown: Shown | None,
) -> Ground:
    """A part where it stands, with what hangs of it and what is seen."""
    x, y, z = where.rotation[:, 2].tolist()
    return Ground(mesh, part, stack, all_hanging(found, regions), (x, y, z), shown)


@recipe("site", version=1, needs=(ground,), reads=(ResinSupports, Limit, Peeling), keep=Keep.PASSING)
def site(stands: Ground, asked: ResinSupports, limit: Limit, material: Peeling) -> Site:
    """What stilts are worked out from, whatever hands do: the room round the part, and what hangs in it."""
    return Site(stands, asked.settings, material.peel, limit.deg)


@recipe(
    "stood",
    version=1,
    stage="Standing stilts",
    needs=(site, placed_solid, maybe(painted), placement),
    reads=TipsAround,
)
def stood(
    where_to: Site,
    body: Solid | None,
    coat: Painted | None,
    where: Placement,
    around: TipsAround,
    progress: Progress,
) -> Stood:
    """Stilts under a resin part, round what hands had done.

    Raises
    ------
    NotClosed
        The part is open.
    """
    if body is None:
        raise NotClosed(
            "Stilts need a closed part, and this surface is open.",
            "Export a closed part, or pick a filament printer: its columns only need the layers.",
        )
    return stand(
        where_to,
        painted=coat and (coat[0], coat[2]),
        by_hand=_in_stance(around.by_hand, where),
        progress=progress,
    )


@recipe(
    "after_hands",
    version=1,
    needs=(site, stood, placement),
    reads=(TipsAround, TipsByHand),
    keep=Keep.PASSING,
)
def after_hands(
    where_to: Site, made: Stood, where: Placement, around: TipsAround, by_hand: TipsByHand
) -> Stood:
    """Stilts with all that hands did since."""
    if around.by_hand == by_hand:
        return made
    return with_hands(made, where_to, _in_stance(around.by_hand, where), _in_stance(by_hand, where))


@recipe("stilts", version=18, stage="Checking stilts", needs=(site, after_hands))
def stilts(where_to: Site, made: Stood, progress: Progress) -> SupportSet:
    """Stilts in their layers, checked."""
    return finished(made, where_to, progress)


def _in_stance(by_hand: TipsByHand, where: Placement) -> ByHand:
    """What hands did, where the part stands."""
    return ByHand(
        where.points(by_hand.put_mm),
        where.points(by_hand.out_mm),
        where.points([at for at, _ in by_hand.tip_sizes]),
        tuple(Stoutness(name) for _, name in by_hand.tip_sizes),
    )


supports = choice("supports", filament_supports, stilts)


@recipe(
    "holding",
    version=2,
    stage="Checking what is held",
    needs=(walked, hangs, placed_mesh, supports),
    reads=(maybe(FilamentSupports), maybe(ResinSupports)),
)
def holding(
    found: Hanging,
    regions: tuple[Region, ...],
    mesh: Mesh,
    made: SupportSet,
    filament: FilamentSupports | None,
    resin: ResinSupports | None,
) -> Holding:
    """Which supports hold which finding."""
    asked = filament or resin
    assert asked is not None
    points = probes(all_hanging(found, regions), mesh)
    return Holding(tuple(holding_of(points, made, asked.settings).items()))


@recipe(
    "access",
    version=2,
    stage="Looking for ways out",
    needs=(filament_supports, tree, show_side),
    reads=Tool,
)
def access(
    made: SupportSet, part: Tree, shown: Shown | None, tool: Tool, progress: Progress
) -> tuple[Access, ...]:
    """How each filament support is got at."""
    chosen = [s for s in made.supports if isinstance(s, Column | Branches)]
    return tuple(reach(chosen, part, tool.mm, shown, progress=progress))

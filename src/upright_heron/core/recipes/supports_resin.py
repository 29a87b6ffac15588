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
from ..supports.resin.sizes import Stoutness
from ..supports.resin.stilts import ByHand, Ground, make_stilts
from ..supports.show_side import Shown
from ..supports.support_set import SupportSet
from .hanging import Painted, all_hanging, hangs, painted, walked
from .layers import layers
from .settings import FilamentSupports, Limit, Peeling, ResinSupports, Tool
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


@recipe(
    "stilts",
    version=17,
    stage="Standing stilts",
    needs=(ground, placed_solid, maybe(painted), placement),
    reads=(ResinSupports, Limit, Peeling),
)
def stilts(
    stands: Ground,
    body: Solid | None,
    coat: Painted | None,
    where: Placement,
    asked: ResinSupports,
    limit: Limit,
    material: Peeling,
    progress: Progress,
) -> SupportSet:
    """Stilts under a resin part.

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
    return make_stilts(
        stands,
        limit.deg,
        asked.settings,
        peel=material.peel,
        painted=coat and (coat[0], coat[2]),
        by_hand=ByHand(
            where.points(asked.put_mm),
            where.points(asked.out_mm),
            where.points([at for at, _ in asked.tip_sizes]),
            tuple(Stoutness(name) for _, name in asked.tip_sizes),
        ),
        progress=progress,
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

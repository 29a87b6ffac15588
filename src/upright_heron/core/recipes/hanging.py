"""What hangs in a stance: overhangs, islands, points, steps, necks, cups, and the figures of the stance."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..geometry.mesh import Mesh
from ..geometry.subdivision import Fine
from ..geometry.tree import Tree
from ..graph import Keep, maybe, recipe
from ..hanging.findings import Hanging, walk
from ..hanging.overhang_regions import Region, hanging_regions
from ..hanging.overhangs import overhangs
from ..hanging.pools import Pool, find_pools
from ..layers.stack import LayerStack
from ..marking.marks import Marks
from ..stance.pose import Placement
from ..supports.demand.demand_overrides import Wishes
from ..supports.demand.demand_overrides import wishes as wishes_of
from .layers import layers
from .part import fine, marks_demand, printed
from .settings import Bridges, FigureSetting, Lift, Limit, PartFacts, Turn, Walk
from .stance import across, base, figures, placed_mesh, placement, shown_mesh, tree
from .values import Findings, Marked

Painted = tuple[Mesh, NDArray[np.int64], Marks]

figures_of_stance = recipe(
    "figures",
    version=3,
    stage="Figures of the stance",
    needs=(printed, maybe(shown_mesh), layers, base),
    reads=(FigureSetting, Turn, PartFacts),
)(figures)


@recipe("walked", version=2, stage="Looking for islands", needs=(placed_mesh, layers), reads=(Walk, Lift))
def walked(mesh: Mesh, stack: LayerStack, asked: Walk, lift: Lift) -> Hanging:
    """What was found walking up the layers; the limit does not count in it."""
    return walk(
        mesh,
        stack,
        spot_mm=asked.spot_mm,
        resin=asked.resin,
        on_plate=lift.mm == 0,
        step_factor=asked.step_factor,
    )


@recipe("pools", version=1, stage="Looking for trapped resin", needs=(layers,), reads=Walk)
def pools(stack: LayerStack, asked: Walk) -> tuple[Pool, ...]:
    """Where resin stays in while the part hangs from the plate; nothing on a filament machine."""
    return tuple(find_pools(stack)) if asked.resin else ()


@recipe(
    "findings",
    version=2,
    stage="Finding overhangs",
    needs=(placed_mesh, layers, walked),
    reads=(Limit, Lift),
)
def findings(mesh: Mesh, stack: LayerStack, found: Hanging, limit: Limit, lift: Lift) -> Findings:
    """Overhangs and islands."""
    area = overhangs(mesh, limit.deg, plate_mm=_plate(lift))
    largest = stack.largest
    return Findings(
        area.overhang_area_mm2,
        area.contact_area_mm2,
        found,
        len(stack),
        largest,
        float(stack.z_mm[largest]) if largest >= 0 else 0.0,
        float(stack.area_mm2[largest]) if largest >= 0 else 0.0,
        stack.open_chains,
    )


@recipe(
    "hangs",
    version=4,
    stage="Finding what hangs",
    needs=(placed_mesh, tree, across),
    reads=(Limit, Lift),
)
def hangs(mesh: Mesh, part: Tree, joins: NDArray[np.int32], limit: Limit, lift: Lift) -> tuple[Region, ...]:
    """Overhang regions, from the lowest up."""
    return tuple(hanging_regions(mesh, limit.deg, lifted=lift.mm > 0, tree=part, across=joins))


@recipe("past", version=1, needs=(placed_mesh,), reads=(Limit, Lift))
def past(mesh: Mesh, limit: Limit, lift: Lift) -> NDArray[np.int64]:
    """Facets of the part past the limit in its stance."""
    return np.flatnonzero(overhangs(mesh, limit.deg, plate_mm=_plate(lift)).past)


def _plate(lift: Lift) -> float | None:
    return None if lift.mm > 0 else 0.0


@recipe("painted", version=1, needs=(fine, placement, marks_demand), keep=Keep.PASSING)
def painted(divided: Fine, where: Placement, marks: Marks) -> Painted:
    """The fine mesh where the part stands, the facets it tiles, and what supports heed of its marks."""
    return where.apply(divided.mesh), divided.parent, marks


@recipe(
    "wishes",
    version=1,
    needs=(layers, placed_mesh, hangs, maybe(painted)),
    reads=Bridges,
    keep=Keep.PASSING,
)
def wishes(
    stack: LayerStack, mesh: Mesh, regions: tuple[Region, ...], coat: Painted | None, bridges: Bridges
) -> Wishes:
    """What bridges and marks change in what is to be held."""
    return wishes_of(stack, mesh, regions, bridges.longest_mm, coat)


@recipe("marked", version=1, needs=(wishes, painted))
def marked(asked: Wishes, coat: Painted) -> Marked:
    """Which overhang regions are painted."""
    return Marked(tuple(sorted(asked.propped)), tuple(sorted(asked.kept_clear)))


def all_hanging(found: Hanging, regions: tuple[Region, ...], kept: tuple[Pool, ...] = ()) -> Hanging:
    """What was found walking up the layers, with the overhang regions and the resin that stays in."""
    return replace(found, regions=regions, pools=kept)

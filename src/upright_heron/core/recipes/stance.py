"""The part in its stance, in a frame of its own: centred, its lowest point at z = 0 or at its lift."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..geometry.adjacency import across_edges
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..geometry.subdivision import Fine
from ..geometry.tree import Tree
from ..graph import Keep, maybe, recipe
from ..layers.stack import LayerStack
from ..marking.mark import Mark
from ..marking.marks import Marks
from ..progress import Progress
from ..stance.figures import Base, Figures
from ..stance.figures import figures as figures_of
from ..stance.large_parts import slicer
from ..stance.pose import Placement, from_quaternion, place
from ..stance.proposals import Found
from ..stance.search import search as search_stances
from ..stance.steadiness import Steadiness
from ..stance.steadiness import steadiness as steadiness_of
from .part import fine, marks_demand, marks_show, printed, solid
from .settings import FigureSetting, LayerHeight, Lift, PaintedShow, PartFacts, SearchSetting, Turn
from .values import Placed


@recipe("placement", version=1, needs=(printed,), reads=(Turn, Lift), keep=Keep.PASSING)
def placement(mesh: Mesh, turn: Turn, lift: Lift) -> Placement:
    """Turn and offset of the stance."""
    return place(mesh, from_quaternion(turn.quaternion), lift.mm)


@recipe("placed_mesh", version=1, needs=(printed, placement), keep=Keep.PASSING)
def placed_mesh(mesh: Mesh, where: Placement) -> Mesh:
    """The part in its stance."""
    return where.apply(mesh)


@recipe("placed_solid", version=1, needs=(maybe(solid), placement), keep=Keep.PASSING)
def placed_solid(body: Solid | None, where: Placement) -> Solid | None:
    """The part in its stance as a solid, or ``None`` for an open one."""
    return None if body is None else body.transformed(where.rotation, where.offset_mm)


@recipe("placed", version=3, stage="Placing the part", needs=(placed_mesh,))
def placed(mesh: Mesh) -> Placed:
    """Size in the stance."""
    low, high = mesh.bounds
    x, y, z = (float(v) for v in high - low)
    return Placed((x, y, z))


@recipe("steadiness", version=1, stage="Placing the part", needs=(placed_mesh,), reads=PartFacts)
def steadiness(mesh: Mesh, part: PartFacts) -> Steadiness:
    """How steadily the part stands by itself."""
    return steadiness_of(mesh, closed=part.closed)


@recipe("tree", version=1, needs=(placed_mesh,), keep=Keep.PASSING)
def tree(mesh: Mesh) -> Tree:
    """Tree of the part in its stance: kept, for limits are dragged to and fro."""
    return Tree.of(mesh)


@recipe("across", version=1, needs=(printed,), keep=Keep.PASSING)
def across(mesh: Mesh) -> NDArray[np.int32]:
    """Neighbours of each facet over its edges; they are the same in every stance."""
    return across_edges(mesh)


@recipe("shown_mesh", version=1, needs=(printed, fine), reads=PaintedShow, keep=Keep.PASSING)
def shown_mesh(mesh: Mesh, divided: Fine, painted: PaintedShow) -> Mesh:
    """The mesh that stances are judged by where the show side is painted."""
    return divided.mesh


@recipe("show_facets", version=1, needs=(marks_show,), reads=PaintedShow, keep=Keep.PASSING)
def show_facets(marks: Marks, painted: PaintedShow) -> NDArray[np.bool_]:
    """Facets of the fine mesh on the painted show side."""
    chosen: NDArray[np.bool_] = marks == Mark.SHOW
    return chosen


@recipe("clear_mesh", version=1, needs=(fine, marks_demand), keep=Keep.PASSING)
def clear_mesh(divided: Fine, marks: Marks) -> Mesh:
    """The facets that are painted to be kept clear."""
    return Mesh(divided.mesh.vertices, divided.mesh.faces[marks == Mark.KEEP_CLEAR])


@recipe(
    "base",
    version=2,
    needs=(printed, maybe(shown_mesh), maybe(show_facets), maybe(clear_mesh)),
    reads=(FigureSetting, PartFacts),
    keep=Keep.PASSING,
)
def base(
    mesh: Mesh,
    divided: Mesh | None,
    facets: NDArray[np.bool_] | None,
    clear: Mesh | None,
    asked: FigureSetting,
    part: PartFacts,
) -> Base:
    """What all stances of the part share."""
    whole = mesh if divided is None else divided
    return Base.of(whole, asked.setting, closed=part.closed, painted=facets, clear=clear)


@recipe("cutter", version=2, needs=(printed,), reads=(LayerHeight, Lift, PartFacts), keep=Keep.PASSING)
def cutter(
    mesh: Mesh, layer: LayerHeight, lift: Lift, part: PartFacts
) -> Callable[[NDArray[np.float64]], LayerStack]:
    """What cuts the part in any stance."""
    return slicer(mesh, part.closed, layer.mm, lift.mm)


@recipe(
    "search",
    version=5,
    stage="Finding stances",
    needs=(printed, maybe(shown_mesh), maybe(show_facets), maybe(clear_mesh), cutter),
    reads=(SearchSetting, PartFacts),
)
def search(
    mesh: Mesh,
    divided: Mesh | None,
    facets: NDArray[np.bool_] | None,
    clear: Mesh | None,
    cut: Callable[[NDArray[np.float64]], LayerStack],
    asked: SearchSetting,
    part: PartFacts,
    progress: Progress,
    early: Callable[[Found], None],
) -> Found:
    """Stances that are proposed; the first ones are told while they firm up."""
    return search_stances(
        mesh if divided is None else divided,
        cut,
        asked.setting,
        asked.goals,
        painted=facets,
        clear=clear,
        closed=part.closed,
        progress=progress,
        firming=early,
    )


def figures(
    mesh: Mesh,
    divided: Mesh | None,
    layers: LayerStack,
    shared: Base,
    asked: FigureSetting,
    turn: Turn,
    part: PartFacts,
) -> Figures:
    """All figures of the stance."""
    return figures_of(
        mesh if divided is None else divided,
        from_quaternion(turn.quaternion),
        layers,
        asked.setting,
        closed=part.closed,
        base=shared,
    )

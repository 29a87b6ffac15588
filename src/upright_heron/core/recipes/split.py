"""Pieces of a part that is cut."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..errors import NotClosed
from ..geometry.mesh import Mesh, facet_normals
from ..geometry.solid import Solid
from ..graph import Keep, maybe, recipe
from ..progress import Progress
from ..split.assembly_map import AssemblyMap
from ..split.assembly_map import assembly_map as map_of
from ..split.cut_part import CutPart
from ..split.cut_part import cut_part as cut_solid
from ..split.grid import grid_cuts
from ..split.kept import check_kept
from ..split.pieces import Split, join_pieces
from ..split.plan_figures import PlanFigures
from ..split.plan_figures import plan_figures as figures_of
from ..split.planner import Plan
from ..split.planner import plans as plans_of
from ..stance.figures import show_facets as facing_show
from .part import printed, solid
from .settings import Box, Joining, Limit, Parting, ShowDirection
from .stance import show_facets, shown_mesh


def _closed(body: Solid | None) -> Solid:
    if body is None:
        raise NotClosed(
            "Only a closed part can be cut, and this surface is open.",
            "Export a closed part from the program that made it.",
        )
    return body


@recipe(
    "cut_part", version=1, stage="Cutting pieces", needs=(solid,), reads=(Box, Parting), keep=Keep.PASSING
)
def cut_part(body: Solid | None, box: Box, how: Parting, progress: Progress) -> CutPart:
    """Bodies of the part, cut as it came; what is learned of their joints stays with them.

    Raises
    ------
    NotClosed
        The part is open.
    """
    whole = _closed(body)
    cuts = how.cuts
    if cuts is None:
        cuts = tuple(grid_cuts(whole.bounds, box.box_mm, how.shift, kept=box.kept))
    check_kept(cuts, box.kept)
    return cut_solid(whole, cuts, boxes=how.cuts is None, keep=how.keep, progress=progress)


@recipe("split", version=6, stage="Cutting pieces", needs=(cut_part,), reads=(Box, Joining))
def split(part: CutPart, box: Box, how: Joining, progress: Progress) -> Split:
    """Pieces of the part, joined."""
    return join_pieces(part, box.box_mm, how.joint, progress=progress)


@recipe("plans", version=3, stage="Planning cuts", needs=(solid,), reads=Box)
def plans(
    body: Solid | None, box: Box, progress: Progress, early: Callable[[tuple[Plan, ...]], None]
) -> tuple[Plan, ...]:
    """Cuts that are proposed, the best first; what is found so far is told while others are looked for.

    Raises
    ------
    NotClosed
        The part is open.
    """
    told = plans_of(
        _closed(body), box.box_mm, kept=box.kept, early=lambda some: early(tuple(some)), progress=progress
    )
    return tuple(told)


@recipe(
    "plan_figures",
    version=1,
    stage="Weighing plans",
    needs=(solid, printed, plans, maybe(shown_mesh), maybe(show_facets)),
    reads=(Limit, maybe(ShowDirection)),
)
def plan_figures(
    body: Solid | None,
    mesh: Mesh,
    found: tuple[Plan, ...],
    divided: Mesh | None,
    painted: NDArray[np.bool_] | None,
    limit: Limit,
    way: ShowDirection | None,
    progress: Progress,
) -> tuple[PlanFigures, ...]:
    """What comes of each plan: supports, faces to stand on, seams where they show, and a picture."""
    show = painted
    if show is None and way is not None:
        show = facing_show(facet_normals(mesh)[0], way.show)
    surface = mesh if painted is None or divided is None else divided
    return figures_of(_closed(body), surface, found, limit.deg, show, progress=progress)


@recipe("assembly_map", version=1, stage="Drawing the assembly", needs=(split,))
def assembly_map(made: Split, progress: Progress) -> AssemblyMap:
    """How the pieces go together, drawn step by step."""
    return map_of(made, progress)

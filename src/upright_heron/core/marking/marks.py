"""Marks: what is painted on a part, one byte a facet of its fine mesh, and what each means."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from ..errors import BadValue
from ..geometry.subdivision import Fine
from .mark import Mark

Marks = NDArray[np.uint8]

# Facets whose outward direction differs by more than this are not the same place of a surface.
ALIKE = 0.5


# What is painted smaller than this is no place.
SPECK_MM2 = 20.0


@dataclass(frozen=True, slots=True)
class Meaning:
    """What a mark means to everything that comes after it.

    Attributes
    ----------
    name : str
        As it is shown.
    words : str
        What it does, in one sentence.
    adds_demand : bool
        Supports hold it whatever its slope, and a bridge too.
    removes_demand : bool
        It is never held.
    forbids_contact : bool
        No support touches it, from below or standing on it.
    clearance_mm : float
        No support passes nearer than this.
    costs_contact : bool
        Contact with it counts against a stance, and supports touch another place where one will do.
    """

    name: str
    words: str
    adds_demand: bool = False
    removes_demand: bool = False
    forbids_contact: bool = False
    clearance_mm: float = 0.0
    costs_contact: bool = False


MEANING = {
    Mark.PROP: Meaning("Prop", "Is held by supports whatever its slope, and a bridge too.", adds_demand=True),
    Mark.KEEP_CLEAR: Meaning(
        "Keep clear",
        "Is never held, and no support touches it or passes within 1 mm.",
        removes_demand=True,
        forbids_contact=True,
        clearance_mm=1.0,
    ),
    Mark.SHOW: Meaning(
        "Show side",
        "Counts against stances that touch it; supports touch another place where one will do.",
        costs_contact=True,
    ),
    Mark.SOLID: Meaning("Keep solid", "Stays solid behind it where the part is hollowed."),
}


def blank(fine: Fine) -> Marks:
    """Marks of a part nobody has painted."""
    return np.zeros(len(fine.parent), np.uint8)


def as_marks(fine: Fine, kept: Marks) -> Marks:
    """Marks as they were kept; blank where they were painted on a mesh that was divided otherwise."""
    return kept if len(kept) == len(fine.parent) else blank(fine)


def painted(marks: Marks, facets: NDArray[np.integer], mark: Mark) -> Marks:
    """Return the marks with facets (k,) given one; ``Mark.NONE`` erases.

    Raises
    ------
    BadValue
        Facets that the part does not have.
    """
    if len(facets) and not (int(facets.min()) >= 0 and int(facets.max()) < len(marks)):
        raise BadValue("The stroke is of another surface.", "Reload the page and paint again.")
    result = marks.copy()
    result[facets] = mark
    return result


def places_mm(fine: Fine, marks: Marks, mark: Mark) -> NDArray[np.float64]:
    """Middles (k, 3) of the facets that have a mark, mm."""
    return np.asarray(fine.middles_mm[marks == mark], np.float64)


def areas_mm2(fine: Fine, marks: Marks) -> dict[Mark, float]:
    """Painted area of each mark."""
    sums = np.bincount(marks, weights=fine.areas_mm2, minlength=len(Mark))
    return {mark: float(sums[mark]) for mark in Mark if mark is not Mark.NONE}


def shares(fine: Fine, marks: Marks, mark: Mark, facets: int) -> NDArray[np.float64]:
    """Painted share (facets,) of each facet of the part in its area."""
    whole = np.bincount(fine.parent, weights=fine.areas_mm2, minlength=facets)
    part = np.bincount(fine.parent, weights=fine.areas_mm2 * (marks == mark), minlength=facets)
    result: NDArray[np.float64] = part / np.maximum(whole, 1e-30)
    return result


# Fills: each gives the facets that it means ------------------------------------------------------


def _joined(fine: Fine, pairs: NDArray[np.int64], facet: int) -> NDArray[np.int64]:
    count = len(fine.parent)
    if not 0 <= facet < count:
        raise BadValue("There is no such place on the part.", "Point at the part again.")
    label = _labels(fine, pairs)
    return np.flatnonzero(label == label[facet])


def _labels(fine: Fine, pairs: NDArray[np.int64]) -> NDArray[np.int64]:
    """Number (m,) of the place of each facet, facets being joined by pairs (k, 2)."""
    count = len(fine.parent)
    graph = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), (count, count))
    return np.asarray(connected_components(graph, directed=False)[1], np.int64)


def face(fine: Fine, facet: int, crease_deg: float = 20.0) -> NDArray[np.int64]:
    """Facets (k,) joined to one over edges that are bent by no more than ``crease_deg``.

    Raises
    ------
    BadValue
        There is no such facet.
    """
    a, b = fine.pairs.T
    bend = np.einsum("ij,ij->i", fine.normals[a], fine.normals[b])
    return _joined(fine, fine.pairs[bend >= np.cos(np.radians(crease_deg)) - 1e-9], facet)


def body(fine: Fine, facet: int) -> NDArray[np.int64]:
    """Facets (k,) joined to one over edges.

    Raises
    ------
    BadValue
        There is no such facet.
    """
    return _joined(fine, fine.pairs, facet)


def of_parents(fine: Fine, facets: NDArray[np.integer]) -> NDArray[np.int64]:
    """Fine facets (k,) of some facets (j,) of the part."""
    return np.flatnonzero(np.isin(fine.parent, facets))


def band(fine: Fine, heights_mm: NDArray[np.float64], low_mm: float, high_mm: float) -> NDArray[np.int64]:
    """Facets (k,) between two heights.

    Parameters
    ----------
    fine : Fine
    heights_mm : (m,) float64
        Of the middle of each facet where the part stands.
    low_mm, high_mm : float
    """
    low, high = sorted((low_mm, high_mm))
    return np.flatnonzero((heights_mm >= low) & (heights_mm <= high))


def places(fine: Fine, marks: Marks, mark: Mark) -> list[NDArray[np.int64]]:
    """Facets (k,) of each place that is painted with a mark, the largest first; specks are left out."""
    mine = marks == mark
    a, b = fine.pairs.T
    label = _labels(fine, fine.pairs[mine[a] & mine[b]])[mine]
    areas = np.bincount(label, fine.areas_mm2[mine])
    facets = np.flatnonzero(mine)
    order = np.argsort(-areas, kind="stable")
    return [facets[label == k] for k in order[areas[order] >= SPECK_MM2].tolist()]


# Changes of what is painted ----------------------------------------------------------------------


def _reach(fine: Fine, seeds: NDArray[np.int64], reach_mm: float) -> NDArray[np.int64]:
    """Facets within a distance over the surface from others, middle to middle."""
    if not len(seeds):
        return seeds
    a, b = fine.pairs.T
    steps = np.linalg.norm(fine.middles_mm[a] - fine.middles_mm[b], axis=1)
    count = len(fine.parent)
    graph = coo_matrix((np.maximum(steps, 1e-9), (a, b)), (count, count)).tocsr()
    away = dijkstra(graph, directed=False, indices=seeds, limit=reach_mm, min_only=True)
    return np.flatnonzero(np.isfinite(away))


def _border(fine: Fine, inside: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Facets along the edge of a painted place, within it and beside it."""
    a, b = fine.pairs.T
    across = inside[a] != inside[b]
    ends = np.concatenate([a[across], b[across]])
    return np.unique(ends[inside[ends]]), np.unique(ends[~inside[ends]])


def grown(fine: Fine, marks: Marks, mark: Mark, by_mm: float) -> Marks:
    """Spread a mark over what is not painted, by a distance over the surface."""
    within, _ = _border(fine, marks == mark)
    reached = _reach(fine, within, by_mm)
    result = marks.copy()
    result[reached[marks[reached] == Mark.NONE]] = mark
    return result


def shrunk(fine: Fine, marks: Marks, mark: Mark, by_mm: float) -> Marks:
    """Draw a mark back from its edge, by a distance over the surface."""
    _, beside = _border(fine, marks == mark)
    reached = _reach(fine, beside, by_mm)
    result = marks.copy()
    result[reached[marks[reached] == mark]] = Mark.NONE
    return result


def smoothed(fine: Fine, marks: Marks, mark: Mark, by_mm: float) -> Marks:
    """Fill gaps and drop specks of a mark that are narrower than twice a distance."""
    closed = shrunk(fine, grown(fine, marks, mark, by_mm), mark, by_mm)
    # Drawing back and spreading again may not reach over other marks, nor past what closing left.
    opened = grown(fine, shrunk(fine, closed, mark, by_mm), mark, by_mm)
    opened[(opened == mark) & (closed != mark)] = Mark.NONE
    return opened


def mirrored(fine: Fine, marks: Marks, axis: str) -> Marks:
    """Repeat all marks on the other side of the middle of a part.

    Parameters
    ----------
    fine : Fine
    marks : Marks
    axis : str
        ``x``, ``y`` or ``z`` of the part: across it.

    Raises
    ------
    BadValue
        No such axis.
    """
    if axis not in ("x", "y", "z"):
        raise BadValue(f"There is no axis {axis[:10]!r}.", "Use x, y or z.")
    k = "xyz".index(axis)
    low, high = fine.mesh.bounds
    places, normals = fine.middles_mm.copy(), fine.normals.copy()
    places[:, k] = low[k] + high[k] - places[:, k]
    normals[:, k] *= -1
    near, found = _nearest(fine.middles_mm, fine.normals, places, normals, 2.0 * fine.edge_mm)
    result = marks.copy()
    free = found & (marks == Mark.NONE)
    result[free] = marks[near[free]]
    return result


def cleared(marks: Marks, mark: Mark | None = None) -> Marks:
    """Take one mark away, or all."""
    result = marks.copy()
    result[slice(None) if mark is None else marks == mark] = Mark.NONE
    return result


# Carrying marks to another mesh ------------------------------------------------------------------


def _nearest(
    middles: NDArray[np.float64],
    normals: NDArray[np.float64],
    places: NDArray[np.float64],
    facing: NDArray[np.float64],
    reach_mm: float,
) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """The nearest facet to each place that faces alike, and whether there is one within reach."""
    away, near = cKDTree(middles).query(places, k=min(4, len(middles)), distance_upper_bound=reach_mm)
    away, near = away.reshape(len(places), -1), near.reshape(len(places), -1)
    inside = np.isfinite(away)
    near = np.where(inside, near, 0)
    alike = inside & (np.einsum("ijk,ik->ij", normals[near], facing) > ALIKE)
    first = np.argmax(alike, axis=1)
    rows = np.arange(len(places))
    return near[rows, first].astype(np.int64), alike[rows, first]


def carried(
    old: Fine, marks: Marks, new: Fine, factors: tuple[float, float, float] = (1.0, 1.0, 1.0)
) -> tuple[Marks, float]:
    """Carry marks to another mesh of the same part: mended, sized, or a piece of it.

    Parameters
    ----------
    old : Fine
    marks : Marks
        Of the old mesh.
    new : Fine
    factors : (x, y, z)
        By which the new part is sized against the old; negative where it is mirrored.

    Returns
    -------
    Marks
        Each new facet has the mark of the nearest old one that faces alike.
    float
        Painted area of the old mesh, mm2, that nothing of the new lies near.
    """
    scale = np.asarray(factors, np.float64)
    places = old.middles_mm * scale
    # A normal is carried by the inverse of the sizing; a mirrored facet keeps its outside outside.
    facing = old.normals / scale
    facing /= np.maximum(np.linalg.norm(facing, axis=1), 1e-30)[:, None]
    reach = 2.0 * max(float(np.abs(scale).max()) * old.edge_mm, new.edge_mm)
    used = np.flatnonzero(marks != Mark.NONE)
    if not len(used) or not len(new.parent):
        return blank(new), float(old.areas_mm2[used].sum())
    near, found = _nearest(places, facing, new.middles_mm, new.normals, reach)
    result = np.where(found, marks[near], 0).astype(np.uint8)
    _, kept = _nearest(new.middles_mm, new.normals, places[used], facing[used], reach)
    return result, float(old.areas_mm2[used[~kept]].sum())

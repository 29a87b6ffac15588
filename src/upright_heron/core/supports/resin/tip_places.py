"""Where tips go first: under islands, beside points, and over what hangs by its slope."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...geometry.mesh import Mesh, facet_normals
from ...geometry.tree import Tree
from ...hanging.findings import Hanging
from ...hanging.overhangs import threshold
from ...layers.stack import LayerStack
from .routes import SHORTEST_MM

# Places on undersides are looked at so densely, and no more of them.
SPARE_MM2, MOST_SPARE = 0.25, 60_000
# What looks down by less than this is a wall.
WALL = 0.17
# Past the limit tips stand this much further apart than where it is level.
SLOPE_APART = 2.0
# Beside a point tips stand within so much of it, so far up from it at least, and so far round from each other
# (own measurement: found for 49 of 51 points of demo parts).
BESIDE_MM, OFF_MM = 2.0, 0.2
UP_MM = (0.15, 0.2, 0.3, 0.4, 0.5, 0.8, 1.1, 1.6)
AROUND, AROUND_DEG, APART_MM = 24, 75.0, 0.9
MOST_BESIDE = 3
# No tip that is put for another reason comes so near to a point.
AWAY_MM = 0.4
# What begins in a point may hang free so far up to the first tip beside it: film and resin bear so little.
FREE_MM = 0.5
# What begins broader than this is no point: it can be held from below.
POINT_MM = 0.6


@dataclass(frozen=True, slots=True)
class Place:
    """A place that a tip is to touch.

    Attributes
    ----------
    at_mm : (x, y, z)
        On the part.
    outward : (x, y, z)
        Direction of the surface.
    reason : str
    island : int
        Number of the island that it holds, or 0.
    snip : bool
        On a point itself: to be snipped off with care.
    by_hand : bool
        Somebody put it there.
    """

    at_mm: tuple[float, float, float]
    outward: tuple[float, float, float]
    reason: str
    island: int = 0
    snip: bool = False
    by_hand: bool = False


@dataclass(frozen=True, eq=False)
class Undersides:
    """Places all over what looks down.

    Attributes
    ----------
    at_mm : (n, 3) float64
    outward : (n, 3) float64
        Direction of the surface.
    facet : (n,) int64
    """

    at_mm: NDArray[np.float64]
    outward: NDArray[np.float64]
    facet: NDArray[np.int64]

    def some(self, which: NDArray[Any]) -> Undersides:
        """Those of them that are asked for: (n,) bool, or their numbers (k,)."""
        return Undersides(self.at_mm[which], self.outward[which], self.facet[which])


def undersides(mesh: Mesh, lowest_mm: float = SHORTEST_MM) -> Undersides:
    """Spread places over all facets of a part that look down, higher than ``lowest_mm``, the lowest first."""
    normals, areas = facet_normals(mesh)
    facets = np.flatnonzero(normals[:, 2] < -WALL)
    density = min(1 / SPARE_MM2, MOST_SPARE / max(float(areas[facets].sum()), 1e-9))
    # As many as the area asks for, of small facets together: the same ones every time.
    want = np.cumsum(areas[facets] * density)
    count = np.diff(np.floor(np.concatenate([[0.5], want + 0.5]))).astype(np.int64)
    owner = np.repeat(facets, count)
    number = np.arange(len(owner)) + 1
    # An additive sequence: evenly spread in two directions (Roberts 2018, from memory).
    u, v = (number * 0.7548776662466927) % 1.0, (number * 0.5698402909980532) % 1.0
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    a, b, c = (mesh.vertices[mesh.faces[owner, k]] for k in range(3))
    at = a + u[:, None] * (b - a) + v[:, None] * (c - a)
    high = at[:, 2] > lowest_mm
    order = np.lexsort((at[:, 1], at[:, 0], np.round(at[:, 2], 3)))
    return Undersides(at, normals[owner], owner).some(order[high[order]])


def by_slope(
    under: Undersides, limit_deg: float, spacing_mm: float, there: NDArray[np.float64]
) -> NDArray[np.int64]:
    """Choose places past the limit, no nearer to each other, or to tips that are there, than the slope asks.

    Parameters
    ----------
    under : Undersides
    limit_deg : float
        From vertical.
    spacing_mm : float
        Where the part is level; ``SLOPE_APART`` times that at the limit.
    there : (t, 3) float64
        Tips.

    Returns
    -------
    (k,) int64
        Of the places.

    Notes
    -----
    Poisson discs by throwing darts, from the lowest up: Bridson 2007, Fast Poisson disk sampling in arbitrary
    dimensions (from memory), without its background grid in three dimensions.
    """
    sine = threshold(limit_deg)
    down = -under.outward[:, 2]
    past = np.flatnonzero(down > sine)
    share = (1 - down[past]) / max(1 - sine, 1e-9)
    apart = spacing_mm * (1 + (SLOPE_APART - 1) * np.clip(share, 0, 1))
    if not len(past):
        return past
    chosen = _darts(under.at_mm[past], apart, there, SLOPE_APART * spacing_mm)
    found: NDArray[np.int64] = past[chosen]
    return found


@njit(cache=True)
def _darts(points, apart, there, cell):  # type: ignore[no-untyped-def]
    """Points none of which is nearer to an earlier one, or to one that is there, than its own distance."""
    n, t = points.shape[0], there.shape[0]
    low = np.empty(3)
    size = np.empty(3, np.int64)
    for k in range(3):
        low[k] = points[:, k].min() - cell
        size[k] = int((points[:, k].max() - low[k]) / cell) + 2
    head = np.full(size[0] * size[1] * size[2], -1, np.int64)
    after = np.full(n + t, -1, np.int64)
    every = np.concatenate((points, there))
    index = np.empty(3, np.int64)
    chosen = np.zeros(n, np.bool_)
    for q in range(t + n):
        s = n + q if q < t else q - t
        outside = False
        for k in range(3):
            index[k] = int(np.floor((every[s, k] - low[k]) / cell))
            if index[k] < 0 or index[k] >= size[k]:
                outside = True
        if outside:
            continue
        free = True
        if s < n:
            reach = apart[s] * apart[s]
            for i in range(max(0, index[0] - 1), min(size[0], index[0] + 2)):
                for j in range(max(0, index[1] - 1), min(size[1], index[1] + 2)):
                    for k in range(max(0, index[2] - 1), min(size[2], index[2] + 2)):
                        p = head[(i * size[1] + j) * size[2] + k]
                        while p >= 0 and free:
                            free = ((every[p] - every[s]) ** 2).sum() >= reach
                            p = after[p]
            if not free:
                continue
            chosen[s] = True
        cell_of = (index[0] * size[1] + index[1]) * size[2] + index[2]
        after[s] = head[cell_of]
        head[cell_of] = s
    return np.flatnonzero(chosen)


@dataclass(frozen=True, slots=True)
class Start:
    """Where something begins in mid-air: an island, or a low point between layers.

    Attributes
    ----------
    place : Place
        Right below it.
    point : bool
        It begins in a point, which must not be held itself.
    """

    place: Place
    point: bool


def starts(found: Hanging, part: Tree, normals: NDArray[np.float64], stack: LayerStack) -> list[Start]:
    """List what begins in mid-air, from the lowest up; ``normals`` (m, 3) are of the facets of the part."""
    made = []
    h = stack.layer_mm
    for island in found.islands:
        x, y, z = island.x_mm, island.y_mm, island.z_mm
        at, outward = _underside(part, normals, np.array([x, y, z]), 2 * h)
        place = Place(at, outward, f"island {island.number}", island.number)
        made.append(Start(place, island.point))
    for low in found.lows:
        at, outward = (low.x_mm, low.y_mm, low.z_mm), (0.0, 0.0, -1.0)
        made.append(Start(Place(at, outward, f"point {low.number}"), low.wide_mm < POINT_MM))
    return sorted(made, key=lambda one: one.place.at_mm[2])


def _underside(
    part: Tree, normals: NDArray[np.float64], place: NDArray[np.float64], within_mm: float
) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    """Where the surface begins above a place just below it, and its direction; else the place itself."""
    start = place - [0.0, 0.0, within_mm]
    length, facet = part.first_hits(start[None], np.array([[0.0, 0.0, 1.0]]))
    x, y, z = (float(v) for v in place)
    if facet[0] < 0 or length[0] > 2 * within_mm:
        return (x, y, z), (0.0, 0.0, -1.0)
    a, b, c = (float(v) for v in normals[facet[0]])
    if c >= 0:
        return (x, y, z), (0.0, 0.0, -1.0)
    return (x, y, float(start[2] + length[0])), (a, b, c)


def beside(start: Start, part: Tree, normals: NDArray[np.float64]) -> list[Place]:
    """Places round a point to hold instead of it, the lowest first; ``normals`` (m, 3) are of the facets."""
    x, y, z = start.place.at_mm
    turn = 2 * np.pi * np.arange(AROUND) / AROUND
    ring = np.stack([np.cos(turn), np.sin(turn), np.zeros(AROUND)], axis=1)
    origins = np.concatenate([[x, y, z + up] + BESIDE_MM * ring for up in UP_MM])
    inward = np.tile(-ring, (len(UP_MM), 1))
    length, facet = part.first_hits(origins, inward)
    hit = np.flatnonzero((facet >= 0) & (length < BESIDE_MM - OFF_MM))
    if not len(hit):
        return []
    at = origins[hit] + length[hit, None] * inward[hit]
    outward = normals[facet[hit]]
    # The surface is met from outside, and looks down or aside.
    fair = (np.einsum("ij,ij->i", outward, inward[hit]) < 0) & (outward[:, 2] < 0.08)
    return [
        replace(
            start.place,
            at_mm=(float(p[0]), float(p[1]), float(p[2])),
            outward=(float(n[0]), float(n[1]), float(n[2])),
        )
        for p, n in zip(at[fair], outward[fair], strict=True)
    ]


def fits_round(place: Place, chosen: list[Place], point: Place) -> bool:
    """Whether a place stands far enough round a point from those that are chosen there."""
    own = np.subtract(place.at_mm, point.at_mm)
    for other in chosen:
        there = np.subtract(other.at_mm, point.at_mm)
        if float(np.linalg.norm(own - there)) < APART_MM:
            return False
        turn = math.atan2(own[1], own[0]) - math.atan2(there[1], there[0])
        if abs(math.remainder(turn, 2 * math.pi)) < math.radians(AROUND_DEG):
            return False
    return True

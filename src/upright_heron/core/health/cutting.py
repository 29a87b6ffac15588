"""Cutting facets along each other, on a grid of whole numbers so that all that meet there agree."""

from __future__ import annotations

import itertools
import math
from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np
import shapely
from manifold3d import triangulate
from numba import njit
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

# Points closer than so many steps of single precision are one.
NEAR_STEPS = 2.0


@dataclass
class Cut:
    """Facets on a whole-numbered grid that are being cut.

    Attributes
    ----------
    grid : (n, 3) float64
        Whole numbers.
    faces : (m, 3) int32
    """

    grid: NDArray[np.float64]
    faces: NDArray[np.int32]
    # Segments by facet: pairs of points that both facets of a crossing have.
    segments: dict[int, list[int]] = field(default_factory=lambda: defaultdict(list))
    ends: list[tuple[int, int]] = field(default_factory=list)

    def meet(self, pairs: NDArray[np.int64]) -> None:
        """Find where pairs of facets (k, 2) meet, as segments between points on the grid."""
        corners = self.grid[self.faces]
        found = _meeting(corners, np.ascontiguousarray(pairs))
        there = np.isfinite(found[:, 0, 0])
        pairs, found = pairs[there], np.round(found[there])
        points = np.concatenate([self.grid, found.reshape(-1, 3)])
        self.name = _merged(points, len(self.grid))
        self.points = points
        first = len(self.grid)
        for k, (f, g) in enumerate(pairs.tolist()):
            a, b = int(self.name[first + 2 * k]), int(self.name[first + 2 * k + 1])
            if a == b:
                continue
            number = len(self.ends)
            self.ends.append((a, b))
            self.segments[f].append(number)
            self.segments[g].append(number)
        self._triple()

    def _triple(self) -> None:
        """Where segments of a facet cross, a point of both: each is split there for all its facets."""
        new: list[NDArray[np.float64]] = []
        at: dict[int, list[int]] = defaultdict(list)
        for f, numbers in self.segments.items():
            if len(numbers) < 2:
                continue
            begin = self.points[[self.ends[n][0] for n in numbers]]
            end = self.points[[self.ends[n][1] for n in numbers]]
            axes = _axes(self.grid[self.faces[f]])
            for i, j, t in _segment_crossings(begin[:, axes], end[:, axes]):
                where = np.round(begin[i] + t * (end[i] - begin[i]))
                at[numbers[i]].append(len(new))
                at[numbers[j]].append(len(new))
                new.append(where)
        if not new:
            self.chains = [[a, b] for a, b in self.ends]
            return
        first = len(self.points)
        points = np.concatenate([self.points, np.array(new)])
        name = _merged(points, len(self.grid), self.name)
        self.points, self.name = points, name
        self.chains = []
        for number, (first_end, last_end) in enumerate(self.ends):
            start, finish = int(name[first_end]), int(name[last_end])
            inner = {int(name[first + k]) for k in at.get(number, ())} - {start, finish}
            self.chains.append([start, *self._along(inner, start, finish), finish])

    def _along(self, inner: set[int], start: int, end: int) -> list[int]:
        """Points in their order from one to another."""
        way = self.points[end] - self.points[start]
        return sorted(inner, key=lambda p: float((self.points[p] - self.points[start]) @ way))

    def pieces(self) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]:
        """Points (n, 3), facets (k, 3) that those crossed are cut into, and facets (j,) that stay whole."""
        on_edge = self._edges()
        touched = [f for f in range(len(self.faces)) if f in self.segments]
        beside = self._beside(on_edge)
        made: list[list[int]] = []
        self.extra: list[NDArray[np.float64]] = []
        for f in sorted({*touched, *beside}):
            made += self._cut(f, on_edge)
        whole = np.ones(len(self.faces), bool)
        whole[list({*touched, *beside})] = False
        points = np.concatenate([self.points, np.array(self.extra).reshape(-1, 3)])
        return points, np.array(made, np.int64).reshape(-1, 3), np.flatnonzero(whole)

    def _edges(self) -> dict[tuple[int, int], list[int]]:
        """Points on edges of the facets that are cut, in order from the lower to the higher vertex."""
        near: dict[tuple[int, int], set[int]] = defaultdict(set)
        for f, numbers in self.segments.items():
            own = np.array(sorted({p for n in numbers for p in self.chains[n]}))
            spots = self.points[own]
            for a, b in itertools.pairwise([*self.faces[f].tolist(), int(self.faces[f, 0])]):
                start, way = self.grid[a], self.grid[b] - self.grid[a]
                long = float(way @ way)
                if long == 0:
                    continue
                t = (spots - start) @ way / long
                off = np.linalg.norm(spots - start - t[:, None] * way, axis=1)
                on = (off <= NEAR_STEPS) & (t > 0) & (t < 1)
                key = (min(a, b), max(a, b))
                near[key].update(p for p in own[on].tolist() if p not in (a, b))
        ordered = {}
        for (a, b), inner in near.items():
            if inner:
                ordered[a, b] = self._along(inner, a, b)
        return ordered

    def _beside(self, on_edge: dict[tuple[int, int], list[int]]) -> set[int]:
        """Facets at edges that got points."""
        if not on_edge:
            return set()
        n = len(self.grid)
        keys = np.array([a * n + b for a, b in on_edge])
        low = np.minimum(self.faces, np.roll(self.faces, -1, axis=1)).astype(np.int64)
        high = np.maximum(self.faces, np.roll(self.faces, -1, axis=1)).astype(np.int64)
        return set(np.flatnonzero(np.isin(low * n + high, keys).any(axis=1)).tolist())

    def _cut(self, f: int, on_edge: dict[tuple[int, int], list[int]]) -> list[list[int]]:
        """Cut one facet by its segments, with its boundary as its neighbours have it."""
        ring: list[int] = []
        for a, b in itertools.pairwise([*self.faces[f].tolist(), int(self.faces[f, 0])]):
            inner = on_edge.get((min(a, b), max(a, b)), [])
            ring += [a, *(inner if a < b else reversed(inner))]
        axes = _axes(self.grid[self.faces[f]])
        numbers = self.segments.get(f, [])
        links = {
            (min(p, q), max(p, q)) for n in numbers for p, q in itertools.pairwise(self.chains[n]) if p != q
        }
        rim = {(min(p, q), max(p, q)) for p, q in itertools.pairwise([*ring, ring[0]])}
        links -= rim
        at: dict[tuple[float, float], int] = {}
        for p in {*ring, *(p for link in links for p in link)}:
            x, y = self.points[p, axes]
            at.setdefault((float(x), float(y)), p)
        flat = self.points[:, axes]
        if not links:
            return self._triangles([flat[ring]], [ring], f)
        lines = [shapely.LineString(flat[[p, q]]) for p, q in (*rim, *links)]
        noded = shapely.unary_union(lines)
        found: list[list[int]] = []
        for polygon in shapely.get_parts(shapely.polygonize(shapely.get_parts(noded))):
            rings, names = [], []
            for one in (polygon.exterior, *polygon.interiors):
                xy = np.asarray(one.coords)[:-1]
                if (shapely.LinearRing(xy).is_ccw) != (one is polygon.exterior):
                    xy = xy[::-1]
                rings.append(xy)
                names.append([self._point(float(x), float(y), at, f, axes) for x, y in xy])
            found += self._triangles(rings, names, f)
        return found

    def _point(self, x: float, y: float, at: dict[tuple[float, float], int], f: int, axes: list[int]) -> int:
        """Number of a point of a facet by its place in the plane; a new one where there is none."""
        known = at.get((x, y))
        if known is not None:
            return known
        corners = self.grid[self.faces[f]]
        normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
        third = 3 - sum(axes)
        place = np.empty(3)
        place[axes] = (x, y)
        rest = (place[axes] - corners[0, axes]) @ normal[axes]
        place[third] = corners[0, third] - rest / normal[third]
        number = len(self.points) + len(self.extra)
        self.extra.append(np.round(place))
        at[x, y] = number
        return number

    def _triangles(self, rings: list[NDArray[np.float64]], names: list[list[int]], f: int) -> list[list[int]]:
        """Triangulate rings in the plane of a facet, facing as the facet does."""
        flat = [p for ring in names for p in ring]
        if len(flat) < 3:
            return []
        corners = self.grid[self.faces[f]]
        axes = _axes(corners)
        normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
        up = _facing(normal, axes)
        given = rings
        if len(rings) == 1:
            x, y = rings[0].T
            area = float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())
            if area < 0:
                given = [rings[0][::-1]]
                flat = flat[::-1]
        made = np.asarray(triangulate(given, -1.0, True), np.int64).reshape(-1, 3)
        return [
            [flat[a], flat[b], flat[c]] if up else [flat[c], flat[b], flat[a]] for a, b, c in made.tolist()
        ]


def _axes(corners: NDArray[np.float64]) -> list[int]:
    """The two axes that a facet is seen along its normal by, best."""
    normal = np.abs(np.cross(corners[1] - corners[0], corners[2] - corners[0]))
    return [k for k in range(3) if k != int(np.argmax(normal))]


def _facing(normal: NDArray[np.float64], axes: list[int]) -> bool:
    """Whether a facet runs counter-clockwise in the plane of two axes."""
    third = 3 - sum(axes)
    # Dropping y turns the plane over.
    return bool((normal[third] > 0) != (third == 1))


def _merged(
    points: NDArray[np.float64], fixed: int, known: NDArray[np.int64] | None = None
) -> NDArray[np.int64]:
    """Number that each point goes by (n,): points nearer than ``NEAR_STEPS`` go by the lowest of theirs."""
    name = np.arange(len(points))
    if known is not None:
        name[: len(known)] = known
    fresh = np.arange(fixed, len(points))
    if not len(fresh):
        return name
    pairs = cKDTree(points).query_pairs(NEAR_STEPS, output_type="ndarray")
    # Vertices of the part are not drawn together: only what is new is.
    pairs = pairs[(pairs >= fixed).any(axis=1)]
    if not len(pairs):
        return name
    new = pairs[(pairs >= fixed).all(axis=1)]
    graph = coo_matrix((np.ones(len(new)), (new[:, 0], new[:, 1])), (len(points),) * 2)
    _, label = connected_components(graph, directed=False)
    lowest = np.full(label.max() + 1, len(points))
    np.minimum.at(lowest, label, name)
    name[fixed:] = lowest[label[fixed:]]
    mixed = pairs[(pairs < fixed).any(axis=1)]
    vertex = np.minimum(mixed[:, 0], mixed[:, 1])
    other = np.maximum(mixed[:, 0], mixed[:, 1])
    to = {}
    for v, p in sorted(zip(vertex.tolist(), other.tolist(), strict=True), reverse=True):
        to[int(lowest[label[p]])] = v
    for p in range(fixed, len(points)):
        name[p] = to.get(int(name[p]), int(name[p]))
    return name


def candidates(
    grid: NDArray[np.float64], faces: NDArray[np.int32], crossing: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Pairs (k, 2) of facets, of those that cross and of their neighbours, that might meet.

    Beside facets that cross lie such as only touch, and these have to be cut where they do.
    """
    touched = np.zeros(len(grid), bool)
    touched[faces[crossing.ravel()]] = True
    some = np.flatnonzero(touched[faces].any(axis=1))
    corners = grid[faces[some]]
    low, high = corners.min(axis=1) - NEAR_STEPS, corners.max(axis=1) + NEAR_STEPS
    order = np.argsort(low[:, 0])
    some, low, high = some[order], low[order], high[order]
    found = _overlapping(low, high, faces[some])
    pairs: NDArray[np.int64] = some[found]
    return pairs


@njit(cache=True)
def _overlapping(low, high, ids):  # type: ignore[no-untyped-def]
    """Pairs (k, 2) of boxes, sorted by their lowest x, that overlap, of facets that share no edge."""
    found = []
    for i in range(low.shape[0]):
        for j in range(i + 1, low.shape[0]):
            if low[j, 0] > high[i, 0]:
                break
            if (
                low[j, 1] > high[i, 1]
                or high[j, 1] < low[i, 1]
                or low[j, 2] > high[i, 2]
                or high[j, 2] < low[i, 2]
            ):
                continue
            shared = 0
            for a in range(3):
                for b in range(3):
                    if ids[i, a] == ids[j, b]:
                        shared += 1
            if shared < 2:
                found.append((i, j))
    result = np.empty((len(found), 2), np.int64)
    for k in range(len(found)):
        result[k, 0], result[k, 1] = found[k]
    return result


@njit(cache=True)
def _meeting(corners, pairs):  # type: ignore[no-untyped-def]
    """Ends (k, 2, 3) of the segments in which pairs of facets meet; infinite where they do not."""
    found = np.full((pairs.shape[0], 2, 3), np.inf)
    for k in range(pairs.shape[0]):
        lows = np.empty(2)
        highs = np.empty(2)
        spots = np.empty((2, 2, 3))
        t = corners[pairs[k, 0]]
        u = corners[pairs[k, 1]]
        n = np.cross(t[1] - t[0], t[2] - t[0])
        o = np.cross(u[1] - u[0], u[2] - u[0])
        line = np.cross(n, o)
        if (line * line).sum() == 0.0:
            continue
        axis = np.argmax(np.abs(line))
        fine = True
        for side in range(2):
            one, normal, base = (t, o, u[0]) if side == 0 else (u, n, t[0])
            size = math.sqrt((normal * normal).sum())
            h = np.empty(3)
            for c in range(3):
                h[c] = ((one[c] - base) * normal).sum() / size
                # On the plane within half a step is on it.
                if abs(h[c]) < 0.5:
                    h[c] = 0.0
            count = 0
            for c in range(3):
                d = (c + 1) % 3
                if h[c] == 0.0:
                    if count < 2:
                        spots[side, count] = one[c]
                        count += 1
                elif h[d] != 0.0 and (h[c] > 0.0) != (h[d] > 0.0) and count < 2:
                    spots[side, count] = one[c] + (one[d] - one[c]) * (h[c] / (h[c] - h[d]))
                    count += 1
            if count < 2:
                fine = False
                break
            if spots[side, 0, axis] > spots[side, 1, axis]:
                for c in range(3):
                    spots[side, 0, c], spots[side, 1, c] = spots[side, 1, c], spots[side, 0, c]
            lows[side], highs[side] = spots[side, 0, axis], spots[side, 1, axis]
        if not fine:
            continue
        low = 0 if lows[0] >= lows[1] else 1
        high = 0 if highs[0] <= highs[1] else 1
        if lows[low] > highs[high]:
            continue
        found[k, 0] = spots[low, 0]
        found[k, 1] = spots[high, 1]
    return found


@njit(cache=True)
def _segment_crossings(a, b):  # type: ignore[no-untyped-def]
    """Numbers i and j of segments (k, 2) in a plane that cross, and where along the first, as rows (r, 3)."""
    found = []
    for i in range(a.shape[0]):
        for j in range(i + 1, a.shape[0]):
            ux, uy = b[i, 0] - a[i, 0], b[i, 1] - a[i, 1]
            vx, vy = b[j, 0] - a[j, 0], b[j, 1] - a[j, 1]
            det = ux * vy - uy * vx
            if det == 0.0:
                continue
            wx, wy = a[j, 0] - a[i, 0], a[j, 1] - a[i, 1]
            t = (wx * vy - wy * vx) / det
            s = (wx * uy - wy * ux) / det
            if 0.0 < t < 1.0 and 0.0 < s < 1.0:
                found.append((i, j, t))
    return found

"""Where the layers of a stack change from one to the next."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .stack import LayerStack

# Corners that agree to this are the same, mm.
SAME_MM = 1e-6
# Where a larger share of the edges of a layer changed, all of it has.
MOST_SHARE = 0.5
# So many layers are kept in the order of their edges: neighbours are asked for one after another.
REMEMBERED = 8
# Odd numbers without a pattern, to mix coordinates by.
_MIX = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9], np.uint64)


class Changes:
    """Tells which edges of a layer another layer does not have: what did not change need not be done again.

    Parameters
    ----------
    stack : LayerStack
    """

    def __init__(self, stack: LayerStack) -> None:
        self._stack = stack
        self._ordered: dict[int, NDArray[np.uint64]] = {}
        points = stack.points
        self._following = np.arange(1, len(points) + 1)
        if len(stack.ring_start) > 1:
            self._following[stack.ring_start[1:] - 1] = stack.ring_start[:-1]
        steps = np.round(points / SAME_MM).astype(np.int64).view(np.uint64)
        corner = steps[:, 0] * _MIX[0] ^ (steps[:, 1] * _MIX[1] + _MIX[2])
        self._corner = corner
        # Of an edge from one corner to the next, the same wherever its ring begins.
        self._edges = corner * _MIX[2] ^ (corner[self._following] >> np.uint64(7))

    def boxes(self, layer: int, other: int) -> NDArray[np.float64]:
        """Boxes (k, 4) of x0, y0, x1, y1 round the stretches of edges that only one of two layers has, mm."""
        return np.concatenate([self._only(layer, other), self._only(other, layer)])

    def places(self, layer: int, other: int) -> NDArray[np.float64]:
        """Boxes (k, 4) of x0, y0, x1, y1 outside which both layers cover the same, mm.

        Edges that only one of them has come together to closed lines, for each corner has as many that come
        as that go: what these enclose may have changed with no edge near it. Where most edges changed it is
        one box without bounds.
        """
        some, others = self._missing(layer, other), self._missing(other, layer)
        if not len(some) and not len(others):
            return np.zeros((0, 4))
        for missing, whole in ((some, self._span(layer)), (others, self._span(other))):
            if len(missing) > MOST_SHARE * (whole.stop - whole.start):
                return np.array([[-np.inf, -np.inf, np.inf, np.inf]])
        edges = np.concatenate([some, others])
        found: NDArray[np.float64] = _closed_lines(
            self._stack.points, edges, self._following[edges], self._corner
        )
        return found

    def _span(self, layer: int) -> slice:
        if not 0 <= layer < len(self._stack):
            return slice(0, 0)
        first, last = (int(self._stack.layer_start[layer + k]) for k in (0, 1))
        return slice(int(self._stack.ring_start[first]), int(self._stack.ring_start[last]))

    def _missing(self, layer: int, other: int) -> NDArray[np.int64]:
        """Edges of one layer that another does not have."""
        mine = self._span(layer)
        if other not in self._ordered:
            while len(self._ordered) >= REMEMBERED:
                del self._ordered[next(iter(self._ordered))]
            self._ordered[other] = np.sort(self._edges[self._span(other)])
        found: NDArray[np.int64] = mine.start + _not_among(self._edges[mine], self._ordered[other])
        return found

    def _only(self, layer: int, other: int) -> NDArray[np.float64]:
        own = self._missing(layer, other)
        if not len(own):
            return np.zeros((0, 4))
        a, b = self._stack.points[own], self._stack.points[self._following[own]]
        low, high = np.minimum(a, b), np.maximum(a, b)
        # Edges that follow each other are one stretch.
        begins = np.append(0, np.flatnonzero(np.diff(own) != 1) + 1)
        return np.column_stack([np.minimum.reduceat(low, begins), np.maximum.reduceat(high, begins)])


@njit(cache=True)
def _not_among(some, ordered):  # type: ignore[no-untyped-def]
    """Numbers of those that are not among others, which are in order."""
    found = np.empty(some.shape[0], np.int64)
    count = 0
    at = np.searchsorted(ordered, some)
    for k in range(some.shape[0]):
        if at[k] == ordered.shape[0] or ordered[at[k]] != some[k]:
            found[count] = k
            count += 1
    return found[:count].copy()


@njit(cache=True)
def _closed_lines(points, begins, ends, corner):  # type: ignore[no-untyped-def]
    """Boxes (k, 4) round edges that hang together by equal corners."""
    count = begins.shape[0]
    both = np.concatenate((begins, ends))
    order = np.argsort(corner[both])
    group = np.arange(count)
    for k in range(1, 2 * count):
        if corner[both[order[k]]] != corner[both[order[k - 1]]]:
            continue
        a, b = order[k] % count, order[k - 1] % count
        while group[a] != a:
            group[a] = group[group[a]]
            a = group[a]
        while group[b] != b:
            group[b] = group[group[b]]
            b = group[b]
        group[max(a, b)] = min(a, b)
    boxes = np.empty((count, 4))
    number = np.empty(count, np.int64)
    found = 0
    for k in range(count):
        # The first of a group has the lowest number.
        top = k
        while group[top] != top:
            top = group[top]
        if top == k:
            number[k] = found
            boxes[found, :2] = np.inf
            boxes[found, 2:] = -np.inf
            found += 1
        n = number[top]
        for p in (begins[k], ends[k]):
            boxes[n, 0], boxes[n, 1] = min(boxes[n, 0], points[p, 0]), min(boxes[n, 1], points[p, 1])
            boxes[n, 2], boxes[n, 3] = max(boxes[n, 2], points[p, 0]), max(boxes[n, 3], points[p, 1])
    return boxes[:found].copy()


def meeting(boxes: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.int64]:
    """Numbers of the boxes (n, 4) of x0, y0, x1, y1 that meet any of others (k, 4)."""
    found: NDArray[np.int64] = np.flatnonzero(_meeting(boxes, others))
    return found


@njit(cache=True)
def _meeting(boxes, others):  # type: ignore[no-untyped-def]
    found = np.zeros(boxes.shape[0], np.bool_)
    for n in range(boxes.shape[0]):
        for k in range(others.shape[0]):
            apart_x = boxes[n, 0] > others[k, 2] or boxes[n, 2] < others[k, 0]
            if not apart_x and boxes[n, 1] <= others[k, 3] and boxes[n, 3] >= others[k, 1]:
                found[n] = True
                break
    return found

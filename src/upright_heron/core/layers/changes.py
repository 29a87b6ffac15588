"""Where the layers of a stack change from one to the next."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .stack import LayerStack

# Corners that agree to this are the same, mm.
SAME_MM = 1e-6
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
        points = stack.points
        self._following = np.arange(1, len(points) + 1)
        if len(stack.ring_start) > 1:
            self._following[stack.ring_start[1:] - 1] = stack.ring_start[:-1]
        steps = np.round(points / SAME_MM).astype(np.int64).view(np.uint64)
        corner = steps[:, 0] * _MIX[0] ^ (steps[:, 1] * _MIX[1] + _MIX[2])
        # Of an edge from one corner to the next, the same wherever its ring begins.
        self._edges = corner * _MIX[2] ^ (corner[self._following] >> np.uint64(7))

    def boxes(self, layer: int, other: int) -> NDArray[np.float64]:
        """Boxes (k, 4) of x0, y0, x1, y1 round the stretches of edges that only one of two layers has, mm."""
        mine, theirs = self._span(layer), self._span(other)
        return np.concatenate([self._only(mine, theirs), self._only(theirs, mine)])

    def _span(self, layer: int) -> slice:
        if not 0 <= layer < len(self._stack):
            return slice(0, 0)
        first, last = (int(self._stack.layer_start[layer + k]) for k in (0, 1))
        return slice(int(self._stack.ring_start[first]), int(self._stack.ring_start[last]))

    def _only(self, mine: slice, theirs: slice) -> NDArray[np.float64]:
        if mine.start == mine.stop:
            return np.zeros((0, 4))
        own = np.flatnonzero(~np.isin(self._edges[mine], self._edges[theirs])) + mine.start
        if not len(own):
            return np.zeros((0, 4))
        a, b = self._stack.points[own], self._stack.points[self._following[own]]
        low, high = np.minimum(a, b), np.maximum(a, b)
        # Edges that follow each other are one stretch.
        begins = np.append(0, np.flatnonzero(np.diff(own) != 1) + 1)
        return np.column_stack([np.minimum.reduceat(low, begins), np.maximum.reduceat(high, begins)])

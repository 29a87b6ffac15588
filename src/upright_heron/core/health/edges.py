"""The edges of a mesh, each once, with the facets at it; and facets that are there twice."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

# A vertex with more edges than this has them sorted by a merge, not by moving one after the other.
FEW = 32


@dataclass(frozen=True, eq=False)
class EdgeTable:
    """All edges of a mesh, each once, by their lower and then by their higher vertex.

    Attributes
    ----------
    ends : (e, 2) int64
        Vertices, the lower number first.
    count : (e,) int64
        Facets at the edge.
    forward : (e,) int64
        How many of them run from the lower to the higher vertex.
    start : (e + 1,) int64
        Where the facets of each edge begin in ``facets``.
    facets : (3 m,) int64
    """

    ends: NDArray[np.int64]
    count: NDArray[np.int64]
    forward: NDArray[np.int64]
    start: NDArray[np.int64]
    facets: NDArray[np.int64]

    @classmethod
    def of(cls, faces: NDArray[np.int32]) -> EdgeTable:
        """File the edges of facets (m, 3)."""
        ends, forward, start, facets = _table(np.ascontiguousarray(faces), int(faces.max(initial=-1)) + 1)
        return cls(ends, np.diff(start), forward, start, facets)


def duplicate_facets(faces: NDArray[np.int32]) -> NDArray[np.int64]:
    """Find the facets (k,) whose three vertices an earlier facet has, whichever way round."""
    again: NDArray[np.bool_] = _again(np.ascontiguousarray(faces), int(faces.max(initial=-1)) + 1)
    return np.flatnonzero(again)


@njit(cache=True)
def _table(faces, many):  # type: ignore[no-untyped-def]
    """Ends, how many run forward, starts and facets, as ``EdgeTable`` has them."""
    m = faces.shape[0]
    begin = np.zeros(many + 1, np.int64)
    for f in range(m):
        for k in range(3):
            begin[min(faces[f, k], faces[f, (k + 1) % 3]) + 1] += 1
    for v in range(many):
        begin[v + 1] += begin[v]
    at = begin[:-1].copy()
    facets = np.empty(3 * m, np.int64)
    # Twice the higher vertex, and one more where the facet runs towards it.
    others = np.empty(3 * m, np.int64)
    for k in range(3):
        for f in range(m):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            low = min(a, b)
            facets[at[low]] = f
            others[at[low]] = 2 * np.int64(max(a, b)) + (a < b)
            at[low] += 1
    total = 0
    for v in range(many):
        _sort(others[begin[v] : begin[v + 1]], facets[begin[v] : begin[v + 1]])
        for i in range(begin[v], begin[v + 1]):
            total += i == begin[v] or others[i] // 2 != others[i - 1] // 2
    ends, forward, start = (
        np.empty((total, 2), np.int64),
        np.zeros(total, np.int64),
        np.empty(total + 1, np.int64),
    )
    edge = -1
    for v in range(many):
        for i in range(begin[v], begin[v + 1]):
            if i == begin[v] or others[i] // 2 != others[i - 1] // 2:
                edge += 1
                ends[edge, 0], ends[edge, 1], start[edge] = v, others[i] // 2, i
            forward[edge] += others[i] % 2
    start[total] = 3 * m
    return ends, forward, start, facets


@njit(cache=True)
def _sort(others, facets):  # type: ignore[no-untyped-def]
    """Sort the edges of one vertex by their other end; those to the same end stay as they lie."""
    if others.shape[0] > FEW:
        order = np.argsort(others // 2, kind="mergesort")
        others[:], facets[:] = others[order], facets[order]
        return
    for i in range(1, others.shape[0]):
        other, facet = others[i], facets[i]
        j = i
        while j > 0 and others[j - 1] // 2 > other // 2:
            others[j], facets[j] = others[j - 1], facets[j - 1]
            j -= 1
        others[j], facets[j] = other, facet


@njit(cache=True)
def _again(faces, many):  # type: ignore[no-untyped-def]
    """Whether each facet (m,) has the vertices of an earlier one.

    Facets are chained by the middle one of their vertices: the hub of a fan is that of none, or of few.
    """
    m = faces.shape[0]
    last = np.full(many, -1, np.int32)
    before = np.empty(m, np.int32)
    again = np.zeros(m, np.bool_)
    for f in range(m):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        low, high = min(a, b, c), max(a, b, c)
        middle = a + b + c - low - high
        g = last[middle]
        while g >= 0:
            x, y, z = faces[g, 0], faces[g, 1], faces[g, 2]
            if max(x, y, z) == high and min(x, y, z) == low:
                again[f] = True
                break
            g = before[g]
        before[f] = last[middle]
        last[middle] = f
    return again

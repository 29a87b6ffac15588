"""How the facets and corners of a mesh are joined: looked up in time that grows with the mesh alone."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .mesh import Mesh


def across_edges(mesh: Mesh) -> NDArray[np.int32]:
    """Facet across each edge of each facet.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    (m, 3) int32
        For edge k from corner k to corner k + 1; -1 where there is none. Where more than two facets share an
        edge, each is given one of the others.
    """
    result: NDArray[np.int32] = _across(mesh.faces, len(mesh.vertices))
    return result


def across_corners(mesh: Mesh) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """Corners across an edge from each corner.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    (n + 1,) int64
        Where those of each corner begin.
    (k,) int32
        Themselves; a corner comes twice where two facets share the edge to it.
    """
    return _corners(mesh.faces, len(mesh.vertices))  # type: ignore[no-any-return]


@njit(cache=True)
def _across(faces, count):  # type: ignore[no-untyped-def]
    m = faces.shape[0]
    start = np.zeros(count + 1, np.int64)
    for f in range(m):
        for k in range(3):
            start[min(faces[f, k], faces[f, (k + 1) % 3]) + 1] += 1
    for v in range(count):
        start[v + 1] += start[v]
    at = start[:-1].copy()
    half = np.empty(3 * m, np.int64)
    other = np.empty(3 * m, np.int32)
    for f in range(m):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            low, high = min(a, b), max(a, b)
            half[at[low]] = 3 * f + k
            other[at[low]] = high
            at[low] += 1
    result = np.full((m, 3), -1, np.int32)
    for v in range(count):
        for i in range(start[v], start[v + 1]):
            h = half[i]
            if result[h // 3, h % 3] >= 0:
                continue
            for j in range(i + 1, start[v + 1]):
                g = half[j]
                if other[j] == other[i] and result[g // 3, g % 3] < 0:
                    result[h // 3, h % 3] = g // 3
                    result[g // 3, g % 3] = h // 3
                    break
            if result[h // 3, h % 3] < 0:
                # A third facet of an edge is given one of the first two.
                for j in range(start[v], i):
                    if other[j] == other[i]:
                        result[h // 3, h % 3] = half[j] // 3
                        break
    return result


@njit(cache=True)
def _corners(faces, count):  # type: ignore[no-untyped-def]
    start = np.zeros(count + 1, np.int64)
    for f in range(faces.shape[0]):
        for k in range(3):
            start[faces[f, k] + 1] += 2
    for v in range(count):
        start[v + 1] += start[v]
    at = start[:-1].copy()
    near = np.empty(6 * faces.shape[0], np.int32)
    for f in range(faces.shape[0]):
        for k in range(3):
            v = faces[f, k]
            near[at[v]] = faces[f, (k + 1) % 3]
            near[at[v] + 1] = faces[f, (k + 2) % 3]
            at[v] += 2
    return start, near

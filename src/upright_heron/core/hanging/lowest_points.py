"""Low points: places of the surface that are lower than all round them, with material above."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..geometry.adjacency import across_corners
from ..geometry.mesh import Mesh, facet_normals
from ..tags import stored

# Corners this close in height are level with each other.
LEVEL_MM = 1e-5


@stored("low")
@dataclass(frozen=True, slots=True)
class Low:
    """One low point.

    Attributes
    ----------
    number : int
        From 1, the lowest first.
    x_mm, y_mm, z_mm : float
    depth_mm : float
        How far up its surroundings come together with those of a lower point; infinite where never.
    wide_mm : float
        Longest extent of what begins there: 0 for a corner, the length of a level edge, or of a flat.
    """

    number: int
    x_mm: float
    y_mm: float
    z_mm: float
    depth_mm: float
    wide_mm: float


def low_points(mesh: Mesh, *, depth_mm: float = 0.0) -> list[Low]:
    """Find the low points of a surface.

    Parameters
    ----------
    mesh : Mesh
        In its stance.
    depth_mm : float
        Shallower ones are texture, and left out.

    Returns
    -------
    list of Low
        From the lowest up. Pits, whose material lies below them, are not among them.

    Notes
    -----
    Minima of the height over the surface and the saddles at which they end, by joining the corners from the
    lowest up: H. Edelsbrunner, D. Letscher, A. Zomorodian, "Topological persistence and simplification",
    Discrete & Computational Geometry 28, 2002 (from memory).
    """
    if not len(mesh.faces):
        return []
    start, near = across_corners(mesh)
    z = np.ascontiguousarray(mesh.vertices[:, 2])
    order = np.lexsort((mesh.vertices[:, 1], mesh.vertices[:, 0], z))
    minima, depth = _joins(z, order, start, near)
    kept = depth > max(depth_mm, LEVEL_MM)
    minima, depth = minima[kept], depth[kept]
    if not len(minima):
        return []
    levels = [_level(vertex, z, start, near) for vertex in minima.tolist()]
    facing = _facing(mesh, np.concatenate([np.asarray(level, np.int64) for level in levels]))
    found = []
    for vertex, deep, level in zip(minima.tolist(), depth.tolist(), levels, strict=True):
        if facing[level].sum() >= 0:
            continue
        corners = mesh.vertices[level, :2]
        wide = float(np.linalg.norm(np.ptp(corners, axis=0)))
        x, y = (float(v) for v in (corners.min(axis=0) + corners.max(axis=0)) / 2)
        found.append((float(z[vertex]), x, y, float(deep), wide))
    found.sort()
    return [Low(n, x, y, height, deep, wide) for n, (height, x, y, deep, wide) in enumerate(found, 1)]


def _facing(mesh: Mesh, corners: NDArray[np.int64]) -> NDArray[np.float64]:
    """Upward part of the surface round some corners, facets weighted by their angle there: (n,) float64."""
    asked = np.zeros(len(mesh.vertices), bool)
    asked[corners] = True
    near = Mesh(mesh.vertices, mesh.faces[asked[mesh.faces].any(axis=1)])
    normals, _ = facet_normals(near)
    places = near.vertices[near.faces]
    result = np.zeros(len(mesh.vertices))
    for k in range(3):
        p = places[:, (k + 1) % 3] - places[:, k]
        q = places[:, (k + 2) % 3] - places[:, k]
        lengths = np.linalg.norm(p, axis=1) * np.linalg.norm(q, axis=1)
        cosine = np.einsum("ij,ij->i", p, q) / np.maximum(lengths, 1e-30)
        angle = np.arccos(np.clip(cosine, -1, 1))
        np.add.at(result, near.faces[:, k], angle * normals[:, 2])
    return result


def _level(
    vertex: int, z: NDArray[np.float64], start: NDArray[np.int64], near: NDArray[np.int32]
) -> list[int]:
    """Corners that are level with one and joined to it by level edges."""
    seen, todo = {vertex}, [vertex]
    while todo:
        v = todo.pop()
        for w in near[start[v] : start[v + 1]].tolist():
            if w not in seen and abs(z[w] - z[vertex]) <= LEVEL_MM:
                seen.add(w)
                todo.append(w)
    return list(seen)


@njit(cache=True)
def _joins(z, order, start, near):  # type: ignore[no-untyped-def]
    n = z.shape[0]
    rank = np.empty(n, np.int64)
    for i in range(n):
        rank[order[i]] = i
    group = np.full(n, -1, np.int64)
    depth = np.full(n, -1.0)
    for i in range(n):
        v = order[i]
        best = -1
        for k in range(start[v], start[v + 1]):
            w = near[k]
            if rank[w] >= i:
                continue
            while group[w] != w:
                group[w] = group[group[w]]
                w = group[w]
            if best < 0:
                best = w
            elif w != best:
                low, high = (best, w) if rank[best] < rank[w] else (w, best)
                depth[high] = z[v] - z[high]
                group[high] = low
                best = low
        if best < 0:
            group[v] = v
            depth[v] = np.inf
        else:
            group[v] = best
    count = 0
    for i in range(n):
        if depth[order[i]] >= 0.0:
            count += 1
    minima = np.empty(count, np.int64)
    depths = np.empty(count)
    count = 0
    for i in range(n):
        if depth[order[i]] >= 0.0:
            minima[count] = order[i]
            depths[count] = depth[order[i]]
            count += 1
    return minima, depths

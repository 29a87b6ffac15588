"""Line drawings of solids: contours and creases that are not hidden, as polylines."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..tags import stored
from .adjacency import across_edges
from .mesh import Mesh, facet_normals
from .picture import rasterise, view

# Facets that meet at a larger angle make a crease.
CREASE_DEG = 40.0
# A place of a line is hidden by what lies so far before it, in units of the drawing: the raster rounds.
BEFORE = 2.5
# Lines are looked at in steps of so many units; corners this near to the line between others are left out.
STEP, STRAIGHT = 0.7, 0.25


@stored("line drawing")
@dataclass(frozen=True, eq=False)
class LineDrawing:
    """A drawing with y downwards, in units of about a pixel.

    Attributes
    ----------
    width, height : float
    lines : tuple of (k, 2) float64
        Polylines.
    of : (n,) int64
        Number of the solid that each line is of, from 0.
    marks : (m, 2) float64
        A place well inside what is seen of each solid; NaN where nothing is seen.
    """

    width: float
    height: float
    lines: tuple[NDArray[np.float64], ...]
    of: NDArray[np.int64]
    marks: NDArray[np.float64]


def line_drawing(
    meshes: Sequence[Mesh],
    width: int = 480,
    height: int = 320,
    turn_deg: float = -35.0,
    tilt_deg: float = 28.0,
) -> LineDrawing:
    """Draw solids, one before the other, as lines.

    Parameters
    ----------
    meshes : sequence of Mesh
        Closed; at least one with facets.
    width, height : int
    turn_deg, tilt_deg : float
        Where they are seen from: swung about the vertical, and from so far above.

    Returns
    -------
    LineDrawing

    Notes
    -----
    Contours lie between facets that face the eye and facets that do not. What is hidden is told by a depth
    buffer (A. Appel, "The notion of quantitative invisibility and the machine rendering of solids", Proc. ACM
    National Conference 1967, for the lines; E. Catmull 1974 for the buffer; from memory).
    """
    turn = view(turn_deg, tilt_deg)
    seen = [mesh.vertices @ turn.T for mesh in meshes]
    every = np.concatenate(seen)
    low, high = every.min(axis=0), every.max(axis=0)
    span = np.maximum(high - low, 1e-9)
    margin = 14.0
    scale = min((width - 2 * margin) / span[0], (height - 2 * margin) / span[1])
    depth = np.full((height, width), -np.inf)
    owner = np.full((height, width), -1.0)
    placed = []
    for k, (mesh, points) in enumerate(zip(meshes, seen, strict=True)):
        at = (points - (low + high) / 2) * scale
        at[:, 0] += width / 2
        at[:, 1] = height / 2 - at[:, 1]
        at = np.ascontiguousarray(at)
        placed.append(at)
        rasterise(at, mesh.faces, np.full(len(mesh.faces), float(k)), depth, owner)
    lines: list[NDArray[np.float64]] = []
    of: list[int] = []
    for k, (mesh, at) in enumerate(zip(meshes, placed, strict=True)):
        for line in _chained(_visible(at, _drawn_edges(mesh, at), depth, BEFORE, STEP)):
            lines.append(_straightened(line))
            of.append(k)
    marks = np.array([_middle(owner == k) for k in range(len(meshes))]).reshape(-1, 2)
    return LineDrawing(float(width), float(height), tuple(lines), np.array(of, np.int64), marks)


def _drawn_edges(mesh: Mesh, at: NDArray[np.float64]) -> NDArray[np.int64]:
    """Edges (n, 2), by vertices, that are contours, creases or open."""
    across = across_edges(mesh)
    normals, _ = facet_normals(Mesh(at, mesh.faces))
    # y runs downwards, so that a facet that faces the eye has a normal away from it.
    front = normals[:, 2] < 0
    facet, side = np.nonzero(across < np.arange(len(across))[:, None])
    other = across[facet, side]
    contour = (other < 0) | (front[facet] != front[other])
    flat = np.einsum("ij,ij->i", normals[facet], normals[other]) > math.cos(math.radians(CREASE_DEG))
    crease = ~flat & front[facet] & front[other]
    chosen = contour | crease
    facet, side = facet[chosen], side[chosen]
    return np.column_stack([mesh.faces[facet, side], mesh.faces[facet, (side + 1) % 3]]).astype(np.int64)


@njit(cache=True)
def _visible(at, edges, depth, before, step):  # type: ignore[no-untyped-def]
    """Stretches (n, 4) of x0, y0, x1, y1 of edges that nothing lies before."""
    height, width = depth.shape
    found = np.empty((max(edges.shape[0], 1), 4))
    count = 0
    for e in range(edges.shape[0]):
        a, b = at[edges[e, 0]], at[edges[e, 1]]
        pieces = max(1, int(np.ceil(np.hypot(b[0] - a[0], b[1] - a[1]) / step)))
        begin = -1.0
        for s in range(pieces + 1):
            shows = False
            if s < pieces:
                t = (s + 0.5) / pieces
                x, y = a[0] + t * (b[0] - a[0]), a[1] + t * (b[1] - a[1])
                z = a[2] + t * (b[2] - a[2])
                # A contour lies at the rim of what it bounds: the place beside it may be far behind.
                nearest = np.inf
                for dj in range(-1, 2):
                    for di in range(-1, 2):
                        i, j = int(x) + di, int(y) + dj
                        if 0 <= i < width and 0 <= j < height:
                            nearest = min(nearest, depth[j, i])
                shows = z >= nearest - before
            if shows and begin < 0.0:
                begin = s / pieces
            if not shows and begin >= 0.0:
                end = s / pieces
                if count == found.shape[0]:
                    found = np.concatenate((found, np.empty_like(found)))
                found[count, 0], found[count, 1] = a[0] + begin * (b[0] - a[0]), a[1] + begin * (b[1] - a[1])
                found[count, 2], found[count, 3] = a[0] + end * (b[0] - a[0]), a[1] + end * (b[1] - a[1])
                count += 1
                begin = -1.0
    return found[:count].copy()


def _chained(stretches: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Link stretches (n, 4) whose ends are the same to polylines."""
    ends: dict[tuple[float, float], list[int]] = {}
    corners = [((a, b), (c, d)) for a, b, c, d in np.round(stretches, 2).tolist()]
    for k, pair in enumerate(corners):
        for corner in pair:
            ends.setdefault(corner, []).append(k)
    used = np.zeros(len(corners), np.bool_)

    def walk(corner: tuple[float, float]) -> list[tuple[float, float]]:
        path: list[tuple[float, float]] = []
        while True:
            after = next((k for k in ends[corner] if not used[k]), None)
            if after is None:
                return path
            used[after] = True
            one, two = corners[after]
            corner = two if one == corner else one
            path.append(corner)

    found = []
    for k, (one, two) in enumerate(corners):
        if used[k] or one == two:
            continue
        used[k] = True
        found.append(np.array([*walk(one)[::-1], one, two, *walk(two)]))
    return found


def _straightened(line: NDArray[np.float64]) -> NDArray[np.float64]:
    """Leave out corners (k, 2) near the line between those that are kept."""
    kept = [0]
    for k in range(2, len(line)):
        a, b = line[kept[-1]], line[k]
        way = b - a
        length = float(np.hypot(*way))
        between = line[kept[-1] + 1 : k] - a
        off = np.abs(between[:, 0] * way[1] - between[:, 1] * way[0]) / length if length > 0 else np.inf
        if np.any(off > STRAIGHT):
            kept.append(k - 1)
    return line[[*kept, len(line) - 1]]


def _middle(mask: NDArray[np.bool_]) -> tuple[float, float]:
    """A place well inside a mask: the one that outlasts wearing its rim off."""
    if not mask.any():
        return math.nan, math.nan
    while True:
        worn = mask.copy()
        worn[0], worn[-1], worn[:, 0], worn[:, -1] = False, False, False, False
        worn[1:-1, 1:-1] &= mask[:-2, 1:-1] & mask[2:, 1:-1] & mask[1:-1, :-2] & mask[1:-1, 2:]
        if not worn.any():
            rows, columns = np.nonzero(mask)
            middle = len(rows) // 2
            return float(columns[middle]) + 0.5, float(rows[middle]) + 0.5
        mask = worn

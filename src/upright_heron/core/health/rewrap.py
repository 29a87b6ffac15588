"""A new surface over an old one: the last resort of mending."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from ..geometry.mesh import Mesh, facts, weld
from ..geometry.tree import Tree
from ..progress import Progress, silent, tracked
from .defects import thickness_mm
from .outwards import face_outwards

# Cells along the longest side when a surface is re-wrapped: the more the thinner its walls are.
CELLS = 160
MOST_CELLS = 320
# A wall under so many cells perforates (own measurement).
CELLS_A_WALL = 1.5
# Facets at which walls are measured, and the share of the thinnest of them that may be lost.
MEASURED = 5000
THINNEST = 0.05


# Samples asked between two looks at whether to stop.
CHUNK = 20_000


def rewrap(mesh: Mesh, cells: int | None = None, *, progress: Progress = silent) -> tuple[Mesh, str]:
    """Lay a new closed surface over what there is, whatever its state.

    Parameters
    ----------
    mesh : Mesh
    cells : int, optional
        Along the longest side; those that its walls need, if not given. The new surface keeps to the old one
        within one cell and rounds its edges.
    progress : Progress

    Returns
    -------
    Mesh
        Empty words and the mesh as it was, where the surface encloses nothing.
    str
    """
    from scipy.ndimage import label
    from skimage.measure import marching_cubes

    # What faces which way does not matter to the eye but does to winding: facets of a body are made to agree.
    mesh, _ = face_outwards(mesh)
    low, high = mesh.bounds
    cell = float((high - low).max()) / (cells or _cells(mesh))
    origin = low - 3 * cell
    shape = np.ceil((high - low) / cell).astype(int) + 7
    tree = Tree.of(mesh)
    near = _near_cells(tree.corners, origin, cell, *(int(n) for n in shape))
    band = np.argwhere(near)
    points = origin + band * cell
    # Far from the surface all samples of a region lie on one side: one of each is asked.
    regions, count = label(~near)
    inside = np.zeros(tuple(shape), np.bool_)
    if count:
        flat = regions.ravel()
        names, first = np.unique(flat, return_index=True)
        samples = np.column_stack(np.unravel_index(first, tuple(shape)))
        within = tree.winding(origin + samples * cell) > 0.5
        lookup = np.zeros(count + 1, np.bool_)
        lookup[names] = within
        lookup[0] = False
        inside = lookup[regions]
    field = np.where(inside, 3 * cell, -3 * cell).astype(np.float32)
    signed = np.empty(len(points))
    for begin in tracked(range(0, len(points), CHUNK), "Re-wrapping", progress):
        some = points[begin : begin + CHUNK]
        sign = np.where(tree.winding(some) > 0.5, 1.0, -1.0)
        signed[begin : begin + CHUNK] = sign * tree.distances(some, 3 * cell)
    field[near] = signed
    if not (field > 0).any():
        return mesh, ""
    vertices, faces, _, _ = marching_cubes(  # type: ignore[no-untyped-call]
        field, 0.0, spacing=(cell, cell, cell), gradient_direction="ascent"
    )
    corners = (vertices + origin)[faces].astype(np.float32)
    wrapped = weld(corners)
    if facts(wrapped).volume_mm3 < 0:
        wrapped = Mesh(wrapped.vertices, wrapped.faces[:, ::-1])
    return wrapped, f"re-wrapped, edges rounded by up to {cell:.2g} mm"


def _cells(mesh: Mesh) -> int:
    """Cells along the longest side that the walls of a surface need."""
    some = np.arange(0, len(mesh.faces), max(1, len(mesh.faces) // MEASURED))
    wall = thickness_mm(mesh, facets=some)
    wall = wall[np.isfinite(wall)]
    if not len(wall):
        return CELLS
    cell = max(float(np.quantile(wall, THINNEST)) / CELLS_A_WALL, 1e-9)
    return int(np.clip(float(mesh.size_mm.max()) / cell, CELLS, MOST_CELLS))


@njit(cache=True)
def _near_cells(corners, origin, cell, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Mark the samples within a cell and a half of the boxes of small bits of the facets."""
    near = np.zeros((nx, ny, nz), np.bool_)
    for f in range(corners.shape[0]):
        a, b, c = corners[f, 0], corners[f, 1], corners[f, 2]
        longest = 0.0
        for axis in range(3):
            longest = max(longest, abs(b[axis] - a[axis]), abs(c[axis] - a[axis]), abs(c[axis] - b[axis]))
        steps = max(1, math.ceil(longest / cell))
        for i in range(steps + 1):
            for j in range(steps + 1 - i):
                u, v = i / steps, j / steps
                x = (a[0] + u * (b[0] - a[0]) + v * (c[0] - a[0]) - origin[0]) / cell
                y = (a[1] + u * (b[1] - a[1]) + v * (c[1] - a[1]) - origin[1]) / cell
                z = (a[2] + u * (b[2] - a[2]) + v * (c[2] - a[2]) - origin[2]) / cell
                # A cell between such points at most, so that this reach leaves no gap.
                for p in range(max(0, int(x) - 1), min(nx, int(x) + 3)):
                    for q in range(max(0, int(y) - 1), min(ny, int(y) + 3)):
                        for r in range(max(0, int(z) - 1), min(nz, int(z) + 3)):
                            near[p, q, r] = True
    return near

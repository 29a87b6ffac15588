"""Plumb lines: a raster of vertical lines through a part, and where they go in and out of it.

One pass gives what hangs above what: the volume of straight supports, where they touch, the shadow on the
plate, and the area of every layer. The kernels leave Python's lock, so that two threads use two cores.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..geometry.mesh import Mesh
from ..hanging.overhangs import threshold
from ..tolerances import DEFAULT, Tolerances, plate_tolerance_mm

# Kinds of crossings, as bits.
UP, PAST, SHOW = 1, 2, 4


@dataclass(frozen=True, eq=False)
class Surface:
    """A part as the kernels take it, made once for many stances.

    Attributes
    ----------
    vertices : (n, 3) float64, mm
    faces : (m, 3) int32
    normals : (m, 3) float64
    areas : (m,) float64
    show : (m,) bool
        Facets of the show side.
    tolerance_mm : float
        Height up to which a facet lies on the plate.
    """

    vertices: NDArray[np.float64]
    faces: NDArray[np.int32]
    normals: NDArray[np.float64]
    areas: NDArray[np.float64]
    show: NDArray[np.bool_]
    tolerance_mm: float

    @classmethod
    def of(cls, mesh: Mesh, show: NDArray[np.bool_] | None = None) -> Surface:
        """Prepare a mesh of m facets, of which those of ``show`` (m,) belong to the show side."""
        from ..geometry.mesh import facet_normals

        normals, areas = facet_normals(mesh)
        shown = np.zeros(len(mesh.faces), bool) if show is None else show
        return cls(mesh.vertices, mesh.faces, normals, areas, shown, plate_tolerance_mm(mesh.vertices))


@dataclass(frozen=True, eq=False)
class Plumb:
    """What plumb lines tell of a stance.

    Attributes
    ----------
    support_mm3 : float
        Volume of straight columns from everything past the limit down to the plate or the part.
    landing_mm2 : float
        Plan area on which such columns stand on the part.
    landing_show_mm2 : float
        The share of it on the show side.
    shadow_mm2 : float
        Plan area of the part.
    volume_mm3 : float
        Of the part, as the lines see it.
    layer_mm2 : (L,) float64
        Area of the part in the middle of each layer.
    """

    support_mm3: float
    landing_mm2: float
    landing_show_mm2: float
    shadow_mm2: float
    volume_mm3: float
    layer_mm2: NDArray[np.float64]


def plumb(
    surface: Surface,
    rotation: NDArray[np.float64],
    limit_deg: float,
    *,
    pixel_mm: float,
    layer_mm: float,
    lift_mm: float = 0.0,
    tolerances: Tolerances = DEFAULT,
) -> Plumb:
    """Drop plumb lines through a part in a stance.

    Parameters
    ----------
    surface : Surface
    rotation : (3, 3) float64
    limit_deg : float
        Self-supporting limit, degrees from vertical.
    pixel_mm : float
        Distance of the lines.
    layer_mm : float
        Height of a layer of ``layer_mm2``; a search may take it coarser than the machine does.
    lift_mm : float
        Room between the plate and the lowest point; then nothing lies on the plate.
    tolerances : Tolerances

    Returns
    -------
    Plumb

    Notes
    -----
    The vertical-prism model of supports: S. Allen and D. Dutta, "Determination and evaluation of support
    structures in layered manufacturing", J. Design and Manufacturing 5, 1995. A line counts for a square of
    the raster; on a surface that several bodies share, every one counts once.
    """
    turned = np.empty_like(surface.vertices)
    low = np.empty(3)
    high = np.empty(3)
    _turn(surface.vertices, np.ascontiguousarray(rotation), turned, low, high)
    # Off the corners of boxes, which like to lie on round numbers.
    x0, y0 = low[0] - 0.3137 * pixel_mm, low[1] - 0.3571 * pixel_mm
    wide, deep = (int((high[k] - start) / pixel_mm) + 2 for k, start in ((0, x0), (1, y0)))
    on_plate = low[2] + surface.tolerance_mm if lift_mm <= 0 else -np.inf
    hit, counts = _count(turned, surface.faces, x0, y0, pixel_mm, wide, deep)
    starts = np.zeros(wide * deep + 1, np.int64)
    np.cumsum(counts, out=starts[1:])
    heights, kinds = _fill(
        turned, surface.faces, surface.normals, surface.show, np.ascontiguousarray(rotation[2]), hit, starts,
        x0, y0, pixel_mm, wide, threshold(limit_deg, tolerances), on_plate,
    )  # fmt: skip
    layers = max(1, int(np.ceil((high[2] - low[2]) / layer_mm - 1e-6)))
    found, change = _walk(heights, kinds, starts, low[2], lift_mm, layer_mm, layers)
    square = pixel_mm * pixel_mm
    return Plumb(
        float(found[0] * square),
        float(found[1] * square),
        float(found[2] * square),
        float(found[3] * square),
        float(found[4] * square),
        np.cumsum(change)[:layers] * square,
    )


@njit(cache=True, nogil=True)
def _turn(vertices, rotation, out, low, high):  # type: ignore[no-untyped-def]
    for k in range(3):
        low[k], high[k] = np.inf, -np.inf
    for v in range(vertices.shape[0]):
        x, y, z = vertices[v, 0], vertices[v, 1], vertices[v, 2]
        for k in range(3):
            value = rotation[k, 0] * x + rotation[k, 1] * y + rotation[k, 2] * z
            out[v, k] = value
            low[k] = min(low[k], value)
            high[k] = max(high[k], value)


@njit(cache=True, nogil=True)
def _rows(v, a, b, c, y0, pixel):  # type: ignore[no-untyped-def]
    bottom = min(v[a, 1], v[b, 1], v[c, 1])
    top = max(v[a, 1], v[b, 1], v[c, 1])
    return int(np.ceil((bottom - y0) / pixel)), int(np.ceil((top - y0) / pixel))


@njit(cache=True, nogil=True)
def _edge_at(v, i, j, y):  # type: ignore[no-untyped-def]
    # The lower end first: the two facets of an edge then see it at the very same place, and no line slips
    # through.
    if v[i, 1] > v[j, 1] or (v[i, 1] == v[j, 1] and i > j):
        i, j = j, i
    return v[i, 0] + (v[j, 0] - v[i, 0]) * ((y - v[i, 1]) / (v[j, 1] - v[i, 1]))


@njit(cache=True, nogil=True)
def _span(v, a, b, c, y):  # type: ignore[no-untyped-def]
    left, right = np.inf, -np.inf
    for e in range(3):
        i = a if e == 0 else b if e == 1 else c
        j = b if e == 0 else c if e == 1 else a
        if (v[i, 1] <= y) != (v[j, 1] <= y):
            x = _edge_at(v, i, j, y)
            left, right = min(left, x), max(right, x)
    return left, right


@njit(cache=True, nogil=True)
def _count(v, faces, x0, y0, pixel, wide, deep):  # type: ignore[no-untyped-def]
    """Facets that a line goes through, and how many crossings each line has."""
    counts = np.zeros(wide * deep, np.int64)
    hit = np.empty(faces.shape[0], np.int64)
    many = 0
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        first, end = _rows(v, a, b, c, y0, pixel)
        if first >= end:
            continue
        # Most facets of a fine part lie between two lines of the raster in x as well.
        left = min(v[a, 0], v[b, 0], v[c, 0])
        right = max(v[a, 0], v[b, 0], v[c, 0])
        if int(np.ceil((left - x0) / pixel)) >= int(np.ceil((right - x0) / pixel)):
            continue
        touched = False
        for row in range(first, end):
            left, right = _span(v, a, b, c, y0 + row * pixel)
            i, j = int(np.ceil((left - x0) / pixel)), int(np.ceil((right - x0) / pixel))
            for column in range(i, j):
                counts[row * wide + column] += 1
                touched = True
        if touched:
            hit[many] = f
            many += 1
    return hit[:many].copy(), counts


@njit(cache=True, nogil=True)
def _fill(v, faces, normals, show, up, hit, starts, x0, y0, pixel, wide, sine, on_plate):  # type: ignore[no-untyped-def]
    """Height and kind of every crossing, line by line, not sorted."""
    heights = np.empty(starts[-1])
    kinds = np.empty(starts[-1], np.uint8)
    at = starts[:-1].copy()
    for f in hit:
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        nx, ny, nz = np.float64(0.0), np.float64(0.0), np.float64(0.0)
        ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
        wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
        nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        kind = 0
        if nz > 0:
            kind = UP
        else:
            down = -(normals[f, 0] * up[0] + normals[f, 1] * up[1] + normals[f, 2] * up[2])
            top = max(v[a, 2], v[b, 2], v[c, 2])
            if down > sine and top > on_plate:
                kind = PAST
        if show[f]:
            kind |= SHOW
        lowest, highest = min(v[a, 2], v[b, 2], v[c, 2]), max(v[a, 2], v[b, 2], v[c, 2])
        first, end = _rows(v, a, b, c, y0, pixel)
        for row in range(first, end):
            y = y0 + row * pixel
            left, right = _span(v, a, b, c, y)
            i, j = int(np.ceil((left - x0) / pixel)), int(np.ceil((right - x0) / pixel))
            for column in range(i, j):
                x = x0 + column * pixel
                z = v[a, 2]
                if nz != 0.0:
                    z -= (nx * (x - v[a, 0]) + ny * (y - v[a, 1])) / nz
                line = row * wide + column
                heights[at[line]] = min(max(z, lowest), highest)
                kinds[at[line]] = kind
                at[line] += 1
    return heights, kinds


@njit(cache=True, nogil=True)
def _walk(heights, kinds, starts, low, lift, layer, layers):  # type: ignore[no-untyped-def]
    """Walk up every line: supports, where they land, shadow, volume, change of area by layer."""
    found = np.zeros(5)
    change = np.zeros(layers + 1)
    for line in range(starts.shape[0] - 1):
        lo, hi = starts[line], starts[line + 1]
        if lo == hi:
            continue
        for i in range(lo + 1, hi):
            z, kind = heights[i], kinds[i]
            j = i - 1
            # At one height what goes in comes before what goes out: bodies that touch are one.
            while j >= lo and (heights[j] > z or (heights[j] == z and (kinds[j] & UP) > (kind & UP))):
                heights[j + 1], kinds[j + 1] = heights[j], kinds[j]
                j -= 1
            heights[j + 1], kinds[j + 1] = z, kind
        found[3] += 1.0
        inside = 0
        entered = 0.0
        floor = low - lift
        on_part = False
        floor_show = False
        for i in range(lo, hi):
            z, kind = heights[i], kinds[i]
            if kind & UP:
                inside -= 1
                if inside == 0:
                    found[4] += z - entered
                    first = int(np.ceil((entered - low) / layer - 0.5))
                    end = int(np.ceil((z - low) / layer - 0.5))
                    change[min(max(first, 0), layers)] += 1.0
                    change[min(max(end, 0), layers)] -= 1.0
                floor, on_part, floor_show = z, True, (kind & SHOW) != 0
            else:
                if inside == 0:
                    entered = z
                    if kind & PAST:
                        found[0] += z - floor
                        if on_part:
                            found[1] += 1.0
                            if floor_show:
                                found[2] += 1.0
                inside += 1
    return found, change

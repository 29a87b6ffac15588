"""The layers of a part: true cross-sections at the middle of each layer, packed into flat arrays."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, FillRule
from numba import njit
from numpy.typing import NDArray

from ..errors import BadValue
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..progress import Progress, silent, tracked
from ..tags import stored
from ..tolerances import DEFAULT, Tolerances

# Contours are thinned by no more than this before they are kept: a fortieth of the smallest resin pixel,
# and small against the step of a layer (0.2 mm at 45 degrees), which overhangs are judged by.
KEPT_TOLERANCE_MM = 0.001

# Corners (P, 2) of rings, one ring after the other, and where each ring begins (R + 1,).
Rings = tuple[NDArray[np.float64], NDArray[np.int64]]


@stored("layer-stack")
@dataclass(frozen=True, eq=False)
class LayerStack:
    """Polygons and areas of all layers, bottom first.

    Attributes
    ----------
    layer_mm : float
        Thickness of each layer.
    base_mm : float
        Height of the underside of the first layer.
    area_mm2 : (L,) float64
        Area of each layer, from the contours before any thinning.
    points : (P, 2) float64, mm
        Corners of all rings, one after the other.
    ring_start : (R + 1,) int64
        Where each ring begins in ``points``; outer rings run counter-clockwise, holes clockwise.
    layer_start : (L + 1,) int64
        Where each layer begins in the rings.
    open_chains : int
        Contours that could not be closed (open parts only).
    """

    layer_mm: float
    base_mm: float
    area_mm2: NDArray[np.float64]
    points: NDArray[np.float64]
    ring_start: NDArray[np.int64]
    layer_start: NDArray[np.int64]
    open_chains: int = 0

    def __len__(self) -> int:
        return len(self.area_mm2)

    @cached_property
    def z_mm(self) -> NDArray[np.float64]:
        """(L,) float64: middle height of each layer, where it is cut."""
        return self.base_mm + (np.arange(len(self), dtype=np.float64) + 0.5) * self.layer_mm

    def bottom_mm(self, layer: int) -> float:
        """Height of the underside of a layer."""
        return self.base_mm + layer * self.layer_mm

    def rings(self, layer: int) -> list[NDArray[np.float64]]:
        """Rings (k, 2) of one layer."""
        lo, hi = self.layer_start[layer], self.layer_start[layer + 1]
        return [self.points[self.ring_start[r] : self.ring_start[r + 1]] for r in range(lo, hi)]

    def packed_rings(self, layer: int) -> Rings:
        """Rings of one layer without copying corners; none outside the stack."""
        if not 0 <= layer < len(self):
            return packed([])
        lo, hi = self.layer_start[layer], self.layer_start[layer + 1]
        return self.points, self.ring_start[lo : hi + 1]

    @cached_property
    def ring_boxes(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """(R, 2) float64 each: lowest and highest corner of every ring."""
        if len(self.ring_start) < 2:
            return np.zeros((0, 2)), np.zeros((0, 2))
        starts = self.ring_start[:-1]
        return np.minimum.reduceat(self.points, starts), np.maximum.reduceat(self.points, starts)

    def section(self, layer: int) -> CrossSection:
        """Cross-section of one layer; empty outside the stack."""
        if not 0 <= layer < len(self):
            return CrossSection()
        rings = self.rings(layer)
        return CrossSection(rings, FillRule.NonZero) if rings else CrossSection()

    def same_as_below(self, layer: int) -> bool:
        """Whether a layer has the contours of the layer below it, to a nanometre (upright walls)."""
        if layer <= 0:
            return False
        a, b, c = self.layer_start[layer - 1], self.layer_start[layer], self.layer_start[layer + 1]
        if c - b != b - a:
            return False
        p, q, r = self.ring_start[a], self.ring_start[b], self.ring_start[c]
        if r - q != q - p or not np.array_equal(
            self.ring_start[b : c + 1] - q, self.ring_start[a : b + 1] - p
        ):
            return False
        return r == q or float(np.abs(self.points[q:r] - self.points[p:q]).max()) < 1e-6

    @property
    def largest(self) -> int:
        """Number of the layer with the largest area (the lowest of equals); -1 when there is none."""
        return first_largest(self.area_mm2) if len(self) else -1


def first_largest(values: NDArray[np.float64]) -> int:
    """Number of the largest of values (n,), the first of equals: those of equal layers differ by rounding."""
    most = float(values.max())
    return int(np.argmax(values >= most - 1e-9 * abs(most)))


def layer_count(height_mm: float, layer_mm: float, tolerances: Tolerances = DEFAULT) -> int:
    """Number of layers that cover a height: ``ceil(height / layer)``, guarded against float noise.

    Raises
    ------
    BadValue
        The layer height is not positive.
    """
    if not layer_mm > 0:
        raise BadValue("The layer height has to be more than 0 mm.", "Type a layer height such as 0.2.")
    return max(0, math.ceil(height_mm / layer_mm - tolerances.count))


def packed(rings: list[NDArray[np.float64]]) -> Rings:
    """Pack rings (k, 2) into corners (P, 2) and where each ring begins (R + 1,)."""
    starts = np.zeros(len(rings) + 1, np.int64)
    np.cumsum([len(ring) for ring in rings], out=starts[1:])
    return np.concatenate(rings) if rings else np.zeros((0, 2)), starts


def pack(
    layers: Iterable[list[NDArray[np.float64]]],
    areas: Iterable[float],
    layer_mm: float,
    base_mm: float,
    open_chains: int = 0,
) -> LayerStack:
    """Pack rings, layer by layer, into a stack.

    Parameters
    ----------
    layers : iterable of lists of (k, 2) float64, mm
    areas : iterable of float, mm2
    layer_mm, base_mm : float
    open_chains : int

    Returns
    -------
    LayerStack
    """
    rings: list[NDArray[np.float64]] = []
    starts = [0]
    for layer in layers:
        rings.extend(layer)
        starts.append(len(rings))
    points, ring_start = packed(rings)
    return LayerStack(
        layer_mm=layer_mm,
        base_mm=base_mm,
        area_mm2=np.fromiter(areas, np.float64, len(starts) - 1),
        points=points,
        ring_start=ring_start,
        layer_start=np.asarray(starts, np.int64),
        open_chains=open_chains,
    )


def spliced(stack: LayerStack, changed: dict[int, tuple[list[NDArray[np.float64]], float]]) -> LayerStack:
    """Return a stack with some layers replaced.

    Parameters
    ----------
    stack : LayerStack
    changed : dict of int to (list of (k, 2) float64, float)
        Rings and area by layer.
    """
    points, sizes, counts = [], [], np.diff(stack.layer_start)
    lengths = np.diff(stack.ring_start)
    areas = stack.area_mm2.copy()
    done = 0
    for layer in sorted(changed):
        rings, area = changed[layer]
        a, b = stack.layer_start[done], stack.layer_start[layer]
        points.append(stack.points[stack.ring_start[a] : stack.ring_start[b]])
        sizes.append(lengths[a:b])
        points.extend(rings)
        sizes.append(np.array([len(r) for r in rings], np.int64))
        counts[layer], areas[layer] = len(rings), area
        done = layer + 1
    a = stack.layer_start[done]
    points.append(stack.points[stack.ring_start[a] :])
    sizes.append(lengths[a:])
    ring_start = np.concatenate([[0], np.cumsum(np.concatenate(sizes))]).astype(np.int64)
    layer_start = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    return replace(
        stack, area_mm2=areas, points=np.concatenate(points), ring_start=ring_start, layer_start=layer_start
    )


def thinned(stack: LayerStack, tolerance_mm: float) -> LayerStack:
    """Drop ring corners within ``tolerance_mm`` of the line between those kept; areas stay as they are.

    Parameters
    ----------
    stack : LayerStack
    tolerance_mm : float
        0 keeps every corner.

    Returns
    -------
    LayerStack

    References
    ----------
    D. Douglas, T. Peucker, "Algorithms for the reduction of the number of points required to represent a
    digitized line or its caricature", Cartographica 10(2), 1973.
    """
    points, ring_start = thinned_rings(stack.points, stack.ring_start, tolerance_mm)
    return replace(stack, points=points, ring_start=ring_start)


def thinned_rings(points: NDArray[np.float64], ring_start: NDArray[np.int64], tolerance_mm: float) -> Rings:
    """Drop corners of packed rings, as ``thinned`` does: corners (P, 2), where rings begin (R + 1,)."""
    if tolerance_mm <= 0 or not len(points):
        return points, ring_start
    order, starts = _thin_kernel(points, ring_start, tolerance_mm)
    return points[order], starts


@njit(cache=True)
def _thin_kernel(points, ring_start, tolerance):  # type: ignore[no-untyped-def]
    """Numbers of the corners that are kept, and where rings begin: chords are halved till all are near."""
    rings = ring_start.shape[0] - 1
    order = np.empty(points.shape[0], np.int64)
    starts = np.zeros(rings + 1, np.int64)
    keep = np.zeros(points.shape[0], np.bool_)
    todo = np.empty((points.shape[0] + 2, 2), np.int64)
    out = 0
    for r in range(rings):
        lo, n = ring_start[r], ring_start[r + 1] - ring_start[r]
        # A ring has no ends. It is begun at its lowest corner of the leftmost, which is a corner of its
        # hull and so always kept; and rings of equal layers then begin alike.
        left = np.inf
        for i in range(n):
            left = min(left, points[lo + i, 0])
        begin = -1
        for i in range(n):
            if points[lo + i, 0] <= left + 1e-6 and (begin < 0 or points[lo + i, 1] < points[lo + begin, 1]):
                begin = i
        kept = n
        if n > 3:
            far, best = 0, -1.0
            for i in range(1, n):
                p = lo + (begin + i) % n
                d = (points[p, 0] - points[lo + begin, 0]) ** 2 + (points[p, 1] - points[lo + begin, 1]) ** 2
                if d > best:
                    far, best = i, d
            for i in range(n):
                keep[lo + i] = False
            keep[lo + begin] = keep[lo + (begin + far) % n] = True
            todo[0, 0], todo[0, 1] = 0, far
            todo[1, 0], todo[1, 1] = far, n
            top = 2
            kept = 2
            while top > 0:
                top -= 1
                a, b = todo[top, 0], todo[top, 1]
                pa, pb = lo + (begin + a) % n, lo + (begin + b) % n
                ax, ay = points[pa, 0], points[pa, 1]
                bx, by = points[pb, 0] - ax, points[pb, 1] - ay
                length2 = bx * bx + by * by
                worst, at = tolerance * tolerance, -1
                for i in range(a + 1, b):
                    p = lo + (begin + i) % n
                    px, py = points[p, 0] - ax, points[p, 1] - ay
                    t = 0.0 if length2 == 0.0 else min(1.0, max(0.0, (px * bx + py * by) / length2))
                    d = (px - t * bx) ** 2 + (py - t * by) ** 2
                    if d > worst:
                        worst, at = d, i
                if at >= 0:
                    keep[lo + (begin + at) % n] = True
                    kept += 1
                    todo[top, 0], todo[top, 1] = a, at
                    todo[top + 1, 0], todo[top + 1, 1] = at, b
                    top += 2
        # Thinner than the tolerance, a ring would become a line: it stays whole.
        whole = kept < 3 or n <= 3
        for i in range(n):
            p = lo + (begin + i) % n
            if whole or keep[p]:
                order[out] = p
                out += 1
        starts[r + 1] = out
    return order[:out].copy(), starts


def slice_solid(
    solid: Solid,
    layer_mm: float,
    *,
    thin_mm: float = KEPT_TOLERANCE_MM,
    progress: Progress = silent,
) -> LayerStack:
    """Cut a solid into layers at the middle of each.

    Parameters
    ----------
    solid : Solid
        Its lowest point is where the first layer begins.
    layer_mm : float
    thin_mm : float
        Contours are thinned by up to this much after their area is taken; 0 keeps every corner.
    progress : Progress

    Returns
    -------
    LayerStack

    Raises
    ------
    BadValue
        The layer height is not positive.
    """
    low, high = (float(v) for v in solid.bounds[:, 2])
    count = layer_count(high - low, layer_mm)
    areas = np.zeros(count)
    layers: list[list[NDArray[np.float64]]] = []
    for i in tracked(range(count), "Cutting layers", progress):
        section = solid.section(low + (i + 0.5) * layer_mm)
        areas[i] = section.area()
        layers.append(section.to_polygons())
    return thinned(pack(layers, areas, layer_mm, low), thin_mm)


def slice_open_mesh(mesh: Mesh, layer_mm: float, *, progress: Progress = silent) -> LayerStack:
    """Cut an open mesh into layers as far as its contours close.

    Parameters
    ----------
    mesh : Mesh
    layer_mm : float
    progress : Progress

    Returns
    -------
    LayerStack
        Only closed contours, filled by the even-odd rule; ``open_chains`` counts the others.

    Raises
    ------
    BadValue
        The layer height is not positive.
    """
    import shapely
    import trimesh

    low, high = (float(v) for v in mesh.bounds[:, 2])
    count = layer_count(high - low, layer_mm)
    progress("Cutting layers", 0, count)
    body = trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces), process=False)
    segments, transforms, _ = trimesh.intersections.mesh_multiplane(  # type: ignore[no-untyped-call]
        body, [0.0, 0.0, low], [0.0, 0.0, 1.0], (np.arange(count) + 0.5) * layer_mm
    )
    areas = np.zeros(count)
    layers: list[list[NDArray[np.float64]]] = []
    open_chains = 0
    for i in tracked(range(count), "Cutting layers", progress):
        rings = []
        if len(segments[i]):
            flat = np.round(_to_world(segments[i], transforms[i]), 6)
            merged = shapely.line_merge(shapely.multilinestrings([list(flat)])[0])
            for line in shapely.get_parts(merged):
                if shapely.is_closed(line):
                    rings.append(np.asarray(line.coords)[:-1])
                else:
                    open_chains += 1
        section = CrossSection(rings, FillRule.EvenOdd) if rings else CrossSection()
        areas[i] = section.area()
        layers.append(section.to_polygons())
    return thinned(pack(layers, areas, layer_mm, low, open_chains), KEPT_TOLERANCE_MM)


def _to_world(segments: NDArray[np.float64], transform: NDArray[np.float64]) -> NDArray[np.float64]:
    # trimesh gives each section in a frame of its own, with the matrix back to the frame of the mesh.
    flat = segments.reshape(-1, 2)
    there = np.column_stack([flat, np.zeros(len(flat)), np.ones(len(flat))]) @ transform.T
    result: NDArray[np.float64] = there[:, :2].reshape(-1, 2, 2)
    return result


def cut(mesh: Mesh, solid: Solid | None, layer_mm: float, *, progress: Progress = silent) -> LayerStack:
    """Cut a part into layers, closed or open; ``solid`` is ``None`` for an open part.

    Raises
    ------
    BadValue
        The layer height is not positive.
    """
    if solid is None:
        return slice_open_mesh(mesh, layer_mm, progress=progress)
    return slice_solid(solid, layer_mm, progress=progress)

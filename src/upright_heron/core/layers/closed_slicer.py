"""Layers of a single closed body by walking from facet to facet: quick, for many stances of one part.

``stack.slice_solid`` is the reference and takes any solid. Here the surface must be one body that does not
pass through itself: health tells that, and ``Walker.of`` holds some sections against the solid's before it
trusts the walk; the contours are then the same.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..geometry.mesh import Mesh, facts
from ..geometry.solid import Solid
from ..progress import Progress, silent
from .stack import KEPT_TOLERANCE_MM, LayerStack, cut, layer_count, thinned

# Heights at which the walk is held against the solid before it is trusted.
CHECKED = 12


@dataclass(frozen=True, eq=False)
class Walker:
    """A closed surface with the neighbours of its facets.

    Attributes
    ----------
    mesh : Mesh
    beside : (m, 3) int32
        The facet across each edge, from corner k to corner k + 1.
    """

    mesh: Mesh
    beside: NDArray[np.int32]

    @classmethod
    def of(cls, mesh: Mesh, solid: Solid | None) -> Walker | None:
        """Prepare a part; ``None`` where it has several bodies, or other sections than the solid if given."""
        known = facts(mesh)
        if not known.closed or known.shells != 1:
            return None
        walker = cls(mesh, _beside(mesh.faces))
        if solid is None:
            return walker
        low, high = mesh.bounds[:, 2]
        # Off round numbers, where flat faces lie.
        step = (high - low) / (CHECKED + 0.618)
        found = walker.layers(np.eye(3), float(step))
        for z, area in zip(found.z_mm, found.area_mm2, strict=True):
            if abs(solid.section(float(low + z)).area() - area) > 1e-6 * max(1.0, area):
                return None
        return walker

    def layers(self, rotation: NDArray[np.float64], layer_mm: float) -> LayerStack:
        """Cut the part in a stance, standing on the plate, its middle over the middle of the plate.

        Parameters
        ----------
        rotation : (3, 3) float64
        layer_mm : float

        Returns
        -------
        LayerStack

        Raises
        ------
        BadValue
            The layer height is not positive.
        """
        turned = self.mesh.vertices @ rotation.T
        low, high = turned.min(axis=0), turned.max(axis=0)
        turned -= [*(0.5 * (low + high)[:2]), low[2]]
        return self._cut(turned, layer_mm, 0.0)

    def here(self, layer_mm: float) -> LayerStack:
        """Cut the part where it is, as ``stack.slice_solid`` does."""
        low = float(self.mesh.bounds[0, 2])
        return self._cut(self.mesh.vertices - [0.0, 0.0, low], layer_mm, low)

    def _cut(self, vertices: NDArray[np.float64], layer_mm: float, base_mm: float) -> LayerStack:
        count = layer_count(float(vertices[:, 2].max()), layer_mm)
        points, rings, layers, areas = _walk(vertices, self.mesh.faces, self.beside, layer_mm, count)
        return thinned(LayerStack(layer_mm, base_mm, areas, points, rings, layers), KEPT_TOLERANCE_MM)


def cut_layers(
    mesh: Mesh, solid: Solid | None, layer_mm: float, *, crossed: bool = True, progress: Progress = silent
) -> LayerStack:
    """Cut a part into layers: a closed surface that is free of crossings by walking, any other as it can be.

    Parameters
    ----------
    mesh : Mesh
    solid : Solid or None
        The same as a solid; ``None`` for an open one.
    layer_mm : float
    crossed : bool
        Whether the surface may pass through itself.
    progress : Progress

    Returns
    -------
    LayerStack

    Raises
    ------
    BadValue
        The layer height is not positive.
    """
    if solid is not None and not crossed:
        progress("Cutting layers", 0, 1)
        walker = Walker.of(mesh, solid)
        if walker is not None:
            return walker.here(layer_mm)
    return cut(mesh, solid, layer_mm, progress=progress)


def _beside(faces: NDArray[np.int32]) -> NDArray[np.int32]:
    ends = np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2).astype(np.int64)
    order = np.argsort(ends.min(axis=1) * (faces.max() + 1) + ends.max(axis=1), kind="stable")
    result = np.empty(len(ends), np.int32)
    # In a closed surface every edge is there twice.
    result[order[0::2]], result[order[1::2]] = order[1::2] // 3, order[0::2] // 3
    return result.reshape(-1, 3)


@njit(cache=True, nogil=True)
def _span(v, a, b, c, layer, count):  # type: ignore[no-untyped-def]
    bottom = min(v[a, 2], v[b, 2], v[c, 2])
    top = max(v[a, 2], v[b, 2], v[c, 2])
    first = max(int(bottom / layer - 0.5) - 1, 0)
    while first < count and (first + 0.5) * layer < bottom:
        first += 1
    end = first
    while end < count and (end + 0.5) * layer < top:
        end += 1
    return first, end


@njit(cache=True, nogil=True)
def _walk(v, faces, beside, layer, count):  # type: ignore[no-untyped-def]
    starts = np.zeros(count + 1, np.int64)
    for f in range(faces.shape[0]):
        first, end = _span(v, faces[f, 0], faces[f, 1], faces[f, 2], layer, count)
        for i in range(first, end):
            starts[i + 1] += 1
    starts = np.cumsum(starts)
    crossing = np.empty(starts[-1], np.int32)
    at = starts[:-1].copy()
    for f in range(faces.shape[0]):
        first, end = _span(v, faces[f, 0], faces[f, 1], faces[f, 2], layer, count)
        for i in range(first, end):
            crossing[at[i]] = f
            at[i] += 1
    points = np.empty((starts[-1], 2))
    ring_start = np.zeros(starts[-1] // 3 + 2, np.int64)
    layer_start = np.zeros(count + 1, np.int64)
    areas = np.zeros(count)
    seen = np.full(faces.shape[0], -1, np.int32)
    placed = 0
    rings = 0
    for i in range(count):
        z = (i + 0.5) * layer
        for k in range(starts[i], starts[i + 1]):
            f = crossing[k]
            if seen[f] == i:
                continue
            begin = placed
            # Over the edge that rises through the plane: so the inside stays to the left.
            while seen[f] != i:
                seen[f] = i
                onward = 0
                for e in range(3):
                    p, q = faces[f, e], faces[f, (e + 1) % 3]
                    if v[p, 2] <= z and v[q, 2] > z:
                        t = (z - v[p, 2]) / (v[q, 2] - v[p, 2])
                        points[placed, 0] = v[p, 0] + t * (v[q, 0] - v[p, 0])
                        points[placed, 1] = v[p, 1] + t * (v[q, 1] - v[p, 1])
                        placed += 1
                        onward = e
                        break
                f = beside[f, onward]
            area = 0.0
            for a in range(begin, placed):
                b = a + 1 if a + 1 < placed else begin
                area += points[a, 0] * points[b, 1] - points[b, 0] * points[a, 1]
            if placed - begin < 3 or area == 0.0:
                placed = begin
                continue
            areas[i] += 0.5 * area
            rings += 1
            ring_start[rings] = placed
        layer_start[i + 1] = rings
    return points[:placed].copy(), ring_start[: rings + 1].copy(), layer_start, areas

"""What cuts a part in any stance, and what very large parts are spared."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..errors import NotClosed
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..layers.closed_slicer import Walker
from ..layers.stack import LayerStack, cut
from .pose import place

# Facets of a very large part.
LARGE = 2_000_000
# Its corners are merged in so many cells along its longest side.
CELLS = 400


def slicer(
    mesh: Mesh, closed: bool, layer_mm: float, lift_mm: float = 0.0
) -> Callable[[NDArray[np.float64]], LayerStack]:
    """Return what cuts a part in any stance (3, 3): by a walk over it where that can be trusted.

    Nothing is made before it is needed, for the first proposals do without. The solid of a very large part
    takes more room than all the rest: its walk is trusted without.
    """
    lock = threading.Lock()
    made: list[tuple[Walker | None, Solid | None]] = []

    def prepared() -> tuple[Walker | None, Solid | None]:
        if closed and len(mesh.faces) > LARGE:
            walker = Walker.of(mesh, None)
            if walker is not None:
                return walker, None
        solid = _solid(mesh) if closed else None
        walker = Walker.of(mesh, solid) if solid is not None else None
        return walker, solid if walker is None else None

    def layers(rotation: NDArray[np.float64]) -> LayerStack:
        with lock:
            if not made:
                made.append(prepared())
            walker, solid = made[0]
        if walker is not None:
            return replace(walker.layers(rotation, layer_mm), base_mm=lift_mm)
        where = place(mesh, rotation, lift_mm)
        turned = solid.transformed(where.rotation, where.offset_mm) if solid is not None else None
        return cut(where.apply(mesh), turned, layer_mm)

    return layers


def merged(mesh: Mesh) -> Mesh:
    """A very large part with the corners of each cell made one: thinning it whole takes gigabytes."""
    low, high = mesh.bounds
    cells = np.floor((mesh.vertices - low) / (float((high - low).max()) / CELLS)).astype(np.int64)
    _, first, of = np.unique(
        cells @ [1, 2 * CELLS, 4 * CELLS * CELLS], return_index=True, return_inverse=True
    )
    faces = of.astype(np.int32)[mesh.faces]
    a, b, c = faces.T
    return Mesh(mesh.vertices[first], faces[(a != b) & (b != c) & (c != a)])


def _solid(mesh: Mesh) -> Solid | None:
    try:
        return Solid.from_mesh(mesh)
    except NotClosed:
        return None

"""How deep under the surface of a part the nodes of a lattice lie."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.pixels import fill
from ..geometry.solid import Solid
from ..geometry.tree import Tree
from ..layers.stack import packed
from ..progress import Progress, silent, tracked
from .sweeps import seed, sweep

# A lattice has no more nodes: it takes 20 bytes for each while it is made.
MOST_NODES = 25_000_000


@dataclass(frozen=True, eq=False)
class Lattice:
    """Nodes in steps along the axes.

    Attributes
    ----------
    low_mm : (3,) float64
        x, y, z of the first node.
    step_mm : float
    """

    low_mm: NDArray[np.float64]
    step_mm: float

    def at(self, nodes: NDArray[np.int64]) -> NDArray[np.float64]:
        """Places (n, 3) of nodes (n, 3), which are numbered z, y, x as arrays are."""
        return np.asarray(self.low_mm + nodes[:, ::-1] * self.step_mm, np.float64)


def lattice_of(bounds: NDArray[np.float64], step_mm: float) -> tuple[Lattice, tuple[int, int, int]]:
    """Lattice round a box (2, 3), and its shape z, y, x; with longer steps where there would be too many.

    One node more lies outside on every side.
    """
    size = bounds[1] - bounds[0]
    step = max(step_mm, (float(np.prod(size + 3 * step_mm)) / MOST_NODES) ** (1 / 3))
    nx, ny, nz = (np.ceil(size / step).astype(int) + 3).tolist()
    slack = (np.array([nx - 1, ny - 1, nz - 1]) * step - size) / 2
    return Lattice(bounds[0] - slack, step), (nz, ny, nx)


def inside(
    solid: Solid, lattice: Lattice, shape: tuple[int, int, int], progress: Progress = silent
) -> NDArray[np.bool_]:
    """Which nodes (nz, ny, nx) lie in a solid, from its sections."""
    found = np.zeros(shape, np.bool_)
    step = lattice.step_mm
    corner = lattice.low_mm[:2] - step / 2
    for k in tracked(range(shape[0]), "Looking for room inside", progress):
        rings = solid.section(float(lattice.low_mm[2] + k * step)).to_polygons()
        if rings:
            points, starts = packed(rings)
            fill(found[k], points, starts, 0, len(starts) - 1, corner, step, False)
    return found


def depths(within: NDArray[np.bool_], lattice: Lattice, part: Tree, to_mm: float) -> NDArray[np.float32]:
    """Depth (nz, ny, nx) of nodes under the surface, mm; 0 outside, ``to_mm`` and a few steps where deeper.

    Parameters
    ----------
    within : (nz, ny, nx) bool
    lattice : Lattice
    part : Tree
        Of the surface.
    to_mm : float
        Deeper than this nothing is measured.

    Notes
    -----
    Distances are exact to a facet; which one is handed on from node to node through the part, so that a slot
    narrower than the lattice counts too.
    """
    step = lattice.step_mm
    far = to_mm + 3 * step
    facet = np.full(within.shape, -1, np.int32)
    away = np.full(within.shape, far * far, np.float32)
    seed(part.corners, lattice.low_mm, step, within, facet, away)
    sweep(part.corners, lattice.low_mm, step, within, facet, away, to_mm + 2 * step)
    np.sqrt(away, out=away)
    away[~within] = 0.0
    return away

"""How far mending moved a surface: both ways, over what parts inside from outside."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.mesh import Mesh, facet_normals
from ..geometry.tree import Tree

# Places on each surface, spread by area, at which the way to the other is measured; and so many corners.
SAMPLES = 20_000
MOST_CORNERS = 60_000
# A move over this is told with the share of the surface that it is true of.
OVER_MM = 1.0
# Cells along each side of the box that a volume is counted in.
CELLS = 26
# Less than any machine resolves.
SEEN_MM = 0.005
SEED = 20261127


@dataclass(frozen=True, slots=True)
class Move:
    """Distances between a surface and what it was.

    Attributes
    ----------
    greatest_mm : float
    most_mm : float
        All but a hundredth of the surface moved less.
    over_share : float
        Share of the new surface over ``OVER_MM`` from the old one, or of the old from the new: the greater.
    """

    greatest_mm: float
    most_mm: float
    over_share: float


NONE = Move(0.0, 0.0, 0.0)


def measure_move(old: Mesh, new: Mesh) -> Move:
    """Measure how far a surface moved.

    Parameters
    ----------
    old, new : Mesh

    Returns
    -------
    Move
        Both ways; of the old surface only over facets that part inside from outside.
    """
    if not len(new.faces):
        return NONE
    away = Tree.of(old).distances(_samples(new)[0])
    points, facing = _samples(old)
    gone = Tree.of(new).distances(points)
    # Which side is inside is asked only of places that are gone: it takes far longer.
    left = np.flatnonzero(gone > SEEN_MM)
    gone[left[~_parts(old, points[left], facing[left])]] = 0.0
    both = [d for d in (away, gone) if len(d)]
    corners = np.unique(new.faces)[:: max(1, len(new.vertices) // MOST_CORNERS)]
    greatest = [float(d.max()) for d in both] + [float(Tree.of(old).distances(new.vertices[corners]).max())]
    return Move(
        max(greatest),
        max(float(np.quantile(d, 0.99)) for d in both),
        max(float((d > OVER_MM).mean()) for d in both),
    )


def moved_mm(old: Mesh, new: Mesh) -> NDArray[np.float64]:
    """Distance (n,) of each corner of the new surface from the old one, mm."""
    return Tree.of(old).distances(new.vertices)


def winding_volume_mm3(mesh: Mesh) -> float:
    """Volume of where the winding number is over one half, counted at places spread over the box.

    Notes
    -----
    A place at random in each cell of a grid: of a bulky part the error is under half a percent (own
    measurement).
    """
    low, high = mesh.bounds
    cell = (high - low) / CELLS
    rng = np.random.default_rng(SEED)
    cells = np.stack(np.meshgrid(*[np.arange(CELLS)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    points = low + (cells + rng.random(cells.shape)) * cell
    inside = Tree.of(mesh).winding(points) > 0.5
    return float(inside.mean() * (high - low).prod())


def _samples(mesh: Mesh) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places (k, 3) on a surface, spread by area, and the normals there."""
    normals, areas = facet_normals(mesh)
    total = float(areas.sum())
    if not total > 0:
        return np.zeros((0, 3)), np.zeros((0, 3))
    rng = np.random.default_rng(SEED)
    facet = np.searchsorted(np.cumsum(areas), (np.arange(SAMPLES) + rng.random(SAMPLES)) * total / SAMPLES)
    facet = np.minimum(facet, len(areas) - 1)
    u, v = rng.random((2, SAMPLES))
    over = u + v > 1
    u[over], v[over] = 1 - u[over], 1 - v[over]
    a, b, c = (mesh.vertices[mesh.faces[facet, k]] for k in range(3))
    return a + u[:, None] * (b - a) + v[:, None] * (c - a), normals[facet]


def _parts(mesh: Mesh, points: NDArray[np.float64], normals: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Whether the surface parts inside from outside at places on it."""
    away = 1e-4 * float(mesh.size_mm.max()) * normals
    tree = Tree.of(mesh)
    front, behind = (np.abs(tree.winding(points + side * away)) > 0.5 for side in (1.0, -1.0))
    result: NDArray[np.bool_] = front != behind
    return result

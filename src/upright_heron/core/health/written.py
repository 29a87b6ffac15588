"""A surface as a file will have it: single precision, equal corners one, read back; judged as that."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.mesh import Mesh, distinct, edges, mass_properties, weld
from ..geometry.tree import Tree

# Crossings are counted up to so many.
MOST_COUNTED = 20_000


def as_written(mesh: Mesh) -> Mesh:
    """Return the mesh as it is read back from a file of single precision that knows no vertices.

    One that came from such a file is returned itself.
    """
    if not len(mesh.faces):
        return mesh
    single = mesh.vertices.astype(np.float32)
    f = mesh.faces
    whole = not ((f[:, 0] == f[:, 1]) | (f[:, 1] == f[:, 2]) | (f[:, 2] == f[:, 0])).any()
    if whole and (single == mesh.vertices).all() and distinct(single) == len(single):
        return mesh
    return weld(single[mesh.faces])


def step_mm(mesh: Mesh) -> float:
    """Step of single precision at the largest coordinate."""
    return float(np.spacing(np.float32(np.abs(mesh.vertices[mesh.faces]).max(initial=1e-30))))


@dataclass(frozen=True, slots=True)
class Verdict:
    """What is left of a surface's defects, as it is read back.

    Attributes
    ----------
    open, crowded, clashing : int
        Edges with one facet, with three or more, and with facets that do not agree about outside.
    crossings : int
        Pairs of facets that pass through each other, ``MOST_COUNTED`` at most.
    facets : int
    volume_mm3 : float
    """

    open: int
    crowded: int
    clashing: int
    crossings: int
    facets: int
    volume_mm3: float

    @property
    def closed(self) -> bool:
        """No open and no crowded edge, and one direction."""
        return self.facets > 0 and self.open == self.crowded == self.clashing == 0

    @property
    def sound(self) -> bool:
        """Closed, and no facet passes through another."""
        return self.closed and self.crossings == 0

    @property
    def left(self) -> str:
        """What is left, in words; empty where the surface is sound."""
        counted = (
            (self.open, "open edge", "open edges"),
            (self.crowded, "edge of three facets or more", "edges of three facets or more"),
            (self.clashing, "edge that clashes", "edges that clash"),
            (self.crossings, "crossing", "crossings"),
        )
        return ", ".join(f"{n} {one if n == 1 else many}" for n, one, many in counted if n)

    def better_than(self, other: Verdict) -> bool:
        """Whether less is left: of edges first, of crossings then."""
        edges_left = self.open + self.crowded + self.clashing
        others = other.open + other.crowded + other.clashing
        if not self.facets:
            return False
        if self.closed != other.closed:
            return self.closed
        if self.closed:
            return self.crossings < other.crossings
        return (edges_left + self.crossings) < (others + other.crossings)


def judge(mesh: Mesh, crossings: NDArray[np.int64] | None = None) -> Verdict:
    """Judge a surface as it is read back from a file.

    Parameters
    ----------
    mesh : Mesh
    crossings : (k, 2) int64, optional
        Of the mesh, where they were looked for: not looked for again where it is as it is read back.

    Returns
    -------
    Verdict
    """
    back = as_written(mesh)
    if not len(back.faces):
        return Verdict(0, 0, 0, 0, 0, 0.0)
    shared = edges(back)
    if crossings is None or back is not mesh:
        crossings = Tree.of(back).crossings(MOST_COUNTED)
    volume = mass_properties(back).volume_mm3
    return Verdict(shared.open, shared.crowded, shared.clashing, len(crossings), len(back.faces), volume)

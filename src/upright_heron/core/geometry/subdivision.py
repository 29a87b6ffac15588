"""The fine mesh of a part: the same surface in facets small enough to paint on."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..tags import stored
from .adjacency import across_edges
from .mesh import Mesh, facet_normals

# Edges are no longer than this, or than this share of the longest side of the part.
EDGE_MM = 1.0
EDGE_SHARE = 1.0 / 400.0
# A part gets so many facets at most; one that comes with more keeps its own.
MOST_FACETS = 400_000


@stored("fine")
@dataclass(frozen=True, eq=False)
class Fine:
    """A fine mesh.

    Attributes
    ----------
    mesh : Mesh
        In the frame of the part; its facets tile those of the part.
    parent : (m,) int64
        The facet of the part that each lies in.
    edge_mm : float
        No edge is longer.
    """

    mesh: Mesh
    parent: NDArray[np.int64]
    edge_mm: float

    @cached_property
    def normals(self) -> NDArray[np.float64]:
        """Unit normals (m, 3)."""
        return facet_normals(self.mesh)[0]

    @cached_property
    def areas_mm2(self) -> NDArray[np.float64]:
        """Areas (m,)."""
        return facet_normals(self.mesh)[1]

    @cached_property
    def middles_mm(self) -> NDArray[np.float64]:
        """Centroids (m, 3)."""
        result: NDArray[np.float64] = self.mesh.vertices[self.mesh.faces].mean(axis=1)
        return result

    @cached_property
    def pairs(self) -> NDArray[np.int64]:
        """Facets (k, 2) that share an edge, each pair once."""
        across = across_edges(self.mesh)
        facet, side = np.nonzero(across > np.arange(len(across))[:, None])
        result: NDArray[np.int64] = np.column_stack([facet, across[facet, side]]).astype(np.int64)
        return result


def refined(mesh: Mesh, most: int = MOST_FACETS) -> Fine:
    """Refine a part; the same part gives the same mesh to the bit.

    Parameters
    ----------
    mesh : Mesh
    most : int
        So many facets at most; edges stay longer where they would be more.

    Returns
    -------
    Fine

    Notes
    -----
    Edges longer than the limit are halved in rounds, and each facet is cut along its new corners, so that
    neighbours stay joined: red-green refinement, R. Bank, A. Sherman, A. Weiser 1983 (from memory).
    """
    longest = float(mesh.size_mm.max()) if len(mesh.vertices) else 0.0
    edge = max(EDGE_MM, EDGE_SHARE * longest)
    if len(mesh.faces) >= most:
        return Fine(mesh, np.arange(len(mesh.faces), dtype=np.int64), edge)
    # Finer and finer, as long as the facets are not too many: slivers give many more than their area tells.
    stages = [edge * 2.0 ** (k / 2) for k in range(12, -1, -1)]
    state = (mesh.vertices, mesh.faces.astype(np.int64), np.arange(len(mesh.faces), dtype=np.int64))
    reached = longest
    for stage in stages:
        finer = _halved(*state, stage, most)
        if finer is None:
            break
        state, reached = finer, stage
    vertices, faces, parent = state
    order = np.argsort(parent, kind="stable")
    return Fine(Mesh(vertices, faces[order].astype(np.int32)), parent[order], reached)


def _halved(
    vertices: NDArray[np.float64],
    faces: NDArray[np.int64],
    parent: NDArray[np.int64],
    edge: float,
    most: int,
) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]] | None:
    """Vertices, facets and their parents with no edge longer than asked; ``None`` where they get too many."""
    while len(faces) <= most:
        ends = np.stack([faces, np.roll(faces, -1, axis=1)], axis=2)
        along = vertices[ends[:, :, 1]] - vertices[ends[:, :, 0]]
        long = np.einsum("ijk,ijk->ij", along, along) > edge * edge * (1 + 1e-9)
        touched = long.any(axis=1)
        if not touched.any():
            return vertices, faces, parent
        unique, index = np.unique(
            (ends.min(axis=2) * len(vertices) + ends.max(axis=2))[long], return_inverse=True
        )
        halves = 0.5 * (vertices[unique // len(vertices)] + vertices[unique % len(vertices)])
        middle = np.full(long.shape, -1, np.int64)
        middle[long] = len(vertices) + index
        vertices = np.concatenate([vertices, halves])
        cut, owner = _cut(faces[touched], middle[touched], vertices)
        faces = np.concatenate([faces[~touched], cut])
        parent = np.concatenate([parent[~touched], parent[touched][owner]])
    return None


def _cut(
    faces: NDArray[np.int64], middle: NDArray[np.int64], vertices: NDArray[np.float64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Cut facets along the middles of their edges (-1: not cut): new facets, and the old one of each."""
    pieces, owners = [], []
    number = np.arange(len(faces))
    cuts = (middle >= 0).sum(axis=1)
    # Turned so that the one edge that is cut (or the one that is not) comes first.
    first = np.where(cuts == 1, np.argmax(middle >= 0, axis=1), np.argmax(middle < 0, axis=1))
    turn = (first[:, None] + np.arange(3)) % 3
    rows = number[:, None]
    a, b, c = faces[rows, turn].T
    ab, bc, ca = middle[rows, turn].T

    def add(mask: NDArray[np.bool_], *corners: NDArray[np.int64]) -> None:
        pieces.append(np.column_stack([k[mask] for k in corners]))
        owners.append(number[mask])

    one, two, three = cuts == 1, cuts == 2, cuts == 3
    add(one, a, ab, c)
    add(one, ab, b, c)
    # Two cut edges, b-c and c-a: the tip at c, and a quadrilateral that is halved by its shorter diagonal.
    add(two, ca, bc, c)
    across = ((vertices[a] - vertices[bc]) ** 2).sum(axis=1)
    other = ((vertices[b] - vertices[ca]) ** 2).sum(axis=1)
    near = two & (across <= other)
    far = two & ~(across <= other)
    add(near, a, b, bc)
    add(near, a, bc, ca)
    add(far, a, b, ca)
    add(far, b, bc, ca)
    add(three, a, ab, ca)
    add(three, ab, b, bc)
    add(three, ca, bc, c)
    add(three, ab, bc, ca)
    return np.concatenate(pieces), np.concatenate(owners)

"""Closed solids: a thin wrapper of manifold3d, where a mesh becomes something that can be cut."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from manifold3d import CrossSection, Error, Manifold, Mesh64
from numpy.typing import NDArray

from ..errors import NotClosed
from .mesh import Mesh


@dataclass(frozen=True, eq=False)
class Solid:
    """A closed body that can be sliced, cut and combined.

    Attributes
    ----------
    manifold : manifold3d.Manifold
    """

    manifold: Any

    @classmethod
    def from_mesh(cls, mesh: Mesh) -> Solid:
        """Build a solid from a mesh.

        Raises
        ------
        NotClosed
            The surface has holes, or edges with more than two facets.
        """
        # manifold3d takes writable arrays only, so the frozen ones are copied.
        manifold = Manifold(Mesh64(np.array(mesh.vertices), mesh.faces.astype(np.uint64)))
        if manifold.status() != Error.NoError or manifold.is_empty():
            raise NotClosed(
                "The surface of the part is not closed.",
                "Mend the part first; until then only what needs no closed surface is shown.",
            )
        return cls(manifold)

    def transformed(self, rotation: NDArray[np.float64], offset_mm: NDArray[np.float64]) -> Solid:
        """Return the solid turned by ``rotation`` (3, 3) and then moved by ``offset_mm`` (3,)."""
        matrix = np.column_stack([rotation, offset_mm])
        return Solid(self.manifold.transform(matrix))

    def section(self, z_mm: float) -> CrossSection:
        """Cross-section parallel to the plate at the height ``z_mm``."""
        return self.manifold.slice(z_mm)

    @property
    def volume_mm3(self) -> float:
        """Volume of the solid."""
        return float(self.manifold.volume())

    @property
    def bounds(self) -> NDArray[np.float64]:
        """(2, 3) float64: lowest and highest corner, mm."""
        return np.asarray(self.manifold.bounding_box(), dtype=np.float64).reshape(2, 3)

    def mesh(self) -> Mesh:
        """Return the surface as a mesh."""
        out = self.manifold.to_mesh64()
        return Mesh(np.asarray(out.vert_properties)[:, :3], np.asarray(out.tri_verts).astype(np.int32))


def turned_out(hollow: Any) -> Any:
    """A hollow, which faces inwards, as the body that would fill it."""
    shell = hollow.to_mesh64()
    return Manifold(Mesh64(np.array(shell.vert_properties)[:, :3], np.array(shell.tri_verts)[:, ::-1].copy()))


def bodies_of(manifold: Any) -> list[Any]:
    """Separate bodies of a solid, each with the hollows that are shut in it, the largest first.

    The library takes every closed surface apart from the others: a hollow comes as one that faces inwards.
    """
    shells = manifold.decompose()
    outer = [shell for shell in shells if shell.volume() > 0]
    outer.sort(key=lambda shell: -float(shell.volume()))
    if len(outer) == len(shells):
        return outer
    inner: list[list[Any]] = [[] for _ in outer]
    for shell in shells:
        if shell.volume() > 0:
            continue
        filled = turned_out(shell)
        # Bodies may lie in each other's hollows: the smallest that is round this one is the one it is in.
        for k in range(len(outer) - 1, -1, -1):
            if float((outer[k] ^ filled).volume()) > 0.5 * float(filled.volume()):
                inner[k].append(filled)
                break
    return [body - union(own) if own else body for body, own in zip(outer, inner, strict=True)]


def union(solids: list[Any]) -> Any:
    """Unite manifold3d bodies; an empty list gives an empty body."""
    from manifold3d import OpType

    return Manifold.batch_boolean(solids, OpType.Add) if solids else Manifold()


def concatenated(meshes: list[Mesh]) -> Mesh:
    """Put meshes side by side in one, without uniting them: enough to look at, not to print."""
    if not meshes:
        return Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
    starts = np.cumsum([0] + [len(m.vertices) for m in meshes[:-1]])
    return Mesh(
        np.concatenate([m.vertices for m in meshes]),
        np.concatenate([m.faces + np.int32(s) for m, s in zip(meshes, starts, strict=True)]),
    )


def taken_apart(mesh: Mesh, ends: Sequence[int]) -> list[Mesh]:
    """Take meshes apart that were put side by side: ``ends`` counts the facets up to the last of each."""
    found = []
    for first, end in itertools.pairwise([0, *ends]):
        corners, faces = np.unique(mesh.faces[first:end], return_inverse=True)
        found.append(Mesh(mesh.vertices[corners], faces.reshape(-1, 3).astype(np.int32)))
    return found

"""Facets turned so that the surface faces outwards."""

from __future__ import annotations

from ..geometry.mesh import Mesh
from .defects import orientation


def face_outwards(mesh: Mesh) -> tuple[Mesh, str]:
    """Turn facets round so that those of a body agree and it faces outwards."""
    flip = orientation(mesh).flip
    if not flip.any():
        return mesh, ""
    faces = mesh.faces.copy()
    faces[flip] = faces[flip][:, ::-1]
    return Mesh(mesh.vertices, faces), f"{int(flip.sum())} facets turned to face outwards"

"""Writing binary STL."""

from __future__ import annotations

import numpy as np

from ..formats.stl import RECORD
from ..geometry.mesh import Mesh, facet_normals


def write_stl(mesh: Mesh) -> bytes:
    """Write a mesh as binary STL: 80 + 4 + 50 n bytes, millimetres."""
    records = np.zeros(len(mesh.faces), RECORD)
    if len(mesh.faces):
        records["normal"] = facet_normals(mesh)[0]
        records["corners"] = mesh.vertices[mesh.faces]
    # The header must not begin with "solid": that word marks the ASCII form.
    header = b"binary STL, millimetres".ljust(80, b" ")
    return header + np.uint32(len(mesh.faces)).tobytes() + records.tobytes()

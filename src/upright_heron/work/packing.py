"""Objects set out beside each other for the files that leave."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..core.geometry.mesh import Mesh
from ..core.handoff.threemf import FileObject, write_3mf
from ..core.split.grid import Split
from ..sheet.models import JobSheet


def moved(mesh: Mesh, x: float = 0.0, y: float = 0.0, z: float = 0.0) -> Mesh:
    """Return a mesh somewhere else; one without facets stays as it is."""
    return Mesh(mesh.vertices + [x, y, z], mesh.faces) if len(mesh.faces) and (x or y or z) else mesh


# Room between parts that are handed off together (common practice: 2 to 5 mm).
ROW_GAP_MM = 5.0


def in_rows(groups: list[list[FileObject]]) -> list[FileObject]:
    """Set groups of objects out in rows beside each other, about as wide as deep, none over another."""
    corners = [np.concatenate([i.mesh.bounds for i in group if len(i.mesh.faces)]) for group in groups]
    boxes = [(found.min(axis=0), found.max(axis=0)) for found in corners]
    width = sum(float(np.prod(high[:2] - low[:2] + ROW_GAP_MM)) for low, high in boxes) ** 0.5
    placed, x, y, deepest = [], 0.0, 0.0, 0.0
    for group, (low, high) in zip(groups, boxes, strict=True):
        if x > 0 and x + high[0] - low[0] > width:
            x, y, deepest = 0.0, y + deepest + ROW_GAP_MM, 0.0
        placed += [replace(item, mesh=moved(item.mesh, x - low[0], y - low[1])) for item in group]
        x += high[0] - low[0] + ROW_GAP_MM
        deepest = max(deepest, high[1] - low[1])
    return placed


def pieces_3mf(sheet: JobSheet, split: Split) -> bytes:
    """All pieces of a split part as one 3MF, set out in rows beside each other, on the plate."""
    groups = [
        [FileObject(f"part {sheet.name} piece {p.number}", moved(p.mesh, z=-float(p.mesh.bounds[0][2])))]
        for p in split.pieces
    ]
    return write_3mf(in_rows(groups), f"{sheet.name}, {len(groups)} pieces")

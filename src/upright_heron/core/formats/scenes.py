"""Formats that libraries read: PLY and GLB by trimesh, STEP by OpenCASCADE through cascadio."""

from __future__ import annotations

import io
import re
from typing import Any

import numpy as np

from ..errors import BadValue, EmptyFile, NotAMesh, TruncatedFile
from .contents import EXPORT_AGAIN, Body, Contents
from .glb import DAMAGED, lightened

# Largest turn between neighbouring facets of a curved STEP face, radians.
STEP_ANGLE = 0.5


def read_ply(data: bytes) -> Contents:
    """Read a PLY file, text or binary.

    Raises
    ------
    BadFile
        Damaged, or points without faces.
    """
    import trimesh

    head = data[: data.find(b"end_header") + 10] if b"end_header" in data[:100_000] else b""
    if not head:
        raise TruncatedFile("The head of the PLY file does not end.", DAMAGED)
    for name, count in re.findall(rb"element\s+(\w+)\s+(\d+)", head):
        # Each entry takes a byte at least: a count beyond that is a slip or a trap.
        if int(count) > len(data):
            raise TruncatedFile(
                f"The file declares {int(count):,} entries in “{name.decode('ascii', 'replace')[:20]}”"
                " and is far too short.",
                DAMAGED,
            )
    try:
        found = trimesh.load(io.BytesIO(data), file_type="ply", process=False, force="mesh")
    except Exception as error:
        raise TruncatedFile("The PLY file breaks off or is damaged.", DAMAGED) from error
    return Contents("PLY", None, (_body(found, "part", 1.0),))


def read_glb(data: bytes) -> Contents:
    """Read a binary glTF 2.0 file: metres, y up, turned to z up; each node with a mesh is a body.

    Raises
    ------
    BadFile
        Damaged, with references out of the file, or without a surface.
    """
    return Contents("GLB", "meter", _scene(lightened(data), upright=True))


def read_step(data: bytes, tolerance_mm: float = 0.1) -> Contents:
    """Read a STEP file; its faces become facets that keep within a tolerance.

    Parameters
    ----------
    data : bytes
    tolerance_mm : float

    Raises
    ------
    BadFile
        Damaged, or without a solid or face.
    BadValue
        The tolerance is not positive.
    """
    import cascadio

    if not tolerance_mm > 0:
        raise BadValue("The tolerance of a STEP file has to be more than 0 mm.", "Type a length such as 0.1.")
    # Serial: the worker processes share the cores already.
    found = cascadio.to_glb_bytes(data, cascadio.FileType.STEP, tolerance_mm, STEP_ANGLE, use_parallel=False)
    if not found:
        raise TruncatedFile("The STEP file breaks off or is damaged.", DAMAGED)
    return Contents("STEP", "millimeter", _scene(found, upright=False))


def _scene(data: bytes, *, upright: bool) -> tuple[Body, ...]:
    import trimesh

    try:
        scene = trimesh.load_scene(io.BytesIO(data), file_type="glb", process=False)
        parts = scene.dump()
    except Exception as error:
        raise TruncatedFile("The GLB file is damaged, or refers to other files.", DAMAGED) from error
    bodies = []
    for number, part in enumerate(parts, 1):
        if isinstance(part, trimesh.Trimesh) and len(part.faces):
            name = str(part.metadata.get("name") or part.metadata.get("node") or f"body {number}")
            body = _body(part, name, 1000.0)
            # glTF has y upwards, build plates have z.
            turned = (
                body.corners[:, :, [0, 2, 1]] * np.array([1, -1, 1], np.float32) if upright else body.corners
            )
            bodies.append(Body(name, np.ascontiguousarray(turned)))
    if not bodies:
        raise EmptyFile("The file has no body with a surface.", EXPORT_AGAIN)
    return tuple(bodies)


def _body(found: Any, name: str, scale: float) -> Body:
    if getattr(found, "faces", None) is None or not len(found.faces):
        raise EmptyFile("The file has points but no faces.", EXPORT_AGAIN)
    faces, vertices = np.asarray(found.faces), np.asarray(found.vertices, np.float64)
    if faces.min() < 0 or faces.max() >= len(vertices):
        raise NotAMesh("Faces of the file use corners that it does not have.", EXPORT_AGAIN)
    with np.errstate(over="ignore"):
        return Body(name, (vertices[faces] * scale).astype(np.float32))

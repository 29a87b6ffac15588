"""OBJ: corners, faces with any number of corners, and the groups and objects that they stand in."""

from __future__ import annotations

import numpy as np
from manifold3d import triangulate
from numpy.typing import NDArray

from ..errors import BadCoordinates, EmptyFile, NotAMesh
from .contents import EXPORT_AGAIN, Body, Contents


def read_obj(data: bytes) -> Contents:
    """Read an OBJ file: each group or object is a body. Materials, lines and points are passed over.

    Parameters
    ----------
    data : bytes
        Text; other encodings than UTF-8 are told by their byte order mark.

    Returns
    -------
    Contents

    Raises
    ------
    BadFile
        Not OBJ, damaged, or without a face.
    """
    text = _decoded(data).replace("\\\r\n", " ").replace("\\\n", " ")
    points: list[tuple[float, float, float]] = []
    groups: dict[str, list[list[int]]] = {}
    current = groups.setdefault("part", [])
    for number, line in enumerate(text.splitlines(), 1):
        words = line.split()
        if not words:
            continue
        kind = words[0]
        try:
            if kind == "v":
                points.append((float(words[1]), float(words[2]), float(words[3])))
            elif kind == "f":
                face = [int(word.partition("/")[0]) for word in words[1:]]
                # Numbers below zero count back from the last corner so far.
                face = [i - 1 if i > 0 else len(points) + i for i in face]
                if len(face) > 2:
                    current.append(face)
            elif kind in ("g", "o"):
                current = groups.setdefault(" ".join(words[1:]) or "part", [])
        except (ValueError, IndexError) as error:
            if kind == "v":
                raise BadCoordinates(
                    f"Line {number} is not a corner of three numbers.", EXPORT_AGAIN
                ) from error
            raise NotAMesh(f"Line {number} is not a face.", EXPORT_AGAIN) from error
    if not points and not any(groups.values()):
        raise NotAMesh("This is not an OBJ file: it has neither corners nor faces.", EXPORT_AGAIN)
    table = np.array(points, np.float64).reshape(-1, 3)
    bodies = []
    for name, faces in groups.items():
        if not faces:
            continue
        facets = _triangles(table, faces)
        if facets.min() < 0 or facets.max() >= len(table):
            raise NotAMesh(f"Faces of “{name[:40]}” use corners that the file does not have.", EXPORT_AGAIN)
        with np.errstate(over="ignore"):
            bodies.append(Body(name, table[facets].astype(np.float32)))
    if not bodies:
        raise EmptyFile("The file has corners but no faces.", EXPORT_AGAIN)
    return Contents("OBJ", None, tuple(bodies))


def _decoded(data: bytes) -> str:
    for mark, encoding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig")):
        if data.startswith(mark):
            return data.decode(encoding, errors="replace")
    return data.decode("utf-8", errors="replace")


def _triangles(points: NDArray[np.float64], faces: list[list[int]]) -> NDArray[np.int64]:
    plain = [face for face in faces if len(face) == 3]
    found = [np.array(plain, np.int64).reshape(-1, 3)]
    for face in faces:
        if len(face) == 3:
            continue
        index = np.array(face, np.int64)
        if index.min() < 0 or index.max() >= len(points):
            raise NotAMesh("A face uses corners that the file does not have.", EXPORT_AGAIN)
        found.append(index[_parted(points[index])])
    return np.concatenate(found)


def _parted(corners: NDArray[np.float64]) -> NDArray[np.int64]:
    """Part a polygon (n, 3), concave or not, in its own plane; a fan where it has none."""
    after = np.roll(corners, -1, axis=0)
    normal = np.cross(corners - corners[0], after - corners[0]).sum(axis=0)
    k = np.arange(1, len(corners) - 1)
    fan = np.column_stack([np.zeros_like(k), k, k + 1])
    length = float(np.linalg.norm(normal))
    if not np.isfinite(corners).all() or length == 0:
        return fan
    along = np.eye(3)[int(np.argmin(np.abs(normal)))]
    u = np.cross(normal, along)
    u /= np.linalg.norm(u)
    flat = np.column_stack([corners @ u, corners @ np.cross(normal / length, u)])
    found = np.asarray(triangulate([flat], -1.0, True), np.int64).reshape(-1, 3)
    return found if len(found) == len(corners) - 2 else fan

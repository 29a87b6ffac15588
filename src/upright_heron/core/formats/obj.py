"""OBJ: corners, faces with any number of corners, and the groups and objects that they stand in."""

from __future__ import annotations

import io
from array import array

import numpy as np
from manifold3d import triangulate
from numpy.typing import NDArray

from ..errors import BadCoordinates, EmptyFile, NotAMesh
from .contents import EXPORT_AGAIN, Body, Contents

# More corners than any file that is taken in has room for.
MOST_CORNERS = 2**31


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
    # Flat arrays: lists of lists take ten times the room.
    points = array("d")
    groups: dict[str, _Group] = {}
    current = groups.setdefault("part", _Group())
    for number, line in enumerate(io.StringIO(text), 1):
        words = line.split()
        if not words:
            continue
        kind = words[0]
        try:
            if kind == "v":
                points.extend((float(words[1]), float(words[2]), float(words[3])))
            elif kind == "f":
                current.add(_face(words, len(points) // 3))
            elif kind in ("g", "o"):
                current = groups.setdefault(" ".join(words[1:]) or "part", _Group())
        except (ValueError, IndexError) as error:
            if kind == "v":
                raise BadCoordinates(
                    f"Line {number} is not a corner of three numbers.", EXPORT_AGAIN
                ) from error
            raise NotAMesh(f"Line {number} is not a face.", EXPORT_AGAIN) from error
    if not points and not any(group.filled for group in groups.values()):
        raise NotAMesh("This is not an OBJ file: it has neither corners nor faces.", EXPORT_AGAIN)
    table = np.array(points, np.float64).reshape(-1, 3)
    bodies = []
    for name, group in groups.items():
        if not group.filled:
            continue
        facets = group.facets(table)
        if facets.min() < 0 or facets.max() >= len(table):
            raise NotAMesh(f"Faces of “{name[:40]}” use corners that the file does not have.", EXPORT_AGAIN)
        with np.errstate(over="ignore"):
            bodies.append(Body(name, table.astype(np.float32)[facets]))
    if not bodies:
        raise EmptyFile("The file has corners but no faces.", EXPORT_AGAIN)
    return Contents("OBJ", None, tuple(bodies))


def _face(words: list[str], so_far: int) -> list[int]:
    """Corners of a face, from 0; numbers below zero count back from the last corner so far."""
    face = [int(word.partition("/")[0]) for word in words[1:]]
    face = [i - 1 if i > 0 else so_far + i for i in face]
    if max(face, default=0) > MOST_CORNERS or min(face, default=0) < 0:
        raise ValueError(face)
    return face


class _Group:
    """Faces of one group: triangles, and others."""

    def __init__(self) -> None:
        self.triangles = array("q")
        self.others: list[list[int]] = []

    @property
    def filled(self) -> bool:
        """Whether it has a face."""
        return bool(self.triangles or self.others)

    def add(self, face: list[int]) -> None:
        """Add a face of three corners or more."""
        if len(face) == 3:
            self.triangles.extend(face)
        elif len(face) > 3:
            self.others.append(face)

    def facets(self, points: NDArray[np.float64]) -> NDArray[np.int64]:
        """Its triangles (m, 3), those that others are parted into behind them.

        Parameters
        ----------
        points : (n, 3) float64

        Returns
        -------
        (m, 3) int64

        Raises
        ------
        NotAMesh
            A face uses corners beyond the last.
        """
        found = [np.array(self.triangles, np.int64).reshape(-1, 3)]
        for face in self.others:
            index = np.array(face, np.int64)
            if index.max() >= len(points):
                raise NotAMesh("A face uses corners that the file does not have.", EXPORT_AGAIN)
            found.append(index[_parted(points[index])])
        return np.concatenate(found)


def _decoded(data: bytes) -> str:
    for mark, encoding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig")):
        if data.startswith(mark):
            return data.decode(encoding, errors="replace")
    return data.decode("utf-8", errors="replace")


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

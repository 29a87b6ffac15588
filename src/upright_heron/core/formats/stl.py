"""STL, binary and ASCII, after the StereoLithography interface specification of 1989 (from memory)."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import (
    BadCoordinates,
    EmptyFile,
    LyingCount,
    NoExtent,
    NotAMesh,
    TruncatedFile,
)
from ..mesh import Mesh, edges, mass_properties, weld

HEADER = 84
RECORD = np.dtype([("normal", "<f4", (3,)), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])
EXPORT_AGAIN = "Export it again from the program that made it, as binary STL."

_NUMBER = rb"([-+0-9.a-zA-Z]+)"
_VERTEX = re.compile(rb"\bvertex\s+" + _NUMBER + rb"\s+" + _NUMBER + rb"\s+" + _NUMBER, re.IGNORECASE)
_FACET = re.compile(rb"\bfacet\s+normal\b", re.IGNORECASE)
_END = re.compile(rb"\bendsolid\b", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Reading:
    """A mesh read from a file, and what was done to it on the way in.

    Attributes
    ----------
    mesh : Mesh
    dropped : int
        Facets left out because two of their corners are the same point.
    turned : bool
        The whole closed surface faced inwards and was turned outwards.
    """

    mesh: Mesh
    dropped: int
    turned: bool


def read_stl(data: bytes) -> Reading:
    """Read a binary or ASCII STL file.

    Parameters
    ----------
    data : bytes
        The whole file.

    Returns
    -------
    Reading

    Raises
    ------
    EmptyFile
        No bytes, or no facets.
    NotAMesh
        Neither a binary nor an ASCII STL.
    TruncatedFile
        Ends before the declared count, or in the middle of an ASCII facet.
    LyingCount
        Holds more than the declared count.
    BadCoordinates
        NaN or infinite coordinates.
    NoExtent
        All facets fall on one line or point.
    """
    if not data:
        raise EmptyFile("The file is empty: it has no bytes.", EXPORT_AGAIN)
    corners = _ascii_corners(data) if _is_ascii(data) else _binary_corners(data)
    if not len(corners):
        raise EmptyFile("The file has no facets.", EXPORT_AGAIN)
    bad = ~np.isfinite(corners).all(axis=(1, 2))
    if bad.any():
        first = int(np.argmax(bad))
        raise BadCoordinates(
            f"{int(bad.sum())} of {len(corners)} facets have coordinates that are not numbers"
            f" (the first is facet {first + 1}).",
            EXPORT_AGAIN,
        )
    mesh = weld(corners)
    if not len(mesh.faces) or int((mesh.size_mm > 0).sum()) < 2:
        raise NoExtent(
            "The part has no size: all its facets fall on one line or point.",
            "Check the unit and the scale it was exported with.",
        )
    dropped = len(corners) - len(mesh.faces)
    turned = edges(mesh).closed and mass_properties(mesh).volume_mm3 < 0
    if turned:
        mesh = Mesh(mesh.vertices, mesh.faces[:, ::-1])
    return Reading(mesh, dropped, turned)


def _is_ascii(data: bytes) -> bool:
    # Many binary files begin with "solid" too, so a length that fits the binary count settles it first.
    if len(data) >= HEADER:
        count = int.from_bytes(data[80:84], "little")
        if len(data) == HEADER + RECORD.itemsize * count:
            return False
    head = data[:4096].lstrip().lower()
    return head.startswith(b"solid") and (b"facet" in head or b"endsolid" in head)


def _binary_corners(data: bytes) -> NDArray[np.float32]:
    if len(data) < HEADER or _looks_like_text(data):
        raise NotAMesh(
            "This is not an STL file: it is neither binary STL nor ASCII STL.",
            "Upload a mesh file; drawings, documents and archives have to be exported as STL first.",
        )
    count = int.from_bytes(data[80:84], "little")
    expected = HEADER + RECORD.itemsize * count
    if len(data) < expected:
        held = (len(data) - HEADER) // RECORD.itemsize
        raise TruncatedFile(
            f"The file ends early: it declares {count:,} facets and holds {held:,}.",
            "Copy or download it again; if it stays short, export it again.",
        )
    if len(data) > expected:
        held = (len(data) - HEADER) // RECORD.itemsize
        raise LyingCount(
            f"The facet count is wrong: the file declares {count:,} facets and holds {held:,}.", EXPORT_AGAIN
        )
    corners: NDArray[np.float32] = np.frombuffer(data, RECORD, count, HEADER)["corners"].astype(np.float32)
    return corners


def _looks_like_text(data: bytes) -> bool:
    sample = data[:2048]
    printable = sum(32 <= byte < 127 or byte in (9, 10, 13) or byte >= 160 for byte in sample)
    return b"\0" not in sample and printable > 0.97 * len(sample)


def _ascii_corners(data: bytes) -> NDArray[np.float32]:
    found = _VERTEX.findall(data)
    facets = len(_FACET.findall(data))
    if len(found) != 3 * facets or not _END.search(data):
        raise TruncatedFile(
            f"The text of the file is incomplete: {facets:,} facets begin and {len(found):,} corners follow"
            f" ({3 * facets:,} are needed, and a closing line).",
            "Copy or download it again; if it stays short, export it again.",
        )
    try:
        values = np.array(found, dtype=np.bytes_).astype(np.float64)
    except ValueError as error:
        raise BadCoordinates(
            "The text of the file has a corner that is not made of three numbers.", EXPORT_AGAIN
        ) from error
    with np.errstate(over="ignore"):  # a number beyond single precision becomes infinite and is refused above
        return values.astype(np.float32).reshape(-1, 3, 3)

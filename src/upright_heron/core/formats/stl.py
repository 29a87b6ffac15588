"""STL, binary and ASCII, after the StereoLithography interface specification of 1989 (from memory)."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ..errors import BadCoordinates, EmptyFile, LyingCount, NotAMesh, TruncatedFile
from .contents import EXPORT_AGAIN

if TYPE_CHECKING:
    from .reading import Reading

HEADER = 84
RECORD = np.dtype([("normal", "<f4", (3,)), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])

# A number of more digits is none that anybody writes: all of them take as much room as the longest.
_NUMBER = rb"([-+0-9.a-zA-Z]{1,80})"
_VERTEX = re.compile(rb"\bvertex\s+" + _NUMBER + rb"\s+" + _NUMBER + rb"\s+" + _NUMBER, re.IGNORECASE)
_FACET = re.compile(rb"\bfacet\s+normal\b", re.IGNORECASE)
_END = re.compile(rb"\bendsolid\b", re.IGNORECASE)


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
    from .reading import finish

    return finish(stl_corners(data))


def stl_corners(data: bytes) -> NDArray[np.float32]:
    """Corners (m, 3, 3) of the facets of a binary or ASCII STL file.

    Raises
    ------
    BadFile
        As for ``read_stl``, without the errors of what the corners make.
    """
    if not data:
        raise EmptyFile("The file is empty: it has no bytes.", EXPORT_AGAIN)
    return _ascii_corners(data) if _is_ascii(data) else _binary_corners(data)


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
            "This is not a mesh file: it is neither STL nor any other format that is read here.",
            "Use STL, OBJ, PLY, 3MF, GLB, AMF or STEP; drawings and documents have to be exported first.",
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

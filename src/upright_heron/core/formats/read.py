"""Reading a mesh file of any kind, told by its bytes; its name only helps where they do not tell."""

from __future__ import annotations

from ..errors import EmptyFile, NotAMesh
from .amf import read_amf
from .archive import Archive
from .contents import EXPORT_AGAIN, Body, Contents
from .obj import read_obj
from .scenes import read_glb, read_ply, read_step
from .stl import stl_corners
from .threemf import read_3mf

SUFFIXES = (".stl", ".obj", ".ply", ".3mf", ".glb", ".amf", ".step", ".stp")


def read(data: bytes, file_name: str = "", *, tolerance_mm: float = 0.1) -> Contents:
    """Read a file.

    Parameters
    ----------
    data : bytes
    file_name : str
    tolerance_mm : float
        For the curved faces of STEP.

    Returns
    -------
    Contents

    Raises
    ------
    BadFile
        Cannot become a part; see ``core.errors``.
    """
    if not data:
        raise EmptyFile("The file is empty: it has no bytes.", EXPORT_AGAIN)
    suffix = "." + file_name.lower().rpartition(".")[2]
    head = data[:4096]
    if head[:4] == b"PK\x03\x04" or suffix == ".3mf":
        return _archive(data, suffix)
    if head[:4] == b"glTF":
        return read_glb(data)
    if head[:3] == b"ply" and head[3:4] in b"\r\n ":
        return read_ply(data)
    if b"ISO-10303-21" in head[:512]:
        return read_step(data, tolerance_mm)
    text = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    if text[:1] == b"<":
        if b"<amf" in head.lower() or (suffix == ".amf" and b"<amf" in data):
            return read_amf(data)
        raise NotAMesh("This is an XML file, but not AMF.", "Use STL, OBJ, PLY, 3MF, GLB, AMF or STEP.")
    if suffix == ".obj":
        return read_obj(data)
    if suffix in (".ply", ".glb", ".amf", ".step", ".stp"):
        raise NotAMesh(
            f"This is no {suffix[1:].upper()} file, whatever its name says.",
            "Export it again, or check its name.",
        )
    return Contents("STL", None, (Body("part", stl_corners(data)),))


def _archive(data: bytes, suffix: str) -> Contents:
    names = [name.lower() for name in Archive(data).names]
    if any(name.endswith(".model") for name in names):
        return read_3mf(data)
    if suffix == ".amf" or any(name.endswith(".amf") for name in names):
        return read_amf(data)
    raise NotAMesh("This is an archive, but neither 3MF nor AMF.", "Unpack it and upload the meshes inside.")

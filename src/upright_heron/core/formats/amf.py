"""AMF, plain or zipped, after ISO/ASTM 52915: objects, volumes and constellations' parts as they stand."""

from __future__ import annotations

import numpy as np

from ..errors import EmptyFile, NotAMesh
from .archive import Archive
from .contents import EXPORT_AGAIN, MM_OF, Body, Contents
from .xml import parse

# The standard's names of units, and the common slip for one of them.
UNITS = {
    "inch": "inch",
    "millimeter": "millimeter",
    "meter": "meter",
    "feet": "foot",
    "foot": "foot",
    "micron": "micron",
}


def read_amf(data: bytes) -> Contents:
    """Read an AMF file: each volume of an object is a body, as those of several materials are.

    Parameters
    ----------
    data : bytes

    Returns
    -------
    Contents

    Raises
    ------
    BadFile
        Not AMF, damaged, or without a surface.
    """
    if data[:2] == b"PK":
        archive = Archive(data)
        inner = [name for name in archive.names if name.lower().endswith((".amf", ".xml"))]
        if not inner:
            raise NotAMesh("The archive holds no AMF file.", "Unpack it and upload the mesh inside.")
        data = archive.read(inner[0])
    unit = ["millimeter"]
    objects: list[tuple[str, list[float], list[list[int]]]] = []
    text: list[str] = []
    coordinates = {"x", "y", "z"}
    facet = {"v1", "v2", "v3"}
    path: list[str] = []

    def start(name: str, attributes: dict[str, str]) -> None:
        path.append(name)
        text.clear()
        if name == "amf":
            stated = attributes.get("unit", "millimeter").lower()
            if stated not in UNITS:
                raise NotAMesh(f"The file states a unit that AMF does not have: {stated[:20]}.", EXPORT_AGAIN)
            unit[0] = UNITS[stated]
        elif name == "object":
            objects.append((attributes.get("id", ""), [], [[]]))
        elif name == "volume" and objects:
            objects[-1][2].append([])

    def end(name: str) -> None:
        path.pop()
        try:
            if name in coordinates and path[-1:] == ["coordinates"] and objects:
                objects[-1][1].append(float("".join(text)))
            elif name in facet and path[-1:] == ["triangle"] and objects:
                corner = int("".join(text))
                if not 0 <= corner < 2**31:
                    raise ValueError(corner)
                objects[-1][2][-1].append(corner)
        except ValueError as error:
            raise NotAMesh(f"A “{name}” in the file is not a number.", EXPORT_AGAIN) from error
        text.clear()

    parse(data, start, end, text.append)
    bodies = [body for one in objects for body in _bodies(*one, MM_OF[unit[0]])]
    if not bodies:
        raise EmptyFile("The file has no object with a surface.", EXPORT_AGAIN)
    return Contents("AMF", unit[0], tuple(bodies))


def _bodies(number: str, points: list[float], volumes: list[list[int]], scale: float) -> list[Body]:
    """Make bodies of the volumes of an object."""
    filled = [facets for facets in volumes if facets]
    if not filled:
        return []
    if len(points) % 3 or any(len(facets) % 3 for facets in filled):
        raise NotAMesh(f"Object {number[:20]} has incomplete corners or facets.", EXPORT_AGAIN)
    table = np.array(points, np.float64).reshape(-1, 3) * scale
    found = []
    for count, facets in enumerate(filled, 1):
        index = np.array(facets, np.int64).reshape(-1, 3)
        if index.min() < 0 or index.max() >= len(table):
            told = f"Facets of object {number[:20]} use corners that it does not have."
            raise NotAMesh(told, EXPORT_AGAIN)
        name = f"object {number}" if len(filled) == 1 else f"object {number}, volume {count}"
        with np.errstate(over="ignore"):
            found.append(Body(name, table[index].astype(np.float32)))
    return found

"""Taking a file in: from bytes to a kept mesh and the Part of a new sheet."""

from __future__ import annotations

import re
from pathlib import PurePath

from ..core.formats.stl import read_stl
from ..core.machines import Technology, printer
from ..core.mesh import facts
from ..sheet.models import JobSheet, Part
from ..store.store import Store

DEFAULT_PRINTER = "Sedge 300"


def clean_name(file_name: str) -> str:
    """File name without folders and control characters: names of uploads are anybody's words."""
    name = PurePath(file_name.replace("\\", "/")).name
    name = re.sub(r"[\x00-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]", "", name).strip()
    return name[:200] or "part.stl"


def job_name(file_name: str) -> str:
    """Name of a job proposed from a file name."""
    stem = re.sub(r"\.stl$", "", clean_name(file_name), flags=re.IGNORECASE)
    words = re.sub(r"[_\s]+", " ", stem).strip()
    return (words[:1].upper() + words[1:])[:120] or "Part"


def take_in(data: bytes, file_name: str, store: Store) -> Part:
    """Read a file, keep its mesh and describe it.

    Raises
    ------
    BadFile
        The file cannot become a part; see ``core.errors``.
    """
    reading = read_stl(data)
    known = facts(reading.mesh)
    notes = []
    if reading.dropped:
        notes.append(f"{reading.dropped} facets without area were left out.")
    if reading.turned:
        notes.append("The surface faced inwards and was turned outwards.")
    if not known.closed:
        e = known.edges
        kinds = [
            f"{count} {words}"
            for count, words in (
                (e.open, "open edges"),
                (e.crowded, "edges with three facets or more"),
                (e.clashing, "edges whose facets face opposite ways"),
            )
            if count
        ]
        notes.append(f"The surface is not closed: {', '.join(kinds)}. Layers are drawn as far as they close.")
    return Part(
        file_name=clean_name(file_name),
        mesh=store.keep_mesh(reading.mesh),
        facets=known.facets,
        size_mm=known.size_mm,
        volume_mm3=known.volume_mm3,
        area_mm2=known.area_mm2,
        closed=known.closed,
        shells=known.shells,
        open_edges=known.edges.open,
        notes=tuple(notes),
    )


def new_sheet(part: Part, name: str, printer_name: str = DEFAULT_PRINTER) -> JobSheet:
    """Sheet of a new job with the usual settings of a printer; nothing is carried over from other jobs."""
    machine = printer(printer_name)
    stuff = "PLA" if machine.technology is Technology.FILAMENT else "Standard resin"
    return JobSheet(name=name, part=part, printer=machine.name, material=stuff, layer_mm=machine.layer_mm)

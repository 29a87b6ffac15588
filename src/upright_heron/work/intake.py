"""Taking a file in: from bytes to a kept mesh and the Part of a new sheet."""

from __future__ import annotations

import re
from pathlib import PurePath

from ..core.errors import BadValue
from ..core.formats.read import SUFFIXES, read
from ..core.formats.reading import MM_OF
from ..core.machines import Technology, printer
from ..core.mend import Mended, mend
from ..core.mesh import Mesh, facts
from ..sheet.models import JobSheet, Part, Size
from ..sheet.shop import Calibration
from ..store.store import Store

DEFAULT_PRINTER = "Sedge 300"
OPEN = "The surface is not closed"


def clean_name(file_name: str) -> str:
    """File name without folders and control characters: names of uploads are anybody's words."""
    name = PurePath(file_name.replace("\\", "/")).name
    name = re.sub(r"[\x00-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]", "", name).strip()
    return name[:200] or "part.stl"


def job_name(file_name: str) -> str:
    """Name of a job proposed from a file name."""
    stem = clean_name(file_name)
    for suffix in SUFFIXES:
        if stem.lower().endswith(suffix):
            stem = stem[: -len(suffix)]
    words = re.sub(r"[_\s]+", " ", stem).strip()
    return (words[:1].upper() + words[1:])[:120] or "Part"


def take_in(data: bytes, file_name: str, store: Store, tolerance_mm: float = 0.1) -> Part:
    """Read a file, keep its mesh and describe it.

    Raises
    ------
    BadFile
        The file cannot become a part; see ``core.errors``.
    """
    contents = read(data, file_name, tolerance_mm=tolerance_mm)
    reading = contents.whole()
    notes = []
    if len(contents.bodies) > 1:
        notes.append(f"{len(contents.bodies)} bodies of the file are kept together.")
    if reading.dropped:
        notes.append(f"{reading.dropped} facets without area were left out.")
    if reading.turned:
        notes.append("The surface faced inwards and was turned outwards.")
    part = Part(
        file_name=clean_name(file_name),
        mesh="0" * 32,
        facets=0,
        size_mm=(0, 0, 0),
        volume_mm3=0,
        area_mm2=0,
        closed=False,
        shells=0,
        notes=tuple(notes),
        format=contents.format,
        stated_unit=contents.unit,
        mm_per_number=MM_OF[contents.unit or "millimeter"],
    )
    return described(reading.mesh, part, store)


def described(mesh: Mesh, like: Part, store: Store) -> Part:
    """Keep a mesh and describe it; where it came from is taken from another part."""
    known = facts(mesh)
    notes = [note for note in like.notes if not note.startswith(OPEN)]
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
        notes.append(f"{OPEN}: {', '.join(kinds)}. Layers are drawn as far as they close.")
    return Part.model_validate(
        {
            **like.model_dump(),
            "mesh": store.keep_mesh(mesh),
            "facets": known.facets,
            "size_mm": known.size_mm,
            "volume_mm3": known.volume_mm3,
            "area_mm2": known.area_mm2,
            "closed": known.closed,
            "shells": known.shells,
            "open_edges": known.edges.open,
            "notes": tuple(notes),
        }
    )


def resized(base: Part, size: Size, store: Store) -> Part:
    """Size a part.

    Raises
    ------
    BadValue
        A side would be thinner than a thousandth of a millimetre or longer than a hundred metres.
    """
    if size.untouched:
        return base
    sides = [abs(f) * side for f, side in zip(size.factors, base.size_mm, strict=True)]
    if max(sides) > 1e5 or max(sides) < 1e-3:
        raise BadValue(
            f"The part would be {max(sides):.3g} mm long.",
            "Check the unit, or type a size that a machine can make.",
        )
    return described(store.mesh(base.mesh).sized(size.factors), base, store)


def mended(base: Part, steps: tuple[str, ...] | None, store: Store) -> tuple[Part, Mended]:
    """Mend a part, all at once or by steps."""
    done = mend(store.mesh(base.mesh), steps)
    return (described(done.mesh, base, store) if done.done else base), done


def new_sheet(part: Part, name: str, printer_name: str = DEFAULT_PRINTER) -> JobSheet:
    """Sheet of a new job with the usual settings of a printer; nothing is carried over from other jobs."""
    machine = printer(printer_name)
    stuff = "PLA" if machine.technology is Technology.FILAMENT else "Standard resin"
    return JobSheet(name=name, part=part, printer=machine.name, material=stuff, layer_mm=machine.layer_mm)


def with_measured(sheet: JobSheet, store: Store) -> JobSheet:
    """Give a new job what the shop measured for its printer and material."""
    known = store.on_shelf(Calibration, f"{sheet.printer}|{sheet.material}")
    return sheet.model_copy(update={"calibration": known}) if known else sheet

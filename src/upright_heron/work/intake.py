"""Taking a file in: from bytes to a kept mesh and the Part of a new sheet."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import PurePath
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..core.errors import BadValue
from ..core.formats.contents import MM_OF, Body
from ..core.formats.read import SUFFIXES
from ..core.formats.reading import finish, kept_apart
from ..core.geometry.mesh import Mesh, facts
from ..core.geometry.solid import Solid, taken_apart
from ..core.geometry.subdivision import refined
from ..core.handoff.stl import write_stl
from ..core.health.mend import Mended, mend
from ..core.health.patching import separated
from ..core.hollow.hollowed import hollow_out
from ..core.layers.stack import LayerStack
from ..core.machines.catalogue import Printer, Technology, printer
from ..core.machines.coupons import coupon
from ..core.progress import Progress, silent
from ..core.split.pieces import Split
from ..core.stance.pose import place
from ..core.supports.byhand.brought import brought_columns
from ..core.toolpaths.bodies import places_on
from ..sheet.hollowing import DrilledHole, Hollowing
from ..sheet.item import UPRIGHT, HandWork, Item, brought_first, fresh_id, scaled
from ..sheet.models import ItemSheet, JobSheet
from ..sheet.part import MOST_BODIES, BodiesApart, Brought, Part, Size
from ..sheet.process import usual_footing
from ..sheet.shop import Calibration
from ..store.store import Store
from .marking import carried_over, kept
from .reading_apart import USUAL, Limits, read_apart

DEFAULT_PRINTER = "Sedge 300"
MOST_JOBS = 50
# What a job made of a body or piece has from the job it comes from.
TAKEN_ALONG = (
    "printer", "own_printer", "material", "own_material", "calibration", "layer_mm", "process", "asked",
)  # fmt: skip


def clean_name(file_name: str) -> str:
    """File name without folders and control characters: names of uploads are anybody's words."""
    return _without_controls(PurePath(file_name.replace("\\", "/")).name)[:200] or "part.stl"


def _without_controls(name: str) -> str:
    return re.sub(r"[\x00-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]", "", name).strip()


def job_name(file_name: str) -> str:
    """Name of a job proposed from a file name."""
    stem = clean_name(file_name)
    for suffix in SUFFIXES:
        if stem.lower().endswith(suffix):
            stem = stem[: -len(suffix)]
    words = re.sub(r"[_\s]+", " ", stem).strip()
    return (words[:1].upper() + words[1:])[:120] or "Part"


def take_in(
    data: bytes,
    file_name: str,
    store: Store,
    tolerance_mm: float = 0.1,
    *,
    limits: Limits = USUAL,
    progress: Progress = silent,
) -> Part:
    """Read a file, keep its mesh and describe it.

    Raises
    ------
    BadFile
        The file cannot become a part; see ``core.errors``.
    """
    contents = read_apart(data, file_name, tolerance_mm=tolerance_mm, limits=limits, progress=progress)
    reading = contents.whole()
    notes = []
    if len(contents.parts) > 1:
        told = "" if len(contents.parts) > MOST_BODIES else " A second nozzle can print any of them."
        notes.append(f"{len(contents.parts)} bodies of the file are kept together.{told}")
    if reading.dropped:
        notes.append(f"{reading.dropped} facets without area were left out.")
    if reading.turned:
        notes.append("The surface faced inwards and was turned outwards.")
    came = Came(clean_name(file_name), contents.format, contents.unit, MM_OF[contents.unit or "millimeter"])
    part = described(reading.mesh, came, tuple(notes), store)
    if contents.supports:
        beside = finish(np.concatenate([body.corners for body in contents.supports]))
        brought = Brought(mesh=store.keep_mesh(beside.mesh), count=len(contents.supports))
        part = part.model_copy(update={"brought": brought})
    part = part.model_copy(update={"bodies": _apart(contents.parts, store)})
    if reading.marks is None:
        return part
    fine = refined(reading.mesh)
    painted = kept(fine, reading.marks[fine.parent], part.mesh, store)
    return part.model_copy(update={"painted": painted})


def _apart(found: Sequence[Body], store: Store) -> BodiesApart | None:
    """Keep the bodies that a file tells apart: what touches is one in the surface of the part."""
    apart = kept_apart(found) if 1 < len(found) <= MOST_BODIES else None
    if apart is None:
        return None
    names = tuple(_without_controls(name)[:60] or f"body {k}" for k, name in enumerate(apart.names, 1))
    places = places_on(taken_apart(apart.mesh, apart.ends)).tolist()
    return BodiesApart(mesh=store.keep_mesh(apart.mesh), ends=apart.ends, names=names, at_mm=places)


class Came(NamedTuple):
    """Where a surface came from; its names are those of the fields of ``Part``."""

    file_name: str
    format: str
    stated_unit: str | None
    mm_per_number: float

    @classmethod
    def of(cls, part: Part) -> Came:
        """Where a part came from."""
        return cls(*(getattr(part, name) for name in cls._fields))


def described(mesh: Mesh, came: Came, notes: tuple[str, ...], store: Store) -> Part:
    """Keep a mesh and describe it."""
    known = facts(mesh)
    opened = ""
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
        opened = f"The surface is not closed: {', '.join(kinds)}. Layers are drawn as far as they close."
    return Part(
        **came._asdict(),
        mesh=store.keep_mesh(mesh),
        facets=known.facets,
        size_mm=known.size_mm,
        volume_mm3=known.volume_mm3,
        area_mm2=known.area_mm2,
        closed=known.closed,
        shells=known.shells,
        open_edges=known.edges.open,
        notes=notes,
        opened=opened,
    )


def _described_anew(mesh: Mesh, part: Part, store: Store) -> Part:
    return described(mesh, Came.of(part), part.notes, store)


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
    return _described_anew(store.mesh(base.mesh).sized(size.factors), base, store)


def mended(
    base: Part, steps: tuple[str, ...] | None, store: Store, progress: Progress = silent
) -> tuple[Part, Mended]:
    """Mend a part, all at once or by steps; see ``core.mend.mend`` for the errors."""
    done = mend(store.mesh(base.mesh), steps, progress=progress)
    return (_described_anew(done.mesh, base, store) if done.done else base), done


def hollowed(
    part: Part,
    asked: Hollowing,
    store: Store,
    progress: Progress = silent,
    solid_at_mm: NDArray[np.float64] | None = None,
) -> tuple[Part, Hollowing]:
    """Hollow a part as it is sized; see ``core.hollow.hollowed`` for the errors.

    Behind places (k, 3) of its surface it stays solid.

    Raises
    ------
    NotClosed
        The surface has holes, or edges with more than two facets.
    """
    solid = Solid.from_mesh(store.mesh(part.mesh))
    found = hollow_out(
        solid,
        asked.setting(),
        asked.pointed(),
        proposed_mm=asked.proposed_mm,
        down=asked.down,
        solid_at_mm=solid_at_mm,
        progress=progress,
    )
    told = asked.model_copy(
        update={
            "drilled": tuple(DrilledHole(**asdict(one)) for one in found.drains),
            "wall_least_mm": found.wall.least_mm,
            "wall_mean_mm": found.wall.mean_mm,
            "wall_least_at_mm": found.wall.at_mm,
            "cavity_mm3": found.cavity_mm3,
            "pockets": found.pockets,
            "step_mm": found.detail_mm,
            "sealed_mm3": found.sealed_mm3,
            "standing_mm3": found.standing_mm3,
            "hanging_mm3": found.hanging_mm3,
        }
    )
    return _described_anew(found.mesh, part, store), told


def bodies(sheet: ItemSheet, store: Store) -> list[Part]:
    """The bodies of the part that is shown, each a part.

    Raises
    ------
    BadValue
        One body only, or more than ``MOST_JOBS``.
    """
    found = separated(store.mesh(sheet.part.mesh))
    known = sheet.file_bodies
    if known is not None and sheet.file_bodies_are_whole and len(known.ends) > len(found):
        # They touch, so that in the surface they are one body.
        found = taken_apart(store.mesh(known.mesh).sized(sheet.size.factors), known.ends)
    if not 1 < len(found) <= MOST_JOBS:
        raise BadValue(
            f"The part has {len(found)} {'body' if len(found) == 1 else 'bodies'}.",
            f"Bodies can be separated where there are 2 to {MOST_JOBS}.",
        )
    return [with_marks(sheet, _described_anew(body, sheet.part, store), store) for body in found]


def with_marks(sheet: ItemSheet, part: Part, store: Store) -> Part:
    """Give a body or piece of the part that is shown what was painted there."""
    painted = carried_over(sheet, store.mesh(part.mesh), store)
    # Most of what is painted lies on the others: that is no loss.
    return part.model_copy(update={"painted": painted and painted.model_copy(update={"lost_mm2": 0.0})})


def separate(sheet: ItemSheet, parts: Sequence[Part]) -> list[JobSheet]:
    """Sheets of new jobs, one for each body of a part, with the printer and settings of the old one."""
    return [like(sheet, part, f"{sheet.name}, body {number}"[:120]) for number, part in enumerate(parts, 1)]


def like(sheet: ItemSheet, part: Part, name: str) -> JobSheet:
    """Sheet of a new job with the printer and settings of another."""
    same = {field: getattr(sheet, field) for field in TAKEN_ALONG}
    return JobSheet.of([new_item(part, sheet.machine)], name=name, **same)


def pieces(sheet: ItemSheet, made: Split, store: Store) -> tuple[tuple[Part, ...], tuple[str, ...]]:
    """The pieces of a cut part, each a part with what was painted there, and their paths in the cuts.

    The path of a piece is its cell or the cuts that lead to it, and its number among the bodies there where
    there are several. Bodies of the file stay apart in each piece.
    """
    parts = []
    apart = sheet.file_bodies
    if apart is not None:
        sized = store.mesh(apart.mesh).sized(sheet.size.factors)
        places = tuple(scaled(at, sheet.size.factors) for at in apart.at_mm)
        apart = apart.model_copy(update={"mesh": store.keep_mesh(sized), "at_mm": places, "whole": False})
    for piece in made.pieces:
        came = Came(f"{sheet.stem} piece {piece.number}.stl"[:200], "STL", "millimeter", 1.0)
        part = described(piece.mesh, came, (), store).model_copy(update={"bodies": apart})
        parts.append(with_marks(sheet, part, store))
    return tuple(parts), tuple(piece.path for piece in made.pieces)


class Bringing(NamedTuple):
    """What comes of keeping supports that came with a file.

    Attributes
    ----------
    hand : HandWork
        With them among what hands made, for the stance with this lift.
    lift_mm : float
        How high above the plate the part stands on them.
    kept, left : int
        Bodies that are kept, and those that are left out because they are open.
    """

    hand: HandWork
    lift_mm: float
    kept: int
    left: int


def bringing(sheet: ItemSheet, store: Store, layers_of: Callable[[ItemSheet], LayerStack]) -> Bringing:
    """Make columns of the supports that came with a part, where they stood below it.

    Parameters
    ----------
    sheet : ItemSheet
        In the stance that the part came in.
    store : Store
    layers_of : callable
        Makes the layers of the part of a sheet.

    Raises
    ------
    BadValue
        There are none, the part was turned, it is a resin part, or none of them is closed.
    """
    brought = sheet.original.brought
    if brought is None:
        raise BadValue("The file of this part holds no supports.", "Make supports in their section.")
    if sheet.is_resin:
        raise BadValue(
            "Supports of a file are kept on filament printers only.", "Leave them out, and make stilts."
        )
    if sheet.stance.quaternion != UPRIGHT:
        raise BadValue(
            "These supports stand under the part as it came, and it has been turned.",
            "Stand it as it came first, or leave them out.",
        )
    mesh = store.mesh(brought.mesh).sized(sheet.size.factors)
    part = store.mesh(sheet.part.mesh)
    lift = max(0.0, float(part.bounds[0][2] - mesh.bounds[0][2]))
    stance = sheet.stance.model_copy(update={"lift_mm": round(lift, 6)})
    lifted = sheet.model_copy(update={"stance": stance})
    where = place(part, np.eye(3), lifted.lift_mm)
    made, left = brought_columns(where.apply(mesh), layers_of(lifted))
    if not made:
        raise BadValue("The supports of this file are open surfaces.", "Leave them out.")
    hand = HandWork(of=lifted.stance_id, kept=store.keep_supports(made), count=len(made))
    return Bringing(hand, stance.lift_mm, len(made), left)


def coupon_part(kind: str, store: Store) -> Part:
    """The part of a coupon; see ``core.machines.coupons`` for the kinds."""
    return take_in(write_stl(coupon(kind)), f"{kind}-coupon.stl", store)


def new_item(part: Part, machine: Printer, taken: set[str] | None = None) -> Item:
    """An item of a new part, with the usual footing of a printer."""
    return Item(
        id=fresh_id(part, taken or set()),
        part=part,
        footing=usual_footing(machine),
        marks=part.painted,
        brought=brought_first(part),
    )


def new_sheet(part: Part, name: str, printer_name: str | None = None) -> JobSheet:
    """Sheet of a new job with the usual settings of a printer; nothing is carried over from other jobs.

    Where no printer is named one stands in, and the sheet says that nobody chose it.
    """
    machine = printer(printer_name or DEFAULT_PRINTER)
    stuff = "PLA" if machine.technology is Technology.FILAMENT else "Standard resin"
    return JobSheet.of(
        [new_item(part, machine)],
        name=name,
        printer=machine.name,
        material=stuff,
        layer_mm=machine.layer_mm,
        asked=() if printer_name else ("printer", "material"),
    )


def with_measured(sheet: JobSheet, store: Store) -> JobSheet:
    """Give a new job what the shop measured for its printer and material."""
    known = store.on_shelf(Calibration, sheet.pair)
    return sheet.model_copy(update={"calibration": known}) if known else sheet

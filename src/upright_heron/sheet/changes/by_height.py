"""Changes of what is printed in a way of its own at some heights, and of where seams lie."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, field_validator

from ...core.errors import BadValue
from ...core.toolpaths.ordering import Seam
from ...core.toolpaths.patterns import Pattern
from ..by_height import MOST, ByHeight, Height, Pause, StrandZone, Zone
from ..document import Vector
from ..models import ItemSheet
from ..process import Second
from .base import Change, altered


def _kept(sheet: ItemSheet, **fields: object) -> ItemSheet:
    known = {**dict(sheet.by_height), **fields}
    for name, told in (("zones", "stretches"), ("pauses", "pauses"), ("strands", "stretches of strands")):
        if len(known[name]) > MOST:
            raise BadValue(f"These are {len(known[name])} {told}.", f"{MOST} are the most.")
    return altered(sheet, by_height=ByHeight.model_validate(known))


def _without(of: tuple[Any, ...], number: int) -> tuple[Any, ...]:
    if not 0 <= number < len(of):
        raise BadValue("It is gone already.", "Reload the page.")
    return of[:number] + of[number + 1 :]


def _of_filament(sheet: ItemSheet) -> None:
    if sheet.is_resin:
        raise BadValue(f"{sheet.machine.name} lays no filament.", "Pick a filament printer.")


class AddZone(Change):
    """Print a stretch of height with settings of its own; empty ones are as elsewhere."""

    kind: Literal["zone"] = "zone"
    low_mm: Height
    high_mm: Height
    walls: int | None = None
    infill_percent: float | None = None
    pattern: Pattern | None = None
    speed_percent: float | None = None
    nozzle_c: float | None = None
    fan_percent: float | None = None

    _empty = field_validator(
        "walls", "infill_percent", "pattern", "speed_percent", "nozzle_c", "fan_percent", mode="before"
    )(lambda value: None if value == "" else value)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        _of_filament(sheet)
        if self.high_mm <= self.low_mm:
            raise BadValue("A stretch ends above where it begins.", "Type the lower height first.")
        zone = Zone(**self.model_dump(exclude={"kind"}))
        if zone.words == "as elsewhere":
            raise BadValue("Nothing is different in this stretch.", "Type walls, infill, speed or the like.")
        return _kept(sheet, zones=(*sheet.by_height.zones, zone))

    def label(self, sheet: ItemSheet) -> str:
        zone = Zone(**self.model_dump(exclude={"kind"}))
        return f"{self.low_mm:g} to {self.high_mm:g} mm: {zone.words}"[:80]


class AddPause(Change):
    """Pause before a layer: to set something in, or to change the filament."""

    kind: Literal["pause"] = "pause"
    z_mm: Height
    why: Annotated[str, Field(max_length=60)] = ""
    # The finding whose cavity it is for: nothing is put under it.
    roof: Annotated[str, Field(max_length=60)] = ""

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        _of_filament(sheet)
        if self.z_mm < sheet.layer_mm:
            raise BadValue("There is nothing to wait for before the first layer.", "Type another height.")
        pause = Pause(z_mm=self.z_mm, why=self.why.strip())
        if any(abs(one.z_mm - pause.z_mm) < 0.5 * sheet.layer_mm for one in sheet.by_height.pauses):
            raise BadValue("There is a pause already.", "Type another height.")
        made = _kept(sheet, pauses=tuple(sorted((*sheet.by_height.pauses, pause), key=lambda p: p.z_mm)))
        if not self.roof:
            return made
        note = f"{pause.why or 'something'} is set in below"
        return altered(made, accepted={**sheet.accepted, self.roof: note})

    def label(self, sheet: ItemSheet) -> str:
        return f"Pause at {self.z_mm:g} mm{': ' if self.why else ''}{self.why}"[:80]


class AddStrands(Change):
    """Lay strands in a stretch of height: so many turns along the outline, or across."""

    kind: Literal["strands"] = "strands"
    low_mm: Height
    high_mm: Height
    turns: Annotated[int, Field(ge=0, le=20)] = 2
    angle_deg: float = 0.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        _of_filament(sheet)
        if sheet.machine.nozzles < 2:
            raise BadValue(
                f"{sheet.machine.name} has one nozzle: a second feeds strands.",
                "Pick a printer with two nozzles.",
            )
        if sheet.second is not Second.NOTHING or sheet.footing.second or sheet.second_bodies:
            raise BadValue(
                "The second nozzle prints supports, the raft or bodies already.",
                "Print these with the first nozzle, or leave strands out.",
            )
        if self.high_mm <= self.low_mm:
            raise BadValue("A stretch ends above where it begins.", "Type the lower height first.")
        zone = StrandZone(**self.model_dump(exclude={"kind"}))
        return _kept(sheet, strands=(*sheet.by_height.strands, zone))

    def label(self, sheet: ItemSheet) -> str:
        zone = StrandZone(**self.model_dump(exclude={"kind"}))
        return f"Strands from {self.low_mm:g} to {self.high_mm:g} mm, {zone.words}"[:80]


class DropByHeight(Change):
    """Take out a stretch, a pause or strands, by its number from 0."""

    kind: Literal["drop-by-height"] = "drop-by-height"
    of: Literal["zones", "pauses", "strands"]
    number: Annotated[int, Field(ge=0, le=MOST)]

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return _kept(sheet, **{self.of: _without(getattr(sheet.by_height, self.of), self.number)})

    def label(self, sheet: ItemSheet) -> str:
        words = {"zones": "stretch of height", "pauses": "pause", "strands": "strands"}[self.of]
        return f"Without the {words}"


class PickSeam(Change):
    """Lay seams along a line on the part: through places that were picked; from none on nowhere."""

    kind: Literal["seam-line"] = "seam-line"
    at_mm: Annotated[tuple[Vector, ...], Field(min_length=1, max_length=20)]

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        _of_filament(sheet)
        process = sheet.process.changed(seam=Seam.PICKED)
        return altered(sheet, seam_line=self.at_mm, process=process)

    def label(self, sheet: ItemSheet) -> str:
        return "Seam along a picked line" if len(self.at_mm) > 1 else "Seam at a picked place"


class PickBodies(Change):
    """Print bodies of the part with the second nozzle: those that places were picked on; none without any."""

    kind: Literal["second-bodies"] = "second-bodies"
    at_mm: Annotated[tuple[Vector, ...], Field(max_length=20)] = ()

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        if not self.at_mm:
            return altered(sheet, second_bodies=())
        _of_filament(sheet)
        if sheet.machine.nozzles < 2:
            raise BadValue(
                f"{sheet.machine.name} has one nozzle: a second prints what is picked.",
                "Pick a printer with two nozzles.",
            )
        if sheet.by_height.strands:
            raise BadValue("The second nozzle feeds strands already.", "Take the strands out first.")
        if sheet.part.shells < 2 and sheet.file_bodies is None:
            raise BadValue(
                "The part is one body.",
                "Bodies that touch stay apart only in files that tell them apart: 3MF, AMF, OBJ or STEP.",
            )
        return altered(sheet, second_bodies=self.at_mm)

    def label(self, sheet: ItemSheet) -> str:
        if not self.at_mm:
            return "All bodies with the first nozzle"
        return f"{_bodies(len(self.at_mm))} with the second nozzle"


def _bodies(count: int) -> str:
    return "A body" if count == 1 else f"{count} bodies"

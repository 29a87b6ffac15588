"""Changes of what is decided for a job as a whole."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from enum import Enum
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, field_validator

from ...core.errors import BadValue
from ...core.machines.catalogue import material, materials_for, printer
from ...core.toolpaths.gcode import END, NAMES, START, filled_text
from ...core.toolpaths.ordering import Seam
from ...core.toolpaths.patterns import Pattern
from ...core.toolpaths.process_table import from_csv, rows_for
from ...core.units import number
from ..document import Length, Name
from ..item import Item
from ..models import ItemSheet, JobSettings, JobSheet
from ..order import Folder
from ..process import Preset, Price, usual_footing
from ..shop import Calibration, OwnMaterial, OwnPrinter
from .base import Change, JobChange, altered
from .machines import as_of, usable


class Rename(Change):
    """Give the job another name."""

    about_item: ClassVar[bool] = False
    kind: Literal["rename"] = "rename"
    name: str = Field(min_length=1, max_length=120)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, name=self.name.strip())

    def label(self, sheet: ItemSheet) -> str:
        return f"Name “{self.name.strip()}”"


class PickPrinter(JobChange):
    """Pick another printer; what does not go with its technology is set to its usual values."""

    kind: Literal["printer"] = "printer"
    printer: str
    own: OwnPrinter | None = None
    calibration: Calibration | None = None

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job on the printer; a footing that nobody chose is the habit of the machine."""
        machine = self.own.core() if self.own else printer(self.printer)
        picked: dict[str, object] = {"printer": machine.name, "own_printer": self.own}
        picked["calibration"] = self.calibration
        habit, usual = usual_footing(job.machine), usual_footing(machine)
        same = machine.technology is job.machine.technology
        # With another kind of machine its material was not chosen by anybody either.
        rest = job.asked if same else ("material",)
        picked["asked"] = tuple(what for what in rest if what != "printer")
        # A table of exposures is one machine's, with one material.
        picked["process"] = job.process.changed(table=())

        def fitted(one: Item) -> Item:
            if not same:
                return one.model_copy(update={"supports": None, "footing": usual, "elsewhere": None})
            if one.elsewhere is not None and one.elsewhere.printer != job.printer:
                # It goes where it went, which is no other printer now if that is the one that is picked.
                return one
            if one.elsewhere is not None:
                # Only its material is another: it comes along.
                moved = {"printer": machine.name, "own_printer": self.own, "calibration": None}
                one = one.model_copy(update={"elsewhere": one.elsewhere.model_copy(update=moved)})
            return one.model_copy(update={"footing": usual}) if one.footing == habit else one

        items = tuple(fitted(one) for one in job.items)
        if same:
            made = altered(job, **picked, items=items)
            return altered(made, items=tuple(_kept_there(made, one) for one in items))
        return altered(
            job,
            **picked,
            items=items,
            material=materials_for(machine)[0].name,
            own_material=None,
            layer_mm=machine.layer_mm,
            limit_deg=None,
            preset=None,
        )

    def label(self, sheet: ItemSheet) -> str:
        return f"Printer {self.own.name if self.own else printer(self.printer).name}"


class PickMaterial(JobChange):
    """Pick another material for the job; items that are of another stay so."""

    about_item: ClassVar[bool] = False
    kind: Literal["material"] = "material"
    material: str
    own: OwnMaterial | None = None
    calibration: Calibration | None = None

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job in the material.

        Raises
        ------
        BadValue
            Its printer cannot use it.
        """
        stuff = usable(self.material, self.own, job.machine)
        made = altered(
            job,
            material=stuff.name,
            own_material=self.own,
            process=job.process.changed(table=()),
            calibration=self.calibration,
            asked=tuple(what for what in job.asked if what != "material"),
        )
        return altered(made, items=tuple(_kept_there(made, one) for one in job.items))

    def label(self, sheet: ItemSheet) -> str:
        return f"Material {self.own.name if self.own else material(self.material).name}"


def _kept_there(job: JobSettings, item: Item) -> Item:
    """An item where it went, once its job is of another printer or material."""
    there = item.elsewhere
    return item if there is None else item.model_copy(update={"elsewhere": as_of(job, there)})


class KeepMachine(Change):
    """Say that the printer and material that stand in are those that are meant."""

    about_item: ClassVar[bool] = False
    kind: Literal["keep-machine"] = "keep-machine"

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, asked=())

    def label(self, sheet: ItemSheet) -> str:
        return f"Keep {sheet.printer} and {sheet.material}"


class SetLayer(Change):
    """Set the layer height."""

    about_item: ClassVar[bool] = False
    kind: Literal["layer"] = "layer"
    layer_mm: Length

    @field_validator("layer_mm", mode="before")
    @classmethod
    def _by_mm(cls, given: Any) -> Any:
        """Read layers per millimetre, such as ``5/mm``."""
        words = str(given).strip().lower().replace(" ", "")
        if not words.endswith("/mm"):
            return given
        count = number(words.removesuffix("/mm"))
        if count <= 0:
            raise ValueError("there is at least one layer to a millimetre")
        return 1.0 / count

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, layer_mm=self.layer_mm)

    def label(self, sheet: ItemSheet) -> str:
        return f"Layer height {self.layer_mm:g} mm"


class SetLimit(Change):
    """Type the self-supporting limit, or go back to that of printer and material."""

    about_item: ClassVar[bool] = False
    kind: Literal["limit"] = "limit"
    limit_deg: float | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, limit_deg=self.limit_deg)

    def label(self, sheet: ItemSheet) -> str:
        if self.limit_deg is None:
            return "Limit from printer and material"
        return f"Limit {self.limit_deg:g}°"


class SetStepFactor(Change):
    """Say how much a layer has to grow or drop to be listed."""

    about_item: ClassVar[bool] = False
    kind: Literal["step-factor"] = "step-factor"
    factor: Annotated[float, Field(ge=1.2, le=100)]

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, step_factor=self.factor)

    def label(self, sheet: ItemSheet) -> str:
        return f"List layer steps from {self.factor:g} times"


class SetProcess(Change):
    """Set how filament is laid: walls, tops and bottoms, infill, seam, speed, temperatures, text round it.

    What is not given stays; “usual” is the temperature of the material.
    """

    about_item: ClassVar[bool] = False
    kind: Literal["process"] = "process"
    walls: int | None = None
    infill_percent: float | None = None
    pattern: Pattern | None = None
    top_layers: int | None = None
    bottom_layers: int | None = None
    seam: Seam | None = None
    seam_deg: float | None = None
    outer_first: bool | None = None
    speed_percent: float | None = None
    nozzle_c: float | Literal["usual"] | None = None
    bed_c: float | Literal["usual"] | None = None
    travel_lift_mm: float | None = None
    relative_e: bool | None = None
    smooth: bool | None = None
    slow_steep: bool | None = None
    inside_ways: bool | None = None
    infill_every: int | None = None
    roof_percent: float | None = None
    roof_layers: int | None = None
    bridge_flow_percent: float | None = None
    fan_percent: float | None = None
    outline_mm: Length | None = None
    first_outline_mm: Length | None = None
    hole_mm: Length | None = None
    second_material: str | None = None
    start_text: str | None = None
    end_text: str | None = None

    @property
    def _given(self) -> dict[str, object]:
        known = {name: getattr(self, name) for name in type(self).model_fields if name != "kind"}
        given = {name: value for name, value in known.items() if value is not None}
        usual: dict[object, object] = {"usual": None, START: "", END: ""}
        lines = {name: _lines(value) for name, value in given.items()}
        return {name: usual.get(value, value) for name, value in lines.items()}

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        process = sheet.process.changed(**self._given)
        for text, what in ((process.start_text, "start text"), (process.end_text, "end text")):
            filled_text(text, dict.fromkeys(NAMES, 0), what)
        return altered(sheet, process=process)

    def label(self, sheet: ItemSheet) -> str:
        before = dict(sheet.process)
        told = [_PROCESS[name](value) for name, value in self._given.items() if before[name] != value]
        return (
            ", ".join(told)[:80] or f"{sheet.process.walls} walls, {sheet.process.infill_percent:g} % infill"
        )


def _lines(value: object) -> object:
    """A text as it was typed in a browser, with lines that end as elsewhere."""
    return value.replace("\r\n", "\n") if isinstance(value, str) and not isinstance(value, Enum) else value


_PROCESS: dict[str, Callable[[Any], str]] = {
    "walls": lambda v: f"{v} wall{'' if v == 1 else 's'}",
    "infill_percent": lambda v: f"{v:g} % infill",
    "pattern": lambda v: f"infill of {v.value}",
    "top_layers": lambda v: f"{v} top layers",
    "bottom_layers": lambda v: f"{v} bottom layers",
    "seam": lambda v: f"seam: {v.value}",
    "seam_deg": lambda v: f"seam at {v:g}°",
    "outer_first": lambda v: "outer wall first" if v else "outer wall last",
    "speed_percent": lambda v: f"speed {v:g} %",
    "nozzle_c": lambda v: "usual nozzle temperature" if v is None else f"nozzle {v:g} °C",
    "bed_c": lambda v: "usual plate temperature" if v is None else f"plate {v:g} °C",
    "travel_lift_mm": lambda v: f"travels lifted by {v:g} mm",
    "relative_e": lambda v: "relative E" if v else "absolute E",
    "smooth": lambda v: "tops smoothed" if v else "tops not smoothed",
    "slow_steep": lambda v: "slow over steep places" if v else "steep places as quick as others",
    "inside_ways": lambda v: "ways inside the outline" if v else "straight ways",
    "infill_every": lambda v: "infill in each layer" if v == 1 else f"infill in every {v} layers",
    "roof_percent": lambda v: f"{v:g} % under roofs" if v else "infill under roofs as elsewhere",
    "roof_layers": lambda v: f"denser in {v} layers under roofs",
    "bridge_flow_percent": lambda v: f"{v:g} % flow of bridges",
    "fan_percent": lambda v: f"fan {v:g} %",
    "outline_mm": lambda v: f"outlines {v:+g} mm",
    "first_outline_mm": lambda v: f"first layer {v:+g} mm",
    "hole_mm": lambda v: f"holes {v:+g} mm",
    "second_material": lambda v: f"second nozzle: {v or 'as the first'}",
    "start_text": lambda v: "start text",
    "end_text": lambda v: "end text",
}


# How quick a print is, by name: speed in percent (common practice).
PACES: dict[str, float] = {"careful": 60.0, "usual": 100.0, "quick": 140.0}


class SetPrice(Change):
    """Set how the print is charged; what is not given stays."""

    about_item: ClassVar[bool] = False
    kind: Literal["price"] = "price"
    per_gram: float | None = None
    per_hour: float | None = None
    setup: float | None = None
    least: float | None = None
    round_to: float | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        names = ("per_gram", "per_hour", "setup", "least", "round_to")
        given = {name: getattr(self, name) for name in names if getattr(self, name) is not None}
        price = Price.model_validate({**dict(sheet.process.price), **given})
        return altered(sheet, process=sheet.process.changed(price=price))

    def label(self, sheet: ItemSheet) -> str:
        return "How it is charged"


class SetTable(Change):
    """Set how each layer of resin is made, by a table as CSV; as usual where it is empty."""

    about_item: ClassVar[bool] = False
    kind: Literal["table"] = "table"
    csv: str = Field(default="", max_length=40_000)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        if not sheet.is_resin:
            raise BadValue(f"{sheet.machine.name} exposes no layers.", "Pick a resin printer.")
        if sheet.elsewhere is not None:
            raise BadValue(
                f"This item goes to a {sheet.machine.name}, not to the printer of the job.",
                "Type exposures for an item of that, or make a job of its own.",
            )
        table = from_csv(self.csv) if self.csv.strip() else ()
        if table:
            rows_for(table, sheet.layer_mm)
        return altered(sheet, process=sheet.process.changed(table=table))

    def label(self, sheet: ItemSheet) -> str:
        return "Exposures from a table" if self.csv.strip() else "Usual exposures"


class SetOutlines(Change):
    """Move the outlines of masks outwards, inwards where negative; those of the first layers apart."""

    about_item: ClassVar[bool] = False
    kind: Literal["outlines"] = "outlines"
    outline_mm: Length = 0.0
    first_outline_mm: Length = 0.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        moved = {"outline_mm": self.outline_mm, "first_outline_mm": self.first_outline_mm}
        return altered(sheet, process=sheet.process.changed(**moved))

    def label(self, sheet: ItemSheet) -> str:
        return f"Outlines {self.outline_mm:+g} mm, first layers {self.first_outline_mm:+g} mm"


class TakePreset(Change):
    """Take the settings of a preset; the route finds it on the shelf."""

    kind: Literal["preset"] = "preset"
    preset: Preset

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        kept = self.preset
        if kept.technology is not sheet.machine.technology:
            raise BadValue(
                f"“{kept.name}” is for {kept.technology.value} machines.",
                f"Pick another preset, or another printer than {sheet.machine.name}.",
            )
        return altered(
            sheet, layer_mm=kept.layer_mm, process=kept.process, supports=kept.supports,
            footing=kept.footing, preset=kept,
        )  # fmt: skip

    def label(self, sheet: ItemSheet) -> str:
        return f"Preset “{self.preset.name}”"


class KeepPreset(Change):
    """Note that the sheet's settings are kept as a preset now."""

    kind: Literal["keep-preset"] = "keep-preset"
    name: Name

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, preset=sheet.as_preset(self.name))

    def label(self, sheet: ItemSheet) -> str:
        return f"Keep as preset “{self.name}”"


class SetOrder(Change):
    """Say what a job is for: the folder it is kept in, who wants it, and by when."""

    about_item: ClassVar[bool] = False
    kind: Literal["order"] = "order"
    folder: Folder = ""
    customer: str = Field(default="", max_length=120)
    due: dt.date | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        given = {"folder": self.folder.strip(), "customer": self.customer.strip(), "due": self.due}
        return altered(sheet, order=altered(sheet.order, **given))

    def label(self, sheet: ItemSheet) -> str:
        said = [
            f"in {self.folder.strip()}" if self.folder.strip() else "",
            f"for {self.customer.strip()}" if self.customer.strip() else "",
            f"due {self.due}" if self.due else "",
        ]
        return ("Order " + (", ".join(one for one in said if one) or "as it came"))[:200]


class HandOver(Change):
    """Note that a job left the shop on a day; without one, that it is still here."""

    about_item: ClassVar[bool] = False
    kind: Literal["hand-over"] = "hand-over"
    on: dt.date | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, order=altered(sheet.order, handed_over=self.on))

    def label(self, sheet: ItemSheet) -> str:
        return f"Handed over on {self.on}" if self.on else "Not handed over"


class WriteNotes(Change):
    """Write notes for whoever runs the machine."""

    about_item: ClassVar[bool] = False
    kind: Literal["notes"] = "notes"
    notes: str = Field(default="", max_length=4000)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, notes=self.notes.strip())

    def label(self, sheet: ItemSheet) -> str:
        return "Notes"

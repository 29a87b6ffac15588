"""What a shop keeps of its own: printers, materials, and what it measured with coupons."""

from __future__ import annotations

import datetime as dt
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from ..core.machines.catalogue import Material, Peel, Printer, Technology, printer
from .document import Document, Length, Name

Spot = Annotated[Length, Field(ge=-2500, le=2500)]


def pair_name(printer: str, material: str) -> str:
    """What is kept of a kind of machine with a material is kept under this."""
    return f"{printer}|{material}"


# A print takes no less nor more than so many times what was told.
LEAST_RATIO, MOST_RATIO = 0.2, 5.0


class Habits(Document):
    """What holds for all jobs of the shop."""

    name: Name = "shop"
    # Results are made as soon as something changes; otherwise when somebody asks.
    at_once: bool = True
    # How files of plates are named; empty for the usual way.
    plate_names: str = Field(default="", max_length=120)
    # The same of single items.
    item_names: str = Field(default="", max_length=120)
    # Settings of paths that section 8 shows without a search; the usual ones where none is chosen.
    shown_settings: Annotated[tuple[Name, ...], Field(max_length=60)] = ()
    # What joining two pieces of a cut part takes a person: cleaning the faces, gluing, clamping (our guess).
    join_minutes: Annotated[float, Field(ge=0, le=600, allow_inf_nan=False)] = 4.0


class Finished(Document):
    """How long prints took on a printer, over what was told: the last ones."""

    name: Name
    ratios: Annotated[tuple[Annotated[float, Field(gt=0, le=100)], ...], Field(max_length=200)] = ()

    @staticmethod
    def believed(ratio: float) -> bool:
        """Whether a ratio is that of one print: others were waited for, or belong to another print."""
        return LEAST_RATIO <= ratio <= MOST_RATIO

    def with_one(self, ratio: float) -> Finished:
        """Return it with a print more; the oldest is forgotten where they are many."""
        return Finished(name=self.name, ratios=(*self.ratios, ratio)[-200:])


class Learned(Document):
    """When what prints tell of a pair was last taken, by what it is about."""

    # As of a pair.
    name: Annotated[str, Field(min_length=1, max_length=121)]
    taken: Annotated[tuple[tuple[Name, dt.datetime], ...], Field(max_length=20)] = ()


class RunNotes(Document):
    """What is to be minded on a kind of machine with a material: bed spray, who starts it, what stays in."""

    # As of a pair.
    name: Annotated[str, Field(min_length=1, max_length=121)]
    text: str = Field(default="", max_length=2000)
    # The shop found that they print well together; once it has said so of any, others are doubtful.
    approved: bool = False


class Station(Document):
    """A machine that stands in the shop: its own name, what kind it is, and where it is spoken to."""

    name: Name
    model: Name
    url: Annotated[str, Field(max_length=200, pattern=r"^https?://[^\s/?#]+/?$")]
    # What is fitted where it is not what the kind usually has.
    nozzle_mm: Annotated[Length, Field(ge=0.05, le=5)] | None = None
    # It finds its plate before each print.
    calibrate: bool = False


# What a diameter was measured at is made up for within these shares: past them it is another filament.
LEAST_FLOW, MOST_FLOW = 0.8, 1.25


class Spool(Document):
    """A spool of filament or a bottle of resin, as it stands in the shop under a name of its own."""

    name: Name
    material: Name
    technology: Technology
    make: str = Field(default="", max_length=60)
    colour: str = Field(default="", max_length=40)
    # As measured with a calliper, where somebody did.
    diameter_mm: Annotated[Length, Field(ge=0.5, le=6)] | None = None
    left_g: Annotated[float, Field(ge=0, le=50_000, allow_inf_nan=False)]
    # The machine that it is on, by its own name; empty on the rack.
    on: str = Field(default="", max_length=60)

    def flow(self, nominal_mm: float) -> float:
        """What a machine has to push of it where it would push one of filament of a nominal diameter."""
        measured = self.diameter_mm
        return 1.0 if measured is None else (nominal_mm / measured) ** 2


class OwnPrinter(Document):
    """A printer of the shop; its fields are those of ``core.machines.Printer``."""

    name: Name
    technology: Technology
    build_mm: tuple[
        Annotated[Length, Field(ge=10, le=5000)],
        Annotated[Length, Field(ge=10, le=5000)],
        Annotated[Length, Field(ge=10, le=5000)],
    ]
    layer_heights_mm: Annotated[
        tuple[Annotated[Length, Field(ge=0.005, le=5)], ...], Field(min_length=1, max_length=12)
    ]
    layer_mm: Annotated[Length, Field(ge=0.005, le=5)]
    finest_mm: Annotated[Length, Field(ge=0.005, le=5)]
    speed_mm_s: Annotated[float, Field(gt=0, le=2000)]
    limit_bonus_deg: Annotated[float, Field(ge=-40, le=40)] = 0.0
    acceleration_mm_s2: Annotated[float, Field(gt=0, le=1e5)] = 1000.0
    heated: bool = True
    habit: Literal["none", "skirt", "brim", "raft"] = "skirt"
    spot_mm: tuple[Spot, Spot] = (0.0, 0.0)
    # Places of the plate that are kept free: from its middle, and how far around.
    worn: Annotated[
        tuple[tuple[Spot, Spot, Annotated[Length, Field(gt=0, le=500)]], ...], Field(max_length=40)
    ] = ()
    nozzles: Annotated[int, Field(ge=1, le=2)] = 1
    greys: Annotated[int, Field(ge=2, le=256)] = 256
    travel_mm_s: Annotated[float, Field(gt=0, le=2000)] = 150.0
    flow_mm3_s: Annotated[float, Field(gt=0, le=200)] = 11.0
    retract_mm: Annotated[Length, Field(ge=0, le=20)] = 1.0
    warm_up_s: Annotated[float, Field(ge=0, le=3600)] = 240.0
    head_mm: Annotated[Length, Field(ge=0, le=500)] = 35.0
    rail_mm: Annotated[Length, Field(ge=0, le=2000)] = 40.0

    @model_validator(mode="before")
    @classmethod
    def _of_old(cls, given: Any) -> Any:
        """Read a printer from a time when its habit was a raft or nothing."""
        if isinstance(given, dict) and "raft" in given:
            given = {**given}
            given["habit"] = "raft" if given.pop("raft") in (True, "true") else "skirt"
        return given

    def core(self) -> Printer:
        """Return it as the core takes it."""
        return Printer(**{name: getattr(self, name) for name in type(self).model_fields})


def machine_of(name: str, own: OwnPrinter | None) -> Printer:
    """A printer by its name: the shop's own as it was taken from the shelf, or one that everybody has."""
    return own.core() if own else printer(name)


class OwnMaterial(Document):
    """A material of the shop; its fields are those of ``core.machines.Material``."""

    name: Name
    technology: Technology
    density_g_cm3: Annotated[float, Field(gt=0, le=25)]
    price_per_kg: Annotated[float, Field(ge=0, le=1e5)]
    limit_deg: Annotated[float, Field(ge=0, le=90)]
    exposure_s: Annotated[float, Field(ge=0, le=600)] = 0.0
    first_exposure_s: Annotated[float, Field(ge=0, le=600)] = 0.0
    bridge_mm: Annotated[Length, Field(ge=0, le=500)] = 10.0
    diameter_mm: Annotated[Length, Field(ge=0.5, le=6)] = 1.75
    bottle_ml: Annotated[float, Field(gt=0, le=1e5)] = 1000.0
    peel: Peel = Peel.USUAL
    spool_g: Annotated[float, Field(gt=0, le=1e5)] = 1000.0
    shrinkage_percent: Annotated[float, Field(ge=-5, le=10)] = 0.0

    def core(self) -> Material:
        """Return it as the core takes it."""
        return Material(**{name: getattr(self, name) for name in type(self).model_fields})


class Calibration(Document):
    """The last good step of the coupons on a printer with a material."""

    printer: Name
    material: Name
    limit_deg: Annotated[float, Field(ge=0, le=90)]
    bridge_mm: Annotated[Length, Field(ge=0, le=500)] | None = None
    # The closest fit that a peg still slides in, a side.
    clearance_mm: Annotated[Length, Field(ge=0, le=2)] | None = None
    date: dt.date
    note: str = Field(default="", max_length=400)

    @property
    def name(self) -> str:
        """What it is kept under."""
        return pair_name(self.printer, self.material)

"""What a shop keeps of its own: printers, materials, and what it measured with coupons."""

from __future__ import annotations

import datetime as dt
from typing import Annotated

from pydantic import Field

from ..core.machines.catalogue import Material, Peel, Printer, Technology
from .document import Document, Length, Name

Spot = Annotated[Length, Field(ge=-2500, le=2500)]


class Habits(Document):
    """What holds for all jobs of the shop."""

    name: Name = "shop"
    # Results are made as soon as something changes; otherwise when somebody asks.
    at_once: bool = True
    # What joining two pieces of a cut part takes a person: cleaning the faces, gluing, clamping (our guess).
    join_minutes: Annotated[float, Field(ge=0, le=600, allow_inf_nan=False)] = 4.0


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
    raft: bool = False
    spot_mm: tuple[Spot, Spot] = (0.0, 0.0)
    nozzles: Annotated[int, Field(ge=1, le=2)] = 1
    greys: Annotated[int, Field(ge=2, le=256)] = 256

    def core(self) -> Printer:
        """Return it as the core takes it."""
        return Printer(**{name: getattr(self, name) for name in type(self).model_fields})


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
        return f"{self.printer}|{self.material}"

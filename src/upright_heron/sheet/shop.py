"""What a shop keeps of its own: printers, materials, and what it measured with coupons."""

from __future__ import annotations

import datetime as dt
from typing import Annotated

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from ..core.machines import Material, Printer, Technology
from ..core.units import length_mm

Length = Annotated[float, BeforeValidator(length_mm), Field(allow_inf_nan=False)]
Name = Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[^<>|\x00-\x1f]+$")]


class Entry(BaseModel):
    """Base of what a shop keeps: frozen, and strict about unknown fields."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class OwnPrinter(Entry):
    """A printer of the shop; its fields are those of ``core.machines.Printer``."""

    name: Name
    technology: Technology
    build_mm: tuple[
        Annotated[Length, Field(ge=10, le=5000)],
        Annotated[Length, Field(ge=10, le=5000)],
        Annotated[Length, Field(ge=10, le=5000)],
    ]
    layer_heights_mm: tuple[float, ...]
    layer_mm: Annotated[Length, Field(ge=0.005, le=5)]
    finest_mm: Annotated[Length, Field(ge=0.005, le=5)]
    speed_mm_s: Annotated[float, Field(gt=0, le=2000)]
    limit_bonus_deg: Annotated[float, Field(ge=-40, le=40)] = 0.0

    def core(self) -> Printer:
        """Return it as the core takes it."""
        return Printer(**{name: getattr(self, name) for name in type(self).model_fields})


class OwnMaterial(Entry):
    """A material of the shop; its fields are those of ``core.machines.Material``."""

    name: Name
    technology: Technology
    density_g_cm3: Annotated[float, Field(gt=0, le=25)]
    price_per_kg: Annotated[float, Field(ge=0, le=1e5)]
    limit_deg: Annotated[float, Field(ge=0, le=90)]
    exposure_s: Annotated[float, Field(ge=0, le=600)] = 0.0
    first_exposure_s: Annotated[float, Field(ge=0, le=600)] = 0.0

    def core(self) -> Material:
        """Return it as the core takes it."""
        return Material(**{name: getattr(self, name) for name in type(self).model_fields})


class Calibration(Entry):
    """The last good step of the coupons on a printer with a material."""

    printer: Name
    material: Name
    limit_deg: Annotated[float, Field(ge=0, le=90)]
    bridge_mm: Annotated[Length, Field(ge=0, le=500)] | None = None
    date: dt.date
    note: str = Field(default="", max_length=400)

    @property
    def name(self) -> str:
        """What it is kept under."""
        return f"{self.printer}|{self.material}"

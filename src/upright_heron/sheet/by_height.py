"""What is printed in a way of its own at some heights: stretches with settings, pauses, strands."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from ..core.toolpaths import zones as core
from ..core.toolpaths.patterns import Pattern
from .document import Document, Length

Height = Annotated[Length, Field(ge=0, le=5000)]
# So many of each are enough for any part.
MOST = 40


class _Stretch(Document):
    """A stretch of height over the plate, without footing."""

    low_mm: Height
    high_mm: Height

    @model_validator(mode="after")
    def _has_height(self) -> _Stretch:
        if self.high_mm <= self.low_mm:
            raise ValueError("a stretch ends above where it begins")
        return self


class Zone(_Stretch):
    """A stretch with settings of its own; what is not given is as elsewhere."""

    walls: Annotated[int, Field(ge=1, le=50)] | None = None
    infill_percent: Annotated[float, Field(ge=0, le=100)] | None = None
    pattern: Pattern | None = None
    speed_percent: Annotated[float, Field(ge=10, le=400)] | None = None
    nozzle_c: Annotated[float, Field(ge=0, le=500)] | None = None
    fan_percent: Annotated[float, Field(ge=0, le=100)] | None = None

    @property
    def words(self) -> str:
        """What is different in it."""
        told = [
            f"{self.walls} wall{'' if self.walls == 1 else 's'}" if self.walls is not None else "",
            f"{self.infill_percent:g} % infill" if self.infill_percent is not None else "",
            f"of {self.pattern.value}" if self.pattern is not None else "",
            f"speed {self.speed_percent:g} %" if self.speed_percent is not None else "",
            f"nozzle {self.nozzle_c:g} °C" if self.nozzle_c is not None else "",
            f"fan {self.fan_percent:g} %" if self.fan_percent is not None else "",
        ]
        return ", ".join(word for word in told if word) or "as elsewhere"

    def core(self, speed_percent: float) -> core.Zone:
        """Return it as the core takes it, for a print at a speed."""
        return core.Zone(
            self.low_mm,
            self.high_mm,
            self.walls,
            None if self.infill_percent is None else self.infill_percent / 100.0,
            self.pattern,
            None if self.speed_percent is None else self.speed_percent / speed_percent,
            self.nozzle_c,
            self.fan_percent,
        )


class Pause(Document):
    """The machine waits over a height, and what for."""

    z_mm: Height
    why: Annotated[str, Field(max_length=60)] = ""


class StrandZone(_Stretch):
    """Strands in a stretch: turns along the outline, or across at an angle where there are none."""

    turns: Annotated[int, Field(ge=0, le=20)] = 2
    angle_deg: Annotated[float, Field(ge=-180, le=180)] = 0.0

    @property
    def words(self) -> str:
        """How they lie."""
        if not self.turns:
            return f"across at {self.angle_deg:g}°"
        return f"{self.turns} turn{'' if self.turns == 1 else 's'} along the outline"

    def core(self) -> core.StrandZone:
        """Return it as the core takes it."""
        return core.StrandZone(self.low_mm, self.high_mm, self.turns, self.angle_deg)


class ByHeight(Document):
    """All that is printed in a way of its own at some heights of an item."""

    zones: Annotated[tuple[Zone, ...], Field(max_length=MOST)] = ()
    pauses: Annotated[tuple[Pause, ...], Field(max_length=MOST)] = ()
    strands: Annotated[tuple[StrandZone, ...], Field(max_length=MOST)] = ()

"""Settings of the process: supports, footing, walls and infill, and the presets a shop keeps of them."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from ..core.footing import FootingKind
from ..core.machines import Printer, Technology
from ..core.supports.model import SupportSettings
from .document import Document, Length, Name


class Supports(Document):
    """Settings the supports were made with."""

    gap_mm: Annotated[Length, Field(ge=0, le=5)] = 0.2
    clearance_mm: Annotated[Length, Field(ge=0, le=10)] = 0.45
    spacing_mm: Annotated[Length, Field(ge=1, le=50)] = 4.0
    tip_mm: Annotated[Length, Field(ge=0.1, le=3)] = 0.4

    def settings(self) -> SupportSettings:
        """Return them as the core takes them."""
        return SupportSettings(
            gap_mm=self.gap_mm,
            clearance_mm=self.clearance_mm,
            spacing_mm=self.spacing_mm,
            tip_mm=self.tip_mm,
        )


class Footing(Document):
    """What holds the part on the plate."""

    kind: FootingKind = FootingKind.NONE
    lines: Annotated[int, Field(ge=1, le=100)] = 6
    margin_mm: Annotated[Length, Field(ge=0, le=50)] = 4.0
    gap_mm: Annotated[Length, Field(ge=0, le=2)] = 0.25


def usual_footing(machine: Printer) -> Footing:
    """Return the footing that a job on a machine begins with: a raft where that is the habit."""
    return Footing(kind=FootingKind.RAFT) if machine.raft else Footing()


class Process(Document):
    """Settings that move time and mass."""

    walls: Annotated[int, Field(ge=1, le=50)] = 3
    infill_percent: Annotated[float, Field(ge=0, le=100)] = 15.0


class Preset(Document):
    """Settings of the process under a name. A job takes a copy, so nothing leaks from one job to the next."""

    name: Name
    technology: Technology
    layer_mm: Annotated[Length, Field(ge=0.005, le=5)]
    process: Process = Process()
    supports: Supports | None = None
    footing: Footing = Footing()

    @property
    def proposed_name(self) -> str:
        """A name from what is in it, such as ``0.2 mm, 3 walls, 15 %, columns, brim``."""
        return ", ".join(value for _, value in self._words() if not value.startswith("no "))[:60]

    def _words(self) -> list[tuple[str, str]]:
        resin = self.technology is Technology.RESIN
        words = [("layer", f"{self.layer_mm:g} mm")]
        if not resin:
            words.append(("walls", f"{self.process.walls} walls"))
            words.append(("infill", f"{self.process.infill_percent:g} %"))
        words.append(("supports", ("stilts" if resin else "columns") if self.supports else "no supports"))
        kind = self.footing.kind
        words.append(("footing", "no footing" if kind is FootingKind.NONE else kind.value))
        return words

    def unlike(self, other: Preset) -> list[str]:
        """Say what another has otherwise: ``walls: 4 walls instead of 3 walls``."""
        told = [
            f"{what}: {theirs} instead of {ours}"
            for (what, ours), (_, theirs) in zip(self._words(), other._words(), strict=False)
            if ours != theirs
        ]
        for what, mine, other_one in (
            ("support settings", self.supports, other.supports),
            ("footing settings", self.footing, other.footing),
        ):
            if mine and other_one:
                changed = [
                    f"{name.removesuffix('_mm').replace('_', ' ')} {getattr(other_one, name):g}"
                    f" instead of {getattr(mine, name):g}"
                    for name in type(mine).model_fields
                    if name != "kind" and getattr(mine, name) != getattr(other_one, name)
                ]
                if changed:
                    told.append(f"{what}: {', '.join(changed)}")
        return told

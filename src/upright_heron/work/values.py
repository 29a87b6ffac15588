"""Values that are remembered of a job besides those of the core."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.hanging.findings import Hanging
from ..core.hanging.islands import Island
from ..store.codec import register


@register
@dataclass(frozen=True, slots=True)
class Placed:
    """Size (x, y, z) of the part in its stance, and where on the plate its middle is (x, y), mm."""

    size_mm: tuple[float, float, float]
    at_mm: tuple[float, float]


@register
@dataclass(frozen=True, eq=False)
class Findings:
    """What hangs in a stance: figures, and what was found walking up the layers."""

    overhang_area_mm2: float
    contact_area_mm2: float
    walked: Hanging
    layer_count: int
    largest_layer: int
    largest_z_mm: float
    largest_area_mm2: float
    open_chains: int

    @property
    def islands(self) -> tuple[Island, ...]:
        """The islands among them."""
        return self.walked.islands


@register
@dataclass(frozen=True, eq=False)
class Holding:
    """Which supports hold which finding: pairs of its id and theirs."""

    by: tuple[tuple[str, tuple[str, ...]], ...]


@register
@dataclass(frozen=True, slots=True)
class Marked:
    """Numbers of the overhang regions that are painted to be held, and to be kept clear."""

    propped: tuple[int, ...]
    kept_clear: tuple[int, ...]


@register
@dataclass(frozen=True, eq=False)
class Picture:
    """A PNG."""

    png: bytes


@register
@dataclass(frozen=True, eq=False)
class Package:
    """A file to hand off."""

    data: bytes

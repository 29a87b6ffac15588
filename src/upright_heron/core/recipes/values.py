"""Values of results that no other module of the core has a class for."""

from __future__ import annotations

from dataclasses import dataclass

from ..handoff.preflight import Check
from ..handoff.threemf import FileObject
from ..hanging.findings import Finding, Hanging
from ..hanging.islands import Island
from ..tags import stored


@stored("placed", 2)
@dataclass(frozen=True, slots=True)
class Placed:
    """Size (x, y, z) of the part in its stance, mm."""

    size_mm: tuple[float, float, float]


@stored("findings")
@dataclass(frozen=True, eq=False)
class Findings:
    """What hangs in a stance: figures, and what was found walking up the layers.

    Attributes
    ----------
    overhang_area_mm2, contact_area_mm2 : float
    walked : Hanging
    layer_count, largest_layer : int
    largest_z_mm, largest_area_mm2 : float
    open_chains : int
        Contours of an open part that do not close.
    """

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


@stored("holding")
@dataclass(frozen=True, eq=False)
class Holding:
    """Which supports hold which finding: pairs of its id and theirs."""

    by: tuple[tuple[str, tuple[str, ...]], ...]


@stored("marked")
@dataclass(frozen=True, slots=True)
class Marked:
    """Numbers of the overhang regions that are painted to be held, and to be kept clear."""

    propped: tuple[int, ...]
    kept_clear: tuple[int, ...]


@stored("picture")
@dataclass(frozen=True, eq=False)
class Picture:
    """A PNG."""

    png: bytes


@stored("package")
@dataclass(frozen=True, eq=False)
class Package:
    """A file to hand off."""

    data: bytes


@dataclass(frozen=True, slots=True)
class Listed:
    """Everything that may fail in a stance, with what has become of it."""

    findings: tuple[Finding, ...]


@stored("file-objects")
@dataclass(frozen=True, eq=False)
class FileObjects:
    """The objects of an item as they leave, in its own frame."""

    objects: tuple[FileObject, ...]


@dataclass(frozen=True, slots=True)
class Stands:
    """Where one instance stands: its item and copy, from the middle of the plate (mm), and its swing."""

    item: str
    copy: int
    x_mm: float
    y_mm: float
    swing_deg: float


@dataclass(frozen=True, slots=True)
class Arranged:
    """Where all instances of a plate stand; ``items`` are those that the values of items are of."""

    places: tuple[Stands, ...]
    items: tuple[str, ...] = ()


@stored("laid-on-plates")
@dataclass(frozen=True, slots=True)
class OnPlates:
    """Where all instances of a job were laid.

    Attributes
    ----------
    items, copies, plates : tuple
        Of which item each is, which copy, and its plate from 0.
    places : tuple of (x, y, swing)
        From the middle of the plate, mm, and degrees.
    left : tuple of (str, int)
        Item and copy of those that fit no plate.
    least_gap_mm : float or None
        Between any two, measured from the true outlines; ``None`` where no two lie on a plate.
    """

    items: tuple[str, ...]
    copies: tuple[int, ...]
    plates: tuple[int, ...]
    places: tuple[tuple[float, float, float], ...]
    left: tuple[tuple[str, int], ...]
    least_gap_mm: float | None


@stored("brief")
@dataclass(frozen=True, slots=True)
class Brief:
    """An item in a line: what a table of many shows, and what its preflight found.

    Attributes
    ----------
    size_mm : (x, y, z)
        In its stance.
    seconds, mass_g, cost : float
        A rough estimate.
    todo : int
        Findings that are still to do.
    supports : int
    checks : tuple of Check
    """

    size_mm: tuple[float, float, float]
    seconds: float
    mass_g: float
    cost: float
    todo: int
    supports: int
    checks: tuple[Check, ...]

"""Section 1: the part as it came, its health, its size; and the job itself."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.footing.footing import kinds_on
from ....core.hollow.filling import Filling
from ....core.hollow.stays import Stays
from ....core.split.fittings import FITS
from ....core.supports.demand.patches import Style
from ....core.topics import Topic
from ....sheet.document import Vector
from ....sheet.models import ItemSheet
from ....sheet.process import Preset
from ...section import Section
from . import hollow, many
from .routes import router

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class ItemRow:
    """An item in the table of items.

    Attributes
    ----------
    id : str
    number : int
    file : str
        Name of the file that it came in.
    size_mm : tuple of float
    cut : bool
        It is printed as its pieces.
    supports, footing : str
        In a word.
    """

    id: str
    number: int
    file: str
    size_mm: Vector
    cut: bool
    supports: str
    footing: str


@dataclass(frozen=True, slots=True)
class PartContext:
    """The items of a job, and what can be chosen for many of them.

    Attributes
    ----------
    rows : tuple of ItemRow
    batch : list of (str, str, list of (str, str))
        What is changed, its label, and the values there are with their words.
    stays : Stays or None
        What stays in where the part is hollow.
    fits : dict of str to float
        Fits of plugs by name, with their clearance on each side, mm.
    fillings : list of str
        What can stand in a hollow.
    """

    rows: tuple[ItemRow, ...]
    batch: list[tuple[str, str, list[tuple[str, str]]]]
    stays: Stays | None
    fits: dict[str, float] = field(default_factory=lambda: dict(FITS))
    fillings: list[str] = field(default_factory=lambda: [kind.value for kind in Filling])


def _row(sheet: ItemSheet) -> ItemRow:
    filament = sheet.filament
    style = filament.style.value if filament and filament.style else "as proposed"
    supports = "none" if sheet.supports is None else style if filament else "stilts"
    return ItemRow(
        id=sheet.id,
        number=sheet.number,
        file=sheet.part.file_name,
        size_mm=sheet.part.size_mm,
        cut=sheet.grid is not None,
        supports=supports,
        footing=sheet.footing.kind.value,
    )


def _context(page: JobPage, store: Store) -> PartContext:
    sheet = page.sheet
    if not page.several:
        return PartContext((), [], sheet.stays)
    styles = [] if sheet.is_resin else [(style.value, style.value) for style in Style]
    presets = [p.name for p in store.shelf(Preset) if p.technology is sheet.machine.technology]
    batch = [
        ("unit", "Unit", [(unit, unit) for unit in ("mm", "cm", "inch", "m")]),
        ("style", "Supports", [("usual", "as proposed"), *styles, ("none", "none")]),
        ("footing", "Footing", [(kind.value, kind.value) for kind in kinds_on(sheet.is_resin)]),
    ]
    if presets:
        batch.append(("preset", "Preset", [(name, name) for name in presets]))
    return PartContext(tuple(_row(one) for one in page.job.sheet.each), batch, sheet.stays)


SECTION = Section(
    slug="part",
    title="Part",
    folder=Path(__file__).parent,
    topic=Topic.PART,
    wants=("placed", "health", "moved"),
    facts=("health",),
    context=_context,
    routers=(router, many.router, hollow.router),
)

"""Section 2: the printer and the material."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.machines import catalogue as machines
from ....core.topics import Topic
from ....sheet.process import Preset
from ....work.kinds import kinds_of_machines, kinds_of_materials
from ...section import Section

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class PrinterContext:
    """What there is to choose from.

    Attributes
    ----------
    printers : tuple of Printer
    materials : tuple of Material
        Those of the machine's technology.
    presets : list of Preset
        Those of the shop for this kind of machine.
    """

    printers: tuple[machines.Printer, ...]
    materials: tuple[machines.Material, ...]
    presets: list[Preset]


def materials_of(page: JobPage, store: Store) -> tuple[machines.Material, ...]:
    """All materials that the machine can use, the shop's own last."""
    technology = page.sheet.machine.technology
    return tuple(one for one in kinds_of_materials(store).values() if one.technology is technology)


def _context(page: JobPage, store: Store) -> PrinterContext:
    kept = [p for p in store.shelf(Preset) if p.technology is page.sheet.machine.technology]
    return PrinterContext(tuple(kinds_of_machines(store).values()), materials_of(page, store), kept)


SECTION = Section(
    slug="printer",
    title="Printer and material",
    folder=Path(__file__).parent,
    topic=Topic.PRINTER,
    wants=("placed", "findings"),
    context=_context,
)

"""Section 9: the plate, and the files that leave."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.recipes.values import Brief, Stands
from ....core.topics import Topic
from ....sheet.item import Item
from ....sheet.models import Instance
from ...section import Section
from .naming import FIELDS, PATTERN
from .routes import router

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class PlateLine:
    """One item on the plate: where it was put, where it stands, and what it takes."""

    number: int
    item: Item
    instance: Instance
    stands: Stands | None
    brief: Brief | None


@dataclass(frozen=True, slots=True)
class PlateLines:
    """What stands on one plate of the job, by its number from 1."""

    number: int
    lines: list[PlateLine]

    @property
    def seconds(self) -> float | None:
        """How long all of it takes one after the other; ``None`` while one is not known."""
        known = [line.brief.seconds for line in self.lines if line.brief is not None]
        return sum(known) if len(known) == len(self.lines) else None


@dataclass(frozen=True, slots=True)
class HandoffContext:
    """The plates.

    Attributes
    ----------
    plates : list of PlateLines
    here : PlateLine or None
        That of the item that is looked at.
    count : int
        Items on all plates.
    pattern : str
        That names of files are proposed by.
    fields : tuple of str
        What a pattern may name.
    """

    plates: list[PlateLines]
    here: PlateLine | None
    count: int
    pattern: str = PATTERN
    fields: tuple[str, ...] = tuple(FIELDS)


def _context(page: JobPage, store: Store) -> HandoffContext:
    job, now = page.job.sheet, page.now
    stands = {(s.item, s.copy): s for s in now.arranged.places} if now.arranged else {}
    items = {item.id: (number, item) for number, item in enumerate(job.items, 1)}
    plates = []
    for number, plate in enumerate(job.plates, 1):
        lines = [
            PlateLine(
                *items[one.item], one, stands.get((one.item, one.copy_number)), now.briefs.get(one.item)
            )
            for one in plate.instances
        ]
        plates.append(PlateLines(number, lines))
    every = [line for plate in plates for line in plate.lines]
    here = next((line for line in every if line.item.id == page.sheet.id), None)
    return HandoffContext(plates, here, len(every))


SECTION = Section(
    slug="handoff",
    title="Plates and hand-off",
    folder=Path(__file__).parent,
    topic=Topic.HANDOFF,
    wants=("placed", "supports", "footing", "extent"),
    facts=(),
    context=_context,
    routers=(router,),
)

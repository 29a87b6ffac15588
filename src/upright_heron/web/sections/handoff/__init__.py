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
class HandoffContext:
    """The plate.

    Attributes
    ----------
    lines : list of PlateLine
    here : PlateLine or None
        That of the item that is looked at.
    """

    lines: list[PlateLine]
    here: PlateLine | None


def _context(page: JobPage, store: Store) -> HandoffContext:
    job, now = page.job.sheet, page.now
    stands = {(s.item, s.copy): s for s in now.arranged.places} if now.arranged else {}
    items = {item.id: (number, item) for number, item in enumerate(job.items, 1)}
    lines = [
        PlateLine(*items[one.item], one, stands.get((one.item, one.copy_number)), now.briefs.get(one.item))
        for one in job.plates[0].instances
    ]
    return HandoffContext(lines, next((line for line in lines if line.item.id == page.sheet.id), None))


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

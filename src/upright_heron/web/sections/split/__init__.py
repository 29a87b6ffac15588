"""Section 3: does it fit, and the pieces of a part that does not."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.topics import Topic
from ....sheet.item import Item
from ...section import Section
from .routes import router

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class SplitContext:
    """The pieces that are items already.

    Attributes
    ----------
    pieces : list of Item
        Those of the item that is looked at.
    stale : bool
        They were made of other cuts than those that are shown.
    """

    pieces: list[Item]
    stale: bool


def _context(page: JobPage, store: Store) -> SplitContext:
    mine = [one for one in page.job.sheet.items if one.piece and one.piece.item == page.sheet.id]
    split = page.now.split
    return SplitContext(mine, bool(mine) and split is not None and len(split.pieces) != len(mine))


SECTION = Section(
    slug="split",
    title="Fit and split",
    folder=Path(__file__).parent,
    topic=Topic.SPLIT,
    wants=("placed", "split"),
    facts=("placed", "split"),
    context=_context,
    routers=(router,),
)

"""Section 4: which way up."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.topics import Topic
from ...section import Section
from .board import FigureLine, StanceCard, board, figure_lines, resting_board, resting_cards
from .routes import router

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class StanceContext:
    """The stance that stands, and others.

    Attributes
    ----------
    stances : list of StanceCard
        All resting faces, best first.
    board : list of StanceCard
        Those on the stance board: proposals, or else the best resting faces.
    figures : list of FigureLine
        All figures of the stance, to point at.
    """

    stances: list[StanceCard]
    board: list[StanceCard]
    figures: list[FigureLine]


def _context(page: JobPage, store: Store) -> StanceContext:
    now, sheet = page.now, page.sheet
    stances = resting_cards(sheet, now.resting)
    cards = board(sheet, now.found, now.figures) if now.found else resting_board(stances)
    return StanceContext(stances, cards, figure_lines(now.figures, sheet))


SECTION = Section(
    slug="stance",
    title="Stance",
    folder=Path(__file__).parent,
    topic=Topic.STANCE,
    wants=("placed", "resting", "figures", "search"),
    facts=("placed",),
    context=_context,
    routers=(router,),
)

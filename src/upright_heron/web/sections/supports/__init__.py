"""Section 6: what holds the part up."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.machines.catalogue import Material
from ....core.supports.checks.removal import ENOUGH, Access, Out
from ....core.supports.resin.sizes import NOT_TYPED, StiltSize, sizes
from ....core.topics import Topic
from ....sheet.item import HandWork
from ....sheet.process import ResinSupports
from ....work.bind import hand_of
from ...section import Section
from ..printer import materials_of
from . import tips
from .lines import VariantLine, variant_lines
from .routes import router

if TYPE_CHECKING:
    from ....core.supports.support_set import SupportSet
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class SupportsContext:
    """Supports as they are, by hand, checked and compared.

    Attributes
    ----------
    made : SupportSet or None
    materials : tuple of Material
        For a second nozzle.
    trapped : list of Access
        Supports that cannot be got out.
    punched, reached : int
        How many can be punched out of a straight hole, and how many the tool gets at.
    hand : HandWork
        Work by hand in this stance.
    variants : list of VariantLine
    next_variant : str
        A name for the next variant that none has yet.
    sizes : tuple of StiltSize
        Of stilts, in proportion to the medium one, whatever is typed of the others.
    """

    made: SupportSet | None
    materials: tuple[Material, ...]
    trapped: list[Access]
    punched: int
    reached: int
    hand: HandWork
    variants: list[VariantLine]
    next_variant: str
    sizes: tuple[StiltSize, ...]

    def reason_of(self, support: str) -> str:
        """Why a support is there."""
        return next((s.reason for s in self.made.supports if s.id == support), "") if self.made else ""


def _context(page: JobPage, store: Store) -> SupportsContext:
    access = page.now.access or ()
    names = {v.name for v in page.sheet.variants}
    asked = replace((page.sheet.resin or ResinSupports()).settings(), fine_mm=NOT_TYPED, stout_mm=NOT_TYPED)
    return SupportsContext(
        page.now.supports if page.sheet.supports else None,
        materials_of(page, store),
        [a for a in access if a.out is Out.TRAPPED],
        sum(a.out is Out.PUNCH for a in access),
        sum(a.tool_share >= ENOUGH for a in access),
        hand_of(page.sheet),
        variant_lines(page.now),
        next(letter for letter in "ABCDEFGH" if letter not in names),
        sizes(asked),
    )


SECTION = Section(
    slug="supports",
    title="Supports",
    folder=Path(__file__).parent,
    topic=Topic.SUPPORTS,
    wants=("placed", "findings", "supports", "holding", "access", "footing", "estimate", "without"),
    facts=("supports", "findings"),
    context=_context,
    routers=(router, tips.router),
)

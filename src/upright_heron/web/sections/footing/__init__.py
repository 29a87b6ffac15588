"""Section 7: what holds the part on the plate."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.footing.footing import FootingKind
from ....core.topics import Topic
from ...section import Section

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


WORDS = {
    FootingKind.NONE: "None: wide flat contact",
    FootingKind.SKIRT: "Skirt: primes the nozzle",
    FootingKind.BRIM: "Brim: small or long contact",
    FootingKind.RAFT: "Raft: spots, or an uneven plate",
}
RESIN_WORDS = {
    FootingKind.NONE: "None: feet stand on the plate by themselves",
    FootingKind.RAFT: "Raft: one slab under all, for many thin feet",
    FootingKind.PADS: "Pads: a plate under each foot, less resin",
    FootingKind.TIES: "Ties: bars from foot to foot, resin runs off between",
}


@dataclass(frozen=True, slots=True)
class FootingContext:
    """The kinds of footing that the machine of a job prints, each with words."""

    kinds: list[tuple[str, str]]


def _context(page: JobPage, store: Store) -> FootingContext:
    words = RESIN_WORDS if page.sheet.is_resin else WORDS
    return FootingContext([(kind.value, text) for kind, text in words.items()])


SECTION = Section(
    slug="footing",
    title="Footing",
    folder=Path(__file__).parent,
    topic=Topic.FOOTING,
    wants=("footing",),
    facts=("footing",),
    context=_context,
)

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


@dataclass(frozen=True, slots=True)
class FootingContext:
    """The kinds of footing there are."""

    kinds: list[FootingKind]


def _context(page: JobPage, store: Store) -> FootingContext:
    return FootingContext(list(FootingKind))


SECTION = Section(
    slug="footing",
    title="Footing",
    folder=Path(__file__).parent,
    topic=Topic.FOOTING,
    wants=("footing",),
    facts=("footing",),
    context=_context,
)

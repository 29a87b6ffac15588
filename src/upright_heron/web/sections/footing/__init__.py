"""Section 7: what holds the part on the plate."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.footing.footing import FootingKind
from ....core.topics import Topic
from ....work.bind_paths import away_from
from ...section import Section

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


WORDS = {
    FootingKind.NONE: "None: wide flat contact",
    FootingKind.SKIRT: "Skirt: primes the nozzle",
    FootingKind.BRIM: "Brim: small or long contact",
    FootingKind.CORNERS: "Pads: corners that lift as the material shrinks",
    FootingKind.RAFT: "Raft: spots, or an uneven plate",
}
SHORT = {
    "none": "no footing",
    "skirt": "a skirt",
    "brim": "a brim",
    "corners": "pads at corners",
    "raft": "a raft",
}
RESIN_WORDS = {
    FootingKind.NONE: "None: feet stand on the plate by themselves",
    FootingKind.RAFT: "Raft: one slab under all, for many thin feet",
    FootingKind.PADS: "Pads: a plate under each foot, less resin",
    FootingKind.TIES: "Ties: bars from foot to foot, resin runs off between",
}


@dataclass(frozen=True, slots=True)
class FootingContext:
    """What the template has of footings.

    Attributes
    ----------
    kinds : list of (str, str)
        Those that the machine of the job prints, each with words.
    short : dict of str to str
        What each is called in a sentence.
    edge : str
        That a brim leaves an edge on the show side.
    """

    kinds: list[tuple[str, str]]
    short: dict[str, str]
    edge: str


def _context(page: JobPage, store: Store) -> FootingContext:
    words = RESIN_WORDS if page.sheet.is_resin else WORDS
    return FootingContext([*((kind.value, told) for kind, told in words.items())], SHORT, _edge(page))


def _edge(page: JobPage) -> str:
    """Where a brim is cut off it leaves an edge: told where that is on the show side."""
    sheet = page.sheet
    grows = sheet.footing.kind in (FootingKind.BRIM, FootingKind.CORNERS) and not sheet.is_resin
    if not grows or sheet.footing.brim_gap_mm > 0 or not (sheet.show or sheet.show_is_painted):
        return ""
    away = away_from(sheet)
    if away is None and not sheet.show_is_painted:
        return ""
    return "Cut off, it leaves an edge along the foot of the show side: a gap of 0.1 mm spares it."


SECTION = Section(
    slug="footing",
    title="Footing",
    folder=Path(__file__).parent,
    topic=Topic.FOOTING,
    wants=("footing", "footing_advice"),
    facts=("footing",),
    context=_context,
)

"""Section 5: what hangs, and the marks that are painted on the part."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.hanging.findings import Family, State
from ....core.marking.mark import Mark
from ....core.marking.marks import MEANING
from ....core.topics import Topic
from ...section import Section
from .routes import router

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class OverhangsContext:
    """Findings and marks.

    Attributes
    ----------
    families : dict of str to int
        How many findings there are of each family that occurs.
    states : list of str
        All states of findings.
    meanings : list of (str, str, str, float)
        Marks: key, name, what it means, painted area.
    """

    families: dict[str, int]
    states: list[str]
    meanings: list[tuple[str, str, str, float]]


def _context(page: JobPage, store: Store) -> OverhangsContext:
    listed = page.now.listed or ()
    found = {family.value: sum(f.family is family for f in listed) for family in Family}
    marks = page.sheet.marks
    areas = (marks.prop_mm2, marks.clear_mm2, marks.show_mm2, marks.solid_mm2) if marks else 4 * (0.0,)
    kinds = (
        (Mark.PROP, "prop"),
        (Mark.KEEP_CLEAR, "clear"),
        (Mark.SHOW, "show"),
        (Mark.SOLID, "solid"),
    )
    return OverhangsContext(
        {name: number for name, number in found.items() if number},
        [state.value for state in State],
        [
            (key, MEANING[mark].name, MEANING[mark].words, area)
            for (mark, key), area in zip(kinds, areas, strict=True)
        ],
    )


SECTION = Section(
    slug="overhangs",
    title="Overhangs",
    folder=Path(__file__).parent,
    topic=Topic.OVERHANGS,
    wants=("placed", "findings", "hangs", "marked", "holding", "supports", "channels"),
    facts=("findings", "hangs", "marked", "holding", "supports"),
    context=_context,
    routers=(router,),
)

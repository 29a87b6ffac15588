"""A job as a whole, as the graph sees it: all its items, to be laid on its plates."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from ..core.graph import GRAPH, Graph, Ref, Source
from ..core.keys import Keys
from ..core.recipes import settings as s
from ..core.recipes.values import OnPlates
from ..sheet.changes import Arrange
from ..sheet.models import JobSheet
from ..sheet.plating import Instance
from .bind import ItemBinding, keys_of
from .bind_plates import by_printer, to_arrange


class AllBinding:
    """All items of a job that are printed, as the graph sees them: to be laid on its plates.

    Parameters
    ----------
    job : JobSheet
    asked : ToArrange
        How they are to be laid.
    """

    def __init__(self, job: JobSheet, asked: s.ToArrange) -> None:
        self._job, self._asked = job, asked

    def settings(self, kind: type) -> object | None:
        """As ``Binding``."""
        return self._asked if kind is s.ToArrange else None

    def source(self, source: Source[Any]) -> Ref | None:
        """As ``Binding``: a job has none of its own."""
        return None

    def each(self) -> Sequence[ItemBinding]:
        """As ``Binding``."""
        return [ItemBinding(self._job.on(item)) for item in self._asked.items]


def arranging_keys(job: JobSheet, seconds: int = 0, graph: Graph = GRAPH) -> list[Keys]:
    """Keys of what arranges all items of a job on its plates, for each printer that these go to.

    A better way is looked for so long, for all together.
    """
    groups = by_printer(job)
    every = []
    for plates in groups:
        asked = to_arrange(job, plates, math.ceil(seconds / len(groups)))
        made = Keys(AllBinding(job, asked), graph)
        made.share([keys_of(job.on(item), graph) for item in asked.items])
        every.append(made)
    return every


def arranged(job: JobSheet, every: Sequence[OnPlates]) -> Arrange:
    """The change that puts all where they were laid; what fits no plate has one for itself, unplaced."""
    old = {(one.item, one.copy_number): one for plate in job.plates for one in plate.instances}
    plates: list[list[Instance]] = []
    for found in every:
        first = len(plates)
        plates += [[] for _ in range(max(found.plates, default=-1) + 1)]
        for item, copy, plate, (x, y, swing) in zip(
            found.items, found.copies, found.plates, found.places, strict=True
        ):
            # What nobody could read off a ruler is rounding.
            place = {"x_mm": round(x, 3), "y_mm": round(y, 3), "swing_deg": round(swing, 3)}
            plates[first + plate].append(old[item, copy].model_copy(update=place))
        plates += [[old[one].model_copy(update={"x_mm": None, "y_mm": None})] for one in found.left]
    return Arrange(plates=tuple(tuple(some) for some in plates))

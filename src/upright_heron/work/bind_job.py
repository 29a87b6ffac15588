"""A job as a whole, as the graph sees it: all its items, to be laid on its plates."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from itertools import islice
from typing import Any

from ..core.graph import GRAPH, Graph, Ref, Source
from ..core.keys import Keys
from ..core.recipes import settings as s
from ..core.recipes.values import OnPlates
from ..sheet.changes import Arrange
from ..sheet.changes.plate import MOST_COPIES
from ..sheet.models import JobSheet
from ..sheet.plating import Instance, Plate
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


def with_only(job: JobSheet, instances: Iterable[Instance]) -> JobSheet:
    """The job as if there were only a plate with these; what was put somewhere stays there."""
    locked = {"lock_x": True, "lock_y": True, "lock_swing": True}
    kept = tuple(one if one.x_mm is None else one.model_copy(update=locked) for one in instances)
    return job.model_copy(update={"plates": (Plate(instances=kept),)})


def copies_to_try(job: JobSheet, plate: int, item: str) -> list[Instance]:
    """Copies of an item that may find room on a plate: those there that were put nowhere, then new ones.

    Parameters
    ----------
    job : JobSheet
    plate : int
    item : str

    Returns
    -------
    list of Instance
        No more than there may be of an item.
    """
    here = [one for one in job.plates[plate].instances if one.item == item and one.x_mm is None]
    taken = {one.copy_number for some in job.plates for one in some.instances if one.item == item}
    free = (n for n in range(1, 2 * MOST_COPIES) if n not in taken)
    new = islice(free, max(MOST_COPIES - len(taken), 0))
    return [*here, *(Instance(item=item, copy_number=n) for n in new)]


def laid_first(
    job: JobSheet, found: OnPlates, before: Sequence[Instance], alike: Sequence[Instance] = ()
) -> tuple[Instance, ...]:
    """What was laid on the first plate, where it was laid.

    Parameters
    ----------
    job : JobSheet
        As it was laid.
    found : OnPlates
    before : sequence of Instance
        What had stood there, with its locks.
    alike : sequence of Instance
        Copies of one item: the first of them get the places that any of them got.

    Returns
    -------
    tuple of Instance
    """
    laid = arranged(job, [found]).plates[0] if 0 in found.plates else ()
    known = {(one.item, one.copy_number): one for one in before}
    names = {(one.item, one.copy_number) for one in alike}
    following = iter(alike)
    made = []
    for one in laid:
        name = (one.item, one.copy_number)
        own = next(following) if name in names else known[name]
        made.append(own.model_copy(update={"x_mm": one.x_mm, "y_mm": one.y_mm, "swing_deg": one.swing_deg}))
    return tuple(made)


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

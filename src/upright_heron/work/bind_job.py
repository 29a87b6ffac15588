"""A job as a whole, as the graph sees it: all its items, to be laid on its plates."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..core.graph import GRAPH, Graph, Ref, Source
from ..core.keys import Keys
from ..core.recipes import settings as s
from ..sheet.models import JobSheet
from .bind import ItemBinding, keys_of
from .bind_plates import to_arrange


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


def arranging_keys(job: JobSheet, seconds: int = 0, graph: Graph = GRAPH) -> Keys:
    """Keys of what arranges all items of a job on its plates; a better way is looked for so long."""
    asked = to_arrange(job, seconds)
    made = Keys(AllBinding(job, asked), graph)
    made.share([keys_of(job.on(item), graph) for item in asked.items])
    return made

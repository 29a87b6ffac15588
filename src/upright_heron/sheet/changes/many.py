"""One step that changes many items."""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import SerializeAsAny

from ...core.errors import BadValue
from ..models import ItemSheet, JobSheet
from .base import Change, JobChange


class ChangeMany(JobChange):
    """Make a change to each of several items, all or none of them; put together by the server."""

    about_item: ClassVar[bool] = False
    kind: Literal["many"] = "many"
    # The id of each item with what is changed of it.
    changes: tuple[tuple[str, SerializeAsAny[Change]], ...]
    words: str

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with every change made."""
        if not self.changes:
            raise BadValue("No item is ticked.", "Tick the items that this is for.")
        for name, change in self.changes:
            job = change.made(job, name)
        return job

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done, and to how many."""
        count = len(self.changes)
        return f"{self.words}: {count} item{'' if count == 1 else 's'}"[:200]

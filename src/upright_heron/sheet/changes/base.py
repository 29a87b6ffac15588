"""What all changes to a job sheet have in common."""

from __future__ import annotations

from typing import ClassVar, TypeVar

from ..document import Document
from ..models import ItemSheet, JobSheet

S = TypeVar("S", bound=Document)


class Change(Document):
    """Base of all changes: of what is decided for an item, and for its job."""

    # It is about one of the items of a job.
    about_item: ClassVar[bool] = True

    kind: str

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the changed sheet; the one given stays as it is."""
        raise NotImplementedError

    def label(self, sheet: ItemSheet) -> str:
        """Say what the change does, for the list of steps."""
        raise NotImplementedError

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the change made to one of its items."""
        return job.with_item(self.apply(job.on(item)))


class JobChange(Change):
    """Base of changes of a job as a whole, or of which items it has."""

    about_item: ClassVar[bool] = False

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the changed job; ``item`` is the one that is looked at."""
        raise NotImplementedError


def altered(sheet: S, **fields: object) -> S:
    """Return the sheet with fields of it replaced, all checked anew."""
    # Validated anew: model_copy alone would let a bad number into the sheet.
    kind = type(sheet)
    return kind.model_validate({**{k: getattr(sheet, k) for k in kind.model_fields}, **fields})

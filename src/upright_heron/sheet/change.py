"""What all changes to a job sheet have in common."""

from __future__ import annotations

from .document import Document
from .models import JobSheet


class Change(Document):
    """Base of all changes."""

    kind: str

    def apply(self, sheet: JobSheet) -> JobSheet:
        """Return the changed sheet; the one given stays as it is."""
        raise NotImplementedError

    def label(self, sheet: JobSheet) -> str:
        """Say what the change does, for the list of steps."""
        raise NotImplementedError


def altered(sheet: JobSheet, **fields: object) -> JobSheet:
    """Return the sheet with fields of it replaced, all checked anew."""
    # Validated anew: model_copy alone would let a bad number into the sheet.
    return JobSheet.model_validate({**{k: getattr(sheet, k) for k in JobSheet.model_fields}, **fields})

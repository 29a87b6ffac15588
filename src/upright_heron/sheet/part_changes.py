"""Changes of the parts of a job: sized, mended, added, separated, taken out."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ..core.errors import BadValue
from .change import Change, altered
from .models import JobSheet, PaintedMarks, Part, PartWork, Size
from .process import usual_footing

# A sheet stays a document that is read at once; a plate of hundreds is made of copies, not of parts.
MOST_PARTS = 60


class Resize(Change):
    """Give the part a size; made by the server, because the sized surface has to exist first."""

    kind: Literal["resize"] = "resize"
    size: Size
    part: Part
    of: str
    marks: PaintedMarks | None = None
    marks_before: str = ""

    def apply(self, sheet: JobSheet) -> JobSheet:
        """Return the sheet with the part sized."""
        sheet = _at_base(sheet, self.of)
        _same_marks(sheet, self.marks_before)
        came = sheet.original if self.part.mesh != sheet.original.mesh else None
        return altered(sheet, part=self.part, came=came, size=self.size, marks=self.marks)

    def label(self, sheet: JobSheet) -> str:
        """Say what was done."""
        if self.size.untouched:
            return f"Size as it came{_lost(self.marks)}"
        x, y, z = self.part.size_mm
        return f"Size {x:.4g} × {y:.4g} × {z:.4g} mm{_lost(self.marks)}"


class Mend(Change):
    """Replace the part by a mended one; made by the server, as for ``Resize``."""

    kind: Literal["mend"] = "mend"
    part: Part
    sized: Part
    words: tuple[str, ...]
    moved_mm: float = 0.0
    of: str
    marks: PaintedMarks | None = None
    marks_before: str = ""

    def apply(self, sheet: JobSheet) -> JobSheet:
        """Return the sheet with the part mended."""
        sheet = _at_base(sheet, self.of)
        _same_marks(sheet, self.marks_before)
        return altered(
            sheet,
            came=sheet.original,
            mended=self.part,
            part=self.sized,
            marks=self.marks,
            mending=(*sheet.mending, *self.words),
            moved_mm=max(sheet.moved_mm, self.moved_mm),
        )

    def label(self, sheet: JobSheet) -> str:
        """Say what was done."""
        return f"Mend: {', '.join(self.words)}"[:150] + _lost(self.marks)


class Paint(Change):
    """Change what is painted on the part; made by the server, which keeps the bytes first."""

    kind: Literal["paint"] = "paint"
    marks: PaintedMarks | None
    of: str
    before: str = ""
    words: str = Field(max_length=80)

    def apply(self, sheet: JobSheet) -> JobSheet:
        """Return the sheet with the marks."""
        for one in (sheet, *sheet.each):
            if one.part.mesh == self.of:
                _same_marks(one, self.before)
                return altered(one, marks=self.marks)
        raise BadValue("The part was changed meanwhile.", "Look at it again, and repeat the step.")

    def label(self, sheet: JobSheet) -> str:
        """Say what was done."""
        return self.words


class AddParts(Change):
    """Put more parts into the job; the first of them is shown."""

    kind: Literal["add-parts"] = "add-parts"
    parts: tuple[Part, ...]

    def apply(self, sheet: JobSheet) -> JobSheet:
        """Return the sheet with the parts behind those it has."""
        footing = usual_footing(sheet.machine)
        fresh = [PartWork(part=part, footing=footing, marks=part.painted) for part in self.parts]
        if len(sheet.parts) + len(fresh) > MOST_PARTS:
            raise BadValue(f"A job holds {MOST_PARTS} parts at most.", "Make another job of the rest.")
        return sheet.with_parts([*sheet.parts, *fresh], len(sheet.parts))

    def label(self, sheet: JobSheet) -> str:
        """Say what was done."""
        return f"Add {', '.join(part.file_name for part in self.parts)}"[:200]


class SeparateParts(Change):
    """Replace the shown part by its bodies, each a part; made by the server, as for ``Resize``."""

    kind: Literal["separate"] = "separate"
    parts: tuple[Part, ...]
    of: str

    def apply(self, sheet: JobSheet) -> JobSheet:
        """Return the sheet with the bodies in the place of the part."""
        if sheet.part.mesh != self.of:
            raise BadValue("The part was changed meanwhile.", "Look at it again, and repeat the step.")
        fresh = [PartWork(part=part, footing=sheet.footing, marks=part.painted) for part in self.parts]
        rest = list(sheet.parts)
        if len(rest) - 1 + len(fresh) > MOST_PARTS:
            raise BadValue(f"A job holds {MOST_PARTS} parts at most.", "Make a job of each body instead.")
        rest[sheet.at : sheet.at + 1] = fresh
        return sheet.with_parts(rest, sheet.at)

    def label(self, sheet: JobSheet) -> str:
        """Say what was done."""
        return f"Separate {sheet.part.file_name} into {len(self.parts)} parts"[:200]


class TakeOut(Change):
    """Take the shown part out of the job."""

    kind: Literal["take-out"] = "take-out"

    def apply(self, sheet: JobSheet) -> JobSheet:
        """Return the sheet with the other parts."""
        if not sheet.others:
            raise BadValue("This is the only part of the job.", "Delete the job in the Yard instead.")
        return sheet.with_parts(sheet.others, sheet.at)

    def label(self, sheet: JobSheet) -> str:
        """Say what was done."""
        return f"Take out {sheet.part.file_name}"[:200]


def _same_marks(sheet: JobSheet, before: str) -> None:
    if (sheet.marks.digest if sheet.marks else "") != before:
        raise BadValue("The part was painted meanwhile.", "Look at it again, and repeat the step.")


def _lost(marks: PaintedMarks | None) -> str:
    lost = marks.lost_mm2 if marks else 0.0
    return f"; {lost:.0f} mm² of marks could not be carried" if lost >= 0.5 else ""


def _at_base(sheet: JobSheet, digest: str) -> JobSheet:
    """The sheet with the part shown that was worked on: someone may look at another by now."""
    for one in (sheet, *sheet.each):
        if one.base.mesh == digest:
            return one
    raise BadValue("The part was changed meanwhile.", "Look at it again, and repeat the step.")

"""Changes of the items of a job: sized, mended, hollowed, painted, added, separated, taken out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar, Literal

from pydantic import Field

from ...core.errors import BadValue
from ..hollowing import Hollowing
from ..item import Item, brought_first, fresh_id, scaled
from ..models import ItemSheet, JobSheet
from ..part import PaintedMarks, Part, Size
from ..process import usual_footing
from .base import Change, JobChange, altered

# A sheet stays a document that is read at once; a plate of hundreds is made of copies.
MOST_ITEMS = 240


class Resize(Change):
    """Give the part a size; made by the server, because the sized surface has to exist first."""

    kind: Literal["resize"] = "resize"
    size: Size
    part: Part
    of: str
    marks: PaintedMarks | None = None
    marks_before: str = ""
    solid: Part | None = None
    hollow: Hollowing | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet with the part sized."""
        _same_base(sheet, self.of)
        _same_marks(sheet, self.marks_before)
        came = sheet.original if self.part.mesh != sheet.original.mesh else None
        x, y, z = (new / old for new, old in zip(self.size.factors, sheet.size.factors, strict=True))
        grid = None if sheet.grid is None else sheet.grid.sized((x, y, z))
        supports = sheet.supports if sheet.resin is None else sheet.resin.sized((x, y, z))
        along: dict[str, object] = {
            "grid": grid, "supports": supports, "solid": self.solid, "hollow": self.hollow,
        }  # fmt: skip
        for name in ("seam_line", "second_bodies"):
            along[name] = tuple(scaled(at, (x, y, z)) for at in getattr(sheet, name))
        return altered(sheet, part=self.part, came=came, size=self.size, marks=self.marks, **along)

    def label(self, sheet: ItemSheet) -> str:
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
    doubts: tuple[str, ...] = ()
    ways_left: tuple[str, ...] = ()
    of: str
    marks: PaintedMarks | None = None
    marks_before: str = ""
    solid: Part | None = None
    hollow: Hollowing | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet with the part mended."""
        _same_base(sheet, self.of)
        _same_marks(sheet, self.marks_before)
        return altered(
            sheet,
            came=sheet.original,
            mended=self.part,
            part=self.sized,
            marks=self.marks,
            mending=(*sheet.mending, *self.words),
            moved_mm=max(sheet.moved_mm, self.moved_mm),
            mending_doubts=self.doubts,
            ways_left=self.ways_left,
            solid=self.solid,
            hollow=self.hollow,
        )

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Mend: {', '.join(self.words)}"[:150] + _lost(self.marks)


class Hollow(Change):
    """Hollow the part, or make it solid again; made by the server, as for ``Resize``."""

    kind: Literal["hollow"] = "hollow"
    part: Part
    solid: Part | None = None
    hollow: Hollowing | None = None
    of: str
    marks: PaintedMarks | None = None
    marks_before: str = ""

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet with the part as it is now."""
        if sheet.part.mesh != self.of:
            raise changed_meanwhile()
        _same_marks(sheet, self.marks_before)
        came = sheet.original if self.part.mesh != sheet.original.mesh else None
        return altered(
            sheet, came=came, part=self.part, solid=self.solid, hollow=self.hollow, marks=self.marks
        )

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        if self.hollow is None:
            return f"Solid again{_lost(self.marks)}"
        holes = len(self.hollow.drilled)
        words = f"Hollow, walls of {self.hollow.wall_mm:g} mm"
        return words + (f", {holes} hole{'s' * (holes > 1)}" if holes else "") + _lost(self.marks)


class Paint(Change):
    """Change what is painted on the part; made by the server, which keeps the bytes first."""

    kind: Literal["paint"] = "paint"
    marks: PaintedMarks | None
    of: str
    before: str = ""
    words: str = Field(max_length=80)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet with the marks."""
        if sheet.part.mesh != self.of:
            raise changed_meanwhile()
        _same_marks(sheet, self.before)
        return altered(sheet, marks=self.marks)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return self.words


class AddItems(JobChange):
    """Put more parts into the job, each an item."""

    kind: Literal["add-items"] = "add-items"
    parts: tuple[Part, ...]

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the parts behind the items that it has."""
        return with_parts(job, job.items, self.parts, len(job.items))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Add {', '.join(part.file_name for part in self.parts)}"[:200]


class SeparateItem(JobChange):
    """Replace an item by its bodies, each an item; made by the server, as for ``Resize``."""

    about_item: ClassVar[bool] = True
    kind: Literal["separate"] = "separate"
    parts: tuple[Part, ...]
    of: str

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the bodies in the place of the item."""
        gone = job.item(item)
        if gone.part.mesh != self.of:
            raise changed_meanwhile()
        at = job.items.index(gone)
        rest = [one for one in job.items if one is not gone and not _is_piece_of(one, gone.id)]
        return with_parts(job, rest, self.parts, min(at, len(rest)), gone)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Separate {sheet.part.file_name} into {len(self.parts)} items"[:200]


class TakeOut(JobChange):
    """Take an item out of the job, with its pieces."""

    about_item: ClassVar[bool] = True
    kind: Literal["take-out"] = "take-out"

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the other items."""
        gone = job.item(item).id
        rest = [one for one in job.items if one.id != gone and not _is_piece_of(one, gone)]
        if not rest:
            raise BadValue("This is the only item of the job.", "Delete the job in the Yard instead.")
        return job.with_items(rest)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Take out {sheet.part.file_name}"[:200]


def _is_piece_of(one: Item, item: str) -> bool:
    return one.piece is not None and one.piece.item == item


def with_parts(
    job: JobSheet, items: Sequence[Item], parts: Sequence[Part], at: int, like: Item | None = None
) -> JobSheet:
    """Return the job with parts as new items among those given, in one place of their order.

    Raises
    ------
    BadValue
        The job would have too many items.
    """
    if len(items) + len(parts) > MOST_ITEMS:
        raise BadValue(f"A job holds {MOST_ITEMS} items at most.", "Make another job of the rest.")
    footing = like.footing if like is not None else usual_footing(job.machine)
    elsewhere = like.elsewhere if like is not None else None
    # An id that was in use stays taken: what is kept under it speaks of another item.
    taken = {one.id for one in (*items, *job.items)}
    fresh = []
    for part in parts:
        taken.add(name := fresh_id(part, taken))
        kept = {"footing": footing, "marks": part.painted, "brought": brought_first(part)}
        fresh.append(Item(id=name, part=part, elsewhere=elsewhere, **kept))
    return job.with_items([*items[:at], *fresh, *items[at:]])


def _same_marks(sheet: ItemSheet, before: str) -> None:
    if (sheet.marks.digest if sheet.marks else "") != before:
        raise BadValue("The part was painted meanwhile.", "Look at it again, and repeat the step.")


def _lost(marks: PaintedMarks | None) -> str:
    lost = marks.lost_mm2 if marks else 0.0
    return f"; {lost:.0f} mm² of marks could not be carried" if lost >= 0.5 else ""


def _same_base(sheet: ItemSheet, digest: str) -> None:
    if sheet.base.mesh != digest:
        raise changed_meanwhile()


def changed_meanwhile() -> BadValue:
    """Tell that a part is another by now than the one that was worked on."""
    return BadValue("The part was changed meanwhile.", "Look at it again, and repeat the step.")

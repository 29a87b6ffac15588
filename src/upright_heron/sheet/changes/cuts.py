"""Changes of how an item is cut into pieces."""

from __future__ import annotations

from typing import ClassVar, Literal

from ...core.errors import BadValue
from ...core.split.grid import box_for
from ..document import Length
from ..item import Grid, Item, PieceOf
from ..models import ItemSheet, JobSheet
from ..part import Part
from .base import Change, JobChange, altered
from .items import MOST_ITEMS, changed_meanwhile


class CutToGrid(Change):
    """Cut the part into boxes of the build volume less a margin."""

    kind: Literal["cut"] = "cut"
    margin_mm: Length = 3.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        box_for(sheet.machine.build_mm, self.margin_mm)
        return altered(sheet, grid=Grid(margin_mm=self.margin_mm))

    def label(self, sheet: ItemSheet) -> str:
        return f"Cut to {sheet.machine.name}, margin {self.margin_mm:g} mm"


class JoinAgain(JobChange):
    """Take the cuts back; its pieces are items no more."""

    about_item: ClassVar[bool] = True
    kind: Literal["join"] = "join"

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the item in one piece."""
        whole = job.item(item)
        rest = [one for one in job.items if one.piece is None or one.piece.item != whole.id]
        return job.with_items([_uncut(one) if one.id == whole.id else one for one in rest])

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return "One piece again"


def _uncut(item: Item) -> Item:
    return item.model_copy(update={"grid": None})


class MakePieces(JobChange):
    """Make items of the pieces of a cut item; made by the server, which keeps their surfaces first.

    A piece that is there already, by its path in the cuts, keeps all that is decided for it.
    """

    about_item: ClassVar[bool] = True
    kind: Literal["pieces"] = "pieces"
    parts: tuple[Part, ...]
    paths: tuple[str, ...]
    of: str

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the pieces behind the item that they are cut from."""
        whole = job.item(item)
        if whole.part.mesh != self.of or whole.grid is None:
            raise changed_meanwhile()
        known = {
            one.piece.path: one for one in job.items if one.piece is not None and one.piece.item == whole.id
        }
        pieces = []
        for part, path in zip(self.parts, self.paths, strict=True):
            old = known.get(path)
            if old is not None:
                pieces.append(old if old.part == part else _recut(old, part))
            else:
                piece = PieceOf(item=whole.id, path=path)
                pieces.append(
                    Item(
                        id=f"{whole.id}.{path}",
                        piece=piece,
                        part=part,
                        footing=whole.footing,
                        marks=part.painted,
                    )
                )
        rest = [one for one in job.items if one.piece is None or one.piece.item != whole.id]
        if len(rest) + len(pieces) > MOST_ITEMS:
            raise BadValue(f"A job holds {MOST_ITEMS} items at most.", "Cut it into fewer pieces.")
        at = rest.index(whole) + 1
        return job.with_items([*rest[:at], *pieces, *rest[at:]])

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Make items of {len(self.parts)} pieces"


def _recut(old: Item, part: Part) -> Item:
    return old.model_copy(update={"part": part, "came": None, "mended": None, "mending": ()})

"""What was done to supports by hand, and variants of the support settings that are kept side by side."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ...core.errors import BadValue
from ...core.supports.demand.patches import Hold
from ..document import Length, Name
from ..item import HandWork, Variant
from ..models import ItemSheet
from ..process import FilamentSupports
from .base import Change, altered

MOST_VARIANTS = 6


class EditSupports(Change):
    """Change supports by hand; made by the server, which keeps the supports first."""

    kind: Literal["by-hand"] = "by-hand"
    hand: HandWork
    # What the change was worked out from.
    before: HandWork
    of: str
    words: str = Field(max_length=120)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet with the hand work."""
        if sheet.part.mesh == self.of and sheet.hand == self.before:
            return altered(sheet, hand=self.hand)
        raise BadValue("The supports were changed meanwhile.", "Look at them again, and repeat the step.")

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return self.words


class KeepBrought(Change):
    """Keep the supports that came with the file; made by the server, which makes columns of them first."""

    kind: Literal["keep-brought"] = "keep-brought"
    hand: HandWork
    lift_mm: Length
    of: str
    # Bodies that are left out because their surface is open.
    left: int = 0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet with these supports, the part lifted onto them; no others are added."""
        if sheet.part.mesh != self.of:
            raise BadValue("The part was changed meanwhile.", "Look at it again, and repeat the step.")
        if sheet.brought != "kept" and (sheet.hand.count or sheet.hand.removed):
            told = "Supports of this part were worked on by hand, and these would take their place."
            raise BadValue(told, "Take out what was made by hand first, or leave these out.")
        held = sheet.filament or FilamentSupports(hold=Hold.PAINTED, steady=0)
        stance = sheet.stance.model_copy(update={"lift_mm": self.lift_mm})
        return altered(sheet, brought="kept", hand=self.hand, stance=stance, supports=held)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        open_ones = f", {self.left} with an open surface left out" if self.left else ""
        some = "1 support" if self.hand.count == 1 else f"{self.hand.count} supports"
        return f"Keep {some} of the file{open_ones}"


class LeaveBrought(Change):
    """Leave the supports out that came with the file."""

    kind: Literal["leave-brought"] = "leave-brought"

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet without them; what they were kept with goes too."""
        if sheet.brought == "none":
            raise BadValue("The file of this part holds no supports.", "There is nothing to leave out.")
        hand = HandWork() if sheet.brought == "kept" else sheet.hand
        return altered(sheet, brought="left", hand=hand)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return "Leave the supports of the file out"


class KeepVariant(Change):
    """Keep the supports as they are now beside others."""

    kind: Literal["keep-variant"] = "keep-variant"
    name: Name

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet with the variant; one of the same name is replaced."""
        if sheet.supports is None:
            raise BadValue("There are no supports to keep.", "Make supports first.")
        others = tuple(v for v in sheet.variants if v.name != self.name)
        if len(others) >= MOST_VARIANTS:
            raise BadValue(f"{MOST_VARIANTS} variants are kept at most.", "Drop one first.")
        mine = Variant(name=self.name, supports=sheet.supports, hand=sheet.hand, limit_deg=sheet.limit)
        return altered(sheet, variants=(*others, mine))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Keep supports as “{self.name}”"


class TakeVariant(Change):
    """Go back to a variant: its settings, its limit and its work by hand."""

    kind: Literal["take-variant"] = "take-variant"
    name: Name

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet with the supports of the variant."""
        kept = variant(sheet, self.name)
        return altered(sheet, supports=kept.supports, hand=kept.hand, limit_deg=kept.limit_deg)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Take supports “{self.name}”"


class DropVariant(Change):
    """Forget a variant."""

    kind: Literal["drop-variant"] = "drop-variant"
    name: Name

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet without the variant."""
        variant(sheet, self.name)
        return altered(sheet, variants=tuple(v for v in sheet.variants if v.name != self.name))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Drop supports “{self.name}”"


def variant(sheet: ItemSheet, name: str) -> Variant:
    """Find a variant by its name.

    Raises
    ------
    BadValue
        There is none.
    """
    for kept in sheet.variants:
        if kept.name == name:
            return kept
    raise BadValue(f"There is no variant “{name}”.", "Pick one of the list.")

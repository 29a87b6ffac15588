"""Changes of what is looked for and let be."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ..document import Length
from ..models import ItemSheet
from .base import Change, altered


class AcceptFinding(Change):
    """Let a finding be, with a note; or take that back."""

    kind: Literal["accept"] = "accept"
    finding: str = Field(pattern=r"^[0-9a-f]{10}$")
    name: str = Field(default="a finding", max_length=40)
    note: str = Field(default="", max_length=200)
    back: bool = False

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        kept = {key: note for key, note in sheet.accepted.items() if key != self.finding}
        return altered(sheet, accepted=kept if self.back else {**kept, self.finding: self.note.strip()})

    def label(self, sheet: ItemSheet) -> str:
        return f"{'Look again at' if self.back else 'Accept'} {self.name}"


class ProposeChannels(Change):
    """Ask for holes and channels under a width, to keep them clear; without one, for none."""

    kind: Literal["channels"] = "channels"
    width_mm: Length | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, channel_mm=self.width_mm)

    def label(self, sheet: ItemSheet) -> str:
        return f"Find channels under {self.width_mm:g} mm" if self.width_mm else "No channels"

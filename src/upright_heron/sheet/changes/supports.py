"""Changes of supports and footing: how they are made, and for which patches."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BeforeValidator, Field

from ...core.errors import BadValue
from ...core.footing.footing import FootingKind
from ...core.supports.demand.patches import Hold, Style
from ..document import Length
from ..models import ItemSheet
from ..process import FilamentSupports, Footing, ResinSupports, Second, read_gap
from .base import Change, altered

# Numbers and words are both taken for what was typed.
Typed = Annotated[str, BeforeValidator(str), Field(max_length=40)]


class MakeSupports(Change):
    """Make supports with these settings."""

    kind: Literal["supports"] = "supports"
    # As typed: a length, or so many layers.
    gap_mm: Typed = "0.2"
    gap_below_mm: Typed = ""
    clearance_mm: Length = 0.45
    spacing_mm: Length = 4.0
    tip_mm: Length = 0.4
    hold: Hold = Hold.ALL
    # Empty: each patch in the style that suits it.
    style: Style | Literal[""] = ""
    from_plate: bool = False
    line_spacing_mm: Length = 2.2
    interface_layers: int = 2
    slit_mm: Length = 0.0
    branch_deg: float = 40.0
    smallest_mm2: float = 1.0
    bridge_mm: Length | None = None
    line_angle_deg: float = 0.0
    sturdiness: float = 100.0
    every: int = 1
    brim_mm: Length = 0.0
    steady: int | None = None
    steady_percent: float = 75.0
    second: Second = Second.NOTHING
    second_material: str = ""
    tool_mm: Length = 3.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        if sheet.is_resin:
            asked = self.model_fields_set & set(ResinSupports.model_fields) - {"kind"}
            stilts = {name: getattr(self, name) for name in asked}
            return altered(sheet, supports=ResinSupports(**stilts))
        known = sheet.filament or FilamentSupports()
        (gap, layers), (below, layers_below) = read_gap(self.gap_mm), read_gap(self.gap_below_mm)
        fields = {
            **self.model_dump(exclude={"kind", "steady_percent", "tip_mm"}),
            "gap_mm": FilamentSupports().gap_mm if gap is None else gap,
            "gap_layers": layers,
            "gap_below_mm": below,
            "gap_below_layers": layers_below,
            "style": self.style or None,
            "steady_at": self.steady_percent / 100.0,
        }
        # What was chosen for single patches stays.
        return altered(sheet, supports=FilamentSupports(**{**known.model_dump(), **fields}))

    def label(self, sheet: ItemSheet) -> str:
        return "Make supports"


class SetStyle(Change):
    """Make supports in one style, or each patch in the one that suits it; all other settings stay."""

    kind: Literal["style"] = "style"
    style: Style | Literal[""] = ""

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        if sheet.is_resin:
            return altered(sheet, supports=sheet.supports or ResinSupports())
        known = sheet.filament or FilamentSupports()
        return altered(
            sheet, supports=FilamentSupports(**{**known.model_dump(), "style": self.style or None})
        )

    def label(self, sheet: ItemSheet) -> str:
        return f"Supports, {self.style or 'each patch as it suits'}"


class StylePatches(Change):
    """Choose the style of some patches, and what their supports may stand on; or leave them to the rest."""

    kind: Literal["style-patch"] = "style-patch"
    patches: tuple[Annotated[str, Field(pattern=r"^[0-9a-f]{10}$")], ...] = Field(max_length=5000)
    # What is not given stays; "rest" goes back to what holds for all.
    style: Style | Literal["", "rest"] = ""
    origin: Literal["", "rest", "plate", "any"] = ""
    name: str = Field(default="a patch", max_length=80)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        known = sheet.filament
        if known is None:
            raise BadValue("There are no supports to choose a style for.", "Make supports first.")
        if not self.patches:
            raise BadValue("No patch is picked.", "Tick the patches that this is for.")
        styles, origins = dict(known.by_patch), dict(known.plate_only)
        for patch in self.patches:
            if self.style:
                styles.pop(patch, None)
            if self.origin:
                origins.pop(patch, None)
            if isinstance(self.style, Style):
                styles[patch] = self.style
            if self.origin in ("plate", "any"):
                origins[patch] = self.origin == "plate"
        changed = {**known.model_dump(), "by_patch": styles, "plate_only": origins}
        return altered(sheet, supports=FilamentSupports(**changed))

    def label(self, sheet: ItemSheet) -> str:
        what = self.name if len(self.patches) == 1 else f"{len(self.patches)} patches"
        origin = {"plate": "from the plate only", "any": "from the part too"}.get(self.origin, "")
        said = [word for word in (self.style if self.style != "rest" else "", origin) if word]
        return f"{what[:1].upper()}{what[1:]}: {', '.join(said) or 'as the rest'}"


class RemoveSupports(Change):
    """Take all supports away."""

    kind: Literal["no-supports"] = "no-supports"

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, supports=None)

    def label(self, sheet: ItemSheet) -> str:
        return "Remove all supports"


class SetFooting(Change):
    """Choose what holds the part on the plate."""

    kind: Literal["footing"] = "footing"
    footing: FootingKind
    lines: int = 6
    margin_mm: Length = 4.0
    gap_mm: Length = 0.25

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(
            sheet,
            footing=Footing(
                kind=self.footing, lines=self.lines, margin_mm=self.margin_mm, gap_mm=self.gap_mm
            ),
        )

    def label(self, sheet: ItemSheet) -> str:
        return {
            FootingKind.NONE: "No footing",
            FootingKind.SKIRT: f"Skirt, {self.lines} lines",
            FootingKind.BRIM: f"Brim, {self.lines} lines",
            FootingKind.RAFT: f"Raft, margin {self.margin_mm:g} mm",
        }[self.footing]

"""Changes of supports and footing: how they are made, and for which patches."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field

from ...core.errors import BadValue
from ...core.footing.footing import BrimSide, FootingKind
from ...core.supports.demand.patches import Hold, Style
from ...core.supports.resin.sizes import Stoutness, sizes
from ..document import Length, Vector
from ..models import ItemSheet
from ..process import (
    MOST_SPARE,
    MOST_TIPS,
    FilamentSupports,
    Footing,
    ResinSupports,
    Second,
    TipsAround,
    TipSize,
    read_gap,
)
from .base import Change, altered

# Numbers and words are both taken for what was typed.
Typed = Annotated[str, BeforeValidator(str), Field(max_length=40)]


# Places so near to each other are of one tip.
SAME_TIP_MM = 0.5
# What only stilts are asked.
OF_STILTS = (
    "tip_mm",
    "depth_mm",
    "shaft_mm",
    "foot_mm",
    "taper_mm",
    "lean_deg",
    "apart",
    "hollows_free",
    "spare",
    "fine_tip_mm",
    "fine_shaft_mm",
    "stout_tip_mm",
    "stout_shaft_mm",
    "brace_deg",
    "brace_every_mm",
    "slender",
    "tip_length_mm",
    "rounded",
)


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
    # Of stilts.
    depth_mm: Length = 0.2
    shaft_mm: Length = 1.0
    foot_mm: Length = 3.0
    taper_mm: Length = 0.05
    lean_deg: float = 45.0
    apart: bool = False
    tip_length_mm: Length = 2.5
    rounded: bool = False
    fine_tip_mm: Length | None = None
    fine_shaft_mm: Length | None = None
    stout_tip_mm: Length | None = None
    stout_shaft_mm: Length | None = None
    brace_deg: float = 45.0
    brace_every_mm: Length = 25.0
    slender: float = 40.0
    hollows_free: bool = False
    spare: float = 1.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        if sheet.is_resin:
            asked = self.model_fields_set & set(ResinSupports.model_fields) - {"kind"}
            stilts = {name: getattr(self, name) for name in asked}
            # What was done by hand stays.
            hand = sheet.resin.model_dump(include={"put_mm", "out_mm", "tip_sizes"}) if sheet.resin else {}
            made = ResinSupports(**{**hand, **stilts})
            # Asked of what is typed now: jobs from before there were shafts to type stay as they are.
            if not made.tip_mm <= made.shaft_mm <= made.foot_mm:
                raise BadValue(
                    "A shaft is no thinner than its tip, and a foot no thinner than its shaft.",
                    "Type a thinner tip, or a thicker shaft and foot.",
                )
            three = sizes(made.settings())
            if any(one.tip_mm > one.shaft_mm for one in three) or not all(
                one.tip_mm <= other.tip_mm and one.shaft_mm <= other.shaft_mm
                for one, other in pairwise(three)
            ):
                raise BadValue(
                    "Fine stilts are no thicker than medium ones, stout ones no thinner, each no thinner than"
                    " its tip.",
                    "Type other tips and shafts, or leave them in proportion.",
                )
            return altered(sheet, supports=made)
        known = sheet.filament or FilamentSupports()
        (gap, layers), (below, layers_below) = read_gap(self.gap_mm), read_gap(self.gap_below_mm)
        fields = {
            **self.model_dump(exclude={"kind", "steady_percent", *OF_STILTS}),
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


class Strengthen(Change):
    """Make the weakest tips of stilts stronger: stout, or with others beside them."""

    kind: Literal["strengthen"] = "strengthen"
    # What the weakest bears of what it can.
    share: Annotated[float, Field(gt=0, le=1000)] = 1.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        known = _stilts(sheet)
        if known.spare >= MOST_SPARE:
            raise BadValue(
                f"Tips can bear {MOST_SPARE:g} times their load already.",
                "Lean the part, or take a wider tip.",
            )
        return altered(sheet, supports=known.stronger(self.share))

    def label(self, sheet: ItemSheet) -> str:
        return "Make the weakest tips stronger"


class PutTips(Change):
    """Put tips of stilts on places of the part by hand."""

    kind: Literal["put-tips"] = "put-tips"
    at_mm: tuple[Vector, ...] = Field(min_length=1, max_length=MOST_TIPS)
    words: str = Field(default="Put a tip by hand", max_length=80)
    # What the others go on standing round; without it they are stood anew.
    around: TipsAround | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        known = _stilts(sheet)
        fresh = tuple(at for at in self.at_mm if not _among(at, known.put_mm))
        if not fresh:
            raise BadValue("There are tips already.", "Point at another place.")
        if len(known.put_mm) + len(fresh) > MOST_TIPS:
            raise BadValue(
                f"{MOST_TIPS} tips can be put by hand, and these would be {len(known.put_mm) + len(fresh)}.",
                "Take some out, or space them wider.",
            )
        left = tuple(at for at in known.out_mm if not _among(at, fresh))
        # One that was taken out comes back only as they are stood anew.
        around = self.around if len(left) == len(known.out_mm) else None
        changed = {"put_mm": (*known.put_mm, *fresh), "out_mm": left, "around": around}
        return altered(sheet, supports=known.model_copy(update=changed))

    def label(self, sheet: ItemSheet) -> str:
        return self.words


class TakeTipOut(Change):
    """Take the tip of a stilt out by hand: one that was put, or an automatic one, which stays out."""

    kind: Literal["tip-out"] = "tip-out"
    at_mm: Vector
    around: TipsAround | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        known = _stilts(sheet)
        put = tuple(at for at in known.put_mm if not _among(at, (self.at_mm,)))
        if len(put) < len(known.put_mm):
            return altered(sheet, supports=known.model_copy(update={"put_mm": put, "around": self.around}))
        if len(known.out_mm) >= MOST_TIPS:
            raise BadValue(f"{MOST_TIPS} tips can be taken out by hand.", "Bring some of them back.")
        out = {"out_mm": (*known.out_mm, self.at_mm), "around": self.around}
        return altered(sheet, supports=known.model_copy(update=out))

    def label(self, sheet: ItemSheet) -> str:
        return "Take a tip out"


class SizeTip(Change):
    """Choose the size of the tip at a place of the part; without one its load decides again."""

    kind: Literal["size-tip"] = "size-tip"
    at_mm: Vector
    size: Stoutness | Literal[""] = ""
    around: TipsAround | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        known = _stilts(sheet)
        kept = tuple(one for one in known.tip_sizes if not _among(one.at_mm, (self.at_mm,)))
        if self.size:
            if len(kept) >= MOST_TIPS:
                raise BadValue(f"Sizes can be chosen for {MOST_TIPS} tips.", "Let some go by their load.")
            kept = (*kept, TipSize(at_mm=self.at_mm, size=Stoutness(self.size)))
        return altered(sheet, supports=known.model_copy(update={"tip_sizes": kept, "around": self.around}))

    def label(self, sheet: ItemSheet) -> str:
        return f"A {self.size} tip" if self.size else "A tip by its load"


class RoundTips(Change):
    """Stand the other stilts anew, round what hands did to tips."""

    kind: Literal["round-tips"] = "round-tips"

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, supports=_stilts(sheet).model_copy(update={"around": None}))

    def label(self, sheet: ItemSheet) -> str:
        return "Stand the other stilts round tips by hand"


class ForgetTips(Change):
    """Forget what was done to tips by hand."""

    kind: Literal["forget-tips"] = "forget-tips"

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, supports=_stilts(sheet).for_any_part)

    def label(self, sheet: ItemSheet) -> str:
        return "Forget what was done to tips by hand"


def _among(place: Vector, places: tuple[Vector, ...]) -> bool:
    """Whether a tip at a place is one of those at some places."""
    return any(math.dist(place, one) <= SAME_TIP_MM for one in places)


def _stilts(sheet: ItemSheet) -> ResinSupports:
    """Settings of the stilts of an item.

    Raises
    ------
    BadValue
        It has none.
    """
    known = sheet.resin
    if known is None or not sheet.is_resin:
        raise BadValue("There are no stilts.", "Make supports on a resin printer first.")
    return known


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
    thick_mm: Length = 1.0
    pad_mm: Length = 1.5
    rim_deg: float = 30.0
    gaps: bool = True
    distance_mm: Length = 2.0
    prime_mm: Length = 250.0
    brim_gap_mm: Length = 0.0
    side: BrimSide = BrimSide.ALL
    corner_mm: Length = 6.0
    base_layers: int = 1
    top_layers: int = 2
    second: bool = False

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        if self.footing in (FootingKind.PADS, FootingKind.TIES) and not sheet.is_resin:
            raise BadValue(
                f"The {sheet.printer} prints no stilts whose feet {self.footing.value} could hold.",
                "Pick a brim or a raft.",
            )
        if self.footing is FootingKind.CORNERS and sheet.is_resin:
            raise BadValue("Pads at corners are of filament.", "Pick pads round the feet.")
        asked = {name: getattr(self, name) for name in Footing.model_fields if name != "kind"}
        return altered(sheet, footing=Footing(kind=self.footing, **asked))

    def label(self, sheet: ItemSheet) -> str:
        return {
            FootingKind.NONE: "No footing",
            FootingKind.SKIRT: f"Skirt, {self.lines} lines",
            FootingKind.BRIM: f"Brim, {self.lines} lines",
            FootingKind.RAFT: f"Raft, margin {self.margin_mm:g} mm",
            FootingKind.CORNERS: f"Pads of {self.corner_mm:g} mm at corners",
            FootingKind.PADS: f"Pads, {self.pad_mm:g} mm round each foot",
            FootingKind.TIES: f"Ties, {self.thick_mm:g} mm thick",
        }[self.footing]

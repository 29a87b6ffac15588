"""Settings of filament paths as section 8 shows them: each with unit, range, meaning, and what it moves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from ....core.toolpaths.ordering import Seam
from ....core.toolpaths.patterns import Pattern
from ....sheet.models import ItemSheet
from ....sheet.process import Process
from ....work.bind_paths import nozzle_of
from ....work.what_if import Board
from ...words import duration

SEAMS = {
    Seam.BACK: "at the back",
    Seam.DIRECTION: "at a direction",
    Seam.CORNER: "at the sharpest corner",
    Seam.NEAREST: "where it is nearest",
    Seam.HIDDEN: "away from the show side",
    Seam.PICKED: "along a picked line",
    Seam.SCATTERED: "scattered",
}
# What is shown in a shop that chose nothing else.
USUAL = (
    "walls", "infill_percent", "pattern", "speed_percent", "top_layers", "bottom_layers", "seam", "nozzle_c",
    "bed_c", "fan_percent", "outer_first", "travel_lift_mm",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Kind:
    """A setting: its name on the sheet, id of its field, what it is called, what it means, and its values.

    Attributes
    ----------
    name, id, words, meaning : str
    unit : str
    choices : tuple of (value, words)
        Empty for a number.
    usual : str
        Value that stands for what the material asks for.
    """

    name: str
    id: str
    words: str
    meaning: str
    unit: str = ""
    choices: tuple[tuple[str, str], ...] = ()
    usual: str = ""


def _switch(yes: str, no: str) -> tuple[tuple[str, str], ...]:
    return ("false", no), ("true", yes)


KINDS = (
    Kind("walls", "walls", "Walls", "Lines inward from the outline. More make a part stronger."),
    Kind("infill_percent", "infill", "Infill", "Share of the inside that is filled.", "%"),
    Kind(
        "pattern",
        "pattern",
        "Pattern",
        "How the inside is filled.",
        choices=tuple((p.value, p.value) for p in Pattern),
    ),
    Kind(
        "speed_percent",
        "speed",
        "Speed",
        "Moves all kinds of paths in proportion, and the nozzle's temperature with it.",
        "%",
    ),
    Kind(
        "top_layers",
        "tops",
        "Top layers",
        "Layers that are filled whole under what nothing lies on.",
    ),
    Kind(
        "bottom_layers",
        "bottoms",
        "Bottom layers",
        "Layers that are filled whole over what nothing lies under.",
    ),
    Kind(
        "seam",
        "seam",
        "Seam",
        "Where outer walls begin: there they leave a mark.",
        choices=tuple((s.value, w) for s, w in SEAMS.items()),
    ),
    Kind("seam_deg", "seam-deg", "Direction of the seam", "0 looks to the right, 90 to the back.", "°"),
    Kind(
        "outer_first",
        "wall-order",
        "Outer wall",
        "First: truer sizes. Last: cleaner overhangs.",
        choices=_switch("first", "last"),
    ),
    Kind(
        "nozzle_c",
        "nozzle-c",
        "Nozzle",
        "Temperature of the nozzle; “usual” for what the material asks for.",
        "°C",
        usual="usual",
    ),
    Kind(
        "bed_c",
        "bed-c",
        "Plate",
        "Temperature of the plate; “usual” for what the material asks for.",
        "°C",
        usual="usual",
    ),
    Kind("fan_percent", "fan", "Fan", "Behind the first layer; less holds layers together better.", "%"),
    Kind(
        "travel_lift_mm",
        "travel-lift",
        "Lift on travels",
        "The nozzle goes up where it crosses what is printed.",
        "mm",
    ),
    Kind(
        "inside_ways",
        "inside-ways",
        "Ways of the nozzle",
        "Inside the outline: fewer threads, less drawing back.",
        choices=_switch("inside the outline", "straight"),
    ),
    Kind(
        "slow_steep",
        "slow-steep",
        "Steep places",
        "Outer walls slow down where the layer below does not carry them.",
        choices=_switch("slower", "as quick"),
    ),
    Kind(
        "infill_every",
        "infill-every",
        "Infill in every",
        "Infill in every so many layers, as much thicker: as strong, and quicker.",
        "layers",
    ),
    Kind(
        "roof_percent",
        "roof-infill",
        "Infill under roofs",
        "Denser right under roofs only; as elsewhere where it is less.",
        "%",
    ),
    Kind(
        "roof_layers",
        "roof-layers",
        "Under roofs",
        "How many layers under roofs are filled denser.",
        "layers",
    ),
    Kind(
        "bridge_flow_percent",
        "bridge-flow",
        "Flow of bridges",
        "What bridges push out; a little less sags less.",
        "%",
    ),
    Kind(
        "smooth",
        "smooth",
        "Tops",
        "A hot nozzle goes over tops again: smooth, and slow.",
        choices=_switch("smoothed", "as laid"),
    ),
    Kind(
        "outline_mm",
        "outline-aside",
        "Outlines outwards",
        "So that outsides come out as drawn; below 0 inwards.",
        "mm",
    ),
    Kind(
        "hole_mm",
        "hole-aside",
        "Holes larger",
        "Holes come out too small; they get so much larger all round.",
        "mm",
    ),
    Kind(
        "first_outline_mm",
        "first-aside",
        "First layer outwards",
        "It is pressed wide: a little below 0 makes up for it.",
        "mm",
    ),
    Kind("second_material", "second-stuff", "Second nozzle", "Its material, where supports name none."),
    Kind(
        "relative_e",
        "e-kind",
        "E in G-code",
        "Whether E tells of each move, or all up to there.",
        choices=(("true", "of each move"), ("false", "from the beginning")),
    ),
)


@dataclass(frozen=True, slots=True)
class Setting:
    """A setting as it is shown.

    Attributes
    ----------
    kind : Kind
    value : str
    low, high : str
        Ends of its range; empty where there is none.
    shown : bool
        Among those that the shop chose to see.
    unlike : str
        What it is in the preset, where that differs.
    moves : str
        What it moves, as far as it was worked out.
    placeholder : str
    """

    kind: Kind
    value: str
    low: str
    high: str
    shown: bool
    unlike: str
    moves: str
    placeholder: str

    @property
    def title(self) -> str:
        """What whoever points at it is told."""
        within = f"{self.low} to {self.high} {self.kind.unit}. " if self.low else ""
        before = f" In the preset: {self.unlike}." if self.unlike else ""
        moves = f" {self.moves}." if self.moves else ""
        return f"{within}{self.kind.meaning}{before}{moves}"


def settings(sheet: ItemSheet, chosen: tuple[str, ...], known: Board | None) -> list[Setting]:
    """Settings of a print of filament: those that the shop sees first."""
    shown = set(chosen or USUAL)
    process = sheet.process
    before = sheet.preset.process if sheet.preset is not None else process
    found = []
    for kind in KINDS:
        value, was = getattr(process, kind.name), getattr(before, kind.name)
        low, high = _range(kind.name, sheet)
        usual = ""
        if kind.usual:
            usual = f"{nozzle_of(sheet) if kind.name == 'nozzle_c' else sheet.stuff.bed_c[1]:g}"
        found.append(
            Setting(
                kind,
                said(value),
                low,
                high,
                kind.name in shown,
                said(was) or "usual" if was != value else "",
                _moves(kind.name, known),
                f"{usual}, as {sheet.stuff.name}" if usual else "",
            )
        )
    return found


def said(value: Any) -> str:
    """A value as its field has it."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{value:g}"
    return str(value.value) if hasattr(value, "value") else str(value)


def _range(name: str, sheet: ItemSheet) -> tuple[str, str]:
    """Ends of the range that makes sense: of the material, of the pattern, or what can be typed."""
    if name in ("nozzle_c", "bed_c"):
        coldest, _, hottest = sheet.stuff.nozzle_c if name == "nozzle_c" else sheet.stuff.bed_c
        return f"{coldest:g}", f"{hottest:g}"
    if name == "infill_percent":
        return (
            f"{sheet.process.pattern.sensible_percent[0]:g}",
            f"{sheet.process.pattern.sensible_percent[1]:g}",
        )
    ends: dict[str, float | None] = {}
    for part in Process.model_fields[name].metadata:
        for end in ("ge", "le"):
            ends[end] = getattr(part, end, ends.get(end))
    low, high = ends.get("ge"), ends.get("le")
    return ("", "") if low is None or high is None else (f"{low:g}", f"{high:g}")


def _moves(name: str, known: Board | None) -> str:
    """What the variants that were worked out say of a setting."""
    told = []
    for line in known.lines[1:] if known is not None else ():
        change: Mapping[str, Any] = line.option.change if line.option is not None else {}
        if name in change and line.seconds_more is not None and line.mass_more_g is not None:
            told.append(
                f"{line.words}: {_signed(line.seconds_more, duration(abs(line.seconds_more)))},"
                f" {_signed(line.mass_more_g, f'{abs(line.mass_more_g):.1f} g')}"
            )
    return "; ".join(told[:3])


def _signed(value: float, words: str) -> str:
    return f"{'−' if value < 0 else '+'}{words}"

"""Commands about paths of filament: what a print takes, variants side by side, and G-code."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from itertools import product
from pathlib import Path
from typing import Annotated, Any

import typer

from ..core.errors import BadValue
from ..core.footing.footing import FootingKind
from ..core.machines.catalogue import Technology, material, materials_for
from ..core.recipes.settings import GcodeSetting
from ..core.recipes.toolpaths import gcode_of, refuse_open
from ..core.supports.demand.patches import Style
from ..core.toolpaths.beads import Beads
from ..core.toolpaths.coverage import covered_share
from ..core.toolpaths.patterns import Pattern
from ..core.toolpaths.plate_paths import Placed, merged
from ..core.toolpaths.timing import Timed
from ..core.units import number
from ..sheet.process import FilamentSupports, Footing, Process
from ..work.alone import Alone
from ..work.bind_paths import gcode as gcode_setting
from ..work.what_if import taken
from .files import File, Json, PrinterName, machine_of, part, tell, write

MaterialName = Annotated[
    str, typer.Option("--material", help="A material of the printer; its first when not given.")
]
LayerHeight = Annotated[
    float | None, typer.Option("--layer", help="Layer height, mm; the printer's when not given.")
]
Walls = Annotated[int, typer.Option(help="Walls inward.")]
Infill = Annotated[float, typer.Option(help="Infill, percent.")]
PatternName = Annotated[str, typer.Option("--pattern", help=f"One of {', '.join(Pattern)}.")]
StyleName = Annotated[
    str, typer.Option("--style", help="Supports: none, auto, lines, grid, pillars or tree.")
]
FootingName = Annotated[str, typer.Option("--footing", help="none, skirt, brim, corners or raft.")]
Speed = Annotated[float, typer.Option(help="Speed against the usual one, percent.")]

_STYLES = {"auto": None, "pillars": Style.PILLAR, **{s.value: s for s in Style}}
_FOOTINGS = (
    FootingKind.NONE, FootingKind.SKIRT, FootingKind.BRIM, FootingKind.CORNERS, FootingKind.RAFT,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Asked:
    """What a part is printed with."""

    printer: str
    material: str
    layer: float | None
    walls: int
    infill: float
    pattern: str
    style: str
    footing: str
    speed: float

    def alone(self, file: Path) -> Alone:
        """The part in a file, with these settings."""
        mesh, _ = part(file)
        machine, layer, limit = machine_of(self.printer, self.layer, None)
        if machine.technology is not Technology.FILAMENT:
            raise BadValue(f"{machine.name} lays no filament.", "Pick a filament printer.")
        if self.pattern not in list(Pattern):
            raise BadValue(f"There is no pattern “{self.pattern}”.", f"Use one of {', '.join(Pattern)}.")
        if self.style not in ("none", *_STYLES):
            raise BadValue(
                f"There is no style “{self.style}”.", "Use none, auto, lines, grid, pillars or tree."
            )
        if self.footing not in _FOOTINGS:
            raise BadValue(f"There is no footing “{self.footing}”.", f"Use one of {', '.join(_FOOTINGS)}.")
        stuff = material(self.material) if self.material else materials_for(machine)[0]
        if stuff not in materials_for(machine):
            known = ", ".join(one.name for one in materials_for(machine))
            raise BadValue(f"{machine.name} does not print {stuff.name}.", f"Use one of {known}.")
        process = Process(
            walls=self.walls, infill_percent=self.infill, pattern=Pattern(self.pattern),
            speed_percent=self.speed,
        )  # fmt: skip
        item: dict[str, Any] = {"footing": Footing(kind=FootingKind(self.footing))}
        if self.style != "none":
            item["supports"] = FilamentSupports(style=_STYLES[self.style])
        job = {"layer_mm": layer, "limit_deg": limit, "process": process}
        return Alone(mesh, machine.name, stuff.name, item=item, job=job)


def _figures(alone: Alone) -> dict[str, Any]:
    """What a print takes."""
    told: Timed = alone.make("timed")
    beads: Beads = alone.make("toolpaths")
    paid = taken(told, alone.sheet)
    return {
        "seconds": told.seconds,
        "seconds_by_kind": dict(told.by_kind),
        "mass_g": paid.mass_g,
        "metres": paid.metres,
        "cost": paid.cost,
        "layers": len(beads.tops_mm),
        "coverage": covered_share(alone.make("layers"), beads, alone.make("surfaces").sparse),
    }


def estimate(
    file: File,
    printer: PrinterName = "Sedge 300",
    material: MaterialName = "",
    layer: LayerHeight = None,
    walls: Walls = 3,
    infill: Infill = 15.0,
    pattern: PatternName = "grid",
    style: StyleName = "none",
    footing: FootingName = "none",
    speed: Speed = 100.0,
    as_json: Json = False,
) -> None:
    """Tell what a print takes, from its paths: time by kind, mass, metres, cost, and coverage."""
    asked = _Asked(printer, material, layer, walls, infill, pattern, style, footing, speed)
    tell(_figures(asked.alone(file)), as_json)


def gcode(
    file: File,
    out: Annotated[Path, typer.Option(help="The G-code to write.")],
    printer: PrinterName = "Sedge 300",
    material: MaterialName = "",
    layer: LayerHeight = None,
    walls: Walls = 3,
    infill: Infill = 15.0,
    pattern: PatternName = "grid",
    style: StyleName = "none",
    footing: FootingName = "none",
    speed: Speed = 100.0,
    as_json: Json = False,
) -> None:
    """Write the G-code of a part in the middle of the plate, read back before it is kept."""
    asked = _Asked(printer, material, layer, walls, infill, pattern, style, footing, speed)
    alone = asked.alone(file)
    refuse_open(alone.sheet.part.closed)
    figures = _figures(alone)
    setting = gcode_setting(alone.sheet, [alone.sheet])
    assert isinstance(setting, GcodeSetting)
    x, y = alone.sheet.machine.spot_mm
    machine = alone.sheet.machine
    placed = [Placed(alone.make("toolpaths"), x, y, 0.0)]
    data, back = gcode_of(merged(placed, machine.line_width_mm, machine.build_mm), setting)
    write(out, data)
    tell(
        {
            **figures,
            "file": str(out),
            "bytes": len(data),
            "moves": back.moves,
            "e_mm": back.pushed_mm,
            "extents": {"low_mm": back.low_mm, "high_mm": back.high_mm},
        },
        as_json,
    )


# What may be varied, and how it is read.
_VARIED: Mapping[str, Callable[[str], Any]] = {
    "printer": str, "material": str, "layer": number, "walls": lambda v: int(number(v)), "infill": number,
    "pattern": str, "style": str, "footing": str, "speed": number,
}  # fmt: skip
MOST_VARIANTS = 64


def whatif(
    file: File,
    vary: Annotated[
        list[str], typer.Option(help="What to vary, as walls=2,3,4; may be given again: all together.")
    ],
    printer: PrinterName = "Sedge 300",
    material: MaterialName = "",
    layer: LayerHeight = None,
    walls: Walls = 3,
    infill: Infill = 15.0,
    pattern: PatternName = "grid",
    style: StyleName = "none",
    footing: FootingName = "none",
    speed: Speed = 100.0,
    as_json: Json = False,
) -> None:
    """Tell what variants of a print take, each against the first."""
    base = {
        "printer": printer, "material": material, "layer": layer, "walls": walls, "infill": infill,
        "pattern": pattern, "style": style, "footing": footing, "speed": speed,
    }  # fmt: skip
    axes: list[tuple[str, list[Any]]] = []
    for one in vary:
        name, given, values = one.partition("=")
        if name not in _VARIED or not given or not values.strip(","):
            raise BadValue(
                f"“{one}” says nothing to vary.", f"Use NAME=A,B with one of {', '.join(_VARIED)}."
            )
        axes.append((name, [_VARIED[name](value.strip()) for value in values.split(",") if value.strip()]))
    some = [dict(zip([name for name, _ in axes], row, strict=True)) for row in product(*(v for _, v in axes))]
    if len(some) > MOST_VARIANTS:
        raise BadValue(f"These are {len(some)} variants.", f"{MOST_VARIANTS} are the most.")
    told: list[dict[str, Any]] = []
    for changed in some:
        figures = _figures(_Asked(**{**base, **changed}).alone(file))
        if told:
            for name in ("seconds", "mass_g", "cost"):
                figures[f"{name}_more"] = figures[name] - told[0][name]
        told.append({"changed": changed, **figures})
    tell({"variants": told}, as_json)

"""Commands that look at a part."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer

from ..core.errors import BadValue
from ..core.formats.contents import MM_OF
from ..core.geometry.mesh import Mesh, facts
from ..core.handoff.stl import write_stl
from ..core.hanging.islands import Island
from ..core.hanging.layer_steps import FACTOR
from ..core.hanging.lowest_points import Low
from ..core.health.defects import examine
from ..core.layers.stack import LayerStack
from ..core.machines import catalogue as machines
from ..core.recipes.settings import Walk
from ..core.stance.figures import Figures, figures
from ..core.stance.names import name_of
from ..core.stance.pose import place
from ..core.stance.proposals import GOALS, Goals, Proposal
from ..core.stance.resting import letter as letter_of
from ..core.stance.search import MIXES
from ..core.units import judge_unit, number
from ..sheet.item import StanceGoals
from ..work.alone import Alone
from .files import File, Json, Layer, Limit, checked, contents, machine_of, part, tell, write

# What the shell calls a goal for short.
SHORT_GOALS = {
    "clean": "clean_show",
    "surface": "better_surface",
    "smaller": "smaller_layers",
    "shorter": "shorter_print",
}
_GOAL = "less-support=3"


def _looked_at(file: Path, layer: float, limit: float = 45.0, *given: object) -> Alone:
    """A part that is looked at whatever machine makes it."""
    return Alone(part(file)[0], job={"layer_mm": layer, "limit_deg": limit}, given=given)


def inspect(file: File, as_json: Json = False) -> None:
    """Size, volume, area, closedness, bodies, unit and defects of a part."""
    read = contents(file)
    reading = read.whole()
    found = facts(reading.mesh)
    health = examine(reading.mesh)
    judged = judge_unit(
        found.size_mm, read.unit, machines.PRINTERS[0].build_mm, MM_OF[read.unit or "millimeter"]
    )
    tell(
        {
            "facets": found.facets,
            "vertices": found.vertices,
            "size_mm": list(found.size_mm),
            "volume_mm3": found.volume_mm3,
            "area_mm2": found.area_mm2,
            "closed": health.verdict.closed,
            "shells": found.shells,
            "units": {
                "stated": judged.stated,
                "name": judged.name,
                "question": judged.question,
                "sizes_mm": {unit: list(size) for unit, size in judged.sizes_mm.items()},
            },
            "defects": health.counts_as_read(reading),
            "sound": health.verdict.sound,
            "left": health.verdict.left,
        },
        as_json,
    )


def _moved(at: tuple[float, float, float], dx: float, dy: float) -> list[float]:
    return [at[0] + dx, at[1] + dy, at[2]]


def _largest(stack: LayerStack) -> dict[str, float]:
    index = stack.largest
    return {"z_mm": float(stack.z_mm[index]), "area_mm2": float(stack.area_mm2[index])} if len(stack) else {}


def overhangs(
    file: File,
    limit: Limit = 45.0,
    layer: Layer = 0.2,
    bridge: Annotated[float, typer.Option(help="Longest bridge that carries itself, mm.")] = 10.0,
    spot: Annotated[
        float, typer.Option(help="Nozzle, or three pixels: what starts smaller is a point, mm.")
    ] = 0.4,
    as_json: Json = False,
) -> None:
    """Overhang area, contact area and islands of a part as it stands."""
    alone = _looked_at(file, layer, checked(limit), Walk(spot, True, FACTOR))
    dx, dy, _ = (-alone.moved_mm).tolist()
    area, found, regions = alone.make("findings"), alone.make("walked"), alone.make("hangs")
    stack = alone.make("layers")
    tell(
        {
            "overhang_area_mm2": area.overhang_area_mm2,
            "contact_area_mm2": area.contact_area_mm2,
            "islands": [_island(i, dx, dy) for i in found.islands],
            "low_points": [_low_point(p, dx, dy) for p in found.lows],
            "layer_steps": [
                {"z_mm": s.z_mm, "below_mm2": s.below_mm2, "above_mm2": s.above_mm2} for s in found.steps
            ],
            "necks": [
                {"z_mm": n.z_mm, "area_mm2": n.area_mm2, "above_mm3": n.above_mm3} for n in found.necks
            ],
            "layer_count": len(stack),
            "largest_layer": _largest(stack),
            "regions": [
                {
                    "number": r.number,
                    "kind": str(r.kind),
                    "area_mm2": r.area_mm2,
                    "steepest_deg": r.steepest_deg,
                    "lowest": _moved(r.lowest_mm, dx, dy),
                    "gap_mm": r.gap_mm,
                }
                for r in regions
            ],
            "bridges": [
                {
                    "span_mm": r.bridge.span_mm,
                    "width_mm": r.bridge.width_mm,
                    "carries": r.carries_itself(bridge),
                }
                for r in regions
                if r.bridge
            ],
            "cups": len(found.cups),
        },
        as_json,
    )


def layers(file: File, layer: Layer = 0.2, as_json: Json = False) -> None:
    """Area of each layer at its middle height."""
    stack = _looked_at(file, layer).make("layers")
    tell({"z_mm": stack.z_mm.tolist(), "area_mm2": stack.area_mm2.tolist()}, as_json)


def stances(
    file: File,
    printer: Annotated[
        str | None, typer.Option(help="Printer to search for; resting faces without one.")
    ] = None,
    material: Annotated[
        str | None, typer.Option(help="Material; the printer's first when not given.")
    ] = None,
    goal: Annotated[list[str] | None, typer.Option(help=f"Weight such as {_GOAL}, 0 to 5.")] = None,
    layer: Annotated[float | None, typer.Option(help="Layer height, mm.")] = None,
    limit: Annotated[float | None, typer.Option(help="Limit, degrees from vertical.")] = None,
    exact: Annotated[bool, typer.Option(help="All figures of the other resting faces too.")] = False,
    out: Annotated[Path | None, typer.Option(help="Write the part in the first stance here, as STL.")] = None,
    as_json: Json = False,
) -> None:
    """Propose ways to stand, best first; without a printer or goals the resting faces."""
    mesh, _ = part(file)
    if printer is None and not goal and not exact and out is None:
        tell({"stances": _resting(mesh, checked(45.0 if limit is None else limit))}, as_json)
        return
    machine, height, most = machine_of(printer or "Sedge 300", layer, limit)
    stuff = machines.material(material) if material else machines.materials_for(machine)[0]
    if stuff.technology is not machine.technology:
        raise BadValue(f"{machine.name} cannot use {stuff.name}.", "Pick another material.")
    if material and limit is None:
        most = machines.limit_for(machine, stuff)
    goals = StanceGoals(**asdict(_goals(goal, resin=machine.technology is machines.Technology.RESIN)))
    alone = Alone(
        mesh,
        machine.name,
        stuff.name,
        item={"goals": goals},
        job={"layer_mm": height, "limit_deg": most},
    )
    found = alone.make("search").proposals
    rows = [
        _stance(p.letter, p.name, p.rotation, p.figures, p.fits, p.score) | _lifted(p)
        for p in found
        if p.figures
    ]
    if exact:
        rows += _all_figures(alone, [p.down for p in found], len(rows))
    if out is not None:
        write(out, write_stl(place(mesh, found[0].rotation).apply(mesh)))
    tell({"stances": rows}, as_json)


def _resting(mesh: Mesh, limit: float) -> list[dict[str, Any]]:
    names = ("overhang_area_mm2", "contact_area_mm2", "height_mm")
    faces = Alone(mesh, job={"limit_deg": limit}).make("resting")
    return [{"letter": f.letter, "down": f.down.tolist(), **{n: getattr(f, n) for n in names}} for f in faces]


def _all_figures(alone: Alone, known: list[Any], first: int) -> list[dict[str, Any]]:
    """All figures of the resting faces that are not among those known."""
    asked = alone.sheet.setting()
    closed, base, cutter = alone.sheet.part.closed, alone.make("base"), alone.make("cutter")
    rows: list[dict[str, Any]] = []
    for face in alone.make("resting"):
        if all(float(face.down @ down) < 1 - 1e-9 for down in known):
            turned = face.rotation
            all_figures = figures(alone.mesh, turned, cutter(turned), asked, closed=closed, base=base)
            letter = letter_of(first + len(rows))
            rows.append(_stance(letter, name_of(turned), turned, all_figures, all_figures.fits, None))
    return rows


def _goals(asked: list[str] | None, *, resin: bool) -> Goals:
    if not asked:
        return MIXES["resin" if resin else "filament"]
    weights = dict.fromkeys(GOALS, 0.0)
    for text in asked:
        name, _, value = text.partition("=")
        name = SHORT_GOALS.get(name.strip(), name.strip().replace("-", "_"))
        if name not in weights:
            known = ", ".join(goal.replace("_", "-") for goal in GOALS)
            raise BadValue(f"There is no goal “{text[:40]}”.", f"Use one of: {known}.")
        weight = number(value or "1")
        if not 0 <= weight <= 5:
            raise BadValue(f"A weight of {weight:g} is out of reach.", "Use 0 to 5.")
        weights[name] = weight
    return Goals(**weights)


def _lifted(found: Proposal) -> dict[str, Any]:
    """How far a stance of a resin part is lifted, and what comes of it the other way."""
    if found.other is None:
        return {}
    return {"lift_mm": found.lift_mm, "otherwise": asdict(found.other)}


def _stance(
    letter: str, name: str, rotation: Any, found: Figures, fits: bool, score: float | None
) -> dict[str, Any]:
    largest = found.largest_layer
    return {
        "letter": letter,
        "name": name,
        "down": (-rotation[2]).tolist(),
        "rotation": rotation.tolist(),
        "overhang_area_mm2": found.overhang_area_mm2,
        "support_volume_mm3": found.support_volume_mm3,
        "contact_area_mm2": found.contact_area_mm2,
        "height_mm": found.height_mm,
        "layer_count": found.layer_count,
        "largest_layer": {"z_mm": largest.z_mm, "area_mm2": largest.value},
        "shadow_area_mm2": found.shadow_area_mm2,
        "tip_angle_deg": found.tip_angle_deg,
        "cusp_mm": found.cusp_mm,
        "islands": found.islands,
        "cups": len(found.cups),
        "fits": fits,
        "score": score,
        "holding_mm3": found.holding_mm3,
        "clear_overhang_mm2": found.clear_overhang_mm2,
    }


def _island(i: Island, dx: float, dy: float) -> dict[str, Any]:
    return {
        "number": i.number,
        "z_mm": i.z_mm,
        "area_mm2": i.area_mm2,
        "x_mm": i.x_mm + dx,
        "y_mm": i.y_mm + dy,
        "point": i.point,
        "grown_mm2": i.grown_mm2,
        "joins_z_mm": i.joins_z_mm,
        "hanging_mm3": i.hanging_mm3,
    }


def _low_point(p: Low, dx: float, dy: float) -> dict[str, Any]:
    return {
        "x_mm": p.x_mm + dx,
        "y_mm": p.y_mm + dy,
        "z_mm": p.z_mm,
        "depth_mm": p.depth_mm,
        "wide_mm": p.wide_mm,
    }

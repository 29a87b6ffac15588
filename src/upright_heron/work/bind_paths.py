"""How settings of paths and G-code are read off the sheet of an item."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ..core.machines.catalogue import Material
from ..core.plates.in_turn import Clearance
from ..core.recipes import settings as s
from ..core.stance.pose import from_quaternion
from ..core.toolpaths.beads import Kind
from ..core.toolpaths.bill import Spool
from ..core.toolpaths.bodies import SecondBodies
from ..core.toolpaths.gcode import END, START, Writing
from ..core.toolpaths.laying import Laying
from ..core.toolpaths.ordering import Order, Seam
from ..core.toolpaths.support_paths import PropSetting
from ..core.toolpaths.timing import Running
from ..core.toolpaths.walls import Aside
from ..core.toolpaths.zones import Pause
from ..sheet.models import DecidedSheet, ItemSheet, JobSettings

# Temperature and fan outside of stretches, where there are none.
NOWHERE = (0.0, 100.0)
# Layers that are printed at once are no higher than this share of the nozzle (common practice).
HIGHEST = 0.8
# What goes through the nozzle quicker is heated more, C for each percent of speed (common practice).
HOTTER_C = 0.25


def running_of(sheet: JobSettings) -> Running:
    """How the machine of a sheet runs."""
    machine = sheet.machine
    return Running(
        speed_mm_s=machine.speed_mm_s * sheet.process.speed_percent / 100.0,
        acceleration_mm_s2=machine.acceleration_mm_s2,
        travel_mm_s=machine.travel_mm_s,
        flow_mm3_s=machine.flow_mm3_s,
        retract_mm=machine.retract_mm,
        warm_up_s=machine.warm_up_s,
    )


def spool_of(stuff: Material) -> Spool:
    """Filament of a material."""
    return Spool(stuff.name, stuff.density_g_cm3, stuff.diameter_mm, stuff.price_per_kg)


def spools_of(sheet: DecidedSheet) -> tuple[Spool, Spool | None]:
    """Filament of both nozzles; ``None`` where nothing is printed with the second."""
    return spool_of(sheet.stuff), spool_of(sheet.second_stuff) if sheet.uses_second else None


def at_once(sheet: JobSettings, layers: int) -> int:
    """How many layers can be printed at once of those that were asked for."""
    most = math.floor(HIGHEST * sheet.machine.finest_mm / sheet.layer_mm + 1e-9)
    return max(1, min(layers, most))


def walls(sheet: DecidedSheet) -> s.WallSetting | None:
    """Settings of walls; none on a resin machine."""
    if sheet.is_resin:
        return None
    process = sheet.process
    aside = Aside(process.outline_mm, process.hole_mm, process.first_outline_mm)
    zones = tuple(zone.core(process.speed_percent) for zone in sheet.by_height.zones if zone.walls)
    return s.WallSetting(
        process.walls, sheet.machine.line_width_mm, zones, aside if aside != Aside() else None
    )


def bodies(sheet: ItemSheet) -> SecondBodies | None:
    """Bodies that the second nozzle prints."""
    if not sheet.second_places:
        return None
    apart = sheet.file_bodies
    if apart is None:
        return SecondBodies(sheet.second_places)
    return SecondBodies(sheet.second_places, apart.ends, sheet.size.factors)


def skins(sheet: DecidedSheet) -> s.SkinSetting | None:
    """Layers that are filled whole."""
    if sheet.is_resin:
        return None
    gap = sheet.support_settings().gap_mm if sheet.filament is not None else 0.0
    process = sheet.process
    return s.SkinSetting(
        process.top_layers,
        process.bottom_layers,
        sheet.machine.line_width_mm,
        gap,
        bare=process.smooth,
        roofed=process.roof_layers if process.roof_percent > process.infill_percent else 0,
    )


def away_from(sheet: DecidedSheet) -> float | None:
    """Direction on the plate away from the show side, degrees; ``None`` where there is none of one side."""
    if sheet.show is None or sheet.show_is_painted:
        return None
    x, y, _ = (from_quaternion(sheet.stance.quaternion) @ np.asarray(sheet.show)).tolist()
    return math.degrees(math.atan2(-y, -x)) if math.hypot(x, y) > 1e-6 else None


def paths(sheet: DecidedSheet) -> s.PathSetting | None:
    """How paths are laid."""
    if sheet.is_resin:
        return None
    process, seam, turn = sheet.process, sheet.process.seam, sheet.process.seam_deg
    if seam is Seam.HIDDEN and not sheet.show_is_painted:
        away = away_from(sheet)
        seam, turn = (Seam.BACK, turn) if away is None else (seam, away)
    line = sheet.seam_line if seam is Seam.PICKED else ()
    by = sheet.by_height
    laying = Laying(
        line_mm=sheet.machine.line_width_mm,
        pattern=process.pattern,
        density=process.infill_percent / 100.0,
        order=Order(seam, turn, process.outer_first),
        infill_every=at_once(sheet, process.infill_every),
        roof_density=process.roof_percent / 100.0,
        bridge_flow=process.bridge_flow_percent / 100.0,
        smooth=process.smooth,
        slow_steep=process.slow_steep,
        inside=process.inside_ways,
        second=sheet.second_kinds & {Kind.RAFT},
        zones=tuple(zone.core(process.speed_percent) for zone in by.zones),
        strands=tuple(zone.core() for zone in sheet.strands),
        pauses=tuple(Pause(one.z_mm, one.why) for one in by.pauses),
        usual=(nozzle_of(sheet), process.fan_percent) if by.zones else NOWHERE,
    )
    return s.PathSetting(laying, line)


def props(sheet: DecidedSheet) -> s.SupportPathSetting | None:
    """How supports are laid."""
    if sheet.filament is None or sheet.is_resin:
        return None
    every, second = at_once(sheet, sheet.filament.every), sheet.second_kinds - {Kind.RAFT}
    return s.SupportPathSetting(PropSetting(sheet.machine.line_width_mm, every=every, second=second))


def hidden(sheet: DecidedSheet) -> s.HiddenSeam | None:
    """Seams look away from a show side that is painted."""
    painted = sheet.process.seam is Seam.HIDDEN and sheet.show_is_painted
    return s.HiddenSeam() if painted and not sheet.is_resin else None


def advice(sheet: DecidedSheet) -> s.AdviceSetting | None:
    """What a footing is advised by; feet of stilts are another matter."""
    if sheet.is_resin:
        return None
    return s.AdviceSetting(sheet.stuff.shrinkage_percent, sheet.machine.heated, sheet.machine.habit == "raft")


def run(sheet: DecidedSheet) -> s.RunSetting | None:
    """How the machine runs along them."""
    return None if sheet.is_resin else s.RunSetting(running_of(sheet))


def nozzle_of(sheet: JobSettings) -> float:
    """Temperature of the nozzle, C: as typed, or else as the material asks for at the speed."""
    typed = sheet.process.nozzle_c
    if typed is not None:
        return typed
    low, usual, high = sheet.stuff.nozzle_c
    return min(max(round(usual + HOTTER_C * (sheet.process.speed_percent - 100.0)), low), high)


def gcode(sheet: JobSettings, each: Sequence[DecidedSheet]) -> s.GcodeSetting | None:
    """How G-code is written for items of one plate."""
    if sheet.is_resin:
        return None
    stuff, machine, process = sheet.stuff, sheet.machine, sheet.process
    # Whatever item needs the second nozzle, the file does.
    with_second = next((one for one in each if one.uses_second), None)
    second = with_second.second_stuff if with_second is not None else None
    writing = Writing(
        machine=machine.name,
        material=stuff.name,
        build_mm=machine.build_mm,
        diameter_mm=stuff.diameter_mm,
        nozzle_c=nozzle_of(sheet),
        bed_c=(stuff.bed_c[1] if process.bed_c is None else process.bed_c) if machine.heated else 0.0,
        second_material=second.name if second is not None else "",
        second_c=second.nozzle_c[1] if second is not None else 0.0,
        relative=process.relative_e,
        lift_mm=process.travel_lift_mm,
        fan_percent=process.fan_percent,
        start=process.start_text or START,
        end=process.end_text or END,
    )
    return s.GcodeSetting(
        running_of(sheet),
        writing,
        (spool_of(stuff), spool_of(second) if second is not None else None),
        (stuff.nozzle_c[0], stuff.nozzle_c[2]),
        (stuff.bed_c[0], stuff.bed_c[2]),
        (second.nozzle_c[0], second.nozzle_c[2]) if second is not None else (0.0, 0.0),
        machine.line_width_mm,
        Clearance(machine.head_mm, machine.rail_mm) if sheet.in_turn else None,
    )


# Readers by the settings that they read.
OF_PATHS: dict[type, Callable[[Any], Any]] = {
    s.WallSetting: walls,
    s.SkinSetting: skins,
    s.PathSetting: paths,
    s.SupportPathSetting: props,
    s.HiddenSeam: hidden,
    SecondBodies: bodies,
    s.AdviceSetting: advice,
    s.RunSetting: run,
}

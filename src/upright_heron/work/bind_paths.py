"""How settings of paths and G-code are read off the sheet of an item."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.recipes import settings as s
from ..core.toolpaths.gcode import END, START, Writing
from ..core.toolpaths.ordering import Order
from ..core.toolpaths.timing import Running
from ..sheet.models import DecidedSheet, JobSettings


def running_of(sheet: JobSettings) -> Running:
    """How the machine of a sheet runs."""
    machine = sheet.machine
    return Running(
        speed_mm_s=machine.speed_mm_s * sheet.process.speed_percent / 100.0,
        acceleration_mm_s2=machine.acceleration_mm_s2,
    )


def walls(sheet: DecidedSheet) -> s.WallSetting | None:
    """Settings of walls; none on a resin machine."""
    return None if sheet.is_resin else s.WallSetting(sheet.process.walls, sheet.machine.line_width_mm)


def skins(sheet: DecidedSheet) -> s.SkinSetting | None:
    """Layers that are filled whole."""
    if sheet.is_resin:
        return None
    gap = sheet.support_settings().gap_mm if sheet.filament is not None else 0.0
    process = sheet.process
    return s.SkinSetting(process.top_layers, process.bottom_layers, sheet.machine.line_width_mm, gap)


def paths(sheet: DecidedSheet) -> s.PathSetting | None:
    """How paths are laid."""
    if sheet.is_resin:
        return None
    process = sheet.process
    order = Order(process.seam, process.seam_deg, process.outer_first)
    return s.PathSetting(sheet.machine.line_width_mm, process.pattern, process.infill_percent / 100.0, order)


def run(sheet: DecidedSheet) -> s.RunSetting | None:
    """How the machine runs along them."""
    return None if sheet.is_resin else s.RunSetting(running_of(sheet))


def gcode(sheet: JobSettings) -> s.GcodeSetting | None:
    """How G-code is written."""
    if sheet.is_resin:
        return None
    stuff, machine, process = sheet.stuff, sheet.machine, sheet.process
    writing = Writing(
        machine=machine.name,
        material=stuff.name,
        build_mm=machine.build_mm,
        diameter_mm=stuff.diameter_mm,
        nozzle_c=stuff.nozzle_c[1] if process.nozzle_c is None else process.nozzle_c,
        bed_c=(stuff.bed_c[1] if process.bed_c is None else process.bed_c) if machine.heated else 0.0,
        relative=process.relative_e,
        lift_mm=process.travel_lift_mm,
        start=process.start_text or START,
        end=process.end_text or END,
    )
    ranges = (stuff.nozzle_c[0], stuff.nozzle_c[2]), (stuff.bed_c[0], stuff.bed_c[2])
    return s.GcodeSetting(running_of(sheet), writing, stuff.density_g_cm3, *ranges)


# Readers by the settings that they read.
OF_PATHS: dict[type, Callable[[Any], Any]] = {
    s.WallSetting: walls,
    s.SkinSetting: skins,
    s.PathSetting: paths,
    s.RunSetting: run,
}

"""Lines and grids: walls one line wide below broad patches, under solid interface layers."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ..layers import LayerStack
from ..progress import Progress, silent, tracked
from .columns import Run, carried_down
from .demand import Patch, Style
from .model import Column, Slab, SupportSettings, support_id

# Outlines are drawn on a raster: what is within this of a footprint belongs to its patch.
NEAR_MM = 0.35
# Gap of a slit, in lines.
SLIT_LINES = 1.5
# Bits with less than this are dropped: no machine draws them.
CRUMB_MM2 = 0.05


def make_areas(
    stack: LayerStack,
    held: Sequence[tuple[Patch, Style]],
    settings: SupportSettings,
    *,
    clear: Sequence[CrossSection | None] | None = None,
    progress: Progress = silent,
) -> list[Column]:
    """Stand lines or grids under patches.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    held : sequence of (Patch, Style)
        ``Style.LINES`` or ``Style.GRID`` each.
    settings : SupportSettings
    clear : sequence of CrossSection or None, optional
        By level from the plate: where no support may pass.
    progress : Progress

    Returns
    -------
    list of Column
        One for each patch that has room below it; their slabs hold what is printed.

    Notes
    -----
    All outlines are carried down together (``columns.carried_down``); each level is then shared out: what
    lies below several patches belongs to the lowest of them.
    """
    if not held:
        return []
    lift = round(stack.base_mm / stack.layer_mm)
    demand: list[CrossSection | None] = [None] * len(stack)
    for patch, _ in held:
        for layer, plan in patch.plans.items():
            known = demand[layer]
            demand[layer] = plan if known is None else known + plan
    runs, _ = carried_down(stack, demand, settings, progress=progress)
    if settings.from_plate:
        runs = _from_plate(runs)
    order = sorted(held, key=lambda h: min(h[0].plans))
    prints = [
        (patch.footprint.offset(NEAR_MM).simplify(NEAR_MM / 5), max(patch.plans) + lift)
        for patch, _ in order
    ]
    shares: list[list[tuple[Run, CrossSection]]] = [[] for _ in order]
    for run in tracked(runs, "Sharing out columns", progress):
        rest = CrossSection(run.rings, FillRule.NonZero)
        if clear is not None:
            for level in range(run.low, run.high + 1):
                plan = clear[level] if level < len(clear) else None
                if plan is not None:
                    rest = rest - plan
        for k, (footprint, top) in enumerate(prints):
            if run.low > top or rest.is_empty():
                continue
            mine = rest ^ footprint
            if mine.area() > CRUMB_MM2:
                shares[k].append((run, mine))
                rest = rest - footprint
    found = []
    plate = CrossSection()
    if settings.brim_mm > 0:
        # A rim may not come nearer to the part in its first layer than the support itself.
        plate = stack.section(-lift).offset(settings.clearance_mm)
        if clear is not None and clear[0] is not None:
            plate = plate + clear[0]
    for (patch, style), own in zip(order, shares, strict=True):
        column = _column(patch, style, own, stack.layer_mm, settings, plate)
        if column is not None:
            found.append(column)
    return found


def _from_plate(runs: Sequence[Run]) -> list[Run]:
    """Only what stands over the plate all the way down."""
    kept: list[Run] = []
    below: CrossSection | None = None
    for run in runs:
        section = CrossSection(run.rings, FillRule.NonZero)
        if below is None:
            below = section if run.low == 0 else CrossSection()
        elif kept and run.low != kept[-1].high + 1:
            below = CrossSection()
        section = section ^ below.offset(0.02) if run.low else section
        below = section
        if section.is_empty():
            continue
        kept.append(Run(run.low, run.high, section.to_polygons()))
    return kept


def _column(
    patch: Patch,
    style: Style,
    own: list[tuple[Run, CrossSection]],
    h: float,
    settings: SupportSettings,
    plate: CrossSection,
) -> Column | None:
    if not own:
        return None
    slabs = []
    volume = 0.0
    walls, ends = _printed(own, style, settings)
    if settings.brim_mm > 0 and own[0][0].low == 0:
        rim = own[0][1].offset(settings.brim_mm) - plate
        slabs.append(Slab(0.0, h, tuple(rim.to_polygons())))
        volume += (float(rim.area()) - float(walls[0][2].area())) * h
    for low, high, section in _thick(walls, settings.every):
        area = float(section.area())
        if area > CRUMB_MM2:
            slabs.append(Slab(low * h, (high + 1) * h, tuple(section.to_polygons())))
            volume += area * (high + 1 - low) * h
    for low, high, section, beside in ends:
        if section.area() > CRUMB_MM2:
            slabs.append(Slab(low * h, (high + 1) * h, tuple(section.to_polygons()), solid=True))
            volume += float((section - beside).area()) * (high + 1 - low) * h
    if not slabs:
        return None
    slabs.sort(key=lambda slab: (slab.high_mm, slab.low_mm))
    top = slabs[-1].rings[0].mean(axis=0)
    touch = (float(top[0]), float(top[1]), slabs[-1].high_mm)
    on_part = min(slab.low_mm for slab in slabs) > h / 2
    dense = 1.0 if settings.interface_layers else settings.line_mm / settings.line_spacing_mm
    return Column(
        support_id("column", *patch.at_mm), patch.reason, touch, on_part, volume, tuple(slabs), patch.id,
        style.value, patch.area_mm2 * dense + (float(own[0][1].area()) * dense if on_part else 0.0),
    )  # fmt: skip


Stretch = tuple[int, int, CrossSection]


def _thick(walls: list[Stretch], every: int) -> list[Stretch]:
    """Give walls one outline for every so many levels, counted from the plate."""
    if every <= 1:
        return walls
    by_level = {level: section for low, high, section in walls for level in range(low, high + 1)}
    found: list[Stretch] = []
    level, top = min(by_level, default=0), max(by_level, default=-1)
    while level <= top:
        block = [by_level[level + k] for k in range(every) if level + k in by_level]
        if level % every == 0 and len(block) == every:
            shared = block[0]
            for other in block[1:]:
                if other is not shared:
                    # Where the part draws nearer, the thick layer gives way as soon as its first one would.
                    shared = shared ^ other
            found.append((level, level + every - 1, shared))
            level += every
        else:
            if level in by_level:
                found.append((level, level, by_level[level]))
            level += 1
    return found


def _printed(
    own: list[tuple[Run, CrossSection]], style: Style, settings: SupportSettings
) -> tuple[list[Stretch], list[tuple[int, int, CrossSection, CrossSection]]]:
    """Stretches of levels with the walls in them; and with what is solid, and the walls it lies over.

    Where the outline does not go on for so many layers it is solid: under the part, and on it.
    """
    top = {}
    for k, (run, _) in enumerate(own):
        for level in range(run.low, run.high + 1):
            top[level] = k
    n = settings.interface_layers
    found: list[Stretch] = []
    ends: list[tuple[int, int, CrossSection, CrossSection]] = []
    for k, (run, section) in enumerate(own):
        walls = section ^ _walls(section.bounds(), style, settings)
        found.append((run.low, run.high, walls))
        stretch: tuple[int, int, tuple[int | None, ...]] | None = None
        for level in range(run.low, run.high + 2):
            beyond = tuple(top.get(level + step) for step in range(1, n + 1))
            before = tuple(top.get(level - step) if level - step >= 0 else k for step in range(1, n + 1))
            kind = tuple(j for j in (*beyond, *before) if j != k)
            if stretch is not None and stretch[2] == kind and level <= run.high:
                stretch = (stretch[0], level, kind)
                continue
            if stretch is not None and stretch[2]:
                solid = _solid(section, stretch[2], own)
                if not solid.is_empty():
                    ends.append((stretch[0], stretch[1], solid, walls))
            stretch = (level, level, kind)
    return found, ends


def _solid(
    section: CrossSection, ends: tuple[int | None, ...], own: list[tuple[Run, CrossSection]]
) -> CrossSection:
    """What of an outline ends within a few layers."""
    goes_on = section
    for j in set(ends):
        if j is None:
            return section
        goes_on = goes_on ^ own[j][1]
    # Edges that draw back by less than a line are slopes of a wall, not ends of it.
    return (section - goes_on).offset(-0.1).offset(0.1)


def _walls(
    bounds: tuple[float, float, float, float], style: Style, settings: SupportSettings
) -> CrossSection:
    """Strips one line wide over a box, at the spacing of the settings, in one direction or two."""
    x0, y0, x1, y1 = bounds
    middle = np.array([(x0 + x1) / 2, (y0 + y1) / 2])
    reach = math.hypot(x1 - x0, y1 - y0) / 2 + settings.line_spacing_mm
    strips: list[NDArray[np.float64]] = []
    angles = [settings.line_angle_deg] if style is Style.LINES else [
        settings.line_angle_deg, settings.line_angle_deg + 90.0
    ]  # fmt: skip
    for angle in angles:
        a = math.radians(angle)
        along, across = np.array([math.cos(a), math.sin(a)]), np.array([-math.sin(a), math.cos(a)])
        offset = float(middle @ across)
        # The lines belong to the plate: neighbouring columns have them in step.
        first = math.floor((offset - reach) / settings.line_spacing_mm)
        last = math.ceil((offset + reach) / settings.line_spacing_mm)
        begin = float(middle @ along) - reach
        cuts = [begin, begin + 2 * reach]
        if settings.slit_mm > 0 and style is Style.LINES:
            start = math.floor(begin / settings.slit_mm)
            stop = math.ceil((begin + 2 * reach) / settings.slit_mm)
            cuts = [k * settings.slit_mm for k in range(start, stop + 1)]
        gap = SLIT_LINES * settings.line_mm / 2 if len(cuts) > 2 else 0.0
        for k in range(first, last + 1):
            y = k * settings.line_spacing_mm
            for lo, hi in itertools.pairwise(cuts):
                corners = [
                    (lo + gap, y - settings.line_mm / 2), (hi - gap, y - settings.line_mm / 2),
                    (hi - gap, y + settings.line_mm / 2), (lo + gap, y + settings.line_mm / 2),
                ]  # fmt: skip
                strips.append(np.array([u * along + v * across for u, v in corners]))
    return CrossSection(strips, FillRule.NonZero)

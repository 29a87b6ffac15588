"""Lines and grids: walls one line wide below broad patches, under solid interface layers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType, OpType

from ..layers import LayerStack
from ..progress import Progress, silent, tracked
from .columns import Run, carried_down
from .demand import Patch, Style, by_layer
from .model import Column, Slab, SupportSettings, support_id
from .outlines import strips

# Outlines are drawn on a raster: what is within this of a footprint belongs to its patch.
NEAR_MM = 0.35
# Gap of a slit, in lines.
SLIT_LINES = 1.5
# Thinner than twice this, what ends is not drawn solid.
THIN_MM = 0.1
# Outlines that tremble by this from level to level still stand on each other.
STEP_MM = 0.02
# Outlines of as many corners whose areas and boxes differ by less are one (mm2, mm).
SAME = 1e-6
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
    demand = by_layer([patch for patch, _ in held], len(stack))
    runs = carried_down(stack, demand, settings, progress=progress)
    order = sorted(held, key=lambda h: min(h[0].plans))
    prints = [_Print(patch, max(patch.plans) + lift) for patch, _ in order]
    shares: list[list[tuple[Run, CrossSection]]] = [[] for _ in order]
    plate_only = [settings.plate_only(patch.id) for patch, _ in order]
    standing = _standing(runs) if any(plate_only) else None
    blocked = CrossSection()
    for n, run in enumerate(tracked(runs, "Sharing out columns", progress)):
        rest = CrossSection(run.rings, FillRule.NonZero)
        if clear is not None:
            blocked = _blocked(blocked, run, stack, clear, settings)
            rest = rest - blocked
        bounds = rest.bounds()
        for k, below in enumerate(prints):
            if run.low > below.top or not below.meets(bounds) or rest.is_empty():
                continue
            mine = rest ^ below.plan
            if mine.area() <= CRUMB_MM2:
                continue
            rest = rest - below.plan
            if plate_only[k] and standing is not None:
                mine = mine ^ standing[n]
            if mine.area() > CRUMB_MM2:
                _take(shares[k], run, mine)
    found = []
    plate = CrossSection()
    if settings.brim_mm > 0:
        # A rim may not come nearer to the part in its first layer than the support itself.
        plate = stack.section(-lift).offset(settings.clearance_mm)
        if clear is not None and clear[0] is not None:
            plate = plate + clear[0]
    below = lift - 1 - settings.gap_layers(stack.layer_mm)
    for (patch, style), own in zip(order, shares, strict=True):
        own = _reaching(own, {layer + below for layer in patch.plans})
        column = _column(patch, style, own, stack.layer_mm, settings, plate)
        if column is not None:
            found.append(column)
    return found


@dataclass(frozen=True, eq=False)
class _Print:
    """What lies below a patch, and the highest level of that."""

    patch: Patch
    top: int

    @cached_property
    def plan(self) -> CrossSection:
        """All that is near the plans of the patch; thinned before they are put together: most are strips."""
        plans = [plan.simplify(NEAR_MM / 7).offset(NEAR_MM) for plan in self.patch.plans.values()]
        return CrossSection.batch_boolean(plans, OpType.Add).simplify(NEAR_MM / 4)

    @cached_property
    def bounds(self) -> tuple[float, float, float, float]:
        x0, y0, x1, y1 = self.plan.bounds()
        return x0, y0, x1, y1

    def meets(self, box: tuple[float, float, float, float]) -> bool:
        """Whether its box meets another: most footprints lie aside of most outlines."""
        x0, y0, x1, y1 = self.bounds
        return x0 <= box[2] and x1 >= box[0] and y0 <= box[3] and y1 >= box[1]


def _take(own: list[tuple[Run, CrossSection]], run: Run, mine: CrossSection) -> None:
    """Give a patch its share of a run; where it is as in the run below, that one goes on."""
    if own:
        last, before = own[-1]
        alike = (
            last.high + 1 == run.low
            and before.num_vert() == mine.num_vert()
            and abs(before.area() - mine.area()) < SAME
            and np.allclose(before.bounds(), mine.bounds(), rtol=0, atol=SAME)
        )
        if alike:
            own[-1] = (Run(last.low, run.high, last.rings), before)
            return
    own.append((run, mine))


def _reaching(own: list[tuple[Run, CrossSection]], ends: set[int]) -> list[tuple[Run, CrossSection]]:
    """Leave out what does not lead up to one of the levels in which something begins to be held.

    Below a hole that is too narrow for a column its outline would go on by itself.
    """
    found: list[tuple[Run, CrossSection]] = []
    for run, section in reversed(own):
        if ends.isdisjoint(range(run.low, run.high + 1)):
            above = found[-1][1] if found and found[-1][0].low == run.high + 1 else CrossSection()
            if (section - above).area() > CRUMB_MM2:
                kept = [p for p in section.decompose() if not (p ^ above).is_empty()]
                if not kept:
                    continue
                section = CrossSection.compose(kept)
        found.append((run, section))
    return found[::-1]


def _blocked(
    below: CrossSection,
    run: Run,
    stack: LayerStack,
    clear: Sequence[CrossSection | None],
    settings: SupportSettings,
) -> CrossSection:
    """Where nothing may stand in a run: what is kept clear in it, and what would hang over that."""
    h = stack.layer_mm
    floor = run.low - 1 - settings.gap_below_layers(h) - round(stack.base_mm / h)
    if not below.is_empty() and 0 <= floor < len(stack):
        # On the part itself one may stand again.
        below = below - stack.section(floor).offset(settings.clearance_mm)
    plans = [plan for plan in clear[run.low : run.high + 1] if plan is not None]
    return CrossSection.batch_boolean([below, *plans], OpType.Add) if plans else below


def _standing(runs: Sequence[Run]) -> list[CrossSection]:
    """What of each run stands over the plate all the way down."""
    found: list[CrossSection] = []
    for k, run in enumerate(runs):
        section = CrossSection(run.rings, FillRule.NonZero)
        if run.low:
            joined = bool(k) and run.low == runs[k - 1].high + 1
            section = section ^ found[-1].offset(STEP_MM) if joined else CrossSection()
        found.append(section)
    return found


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
    ends = _Ends(own, settings.interface_layers)
    found: list[Stretch] = []
    solids: list[tuple[int, int, CrossSection, CrossSection]] = []
    boxes = np.array([section.bounds() for _, section in own])
    (x0, y0), (x1, y1) = boxes[:, :2].min(axis=0).tolist(), boxes[:, 2:].max(axis=0).tolist()
    pattern = _walls((x0, y0, x1, y1), style, settings)
    for k, (run, section) in enumerate(own):
        walls = section ^ pattern
        found.append((run.low, run.high, walls))
        for low, high, near in ends.stretches(k):
            solid = ends.solid(k, near)
            if not solid.is_empty():
                solids.append((low, high, solid, walls))
    return found, solids


class _Ends:
    """Where the outlines of one patch do not go on for so many layers, up or down.

    Between two neighbouring outlines only what the one has and the other has not is worked out, once: what
    ends within some layers is all of that together, as far as it lies in the outline itself.
    """

    def __init__(self, own: list[tuple[Run, CrossSection]], layers: int) -> None:
        self.own, self.layers = own, layers
        self.at = {level: k for k, (run, _) in enumerate(own) for level in range(run.low, run.high + 1)}
        self.less: dict[tuple[int, int], CrossSection] = {}

    def stretches(self, k: int) -> list[tuple[int, int, tuple[int, int] | None]]:
        """Levels of an outline that has an end near, with the lowest and the highest outline near them.

        ``None`` stands for an end of all of it.
        """
        run = self.own[k][0]
        found: list[tuple[int, int, tuple[int, int] | None]] = []
        for level in range(run.low, run.high + 1):
            # The plate is no end.
            below = [self.at.get(n) for n in range(max(0, level - self.layers), level)]
            above = [self.at.get(level + n) for n in range(1, self.layers + 1)]
            every = [k, *(n for n in (*below, *above) if n is not None)]
            near = (min(every), max(every)) if len(every) == 1 + len(below) + len(above) else None
            if near == (k, k):
                continue
            if found and found[-1][1] == level - 1 and found[-1][2] == near:
                found[-1] = (found[-1][0], level, near)
            else:
                found.append((level, level, near))
        return found

    def solid(self, k: int, near: tuple[int, int] | None) -> CrossSection:
        """What of an outline ends within the outlines near it."""
        section = self.own[k][1]
        if near is None:
            return section
        gone = [self._less(j, j + 1) for j in range(k, near[1])]
        gone += [self._less(j, j - 1) for j in range(near[0] + 1, k + 1)]
        ended = CrossSection.batch_boolean(gone, OpType.Add) ^ section
        # Edges that draw back by less than a line are slopes of a wall, not ends of it.
        return ended.offset(-THIN_MM, JoinType.Miter, 2.0).offset(THIN_MM, JoinType.Miter, 2.0)

    def _less(self, j: int, other: int) -> CrossSection:
        if (j, other) not in self.less:
            self.less[j, other] = self.own[j][1] - self.own[other][1]
        return self.less[j, other]


def _walls(
    bounds: tuple[float, float, float, float], style: Style, settings: SupportSettings
) -> CrossSection:
    """Strips over a box, at the spacing of the settings, in one direction or two."""
    angles = [settings.line_angle_deg]
    if style is Style.GRID:
        angles.append(settings.line_angle_deg + 90.0)
    slit = settings.slit_mm if style is Style.LINES else 0.0
    rings = [
        ring
        for angle in angles
        for ring in strips(
            bounds, settings.line_mm, settings.line_spacing_mm, angle, slit, SLIT_LINES * settings.line_mm
        )
    ]
    return CrossSection(rings, FillRule.NonZero)

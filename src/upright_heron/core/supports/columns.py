"""Filament supports: columns below overhangs, straight down to the plate or to the part."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..fields import THIN_MM, Field
from ..islands import Island
from ..layers import LayerStack, pack, packed, thinned, thinned_rings
from ..overhangs import unheld_sections
from ..progress import Progress, silent, tracked
from ..regions import Pieces, bodies, links, pieces
from .model import Column, Slab, SupportSet, SupportSettings, support_id
from .wishes import Wishes

NONE = Wishes()
# Columns thinner than this cannot be printed: one line of a common nozzle.
THINNEST_MM = 0.4
# A pointed island is widened to a pad that a column can stand under.
PAD_MM = 0.8
# Columns are carried down on a raster of this pixel, or of one that gives so many samples on a wide part.
PIXEL_MM = 0.2
SAMPLES = 3_000_000
# Their outlines are thinned by this share of a pixel, and drawn anew only where they move by more than the
# other: the contours of a curved wall tremble.
SMOOTH = 0.25
JITTER = 0.3


@dataclass(frozen=True, eq=False)
class Run:
    """Neighbouring levels, from ``low`` to ``high`` with both, that share one outline."""

    low: int
    high: int
    rings: list[NDArray[np.float64]]


def _demand(
    stack: LayerStack,
    limit_deg: float,
    islands: list[Island],
    island_pieces: Pieces,
    wishes: Wishes,
    progress: Progress,
) -> list[CrossSection | None]:
    """What must be held, by layer: what reaches too far, every island with a pad under it, what is wished."""
    demand = unheld_sections(stack, limit_deg, progress=progress)
    for island in islands:
        pad = CrossSection.circle(PAD_MM, 24).translate((island.x_mm, island.y_mm))
        whole = island_pieces.section(island.piece) + pad
        known = demand[island.layer]
        demand[island.layer] = whole if known is None else known + whole
    wishes.apply(demand)
    return demand


def make_columns(
    stack: LayerStack,
    limit_deg: float,
    islands: list[Island],
    island_pieces: Pieces,
    settings: SupportSettings,
    *,
    wishes: Wishes = NONE,
    progress: Progress = silent,
) -> SupportSet:
    """Stand columns under everything that is not held.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not; column layers are counted from the plate.
    limit_deg : float
    islands : list of Island
    island_pieces : Pieces
        That the islands are numbered in.
    settings : SupportSettings
    wishes : Wishes
        What marks and bridges change in what is to be held.
    progress : Progress

    Returns
    -------
    SupportSet

    Notes
    -----
    Downwards, layer by layer, the outline is that of the layer above, plus what begins to need holding,
    less the part grown by the side clearance. The gap leaves out whole layers above and below the part.
    What to hold comes as polygons; it is carried down on a raster of distances, whose cost stays the same
    however many outlines have come together.
    Vertical-prism model: S. Allen, D. Dutta, "Determination and evaluation of support structures in layered
    manufacturing", J. Design and Manufacturing 5, 1995.
    """
    demand = _demand(stack, limit_deg, islands, island_pieces, wishes, progress)
    runs, held_area = carried_down(stack, demand, settings, progress=progress)
    lift, gap = round(stack.base_mm / stack.layer_mm), settings.gap_layers(stack.layer_mm)
    return _assemble(stack, runs, demand, lift, gap, held_area, islands, island_pieces, settings)


def carried_down(
    stack: LayerStack,
    demand: list[CrossSection | None],
    settings: SupportSettings,
    *,
    progress: Progress = silent,
) -> tuple[list[Run], float]:
    """Carry down what must be held, layer by layer, to the plate or to the part.

    Parameters
    ----------
    stack : LayerStack
    demand : list of CrossSection or None
        By layer of the part.
    settings : SupportSettings
    progress : Progress

    Returns
    -------
    list of Run
        Outlines from the plate up, levels counted from it; levels without any are left out.
    float
        Area of the demand that has a column near below it, mm2.
    """
    h = stack.layer_mm
    lift, gap = (
        round(stack.base_mm / h),
        settings.gap_layers(h),
    )  # layers between the plate and a lifted part
    standing = _field(demand, settings.clearance_mm)
    plain = thinned(stack, THIN_MM)
    if standing is None:
        return [], 0.0
    # No hole that the part with its clearance needs is as small as this.
    hole = min(THINNEST_MM**2, 0.9 * math.pi * settings.clearance_mm**2)
    held_area = 0.0
    runs: list[Run] = []
    here, drawn = standing.like(), standing.like()
    strip = packed([])  # what began to need holding a layer higher
    for level in tracked(range(len(stack) + lift - 1, -1, -1), "Standing columns", progress):
        part = level - lift
        above = part + 1 + gap
        new = demand[above] if 0 <= above < len(stack) else None
        if new is None and not runs:
            continue  # nothing hangs above this
        if new is None and all(_alike(stack, part + 1 - k) for k in range(gap + 1)):
            strip = packed([])
            runs[-1] = Run(level, runs[-1].high, runs[-1].rings)
            continue
        if new is not None:
            fresh = thinned_rings(*packed(new.to_polygons()), THIN_MM)
            # On a slope it is a strip between the layer below and what began to need holding a layer higher.
            standing.join(fresh, beside=strip, into=plain.packed_rings(above - 1))
            standing.close_thin(THINNEST_MM)
            for k in range(1, gap + 1):
                standing.cut(plain.packed_rings(part + k))
            strip = fresh
        else:
            strip = packed([])
        standing.cut(plain.packed_rings(part))
        standing.copy_to(here)
        # Kept layer by layer: where the part draws back below, the column comes closer again.
        here.cut(plain.packed_rings(part), settings.clearance_mm)
        if new is not None:
            held_area += float(new.area()) * here.share(fresh, settings.clearance_mm)
        for k in range(1, gap + 1):
            here.cut(plain.packed_rings(part - k))
        # Only what leaves is cleared of thin bits: a thin ledge may join the next one below it.
        here.drop_thin(THINNEST_MM)
        if runs and here.near(drawn, JITTER * here.pixel_mm):
            runs[-1] = Run(level, runs[-1].high, runs[-1].rings)
        else:
            rings = here.outlines(SMOOTH * here.pixel_mm, THINNEST_MM**2, hole)
            runs.append(Run(level, level, rings))
            here, drawn = drawn, here
    return [run for run in reversed(runs) if run.rings], held_area


def _field(demand: list[CrossSection | None], clearance_mm: float) -> Field | None:
    """Make a raster that all demand fits on; ``None`` where nothing is to be held."""
    bounds = np.array([s.bounds() for s in demand if s is not None and not s.is_empty()])
    if not len(bounds):
        return None
    low, high = bounds[:, :2].min(axis=0), bounds[:, 2:].max(axis=0)
    pixel = max(PIXEL_MM, math.sqrt(float((high - low).prod()) / SAMPLES))
    return Field(tuple(low), tuple(high), pixel, max(THINNEST_MM / 2, clearance_mm) + pixel)


def _alike(stack: LayerStack, layer: int) -> bool:
    """Whether a layer and the one below it are the same, or both lie outside the part."""
    if layer <= 0 or layer > len(stack):
        return layer < 0 or layer > len(stack)
    return layer < len(stack) and stack.same_as_below(layer)


def _assemble(
    stack: LayerStack,
    runs: list[Run],
    demand: list[CrossSection | None],
    lift: int,
    gap: int,
    held_area: float,
    islands: list[Island],
    island_pieces: Pieces,
    settings: SupportSettings,
) -> SupportSet:
    """Sort the outlines into columns, drop needless ones, check what is held in the layers that remain."""
    h = stack.layer_mm
    run_pieces = pieces(pack((run.rings for run in runs), np.zeros(len(runs)), h, 0.0))
    pairs = links(run_pieces)
    # Runs that follow each other in the list need not touch: a column ends where layers are missing.
    low = np.array([run.low for run in runs], np.int64)
    high = np.array([run.high for run in runs], np.int64)
    touching = high[run_pieces.layer[pairs[:, 1]]] + 1 == low[run_pieces.layer[pairs[:, 0]]]
    body_of = bodies(len(run_pieces), pairs[touching])
    holding = _holding(run_pieces, body_of, low, high, demand, lift - 1 - gap, settings.clearance_mm)
    tops = {island.number: (island.x_mm, island.y_mm, island.layer + lift - 1 - gap) for island in islands}
    kept_rings: list[list[NDArray[np.float64]]] = [[] for _ in runs]
    kept_areas = np.zeros(len(runs))
    columns = []
    for body in range(int(body_of.max()) + 1 if len(body_of) else 0):
        if not holding[body]:
            continue  # left over below a hole that is too narrow for a column
        members = np.flatnonzero(body_of == body)
        slabs = tuple(
            Slab(float(low[r] * h), float((high[r] + 1) * h), tuple(run_pieces.rings(int(m))))
            for m, r in ((m, run_pieces.layer[m]) for m in members)
        )
        held = [n for n, (x, y, level) in tops.items() if _covers(slabs, x, y, level * h)]
        if not held and run_pieces.area_mm2[members].max() < settings.smallest_mm2:
            continue
        for m, slab in zip(members, slabs, strict=True):
            kept_rings[run_pieces.layer[m]].extend(slab.rings)
            kept_areas[run_pieces.layer[m]] += run_pieces.area_mm2[m]
        x, y = (float(v) for v in run_pieces.inside_mm[members[-1]])
        z = slabs[-1].high_mm
        volume = sum(
            float(run_pieces.area_mm2[m]) * (s.high_mm - s.low_mm)
            for m, s in zip(members, slabs, strict=True)
        )
        reason = f"island {held[0]}" if len(held) == 1 else f"{len(held)} islands" if held else "overhang"
        columns.append(
            Column(support_id("column", x, y, z), reason, (x, y, z), slabs[0].low_mm > h / 2, volume, slabs)
        )
    run_at = {z: i for i, run in enumerate(runs) for z in range(run.low, run.high + 1)}
    total = len(stack) + lift
    layers = pack(
        (kept_rings[run_at[z]] if z in run_at else [] for z in range(total)),
        (kept_areas[run_at[z]] if z in run_at else 0.0 for z in range(total)),
        h,
        0.0,
    )
    unheld = _unheld_islands(layers, islands, island_pieces, lift, gap)
    notes = (
        (f"Islands with no room for a column below them: {len(unheld)} of {len(islands)}.",) if unheld else ()
    )
    return SupportSet(tuple(columns), layers, held_area, tuple(unheld), notes)


def _holding(
    run_pieces: Pieces,
    body_of: NDArray[np.int64],
    low: NDArray[np.int64],
    high: NDArray[np.int64],
    demand: list[CrossSection | None],
    shift: int,
    clearance_mm: float,
) -> NDArray[np.bool_]:
    """Tell the bodies that reach up to something to hold, or to within the clearance beside it.

    ``shift`` leads from a layer of the part to the level at which its columns end.
    """
    found = np.zeros(int(body_of.max()) + 1 if len(body_of) else 0, np.bool_)
    for layer in range(len(demand) - 1, -1, -1):
        section = demand[layer]
        run = int(np.searchsorted(low, layer + shift, side="right")) - 1
        if section is None or run < 0 or layer + shift > high[run]:
            continue
        members = np.arange(run_pieces.start[run], run_pieces.start[run + 1])
        members = members[~found[body_of[members]]]
        if len(members):
            near = section.offset(clearance_mm)
            reached = [m for m in members if not (run_pieces.section(m) ^ near).is_empty()]
            found[body_of[reached]] = True
    return found


def _unheld_islands(
    layers: LayerStack, islands: list[Island], island_pieces: Pieces, lift: int, gap: int
) -> list[int]:
    """Look in the finished layers for islands with nothing under them."""
    unheld = []
    for island in islands:
        level = island.layer + lift - 1 - gap
        if level < 0:
            continue  # it starts within the gap over the plate and comes to lie on it
        if (layers.section(level) ^ island_pieces.section(island.piece).offset(PAD_MM / 2)).area() < 0.01:
            unheld.append(island.number)
    return unheld


def _covers(slabs: tuple[Slab, ...], x: float, y: float, z: float) -> bool:
    spot = CrossSection.circle(PAD_MM / 2, 8).translate((x, y))
    return any(s.low_mm <= z + 1e-6 < s.high_mm and not (s.section ^ spot).is_empty() for s in slabs)

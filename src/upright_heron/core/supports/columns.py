"""Filament supports: columns below overhangs, straight down to the plate or to the part."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection, JoinType
from numpy.typing import NDArray

from ..islands import Island
from ..layers import LayerStack, pack
from ..overhangs import unheld_sections
from ..progress import Progress, silent, tracked
from ..regions import Pieces, bodies, links, pieces
from .model import Column, Slab, SupportSet, SupportSettings, support_id

# Columns thinner than this cannot be printed: one line of a common nozzle.
THINNEST_MM = 0.4
# A pointed island is widened to a pad that a column can stand under.
PAD_MM = 0.8
# Outlines are thinned as they come down, or their corners add up layer by layer.
SMOOTH_MM = 0.05
# Slabs are drawn anew only where the outline moves by more than this: the contours of a curved wall tremble.
JITTER_MM = 0.06


@dataclass(frozen=True, eq=False)
class _Run:
    """Neighbouring layers, from ``low`` to ``high`` with both, that share one outline."""

    low: int
    high: int
    section: CrossSection


def _opened(section: CrossSection, width_mm: float) -> CrossSection:
    # Mitred, so that square corners survive any number of passes.
    if section.is_empty():
        return section
    return section.offset(-width_mm / 2, JoinType.Miter, 3.0).offset(width_mm / 2, JoinType.Miter, 3.0)


def _demand(
    stack: LayerStack,
    limit_deg: float,
    islands: list[Island],
    island_pieces: Pieces,
    progress: Progress,
) -> list[CrossSection | None]:
    """What must be held, by layer: what reaches too far, and every island with a pad under it."""
    demand = unheld_sections(stack, limit_deg, progress=progress)
    for island in islands:
        pad = CrossSection.circle(PAD_MM, 24).translate((island.x_mm, island.y_mm))
        whole = island_pieces.section(island.piece) + pad
        known = demand[island.layer]
        demand[island.layer] = whole if known is None else known + whole
    return demand


def make_columns(
    stack: LayerStack,
    limit_deg: float,
    islands: list[Island],
    island_pieces: Pieces,
    settings: SupportSettings,
    *,
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
    progress : Progress

    Returns
    -------
    SupportSet

    Notes
    -----
    Downwards, layer by layer, the outline is that of the layer above, plus what begins to need holding,
    less the part grown by the side clearance. The gap leaves out whole layers above and below the part.
    Vertical-prism model: S. Allen, D. Dutta, "Determination and evaluation of support structures in layered
    manufacturing", J. Design and Manufacturing 5, 1995.
    """
    h = stack.layer_mm
    lift = round(stack.base_mm / h)  # layers between the plate and a lifted part
    gap = math.ceil(settings.gap_mm / h - 1e-6) if settings.gap_mm > 0 else 0
    demand = _demand(stack, limit_deg, islands, island_pieces, progress)
    held_area = 0.0
    runs: list[_Run] = []
    outline = CrossSection()
    steady = False  # the outline is what it was a layer higher
    for level in tracked(range(len(stack) + lift - 1, -1, -1), "Standing columns", progress):
        part = level - lift
        above = part + 1 + gap
        new = demand[above] if 0 <= above < len(stack) else None
        if new is None and outline.is_empty():
            steady = False
            continue
        upright = steady and new is None and all(_alike(stack, part + 1 - k) for k in range(gap + 1))
        if not upright:
            if new is not None:
                outline = _gathered(outline + new)
            body = stack.section(part)
            if not body.is_empty():
                outline = outline - body.offset(settings.clearance_mm)
            if new is not None:
                held_area += float((outline ^ new).area())
            outline = outline.simplify(SMOOTH_MM)
            here = outline
            for k in range(1, gap + 1):
                if _filled(stack, part - k):
                    here = here - stack.section(part - k)
            # Only what leaves is cleared of thin bits: a thin ledge may join the next one below it.
            here = _opened(here, THINNEST_MM)
        steady = True
        if here.is_empty():
            continue
        last = runs[-1] if runs else None
        if last is not None and last.low == level + 1 and _same(last.section, here):
            runs[-1] = _Run(level, last.high, last.section)
        else:
            runs.append(_Run(level, level, here))
    runs.reverse()
    return _assemble(stack, runs, lift, gap, held_area, islands, island_pieces, settings)


def _gathered(section: CrossSection) -> CrossSection:
    """Join what lies closer together than a bead, and drop crumbs smaller than one.

    A bumpy slope hangs in hundreds of slivers; kept apart, their corners would add up on the way down. What
    this fills is taken away again where the part and its clearance are cut out.
    """
    half = THINNEST_MM / 2
    joined = section.offset(half, JoinType.Miter, 2.0).offset(-half, JoinType.Miter, 2.0)
    return _without_crumbs(joined.simplify(SMOOTH_MM))


def _without_crumbs(section: CrossSection) -> CrossSection:
    parts = section.decompose()
    large = [part for part in parts if part.area() >= THINNEST_MM**2]
    return section if len(large) == len(parts) else CrossSection.compose(large)


def _alike(stack: LayerStack, layer: int) -> bool:
    """Whether a layer and the one below it are the same, or both lie outside the part."""
    if layer <= 0 or layer > len(stack):
        return layer < 0 or layer > len(stack)
    return layer < len(stack) and stack.same_as_below(layer)


def _filled(stack: LayerStack, layer: int) -> bool:
    return 0 <= layer < len(stack) and bool(stack.area_mm2[layer] > 0)


def _same(a: CrossSection, b: CrossSection) -> bool:
    """Whether two outlines differ by less than ``JITTER_MM`` everywhere: then one slab serves for both."""
    if a is b:
        return True
    if abs(a.area() - b.area()) > 0.05 * a.area():
        return False
    return all(bool(rest.offset(-JITTER_MM / 2).is_empty()) for rest in (a - b, b - a))


def _assemble(
    stack: LayerStack,
    runs: list[_Run],
    lift: int,
    gap: int,
    held_area: float,
    islands: list[Island],
    island_pieces: Pieces,
    settings: SupportSettings,
) -> SupportSet:
    """Sort the outlines into columns, drop needless ones, check what is held in the layers that remain."""
    h = stack.layer_mm
    run_rings = [run.section.to_polygons() for run in runs]
    run_pieces = pieces(pack(run_rings, (float(run.section.area()) for run in runs), h, 0.0))
    pairs = links(run_pieces)
    # Runs that follow each other in the list need not touch: a column ends where layers are missing.
    low = np.array([run.low for run in runs], np.int64)
    high = np.array([run.high for run in runs], np.int64)
    touching = high[run_pieces.layer[pairs[:, 1]]] + 1 == low[run_pieces.layer[pairs[:, 0]]]
    body_of = bodies(len(run_pieces), pairs[touching])
    tops = {island.number: (island.x_mm, island.y_mm, island.layer + lift - 1 - gap) for island in islands}
    kept_rings: list[list[NDArray[np.float64]]] = [[] for _ in runs]
    kept_areas = np.zeros(len(runs))
    columns = []
    for body in range(int(body_of.max()) + 1 if len(body_of) else 0):
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

"""What is to be held, carried straight down to the plate or to the part: outlines for lines and grids."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ...geometry.fields import THIN_MM, Field, Windows
from ...layers.changes import Changes
from ...layers.stack import LayerStack, Rings, packed, thinned_rings
from ...progress import Progress, silent, tracked
from ..model import SupportSettings

# Columns thinner than this cannot be printed: one line of a common nozzle.
THINNEST_MM = 0.4
# Columns are carried down on a raster of this pixel, or of one that gives so many samples on a wide part.
PIXEL_MM = 0.2
SAMPLES = 3_000_000
# Their outlines are thinned by this share of a pixel, and drawn anew only where they move by more than the
# other: the contours of a curved wall tremble.
SMOOTH = 0.25
JITTER = 0.3
# Of more windows than this one stands for all.
MOST_WINDOWS = 200


@dataclass(frozen=True, eq=False)
class Run:
    """Neighbouring levels, from ``low`` to ``high`` with both, that share one outline."""

    low: int
    high: int
    rings: list[NDArray[np.float64]]


def carried_down(
    stack: LayerStack,
    demand: list[CrossSection | None],
    settings: SupportSettings,
    *,
    progress: Progress = silent,
) -> list[Run]:
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

    Notes
    -----
    Downwards, layer by layer, the outline is that of the layer above, plus what begins to need holding,
    less the part grown by the side clearance. The gap leaves out whole layers above and below the part.
    What to hold comes as polygons; it is carried down on a raster of distances, whose cost stays the same
    however many outlines have come together.
    Vertical-prism model: S. Allen, D. Dutta, "Determination and evaluation of support structures in layered
    manufacturing", J. Design and Manufacturing 5, 1995.
    """
    h = stack.layer_mm
    lift = round(stack.base_mm / h)  # layers between the plate and a lifted part
    gap, gap_below = settings.gap_layers(h), settings.gap_below_layers(h)
    standing = _field(demand, settings.clearance_mm)

    @lru_cache(gap + gap_below + 4)
    def plain(layer: int) -> Rings:
        points, starts = stack.packed_rings(layer)
        return thinned_rings(points[starts[0] : starts[-1]], starts - starts[0], THIN_MM)

    if standing is None:
        return []
    # No hole that the part with its clearance needs is as small as this.
    hole = min(THINNEST_MM**2, 0.9 * math.pi * settings.clearance_mm**2)
    runs: list[Run] = []
    here, drawn = standing.like(), standing.like()
    boxes = lru_cache(gap_below + 2)(Changes(stack).boxes)
    undrawn: Windows = []  # where it may differ from what was drawn last
    strip = packed([])  # what began to need holding a layer higher
    # What of a change shows in distances, and in what is cleared of thin bits.
    margin = settings.clearance_mm + 2 * standing.reach_mm + 4 * standing.pixel_mm
    for level in tracked(range(len(stack) + lift - 1, -1, -1), "Standing columns", progress):
        part = level - lift
        above = part + 1 + gap
        new = demand[above] if 0 <= above < len(stack) else None
        if new is None and not runs:
            continue  # nothing hangs above this
        if new is None and all(_alike(stack, part + 1 - k) for k in range(gap_below + 1)):
            strip = packed([])
            runs[-1] = Run(level, runs[-1].high, runs[-1].rings)
            continue
        moved = [boxes(part - k, part - k + 1) for k in range(gap_below + 1)]
        fresh = packed([])
        if new is not None:
            fresh = thinned_rings(*packed(new.to_polygons()), THIN_MM)
            # On a slope it is a strip between the layer below and what began to need holding a layer higher.
            standing.join(fresh, beside=strip, into=plain(above - 1))
            moved.append(_boxes(fresh))
            _leave_gap(standing, [plain(part + k) for k in range(1, gap + 1)], moved[-1], margin)
        strip = fresh
        # The rest is as it was a level higher.
        windows = standing.windows(np.concatenate(moved), margin) if runs else standing.whole
        standing.cut(plain(part), within=windows)
        standing.copy_to(here, windows)
        # Kept layer by layer: where the part draws back below, the column comes closer again.
        here.cut(plain(part), settings.clearance_mm, windows)
        for k in range(1, gap_below + 1):
            here.cut(plain(part - k), within=windows)
        # Only what leaves is cleared of thin bits: a thin ledge may join the next one below it.
        here.drop_thin(THINNEST_MM, windows)
        undrawn += windows
        if runs and here.near(drawn, JITTER * here.pixel_mm, windows):
            runs[-1] = Run(level, runs[-1].high, runs[-1].rings)
        else:
            rings = here.outlines(SMOOTH * here.pixel_mm, THINNEST_MM**2, hole)
            runs.append(Run(level, level, rings))
            here.copy_to(drawn, undrawn if len(undrawn) < MOST_WINDOWS else None)
            undrawn.clear()
    return [run for run in reversed(runs) if run.rings]


def _leave_gap(standing: Field, over: list[Rings], begun: NDArray[np.float64], margin_mm: float) -> None:
    """Leave out the gap below layers of the part where columns begin, in boxes (k, 4)."""
    windows = standing.windows(begun, margin_mm)
    standing.close_thin(THINNEST_MM, windows)
    for rings in over:
        standing.cut(rings, within=windows)


def _boxes(rings: Rings) -> NDArray[np.float64]:
    """Boxes (k, 4) of x0, y0, x1, y1 round rings."""
    points, starts = rings
    if len(starts) < 2:
        return np.zeros((0, 4))
    lows, highs = (bound.reduceat(points, starts[:-1]) for bound in (np.minimum, np.maximum))
    return np.column_stack([lows, highs])


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

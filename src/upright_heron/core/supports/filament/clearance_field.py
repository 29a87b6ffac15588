"""The room that branches grow in: free distances on a raster, step by step."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ...geometry.pixels import fill
from ...layers.stack import LayerStack
from ...progress import Progress, tracked
from ..model import SLENDER, SupportSettings
from ..on_plate import on_plate
from .growth import OUTSIDE, free_at, narrow_steps
from .landings import HOLE_MM2

# Branches are grown in steps of about this height, on a raster of about this pixel.
STEP_MM = 1.0
PIXEL_MM = 0.4
MOST_PIXELS = 400
# From the middle of a pixel to its edge, in pixels: half along the axes, 0.7 across.
TO_EDGE = 0.6
# Room is looked for so far beside the tips, as a share of their height.
ASIDE = 0.25
# A trunk is stout at so many times the thickness of a tip, or of what is too slender for its height.
STOUT = 1.25
# A trunk is wide at this share of the greatest thickness: it looks ahead for ways on which it stays so.
WIDE = 0.7
# What a pixel of a step shows, but for free room.
_PART, _HOLE = 1, 2
# So far beside a tip it is looked whether it is in a hole.
BESIDE_PIXELS = 3


class Room:
    """Free room beside the part, step by step from the plate: distances, and where the plate is reached.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    low, high : (2,) float64
        Box of the tips in plan, mm.
    top_mm : float
        Height of the highest one.
    settings : SupportSettings
    clear : sequence of CrossSection or None, optional
        By level from the plate: where nothing may pass.
    progress : Progress
    closed : bool
        Whether holes are closed: a branch through a bore could never be got out again. What begins in one
        can, so that it grows in a room where they are open.

    Attributes
    ----------
    away : (steps, rows, columns) float32
        Free distance, mm.
    opened : (steps, rows, columns) uint8
        1 where the plate can be reached, 2 where a stout trunk reaches it, 3 where a wide one does.
    narrow : (steps, rows, columns) uint8
        Over how many steps a wide trunk has to be narrow from there down.
    step_mm, pixel_mm, reach_mm, radius_mm, wide_mm : float
        Height of a step, side of a pixel, how far aside a branch gets in a step, thinnest and wide branches.
    """

    def __init__(
        self,
        stack: LayerStack,
        low: NDArray[np.float64],
        high: NDArray[np.float64],
        top_mm: float,
        settings: SupportSettings,
        clear: Sequence[CrossSection | None] | None,
        progress: Progress,
        *,
        closed: bool,
    ) -> None:
        from scipy.ndimage import binary_dilation

        h = stack.layer_mm
        each = max(1, round(STEP_MM / h))
        self.step_mm = each * h
        # High branches can lean far aside to get past what stands below them.
        margin = min(max(12.0, ASIDE * top_mm), 25.0)
        self.low, ends = on_plate(low - margin, high + margin, stack, settings.plate_mm, settings.rim_mm)
        # The tips themselves always have their place.
        self.low, extent = np.minimum(self.low, low), np.maximum(ends, high) - np.minimum(self.low, low)
        self.pixel_mm = max(PIXEL_MM, float(extent.max()) / MOST_PIXELS)
        columns, rows = (int(v) + 2 for v in np.ceil(extent / self.pixel_mm))
        self.count = max(1, math.ceil(top_mm / self.step_mm))
        lift = round(stack.base_mm / h)
        self.radius_mm = settings.branch_mm / 2
        need = self.radius_mm + settings.clearance_mm
        self.reach_mm = math.tan(math.radians(settings.branch_deg)) * self.step_mm
        self.away = np.zeros((self.count, rows, columns), np.float32)
        self.closed = closed
        self.kind = np.zeros((self.count, rows, columns), np.uint8)
        self.opened = np.zeros((self.count, rows, columns), np.uint8)
        self.narrow = np.zeros((self.count, rows, columns), np.uint8)
        stout = min(settings.trunk_mm / 2, max(2.0 * self.radius_mm, STOUT * top_mm / (2 * SLENDER)))
        self.wide_mm = max(stout, WIDE * settings.trunk_mm / 2)
        span = np.arange(-int(self.reach_mm / self.pixel_mm), int(self.reach_mm / self.pixel_mm) + 1)
        within = np.hypot(span[:, None], span) * self.pixel_mm <= self.reach_mm
        taken = np.zeros((rows, columns), np.bool_)
        below = np.full((rows, columns), 1e3, np.float32)
        for k in tracked(range(self.count), "Finding room for branches", progress):
            levels = range(k * each, (k + 1) * each)
            if (
                k
                and clear is None
                and all(stack.same_as_below(n - lift) for n in levels if n < len(stack) + lift)
            ):
                # As in the step below.
                own = below
                self.kind[k] = self.kind[k - 1]
            else:
                taken[:] = False
                for level in levels:
                    plan = clear[level] if clear is not None and level < len(clear) else None
                    self._take(taken, stack, level - lift, plan)
                own = self._free(taken, self.kind[k])
            # A place between two steps has to be free in both.
            self.away[k] = np.minimum(own, below)
            below = own
            self.narrow[k] = narrow_steps(
                self.narrow[k - 1] if k else np.zeros((rows, columns), np.uint8),
                self.reach_mm, self.pixel_mm, self.away[k], need, self.wide_mm + settings.clearance_mm,
            )  # fmt: skip
            self.opened[k][self.narrow[k] < 255] = 1
            free = self.away[k] >= max(need, stout + settings.clearance_mm)
            if k:
                below_open = self.opened[k - 1] >= 2
                # Where all is open below, nothing has to be looked for.
                if not below_open.all():
                    free &= binary_dilation(below_open, within)
            self.opened[k][free] = 2
            self.opened[k][self.narrow[k] == 0] = 3

    def _free(self, taken: NDArray[np.bool_], kind: NDArray[np.uint8]) -> NDArray[np.float32]:
        """Free distances of a step of which the part takes some, and what kind of place each is."""
        from scipy.ndimage import distance_transform_edt

        if not taken.any():
            return np.full(taken.shape, 1e3, np.float32)
        kind[taken] = _PART
        small = _small_holes(taken, HOLE_MM2 / self.pixel_mm**2)
        kind[small] = _HOLE
        if self.closed:
            taken |= small
        # The part may reach to the edge of a pixel that it touches.
        away = (distance_transform_edt(~taken) - TO_EDGE) * self.pixel_mm
        return np.asarray(away, np.float32)

    def _take(
        self, taken: NDArray[np.bool_], stack: LayerStack, layer: int, clear: CrossSection | None
    ) -> None:
        """Mark what a layer of the part takes, and what is kept clear in it."""
        if 0 <= layer < len(stack):
            a, b = stack.layer_start[layer], stack.layer_start[layer + 1]
            fill(taken, stack.points, stack.ring_start, a, b, self.low, self.pixel_mm, True)
        if clear is not None and not clear.is_empty():
            rings = clear.to_polygons()
            starts = np.cumsum([0, *[len(r) for r in rings]])
            fill(taken, np.concatenate(rings), starts, 0, len(rings), self.low, self.pixel_mm, True)

    def beside(self, x: float, y: float, k: int) -> float:
        """Free distance round a place of a step, mm."""
        free = float(free_at(self.away, k, x, y, self.low, self.pixel_mm))
        return free if free > OUTSIDE else 1e3

    def in_hole(self, tip: NDArray[np.float64]) -> bool:
        """Whether a tip (x, y, z) begins in a hole that is closed to branches from elsewhere."""
        # What it holds may fill the step that it ends in.
        k = max(0, math.floor(tip[2] / self.step_mm + 1e-9) - 1)
        column, row = (int(v) for v in (tip[:2] - self.low) / self.pixel_mm)
        a, b = max(0, row - BESIDE_PIXELS), max(0, column - BESIDE_PIXELS)
        kind = self.kind[k, a : row + BESIDE_PIXELS + 1, b : column + BESIDE_PIXELS + 1]
        rows, columns = np.nonzero(kind != _PART)
        if not len(rows):
            return False
        # Beside a wall the pixel of the tip itself may be one that the part touches.
        nearest = np.argmin((rows + a - row) ** 2 + (columns + b - column) ** 2)
        return bool(kind[rows[nearest], columns[nearest]] == _HOLE)


def _small_holes(taken: NDArray[np.bool_], most: float) -> NDArray[np.bool_]:
    """What is enclosed, and smaller than so many pixels."""
    from scipy.ndimage import label

    free, _ = label(~taken)
    small = np.bincount(free.ravel()) < most
    small[0] = False
    for edge in (free[0], free[-1], free[:, 0], free[:, -1]):
        small[edge] = False
    found: NDArray[np.bool_] = small[free]
    return found

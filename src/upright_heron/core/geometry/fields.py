"""Plans as signed distances on a raster: shapes are joined and cut at a cost that does not grow with them.

A sample holds the distance to the outline, positive inside, cut off at ``reach_mm``. The larger of two
distances joins shapes, the smaller cuts them, and the outline is where the distance passes through zero:
between samples, so that straight edges come back where they were although the raster is coarse.

References
----------
S. Osher, R. Fedkiw, "Level Set Methods and Dynamic Implicit Surfaces", Springer 2003, ch. 2 (Boolean
operations on signed distances). W. Lorensen, H. Cline, "Marching cubes", SIGGRAPH 1987 (outlines between
samples; here in the plane).
"""

from __future__ import annotations

import itertools
import math

import numpy as np
from numpy.typing import NDArray

from ..layers.stack import Rings, packed, thinned_rings
from . import rasters
from .outline_repair import sharpen, without_crumbs
from .rasters import CUT, FAR, JOIN

# Shapes may be thinned by this much before they are put in: less than a raster can tell.
THIN_MM = 0.008
# Outlines that come closer than this are joined: edges that two layers share differ by their thinning.
SEAM_MM = 0.012
# Straight edges are told from the cut corners of the raster to this tolerance.
STRAIGHT_MM = 0.004

# A shape borders on another when the other begins this close beyond its edge.
BORDER_MM = 0.02

# Windows that cover more of the raster than this are one: all of it.
MOST_SHARE = 0.6

# First row and column, and those behind the last.
Window = tuple[int, int, int, int]
Windows = list[Window]
Boxes = NDArray[np.float64]

_NOTHING = np.zeros(0, np.bool_)
_NO_SAMPLES = np.zeros(0, np.int64)


class Field:
    """A plan shape on a raster.

    Parameters
    ----------
    low_mm, high_mm : (x, y)
        Box that every shape put in lies in; what is cut away may reach out of it.
    pixel_mm : float
        Distance between samples.
    reach_mm : float
        Distances are cut off here; at least two samples.
    """

    def __init__(
        self,
        low_mm: tuple[float, float],
        high_mm: tuple[float, float],
        pixel_mm: float,
        reach_mm: float,
    ) -> None:
        self.pixel_mm = pixel_mm
        self.reach_mm = float(np.float32(max(reach_mm, 2 * pixel_mm)))  # as samples hold it
        margin = math.ceil(self.reach_mm / pixel_mm) + 1
        # Samples keep off round figures, where the edges of many parts lie.
        self.low = np.array(low_mm) - (margin + 0.37) * pixel_mm
        columns, rows = (
            math.ceil((high - low) / pixel_mm) + 2 * margin + 2
            for low, high in zip(low_mm, high_mm, strict=True)
        )
        self.values = np.full((rows, columns), -self.reach_mm, np.float32)
        # As if only what lay inside a cut had gone: what distances come back to when a cut heals.
        self._uncut = self.values.copy()
        self._scratch = np.full((rows, columns), FAR, np.float32)
        self._follow = np.full(2 * rows * columns, -1, np.int32)
        self._smoothed: dict[tuple[float, bytes], NDArray[np.float64]] = {}

    def join(self, rings: Rings, beside: Rings | None = None, into: Rings | None = None) -> None:
        """Add a shape.

        Edges that run along a shape ``beside`` do not bound it: strips that lie side by side become one,
        however narrow each is. Where it borders on a shape ``into``, it is drawn a little way into that one:
        the caller cuts the two apart, and the cut alone tells where the edge is.
        """
        rings = rasters.with_short_edges(*rings, 5 * self.pixel_mm)
        skip, inner = np.zeros(len(rings[0]), np.bool_), np.zeros(len(rings[0]), np.bool_)
        if beside is not None:
            rasters.mark_borders(skip, *rings, *beside, BORDER_MM)
        if into is not None:
            rasters.mark_borders(inner, *rings, *into, BORDER_MM)
            inner &= ~skip
        values, uncut = self.values.ravel(), self._uncut.ravel()
        seam = self._near_edges(rings, skip, self.reach_mm) if skip.any() else _NO_SAMPLES
        spill = self._near_edges(rings, inner, 1.5 * self.pixel_mm) if inner.any() else _NO_SAMPLES
        if len(spill):
            assert into is not None
            spill = rasters.inside(
                spill, values.size, self.values.shape[1], into[0], into[1], self.low, self.pixel_mm
            )
        self._paint(rings, skip | inner, 0.0, JOIN)
        # An earlier cut lowered the distances along the seam, and the seam has closed.
        seam = seam[values[seam] >= -SEAM_MM]
        values[seam] = np.maximum(values[seam], uncut[seam])
        values[spill] = uncut[spill] = self.reach_mm
        if len(seam):
            rasters.tame(self.values, seam, self.pixel_mm, self.reach_mm)
            rasters.tame(self._uncut, seam, self.pixel_mm, self.reach_mm)

    @property
    def whole(self) -> Windows:
        """All of the raster as one window."""
        rows, columns = self.values.shape
        return [(0, 0, rows, columns)]

    def windows(self, boxes: Boxes, margin_mm: float) -> Windows:
        """Cover boxes (k, 4) of x0, y0, x1, y1 (mm), grown by a margin, with windows that do not overlap.

        One window stands for all where they cover most of the raster.
        """
        rows, columns = self.values.shape
        if not len(boxes):
            return []
        origin = np.array([*self.low, *self.low])
        grown = (boxes + margin_mm * np.array([-1.0, -1.0, 1.0, 1.0]) - origin) / self.pixel_mm
        lows = np.maximum(np.floor(grown[:, :2]).astype(np.int64), 0)
        highs = np.minimum(np.ceil(grown[:, 2:]).astype(np.int64) + 1, [columns, rows])
        found: Windows = [
            (top, left, bottom, right)
            for left, top, right, bottom in rasters.merged(np.concatenate([lows, highs], axis=1)).tolist()
        ]
        covered = sum((bottom - top) * (right - left) for top, left, bottom, right in found)
        return found if covered < MOST_SHARE * rows * columns else self.whole

    def cut(self, rings: Rings, grow_mm: float = 0.0, within: Windows | None = None) -> None:
        """Take away a shape, grown by a margin with round corners, all over or in some windows."""
        for window in self.whole if within is None else within:
            self._paint(rings, _NOTHING, grow_mm, CUT, window)

    def _near_edges(self, rings: Rings, marked: NDArray[np.bool_], within_mm: float) -> NDArray[np.int64]:
        rows, columns = self.values.shape
        found: NDArray[np.int64] = rasters.samples_near(
            rows, columns, rings[0], rings[1], marked, self.low, self.pixel_mm, within_mm
        )
        return found

    def _paint(
        self, rings: Rings, skip: NDArray[np.bool_], grow_mm: float, mode: int, window: Window | None = None
    ) -> None:
        rasters.paint(
            self.values, self._uncut, self._scratch, rings[0], rings[1], skip, self.low, self.pixel_mm,
            self.reach_mm, grow_mm, mode, window or self.whole[0],
        )  # fmt: skip

    def copy_to(self, other: Field, within: Windows | None = None) -> None:
        """Overwrite another field of the same size with this one, all over or in some windows."""
        for top, left, bottom, right in self.whole if within is None else within:
            other.values[top:bottom, left:right] = self.values[top:bottom, left:right]

    def like(self) -> Field:
        """Make an empty field of the same raster, to copy to and to cut from."""
        twin = object.__new__(Field)
        twin.pixel_mm, twin.reach_mm, twin.low = self.pixel_mm, self.reach_mm, self.low
        twin.values = np.full_like(self.values, -self.reach_mm)
        twin._uncut = np.zeros((0, 0), np.float32)
        twin._scratch, twin._follow, twin._smoothed = self._scratch, self._follow, {}
        return twin

    def drop_thin(self, width_mm: float, within: Windows | None = None) -> None:
        """Take away what is thinner than a width, as far as the raster can tell."""
        self._drop_thin(width_mm, np.float32(-SEAM_MM), np.float32(1.0), within)

    def close_thin(self, width_mm: float, within: Windows | None = None) -> None:
        """Fill clefts thinner than a width, as far as the raster can tell."""
        self._drop_thin(width_mm, np.float32(SEAM_MM), np.float32(-1.0), within)

    def _drop_thin(self, width_mm: float, seam: np.float32, sign: np.float32, within: Windows | None) -> None:
        core = max(0.5 * width_mm - 0.5 * self.pixel_mm, 0.1 * self.pixel_mm)
        for window in self.whole if within is None else within:
            rasters.drop_thin(
                self.values, np.float32(core), np.float32(-0.5 * self.pixel_mm), seam, sign, window
            )

    def near(self, other: Field, tolerance_mm: float, within: Windows | None = None) -> bool:
        """Whether the outlines of two fields of one raster lie within a tolerance of each other."""
        every = self.whole if within is None else within
        return all(rasters.near(self.values, other.values, np.float32(tolerance_mm), w) for w in every)

    def outlines(
        self, smooth_mm: float, smallest_mm2: float = 0.0, smallest_hole_mm2: float = 0.0
    ) -> list[NDArray[np.float64]]:
        """Rings (k, 2) round the shape: outer ones counter-clockwise, holes clockwise.

        Corners within ``smooth_mm`` of the line between those kept are dropped, and so are rings with less
        area than the smallest.
        """
        level = np.float32(-SEAM_MM)
        inside = self.values >= level
        mixed = inside[:-1] ^ inside[1:]
        mixed[:, :-1] |= mixed[:, 1:]
        mixed[:, :-1] |= inside[:-1, :-1] ^ inside[:-1, 1:]
        mixed[:, -1] = False
        cells = np.flatnonzero(mixed)
        corners, starts = rasters.trace(self.values, cells, self._follow, level, self.low, self.pixel_mm)
        corners, starts = without_crumbs(corners, starts, smallest_mm2, smallest_hole_mm2)
        rings = {(smooth_mm, corners[a:b].tobytes()): corners[a:b] for a, b in itertools.pairwise(starts)}
        fresh = [key for key in rings if key not in self._smoothed]
        corners, starts = thinned_rings(*packed([rings[key] for key in fresh]), STRAIGHT_MM)
        corners, starts = sharpen(corners, starts, self.pixel_mm)
        corners, starts = thinned_rings(corners, starts, smooth_mm)
        for key, (a, b) in zip(fresh, itertools.pairwise(starts), strict=True):
            self._smoothed[key] = corners[a:b]
        # Most are the same at the next asking.
        self._smoothed = {key: self._smoothed[key] for key in rings}
        return [ring for ring in self._smoothed.values() if len(ring) > 2]

"""What of a part has no support below it, by rasters and scipy's distances: a look apart from the check's."""

from __future__ import annotations

import numpy as np
from scipy import ndimage
from skimage.draw import polygon

# Side of a cell, mm.
PIXEL_MM = 0.25


class Window:
    """A raster over a box of the plan."""

    def __init__(self, low, high, pixel=PIXEL_MM):
        self.low, self.pixel = np.asarray(low), pixel
        self.shape = np.ceil((np.asarray(high) - self.low) / pixel).astype(int) + 1

    def fill(self, section):
        """Cells whose middle lies in a section: of rings that turn left more than of those that turn right."""
        grid = np.zeros(self.shape, np.int16)
        for ring in section.to_polygons():
            x, y = ((ring - self.low) / self.pixel - 0.5).T
            if x.max() < 0 or y.max() < 0 or x.min() > self.shape[0] or y.min() > self.shape[1]:
                continue
            rows, columns = polygon(x, y, self.shape)
            grid[rows, columns] += 1 if float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()) > 0 else -1
        return grid > 0


def bare_share(patch, layers, stack, settings, falls_mm=2.5, pixel=PIXEL_MM):
    """Share of the cells of a patch with no support within reach below: none is left out, all levels are looked at.

    Reach is three quarters of the spacing and the clearance; what holds a slope may end lower by ``falls_mm``.
    """
    h = stack.layer_mm
    within = max(settings.line_spacing_mm, settings.spacing_mm) * 0.75 + settings.clearance_mm
    x0, y0, x1, y1 = patch.footprint.bounds()
    window = Window((x0 - within, y0 - within), (x1 + within, y1 + within), pixel)
    below = window.fill(patch.footprint)
    top = round(stack.base_mm / h) - 1 - settings.gap_layers(h)
    fall = 2 if len(patch.plans) <= 2 else max(3, round(min(within, falls_mm) / h))
    grids, bare, total = {}, 0, 0

    def away(level):
        if level not in grids:
            there = (
                window.fill(layers.section(level)) & below if 0 <= level < len(layers) else np.zeros(1, bool)
            )
            grids[level] = ndimage.distance_transform_edt(~there) * pixel if there.any() else None
        return grids[level]

    for layer, plan in sorted(patch.plans.items()):
        cells = window.fill(plan)
        if layer + top < 0 or not cells.any():
            continue
        found = [away(max(layer + top - down, 0)) for down in range(fall + 1)]
        near = [grid for grid in found if grid is not None]
        least = np.minimum.reduce(near)[cells] if near else np.full(cells.sum(), np.inf)
        total += len(least)
        bare += int((least > within + pixel).sum())
        for level in [level for level in grids if level < layer + top - fall]:
            del grids[level]
    return bare / total if total else 0.0

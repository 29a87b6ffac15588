"""A resin part on its stilts, as tests ask for it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from scipy import ndimage
from skimage.draw import polygon

from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.hanging.findings import walk
from upright_heron.core.hanging.overhang_regions import hanging_regions
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.supports.checks.stilt_check import verify_stilts
from upright_heron.core.supports.model import SupportSettings
from upright_heron.core.supports.resin.site import Ground
from upright_heron.core.supports.resin.stilt_sets import make_stilts

USUAL = SupportSettings(spacing_mm=2.5)


class Stilted:
    """A body where it stands, with what makes stilts under it."""

    def __init__(self, body: Any, layer: float = 0.1, limit: float = 60.0, lift: float = 0.0) -> None:
        self.solid, self.limit = Solid(body.translate((0, 0, lift))), limit
        self.mesh = self.solid.mesh()
        self.tree = Tree.of(self.mesh)
        self.stack = slice_solid(self.solid, layer)
        found = walk(self.mesh, self.stack, spot_mm=0.15, resin=True, on_plate=lift == 0)
        regions = tuple(hanging_regions(self.mesh, limit, lifted=lift > 0, tree=self.tree))
        self.hanging = replace(found, regions=regions)

    def made(self, settings: SupportSettings = USUAL, **options: Any) -> Any:
        """Stilts under it."""
        ground = Ground(self.mesh, self.tree, self.stack, self.hanging)
        return make_stilts(ground, self.limit, settings, **options)

    def faults(self, made: Any) -> set[str]:
        """Kinds of faults that the check finds."""
        return {fault.kind.value for fault in verify_stilts(made, self.stack, self.tree)}

    def in_mid_air(self, made: Any, pixel: float = 0.1, free: int = 3) -> list[tuple[int, float]]:
        """Level and size (mm2) of what of part and stilts together has nothing below it, by labels of rasters.

        Written with other libraries than the check. What meets something held within so many levels is left
        out: points that hang between the tips beside them.
        """
        points = np.concatenate([made.layers.points, self.stack.points])
        low = points.min(axis=0) - 1
        shape = np.ceil((points.max(axis=0) + 1 - low) / pixel).astype(int)
        lift = round(self.stack.base_mm / self.stack.layer_mm)
        levels = []
        for level in range(max(len(made.layers), len(self.stack) + lift)):
            grid = np.zeros(shape, bool)
            if level < len(made.layers):
                _fill(grid, made.layers.section(level), low, pixel)
            if 0 <= level - lift < len(self.stack):
                _fill(grid, self.stack.section(level - lift), low, pixel)
            levels.append(grid)
        found = []
        for level in range(1, len(levels)):
            label, count = ndimage.label(levels[level], np.ones((3, 3)))
            below = ndimage.maximum(levels[level - 1], label, range(1, count + 1)) if count else []
            for number in np.flatnonzero(~np.asarray(below, bool)) + 1:
                spot = label == number
                if not self._caught(levels, level, spot, free):
                    found.append((level, float(spot.sum()) * pixel**2))
        return found

    @staticmethod
    def _caught(levels: list[Any], level: int, spot: Any, free: int) -> bool:
        """Whether a spot grows together with something that is held, going up."""
        for above in range(level + 1, min(level + 1 + free, len(levels))):
            label, _ = ndimage.label(levels[above], np.ones((3, 3)))
            spot = np.isin(label, np.setdiff1d(np.unique(label[spot]), [0]))
            # Held there: something else of the level below it lies under the same piece.
            mine, _ = ndimage.label(levels[above - 1], np.ones((3, 3)))
            if len(np.setdiff1d(np.unique(mine[spot]), [0])) > 1:
                return True
        return False


def _fill(grid: Any, section: Any, low: Any, pixel: float) -> None:
    turns = np.zeros(grid.shape, np.int8)
    for ring in section.to_polygons():
        x, y = ((ring - low) / pixel).T
        rows, columns = polygon(x, y, grid.shape)
        turns[rows, columns] += 1 if float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()) > 0 else -1
    grid |= turns > 0

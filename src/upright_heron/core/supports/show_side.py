"""The show side, as supports heed it: contacts are put beside it where they can be."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from ..geometry.plan_shapes import shape_of
from ..geometry.tree import Tree
from ..layers.stack import LayerStack
from .demand.patches import Patch, Spot

# The surface is looked for from so much below a contact, and no further than this above it.
BELOW_MM, OVER_MM = 0.3, 3.0
# A contact that lies beside the show side within so many spacings is enough.
ENOUGH = 1.2
COMPASS = 12


@dataclass(frozen=True, eq=False)
class Shown:
    """Facets that are to stay clean.

    Attributes
    ----------
    part : Tree
        Of a mesh of the part where it stands.
    facets : (n,) bool
        Its facets on the show side.
    """

    part: Tree
    facets: NDArray[np.bool_]

    def over(self, places: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Whether the surface right above places (k, 3) is on the show side."""
        up = np.tile([0.0, 0.0, 1.0], (len(places), 1))
        length, facet = self.part.first_hits(places - [0.0, 0.0, BELOW_MM], up, np.full(len(places), -1))
        found: NDArray[np.bool_] = self.facets[np.maximum(facet, 0)] & (facet >= 0) & (length < OVER_MM)
        return found

    def aside(self, spots: Sequence[Spot], patch: Patch, stack: LayerStack, spacing_mm: float) -> list[Spot]:
        """Move contacts of a patch off the show side.

        One with another beside the show side close by is left out, others are moved by up to a spacing within
        the patch; where nothing of the patch is beside it they stay: being held comes first.
        """
        if not spots:
            return []
        every = np.array(spots)
        on = self.over(every)
        kept = [spots[k] for k in np.flatnonzero(~on).tolist()]
        for k in np.flatnonzero(on).tolist():
            x, y, z = spots[k]
            if any(math.hypot(x - a, y - b) <= ENOUGH * spacing_mm for a, b, _ in kept):
                continue
            kept.append(self._beside((x, y, z), patch, stack, spacing_mm))
        return kept

    def _beside(self, spot: Spot, patch: Patch, stack: LayerStack, spacing_mm: float) -> Spot:
        x, y, z = spot
        turn = 2 * np.pi * np.arange(COMPASS) / COMPASS
        ring = np.column_stack([np.cos(turn), np.sin(turn)])
        around = np.concatenate([share * spacing_mm * ring for share in (0.4, 0.7, 1.0)]) + (x, y)
        gap = z - stack.base_mm
        layer = min(patch.plans, key=lambda n: abs(n * stack.layer_mm - gap))
        inside = shapely.contains_xy(shape_of(patch.plans[layer]), around[:, 0], around[:, 1])
        tried = np.column_stack([around[inside], np.full(int(inside.sum()), z)])
        free = tried[~self.over(tried)] if len(tried) else tried
        return (float(free[0, 0]), float(free[0, 1]), z) if len(free) else spot

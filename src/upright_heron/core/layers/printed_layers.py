"""All that is printed in each layer: part, supports and footing together."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ..footing.footing import Footing
from ..geometry.plan_hull import plan_hull
from .stack import LayerStack

Rings = list[NDArray[np.float64]]


class PrintedLayers:
    """Outlines from the plate up.

    Parameters
    ----------
    part : LayerStack
        Lifted or not.
    supports : LayerStack, optional
        Counted from the plate.
    footing : Footing, optional
        A raft raises the other two.
    """

    def __init__(
        self, part: LayerStack, supports: LayerStack | None = None, footing: Footing | None = None
    ) -> None:
        self.part, self.supports, self.footing = part, supports, footing
        self.layer_mm = part.layer_mm
        self._raised = round(footing.raise_mm / self.layer_mm) if footing else 0
        self._lift = round(part.base_mm / self.layer_mm)

    def __len__(self) -> int:
        held = len(self.supports) if self.supports else 0
        under = self.footing.layers if self.footing else 0
        return max(self._raised + max(len(self.part) + self._lift, held), under)

    @property
    def hull(self) -> NDArray[np.float64]:
        """(k, 2) float64: corners of the convex hull of all of them from above, mm."""
        every = [self.part.points]
        if self.supports is not None:
            every.append(self.supports.points)
        if self.footing is not None:
            every += [np.asarray(ring, np.float64) for ring in self.footing.outline.to_polygons()]
        return plan_hull(np.concatenate(every))

    def __iter__(self) -> Iterator[Rings]:
        """Rings of each layer; what lies over another is united."""
        for level in range(len(self)):
            yield self.rings(level)

    def rings(self, level: int) -> Rings:
        """Rings (k, 2) of one layer, mm."""
        above = level - self._raised
        parts = [_rings_of(self.part, above - self._lift)]
        if self.supports is not None:
            parts.append(_rings_of(self.supports, above))
        if self.footing is not None and level < self.footing.layers:
            parts.append(self.footing.section(level).to_polygons())
        parts = [rings for rings in parts if rings]
        if len(parts) < 2:
            return parts[0] if parts else []
        every = [ring for rings in parts for ring in rings]
        united: Rings = CrossSection(every, FillRule.NonZero).to_polygons()
        return united


def _rings_of(stack: LayerStack, layer: int) -> Rings:
    return stack.rings(layer) if 0 <= layer < len(stack) else []

"""Layers of a whole plate: all that is printed on it, where it stands."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType
from numpy.typing import NDArray

from ..layers.printed_layers import PrintedLayers, Rings
from ..stance.pose import about_axis


@dataclass(frozen=True, eq=False)
class Standing:
    """Layers of an item and a place on the plate, mm from its middle, swung about z first."""

    layers: PrintedLayers
    x_mm: float = 0.0
    y_mm: float = 0.0
    swing_deg: float = 0.0

    def moved(self, rings: Rings) -> Rings:
        """Rings (k, 2) of a layer where they stand."""
        to = np.array([self.x_mm, self.y_mm])
        if self.swing_deg == 0.0:
            return [ring + to for ring in rings]
        turn = about_axis("z", self.swing_deg)[:2, :2]
        return [ring @ turn.T + to for ring in rings]


@dataclass(frozen=True, slots=True)
class Outline:
    """By how much outlines move outwards, mm, and those of the first so many layers."""

    mm: float = 0.0
    first_mm: float = 0.0
    first: int = 0

    def of(self, layer: int) -> float:
        """That of a layer, mm."""
        return self.first_mm if layer < self.first else self.mm

    def apply(self, rings: Rings, layer: int) -> Rings:
        """Move the outlines of a layer; thinner than twice the way inwards nothing is left."""
        by = self.of(layer)
        if by == 0.0 or not rings:
            return rings
        moved = CrossSection(rings, FillRule.NonZero).offset(by, JoinType.Round, 2.0, 32)
        result: Rings = moved.to_polygons()
        return result


class PlateLayers:
    """Outlines of all that stands on a plate, from the plate up.

    Parameters
    ----------
    standing : sequence of Standing
        None over another.
    outline : Outline
    """

    def __init__(self, standing: Sequence[Standing], outline: Outline = Outline()) -> None:
        self.standing, self.outline = tuple(standing), outline

    def __len__(self) -> int:
        return max((len(one.layers) for one in self.standing), default=0)

    def rings(self, level: int) -> Rings:
        """Rings (k, 2) of one layer, mm."""
        found: Rings = []
        for one in self.standing:
            if level < len(one.layers):
                found += one.moved(self.outline.apply(one.layers.rings(level), level))
        return found

    @property
    def bounds(self) -> NDArray[np.float64]:
        """(2, 2) float64: lowest and highest corner of all of them, mm."""
        more = max(self.outline.mm, self.outline.first_mm, 0.0)
        # Hulls, not boxes: the corners of a box that is swung reach further than what is in it.
        every = np.concatenate([one.moved([one.layers.hull])[0] for one in self.standing])
        return np.stack([every.min(axis=0) - more, every.max(axis=0) + more])

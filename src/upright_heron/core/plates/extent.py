"""All that is printed of an item, seen from above: part, supports and footing together."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..tags import stored
from .arrange import Rectangle


class Printed(StrEnum):
    """What may reach past the edge of a plate."""

    PART = "the part"
    SUPPORTS = "its supports"
    FOOTING = "its footing"


def _box_alone(old: dict[str, Any]) -> dict[str, Any]:
    """The first version knew the box only."""
    none = np.zeros((0, 2))
    low, high = np.array(old["low_mm"][:2]), np.array(old["high_mm"][:2])
    return {**old, "part": np.array([low, high]), "supports": none, "footing": none}


@stored("extent", 2, {1: _box_alone})
@dataclass(frozen=True, eq=False)
class Extent:
    """What is printed of an item, in its own frame (mm).

    Attributes
    ----------
    low_mm, high_mm : (x, y, z)
        Corners of the box round all of it.
    part, supports, footing : (k, 2) float64
        Corners of the hull of each in plan; none where there is none.
    """

    low_mm: tuple[float, float, float]
    high_mm: tuple[float, float, float]
    part: NDArray[np.float64]
    supports: NDArray[np.float64]
    footing: NDArray[np.float64]

    @property
    def plans(self) -> dict[Printed, NDArray[np.float64]]:
        """Corners (k, 2) of all there is, by what it is."""
        named = zip(Printed, (self.part, self.supports, self.footing), strict=True)
        return {what: corners for what, corners in named if len(corners)}

    @cached_property
    def corners(self) -> NDArray[np.float64]:
        """Corners (k, 2) of everything together."""
        return np.concatenate([self.part, self.supports, self.footing])

    def box(self, swing_deg: float = 0.0) -> Rectangle:
        """Box round all of it, once it is swung about its own origin."""
        return around(self.corners, swing_deg)


def around(corners: NDArray[np.float64], swing_deg: float) -> Rectangle:
    """Box along the axes round corners (k, 2), once they are swung about the origin, counter-clockwise."""
    turned = corners @ _turn(swing_deg).T if swing_deg else corners
    (a, b), (c, d) = turned.min(axis=0).tolist(), turned.max(axis=0).tolist()
    return Rectangle((a, b), (c, d))


def _turn(degrees: float) -> NDArray[np.float64]:
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    return np.array([[c, -s], [s, c]])


# Swings that are tried, the smallest first.
SWINGS_DEG = tuple(float(sign * degrees) for degrees in range(1, 91) for sign in (1, -1))


def swing_that_fits(corners: NDArray[np.float64], plate_mm: tuple[float, float]) -> float | None:
    """Find the smallest swing about the vertical that makes something fit a plate.

    Parameters
    ----------
    corners : (k, 2) float64
        Of its hull in plan, mm.
    plate_mm : (x, y)

    Returns
    -------
    float or None
        Degrees counter-clockwise, in whole ones; ``None`` where no swing does.
    """
    for degrees in (0.0, *SWINGS_DEG):
        wide, deep = around(corners, degrees).size_mm
        if wide <= plate_mm[0] + 1e-6 and deep <= plate_mm[1] + 1e-6:
            return degrees
    return None


def move_onto(box: Rectangle, plate_mm: tuple[float, float]) -> tuple[float, float] | None:
    """Find the smallest move that brings a box onto a plate.

    Parameters
    ----------
    box : Rectangle
        From the middle of the plate, mm.
    plate_mm : (x, y)

    Returns
    -------
    (x, y) or None
        Nought where it is on it; ``None`` where it is too large.
    """
    moves = []
    for low, high, side in zip(box.low, box.high, plate_mm, strict=True):
        if high - low > side + 1e-6:
            return None
        moves.append(max(0.0, -side / 2 - low) or min(0.0, side / 2 - high))
    return moves[0], moves[1]

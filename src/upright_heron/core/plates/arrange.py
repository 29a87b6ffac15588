"""Where items stand on a plate: as typed, or in rows about its favourite spot."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

# Room between parts that are handed off together (common practice: 2 to 5 mm).
ROW_GAP_MM = 5.0

Point = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Rectangle:
    """A rectangle along the axes of the plate, from its lower to its upper corner, mm."""

    low: Point
    high: Point

    @classmethod
    def of(cls, bounds: NDArray[np.float64]) -> Rectangle:
        """Plan of a box, given by its lower and upper corner (2, 3)."""
        (a, b), (c, d) = (tuple(float(v) for v in corner[:2]) for corner in bounds)
        return cls((a, b), (c, d))

    @property
    def size_mm(self) -> Point:
        """Its sides."""
        return self.high[0] - self.low[0], self.high[1] - self.low[1]

    def moved(self, x_mm: float, y_mm: float) -> Rectangle:
        """Return it somewhere else."""
        (a, b), (c, d) = self.low, self.high
        return Rectangle((a + x_mm, b + y_mm), (c + x_mm, d + y_mm))

    @property
    def to_middle(self) -> Point:
        """What brings its middle to the origin."""
        return -(self.low[0] + self.high[0]) / 2, -(self.low[1] + self.high[1]) / 2


def round_all(boxes: Sequence[Rectangle]) -> Rectangle:
    """Return the rectangle round some others."""
    low, high = np.array([box.low for box in boxes]), np.array([box.high for box in boxes])
    (a, b), (c, d) = low.min(axis=0).tolist(), high.max(axis=0).tolist()
    return Rectangle((a, b), (c, d))


def in_rows(
    boxes: Sequence[Rectangle], gap_mm: float = ROW_GAP_MM, room_mm: Point | None = None
) -> list[Point]:
    """Set boxes out in rows beside each other, about as wide as deep, none over another.

    Parameters
    ----------
    boxes : sequence of Rectangle
        Each in a frame of its own.
    gap_mm : float
        Clear distance between neighbours.
    room_mm : (x, y), optional
        Where they should find room; rows are as wide as that where they are too deep otherwise.

    Returns
    -------
    list of (x, y)
        What each is moved by; all together are centred on the origin.
    """
    sides = [box.size_mm for box in boxes]
    square = sum((w + gap_mm) * (d + gap_mm) for w, d in sides) ** 0.5
    moves = _rows(boxes, gap_mm, square)
    if room_mm is not None and boxes:
        wide, deep = round_all([box.moved(*by) for box, by in zip(boxes, moves, strict=True)]).size_mm
        if wide > room_mm[0] or deep > room_mm[1]:
            moves = _rows(boxes, gap_mm, room_mm[0])
    return moves


def _rows(boxes: Sequence[Rectangle], gap_mm: float, width: float) -> list[Point]:
    """Rows that are so wide at most, unless a box is wider."""
    sides = [box.size_mm for box in boxes]
    moves: list[Point] = []
    x = y = deepest = widest = 0.0
    for box, (w, d) in zip(boxes, sides, strict=True):
        if x > 0 and x + w > width:
            x, y, deepest = 0.0, y + deepest + gap_mm, 0.0
        moves.append((x - box.low[0], y - box.low[1]))
        widest, deepest = max(widest, x + w), max(deepest, d)
        x += w + gap_mm
    over, up = widest / 2, (y + deepest) / 2
    return [(a - over, b - up) for a, b in moves]

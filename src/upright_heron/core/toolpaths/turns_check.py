"""Items that were printed one after the other, as a file of G-code has them: whether the head touched any.

Written without what arranged or laid them: from the moves of the file alone.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

# Beads and ways are looked at so often along them, mm, and heights are told apart to this.
EVERY_MM = 0.5
SAME_MM = 1e-6


@dataclass
class Turns:
    """What follows what in a file.

    Attributes
    ----------
    parts : list of list of (x0, y0, x1, y1, z)
        Moves aside of each item, mm; beads and ways from its first bead on.
    highest_mm : list of float
        The top of each.
    low_ways : int
        Ways to the next item that go no higher than what stands.
    """

    parts: list[list[tuple[float, float, float, float, float]]] = field(default_factory=lambda: [[]])
    highest_mm: list[float] = field(default_factory=lambda: [-math.inf])
    low_ways: int = 0
    _ways: list[tuple[float, float, float, float, float]] = field(default_factory=list)
    _at_mm: float = -math.inf

    def way(self, start: list[float], end: list[float]) -> None:
        """Take a travel in."""
        if start[:2] != end[:2]:
            self._ways.append((start[0], start[1], end[0], end[1], min(start[2], end[2])))

    def bead(self, start: list[float], end: list[float]) -> None:
        """Take a bead in; one that is lower than the last begins the next item."""
        if end[2] < self._at_mm - SAME_MM:
            stands = max(self.highest_mm)
            self.low_ways += sum(z <= stands + SAME_MM for *_, z in self._ways)
            self.parts.append([])
            self.highest_mm.append(-math.inf)
        elif self.parts[-1]:
            self.parts[-1] += self._ways
        self._ways = []
        self._at_mm = end[2]
        self.parts[-1].append((start[0], start[1], end[0], end[1], end[2]))
        self.highest_mm[-1] = max(self.highest_mm[-1], end[2])

    def nearest_mm(self) -> float:
        """How near the nozzle comes to what stands higher than where it begins; infinite if never."""
        nearest = math.inf
        for k in range(1, len(self.parts)):
            here = _along(self.parts[k])
            lowest = float(here[:, 2].min())
            standing = np.concatenate([_along(part) for part in self.parts[:k]])
            higher = standing[standing[:, 2] > lowest + SAME_MM]
            # Above all of it, on the way to a pause, the nozzle goes where it likes.
            here = here[here[:, 2] <= standing[:, 2].max()]
            if len(higher):
                far, _ = cKDTree(_thinned(higher[:, :2])).query(_thinned(here[:, :2]))
                nearest = min(nearest, float(far.min()))
        return nearest

    def under_rail(self, rail_mm: float) -> int:
        """How many items that others follow are higher than a rail over the nozzle."""
        return sum(high > rail_mm + SAME_MM for high in self.highest_mm[:-1])


def _along(moves: list[tuple[float, float, float, float, float]]) -> NDArray[np.float64]:
    """Places (n, 3) along moves, mm, with both ends of each."""
    ends = np.array(moves, np.float64)
    long = np.hypot(ends[:, 2] - ends[:, 0], ends[:, 3] - ends[:, 1])
    count = np.maximum(np.ceil(long / EVERY_MM).astype(np.int64), 1) + 1
    which = np.repeat(np.arange(len(ends)), count)
    step = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
    share = (step / (count[which] - 1))[:, None]
    places = ends[which, :2] * (1.0 - share) + ends[which, 2:4] * share
    return np.column_stack([places, ends[which, 4]])


def _thinned(places: NDArray[np.float64]) -> NDArray[np.float64]:
    """One of the places (n, 2) in each square of a raster."""
    _, first = np.unique(np.floor(places / EVERY_MM).astype(np.int64), axis=0, return_index=True)
    return places[first]

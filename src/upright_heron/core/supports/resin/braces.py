"""Braces between neighbouring stilts, so that no shaft stands alone."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ..model import Brace, Stilt, support_id
from .routes import EVERY_MM

# Braces rise at this angle between stilts no further apart, one in so much height, from so high up
# (common practice).
RISE_DEG, REACH_MM, RHYTHM_MM, FIRST_MM = 45.0, 12.0, 25.0, 3.0
# Nearer ones grow together anyhow; at each height a stilt is braced to so many neighbours.
LEAST_MM, NEIGHBOURS = 1.2, 2
# As thick as this share of the thinner shaft; the part is left as clear as by shafts.
THICK = 0.7
# Where a brace meets a shaft that leans is found in so many steps.
STEPS = 8


def brace(stilts: Sequence[Stilt], part: Tree, clearance_mm: float) -> list[Brace]:
    """Put braces between the shafts of neighbouring stilts, upright or leaning.

    Parameters
    ----------
    stilts : sequence of Stilt
    part : Tree
        Of the part where it stands.
    clearance_mm : float
        To the part.

    Returns
    -------
    list of Brace
        From one shaft up to the next, the other way round each time. Both ends lie in shafts.
    """
    from scipy.spatial import cKDTree

    axes = [_Axis.of(one) for one in stilts]
    high = max((axis.top for axis in axes), default=0.0)
    found: list[Brace] = []
    for level, z in enumerate(np.arange(FIRST_MM, high, RHYTHM_MM).tolist()):
        there = [k for k, axis in enumerate(axes) if axis.low <= z < axis.top]
        if len(there) < 2:
            continue
        plan = np.array([axes[k].at(z) for k in there])
        near = cKDTree(plan).query_pairs(REACH_MM, output_type="ndarray")
        away = np.linalg.norm(plan[near[:, 0]] - plan[near[:, 1]], axis=1)
        bars: list[Brace] = []
        # The nearest first; among those alike in the order of the stilts.
        for n in np.lexsort((near[:, 1], near[:, 0], away)).tolist():
            if away[n] >= LEAST_MM:
                a, b = (there[k] for k in near[n])
                ways = ((a, b), (b, a)) if level % 2 == 0 else ((b, a), (a, b))
                tried = (_rising(stilts[m], stilts[o], axes[m], axes[o], z) for m, o in ways)
                bars += [bar for bar in tried if bar is not None][:1]
        clear = _clear_of(part, bars, clearance_mm)
        neighbours: Counter[str] = Counter()
        for bar, fits in zip(bars, clear, strict=True):
            if fits and min(neighbours[name] for name in bar.between) < NEIGHBOURS:
                found.append(bar)
                neighbours.update(bar.between)
    return found


class _Axis(NamedTuple):
    """The middle of a shaft, from its foot to its cone: places (k, 3) from below."""

    places: NDArray[np.float64]

    @classmethod
    def of(cls, stilt: Stilt) -> _Axis:
        """The axis of a stilt."""
        return cls(stilt.circles[:-2, :3])

    @property
    def low(self) -> float:
        """Where it begins, mm."""
        return float(self.places[0, 2])

    @property
    def top(self) -> float:
        """Where its cone begins, mm; at its foot for one that is too short for braces."""
        top = float(self.places[-1, 2])
        return top if top - self.low > FIRST_MM else self.low

    def at(self, z: float) -> NDArray[np.float64]:
        """X and y (2,) at a height."""
        return np.array([np.interp(z, self.places[:, 2], self.places[:, axis]) for axis in (0, 1)])


def _rising(one: Stilt, other: Stilt, own: _Axis, over: _Axis, z: float) -> Brace | None:
    """A brace from one shaft at a height up to another, or ``None`` where that ends below it."""
    foot, rise = own.at(z), 0.0
    slope = math.tan(math.radians(RISE_DEG))
    # The further up the other leans the further away it may be.
    for _ in range(STEPS):
        rise = slope * float(np.linalg.norm(over.at(z + rise) - foot))
    if z + rise > over.top or rise > 2 * slope * REACH_MM:
        return None
    ends = np.array([[*foot, z], [*over.at(z + rise), z + rise]])
    middle = ends.mean(axis=0)
    radius = THICK * min(one.shaft_mm, other.shaft_mm) / 2
    return Brace(support_id("brace", *(float(v) for v in middle)), (one.id, other.id), ends, radius)


def _clear_of(part: Tree, braces: list[Brace], clearance_mm: float) -> list[bool]:
    """Whether each comes nowhere too near to the part."""
    if not braces:
        return []
    places: list[NDArray[np.float64]] = []
    for one in braces:
        count = max(2, math.ceil(float(np.linalg.norm(one.ends_mm[1] - one.ends_mm[0])) / EVERY_MM))
        places.append(np.linspace(one.ends_mm[0], one.ends_mm[1], count))
    away = part.distances(np.concatenate(places), 5.0)
    starts = np.cumsum([0] + [len(p) for p in places[:-1]])
    least = np.minimum.reduceat(away, starts)
    return [d >= one.radius_mm + clearance_mm for one, d in zip(braces, least.tolist(), strict=True)]

"""Braces between neighbouring stilts, so that no shaft stands alone."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ..checks.stilt_check import held_at_mm
from ..model import SupportSettings, support_id
from .routes import EVERY_MM
from .stilt import Brace, Stilt

# Braces run between stilts no further apart, from so high up (common practice).
REACH_MM, FIRST_MM = 12.0, 3.0
# Nearer ones grow together anyhow; at each height a stilt is braced to so many neighbours.
LEAST_MM, NEIGHBOURS = 1.2, 2
# As thick as this share of the thinner shaft, or up to all of it where they are long; the part is left as
# clear as by shafts.
THICK = 0.7
# Where a brace meets a shaft that leans is found in so many steps.
STEPS = 8
# Shafts that run too far have longer ones, looked for at such heights, so many times.
FAR_MM, EVERY_BRACE_MM, ROUNDS = 30.0, 4.0, 4
# So many are looked at against the part at once.
AT_ONCE = 128


def brace(
    stilts: Sequence[Stilt],
    part: Tree,
    settings: SupportSettings,
    there: Sequence[Brace] = (),
    only: NDArray[np.bool_] | None = None,
) -> list[Brace]:
    """Put braces between the shafts of neighbouring stilts, upright or leaning.

    Parameters
    ----------
    stilts : sequence of Stilt
    part : Tree
        Of the part where it stands.
    settings : SupportSettings
    there : sequence of Brace
        Those that there are already.
    only : (n,) bool, optional
        Stilts that lack some: others get none but with them.

    Returns
    -------
    list of Brace
        From one shaft up to the next, the other way round each time. Both ends lie in shafts.
    """
    axes = _Axes.of(stilts)
    number = {one.id: k for k, one in enumerate(stilts)}
    found: list[Brace] = []
    for level, z in enumerate(np.arange(FIRST_MM, axes.high, settings.brace_every_mm).tolist()):
        held = Counter(number[name] for bar in there if bar.ends_mm[0, 2] == z for name in bar.between)
        found += _at_height(stilts, axes, part, settings, (z, level % 2 == 1), held, only)
    return found


def steady(
    stilts: Sequence[Stilt], braces: Sequence[Brace], part: Tree, settings: SupportSettings
) -> list[Brace]:
    """Braces more for shafts that run too far without one: longer, and wherever there is room.

    Parameters
    ----------
    stilts : sequence of Stilt
    braces : sequence of Brace
        Those that there are.
    part : Tree
        Of the part where it stands.
    settings : SupportSettings

    Returns
    -------
    list of Brace
        All of them.
    """
    axes = _Axes.of(stilts)
    found = list(braces)
    for _ in range(ROUNDS):
        more: list[Brace] = []
        for k, heights in enumerate(held_at_mm(stilts, found)):
            low, high = max(pairwise(heights), key=lambda run: run[1] - run[0])
            if axes.top[k] > axes.low[k] and high - low > settings.slender * stilts[k].shaft_mm:
                more += _within(stilts, axes, part, settings, k, (low, high))
        if not more:
            break
        found += more
    return found


def _within(
    stilts: Sequence[Stilt],
    axes: _Axes,
    part: Tree,
    settings: SupportSettings,
    k: int,
    run: tuple[float, float],
) -> list[Brace]:
    """A brace that holds a stilt within a run of it, the nearer to its middle the better; or none."""
    middle, half = sum(run) / 2, (run[1] - run[0]) / 2
    for step in range(int(0.8 * half / EVERY_BRACE_MM) + 1):
        for z in (middle - step * EVERY_BRACE_MM, middle + step * EVERY_BRACE_MM):
            if not axes.low[k] + FIRST_MM <= z < axes.top[k]:
                continue
            there = np.flatnonzero((axes.low <= z) & (z < axes.top))
            away = np.linalg.norm(
                _plan(axes.places, axes.start, there, z) - _plan(axes.places, axes.start, np.array([k]), z),
                axis=1,
            )
            near = there[np.argsort(away, kind="stable")][: np.count_nonzero(away <= FAR_MM)]
            pairs = np.array([(k, other) for other in near.tolist() if other != k], np.int64).reshape(-1, 2)
            fitting = _fitting(stilts, axes, part, settings, pairs[:AT_ONCE], z, FAR_MM)
            if fitting:
                return [fitting[0][1]]
    return []


@dataclass(frozen=True, eq=False)
class _Axes:
    """The middles of shafts, each from its foot to its cone.

    Attributes
    ----------
    places : (n, 3) float64
        From below, one shaft after the other.
    start : (m + 1,) int64
        Where each shaft begins.
    low, top : (m,) float64
        Heights between which a brace can hold on, mm; the same for one too short for that.
    shaft_mm : (m,) float64
        Diameters.
    """

    places: NDArray[np.float64]
    start: NDArray[np.int64]
    low: NDArray[np.float64]
    top: NDArray[np.float64]
    shaft_mm: NDArray[np.float64]

    @classmethod
    def of(cls, stilts: Sequence[Stilt]) -> _Axes:
        """The axes of stilts."""
        each = [one.axis for one in stilts]
        low = np.array([axis[0, 2] for axis in each], np.float64)
        top = np.array([axis[-1, 2] for axis in each], np.float64)
        # What stands on another is short, and held by it.
        short = (top - low <= FIRST_MM) | np.array([bool(one.stands_on) for one in stilts], np.bool_)
        start = np.cumsum([0] + [len(axis) for axis in each]).astype(np.int64)
        places = np.concatenate(each) if each else np.zeros((0, 3))
        thick = np.array([one.shaft_mm for one in stilts], np.float64)
        return cls(places, start, low, np.where(short, low, top), thick)

    @property
    def high(self) -> float:
        """The highest place for a brace, mm."""
        return float(self.top.max(initial=0.0))


def _at_height(
    stilts: Sequence[Stilt],
    axes: _Axes,
    part: Tree,
    settings: SupportSettings,
    at: tuple[float, bool],
    held: Counter[int],
    only: NDArray[np.bool_] | None,
) -> list[Brace]:
    """Braces that begin at one height: the nearest first, until each stilt has its neighbours.

    ``at`` is the height, and whether they lead the other way round there; ``held`` counts those of each.
    """
    from scipy.spatial import cKDTree

    z, turned = at
    there = np.flatnonzero((axes.low <= z) & (z < axes.top))
    if len(there) < 2 or (only is not None and not only[there].any()):
        return []
    plan = _plan(axes.places, axes.start, there, z)
    near = cKDTree(plan).query_pairs(REACH_MM, output_type="ndarray")
    away = np.linalg.norm(plan[near[:, 0]] - plan[near[:, 1]], axis=1)
    # Among those alike in the order of the stilts.
    order = np.lexsort((near[:, 1], near[:, 0], away))
    pairs = there[near[order[away[order] >= LEAST_MM]]]
    if only is not None:
        pairs = pairs[only[pairs].any(axis=1)]
    pairs = np.ascontiguousarray(pairs[:, ::-1] if turned else pairs)
    found: list[Brace] = []
    first = 0
    while first < len(pairs):
        some: list[int] = []
        while first < len(pairs) and len(some) < AT_ONCE:
            if min(held[k] for k in pairs[first].tolist()) < NEIGHBOURS:
                some.append(first)
            first += 1
        for pair, bar in _fitting(stilts, axes, part, settings, pairs[some], z):
            if min(held[k] for k in pair) < NEIGHBOURS:
                found.append(bar)
                held.update(pair)
    return found


def _fitting(
    stilts: Sequence[Stilt],
    axes: _Axes,
    part: Tree,
    settings: SupportSettings,
    pairs: NDArray[np.int64],
    z: float,
    reach_mm: float = REACH_MM,
) -> list[tuple[tuple[int, int], Brace]]:
    """Those of some pairs (k, 2) of stilts that a brace fits between, from a height up."""
    slope = math.tan(math.radians(settings.brace_deg))
    ends, lower = _rising(axes.places, axes.start, axes.top, pairs, z, slope, reach_mm)
    rising = np.flatnonzero(lower >= 0)
    if not len(rising):
        return []
    ends, between = ends[rising], pairs[rising]
    between = np.where(lower[rising, None] == 0, between, between[:, ::-1])
    thinner = axes.shaft_mm[between].min(axis=1)
    length = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    radius = np.minimum(np.maximum(THICK * thinner, length / settings.slender), thinner) / 2
    count = np.maximum(2, np.ceil(length / EVERY_MM).astype(np.int64))
    first = np.concatenate([[0], np.cumsum(count)[:-1]])
    which = np.repeat(np.arange(len(count)), count)
    share = (np.arange(len(which)) - first[which]) / (count[which] - 1)
    places = ends[which, 0] + share[:, None] * (ends[which, 1] - ends[which, 0])
    near = part.nearer(places, radius[which] + settings.clearance_mm)
    found = []
    for k in np.flatnonzero(~np.logical_or.reduceat(near, first)).tolist():
        a, b = between[k].tolist()
        name = support_id("brace", *ends[k].mean(axis=0).tolist())
        found.append(((a, b), Brace(name, (stilts[a].id, stilts[b].id), ends[k], float(radius[k]))))
    return found


@njit(cache=True)
def _plan(places, start, which, z):  # type: ignore[no-untyped-def]
    """X and y (k, 2) of some shafts at a height."""
    found = np.empty((which.shape[0], 2))
    for n in range(which.shape[0]):
        found[n] = _at(places, start[which[n]], start[which[n] + 1], z)
    return found


@njit(cache=True)
def _at(places, first, last, z):  # type: ignore[no-untyped-def]
    """X and y of a shaft at a height; beyond its ends those of the end."""
    k = first
    while k + 1 < last and places[k + 1, 2] <= z:
        k += 1
    if k + 1 == last or z <= places[k, 2]:
        return places[k, 0], places[k, 1]
    share = (z - places[k, 2]) / (places[k + 1, 2] - places[k, 2])
    return (
        places[k, 0] + share * (places[k + 1, 0] - places[k, 0]),
        places[k, 1] + share * (places[k + 1, 1] - places[k, 1]),
    )


@njit(cache=True)
def _rising(places, start, top, pairs, z, slope, reach):  # type: ignore[no-untyped-def]
    """Ends (k, 2, 3) of braces from one of a pair at a height up to the other; which is lower, -1 for none.

    The first of a pair is tried as the lower one first.
    """
    count = pairs.shape[0]
    ends = np.zeros((count, 2, 3))
    lower = np.full(count, -1, np.int64)
    for n in range(count):
        for way in range(2):
            a, b = pairs[n, way], pairs[n, 1 - way]
            x, y = _at(places, start[a], start[a + 1], z)
            u, v, rise = x, y, 0.0
            # The further up the other leans the further away it may be.
            for _ in range(STEPS):
                u, v = _at(places, start[b], start[b + 1], z + rise)
                rise = slope * math.hypot(u - x, v - y)
            u, v = _at(places, start[b], start[b + 1], z + rise)
            if z + rise <= top[b] and rise <= 2 * slope * reach:
                ends[n, 0] = x, y, z
                ends[n, 1] = u, v, z + rise
                lower[n] = way
                break
    return ends, lower

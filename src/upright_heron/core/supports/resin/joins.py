"""Stilts that stand on the shafts of others, where that saves material."""

from __future__ import annotations

import heapq
import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ...machines.catalogue import Peel
from ..model import SupportSettings
from .routes import Router
from .sizes import shaft_bears_n
from .stilt import Stilt, stilt_volume_mm3

# A shaft leans over to another no further off than this, and ends in it no lower.
REACH_MM, LOWEST_MM = 10.0, 3.0
# Below the knee of the other its shaft is upright so far at least: the joint lies in it.
BELOW_MM = 0.3
# A join that saves a shorter way is not worth another place to cut.
SAVES_MM = 1.5
# What stands on another is braced no further: it is no longer than so much of what the check lets pass.
SPARE_LONG = 0.95
# So many stand on one other.
MOST = 8


def join(stilts: Sequence[Stilt], router: Router, settings: SupportSettings, peel: Peel) -> list[Stilt]:
    """Let stilts stand on the upright shafts of their neighbours.

    Parameters
    ----------
    stilts : sequence of Stilt
        Each by itself.
    router : Router
        Of the part.
    settings : SupportSettings
    peel : Peel
        Class of the material: what a shaft bears.

    Returns
    -------
    list of Stilt
        In the same order. What stands on another leans no more than the settings allow, is no thicker than
        the shaft that it ends in, and keeps as clear of the part as before; no shaft bears more than it can.

    Notes
    -----
    Which shafts stay is a cover with the most length saved first, one after the other (greedy cover: Chvatal
    1979, A greedy heuristic for the set-covering problem, Mathematics of Operations Research 4).
    """
    found = list(stilts)
    if not settings.joins or len(stilts) < 2:
        return found
    offers = _offers(stilts, settings)
    load = [one.load_n * settings.spare for one in stilts]
    bears = [shaft_bears_n(one.shaft_mm, peel) for one in stilts]
    stays: set[int] = set()
    gone: set[int] = set()

    def members(trunk: int) -> list[tuple[int, float, float]]:
        """Those that can still stand on a shaft, with what that saves and at which height."""
        chosen: list[tuple[int, float, float]] = []
        borne = load[trunk]
        for one, saves, height in offers[trunk]:
            if len(chosen) == MOST:
                break
            if one not in stays and one not in gone and borne + load[one] <= bears[trunk]:
                chosen.append((one, saves, height))
                borne += load[one]
        return chosen

    def saved(trunk: int) -> float:
        return sum(saves for _, saves, _ in members(trunk))

    queue = [(-saved(k), k) for k in range(len(stilts)) if offers[k]]
    heapq.heapify(queue)
    while queue:
        worth, trunk = heapq.heappop(queue)
        if trunk in gone or worth >= 0:
            continue
        # What others took meanwhile no longer counts.
        now = -saved(trunk)
        if queue and now > queue[0][0]:
            heapq.heappush(queue, (now, trunk))
            continue
        for one, _, height in members(trunk):
            stands = _standing_on(found[one], found[trunk], height)
            if router.clear(stands.circles, np.array(stands.touch_mm), shaft_only=True):
                found[one] = stands
                gone.add(one)
                stays.add(trunk)
    return found


def _offers(stilts: Sequence[Stilt], settings: SupportSettings) -> list[list[tuple[int, float, float]]]:
    """For each stilt those that could stand on it: number, length saved and height, the most saved first."""
    from scipy.spatial import cKDTree

    knees = np.array([one.axis[-1] for one in stilts])
    shafts = np.array([one.upright[1] for one in stilts])
    thick = np.array([one.shaft_mm for one in stilts])
    tops = np.array([one.circles[-1, 2] for one in stilts])
    on_part = np.array([one.on_part for one in stilts])
    own = np.array([_length(one.axis) for one in stilts])
    near = cKDTree(knees[:, :2]).query_ball_tree(cKDTree(shafts[:, :2]), REACH_MM)
    one = np.repeat(np.arange(len(stilts)), [len(others) for others in near])
    trunk = np.array([other for others in near for other in others], np.int64)
    steep = math.tan(math.radians(90.0 - settings.lean_deg))
    across = np.hypot(*(knees[one, :2] - shafts[trunk, :2]).T)
    below = np.maximum(steep * across, BELOW_MM)
    height = np.minimum(shafts[trunk, 2] - BELOW_MM, knees[one, 2] - below)
    saves = own[one] - np.hypot(across, knees[one, 2] - height)
    good = (one != trunk) & ~on_part[trunk] & (thick[trunk] >= thick[one] - 1e-9)
    good &= (height >= LOWEST_MM) & (saves >= SAVES_MM)
    good &= tops[one] - height <= SPARE_LONG * settings.slender * thick[one]
    offers: list[list[tuple[int, float, float]]] = [[] for _ in stilts]
    chosen = np.flatnonzero(good)
    # Numbers settle what saves alike.
    for k in chosen[np.lexsort((one[chosen], -saves[chosen]))].tolist():
        offers[trunk[k]].append((int(one[k]), float(saves[k]), float(height[k])))
    return offers


def _length(axis: NDArray[np.float64]) -> float:
    """Length of a shaft with such an axis (k, 3), mm."""
    return float(np.linalg.norm(np.diff(axis, axis=0), axis=1).sum())


def _standing_on(one: Stilt, trunk: Stilt, height_mm: float) -> Stilt:
    """A stilt whose shaft leans from its knee to the shaft of another."""
    x, y, _ = trunk.upright[0]
    circles = np.concatenate([[[x, y, height_mm, one.shaft_mm / 2]], one.circles[-one.cone :]])
    return replace(
        one,
        circles=circles,
        bend=0,
        on_part=False,
        volume_mm3=stilt_volume_mm3(circles),
        stands_on=trunk.id,
    )

"""Other places for tips that no way leads down from: a little aside there often is one."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from ..demand.patches import Spot
from .tips import COVERED, Places

# What another tip holds within so many spacings needs none of its own.
ENOUGH = 1.0
# Places so far apart are tried.
TRY_MM = 1.0
# For so many of them ways are looked for at once.
AT_ONCE = 8

Ways = Callable[[NDArray[np.float64]], NDArray[np.bool_]]


def instead(
    places: Places, lost: Sequence[Spot], kept: Sequence[Spot], ways: Ways, top_mm: float
) -> tuple[list[Spot], list[Spot]]:
    """Find tips for what lost ones were to hold.

    Parameters
    ----------
    places : Places
        Of the patch.
    lost, kept : sequence of (x, y, z)
        Tips of the patch that no way leads down from, and the others.
    ways : callable
        Takes tips (k, 3), gives whether a way leads down from each (k,) by itself.
    top_mm : float
        Higher than this none is put.

    Returns
    -------
    tuple of two lists of (x, y, z)
        Tips to put instead, as few as hold it: a lost one again where it reaches by itself, none where the
        kept ones hold it within the spacing. And those of the lost that were to hold what nothing holds.
    """
    near = places.held(lost)
    bare = near & ~places.held(kept, ENOUGH)
    if not bare.any():
        return [], []
    tried = _to_try(places, lost, bare)
    tried = tried[tried[:, 2] <= top_mm]
    # Of those that hold as much the lowest: what is higher reaches under what is lower less well.
    tried = tried[np.argsort(tried[:, 2], kind="stable")]
    spots = [_spot(tip) for tip in tried]
    touching = places.touching(tried) if spots else np.zeros(0, bool)
    holds, enough = places.near(spots), places.near(spots, ENOUGH)
    free = near & ~places.held(kept)
    found: list[Spot] = []
    # Ways take longest: they are looked for where the most would be gained.
    asked, reached = np.zeros(len(spots), bool), np.ones(len(spots), bool)
    while bare.any() and spots:
        gain = np.array([int(free[h].sum()) for h in holds]) * reached
        # Into a wall beside it only what nothing else holds.
        clear = np.where(touching, 0, gain)
        rated = clear if clear.any() else gain
        best = int(np.argmax(rated))
        if not gain[best]:
            break
        if not asked[best]:
            open_ = np.flatnonzero(~asked & (rated > 0))
            some = open_[np.argsort(-rated[open_], kind="stable")[:AT_ONCE]]
            reached[some], asked[some] = ways(tried[some]), True
            continue
        found.append(spots[best])
        free[holds[best]] = False
        bare[enough[best]] = False
    return found, [tip for tip, own in zip(lost, places.near(lost), strict=True) if bare[own].any()]


def _to_try(places: Places, lost: Sequence[Spot], bare: NDArray[np.bool_]) -> NDArray[np.float64]:
    """The lost tips themselves, and a place of each cell of a lattice from where something bare is held."""
    from scipy.spatial import cKDTree

    far, _ = cKDTree(places.at_mm[bare]).query(places.at_mm, distance_upper_bound=COVERED * places.spacing_mm)
    close = places.at_mm[np.isfinite(far)]
    cells = np.round(close[:, :2] / TRY_MM)
    aside = np.abs(close[:, :2] - cells * TRY_MM).max(axis=1)
    order = np.lexsort((aside, cells[:, 1], cells[:, 0]))
    _, first = np.unique(cells[order], axis=0, return_index=True)
    return np.concatenate([np.array(lost), close[order[first]]])


def _spot(tip: NDArray[np.float64]) -> Spot:
    return float(tip[0]), float(tip[1]), float(tip[2])

"""Where outer walls have nothing under their middle, and are laid more slowly: a kernel."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .beads import Chain
from .point_in_rings import hold_all

# Outer walls with less than half of their width on the layer below run at this share of their speed (common
# practice); it is looked at every so many mm.
SLOW, EVERY_MM = 0.5, 1.0


def slowed(chain: Chain, below, below_start) -> Chain:  # type: ignore[no-untyped-def]
    """A path that slows down where the layer below does not carry it.

    Parameters
    ----------
    chain : Chain
    below : (P, 2) float64, mm
        Corners of the outlines of the layer below.
    below_start : (N + 1,) int64
        Where each ring of them begins.

    Returns
    -------
    Chain
        With places more where the speed changes.
    """
    places, width, free = _looked(chain.places, chain.width, below, below_start)
    if not free.any():
        return chain
    return chain._replace(places=places, width=width, pace=np.where(free, SLOW, 1.0))


@njit(cache=True)
def _looked(places, width, below, start):  # type: ignore[no-untyped-def]
    """Places (n, 2) with widths (n,), more of them along long stretches, and which are over nothing (n,)."""
    total = 1
    for k in range(1, places.shape[0]):
        dx, dy = places[k, 0] - places[k - 1, 0], places[k, 1] - places[k - 1, 1]
        total += max(1, math.ceil(math.sqrt(dx * dx + dy * dy) / EVERY_MM))
    at, wide = np.empty((total, 2)), np.empty(total)
    corner = np.ones(total, np.bool_)
    at[0], wide[0] = places[0], width[0]
    n = 1
    for k in range(1, places.shape[0]):
        dx, dy = places[k, 0] - places[k - 1, 0], places[k, 1] - places[k - 1, 1]
        count = max(1, math.ceil(math.sqrt(dx * dx + dy * dy) / EVERY_MM))
        for s in range(1, count + 1):
            t = s / count
            at[n, 0], at[n, 1] = places[k - 1, 0] + t * dx, places[k - 1, 1] + t * dy
            wide[n] = width[k - 1] + t * (width[k] - width[k - 1])
            corner[n] = s == count
            n += 1
    free = ~hold_all(below, start, at[:n])
    keep = np.empty(n, np.bool_)
    for k in range(n):
        changes = (k > 0 and free[k] != free[k - 1]) or (k + 1 < n and free[k] != free[k + 1])
        keep[k] = corner[k] or changes
    return at[keep], wide[keep], free[keep]

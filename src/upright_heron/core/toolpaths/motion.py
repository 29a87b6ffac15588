"""How long the nozzle takes along its paths: trapezoids of speed, looked ahead over all moves.

Between two moves the nozzle slows down to what the corner allows by junction deviation: the speed at which an
arc that leaves the corner by ``deviation`` keeps within the acceleration, v2 = a d sin(t/2) / (1 - sin(t/2))
with t the angle between both moves (common practice of motion control).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Limits:
    """What a machine can do.

    Attributes
    ----------
    acceleration_mm_s2 : float
        Along beads.
    travel_mm_s2 : float
        Along travels.
    deviation_mm : float
        Junction deviation.
    """

    acceleration_mm_s2: float
    travel_mm_s2: float
    deviation_mm: float = 0.02


def lengths(places: NDArray[np.float64]) -> NDArray[np.float64]:
    """Length of each move (n,) between places (n + 1, 3), mm: column by column, which is much faster."""
    x, y, z = np.diff(places, axis=0).T
    long: NDArray[np.float64] = np.sqrt(x * x + y * y + z * z)
    return long


def seconds(
    places: NDArray[np.float64],
    feed_mm_s: NDArray[np.float64],
    travel: NDArray[np.bool_],
    limits: Limits,
) -> NDArray[np.float64]:
    """Time of each move, looked ahead over all of them.

    Parameters
    ----------
    places : (n + 1, 3) float64, mm
        Where moves begin and end.
    feed_mm_s : (n,) float64
        Speed asked for.
    travel : (n,) bool
    limits : Limits

    Returns
    -------
    (n,) float64, s
    """
    found: NDArray[np.float64] = _seconds(
        np.ascontiguousarray(places),
        np.ascontiguousarray(feed_mm_s),
        np.where(travel, limits.travel_mm_s2, limits.acceleration_mm_s2),
        limits.deviation_mm,
    )
    return found


@njit(cache=True)
def _seconds(places, feed, acceleration, deviation):  # type: ignore[no-untyped-def]
    n = feed.shape[0]
    result = np.zeros(n)
    long = np.empty(n)
    # Square of the speed at the beginning of each move, as corners allow, and then as lengths do.
    entry = np.zeros(n + 1)
    px = py = pz = 0.0
    before = -1
    for k in range(n):
        dx, dy, dz = (
            places[k + 1, 0] - places[k, 0],
            places[k + 1, 1] - places[k, 1],
            places[k + 1, 2] - places[k, 2],
        )
        long[k] = math.sqrt(dx * dx + dy * dy + dz * dz)
        if long[k] <= 0.0:
            continue
        ux, uy, uz = dx / long[k], dy / long[k], dz / long[k]
        if before >= 0:
            cos = -(px * ux + py * uy + pz * uz)
            allowed = min(feed[k], feed[before])
            allowed *= allowed
            if cos > -0.999999:
                half = math.sqrt(max(0.0, 0.5 * (1.0 - cos)))
                a = min(acceleration[k], acceleration[before])
                turn = a * deviation * half / max(1.0 - half, 1e-12)
                allowed = min(allowed, turn)
            entry[k] = allowed
        px, py, pz = ux, uy, uz
        before = k
    ahead = 0.0
    for k in range(n - 1, -1, -1):
        if long[k] > 0.0:
            entry[k] = min(entry[k], ahead + 2.0 * acceleration[k] * long[k])
            ahead = entry[k]
    now = 0.0
    after = -1
    for k in range(n):
        if long[k] <= 0.0:
            continue
        # The next move that goes anywhere.
        after = max(after, k + 1)
        while after < n and long[after] <= 0.0:
            after += 1
        out = entry[after] if after < n else 0.0
        a = acceleration[k]
        v0 = min(entry[k], now) if k else 0.0
        out = min(out, v0 + 2.0 * a * long[k])
        top = feed[k] * feed[k]
        peak = 0.5 * (2.0 * a * long[k] + v0 + out)
        s0, s1 = math.sqrt(v0), math.sqrt(out)
        if peak <= top:
            p = math.sqrt(peak)
            result[k] = (p - s0) / a + (p - s1) / a
        else:
            cruise = long[k] - (top - v0) / (2.0 * a) - (top - out) / (2.0 * a)
            result[k] = (feed[k] - s0) / a + (feed[k] - s1) / a + cruise / feed[k]
        now = out
    return result

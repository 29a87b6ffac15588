"""Ways of the nozzle from path to path that stay inside the outline where that costs little: kernels."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..layers.stack import thinned_rings
from .beads import Chain, Kind
from .insets import Rings, inset_rings
from .point_in_rings import holds

# Ways run so far inside the outline, and must not come nearer to it than so far, as shares of a line.
INSIDE, NEARER = 0.4, 0.3
# A way inside costs little while it is no longer than so many times the straight one, or so much more, mm.
TIMES, MORE_MM = 1.6, 4.0
# Nothing is drawn back over ways up to this, mm (common practice).
LONGEST_MM = 40.0
# Corners of the outline that ways turn round are told to this, mm.
SMOOTH_MM = 0.05


def inside_ways(
    chains: list[Chain], at: NDArray[np.float64], outline: Rings, line_mm: float, short_mm: float
) -> list[Chain]:
    """Put ways inside the outline between paths of a layer.

    Parameters
    ----------
    chains : list of Chain
        In their order.
    at : (2,) float64, mm
        Where the nozzle is.
    outline : ((P, 2), (N + 1,))
        Corners of the part in this layer, mm, and where each ring begins: outer ones run counter-clockwise.
    line_mm : float
    short_mm : float
        Ways up to this stay straight: nothing is drawn back for them.

    Returns
    -------
    list of Chain
        With ways that the nozzle stays inside on; all others are left to the machine.
    """
    if len(chains) < 2:
        return chains
    ends = np.array([at, *(chain.places[-1] for chain in chains[:-1])])
    begins = np.array([chain.places[0] for chain in chains])
    long = np.hypot(*(begins - ends).T)
    asked = np.flatnonzero((long > short_mm) & (long < LONGEST_MM))
    if not len(asked):
        return chains
    plain = thinned_rings(*outline, SMOOTH_MM)
    way, wall = (inset_rings(plain, share * line_mm, several=True) for share in (INSIDE, NEARER))
    if not len(way[0]):
        return chains
    points, start = _ways(*way, *wall, ends[asked], begins[asked])
    found: list[Chain] = []
    known = dict(zip(asked.tolist(), range(len(asked)), strict=True))
    for k, chain in enumerate(chains):
        if k in known:
            a, b = start[known[k]], start[known[k] + 1]
            if b > a:
                found.append(Chain(points[a:b], np.zeros(b - a), Kind.TRAVEL, nozzle=chain.nozzle))
        found.append(chain)
    return found


@njit(cache=True)
def _ways(way, way_start, wall, wall_start, ends, begins):  # type: ignore[no-untyped-def]
    """Ways (P, 2) from ends to begins (m, 2), and where each begins (m + 1,); empty where none is inside."""
    count = ends.shape[0]
    out = np.empty((256, 2))
    start = np.zeros(count + 1, np.int64)
    size = 0
    for k in range(count):
        found = _way(way, way_start, wall, wall_start, ends[k], begins[k])
        n = found.shape[0]
        while size + n > out.shape[0]:
            wider = np.empty((2 * out.shape[0], 2))
            wider[:size] = out[:size]
            out = wider
        out[size : size + n] = found
        size += n
        start[k + 1] = size
    return out[:size], start


@njit(cache=True)
def _way(way, way_start, wall, wall_start, a, b):  # type: ignore[no-untyped-def]
    """A way from a place to another inside, or nothing."""
    nothing = np.empty((0, 2))
    if not holds(wall, wall_start, a[0], a[1]) or not holds(wall, wall_start, b[0], b[1]):
        return nothing
    if _free(wall, wall_start, a[0], a[1], b[0], b[1]):
        straight = np.empty((2, 2))
        straight[0], straight[1] = a, b
        return straight
    # Where the straight way leaves and comes back, each with its ring and edge.
    t, edge, ring = np.empty(64), np.empty(64, np.int64), np.empty(64, np.int64)
    n = 0
    for r in range(way_start.shape[0] - 1):
        j = way_start[r + 1] - 1
        for i in range(way_start[r], way_start[r + 1]):
            ex, ey = way[i, 0] - way[j, 0], way[i, 1] - way[j, 1]
            dx, dy = b[0] - a[0], b[1] - a[1]
            det = dx * ey - dy * ex
            if abs(det) > 1e-12:
                qx, qy = way[j, 0] - a[0], way[j, 1] - a[1]
                s = (qx * ey - qy * ex) / det
                u = (qx * dy - qy * dx) / det
                if 0.0 < s < 1.0 and 0.0 <= u < 1.0:
                    if n == 64:
                        return nothing
                    t[n], edge[n], ring[n] = s, i, r
                    n += 1
            j = i
    if n == 0 or n % 2:
        return nothing
    order = np.argsort(t[:n])
    path = np.empty((way.shape[0] + 2 * n + 2, 2))
    path[0] = a
    m = 1
    for k in range(0, n, 2):
        p, q = order[k], order[k + 1]
        if ring[p] != ring[q]:
            return nothing
        first, last = way_start[ring[p]], way_start[ring[p] + 1]
        size = last - first
        # Corners between both edges: forwards from the edge that is left, or backwards.
        on = (edge[q] - edge[p]) % size
        ahead = _along(way, first, size, edge[p], on, True)
        behind = _along(way, first, size, edge[p] - 1, size - on, False)
        forwards = ahead <= behind
        steps = on if forwards else size - on
        for s in range(steps):
            i = edge[p] + s if forwards else edge[p] - 1 - s
            if m >= path.shape[0] - 1:
                return nothing
            path[m] = way[first + (i - first) % size]
            m += 1
    path[m] = b
    m += 1
    # Pulled tight: on to the furthest place that is in sight.
    tight = np.empty((m, 2))
    tight[0] = path[0]
    size, i, long = 1, 0, 0.0
    while i < m - 1:
        j = m - 1
        while j > i + 1 and not _free(wall, wall_start, path[i, 0], path[i, 1], path[j, 0], path[j, 1]):
            j -= 1
        if j == i + 1 and not _free(wall, wall_start, path[i, 0], path[i, 1], path[j, 0], path[j, 1]):
            return nothing
        tight[size] = path[j]
        long += math.sqrt((path[j, 0] - path[i, 0]) ** 2 + (path[j, 1] - path[i, 1]) ** 2)
        size += 1
        i = j
    direct = math.sqrt((b[0] - a[0]) ** 2 + (b[1] - a[1]) ** 2)
    if long > LONGEST_MM or long > max(TIMES * direct, direct + MORE_MM):
        return nothing
    return tight[:size].copy()


@njit(cache=True)
def _along(way, first, size, edge, steps, forwards):  # type: ignore[no-untyped-def]
    """Length of the way over so many corners of a ring."""
    long = 0.0
    for s in range(steps - 1):
        i = edge + s if forwards else edge - s
        j = i + 1 if forwards else i - 1
        p, q = way[first + (i - first) % size], way[first + (j - first) % size]
        long += math.sqrt((q[0] - p[0]) ** 2 + (q[1] - p[1]) ** 2)
    return long


@njit(cache=True)
def _free(wall, start, ax, ay, bx, by):  # type: ignore[no-untyped-def]
    """Whether nothing of the outline lies across the straight way between two places."""
    lx, hx, ly, hy = min(ax, bx), max(ax, bx), min(ay, by), max(ay, by)
    dx, dy = bx - ax, by - ay
    for r in range(start.shape[0] - 1):
        j = start[r + 1] - 1
        for i in range(start[r], start[r + 1]):
            px, py, qx, qy = wall[j, 0], wall[j, 1], wall[i, 0], wall[i, 1]
            j = i
            if (
                (px < lx and qx < lx)
                or (px > hx and qx > hx)
                or (py < ly and qy < ly)
                or (py > hy and qy > hy)
            ):
                continue
            c = dx * (py - ay) - dy * (px - ax)
            d = dx * (qy - ay) - dy * (qx - ax)
            if (c > 0.0) == (d > 0.0):
                continue
            ex, ey = qx - px, qy - py
            e = ex * (ay - py) - ey * (ax - px)
            f = ex * (by - py) - ey * (bx - px)
            if (e > 0.0) != (f > 0.0):
                return False
    return True

"""How the ends of beads along middles reach what is ahead, and which of their places stay: a kernel."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .middles import ray, ray_beads, thinned

# A round end stops so many radii before walls that lie across its way.
BESIDE = 0.5
# And so many before the side of another bead.
CLOSE = 0.7
# What is nearly as thick as walls of whole lines ends beside them.
NEARLY = 0.85
# Places of a bead are left out as long as it does not move by more than this, nor by this share of its width.
OFF_MM, OFF_SHARE = 0.01, 0.01


@njit(cache=True)
def reached(points, start, width, reach, give, thick, outline, broad, thick_mm, least_mm):  # type: ignore[no-untyped-def]
    """Beads whose round ends just reach what is ahead, without places that do not bend them; compiled whole.

    Where that is far, as in a crossing, an end goes on by half its width, towards others that meet there; one
    that gives way is drawn back. Beads (P, 2) with widths (P,), of each whether its first and last end reach
    or give way and how thick the part is there (n, 2); ``outline`` and ``broad`` are corners and where rings
    begin. Returns the same of what is longer than ``least_mm``.
    """
    runs = start.shape[0] - 1
    halves = 0.5 * width
    out, wide = np.empty((points.shape[0] + 2 * runs, 2)), np.empty(points.shape[0] + 2 * runs)
    first = np.zeros(runs + 1, np.int64)
    count = size = 0
    for k in range(runs):
        line, own = points[start[k] : start[k + 1]].copy(), width[start[k] : start[k + 1]].copy()
        for side in range(2):
            end = 1 - side
            if not (reach[k, end] or give[k, end]) or line.shape[0] < 2:
                continue
            # The end that moves is the last one.
            if end == 0:
                line, own = line[::-1].copy(), own[::-1].copy()
            r = 0.5 * own[-1]
            move = -BESIDE * r
            if reach[k, end]:
                at = line[-1]
                beside = False
                if thick[k, end] > NEARLY * thick_mm:
                    for i in range(broad[0].shape[0]):
                        dx, dy = broad[0][i, 0] - at[0], broad[0][i, 1] - at[1]
                        if dx * dx + dy * dy < thick_mm * thick_mm:
                            beside = True
                            break
                move = min(
                    _ahead(line, r, points, start, halves, k, outline, broad), move if beside else -move
                )
            line, own = _moved(line, own, move)
            if end == 0:
                line, own = line[::-1].copy(), own[::-1].copy()
        n = line.shape[0]
        if n < 2:
            continue
        keep = thinned(line, own, min(OFF_MM, OFF_SHARE * own.mean()))
        long, before, kept = 0.0, 0, 0
        for i in range(n):
            if keep[i]:
                out[size + kept] = line[i]
                wide[size + kept] = own[i]
                long += math.sqrt((line[i, 0] - line[before, 0]) ** 2 + (line[i, 1] - line[before, 1]) ** 2)
                before = i
                kept += 1
        if long > least_mm:
            size += kept
            count += 1
            first[count] = size
    return out[:size], wide[:size], first[: count + 1]


@njit(cache=True)
def _ahead(line, r, points, start, halves, own, outline, broad):  # type: ignore[no-untyped-def]
    """By how much the round end, of radius ``r``, of a line (k, 2) may move on; below 0 it must draw back."""
    n = line.shape[0]
    at = line[n - 1]
    # Its direction is that of the last stretch of about its own width.
    far = 0
    for i in range(n - 1):
        if math.sqrt((line[i, 0] - at[0]) ** 2 + (line[i, 1] - at[1]) ** 2) > 2 * r:
            far = i
    way = at - line[far]
    long = math.sqrt(way[0] ** 2 + way[1] ** 2)
    if long < 1e-6:
        return 0.0
    way = way / long
    to_wall = ray(outline[0], outline[1], at, way) - r
    to_broad = ray(broad[0], broad[1], at, way) - BESIDE * r
    to_bead = ray_beads(points, start, halves, own, at, way) - CLOSE * r
    return min(min(to_wall, to_broad), min(to_bead, r))


@njit(cache=True)
def _moved(line, width, move):  # type: ignore[no-untyped-def]
    """A line (k, 2) with its widths (k,) whose end went on, or was drawn back along it."""
    n = line.shape[0]
    if move >= 0:
        dx, dy = line[n - 1, 0] - line[n - 2, 0], line[n - 1, 1] - line[n - 2, 1]
        long = max(math.sqrt(dx * dx + dy * dy), 1e-12)
        out, wide = np.empty((n + 1, 2)), np.empty(n + 1)
        out[:n], wide[:n] = line, width
        out[n, 0], out[n, 1] = line[n - 1, 0] + move * dx / long, line[n - 1, 1] + move * dy / long
        wide[n] = width[n - 1]
        return out, wide
    left = -move
    i = n - 1
    while i > 0:
        dx, dy = line[i - 1, 0] - line[i, 0], line[i - 1, 1] - line[i, 1]
        step = math.sqrt(dx * dx + dy * dy)
        if step > left:
            t = left / step
            out, wide = line[: i + 1].copy(), width[: i + 1].copy()
            out[i, 0], out[i, 1] = line[i, 0] + t * dx, line[i, 1] + t * dy
            wide[i] = width[i] + t * (width[i - 1] - width[i])
            return out, wide
        left -= step
        i -= 1
    return line[:0].copy(), width[:0].copy()

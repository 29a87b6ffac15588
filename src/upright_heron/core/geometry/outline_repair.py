"""Outlines that come off a raster: without crumbs, with their corners sharp again."""

from __future__ import annotations

import math

import numpy as np
from numba import njit


@njit(cache=True)
def without_crumbs(points, ring_start, smallest, smallest_hole):  # type: ignore[no-untyped-def]
    """Leave out rings with less area than the smallest, and holes with less than the smallest hole, mm2."""
    result = np.empty_like(points)
    starts = np.zeros_like(ring_start)
    rings = 0
    for r in range(ring_start.shape[0] - 1):
        lo, hi = ring_start[r], ring_start[r + 1]
        area = 0.0
        j = hi - 1
        for i in range(lo, hi):
            area += 0.5 * (points[j, 0] * points[i, 1] - points[i, 0] * points[j, 1])
            j = i
        if area >= smallest or -area >= max(smallest_hole, 1e-9):
            a = starts[rings]
            result[a : a + hi - lo] = points[lo:hi]
            rings += 1
            starts[rings] = a + hi - lo
    return result[: starts[rings]].copy(), starts[: rings + 1].copy()


@njit(cache=True)
def sharpen(points, ring_start, px):  # type: ignore[no-untyped-def]
    """Give back the corners that the raster cuts: where short edges lie between two long straight ones."""
    result = np.empty_like(points)
    starts = np.zeros_like(ring_start)
    out = 0
    for r in range(ring_start.shape[0] - 1):
        lo, n = ring_start[r], ring_start[r + 1] - ring_start[r]
        first = -1
        for i in range(n):
            a, b = lo + i, lo + (i + 1) % n
            if math.hypot(points[b, 0] - points[a, 0], points[b, 1] - points[a, 1]) > 3 * px:
                first = i
                break
        if first < 0:
            for i in range(n):
                result[out] = points[lo + i]
                out += 1
            starts[r + 1] = out
            continue
        i = first  # edge i runs from corner i to corner i + 1 and is long
        while i < first + n:
            # The next long edge, past the short ones.
            k = i + 1
            short = 0.0
            while k < i + n:
                a, b = lo + k % n, lo + (k + 1) % n
                length = math.hypot(points[b, 0] - points[a, 0], points[b, 1] - points[a, 1])
                if length > 3 * px:
                    break
                short += length
                k += 1
            a, b = lo + i % n, lo + (i + 1) % n
            c, d = lo + k % n, lo + (k + 1) % n
            done = False
            if 0.0 < short < 3 * px and k < i + n:
                ux, uy = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1]
                vx, vy = points[d, 0] - points[c, 0], points[d, 1] - points[c, 1]
                det = ux * vy - uy * vx
                if abs(det) > 0.2 * math.hypot(ux, uy) * math.hypot(vx, vy):
                    t = ((points[c, 0] - points[a, 0]) * vy - (points[c, 1] - points[a, 1]) * vx) / det
                    x, y = points[a, 0] + t * ux, points[a, 1] + t * uy
                    if (
                        math.hypot(x - points[b, 0], y - points[b, 1]) < 2 * px
                        and math.hypot(x - points[c, 0], y - points[c, 1]) < 2 * px
                    ):
                        result[out, 0], result[out, 1] = x, y
                        out += 1
                        done = True
            if not done:
                for m in range(i + 1, k + 1):
                    result[out] = points[lo + m % n]
                    out += 1
            i = k
        starts[r + 1] = out
    return result[:out].copy(), starts

"""Whether a place lies in a region that is told by its rings: a kernel."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True)
def holds(points, ring_start, x, y):  # type: ignore[no-untyped-def]
    """Whether a place lies inside of an odd number of rings: corners (P, 2), and where each ring begins."""
    inside = False
    for r in range(ring_start.shape[0] - 1):
        j = ring_start[r + 1] - 1
        for i in range(ring_start[r], ring_start[r + 1]):
            y0, y1 = points[j, 1], points[i, 1]
            if (y0 > y) != (y1 > y) and (
                x < (points[j, 0] - points[i, 0]) * (y - y1) / (y0 - y1) + points[i, 0]
            ):
                inside = not inside
            j = i
    return inside


@njit(cache=True)
def hold_all(points, ring_start, places):  # type: ignore[no-untyped-def]
    """Which of places (n, 2) lie inside of an odd number of rings: edges are looked up by rows."""
    n = places.shape[0]
    found = np.zeros(n, np.bool_)
    # The corners may be those of more rings than are asked about.
    begin, end = ring_start[0], ring_start[ring_start.shape[0] - 1]
    total = end - begin
    if total == 0 or n == 0:
        return found
    low, high = points[begin:end, 1].min(), points[begin:end, 1].max()
    rows = max(1, min(ROWS, total // 4))
    tall = max((high - low) / rows, 1e-9)
    start = np.zeros(rows + 2, np.int64)
    for step in range(2):
        if step == 1:
            for k in range(1, rows + 2):
                start[k] += start[k - 1]
            edges = np.empty((start[rows], 2), np.int64)
            filled = start.copy()
        for r in range(ring_start.shape[0] - 1):
            j = ring_start[r + 1] - 1
            for i in range(ring_start[r], ring_start[r + 1]):
                a, b = min(points[i, 1], points[j, 1]), max(points[i, 1], points[j, 1])
                first = min(max(int((a - low) / tall), 0), rows - 1)
                last = min(max(int((b - low) / tall), 0), rows - 1)
                for row in range(first, last + 1):
                    if step == 0:
                        start[row + 1] += 1
                    else:
                        edges[filled[row], 0], edges[filled[row], 1] = j, i
                        filled[row] += 1
                j = i
    for k in range(n):
        x, y = places[k, 0], places[k, 1]
        if y < low or y > high:
            continue
        row = min(int((y - low) / tall), rows - 1)
        for e in range(start[row], start[row + 1]):
            p, q = points[edges[e, 0]], points[edges[e, 1]]
            if (p[1] > y) != (q[1] > y) and x < (p[0] - q[0]) * (y - q[1]) / (p[1] - q[1]) + q[0]:
                found[k] = not found[k]
    return found


# Edges are sorted into so many rows at most.
ROWS = 256

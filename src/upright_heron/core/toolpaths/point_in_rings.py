"""Whether a place lies in a region that is told by its rings: a kernel."""

from __future__ import annotations

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

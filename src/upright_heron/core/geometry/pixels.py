"""Outlines as pixels: which middles lie in them, and which they touch."""

from __future__ import annotations

import numpy as np
from numba import njit

# An edge is followed in so many steps for each pixel.
EDGE_STEPS = 3.0


@njit(cache=True)
def fill(grid, points, ring_start, first, last, low, px, edges):  # type: ignore[no-untyped-def]
    """Add pixels whose middle lies in rings, even-odd; with ``edges``, those that their edges touch too."""
    rows, columns = grid.shape
    flips = np.zeros((rows, columns + 1), np.bool_)
    for r in range(first, last):
        lo, hi = ring_start[r], ring_start[r + 1]
        for p in range(lo, hi):
            q = p + 1 if p + 1 < hi else lo
            y0, y1 = (points[p, 1] - low[1]) / px, (points[q, 1] - low[1]) / px
            x0, x1 = (points[p, 0] - low[0]) / px, (points[q, 0] - low[0]) / px
            count = 1 + int(EDGE_STEPS * max(abs(x1 - x0), abs(y1 - y0)))
            for n in range(count if edges else 0):
                row = int(np.floor(y0 + (y1 - y0) * n / count))
                column = int(np.floor(x0 + (x1 - x0) * n / count))
                if 0 <= row < rows and 0 <= column < columns:
                    grid[row, column] = True
            if y0 == y1:
                continue
            a, b = (y0, y1) if y0 < y1 else (y1, y0)
            for row in range(max(0, int(np.ceil(a - 0.5))), min(rows - 1, int(np.ceil(b - 0.5)) - 1) + 1):
                x = x0 + (row + 0.5 - y0) / (y1 - y0) * (x1 - x0)
                column = min(max(int(np.ceil(x - 0.5)), 0), columns)
                flips[row, column] = not flips[row, column]
    for row in range(rows):
        inside = False
        for column in range(columns):
            if flips[row, column]:
                inside = not inside
            if inside:
                grid[row, column] = True

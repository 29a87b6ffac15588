"""How much of each pixel an outline covers, exactly."""

from __future__ import annotations

import numpy as np
from numba import njit

# Which bit of a word is its only one: by a de Bruijn sequence of 64 bits, whose every six bits are others.
_MAGIC = np.uint64(0x03F79D71B4CB0A89)
_PLACE = np.zeros(64, np.int64)
for _bit in range(64):
    _PLACE[((1 << _bit) * int(_MAGIC) & 0xFFFFFFFFFFFFFFFF) >> 58] = _bit


def words_for(columns: int) -> int:
    """Words of marks for so many pixels a row, and two more."""
    return (columns + 2 + 63) // 64


@njit(cache=True)
def accumulate(points, starts, x_low, y_low, pixel, total, marks):  # type: ignore[no-untyped-def]
    """Add outlines to a window of differences along rows, two columns wider than its pixels.

    Parameters
    ----------
    points : (n, 2) float64, mm
        Corners of all rings, one after the other. All lie in the window.
    starts : (r + 1,) int64
        Where each ring begins. Outer rings run counter-clockwise, holes clockwise, and none over another.
    x_low, y_low : float, mm
        Corner of the window with the least x and y.
    pixel : float, mm
    total : (rows, columns + 2) float64
        Rows from the least y up; summed along a row they are the shares of its pixels that are covered.
    marks : (rows, words) uint64
        A bit for each pixel of a row in which something was added, the first in the lowest bit.

    Returns
    -------
    (int, int, int, int)
        Rows and columns that are touched, from the first to behind the last.

    Notes
    -----
    Signed areas are accumulated edge by edge and summed along rows, as in rasters of type (R. Levien, 2016,
    from memory): a polygon is what lies to the right of its edges, so the sum of all pixels is its area
    to the last digit.
    """
    rows, columns = total.shape[0], total.shape[1] - 2
    r0, r1, c0, c1 = rows, 0, columns, 0
    for r in range(starts.shape[0] - 1):
        for i in range(starts[r], starts[r + 1]):
            j = i + 1 if i + 1 < starts[r + 1] else starts[r]
            x0, y0 = (points[i, 0] - x_low) / pixel, (points[i, 1] - y_low) / pixel
            x1, y1 = (points[j, 0] - x_low) / pixel, (points[j, 1] - y_low) / pixel
            if y0 == y1:
                continue
            # With the inside to the left, edges that run down begin a span and those that run up end it.
            way = -1.0
            if y0 > y1:
                x0, y0, x1, y1 = x1, y1, x0, y0
                way = 1.0
            slope = (x1 - x0) / (y1 - y0)
            first, last = max(0, int(np.floor(y0))), min(rows, int(np.ceil(y1)))
            r0, r1 = min(r0, first), max(r1, last)
            c0 = min(c0, max(0, int(np.floor(min(x0, x1)))))
            c1 = max(c1, min(columns, int(np.ceil(max(x0, x1)))))
            for row in range(first, last):
                low, high = max(y0, float(row)), min(y1, row + 1.0)
                if high > low:
                    a, b = x0 + (low - y0) * slope, x0 + (high - y0) * slope
                    _add(total, marks, row, min(a, b), max(a, b), way * (high - low))
    return r0, r1, c0, c1


@njit(cache=True)
def grey_rows(total, marks, touched, levels, picture, left):  # type: ignore[no-untyped-def]
    """Turn what was accumulated into greys of a picture, its last row the one with the least y; and clear it.

    Returns the sum of the shares, pixels. Between two pixels in which something was added all are alike.
    """
    r0, r1, _, _ = touched
    rows, columns = total.shape[0], total.shape[1] - 2
    whole = 0.0
    for row in range(r0, r1):
        out = picture[rows - 1 - row]
        run, begin, share, grey = 0.0, 0, 0.0, np.uint8(0)
        for word in range(marks.shape[1]):
            bits = marks[row, word]
            if bits == 0:
                continue
            marks[row, word] = 0
            while bits != 0:
                lowest = bits & (~bits + np.uint64(1))
                bits ^= lowest
                column = word * 64 + _PLACE[(lowest * _MAGIC) >> np.uint64(58)]
                if share > 0.0:
                    for k in range(begin, min(column, columns)):
                        out[left + k] = grey
                    whole += share * (min(column, columns) - begin)
                run += total[row, column]
                total[row, column] = 0.0
                share = min(max(run, 0.0), 1.0)
                grey = np.uint8(np.floor(share * (levels - 1) + 0.5) * 255.0 / (levels - 1) + 0.5)
                begin = column
    return whole


@njit(cache=True)
def _add(total, marks, row, left, right, height):  # type: ignore[no-untyped-def]
    """Add what lies to the right of a bit of edge from ``left`` to ``right`` in a row, as differences."""
    first = int(np.floor(left))
    before, reached = 0.0, _right_of(first, left, right)
    for column in range(first, int(np.ceil(right)) + 1):
        further = _right_of(column + 1, left, right)
        share = further - reached
        total[row, column] += height * (share - before)
        marks[row, column >> 6] |= np.uint64(1) << np.uint64(column & 63)
        before, reached = share, further


@njit(cache=True)
def _right_of(place, left, right):  # type: ignore[no-untyped-def]
    """Mean over a bit of edge of how far a place lies to its right."""
    if place <= left:
        return 0.0
    if place >= right:
        return place - 0.5 * (left + right)
    return 0.5 * (place - left) ** 2 / (right - left)

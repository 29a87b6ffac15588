"""Free places on a plate of pixels, found by jumping past what is taken; compiled.

An outline is runs of pixels, row by row. Where a run meets a pixel that is taken, the outline collides
until the run has passed it: so far it jumps. A row takes about as many looks as it has gaps.
"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True)
def scan_rows(taken, ahead, free, first, last):  # type: ignore[no-untyped-def]
    """Tell for each pixel of some rows which is the next that is taken, and the next that is free.

    Parameters
    ----------
    taken : (rows, columns) bool
    ahead, free : (rows, columns + 1) int32
        Filled in; ``columns`` where there is none.
    first, last : int
        Rows from the first to before the last.
    """
    columns = taken.shape[1]
    for r in range(first, last):
        ahead[r, columns] = free[r, columns] = columns
        for c in range(columns - 1, -1, -1):
            if taken[r, c]:
                ahead[r, c] = c
                free[r, c] = free[r, c + 1]
            else:
                ahead[r, c] = ahead[r, c + 1]
                free[r, c] = c


@njit(cache=True)
def first_free(ahead, free, runs, size, from_row, to_row, from_column):  # type: ignore[no-untyped-def]
    """Find the lowest place that an outline is free in, the leftmost of its row.

    Parameters
    ----------
    ahead, free : (rows, columns + 1) int32
        As ``scan_rows`` fills them in.
    runs : (n, 3) int64
        Row, first column and the column behind the last, from the corner of the outline; their order changes.
    size : (rows, columns)
        Of the outline.
    from_row, to_row, from_column : int
        Rows from ``from_row`` to ``to_row`` are looked at, columns from ``from_column`` on.

    Returns
    -------
    (row, column)
        -1 where there is none.
    """
    last = ahead.shape[1] - 1 - size[1]
    for row in range(from_row, min(to_row, ahead.shape[0] - size[0]) + 1):
        column = from_column
        while column <= last:
            jumped = _past(ahead, free, runs, row, column)
            if jumped == column:
                return row, column
            column = jumped
    return -1, -1


@njit(cache=True)
def nearest_free(ahead, free, back, runs, size, spot, bound, window):  # type: ignore[no-untyped-def]
    """Find the place that an outline is free in and lies nearest to a spot.

    Parameters
    ----------
    ahead, free : (rows, columns + 1) int32
    back : (rows, columns + 1) int32
        For each column the last that is free up to it, -1 where there is none.
    runs : (n, 3) int64
    size : (rows, columns)
    spot : (row, column) of float
        Where the corner of the outline would be best.
    bound : float
        Only what is nearer than this is of interest, pixels.
    window : (first row, last row, first column, last column)
        Where the corner may be; what lies past the plate is left out.

    Returns
    -------
    (row, column)
        -1 where there is none.
    """
    low, high = max(window[0], 0), min(window[1], ahead.shape[0] - size[0])
    left, right = max(window[2], 0), min(window[3], ahead.shape[1] - 1 - size[1])
    best, at_row, at_column = bound, -1, -1
    if low > high or left > right:
        return at_row, at_column
    middle = min(max(round(spot[0]), low), high)
    start = min(max(round(spot[1]), left), right)
    for step in range(2 * (high - low) + 2):
        row = middle + (step + 1) // 2 * (1 if step % 2 else -1)
        away = abs(row - spot[0])
        if row < low or row > high or away >= best:
            continue
        column = start
        while column <= right and np.hypot(away, column - spot[1]) < best:
            jumped = _past(ahead, free, runs, row, column)
            if jumped == column:
                best, at_row, at_column = np.hypot(away, column - spot[1]), row, column
                break
            column = jumped
        column = start
        while column >= left and np.hypot(away, column - spot[1]) < best:
            jumped = _before(ahead, back, runs, row, column)
            if jumped == column:
                best, at_row, at_column = np.hypot(away, column - spot[1]), row, column
                break
            column = jumped
    return at_row, at_column


@njit(cache=True)
def _past(ahead, free, runs, row, column):  # type: ignore[no-untyped-def]
    """The next column that may be free; the same where all runs are."""
    for k in range(runs.shape[0]):
        r = row + runs[k, 0]
        hit = ahead[r, column + runs[k, 1]]
        if hit < column + runs[k, 2]:
            to = free[r, hit] - runs[k, 1]
            _to_front(runs, k)
            return to
    return column


@njit(cache=True)
def _before(ahead, back, runs, row, column):  # type: ignore[no-untyped-def]
    """The next column to the left that may be free; the same where all runs are."""
    for k in range(runs.shape[0]):
        r = row + runs[k, 0]
        hit = ahead[r, column + runs[k, 1]]
        if hit < column + runs[k, 2]:
            to = back[r, hit] - runs[k, 2] + 1
            _to_front(runs, k)
            return to
    return column


@njit(cache=True)
def _to_front(runs, k):  # type: ignore[no-untyped-def]
    """What collided is looked at first the next time."""
    for c in range(3):
        runs[0, c], runs[k, c] = runs[k, c], runs[0, c]


@njit(cache=True)
def scan_back(taken, back, first, last):  # type: ignore[no-untyped-def]
    """Tell for each pixel of some rows the last that is free up to it; -1 where there is none."""
    columns = taken.shape[1]
    for r in range(first, last):
        known = -1
        for c in range(columns):
            if not taken[r, c]:
                known = c
            back[r, c] = known
        back[r, columns] = known


@njit(cache=True)
def runs_of(laid):  # type: ignore[no-untyped-def]
    """Runs (n, 3) int64 of pixels (rows, columns) that are set, the longest first."""
    rows, columns = laid.shape
    count = 0
    for r in range(rows):
        for c in range(columns):
            count += laid[r, c] and (c == 0 or not laid[r, c - 1])
    runs = np.empty((count, 3), np.int64)
    n = 0
    for r in range(rows):
        for c in range(columns):
            if laid[r, c]:
                if c == 0 or not laid[r, c - 1]:
                    runs[n, 0], runs[n, 1] = r, c
                    n += 1
                runs[n - 1, 2] = c + 1
    return runs[np.argsort(runs[:, 1] - runs[:, 2])]

"""How far the nearest taken cell of a grid is, as far as that matters."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


def near_cells(taken: NDArray[np.bool_], reach: int) -> NDArray[np.float32]:
    """Distance from the middle of each cell to that of the nearest taken one.

    Parameters
    ----------
    taken : (nz, ny, nx) bool
    reach : int
        Further than so many cells off all is told as ``reach + 1``.

    Returns
    -------
    (nz, ny, nx) float32
        In cells; 0 where taken.

    Notes
    -----
    Squares of distances along one axis after the other: Saito and Toriwaki 1994, New algorithms for Euclidean
    distance transformation, Pattern Recognition 27.
    """
    squares = np.empty(taken.shape, np.int32)
    _along_rows(taken, reach, squares)
    for axis in (1, 0):
        squares = _across(squares, reach, axis)
    return np.sqrt(np.minimum(squares, (reach + 1) ** 2), dtype=np.float32)


@njit(cache=True)
def _along_rows(taken, reach, squares):  # type: ignore[no-untyped-def]
    levels, rows, columns = taken.shape
    far = reach + 1
    for k in range(levels):
        for j in range(rows):
            away = far
            for i in range(columns):
                away = 0 if taken[k, j, i] else min(away + 1, far)
                squares[k, j, i] = away
            away = far
            for i in range(columns - 1, -1, -1):
                away = 0 if taken[k, j, i] else min(away + 1, far)
                near = min(squares[k, j, i], away)
                squares[k, j, i] = near * near


@njit(cache=True)
def _across(squares, reach, axis):  # type: ignore[no-untyped-def]
    levels, rows, columns = squares.shape
    found = squares.copy()
    for k in range(levels):
        for j in range(rows):
            for step in range(1, reach + 1):
                for way in (-step, step):
                    k2 = k + way if axis == 0 else k
                    j2 = j + way if axis == 1 else j
                    if k2 < 0 or k2 >= levels or j2 < 0 or j2 >= rows:
                        continue
                    for i in range(columns):
                        found[k, j, i] = min(found[k, j, i], squares[k2, j2, i] + step * step)
    return found

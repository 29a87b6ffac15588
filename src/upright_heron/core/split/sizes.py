"""How many boxes a body takes, whichever way up it stands in them."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .cuts import Vector

# Ways up in which it is seen whether a piece fits.
FRAMES = 120


@lru_cache(4)
def frames(count: int) -> NDArray[np.float64]:
    """Turns (k, 3, 3) of the sphere: as it lies, about each axis, and any way; the same at every asking."""
    rng = np.random.default_rng(7)
    q = rng.normal(size=(count - 1, 4))
    q /= np.linalg.norm(q, axis=1, keepdims=True)
    w, x, y, z = q.T
    some = np.stack(
        [
            np.stack([1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)], 1),
            np.stack([2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)], 1),
            np.stack([2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)], 1),
        ],
        1,
    )
    # Turned about one axis alone parts most often fit.
    for k in range(min(len(some), 3 * (count // 4))):
        a = math.radians(90 * ((k // 3) + 1) / (count // 4 + 1))
        c, s = math.cos(a), math.sin(a)
        axis = k % 3
        turn = np.eye(3)
        i, j = [v for v in range(3) if v != axis]
        turn[i, i], turn[i, j], turn[j, i], turn[j, j] = c, -s, s, c
        some[k] = turn
    return np.concatenate([np.eye(3)[None], some])


def boxes_taken(points: NDArray[np.float64], frames: NDArray[np.float64], box_mm: Vector) -> int:
    """How many boxes points (n, 3) take at least, in the frame (k, 3, 3) that takes fewest."""
    size = _extents(points, np.ascontiguousarray(frames.reshape(-1, 3))).reshape(-1, 3)
    return int(counts(size, np.sort(np.asarray(box_mm))).min())


@njit(cache=True)
def _extents(points, directions):  # type: ignore[no-untyped-def]
    """How far points reach along each direction: no array of all of them is made."""
    found = np.empty(directions.shape[0])
    for k in range(directions.shape[0]):
        x, y, z = directions[k, 0], directions[k, 1], directions[k, 2]
        low, high = np.inf, -np.inf
        for p in range(points.shape[0]):
            along = points[p, 0] * x + points[p, 1] * y + points[p, 2] * z
            low, high = min(low, along), max(high, along)
        found[k] = high - low
    return found


def counts(size: NDArray[np.float64], box: NDArray[np.float64]) -> NDArray[np.float64]:
    """Boxes that sizes (..., 3) take whose longest side lies along the longest of a sorted box (3,)."""
    taken: NDArray[np.float64] = np.ceil(np.sort(size, axis=-1) / box - 1e-9).clip(1).prod(axis=-1)
    return taken


def fits(points: NDArray[np.float64], box_mm: Vector) -> bool:
    """Whether points (n, 3) lie in a box, some way up."""
    box = np.sort(np.asarray(box_mm))
    if counts(np.ptp(points, axis=0), box) <= 1:
        return True
    return boxes_taken(points, frames(FRAMES), box_mm) <= 1

"""How many boxes a body takes, whichever way up it stands in them."""

from __future__ import annotations

import math
from functools import lru_cache
from itertools import permutations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .cuts import Vector

# Ways up in which it is seen whether a piece fits.
FRAMES = 120
# Supports lean out of a part by so much (own measurement).
BESIDE_MM = 8.0


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
    taken: NDArray[np.float64] = _counts(np.ascontiguousarray(size).reshape(-1, 3), box)
    return taken.reshape(size.shape[:-1])


@njit(cache=True)
def _counts(size, box):  # type: ignore[no-untyped-def]
    found = np.empty(size.shape[0])
    for k in range(size.shape[0]):
        a, b, c = size[k, 0], size[k, 1], size[k, 2]
        low, high = min(a, b, c), max(a, b, c)
        middle = max(min(a, b), min(max(a, b), c))
        taken = 1.0
        for side, room in ((low, box[0]), (middle, box[1]), (high, box[2])):
            taken *= max(np.ceil(side / room - 1e-9), 1.0)
        found[k] = taken
    return found


def fits(points: NDArray[np.float64], box_mm: Vector) -> bool:
    """Whether points (n, 3) lie in a box, some way up."""
    box = np.sort(np.asarray(box_mm))
    if counts(np.ptp(points, axis=0), box) <= 1:
        return True
    return boxes_taken(points, frames(FRAMES), box_mm) <= 1


def turn_that_fits(points: NDArray[np.float64], build_mm: Vector) -> NDArray[np.float64] | None:
    """Turn (3, 3) in which points (n, 3) fit a build volume, with room for supports beside them.

    Of the ways up that ``fits`` tries: the lowest of those that leave ``BESIDE_MM`` on each side of the
    plate, or else the one that leaves most; ``None`` where none fits.
    """
    tried = frames(FRAMES)
    size = _extents(points, np.ascontiguousarray(tried.reshape(-1, 3))).reshape(-1, 3)
    best, found = (-np.inf, 0.0), None
    for order in permutations(range(3)):
        spare = np.asarray(build_mm) - size[:, order]
        for k in np.flatnonzero((spare > 0).all(axis=1)):
            beside = min(float(spare[k, :2].min()) / 2, BESIDE_MM)
            rated = (beside, -float(size[k, order[2]]))
            if rated > best:
                best, found = rated, tried[k][list(order)]
    if found is None:
        return None
    # A turn, not a mirror image.
    turn: NDArray[np.float64] = found * [[math.copysign(1.0, np.linalg.det(found))], [1.0], [1.0]]
    return turn

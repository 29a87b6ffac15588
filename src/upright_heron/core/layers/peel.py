"""Peel: how hard each layer of a resin part comes off the film. A guess to compare by."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..machines.catalogue import Peel
from .layer_components import Pieces
from .stack import LayerStack

# Newtons for each mm2 of layer and each mm of its outline (common practice, no source: film, speed and resin
# differ by more than this). Area counts because the film lets go last in the middle, outline because it
# starts there.
NEWTONS: dict[Peel, tuple[float, float]] = {
    Peel.EASY: (0.004, 0.02),
    Peel.USUAL: (0.008, 0.04),
    Peel.HARD: (0.016, 0.08),
}


def outlines_mm(stack: LayerStack) -> NDArray[np.float64]:
    """Length of all contours of each layer, holes included: (L,) float64, mm."""
    result: NDArray[np.float64] = _outlines(stack.points, stack.ring_start, stack.layer_start)
    return result


@njit(cache=True, nogil=True)
def _outlines(points, ring_start, layer_start):  # type: ignore[no-untyped-def]
    result = np.zeros(layer_start.shape[0] - 1)
    for layer in range(result.shape[0]):
        for r in range(layer_start[layer], layer_start[layer + 1]):
            lo, hi = ring_start[r], ring_start[r + 1]
            for p in range(lo, hi):
                q = p + 1 if p + 1 < hi else lo
                result[layer] += np.hypot(points[q, 0] - points[p, 0], points[q, 1] - points[p, 1])
    return result


def peel_curve(stack: LayerStack, peel: Peel) -> NDArray[np.float64]:
    """Estimate the pull on each layer.

    Parameters
    ----------
    stack : LayerStack
    peel : Peel
        Class of the material.

    Returns
    -------
    (L,) float64
        N, rough.
    """
    by_area, by_outline = NEWTONS[peel]
    result: NDArray[np.float64] = by_area * stack.area_mm2 + by_outline * outlines_mm(stack)
    return result


def pulls(found: Pieces, peel: Peel) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Estimate the pull on each piece of a layer, and where it acts.

    Parameters
    ----------
    found : Pieces
    peel : Peel
        Class of the material.

    Returns
    -------
    (N,) float64
        N, rough: the sum over a layer is that of ``peel_curve``.
    (N, 2) float64
        Centre of the pull, mm: of area and outline, each with its share.
    """
    by_area, by_outline = NEWTONS[peel]
    moments = _moments(found.stack.points, found.stack.ring_start, found.ring_piece, len(found))
    pull = by_area * moments[:, 0] + by_outline * moments[:, 3]
    centre = by_area * moments[:, 1:3] + by_outline * moments[:, 4:6]
    return pull, centre / np.maximum(pull, 1e-12)[:, None]


@njit(cache=True)
def _moments(points, ring_start, ring_piece, count):  # type: ignore[no-untyped-def]
    """Area and outline of each piece, each with its first moments along x and y."""
    found = np.zeros((count, 6))
    for r in range(ring_start.shape[0] - 1):
        p = ring_piece[r]
        lo, hi = ring_start[r], ring_start[r + 1]
        for i in range(lo, hi):
            j = i + 1 if i + 1 < hi else lo
            ax, ay, bx, by = points[i, 0], points[i, 1], points[j, 0], points[j, 1]
            twice = ax * by - bx * ay
            found[p, 0] += 0.5 * twice
            found[p, 1] += twice * (ax + bx) / 6.0
            found[p, 2] += twice * (ay + by) / 6.0
            long = np.hypot(bx - ax, by - ay)
            found[p, 3] += long
            found[p, 4] += 0.5 * (ax + bx) * long
            found[p, 5] += 0.5 * (ay + by) * long
    return found

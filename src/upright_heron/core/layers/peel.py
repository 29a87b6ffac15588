"""Peel: how hard each layer of a resin part comes off the film. A guess to compare by."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..machines.catalogue import Peel
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

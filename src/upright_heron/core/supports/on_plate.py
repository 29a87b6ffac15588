"""Where supports may stand: on the plate that their part fits."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..layers.stack import LayerStack


def on_plate(
    low: NDArray[np.float64],
    high: NDArray[np.float64],
    stack: LayerStack,
    plate_mm: tuple[float, float] | None,
    rim_mm: float,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """What of a box from low (2,) to high (2,) lies on the plate with the part in its middle, less a rim.

    Along a side on which the part itself does not fit there is no limit.
    """
    if plate_mm is None or not len(stack.points):
        return low, high
    first, last = stack.points.min(axis=0), stack.points.max(axis=0)
    beside = (np.asarray(plate_mm) - (last - first)) / 2
    room = np.where(beside >= 0, np.maximum(beside - rim_mm, 0.0), np.inf)
    return np.maximum(low, first - room), np.minimum(high, last + room)

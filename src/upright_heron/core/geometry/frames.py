"""Frames: directions square to one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray


def frame(normal: Sequence[float] | NDArray[np.float64]) -> NDArray[np.float64]:
    """Turn (3, 3) that brings a direction to z: its rows are two directions in the plane, and the normal."""
    n = np.asarray(normal, np.float64)
    # Along an axis of the part where it can be: squares then lie square.
    aside = np.eye(3)[int(np.argmin(np.abs(n)))]
    u = np.cross(aside, n)
    u /= np.linalg.norm(u)
    return np.stack([u, np.cross(n, u), n])

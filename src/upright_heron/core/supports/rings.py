"""Circles as they are drawn and printed: rings of a few corners."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

# Sides of shafts, cones and bars.
SIDES = 12


def _prism() -> NDArray[np.int32]:
    """Facets of a prism of two rings of ``SIDES`` corners, the lower one first."""
    i = np.arange(SIDES)
    j = (i + 1) % SIDES
    fan = np.arange(1, SIDES - 1)
    faces = [
        np.column_stack([i, j, SIDES + j]), np.column_stack([i, SIDES + j, SIDES + i]),
        np.column_stack([np.zeros_like(fan), fan + 1, fan]),
        SIDES + np.column_stack([np.zeros_like(fan), fan, fan + 1]),
    ]  # fmt: skip
    return np.concatenate(faces).astype(np.int32)


PRISM = _prism()
_ANGLES = 2 * np.pi * np.arange(SIDES) / SIDES
CIRCLE = np.column_stack([np.cos(_ANGLES), np.sin(_ANGLES)])
# A polygon with SIDES corners has this share of the circle's pi r^2.
CIRCLE_AREA = 0.5 * SIDES * math.sin(2 * math.pi / SIDES)


def circle_rings(circles: NDArray[np.float64]) -> NDArray[np.float64]:
    """Outlines (k, SIDES, 2) of circles (k, 3) of x, y and radius."""
    result: NDArray[np.float64] = CIRCLE[None] * circles[:, 2, None, None] + circles[:, None, :2]
    return result

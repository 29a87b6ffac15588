"""Names of stances, by what is down: what a technician would say with the part in hand."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

AS_IT_CAME = "as it came"
# The sides of a part as it came: its front looks at the reader, its left is to the left.
SIDES = {
    (0, 0, -1): AS_IT_CAME,
    (0, 0, 1): "upside down",
    (0, -1, 0): "on its front",
    (0, 1, 0): "on its back",
    (-1, 0, 0): "on its left side",
    (1, 0, 0): "on its right side",
}
COMPASS = ("right", "back right", "back", "back left", "left", "front left", "front", "front right")
# Nearer than this a stance has the name of its side alone.
PLAIN_DEG = 1.0


def name_of(rotation: NDArray[np.float64]) -> str:
    """Name of a stance by what is down, and how it leans.

    Parameters
    ----------
    rotation : (3, 3) float64

    Returns
    -------
    str
        Such as ``on its back`` or ``upside down, leaning 15° left``. Where it leans to is told in the view
        from the front.
    """
    side, lean = _side(rotation)
    if lean < PLAIN_DEG:
        return SIDES[side]
    # Where the top of the part has gone, seen from above.
    top = rotation @ -np.array(side, np.float64)
    towards = COMPASS[round(float(np.degrees(np.arctan2(top[1], top[0]))) / 45.0) % 8]
    return f"{SIDES[side]}, leaning {lean:.0f}° {towards}"


def _side(rotation: NDArray[np.float64]) -> tuple[tuple[int, int, int], float]:
    """The side that is down, and how far from straight down it looks, degrees."""
    down = -rotation[2]
    side = max(SIDES, key=lambda s: float(np.dot(s, down)))
    return side, float(np.degrees(np.arccos(np.clip(np.dot(side, down), -1.0, 1.0))))


def is_leaning(rotation: NDArray[np.float64]) -> bool:
    """Whether a part in a stance (3, 3) stands on no side of it squarely."""
    return _side(rotation)[1] >= PLAIN_DEG


def lean(rotation: NDArray[np.float64], degrees: float, towards_deg: float) -> NDArray[np.float64]:
    """Lean a part that stands: turn its top by an angle towards a direction of the plate.

    Parameters
    ----------
    rotation : (3, 3) float64
        The stance it stands in.
    degrees : float
        How far from where it stands.
    towards_deg : float
        Direction in the plate, 0 towards +x (right), 90 towards +y (back).

    Returns
    -------
    (3, 3) float64
    """
    a, t = np.radians(towards_deg), np.radians(degrees)
    axis = np.array([-np.sin(a), np.cos(a), 0.0])
    k = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    # Rodrigues' formula.
    turn = np.eye(3) + np.sin(t) * k + (1 - np.cos(t)) * k @ k
    result: NDArray[np.float64] = turn @ rotation
    return result

"""What no cut may go through: boxes along the axes of the part."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..errors import BadValue
from .cuts import Cut, Vector

# Lowest and highest corner, mm.
KeptBox = tuple[Vector, Vector]
# A plane that only touches a box does not cross it.
TOUCH_MM = 1e-6


def crossed(normal: Sequence[float], offset_mm: float, kept: Sequence[KeptBox]) -> int | None:
    """Which box, by its place in the list, a plane goes through first; ``None`` where it misses them all."""
    n = np.asarray(normal, np.float64)
    for k, (low, high) in enumerate(kept):
        a, b = np.asarray(low), np.asarray(high)
        away = abs(float(n @ (a + b)) / 2 - offset_mm)
        if away < float(np.abs(n) @ (b - a)) / 2 - TOUCH_MM:
            return k
    return None


def check_kept(cuts: Sequence[Cut], kept: Sequence[KeptBox]) -> None:
    """Make sure that no cut goes through what is kept whole.

    Raises
    ------
    BadValue
        One does.
    """
    for one in cuts:
        k = crossed(one.normal, one.offset_mm, kept)
        if k is not None:
            raise BadValue(
                f"Cut {one.id} would go through what is kept whole in box {k + 1}.",
                "Move one of them, or take the box out.",
            )


def clear_of(
    places: Sequence[float], side: float, low: float, high: float, spans: NDArray[np.float64]
) -> list[float]:
    """Move planes across one axis out of what is kept whole.

    Parameters
    ----------
    places : sequence of float
        Where they would lie, in order, mm.
    side : float
        No two may lie further apart, nor the first and last from the ends.
    low, high : float
        Ends of the part.
    spans : (k, 2) float64
        From where to where boxes reach along the axis.

    Returns
    -------
    list of float
        One or more planes may be added where the room between needs them.

    Raises
    ------
    BadValue
        A box is longer than a piece may be.
    """
    if all(_free(v, spans) for v in places):
        return list(places)
    found: list[float] = []
    before = low
    wanted = list(places)
    while before + side < high - TOUCH_MM or wanted:
        # As wished where that is free and near enough, else as far on as may be.
        wish = wanted.pop(0) if wanted else before + side
        at = min(wish, before + side)
        ends = [
            at,
            *(s for s in spans[:, 0] if before < s < at),
            *(e for e in spans[:, 1] if before < e <= before + side),
        ]
        allowed = [v for v in ends if v > before + TOUCH_MM and _free(v, spans)]
        if not allowed:
            raise BadValue(
                f"What is kept whole leaves no room for a cut within {side:.0f} mm.",
                "Keep less whole, or take a larger machine.",
            )
        before = min(allowed, key=lambda v: (abs(v - at), v))
        if before < high - TOUCH_MM:
            found.append(before)
        wanted = [v for v in wanted if v > before + TOUCH_MM]
    return found


def _free(at: float, spans: NDArray[np.float64]) -> bool:
    return not bool(((spans[:, 0] + TOUCH_MM < at) & (at < spans[:, 1] - TOUCH_MM)).any())

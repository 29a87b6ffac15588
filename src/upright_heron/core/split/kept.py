"""What no cut may go through: boxes along the axes of the part, and what lies between corners."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from ..errors import BadValue
from .cuts import Cut, Vector

# Lowest and highest corner of a box, mm; or four or more places, with all that lies between them.
Kept = tuple[Vector, ...]
# Corners are looked for in so many directions, and lie so far outside.
DIRECTIONS, OUT_MM = 64, 0.5
# A plane that only touches a box does not cross it.
TOUCH_MM = 1e-6


def span(normal: Sequence[float], one: Kept) -> tuple[float, float]:
    """From where to where something that is kept whole reaches along a direction, mm."""
    n, places = np.asarray(normal, np.float64), np.asarray(one, np.float64)
    if len(places) == 2:
        middle, half = float(n @ (places[0] + places[1])) / 2, float(np.abs(n) @ (places[1] - places[0])) / 2
        return middle - half, middle + half
    along = places @ n
    return float(along.min()), float(along.max())


def corners_of(places: NDArray[np.float64]) -> NDArray[np.float64]:
    """Corners (k, 3) round places (n, 3), a little outside of them: what lies between is to be kept whole."""
    up = 1 - (2 * np.arange(DIRECTIONS) + 1) / DIRECTIONS
    turn = np.pi * (1 + 5**0.5) * np.arange(DIRECTIONS)
    level = np.sqrt(1 - up * up)
    ways = np.column_stack([level * np.cos(turn), level * np.sin(turn), up])
    return np.asarray(places[np.argmax(places @ ways.T, axis=0)] + OUT_MM * ways)


def crossed(normal: Sequence[float], offset_mm: float, kept: Sequence[Kept]) -> int | None:
    """Which one, by its place in the list, a plane goes through first; ``None`` where it misses them all."""
    for k, one in enumerate(kept):
        low, high = span(normal, one)
        if low + TOUCH_MM < offset_mm < high - TOUCH_MM:
            return k
    return None


def check_kept(cuts: Sequence[Cut], kept: Sequence[Kept]) -> None:
    """Make sure that no cut goes through what is kept whole.

    Raises
    ------
    BadValue
        One does.
    """
    by_id = {one.id: one for one in cuts}
    for one in cuts:
        for k, place in enumerate(kept):
            if crossed(one.normal, one.offset_mm, [place]) is None or _elsewhere(one, by_id, place):
                continue
            raise BadValue(
                f"Cut {one.id} would go through what is kept whole, number {k + 1}.",
                "Move one of them, or keep it whole no more.",
            )


def _elsewhere(one: Cut, by_id: Mapping[str, Cut], place: Kept) -> bool:
    """Whether what is kept whole lies in none of the piece that a cut is for."""
    for step in filter(None, one.within.split("-")):
        parent, beyond = by_id.get(step[:-1]), step[-1] == "b"
        if parent is None:
            continue
        low, high = span(parent.normal, place)
        if high <= parent.offset_mm + TOUCH_MM if beyond else low >= parent.offset_mm - TOUCH_MM:
            return True
    return False


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
        # One more than was wished for shares what is left evenly: at the end of it nothing thin is left.
        left = high - before
        wish = wanted.pop(0) if wanted else before + left / math.ceil(left / side - TOUCH_MM)
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

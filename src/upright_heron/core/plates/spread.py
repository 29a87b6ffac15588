"""Items spread over as many plates as they need."""

from __future__ import annotations

from collections.abc import Sequence

from .arrange import Point, Rectangle, in_rows, round_all


def spread(boxes: Sequence[Rectangle], room_mm: Point) -> list[list[int]]:
    """Spread items over plates, the deepest first, each onto the first plate that still has room.

    Parameters
    ----------
    boxes : sequence of Rectangle
        Plans of the items with all that is printed of them, each in a frame of its own.
    room_mm : (x, y)
        Of a plate.

    Returns
    -------
    list of list of int
        Numbers of the boxes on each plate, in the order in which ``in_rows`` finds room for them. One that is
        larger than a plate has one for itself.

    References
    ----------
    First fit by decreasing height: E. Coffman et al., "Performance bounds for level-oriented two-dimensional
    packing algorithms", SIAM J. Computing 9(4), 1980.
    """
    plates: list[list[int]] = []
    for k in sorted(range(len(boxes)), key=lambda k: (-boxes[k].size_mm[1], -boxes[k].size_mm[0], k)):
        for plate in plates:
            if _fit([boxes[n] for n in (*plate, k)], room_mm):
                plate.append(k)
                break
        else:
            plates.append([k])
    return plates


def _fit(boxes: Sequence[Rectangle], room_mm: Point) -> bool:
    moves = in_rows(boxes, room_mm=room_mm)
    wide, deep = round_all([box.moved(*by) for box, by in zip(boxes, moves, strict=True)]).size_mm
    return wide <= room_mm[0] and deep <= room_mm[1]

"""Preflight of a plate: what reaches past its edge, crosses, stands too near, or in the way of the head."""

from __future__ import annotations

import math
from collections.abc import Sequence

from ..plates.arrange import Rectangle
from ..plates.extent import Printed, around, move_onto, swing_that_fits
from ..plates.gaps import Lying, away_mm, meet, near_pairs
from ..plates.in_turn import Clearance, under_rail
from ..topics import Topic
from .preflight import Check, Place, Stood, Weight

# What reaches less past the edge of a plate comes from rounding a place that was typed.
EDGE_MM = 1e-3
# So much less than the gap is the same.
NEAR_MM = 0.05


def plate_checks(
    stood: Sequence[Stood],
    build_mm: tuple[float, float, float],
    lying: Sequence[Lying],
    gap_mm: float = 0.0,
    worn: Sequence[tuple[float, float, float]] = (),
    in_turn: Clearance | None = None,
) -> list[Check]:
    """List what reaches past the edge of a plate or stands in the way of something else.

    Parameters
    ----------
    stood : sequence of Stood
        What stands on the plate; the same item may stand there more than once.
    build_mm : (x, y, z)
    lying : sequence of Lying
        True outlines of the same.
    gap_mm : float
        What they should keep from each other.
    worn : sequence of (x, y, radius)
        Places that should be kept free, mm.
    in_turn : Clearance or None
        What the head and the rail need, where one is printed after the other.

    Returns
    -------
    list of Check
        With the name of what each is about, and where it would stand well.
    """
    past = [_past_the_edge(one, one.box, build_mm[:2]) for one in stood]
    found = [*(check for check in past if check is not None), *_in_the_way(stood, lying, gap_mm)]
    if in_turn is not None:
        found += _in_turn(lying, in_turn)
    for one, plan in zip(stood, lying, strict=False):
        if any(away_mm(plan, (x, y)) < radius - NEAR_MM for x, y, radius in worn):
            text = "It stands on a worn place of the plate."
            found.append(one.check(Weight.DOUBTFUL, text, "Move it, or let it be arranged."))
    return found


def _in_the_way(stood: Sequence[Stood], lying: Sequence[Lying], gap_mm: float) -> list[Check]:
    """Tell what crosses others, lies over or under others, or stands too near to them."""
    across: dict[int, int] = {}
    over: dict[int, int] = {}
    near: dict[int, float] = {}
    for pair in near_pairs(lying, max(gap_mm - NEAR_MM, 0.0)):
        if not pair.crosses:
            near[pair.first] = min(near.get(pair.first, math.inf), pair.gap_mm)
        elif meet(lying[pair.first], lying[pair.second]):
            across[pair.first] = across.get(pair.first, 0) + 1
        else:
            over[pair.first] = over.get(pair.first, 0) + 1
    found = []
    move = "Move it on the plate, or let it be arranged."
    for k, count in sorted(across.items()):
        text = f"It crosses {_others(count)} on the plate."
        found.append(stood[k].check(Weight.WRONG, text, move))
    for k, count in sorted(over.items()):
        text = f"From above it covers part of {_others(count)}; they share no height."
        mend = "Leave it where it can be taken off after the other, or move it."
        found.append(stood[k].check(Weight.DOUBTFUL, text, mend))
    for k, gap in sorted(near.items()):
        text = f"It stands {gap:.1f} mm from another: less than the gap of {gap_mm:g} mm."
        found.append(stood[k].check(Weight.DOUBTFUL, text, move))
    return found


def _in_turn(lying: Sequence[Lying], needs: Clearance) -> list[Check]:
    """Tell what the head or the rail would touch where one is printed after the other."""
    pairs = [pair for pair in near_pairs(lying, max(needs.head_mm - NEAR_MM, 0.0)) if not pair.crosses]
    high = under_rail([plan.outline.high_mm for plan in lying], needs.rail_mm)
    found = []
    if pairs:
        count = len({k for pair in pairs for k in (pair.first, pair.second)})
        gap = min(pair.gap_mm for pair in pairs)
        text = (
            f"{count} stand as near as {gap:.1f} mm to each other; printed in turn, the head needs "
            f"{needs.head_mm:g} mm."
        )
        mend = "Let the plate be arranged, or print all at once."
        found.append(Check(Weight.WRONG, text, mend, Topic.HANDOFF))
    if high:
        what = "One is" if len(high) == 1 else f"{len(high)} are"
        text = f"{what} higher than {needs.rail_mm:g} mm and others follow: the rail would hit it."
        mend = "Move what is high to a plate of its own, or print all at once."
        found.append(Check(Weight.WRONG, text, mend, Topic.HANDOFF))
    return found


def _others(count: int) -> str:
    return "another" if count == 1 else f"{count} others"


def _past_the_edge(one: Stood, box: Rectangle, plate_mm: tuple[float, float]) -> Check | None:
    """Tell by how much something reaches past the edge, and the smallest move or swing that mends it."""

    def over(box: Rectangle) -> float:
        ends = zip(box.low, box.high, plate_mm, strict=True)
        return max(max(-side / 2 - low, high - side / 2) for low, high, side in ends)

    if over(box) <= EDGE_MM:
        return None
    move = move_onto(box, plate_mm)
    if move is not None:
        place = Place(round(one.x_mm + move[0], 4), round(one.y_mm + move[1], 4), one.swing_deg)
        ways = zip(move, "xy", strict=True)
        mend = f"Move it {' and '.join(f'{abs(by):.1f} mm along {axis}' for by, axis in ways if by)}."
    else:
        swing = swing_that_fits(one.extent.corners, plate_mm)
        if swing is None:
            # What is too large for any place is told of the item itself.
            return None
        place = Place(None, None, swing)
        mend = f"Swing it to {swing:g}°: so it fits." if swing else "Swing it back: so it fits."
    past = {
        what: over(around(corners, one.swing_deg).moved(one.x_mm, one.y_mm))
        for what, corners in one.extent.plans.items()
    }
    named = [what.value for what in Printed if past.get(what, 0.0) > EDGE_MM]
    words = " and ".join(named)
    reach = "reach" if len(named) > 1 or named[0] == Printed.SUPPORTS else "reaches"
    text = f"{words[:1].upper()}{words[1:]} {reach} {over(box):.1f} mm past the edge of the plate."
    return one.check(Weight.WRONG, text, mend, place)

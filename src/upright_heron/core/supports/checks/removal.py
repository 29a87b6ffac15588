"""Ways out: whether a support can be got out again, and whether a tool gets at what holds it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cache

import numpy as np
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ...progress import Progress, silent, tracked
from ...tags import stored
from ..model import Branches, Column
from ..show_side import Shown

Points = NDArray[np.float64]

# Directions looked in at first, and where nothing is seen; those close round the longest sight line.
COARSE, FINE = 128, 1200
CONE, CONE_DEG, AXIS_DEG = 48, 7.0, 3.0
# Bores mostly run along one of these, and even directions miss their middles.
AXES = np.concatenate([np.eye(3), -np.eye(3)])
# Places of one support keep so far off its ends.
INSET_MM = 0.6
# Places of one support, and contacts of one, that are looked from.
PLACES, CONTACTS = 12, 12
# Open in less than this share of all directions it stands in a hole.
NARROW = 0.04
# Directions that point apart like this run through a hole from end to end.
OPPOSITE = -0.94
# A tool grips a support this much below its contact.
BELOW_MM = 0.3
# It is enough if it gets at so many of the contacts.
ENOUGH = 0.5
AROUND = 6
# Ways that a tool is tried along, and how many of them are the most upright ones.
TRIED, STRAIGHT = 24, 4


class Out(StrEnum):
    """How a support comes out."""

    FREE = "comes off freely"
    PUNCH = "can be punched out straight through"
    PIECES = "comes off in pieces"
    TRAPPED = "trapped"


@stored("access")
@dataclass(frozen=True, slots=True)
class Access:
    """How one support is got at.

    Attributes
    ----------
    id : str
    out : Out
        One of ``Out``.
    open_share : float
        Share of all directions in which all of it can leave in one piece.
    tool_share : float
        Share of its contacts that the tool gets at.
    show_mm2 : float
        Its contact area on the show side.
    at_mm : (x, y, z)
        A place of it that is hardest to see.
    """

    id: str
    out: Out
    open_share: float
    tool_share: float
    show_mm2: float
    at_mm: tuple[float, float, float]


@cache
def directions(count: int) -> Points:
    """Directions (count, 3) spread evenly over all, on a golden spiral."""
    k = np.arange(count) + 0.5
    z = 1.0 - 2.0 * k / count
    turn = np.pi * (1.0 + math.sqrt(5.0)) * k
    flat = np.sqrt(1.0 - z**2)
    found: Points = np.column_stack([flat * np.cos(turn), flat * np.sin(turn), z])
    return found


def reach(
    supports: Sequence[Column | Branches],
    part: Tree,
    tool_mm: float,
    shown: Shown | None = None,
    *,
    progress: Progress = silent,
) -> list[Access]:
    """Look for a way out for every support.

    Parameters
    ----------
    supports : sequence of Column or Branches
    part : Tree
        Of the part where it stands.
    tool_mm : float
        Width of the tool.
    shown : Shown, optional
        The show side.
    progress : Progress

    Returns
    -------
    list of Access
        In the order of the supports.

    Notes
    -----
    From places all over a support one looks along straight lines in many directions; other supports and the
    plate do not count, they go first. Where all places are open in one direction it leaves in one piece; if
    only in few, and in opposite ones, it stands in a straight hole. Where a place sees nothing, finer
    directions are tried, at last close round the longest line of sight: bores are narrow.
    """
    return [
        _access(support, part, tool_mm, shown)
        for support in tracked(list(supports), "Looking for ways out", progress)
    ]


def _access(support: Column | Branches, part: Tree, tool_mm: float, shown: Shown | None) -> Access:
    places, contacts = _places(support), _contacts(support)
    ways = np.concatenate([directions(COARSE), AXES])
    open_ = _open(part, places, ways)
    whole, seen = _summed(open_)
    if not whole.any():
        ways, open_ = _closer(part, places, ways, open_)
        whole, seen = _summed(open_)
    leaves: Points = ways[np.flatnonzero(whole)]
    # Finer directions would count more: the share is of the even ones.
    share = float(np.asarray(whole)[:COARSE].mean())
    reached = _tool(part, contacts, tool_mm, ways)
    hardest = places[int(open_.sum(axis=1).argmin())]
    if len(leaves) and share >= NARROW:
        out = Out.FREE
    elif len(leaves) and float((leaves @ leaves.T).min()) < OPPOSITE:
        out = Out.PUNCH
    elif len(leaves):
        out = Out.FREE if reached >= ENOUGH else Out.TRAPPED
    else:
        out = Out.PIECES if seen.all() and reached >= ENOUGH else Out.TRAPPED
    x, y, z = (float(v) for v in hardest)
    on_show = support.contact_mm2 * float(shown.over(contacts).mean()) if shown is not None else 0.0
    return Access(support.id, out, share, reached, on_show, (x, y, z))


def _places(support: Column | Branches) -> Points:
    """Places all over a support."""
    if isinstance(support, Branches):
        every = support.nodes[:, :3].copy()
        # Its ends lie so near to the part that they see along it only.
        low, high = every[:, 2].min() + INSET_MM, every[:, 2].max() - INSET_MM
        if low < high:
            every[:, 2] = np.clip(every[:, 2], low, high)
    else:
        slabs = support.slabs[:: max(1, len(support.slabs) // 4)]
        every = np.concatenate(
            [
                np.column_stack([ring, np.full(len(ring), 0.5 * (slab.low_mm + slab.high_mm))])
                for slab in slabs
                for ring in slab.rings
            ]
        )
    return every[_spread(every, PLACES)]


def _spread(every: Points, count: int) -> NDArray[np.int64]:
    """So many of the points, each the furthest from those before."""
    if len(every) <= count:
        return np.arange(len(every))
    chosen = [int(every[:, 2].argmax())]
    away = np.linalg.norm(every - every[chosen[0]], axis=1)
    while len(chosen) < count:
        chosen.append(int(away.argmax()))
        away = np.minimum(away, np.linalg.norm(every - every[chosen[-1]], axis=1))
    return np.array(sorted(chosen))


def _contacts(support: Column | Branches) -> Points:
    """Places at which it touches the part."""
    if isinstance(support, Branches):
        every = support.nodes[support.tips, :3]
    else:
        top = support.slabs[-1]
        every = np.concatenate(
            [np.column_stack([ring, np.full(len(ring), top.high_mm)]) for ring in top.rings]
        )
    return every[_spread(every, CONTACTS)]


def _open(part: Tree, places: Points, ways: Points) -> NDArray[np.bool_]:
    """Which directions each place sees out in: (places, ways)."""
    start = np.repeat(places, len(ways), axis=0)
    length, _ = part.first_hits(start, np.tile(ways, (len(places), 1)), np.full(len(start), -1))
    return ~np.isfinite(length).reshape(len(places), len(ways))


def _summed(open_: NDArray[np.bool_]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Which ways all places see out in, and which places see out at all."""
    return np.asarray(open_.all(axis=0)), np.asarray(open_.any(axis=1))


def _closer(
    part: Tree, places: Points, ways: Points, open_: NDArray[np.bool_]
) -> tuple[Points, NDArray[np.bool_]]:
    """Look in finer directions from where least is seen, then from everywhere in those that are open."""
    blind = places[[int(open_.sum(axis=1).argmin())]]
    fine = directions(FINE)
    length, _ = part.first_hits(np.repeat(blind, FINE, axis=0), fine, np.full(FINE, -1))
    found = fine[~np.isfinite(length)]
    if not len(found):
        # Bores are narrow: close round the longest lines of sight, one way and the other.
        first = fine[int(length.argmax())]
        behind = np.where(fine @ first < 0, length, 0.0)
        cones = np.concatenate([_cone(first), _cone(fine[int(behind.argmax())])])
        length, _ = part.first_hits(np.repeat(blind, len(cones), axis=0), cones, np.full(len(cones), -1))
        found = cones[~np.isfinite(length)]
    if not len(found):
        return ways, open_
    # The middle of what is open is the axis of a hole; what is open one way may be open the other.
    axis = found[found @ found[0] > 0].sum(axis=0)
    axis /= np.linalg.norm(axis)
    close = _cone(axis, AXIS_DEG)
    level = close * [1.0, 1.0, 0.0]
    level /= np.maximum(np.linalg.norm(level, axis=1), 1e-9)[:, None]
    found = np.concatenate([found[:64], close, level])
    found = np.concatenate([found, -found])
    return np.concatenate([ways, found]), np.hstack([open_, _open(part, places, found)])


def _cone(axis: Points, wide_deg: float = CONE_DEG) -> Points:
    """Directions close round one."""
    side = np.cross(axis, [0.0, 0.0, 1.0] if abs(axis[2]) < 0.9 else [1.0, 0.0, 0.0])
    side /= np.linalg.norm(side)
    other = np.cross(axis, side)
    k = np.arange(CONE)
    wide = np.tan(np.radians(wide_deg) * np.sqrt(k / CONE))
    turn = np.pi * (3.0 - math.sqrt(5.0)) * k
    found = axis + (wide * np.cos(turn))[:, None] * side + (wide * np.sin(turn))[:, None] * other
    result: Points = found / np.linalg.norm(found, axis=1)[:, None]
    return result


def _tool(part: Tree, contacts: Points, tool_mm: float, ways: Points) -> float:
    """Share of the contacts that a straight tool gets at from outside.

    It gets at one with its middle, or beside a wall with its rim.
    """
    grip = contacts - np.array([0.0, 0.0, tool_mm / 2 + BELOW_MM])
    open_ = _open(part, grip, ways)
    # From the side first, for that is how one cuts; and straight in where there is a bore.
    order = np.argsort(np.abs(ways[:, 2]), kind="stable")

    def tried(free: NDArray[np.bool_]) -> Points:
        every: Points = ways[order[free[order]]]
        if len(every) > TRIED:
            every = np.concatenate([every[: TRIED - STRAIGHT], every[-STRAIGHT:]])
        return every

    reached = 0
    for place, free in zip(grip, open_, strict=True):
        if _fits(part, place, tool_mm, tried(free)):
            reached += 1
            continue
        turn = 2 * np.pi * np.arange(AROUND) / AROUND
        beside = place + 0.5 * tool_mm * np.column_stack([np.cos(turn), np.sin(turn), np.zeros(AROUND)])
        # From where it would have to stand the contact is to be seen.
        length, _ = part.first_hits(
            np.tile(place, (AROUND, 1)), (beside - place) / (0.5 * tool_mm), np.full(AROUND, -1)
        )
        beside = beside[length > 0.5 * tool_mm]
        reached += any(
            _fits(part, at, tool_mm, tried(own))
            for at, own in zip(beside, _open(part, beside, ways) if len(beside) else (), strict=True)
        )
    return reached / len(grip)


def _fits(part: Tree, place: Points, tool_mm: float, tried: Points) -> bool:
    """Whether a tool fits along one of some ways (k, 3) from a place (3,) outwards."""
    if not len(tried):
        return False
    turn = 2 * np.pi * np.arange(AROUND) / AROUND
    side = np.cross(tried, np.where(np.abs(tried[:, [2]]) < 0.9, [[0.0, 0.0, 1.0]], [[1.0, 0.0, 0.0]]))
    side /= np.linalg.norm(side, axis=1)[:, None]
    other = np.cross(tried, side)
    rim = (
        0.5 * tool_mm * (np.cos(turn)[:, None, None] * side[None] + np.sin(turn)[:, None, None] * other[None])
    )
    start = (place + rim).reshape(-1, 3)
    length, _ = part.first_hits(start, np.tile(tried, (AROUND, 1)), np.full(len(start), -1))
    return bool((~np.isfinite(length)).reshape(AROUND, len(tried)).all(axis=0).any())

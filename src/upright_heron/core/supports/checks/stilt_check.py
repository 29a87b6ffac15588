"""A check of stilts, on their layers and on the part itself: apart from how they were made."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ...layers.layer_components import Pieces, links, pieces
from ...layers.stack import LayerStack
from ...progress import Progress, silent
from ..resin.stilt import Brace, Stilt
from ..support_set import Fault, FaultKind, SupportSet

# A shaft longer than so many times its thickness between braces bends as it is pulled (common practice).
SLENDER = 40.0
# What two pieces share less of only touches.
TOUCH_MM2 = 1e-5
# A point may hang free so far, while it has no more area than this: film and resin bear so little.
FREE_MM, POINT_MM2 = 0.5, 1.0
# Ends of stilts and braces are looked for to this.
NEAR_MM = 0.05
# Axes of shafts are looked at in such steps.
STEP_MM = 0.5
# So many faults of a kind are told by themselves.
MOST_TOLD = 40


def verify_stilts(
    made: SupportSet,
    stack: LayerStack,
    part: Tree,
    *,
    slender: float = SLENDER,
    progress: Progress = silent,
) -> list[Fault]:
    """Check stilts and braces.

    Parameters
    ----------
    made : SupportSet
    stack : LayerStack
        Layers of the part, lifted or not.
    part : Tree
        Of the part where it stands.
    slender : float
        No shaft is longer between braces than so many times its thickness.
    progress : Progress

    Returns
    -------
    list of Fault

    Notes
    -----
    Every piece of every layer, of part and stilts together, has something below it, or something in its own
    layer that has, or lies on the plate. Every stilt touches the part with its tip, and stands on the plate,
    on the part or in the shaft of one that does; on the way its axis is in the part nowhere. Braces end in
    the stilts they are between. No tip bears more than it can, and no shaft more than a tip as thick could.
    """
    stilts = [one for one in made.supports if isinstance(one, Stilt)]
    progress("Checking stilts", 0, 1)
    return [
        *_floating(made, stack),
        *_ends(stilts, part, stilts),
        *_crossing(stilts, part),
        *_loose(made.braces, stilts),
        *_slender(stilts, made.braces, slender),
        *_overloaded(stilts),
    ][: 6 * MOST_TOLD]


def verify_changed(
    made: SupportSet,
    before: SupportSet,
    stack: LayerStack,
    part: Tree,
    *,
    slender: float = SLENDER,
) -> list[Fault]:
    """Check stilts of which some were changed.

    Parameters
    ----------
    made : SupportSet
    before : SupportSet
        As they were, checked.
    stack : LayerStack
        Layers of the part, lifted or not.
    part : Tree
        Of the part where it stands.
    slender : float
        As for ``verify_stilts``.

    Returns
    -------
    list of Fault
        What ``verify_stilts`` finds, which is looked for where something changed: layers round the ends of
        stilts that came, went or run otherwise, and what was found wrong before. Elsewhere a shaft of its own
        takes nothing from what stood, and holds nothing up.
    """
    old, stilts = {one.id: one for one in before.stilts}, list(made.stilts)
    stays = {
        one.id
        for one in stilts
        if one.id in old and (one is old[one.id] or np.array_equal(one.circles, old[one.id].circles))
    }
    changed = [one for one in stilts if one.id not in stays]
    wrong = any(f.kind in (FaultKind.NOT_HELD, FaultKind.CROSSES) for f in before.faults)
    everywhere = wrong or any(_at_an_end(f, before) for f in before.faults)
    # What stands on one that runs otherwise may stand on nothing now.
    suspects = [
        one
        for one in stilts
        if everywhere or one.id not in stays or (one.stands_on and one.stands_on not in stays)
    ]
    spans = _spans([*changed, *(one for one in before.stilts if one.id not in stays)], stack)
    floating = [
        fault
        for fault in before.faults
        if fault.kind is FaultKind.FLOATS
        and not any(low <= fault.at_mm[2] / stack.layer_mm + 1e-6 < high for low, high in spans)
        and not _at_an_end(fault, before)
    ]
    for low, high in spans:
        floating += _floating(made, stack, low, high)
    return [
        *sorted(floating, key=lambda fault: fault.at_mm[2])[:MOST_TOLD],
        *_ends(suspects, part, stilts),
        *_crossing(suspects, part),
        *_loose(made.braces, stilts),
        *_slender(stilts, made.braces, slender),
        *_overloaded(stilts),
    ][: 6 * MOST_TOLD]


def _spans(stilts: Sequence[Stilt], stack: LayerStack) -> list[tuple[int, int]]:
    """Levels, from one to before another, in which the ends of stilts hold something, or are held."""
    h = stack.layer_mm
    found: list[tuple[int, int]] = []
    ends = [(one.circles[-one.cone, 2], one.circles[-1, 2]) for one in stilts]
    ends += [(one.circles[0, 2], one.circles[0, 2]) for one in stilts if one.circles[0, 2] > NEAR_MM]
    for low, high in sorted(ends):
        first, last = max(int(low / h) - 2, 0), int((high + 2 * FREE_MM) / h) + 3
        if found and first <= found[-1][1]:
            found[-1] = found[-1][0], max(found[-1][1], last)
        else:
            found.append((first, last))
    return found


def _at_an_end(fault: Fault, made: SupportSet) -> bool:
    """Whether a fault is about an end of a stilt or of a brace: these are all looked at again."""
    feet = [one.circles[0, :3] for one in made.stilts]
    ends = np.array([*feet, *(end for bar in made.braces for end in bar.ends_mm)]).reshape(-1, 3)
    return bool(len(ends)) and bool((np.abs(ends - fault.at_mm).max(axis=1) <= 1e-9).any())


def _floating(made: SupportSet, stack: LayerStack, first: int = 0, last: int | None = None) -> list[Fault]:
    """What begins in mid-air, going up the layers of part and stilts together.

    Of the levels from ``first``, in which all stands, to before ``last``.
    """
    # What begins in the last of them may be caught further up.
    above = math.floor(FREE_MM / stack.layer_mm + 1e-6) + 1
    both = _together(made.layers, stack, first, None if last is None else last + above)
    if not len(both):
        return []
    found = pieces(both)
    pairs = links(found)
    begins = found.layer > 0
    begins[pairs[:, 0]] = False
    if last is not None:
        begins &= found.layer < last - first
    if not begins.any():
        return []
    by_upper = pairs[np.argsort(pairs[:, 0], kind="stable")]
    by_lower = pairs[np.argsort(pairs[:, 1], kind="stable")]
    seeds = found.layer == 0
    held = _stood(seeds, by_upper)
    told = []
    for piece in np.flatnonzero(begins).tolist():
        if _beside_held(found, piece, held) or _caught(found, piece, by_lower, held):
            seeds[piece] = True
            held = _stood(seeds, by_upper)
            continue
        x, y = (float(v) for v in found.inside_mm[piece])
        z = (first + int(found.layer[piece])) * stack.layer_mm
        words = f"Begins in mid-air at {z:.2f} mm: nothing of the part and no stilt lies below it."
        told.append(Fault(FaultKind.FLOATS, (x, y, z), words))
    return told[:MOST_TOLD]


@njit(cache=True)
def _stood(seeds, pairs):  # type: ignore[no-untyped-def]
    """Which pieces stand on some, by pairs of upper and lower ones in the order of the upper ones."""
    found = seeds.copy()
    for k in range(pairs.shape[0]):
        if found[pairs[k, 1]]:
            found[pairs[k, 0]] = True
    return found


def _caught(found: Pieces, piece: int, pairs: NDArray[np.int64], held: NDArray[np.bool_]) -> bool:
    """Whether a point, while it is still small, comes to a tip beside it within ``FREE_MM``.

    ``pairs`` (K, 2) are upper and lower pieces that share area, by the lower ones.
    """
    here = [piece]
    for _ in range(math.floor(FREE_MM / found.stack.layer_mm + 1e-6)):
        if found.area_mm2[here].sum() > POINT_MM2:
            return False
        first, last = (np.searchsorted(pairs[:, 1], here, side) for side in ("left", "right"))
        above = sorted({up for a, b in zip(first, last, strict=True) for up in pairs[a:b, 0].tolist()})
        if not above:
            return False
        # Something else lies below it there, or meets it in its own layer.
        below = pairs[np.isin(pairs[:, 0], above), 1]
        if held[np.setdiff1d(below, here)].any():
            return True
        if any(_beside_held(found, one, held, by=above) for one in above):
            return True
        here = above
    return False


def _together(one: LayerStack, other: LayerStack, low: int, high: int | None) -> LayerStack:
    """Outlines of two stacks of layers side by side, counted from the plate, from one level to another."""
    h = one.layer_mm
    lift = round(other.base_mm / h)
    total = max(len(one), len(other) + lift)
    total = total if high is None else min(total, high)
    points, starts, layers, rings = [np.zeros((0, 2))], [np.zeros(0, np.int64)], [0], 0
    count = 0
    for level in range(low, total):
        for stack, layer in ((one, level), (other, level - lift)):
            if not 0 <= layer < len(stack):
                continue
            first, last = int(stack.layer_start[layer]), int(stack.layer_start[layer + 1])
            begins = stack.ring_start[first : last + 1]
            points.append(stack.points[begins[0] : begins[-1]])
            starts.append(begins[:-1] - begins[0] + count)
            count += int(begins[-1] - begins[0])
            rings += last - first
        layers.append(rings)
    ring_start = np.concatenate([*starts, [count]]).astype(np.int64)
    nothing = np.zeros(max(total - low, 0))
    return LayerStack(h, low * h, nothing, np.concatenate(points), ring_start, np.array(layers, np.int64), 0)


def _beside_held(found: Pieces, piece: int, held: NDArray[np.bool_], by: Sequence[int] = ()) -> bool:
    """Whether a piece shares area with one of its layer that stands, but for ``by``."""
    layer = int(found.layer[piece])
    x0, y0, x1, y1 = found.boxes[piece]
    own = found.section(piece)
    for other in range(int(found.start[layer]), int(found.start[layer + 1])):
        a0, b0, a1, b1 = found.boxes[other]
        if other == piece or other in by or not held[other] or a0 > x1 or a1 < x0 or b0 > y1 or b1 < y0:
            continue
        if (own ^ found.section(other)).area() > TOUCH_MM2:
            return True
    return False


def _ends(stilts: Sequence[Stilt], part: Tree, every: Sequence[Stilt]) -> list[Fault]:
    """Tips that do not reach the part, and feet that stand neither on it nor in a shaft of ``every``."""
    if not stilts:
        return []
    tops = np.array([one.circles[-1, :3] for one in stilts])
    feet = np.array([one.circles[0, :3] for one in stilts])
    inside = part.winding(np.concatenate([tops, feet])) > 0.5
    near = part.distances(np.concatenate([tops, feet]), 1.0) < NEAR_MM
    reached = inside | near
    named = {one.id: one for one in every}
    told = []
    for k, one in enumerate(stilts):
        if not reached[k]:
            words = f"The tip of {one.reason} does not reach the part."
            told.append(Fault(FaultKind.NOT_HELD, one.touch_mm, words, one.reason))
        stands = reached[len(stilts) + k] or _in_shaft(one, named.get(one.stands_on))
        if one.circles[0, 2] > NEAR_MM and not stands:
            x, y, z = (float(v) for v in one.circles[0, :3])
            told.append(Fault(FaultKind.FLOATS, (x, y, z), f"The stilt of {one.reason} stands on nothing."))
    return told[:MOST_TOLD]


def _in_shaft(one: Stilt, other: Stilt | None) -> bool:
    """Whether a stilt begins, with all of its width, in the shaft of another that stands by itself."""
    if other is None or other.stands_on:
        return False
    x, y, z, radius = (float(v) for v in one.circles[0])
    there = other.circle_at(z)
    return there is not None and math.hypot(there[0] - x, there[1] - y) + radius <= there[2] + 1e-6


def _crossing(stilts: Sequence[Stilt], part: Tree) -> list[Fault]:
    """Stilts that run through the part."""
    places, owner = [], []
    for k, one in enumerate(stilts):
        path = one.circles[1:-1, :3] if one.on_part else one.circles[:-1, :3]
        steps = np.linalg.norm(np.diff(path, axis=0), axis=1)
        length = np.concatenate([[0.0], np.cumsum(steps)])
        # Not at the tip, which lies on the surface.
        at = np.arange(0.0, length[-1] - 0.2, STEP_MM)
        places.append(np.stack([np.interp(at, length, path[:, c]) for c in range(3)], axis=1))
        owner.append(np.full(len(at), k))
    if not places:
        return []
    every, whose = np.concatenate(places), np.concatenate(owner)
    # Between two places there is no surface where one of them is farther from it than they are apart: only
    # the first of such a run is asked for, as the sides of a place cost much more than its distance.
    near = part.distances(every, 1.5 * STEP_MM) <= STEP_MM + 1e-9
    opens = np.ones(len(every), bool)
    opens[1:] = (near[1:] & near[:-1]) | (whose[1:] != whose[:-1])
    inside = part.winding(every[opens]) > 0.5
    within = np.flatnonzero(inside[np.cumsum(opens) - 1])
    told = []
    for k in np.unique(whose[within]).tolist():
        x, y, z = (float(v) for v in every[within[whose[within] == k][0]])
        told.append(
            Fault(FaultKind.CROSSES, (x, y, z), f"The stilt of {stilts[k].reason} runs through the part.")
        )
    return told[:MOST_TOLD]


def _loose(braces: Sequence[Brace], stilts: Sequence[Stilt]) -> list[Fault]:
    """Braces that do not end in the stilts they are between."""
    held = {(k, place) for k, _, place in _held_ends(braces, stilts)}
    ends = [(k, (x, y, z)) for k, bar in enumerate(braces) for x, y, z in bar.ends_mm.tolist()]
    told = [Fault(FaultKind.FLOATS, end[1], "A brace ends in no stilt.") for end in ends if end not in held]
    return told[:MOST_TOLD]


def _held_ends(
    braces: Sequence[Brace], stilts: Sequence[Stilt]
) -> list[tuple[int, str, tuple[float, float, float]]]:
    """Ends of braces, by the number of the brace, that lie in a stilt they are between, with its id."""
    number = {one.id: k for k, one in enumerate(stilts)}
    between = [(k, name) for k, bar in enumerate(braces) for name in bar.between if name in number]
    if not between:
        return []
    begins = np.cumsum([0] + [len(one.circles) for one in stilts]).astype(np.int64)
    ends = np.array([braces[k].ends_mm for k, _ in between])
    of = np.array([number[name] for _, name in between], np.int64)
    lies = _lie_in(np.concatenate([one.circles for one in stilts]), begins, ends, of)
    return [
        (k, name, (x, y, z))
        for (k, name), both, inside in zip(between, ends.tolist(), lies.tolist(), strict=True)
        for (x, y, z), within in zip(both, inside, strict=True)
        if within
    ]


@njit(cache=True)
def _lie_in(rows, begins, ends, of):  # type: ignore[no-untyped-def]
    """Which ends (n, 2, 3) of bars lie in the stilts ``of`` (n,) which they are: (n, 2).

    Circles ``rows`` (r, 4) of all stilts are told from below, those of each from where it ``begins``.
    """
    found = np.zeros((ends.shape[0], 2), np.bool_)
    for n in range(ends.shape[0]):
        lo, hi = begins[of[n]], begins[of[n] + 1]
        for k in range(2):
            x, y, z = ends[n, k]
            if z < rows[lo, 2] or z > rows[hi - 1, 2]:
                continue
            row = lo + 1
            while row < hi - 1 and rows[row, 2] < z:
                row += 1
            rise = rows[row, 2] - rows[row - 1, 2]
            share = min((z - rows[row - 1, 2]) / rise, 1.0) if rise > 0 else 1.0
            u = rows[row - 1, 0] + share * (rows[row, 0] - rows[row - 1, 0])
            v = rows[row - 1, 1] + share * (rows[row, 1] - rows[row - 1, 1])
            wide = rows[row - 1, 3] + share * (rows[row, 3] - rows[row - 1, 3])
            found[n, k] = math.hypot(u - x, v - y) < wide
    return found


def held_at_mm(stilts: Sequence[Stilt], braces: Sequence[Brace]) -> list[list[float]]:
    """Heights of the ends of each stilt, of its braces and of what stands on it, from below, mm."""
    held: dict[str, list[float]] = {one.id: [] for one in stilts}
    named = {one.id: one for one in stilts}
    for one in stilts:
        # What stands on a shaft, and holds on to the part, holds the shaft as well.
        if _in_shaft(one, named.get(one.stands_on)):
            held[one.stands_on].append(float(one.circles[0, 2]))
    for _, name, (_, _, z) in _held_ends(braces, stilts):
        held[name].append(z)
    found: list[list[float]] = []
    for one in stilts:
        heights = sorted([float(one.circles[0, 2]), *held[one.id], float(one.circles[-1, 2])])
        found.append(heights)
    return found


def unbraced_mm(stilts: Sequence[Stilt], braces: Sequence[Brace]) -> list[float]:
    """Longest run of each stilt between its ends, its braces and what stands on it, mm."""
    return [max(high - low for low, high in pairwise(heights)) for heights in held_at_mm(stilts, braces)]


def _slender(stilts: Sequence[Stilt], braces: Sequence[Brace], slender: float) -> list[Fault]:
    """Shafts that are too long for their thickness between what holds them."""
    told = []
    for one, longest in zip(stilts, unbraced_mm(stilts, braces), strict=True):
        if longest > slender * one.shaft_mm:
            thick = f"{one.shaft_mm:.2g} mm thick"
            words = f"The stilt of {one.reason} runs {longest:.0f} mm without a brace, {thick}."
            told.append(Fault(FaultKind.SLENDER, one.touch_mm, words))
    return told[:MOST_TOLD]


def _overloaded(stilts: Sequence[Stilt]) -> list[Fault]:
    """Tips that bear more than they can, the weakest first, and shafts that bear too many."""
    over = sorted((one for one in stilts if one.overloaded), key=lambda one: one.bears_n / one.load_n)
    told = [(one, f"The tip of {one.reason} {_bears(one.load_n, one.bears_n)}.") for one in over]
    through = {one.id: one.load_n for one in stilts}
    for one in stilts:
        if one.stands_on in through:
            through[one.stands_on] += one.load_n
    carrying = {one.stands_on for one in stilts}
    for one in (one for one in stilts if one.id in carrying):
        # What a tip can bear goes by its area; a shaft that others stand on has so much more.
        bears = one.bears_n * (one.shaft_mm / one.tip_mm) ** 2
        if through[one.id] > bears * (1 + 1e-9):
            told.append((one, f"The shaft of {one.reason} {_bears(through[one.id], bears)}."))
    return [Fault(FaultKind.OVERLOADED, one.touch_mm, words) for one, words in told[:MOST_TOLD]]


def _bears(load_n: float, bears_n: float) -> str:
    return f"bears about {load_n:.1f} N, and can bear {bears_n:.1f} (guesses)"

"""Beads along the middle of places that are too thin for walls of whole lines.

A place of the outline and the one opposite it touch one circle that lies between them: its centre is on the
middle, its diameter is how thick the part is there. Beads of that width follow the centres (adaptive width,
after Kuipers et al. 2020, Computer-Aided Design 128); the middle itself is found by samples of the outline.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..layers.stack import packed
from .beads import Chain, Kind
from .middles import STEP_MM, middles, ray, ray_beads, samples, thinned

# Up to so many lines thick a place has one bead, and two above.
ONE_BEAD = 1.6
# Nothing thinner than this share of a line is printed.
LEAST_SHARE = 0.3
# Runs shorter than so many lines are specks.
SPECK = 0.6
# Places of a bead are left out as long as it does not move by more than this, nor by this share of its width.
OFF_MM, OFF_SHARE = 0.01, 0.01
# A round end stops so many radii before walls that lie across its way.
BESIDE = 0.5
# And so many before the side of another bead.
CLOSE = 0.7
# What is nearly as thick as walls of whole lines ends beside them.
NEARLY = 0.85
# A stretch is brief with fewer lines than these.
BRIEF = 2.5
# Runs whose ends are so near to each other are one where they go on straight: a cosine.
JOIN_MM, STRAIGHT = 0.4, 0.8


Rings = tuple[NDArray[np.float64], NDArray[np.int64]]


@dataclass(frozen=True, slots=True)
class Thin:
    """A region that is thin in places.

    Attributes
    ----------
    outline : (P, 2) and (R + 1,)
        Corners of its outlines, mm, outer ones counter-clockwise, holes clockwise, and where each begins.
    broad : likewise
        What of it has walls of whole lines.
    line_mm : float
        Width of a line.
    """

    outline: Rings
    broad: Rings
    line_mm: float


def thin_beads(region: Thin, boxes: NDArray[np.float64], thick_mm: float) -> list[Chain]:
    """Make beads where a region is thinner than asked.

    Parameters
    ----------
    region : Thin
    boxes : (k, 4) float64, mm
        Only places of the outline in these boxes are looked at: x, y of the lower and of the upper corner.
    thick_mm : float
        Where the region is as thick as this it has walls of whole lines.

    Returns
    -------
    list of Chain
        Of kind ``Kind.THIN``.
    """
    places, normals, ring, first = samples(*region.outline, STEP_MM)
    if not len(places):
        return []
    centre, radius, outward, run_start, closed = middles(
        places, normals, ring, first, np.ascontiguousarray(boxes), 0.5 * thick_mm, *region.broad
    )
    runs: list[_Run] = []
    middle = np.column_stack([centre, radius, outward])
    for rows, whole in _joined(middle, run_start, closed):
        # All of it round one place: a pin, which has no middle to follow.
        if np.ptp(rows[:, :2], axis=0).max() < SPECK * region.line_mm:
            continue
        runs += _runs_of(rows[:, :2], rows[:, 2], rows[:, 3:], whole, region.line_mm)
    others = packed([run.line for run in runs])
    halves = np.concatenate([0.5 * run.width for run in runs]) if runs else np.zeros(0)
    chains: list[Chain] = []
    for k, run in enumerate(runs):
        line, width = _reaching(run, region, thick_mm, (*others, halves, k))
        if len(line) < 2:
            continue
        off = min(OFF_MM, OFF_SHARE * float(width.mean()))
        keep = thinned(np.ascontiguousarray(line), np.ascontiguousarray(width), off)
        line, width = np.ascontiguousarray(line[keep]), np.ascontiguousarray(width[keep])
        if np.hypot(*np.diff(line, axis=0).T).sum() > SPECK * region.line_mm:
            chains.append(Chain(line, width, Kind.THIN))
    return chains


def _joined(
    middle: NDArray[np.float64], run_start: NDArray[np.int64], closed: NDArray[np.bool_]
) -> list[tuple[NDArray[np.float64], bool]]:
    """Runs (k, 5) of the middle that go on straight where others end, as one; and whether each is closed."""
    parts = [middle[a:b] for a, b in pairwise(run_start.tolist())]
    whole = [(part, True) for part, shut in zip(parts, closed, strict=True) if shut]
    runs = [part for part, shut in zip(parts, closed, strict=True) if not shut and len(part) > 1]
    mate = _mates(runs)
    left = set(range(len(runs)))
    joined: list[NDArray[np.float64]] = []
    while left:
        # From an end that goes on to none; rings of runs are begun anywhere.
        begin = next((e for e in (2 * k + side for k in left for side in (0, 1)) if e not in mate), None)
        end = 2 * next(iter(left)) if begin is None else begin
        rows = []
        while end // 2 in left:
            left.remove(end // 2)
            run = runs[end // 2]
            rows.append(run if end % 2 == 0 else run[::-1])
            end = mate.get(end ^ 1, end)
        joined.append(np.concatenate(rows))
    return whole + [(one, False) for one in joined]


def _mates(runs: list[NDArray[np.float64]]) -> dict[int, int]:
    """Ends of runs (k, 5) that go on straight into each other: 2 n and 2 n + 1 are those of run n."""
    if len(runs) < 2:
        return {}
    at = np.array([run[k, :2] for run in runs for k in (0, -1)])
    back = np.array([run[k, :2] for run in runs for k in (min(5, len(run) - 1), -min(6, len(run)))])
    out = at - back
    out /= np.maximum(np.hypot(*out.T), 1e-12)[:, None]
    one, other = np.array(sorted(cKDTree(at).query_pairs(JOIN_MM)), np.int64).reshape(-1, 2).T
    fits = (one // 2 != other // 2) & ((out[one] * out[other]).sum(axis=1) < -STRAIGHT)
    one, other = one[fits], other[fits]
    mate: dict[int, int] = {}
    for k in np.argsort(np.hypot(*(at[one] - at[other]).T), kind="stable").tolist():
        a, b = int(one[k]), int(other[k])
        if a not in mate and b not in mate:
            mate[a], mate[b] = b, a
    return mate


class _Run(NamedTuple):
    """One bead: places (k, 2), widths (k,), and what its ends do: they reach out, or give way to others."""

    line: NDArray[np.float64]
    width: NDArray[np.float64]
    reach: tuple[bool, bool]
    give: tuple[bool, bool]
    thick: NDArray[np.float64]


def _runs_of(
    centre: NDArray[np.float64],
    radius: NDArray[np.float64],
    outward: NDArray[np.float64],
    closed: bool,
    line_mm: float,
) -> list[_Run]:
    """One bead or two along a run of centres (k, 2) with radii (k,) and directions (k, 2) to its outline."""
    wide = 2 * radius
    last = len(wide)
    # How many beads there are beside each other; what is broader for a moment only stays one.
    count = np.where(wide >= LEAST_SHARE * line_mm, np.where(wide > ONE_BEAD * line_mm, 2, 1), 0)
    for a, b in _alike(count):
        within = (a > 0 and count[a - 1] == 1) and (b < last and count[b] == 1)
        if count[a] == 2 and within and np.hypot(*np.diff(centre[a:b], axis=0).T).sum() < BRIEF * line_mm:
            count[a:b] = 1
    found: list[_Run] = []
    for a, b in _alike(count):
        beads = int(count[a])
        if not beads or b - a < 2:
            continue
        whole = closed and a == 0 and b == last
        reach = (not whole and (a == 0 or not count[a - 1]), not whole and (b == last or not count[b]))
        # One broad bead gives way where it parts in two.
        give = (beads == 1 and a > 0 and count[a - 1] == 2, beads == 1 and b < last and count[b] == 2)
        along, thick = centre[a:b], radius[a:b]
        aside = outward[a:b] * (0.5 * thick)[:, None]
        lines = [(along, 2 * thick)] if beads == 1 else [(along + aside, thick), (along - aside, thick)]
        for line, width in lines:
            if whole:
                line, width = np.concatenate([line, line[:1]]), np.concatenate([width, width[:1]])
            found.append(_Run(line, width, reach, give, 2 * thick))
    return found


def _alike(count: NDArray[np.int64]) -> list[tuple[int, int]]:
    """Where stretches of the same number begin and end."""
    cuts = (np.flatnonzero(np.diff(count)) + 1).tolist()
    return list(zip([0, *cuts], [*cuts, len(count)], strict=True))


Others = tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.float64], int]


def _reaching(
    run: _Run, region: Thin, thick_mm: float, others: Others
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """A line (k, 2) with its widths (k,) whose round ends just reach what is ahead.

    Where that is far, as in a crossing, it goes on by half its width, towards the others that meet there.
    """
    line, width = run.line, run.width
    for turned in (False, True):
        end = 0 if turned else 1
        if not (run.reach[end] or run.give[end]) or len(line) < 2:
            continue
        if turned:
            line, width = line[::-1], width[::-1]
        line, width = np.ascontiguousarray(line), np.ascontiguousarray(width)
        move = -BESIDE * 0.5 * float(width[-1])
        if run.reach[end]:
            beside = run.thick[0 if turned else -1] > NEARLY * thick_mm and _near(region, line[-1], thick_mm)
            move = min(_ahead(line, 0.5 * float(width[-1]), region, others), -move if not beside else move)
        line, width = _moved_end(line, width, move)
        if turned:
            line, width = line[::-1], width[::-1]
    return line, width


def _near(region: Thin, at: NDArray[np.float64], within_mm: float) -> bool:
    """Whether walls of whole lines begin near a place (2,)."""
    corners = region.broad[0]
    return bool(len(corners)) and bool((np.hypot(*(corners - at).T) < within_mm).any())


def _ahead(line: NDArray[np.float64], r: float, region: Thin, others: Others) -> float:
    """By how much the round end, of radius ``r``, of a line (k, 2) may move on; below 0 it must draw back."""
    left = np.hypot(*(line[:-1] - line[-1]).T)
    # Its direction is that of the last stretch of about its own width.
    far = np.flatnonzero(left > 2 * r)
    way = line[-1] - line[int(far[-1]) if len(far) else 0]
    long = float(np.hypot(*way))
    if long < 1e-6:
        return 0.0
    way = way / long
    points, start, halves, own = others
    to_bead = ray_beads(points, start, halves, own, line[-1], way)
    move: float = min(
        ray(*region.outline, line[-1], way) - r,
        ray(*region.broad, line[-1], way) - BESIDE * r,
        to_bead - CLOSE * r,
        r,
    )
    return move


def _moved_end(
    line: NDArray[np.float64], width: NDArray[np.float64], move: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """A line (k, 2) with its widths (k,) whose end went on, or was drawn back along it."""
    if move >= 0:
        way = line[-1] - line[-2]
        way = way / max(float(np.hypot(*way)), 1e-12)
        return np.concatenate([line, [line[-1] + move * way]]), np.append(width, width[-1])
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(line, axis=0).T))])
    end = along[-1] + move
    if end <= 0:
        return line[:0], width[:0]
    keep = along < end
    last = [float(np.interp(end, along, line[:, c])) for c in range(2)]
    return np.concatenate([line[keep], [last]]), np.append(width[keep], np.interp(end, along, width))

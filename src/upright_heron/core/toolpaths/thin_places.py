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
from .middles import STEP_MM, middles, samples
from .run_ends import reached

# Up to so many lines thick a place has one bead, and two above.
ONE_BEAD = 1.6
# Nothing thinner than this share of a line is printed.
LEAST_SHARE = 0.3
# Runs shorter than so many lines are specks.
SPECK = 0.6
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
    if not runs:
        return []
    points, start = packed([run.line for run in runs])
    lines, widths, first = reached(
        points,
        start,
        np.concatenate([run.width for run in runs]),
        np.array([run.reach for run in runs]),
        np.array([run.give for run in runs]),
        np.array([(run.thick[0], run.thick[-1]) for run in runs]),
        region.outline,
        region.broad,
        thick_mm,
        SPECK * region.line_mm,
    )
    return [Chain(lines[a:b], widths[a:b], Kind.THIN) for a, b in pairwise(first.tolist())]


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

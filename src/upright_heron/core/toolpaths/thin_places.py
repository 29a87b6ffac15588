"""Beads along the middle of places that are too thin for walls of whole lines.

A place of the outline and the one opposite it touch one circle that lies between them: its centre is on the
middle, its diameter is how thick the part is there. Beads of that width follow the centres (adaptive width,
after Kuipers et al. 2020, Computer-Aided Design 128); the middle itself is found by samples of the outline.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..layers.stack import packed
from .beads import Chain, Kind

# Samples of an outline lie so far apart, mm.
STEP_MM = 0.08
# Places face each other with normals further apart than this: the cosine of 107 degrees.
FACING = -0.3
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
# So many places round the one opposite are spent with it where a run begins.
AROUND = 4
# Runs whose ends are so near to each other are one where they go on straight: a cosine.
JOIN_MM, STRAIGHT = 0.4, 0.8
# Runs go on while their centres are no further apart, mm.
APART_MM = 0.25


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
    places, normals, ring, first = _samples(*region.outline, STEP_MM)
    if not len(places):
        return []
    centre, radius, outward, run_start, closed = _middles(
        places, normals, ring, first, np.ascontiguousarray(boxes), 0.5 * thick_mm, *region.broad
    )
    runs: list[_Run] = []
    middle = np.column_stack([centre, radius, outward])
    for rows, whole in _joined(middle, run_start, closed):
        runs += _runs_of(rows[:, :2], rows[:, 2], rows[:, 3:], whole, region.line_mm)
    others = packed([run.line for run in runs])
    halves = np.concatenate([0.5 * run.width for run in runs]) if runs else np.zeros(0)
    chains: list[Chain] = []
    for k, run in enumerate(runs):
        line, width = _reaching(run, region, thick_mm, (*others, halves, k))
        if len(line) < 2:
            continue
        off = min(OFF_MM, OFF_SHARE * float(width.mean()))
        keep = _thinned(np.ascontiguousarray(line), np.ascontiguousarray(width), off)
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
    open_ones = [part for part, shut in zip(parts, closed, strict=True) if not shut and len(part) > 1]
    joined: list[NDArray[np.float64]] = []
    while open_ones:
        own = open_ones.pop()
        while (found := _goes_on(own, open_ones)) is not None:
            k, own = found
            open_ones.pop(k)
        joined.append(own)
    return whole + [(one, False) for one in joined]


def _goes_on(
    own: NDArray[np.float64], others: list[NDArray[np.float64]]
) -> tuple[int, NDArray[np.float64]] | None:
    """The run among others that an open one goes on to, and both as one."""
    for k, other in enumerate(others):
        for mine in (own, _turned(own)):
            for theirs in (other, _turned(other)):
                step = theirs[0, :2] - mine[-1, :2]
                if float(np.hypot(*step)) > JOIN_MM:
                    continue
                back, on = mine[-1, :2] - mine[-min(6, len(mine)), :2], theirs[min(5, len(theirs) - 1), :2]
                on = on - theirs[0, :2]
                if float(back @ on) > STRAIGHT * float(np.hypot(*back) * np.hypot(*on)):
                    return k, np.concatenate([mine, theirs])
    return None


def _turned(run: NDArray[np.float64]) -> NDArray[np.float64]:
    """A run (k, 5) the other way."""
    return run[::-1]


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
    to_bead = _ray_beads(points, start, halves, own, line[-1], way)
    move: float = min(
        _ray(*region.outline, line[-1], way) - r,
        _ray(*region.broad, line[-1], way) - BESIDE * r,
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


@njit(cache=True)
def _samples(points, ring_start, step):  # type: ignore[no-untyped-def]
    """Places on outlines (n, 2), normals inwards (n, 2), ring of each (n,), and the first of each ring."""
    rings = ring_start.shape[0] - 1
    total = 0
    for r in range(rings):
        j = ring_start[r + 1] - 1
        for i in range(ring_start[r], ring_start[r + 1]):
            dx, dy = points[i, 0] - points[j, 0], points[i, 1] - points[j, 1]
            total += max(1, math.ceil(math.sqrt(dx * dx + dy * dy) / step))
            j = i
    places, normals = np.empty((total, 2)), np.empty((total, 2))
    ring = np.empty(total, np.int64)
    first = np.zeros(rings + 1, np.int64)
    n = 0
    for r in range(rings):
        first[r] = n
        j = ring_start[r + 1] - 1
        for i in range(ring_start[r], ring_start[r + 1]):
            dx, dy = points[i, 0] - points[j, 0], points[i, 1] - points[j, 1]
            long = math.sqrt(dx * dx + dy * dy)
            if long > 1e-9:
                count = max(1, math.ceil(long / step))
                for k in range(count):
                    t = (k + 0.5) / count
                    places[n, 0], places[n, 1] = points[j, 0] + t * dx, points[j, 1] + t * dy
                    normals[n, 0], normals[n, 1] = -dy / long, dx / long
                    ring[n] = r
                    n += 1
            j = i
    first[rings] = n
    return places[:n], normals[:n], ring[:n], first


@njit(cache=True)
def _middles(places, normals, ring, first, boxes, reach, broad, broad_start):  # type: ignore[no-untyped-def]
    """Runs of centres between opposite places that touch circles smaller than ``reach``.

    Each place of the outline is in one run, with that opposite it; the run of the other side is left out.
    """
    n = places.shape[0]
    cell = 2.0 * reach
    low_x, low_y = places[:, 0].min(), places[:, 1].min()
    columns = int((places[:, 0].max() - low_x) / cell) + 1
    rows = int((places[:, 1].max() - low_y) / cell) + 1
    count = np.zeros(rows * columns + 1, np.int64)
    where = np.empty(n, np.int64)
    for i in range(n):
        c = int((places[i, 0] - low_x) / cell)
        r = int((places[i, 1] - low_y) / cell)
        where[i] = r * columns + c
        count[where[i] + 1] += 1
    for k in range(1, count.shape[0]):
        count[k] += count[k - 1]
    order = np.empty(n, np.int64)
    filled = count.copy()
    for i in range(n):
        order[filled[where[i]]] = i
        filled[where[i]] += 1
    radius = np.full(n, np.inf)
    opposite = np.full(n, -1, np.int64)
    for i in range(n):
        x, y = places[i, 0], places[i, 1]
        meant = False
        for k in range(boxes.shape[0]):
            if boxes[k, 0] <= x <= boxes[k, 2] and boxes[k, 1] <= y <= boxes[k, 3]:
                meant = True
                break
        if not meant:
            continue
        nx, ny = normals[i, 0], normals[i, 1]
        c0, r0 = where[i] % columns, where[i] // columns
        best, at = reach, -1
        for r in range(max(r0 - 1, 0), min(r0 + 2, rows)):
            for c in range(max(c0 - 1, 0), min(c0 + 2, columns)):
                for k in range(count[r * columns + c], count[r * columns + c + 1]):
                    j = order[k]
                    if nx * normals[j, 0] + ny * normals[j, 1] > FACING:
                        continue
                    dx, dy = places[j, 0] - x, places[j, 1] - y
                    along = nx * dx + ny * dy
                    if along <= 1e-9:
                        continue
                    size = (dx * dx + dy * dy) / (2.0 * along)
                    if size < best:
                        best, at = size, j
        # Where walls of whole lines lie, corners of the outline count for nothing.
        if at >= 0 and not _inside(broad, broad_start, x + best * nx, y + best * ny):
            radius[i], opposite[i] = best, at
    # Along each outline, runs of places that are not spent yet.
    spent = np.zeros(n, np.bool_)
    centre, out_radius, aside = np.empty((n, 2)), np.empty(n), np.empty((n, 2))
    run_start = np.zeros(n + 1, np.int64)
    closed = np.zeros(n, np.bool_)
    m = runs = 0
    for r in range(first.shape[0] - 1):
        a, b = first[r], first[r + 1]
        if a == b:
            continue
        # Begin where a run cannot be cut in two.
        begin = a
        whole = True
        for i in range(a, b):
            if opposite[i] < 0 or spent[i]:
                begin, whole = i, False
                break
        i, seen, before = begin, 0, -1
        while seen < b - a:
            if opposite[i] >= 0 and not spent[i]:
                j = opposite[i]
                x = places[i, 0] + radius[i] * normals[i, 0]
                y = places[i, 1] + radius[i] * normals[i, 1]
                if before >= 0:
                    away = math.sqrt((x - centre[m - 1, 0]) ** 2 + (y - centre[m - 1, 1]) ** 2)
                    if away > APART_MM and m > run_start[runs]:
                        runs += 1
                        run_start[runs] = m
                        before = -1
                centre[m, 0], centre[m, 1] = x, y
                aside[m, 0], aside[m, 1] = -normals[i, 0], -normals[i, 1]
                out_radius[m] = radius[i]
                m += 1
                spent[i] = True
                # The other side goes on beside it, unless it is round a corner.
                size, base = first[ring[j] + 1] - first[ring[j]], first[ring[j]]
                steps = AROUND
                back = AROUND
                if before >= 0 and ring[j] == ring[before]:
                    back = (before - j) % size
                    on = (j - before) % size
                    steps, back = (0, back) if back <= on else (on, 0)
                    if max(steps, back) * STEP_MM > 4.0 * reach:
                        steps = back = AROUND
                for s in range(min(steps, size) + 1):
                    spent[base + (j - base - s) % size] = True
                for s in range(min(back, size) + 1):
                    spent[base + (j - base + s) % size] = True
                before = j
            else:
                if m > run_start[runs]:
                    runs += 1
                    run_start[runs] = m
                before = -1
            i = i + 1 if i + 1 < b else a
            seen += 1
        if m > run_start[runs]:
            closed[runs] = whole
            runs += 1
            run_start[runs] = m
    return centre[:m], out_radius[:m], aside[:m], run_start[: runs + 1].copy(), closed[:runs].copy()


@njit(cache=True)
def _ray_beads(points, start, halves, own, at, way):  # type: ignore[no-untyped-def]
    """How far it is from a place along a direction to the side of another bead than ``own``."""
    best = np.inf
    for r in range(start.shape[0] - 1):
        if r == own:
            continue
        for i in range(start[r] + 1, start[r + 1]):
            ex, ey = points[i, 0] - points[i - 1, 0], points[i, 1] - points[i - 1, 1]
            det = way[0] * ey - way[1] * ex
            if abs(det) > 1e-9:
                qx, qy = points[i - 1, 0] - at[0], points[i - 1, 1] - at[1]
                t = (qx * ey - qy * ex) / det
                u = (qx * way[1] - qy * way[0]) / det
                if t > 1e-9 and 0.0 <= u <= 1.0 and t - halves[i] < best:
                    best = t - halves[i]
    return best


@njit(cache=True)
def _inside(points, ring_start, x, y):  # type: ignore[no-untyped-def]
    inside = False
    for r in range(ring_start.shape[0] - 1):
        j = ring_start[r + 1] - 1
        for i in range(ring_start[r], ring_start[r + 1]):
            yi, yj = points[i, 1], points[j, 1]
            if (yi > y) != (yj > y) and x < (points[j, 0] - points[i, 0]) * (y - yi) / (yj - yi) + points[
                i, 0
            ]:
                inside = not inside
            j = i
    return inside


@njit(cache=True)
def _thinned(line, width, off):  # type: ignore[no-untyped-def]
    """Which places of a line (k, 2) stay, so that neither it nor its width moves by more than ``off``."""
    n = line.shape[0]
    keep = np.zeros(n, np.bool_)
    keep[0] = keep[n - 1] = True
    stack = [(0, n - 1)]
    while len(stack):
        a, b = stack.pop()
        if b - a < 2:
            continue
        dx, dy = line[b, 0] - line[a, 0], line[b, 1] - line[a, 1]
        long2 = dx * dx + dy * dy
        worst, at = off, -1
        for k in range(a + 1, b):
            ex, ey = line[k, 0] - line[a, 0], line[k, 1] - line[a, 1]
            t = (ex * dx + ey * dy) / long2 if long2 > 1e-18 else 0.0
            t = min(max(t, 0.0), 1.0)
            away = math.sqrt((ex - t * dx) ** 2 + (ey - t * dy) ** 2)
            away = max(away, abs(width[k] - width[a] - t * (width[b] - width[a])))
            if away > worst:
                worst, at = away, k
        if at >= 0:
            keep[at] = True
            stack.append((a, at))
            stack.append((at, b))
    return keep


@njit(cache=True)
def _ray(points, ring_start, at, way):  # type: ignore[no-untyped-def]
    """How far it is from a place (2,) along a direction (2,) to an outline; infinite where there is none."""
    best = np.inf
    for r in range(ring_start.shape[0] - 1):
        j = ring_start[r + 1] - 1
        for i in range(ring_start[r], ring_start[r + 1]):
            ex, ey = points[i, 0] - points[j, 0], points[i, 1] - points[j, 1]
            det = way[0] * ey - way[1] * ex
            if abs(det) > 1e-12:
                qx, qy = points[j, 0] - at[0], points[j, 1] - at[1]
                t = (qx * ey - qy * ex) / det
                u = (qx * way[1] - qy * way[0]) / det
                if t > 1e-9 and -1e-9 <= u <= 1.0 + 1e-9 and t < best:
                    best = t
            j = i
    return best

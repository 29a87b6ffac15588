"""Outlines of shafts and bars, level by level: which of them may meet, and which were united before."""

from __future__ import annotations

import math

import numpy as np
from numba import njit


@njit(cache=True)
def cuts_of(rows, begins, ends, radius, heights, circle):  # type: ignore[no-untyped-def]
    """Cut stilts and braces by levels.

    Parameters
    ----------
    rows : (r, 4) float64
        X, y, z and radius of the circles of all stilts from below, between which they go straight.
    begins : (s + 1,) int64
        Where those of each stilt begin.
    ends : (b, 2, 3) float64
        Lower and upper end of each brace.
    radius : (b,) float64
    heights : (k,) float64
        Of the levels, mm.
    circle : (SIDES, 2) float64
        Corners of a circle of radius 1.

    Returns
    -------
    (n, 6) float64
        Level by level, of stilts and then of braces, each in their order: the middle, the half width along
        and across, and the direction along, of ellipses. A level cut through a stilt is a circle.
    (n, 4) float64
        Boxes of x0, y0, x1, y1 round their outlines.
    (k + 1,) int64
        Where those of each level begin.
    """
    stilts, total = begins.shape[0] - 1, heights.shape[0]
    count = stilts + ends.shape[0]
    first, last = np.zeros(count, np.int64), np.zeros(count, np.int64)
    start = np.zeros(total + 1, np.int64)
    for k in range(count):
        if k < stilts:
            first[k] = np.searchsorted(heights, rows[begins[k], 2])
            last[k] = np.searchsorted(heights, rows[begins[k + 1] - 1, 2], side="right")
        else:
            first[k] = np.searchsorted(heights, ends[k - stilts, 0, 2])
            last[k] = np.searchsorted(heights, ends[k - stilts, 1, 2])
        for level in range(first[k], last[k]):
            start[level + 1] += 1
    for level in range(total):
        start[level + 1] += start[level]
    put = start[:-1].copy()
    found, boxes = np.empty((start[total], 6)), np.empty((start[total], 4))
    for k in range(count):
        row, u, v, longer = 0, 1.0, 0.0, 1.0
        if k < stilts:
            row = begins[k]
        else:
            a, b = ends[k - stilts, 0], ends[k - stilts, 1]
            flat = math.hypot(b[0] - a[0], b[1] - a[1])
            u, v = (b[0] - a[0]) / max(flat, 1e-12), (b[1] - a[1]) / max(flat, 1e-12)
            longer = math.hypot(flat, b[2] - a[2]) / (b[2] - a[2])
        # Furthest corners of an outline of a half width of 1 across.
        east = north = 0.0
        for c in range(circle.shape[0]):
            east = max(east, longer * circle[c, 0] * u - circle[c, 1] * v)
            north = max(north, longer * circle[c, 0] * v + circle[c, 1] * u)
        for level in range(first[k], last[k]):
            z = heights[level]
            if k < stilts:
                while row + 2 < begins[k + 1] and rows[row + 1, 2] <= z:
                    row += 1
                rise = rows[row + 1, 2] - rows[row, 2]
                share = (z - rows[row, 2]) / rise if rise > 0 else 0.0
                x = rows[row, 0] + share * (rows[row + 1, 0] - rows[row, 0])
                y = rows[row, 1] + share * (rows[row + 1, 1] - rows[row, 1])
                wide = rows[row, 3] + share * (rows[row + 1, 3] - rows[row, 3])
            else:
                a, b = ends[k - stilts, 0], ends[k - stilts, 1]
                share = (z - a[2]) / (b[2] - a[2])
                x, y = a[0] + share * (b[0] - a[0]), a[1] + share * (b[1] - a[1])
                wide = radius[k - stilts]
            n = put[level]
            put[level] += 1
            found[n, 0], found[n, 1], found[n, 2] = x, y, wide * longer
            found[n, 3], found[n, 4], found[n, 5] = wide, u, v
            boxes[n, 0], boxes[n, 1] = x - wide * east, y - wide * north
            boxes[n, 2], boxes[n, 3] = x + wide * east, y + wide * north
    return found, boxes, start


@njit(cache=True)
def outlines_of(cuts, circle):  # type: ignore[no-untyped-def]
    """Outlines (n, SIDES, 2) of ellipses (n, 6), as ``cuts_of`` tells them."""
    found = np.empty((cuts.shape[0], circle.shape[0], 2))
    for n in range(cuts.shape[0]):
        _trace(found, n, cuts[n], circle)
    return found


@njit(cache=True)
def _trace(found, n, cut, circle):  # type: ignore[no-untyped-def]
    """Write the outline of an ellipse."""
    x, y, u, v = cut[0], cut[1], cut[4], cut[5]
    for c in range(circle.shape[0]):
        along, across = cut[2] * circle[c, 0], cut[3] * circle[c, 1]
        found[n, c, 0], found[n, c, 1] = x + along * u - across * v, y + along * v + across * u


@njit(cache=True)
def _within(a, b):  # type: ignore[no-untyped-def]
    """Whether one box lies in another, to a millionth of a millimetre: unions are rounded."""
    off = 1e-6
    return a[0] >= b[0] - off and a[1] >= b[1] - off and a[2] <= b[2] + off and a[3] <= b[3] + off


@njit(cache=True)
def same_levels(cuts, start, cuts_, start_):  # type: ignore[no-untyped-def]
    """In which levels all is as in others.

    Parameters
    ----------
    cuts : (n, 6) float64
    start : (k + 1,) int64
        Where those of each level begin.
    cuts_ : (o, 6) float64
    start_ : (k + 1,) int64
        Of the others.

    Returns
    -------
    (k,) bool
    """
    found = np.zeros(start.shape[0] - 1, np.bool_)
    for level in range(found.shape[0]):
        size = start[level + 1] - start[level]
        same = size == start_[level + 1] - start_[level]
        n = 0
        while same and n < size:
            for c in range(cuts.shape[1]):
                same = same and cuts[start[level] + n, c] == cuts_[start_[level] + n, c]
            n += 1
        found[level] = same
    return found


@njit(cache=True)
def groups(boxes, start, same, group_, start_, group_start_):  # type: ignore[no-untyped-def]
    """Sort outlines into groups that may meet.

    Parameters
    ----------
    boxes : (n, 4) float64
    start : (k + 1,) int64
        Where those of each level begin.
    same : (k,) bool
        Levels in which all is as in others,
    group_ : (o,) int64
    start_ : (k + 1,) int64
    group_start_ : (k + 1,) int64
        and these.

    Returns
    -------
    (n,) int64
        Group of each, numbered from the lowest level up by their first outlines; -1 for one by itself.
    (k + 1,) int64
        Where the groups of each level begin.
    """
    group = np.full(boxes.shape[0], -1, np.int64)
    root = np.arange(boxes.shape[0])
    west, south = boxes[:, 0].copy(), boxes[:, 1].copy()
    east, north = boxes[:, 2].copy(), boxes[:, 3].copy()
    begins = np.zeros(start.shape[0], np.int64)
    count = 0
    for level in range(start.shape[0] - 1):
        lo, hi = start[level], start[level + 1]
        if same[level]:
            for n in range(hi - lo):
                known = group_[start_[level] + n]
                group[lo + n] = -1 if known < 0 else known - group_start_[level] + count
            count += group_start_[level + 1] - group_start_[level]
            begins[level + 1] = count
            continue
        for a in range(lo, hi):
            x0, y0, x1, y1 = west[a], south[a], east[a], north[a]
            for b in range(a + 1, hi):
                # All are asked: to guess the way of a branch costs more.
                if (west[b] <= x1) & (east[b] >= x0) & (south[b] <= y1) & (north[b] >= y0):
                    p, q = a, b
                    while root[p] != p:
                        p = root[p]
                    while root[q] != q:
                        q = root[q]
                    root[max(p, q)] = min(p, q)
                    group[a] = group[b] = 0
        for a in range(lo, hi):
            if group[a] < 0:
                continue
            p = a
            while root[p] != p:
                p = root[p]
            # The first of a group is its root.
            if p == a:
                group[a] = count
                count += 1
            else:
                group[a] = group[p]
        begins[level + 1] = count
    return group, begins


@njit(cache=True)
def alike(cuts, group_start, first, cuts_, group_start_, first_, down):  # type: ignore[no-untyped-def]
    """Find groups that are the same as others.

    Parameters
    ----------
    cuts : (m, 6) float64
        Group by group.
    group_start : (k + 1,) int64
        Where the groups of each level begin.
    first : (g + 1,) int64
        Where the cuts of each group begin.
    cuts_ : (m, 6) float64
    group_start_ : (k + 1,) int64
    first_ : (g + 1,) int64
        Of the others.
    down : int
        They are looked for so many levels further down.

    Returns
    -------
    (g,) int64
        The other group with the same cuts in the same order, or -1.
    """
    found = np.full(first.shape[0] - 1, -1, np.int64)
    for level in range(down, group_start.shape[0] - 1):
        lo, count = group_start_[level - down], group_start_[level - down + 1] - group_start_[level - down]
        for a in range(group_start[level], group_start[level + 1]):
            size = first[a + 1] - first[a]
            for turn in range(count):
                # Most have the same number.
                b = lo + (a - group_start[level] + turn) % count
                same = first_[b + 1] - first_[b] == size
                n = 0
                while same and n < size:
                    p, q = first[a] + n, first_[b] + n
                    for c in range(cuts.shape[1]):
                        same = same and cuts[p, c] == cuts_[q, c]
                    n += 1
                if same:
                    found[a] = b
                    break
    return found


@njit(cache=True)
def rings_of_groups(points, ring_start, layer_start, start, boxes, group_start, first, but):  # type: ignore[no-untyped-def]
    """Tell which rings came of which group.

    Parameters
    ----------
    points : (P, 2) float64
    ring_start : (R + 1,) int64
    layer_start : (k + 1,) int64
        Layers, and where their rings begin and the rings of each: those of groups come first.
    start : (k + 1,) int64
        Where the outlines of each level begin that these were made of.
    boxes : (m, 4) float64
        Group by group.
    group_start : (k + 1,) int64
    first : (g + 1,) int64
        As for ``alike``.

    but : (k,) bool
        Levels that are not asked for.

    Returns
    -------
    (g, 2) int64
        The rings of each group, from one to before another.
    (g,) bool
        They are known for its own.
    """
    rings = np.zeros((first.shape[0] - 1, 2), np.int64)
    count = first.shape[0] - 1
    sure = np.ones(count, np.bool_)
    round_ = np.empty((count, 4))
    for g in range(count):
        round_[g] = boxes[first[g]]
        for n in range(first[g] + 1, first[g + 1]):
            for c in range(2):
                round_[g, c] = min(round_[g, c], boxes[n, c])
                round_[g, c + 2] = max(round_[g, c + 2], boxes[n, c + 2])
    box = np.empty(4)
    for level in range(layer_start.shape[0] - 1):
        lo, hi = group_start[level], group_start[level + 1]
        if lo == hi or but[level]:
            continue
        lone = start[level + 1] - start[level] - (first[hi] - first[lo])
        for r in range(layer_start[level], layer_start[level + 1] - lone):
            box[:2], box[2:] = np.inf, -np.inf
            for p in range(ring_start[r], ring_start[r + 1]):
                for c in range(2):
                    box[c] = min(box[c], points[p, c])
                    box[c + 2] = max(box[c + 2], points[p, c])
            own = -1
            several = False
            for g in range(lo, hi):
                if _within(box, round_[g]):
                    several = several or own >= 0
                    own = g
            if several:
                for g in range(lo, hi):
                    if _within(box, round_[g]):
                        sure[g] = False
            elif own < 0:
                sure[lo:hi] = False
            else:
                if rings[own, 1] == 0:
                    rings[own, 0] = r
                # They lie one after the other.
                elif rings[own, 1] != r:
                    sure[own] = False
                rings[own, 1] = r + 1
    return rings, sure


@njit(cache=True)
def assembled(  # type: ignore[no-untyped-def]
    cuts,
    start,
    group,
    group_start,
    taken,
    ranges,
    points,
    ring_start,
    old_points,
    old_ring_start,
    old_layer_start,
    old_areas,
    old_rings,
    same,
    circle,
):
    """Put the rings of all levels one after the other: those of groups, and then what meets nothing.

    Parameters
    ----------
    cuts : (n, 6) float64
    start : (k + 1,) int64
        As of ``cuts_of``.
    group : (n,) int64
    group_start : (k + 1,) int64
        As of ``groups``.
    taken : (g,) int64
        Group of the old layers whose rings these are; -1 for none.
    ranges : (g, 2) int64
        For those of none: their rings, from one to before another.
    points : (P, 2) float64
    ring_start : (R + 1,) int64
        Corners, and where each of these rings begins.
    old_points : (O, 2) float64
    old_ring_start : (S + 1,) int64
    old_layer_start : (k + 1,) int64
        Old layers, and where their rings begin and the rings of each.
    old_areas : (k,) float64
        Their areas, mm2.
    old_rings : (h, 2) int64
        The rings of each of their groups, from one to before another.
    same : (k,) bool
        Levels that are as they were, all of them.
    circle : (SIDES, 2) float64
        Corners of a circle of radius 1.

    Returns
    -------
    (Q, 2) float64
        Corners.
    (R + 1,) int64
        Where each ring begins.
    (k + 1,) int64
        Where those of each level begin.
    (k,) float64
        Area of each level, mm2.
    """
    total, sides = start.shape[0] - 1, circle.shape[0]
    lone = np.empty((1, sides, 2))
    layer_start, areas = np.zeros(total + 1, np.int64), np.zeros(total)
    found, begins = np.empty((0, 2)), np.zeros(1, np.int64)
    # Once to count, and once to put.
    for turn in range(2):
        at = ring = 0
        for level in range(total):
            if same[level]:
                a, b = old_layer_start[level], old_layer_start[level + 1]
                size = old_ring_start[b] - old_ring_start[a]
                if turn:
                    areas[level] = old_areas[level]
                    found[at : at + size] = old_points[old_ring_start[a] : old_ring_start[b]]
                    for r in range(a, b):
                        begins[ring + 1 + r - a] = at + old_ring_start[r + 1] - old_ring_start[a]
                at += size
                ring += b - a
                layer_start[level + 1] = ring
                continue
            for g in range(group_start[level], group_start[level + 1]):
                source, starts, a, b = points, ring_start, ranges[g, 0], ranges[g, 1]
                if taken[g] >= 0:
                    source, starts = old_points, old_ring_start
                    a, b = old_rings[taken[g], 0], old_rings[taken[g], 1]
                for r in range(a, b):
                    size = starts[r + 1] - starts[r]
                    if turn:
                        areas[level] += _put(found, at, source[starts[r] : starts[r + 1]])
                        begins[ring + 1] = at + size
                    at += size
                    ring += 1
            for n in range(start[level], start[level + 1]):
                if group[n] >= 0:
                    continue
                if turn:
                    _trace(lone, 0, cuts[n], circle)
                    areas[level] += _put(found, at, lone[0])
                    begins[ring + 1] = at + sides
                at += sides
                ring += 1
            layer_start[level + 1] = ring
        if not turn:
            found, begins = np.empty((at, 2)), np.zeros(ring + 1, np.int64)
    return found, begins, layer_start, areas


@njit(cache=True)
def _put(found, at, ring):  # type: ignore[no-untyped-def]
    """Put the corners of a ring (k, 2) where they go; its area, mm2, of a hole less than nothing."""
    twice = 0.0
    for p in range(ring.shape[0]):
        q = p + 1 if p + 1 < ring.shape[0] else 0
        x, y = ring[p, 0] - ring[0, 0], ring[p, 1] - ring[0, 1]
        u, v = ring[q, 0] - ring[0, 0], ring[q, 1] - ring[0, 1]
        twice += x * v - u * y
        found[at + p, 0], found[at + p, 1] = ring[p, 0], ring[p, 1]
    return 0.5 * twice

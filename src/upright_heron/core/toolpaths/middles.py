"""The middle of thin places, by places of the outline and those opposite them: kernels, compiled whole."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from .point_in_rings import hold_all

# Samples of an outline lie so far apart, mm.
STEP_MM = 0.08
# Places face each other with normals further apart than this: the cosine of 107 degrees.
FACING = -0.3
# So many places round the one opposite are spent with it where a run begins.
AROUND = 4
# Runs go on while their centres are no further apart, mm.
APART_MM = 0.25


@njit(cache=True)
def samples(points, ring_start, step):  # type: ignore[no-untyped-def]
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
def middles(places, normals, ring, first, boxes, reach, broad, broad_start):  # type: ignore[no-untyped-def]
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
    # Those of a cell lie beside each other in memory.
    there, facing = places[order], normals[order]
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
                    if nx * facing[k, 0] + ny * facing[k, 1] > FACING:
                        continue
                    dx, dy = there[k, 0] - x, there[k, 1] - y
                    along = nx * dx + ny * dy
                    if along <= 1e-9:
                        continue
                    size = (dx * dx + dy * dy) / (2.0 * along)
                    if size < best:
                        best, at = size, order[k]
        if at >= 0:
            radius[i], opposite[i] = best, at
    # Where walls of whole lines lie, corners of the outline count for nothing.
    met = np.flatnonzero(opposite >= 0)
    between = np.empty((met.shape[0], 2))
    for k in range(met.shape[0]):
        i = met[k]
        between[k, 0] = places[i, 0] + radius[i] * normals[i, 0]
        between[k, 1] = places[i, 1] + radius[i] * normals[i, 1]
    opposite[met[hold_all(broad, broad_start, between)]] = -1
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
def ray_beads(points, start, halves, own, at, way):  # type: ignore[no-untyped-def]
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
def thinned(line, width, off):  # type: ignore[no-untyped-def]
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
def ray(points, ring_start, at, way):  # type: ignore[no-untyped-def]
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

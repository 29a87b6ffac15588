"""Kernels of the raster of distances (``fields``): painting shapes on it and tracing outlines from it.

Samples lie at ``low + pixel * (column, row)``. Shapes come as packed rings, the inside on the left of edges.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

# A scratch sample that no edge has come near.
FAR = np.float32(1e30)
JOIN, CUT = 0, 1


@njit(cache=True)
def with_short_edges(points, ring_start, longest):  # type: ignore[no-untyped-def]
    """Part every edge into stretches no longer than ``longest`` mm: corners (P, 2), ring starts (R + 1,)."""
    count = 0
    for step in range(2):
        if step == 1:
            result = np.empty((count, 2))
            starts = np.zeros_like(ring_start)
        count = 0
        for r in range(ring_start.shape[0] - 1):
            a, b = ring_start[r], ring_start[r + 1]
            for i in range(a, b):
                k = i + 1 if i + 1 < b else a
                dx, dy = points[k, 0] - points[i, 0], points[k, 1] - points[i, 1]
                n = max(1, math.ceil(math.hypot(dx, dy) / longest))
                if step == 1:
                    for m in range(n):
                        result[count + m, 0] = points[i, 0] + dx * m / n
                        result[count + m, 1] = points[i, 1] + dy * m / n
                count += n
            if step == 1:
                starts[r + 1] = count
    return result, starts


@njit(cache=True)
def mark_borders(skip, points, ring_start, others, other_start, beyond):  # type: ignore[no-untyped-def]
    """Mark the edges, each by the number of its end corner, beyond whose middle lies the other shape."""
    first, last = other_start[0], other_start[-1]
    if points.shape[0] == 0 or last <= first:
        return
    # Edges of the other shape by strips of y, so that each middle is tried against a few only.
    y0, y1 = np.inf, -np.inf
    for i in range(first, last):
        y0, y1 = min(y0, others[i, 1]), max(y1, others[i, 1])
    strips = max(1, min(4096, (last - first) // 4))
    height = max((y1 - y0) / strips, 1e-9)
    size = np.zeros(strips + 1, np.int64)
    edges = np.empty((last - first, 2), np.int64)
    n = 0
    for r in range(other_start.shape[0] - 1):
        a, b = other_start[r], other_start[r + 1]
        j = b - 1
        for i in range(a, b):
            edges[n, 0], edges[n, 1] = j, i
            n += 1
            lo = min(strips - 1, int((min(others[i, 1], others[j, 1]) - y0) / height))
            hi = min(strips - 1, int((max(others[i, 1], others[j, 1]) - y0) / height))
            for k in range(lo, hi + 1):
                size[k + 1] += 1
            j = i
    for k in range(strips):
        size[k + 1] += size[k]
    members = np.empty(size[strips], np.int64)
    fill = size[:-1].copy()
    for e in range(n):
        j, i = edges[e, 0], edges[e, 1]
        lo = min(strips - 1, int((min(others[i, 1], others[j, 1]) - y0) / height))
        hi = min(strips - 1, int((max(others[i, 1], others[j, 1]) - y0) / height))
        for k in range(lo, hi + 1):
            members[fill[k]] = e
            fill[k] += 1
    for r in range(ring_start.shape[0] - 1):
        a, b = ring_start[r], ring_start[r + 1]
        j = b - 1
        for i in range(a, b):
            dx, dy = points[i, 0] - points[j, 0], points[i, 1] - points[j, 1]
            length = math.hypot(dx, dy)
            if length > 0.0 and not skip[i]:
                # The inside is on the left of every edge.
                x = 0.5 * (points[i, 0] + points[j, 0]) + beyond * dy / length
                y = 0.5 * (points[i, 1] + points[j, 1]) - beyond * dx / length
                if y0 <= y <= y1:
                    strip = min(strips - 1, int((y - y0) / height))
                    inside = False
                    for m in range(size[strip], size[strip + 1]):
                        p, q = edges[members[m], 0], edges[members[m], 1]
                        if (others[p, 1] > y) != (others[q, 1] > y) and x < (others[q, 0] - others[p, 0]) * (
                            y - others[p, 1]
                        ) / (others[q, 1] - others[p, 1]) + others[p, 0]:
                            inside = not inside
                    skip[i] = inside
            j = i


@njit(cache=True)
def samples_near(rows, columns, points, ring_start, marked, low, px, within):  # type: ignore[no-untyped-def]
    """Find the samples, by their flat number, within so many mm of the marked edges."""
    x0, y0 = low[0], low[1]
    wide = within / px
    found = np.empty(1024, np.int64)
    count = 0
    for r in range(ring_start.shape[0] - 1):
        a, b = ring_start[r], ring_start[r + 1]
        j = b - 1
        for i in range(a, b):
            if marked[i]:
                xa, ya = (points[j, 0] - x0) / px, (points[j, 1] - y0) / px
                dx, dy = (points[i, 0] - x0) / px - xa, (points[i, 1] - y0) / px - ya
                length2 = dx * dx + dy * dy
                for row in range(
                    max(0, math.ceil(min(ya, ya + dy) - wide)),
                    min(rows - 1, math.floor(max(ya, ya + dy) + wide)) + 1,
                ):
                    for col in range(
                        max(0, math.ceil(min(xa, xa + dx) - wide)),
                        min(columns - 1, math.floor(max(xa, xa + dx) + wide)) + 1,
                    ):
                        t = 0.0
                        if length2 > 0.0:
                            t = min(1.0, max(0.0, ((col - xa) * dx + (row - ya) * dy) / length2))
                        ex, ey = col - xa - t * dx, row - ya - t * dy
                        if ex * ex + ey * ey < wide * wide:
                            if count == found.shape[0]:
                                found = np.concatenate((found, np.empty_like(found)))
                            found[count] = row * columns + col
                            count += 1
            j = i
    return np.unique(found[:count])


@njit(cache=True)
def tame(values, samples, px, reach):  # type: ignore[no-untyped-def]
    """Lower distances inside that rise faster than distances can: a skipped outline is near them."""
    columns = values.shape[1]
    for k in range(samples.shape[0]):
        row, col = samples[k] // columns, samples[k] % columns
        if values[row, col] <= 0.0 or row == 0 or col == 0:
            continue
        for y in range(row - 1, min(row + 2, values.shape[0])):
            for x in range(col - 1, min(col + 2, columns)):
                if -reach < values[y, x] < 0.0:
                    away = px if y == row or x == col else 1.4142135623730951 * px
                    values[row, col] = min(values[row, col], max(0.0, values[y, x] + away))


@njit(cache=True)
def row_crossings(points, ring_start, low, high, origin, px):  # type: ignore[no-untyped-def]
    """Find where edges cross the rows from ``low`` to ``high``.

    Answers with where those of each row begin (n + 1,), and with them, in pixels, ordered in each row.
    """
    x0, y0 = origin[0], origin[1]
    start = np.zeros(max(0, high - low + 1) + 1, np.int64)
    at = np.empty(0)
    slot = start[:-1].copy()
    for step in range(2):
        if step == 1:
            for k in range(start.shape[0] - 1):
                start[k + 1] += start[k]
            at = np.empty(start[-1])
            slot = start[:-1].copy()
        for r in range(ring_start.shape[0] - 1):
            a, b = ring_start[r], ring_start[r + 1]
            j = b - 1
            for i in range(a, b):
                ya, yb = (points[j, 1] - y0) / px, (points[i, 1] - y0) / px
                xa, xb = points[j, 0], points[i, 0]
                j = i
                if (ya < low and yb < low) or (ya > high and yb > high):
                    continue
                xa, xb = (xa - x0) / px, (xb - x0) / px
                for row in range(max(low, math.ceil(min(ya, yb))), min(high, math.ceil(max(ya, yb)) - 1) + 1):
                    if step == 0:
                        start[row - low + 1] += 1
                    else:
                        at[slot[row - low]] = xa + (row - ya) * (xb - xa) / (yb - ya)
                        slot[row - low] += 1
    for k in range(start.shape[0] - 1):
        at[start[k] : start[k + 1]].sort()
    return start, at


@njit(cache=True)
def inside(samples, total, columns, points, ring_start, origin, px):  # type: ignore[no-untyped-def]
    """Keep the samples that lie in a shape, by the crossings of its edges with their rows."""
    low, high = total // columns, -1
    for k in range(samples.shape[0]):
        low, high = min(low, samples[k] // columns), max(high, samples[k] // columns)
    size, at = row_crossings(points, ring_start, low, high, origin, px)
    kept = np.empty_like(samples)
    count = 0
    for k in range(samples.shape[0]):
        row, col = samples[k] // columns - low, samples[k] % columns
        if np.searchsorted(at[size[row] : size[row + 1]], col) % 2 == 1:
            kept[count] = samples[k]
            count += 1
    return kept[:count]


@njit(cache=True)
def paint(  # type: ignore[no-untyped-def]
    values, uncut, scratch, points, ring_start, skip, low, px, reach, grow, mode, window
):
    """Join or cut a shape in a window: its first row and column, and those behind its last.

    The scratch is far everywhere, before and after. Edges to skip, each by its end corner, bound nothing.
    """
    columns = values.shape[1]
    top, left, bottom, right = window[0], window[1], window[2], window[3]
    x0, y0 = low[0], low[1]
    band = reach + (abs(grow) if mode == CUT else 0.0)
    wide = band / px
    wide2 = wide * wide
    touched = np.empty(1024, np.int64)
    count = 0
    # Most edges lie aside of a small window.
    west, east = x0 + (left - wide - 1.0) * px, x0 + (right + wide) * px
    south, north = y0 + (top - wide - 1.0) * px, y0 + (bottom + wide) * px
    for r in range(ring_start.shape[0] - 1):
        a, b = ring_start[r], ring_start[r + 1]
        last = b - 1
        for i in range(a, b):
            j = last
            last = i
            ax, ay, bx, by = points[j, 0], points[j, 1], points[i, 0], points[i, 1]
            aside = (ax < west and bx < west) or (ax > east and bx > east)
            if aside or (ay < south and by < south) or (ay > north and by > north):
                continue
            xa, ya = (ax - x0) / px, (ay - y0) / px
            xb, yb = (bx - x0) / px, (by - y0) / px
            dx, dy = xb - xa, yb - ya
            length2 = dx * dx + dy * dy
            scale = 1.0 / length2 if length2 > 0.0 else 0.0
            row0 = max(top, math.ceil(min(ya, yb) - wide))
            row1 = min(bottom - 1, math.floor(max(ya, yb) + wide))
            col0 = max(left, math.ceil(min(xa, xb) - wide))
            col1 = min(right - 1, math.floor(max(xa, xb) + wide))
            if row0 <= row1 and col0 <= col1 and not (skip.shape[0] > 0 and skip[i]):
                for row in range(row0, row1 + 1):
                    lo, hi = col0, col1
                    if dy != 0.0 and length2 > 16.0:
                        # Of a long edge only the samples beside it: its line in this row, and the band.
                        t0, t1 = (row - wide - ya) / dy, (row + wide - ya) / dy
                        if t0 > t1:
                            t0, t1 = t1, t0
                        t0, t1 = max(0.0, min(1.0, t0)), max(0.0, min(1.0, t1))
                        xl, xr = xa + t0 * dx, xa + t1 * dx
                        if xl > xr:
                            xl, xr = xr, xl
                        lo, hi = max(lo, math.ceil(xl - wide)), min(hi, math.floor(xr + wide))
                    for col in range(lo, hi + 1):
                        if mode == CUT and values[row, col] <= -reach:
                            continue  # there is nothing to cut
                        ux, uy = col - xa, row - ya
                        t = (ux * dx + uy * dy) * scale
                        if t < 0.0:
                            t = 0.0
                        elif t > 1.0:
                            t = 1.0
                        ex, ey = ux - t * dx, uy - t * dy
                        d = ex * ex + ey * ey
                        if d < wide2 and d < scratch[row, col]:
                            if scratch[row, col] == FAR:
                                if count == touched.shape[0]:
                                    touched = np.concatenate((touched, np.empty_like(touched)))
                                touched[count] = row * columns + col
                                count += 1
                            scratch[row, col] = d
    crossings, at = row_crossings(points, ring_start, top, bottom - 1, low, px)
    flat = values.ravel()
    near = scratch.ravel()
    deep = uncut.ravel()
    with_deep = deep.shape[0] > 0
    # Samples in the band are set aside, so that the inside can be filled row by row at the speed of memory;
    # which of them the filling covers tells on which side they lie.
    kept = np.empty((count, 2), np.float32)
    fill = -reach if mode == CUT else reach
    for k in range(count):
        p = touched[k]
        kept[k, 0] = flat[p]
        flat[p] = FAR
        if with_deep:
            kept[k, 1] = deep[p]
    for row in range(top, bottom):
        run = at[crossings[row - top] : crossings[row - top + 1]]
        for k in range(0, run.shape[0] - 1, 2):
            lo = row * columns + max(left, math.ceil(run[k]))
            hi = row * columns + min(right, math.ceil(run[k + 1]))
            if lo >= hi:
                continue
            flat[lo:hi] = fill
            if with_deep:
                deep[lo:hi] = fill
    for k in range(count):
        p = touched[k]
        inside = flat[p] != FAR
        s = math.sqrt(near[p]) * px
        near[p] = FAR
        if not inside:
            s = -s
        if mode == CUT:
            s += grow
        s = min(reach, max(-reach, s))
        old = kept[k, 0]
        if mode == JOIN:
            flat[p] = max(old, s)
            if with_deep:
                deep[p] = max(kept[k, 1], s)
        else:
            flat[p] = min(old, -s)
            if with_deep:
                deep[p] = -reach if s > 0.0 else kept[k, 1]


@njit(cache=True)
def drop_thin(values, core, outside, seam, sign, window):  # type: ignore[no-untyped-def]
    """Set samples from ``seam`` to ``core`` to ``outside`` where none beside them is as deep as ``core``.

    All is times ``sign``: below zero it is clefts that are filled. Only in a window, as for ``paint``.
    """
    rows, columns = values.shape
    drop = np.empty(256, np.int64)
    count = 0
    for row in range(max(2, window[0]), min(rows - 2, window[2])):
        for col in range(max(2, window[1]), min(columns - 2, window[3])):
            v = sign * values[row, col]
            if v < seam or v >= core:
                continue
            kept = False
            for y in range(row - 2, row + 3):
                for x in range(col - 2, col + 3):
                    if sign * values[y, x] >= core:
                        kept = True
                        break
                if kept:
                    break
            if not kept:
                if count == drop.shape[0]:
                    drop = np.concatenate((drop, np.empty_like(drop)))
                drop[count] = row * columns + col
                count += 1
    flat = values.ravel()
    for k in range(count):
        flat[drop[k]] = sign * outside


@njit(cache=True)
def near(a, b, tolerance, window):  # type: ignore[no-untyped-def]
    """Whether all samples of two fields in a window differ by no more than a tolerance, mm."""
    for row in range(window[0], window[2]):
        for col in range(window[1], window[3]):
            if abs(a[row, col] - b[row, col]) > tolerance:
                return False
    return True


@njit(cache=True)
def merged(windows):  # type: ignore[no-untyped-def]
    """Join windows (n, 4) of first and last column and row until none shares a sample with another."""
    found = np.empty_like(windows)
    count = 0
    for n in range(windows.shape[0]):
        left, top, right, bottom = windows[n, 0], windows[n, 1], windows[n, 2], windows[n, 3]
        if left >= right or top >= bottom:
            continue
        k = 0
        while k < count:
            apart = found[k, 0] >= right or left >= found[k, 2]
            if apart or found[k, 1] >= bottom or top >= found[k, 3]:
                k += 1
                continue
            left, top = min(left, found[k, 0]), min(top, found[k, 1])
            right, bottom = max(right, found[k, 2]), max(bottom, found[k, 3])
            count -= 1
            found[k] = found[count]
            # Grown, it may meet one that it did not meet before.
            k = 0
        found[count, 0], found[count, 1], found[count, 2], found[count, 3] = left, top, right, bottom
        count += 1
    return found[:count].copy()


@njit(cache=True)
def trace(values, cells, follow, level, low, px):  # type: ignore[no-untyped-def]
    """Link the zero crossings of the raster's lines, cell by cell, to rings with the inside on the left.

    The line between samples (row, col) and (row, col + 1) is number 2 p, that to (row + 1, col) 2 p + 1, with
    p = row * columns + col. ``follow`` holds the line that comes after each, -1 everywhere before and after.
    """
    columns = values.shape[1]
    x0, y0 = low[0], low[1]
    begin = np.empty(1024, np.int64)
    n = 0
    for k in range(cells.shape[0]):
        p = cells[k]
        row, col = p // columns, p % columns
        here, above = values[row], values[row + 1]
        a, b = here[col] >= level, here[col + 1] >= level
        d, c = above[col] >= level, above[col + 1] >= level
        south, north, west, east = 2 * p, 2 * (p + columns), 2 * p + 1, 2 * (p + 1) + 1
        if n + 2 > begin.shape[0]:
            begin = np.concatenate((begin, np.empty_like(begin)))
        if a and c and not b and not d:
            # Two opposite samples are inside: joined when the middle of the cell is.
            if here[col] + here[col + 1] + above[col] + above[col + 1] >= 0.0:
                follow[south], follow[north] = east, west
            else:
                follow[south], follow[north] = west, east
            begin[n], begin[n + 1] = south, north
            n += 2
        elif b and d and not a and not c:
            if here[col] + here[col + 1] + above[col] + above[col + 1] >= 0.0:
                follow[west], follow[east] = south, north
            else:
                follow[west], follow[east] = north, south
            begin[n], begin[n + 1] = west, east
            n += 2
        else:
            # With the inside on the left the ring comes in where the cell's rim goes from in to out.
            if a and not b:
                start = south
            elif b and not c:
                start = east
            elif c and not d:
                start = north
            else:
                start = west
            if b and not a:
                follow[start] = south
            elif c and not b:
                follow[start] = east
            elif d and not c:
                follow[start] = north
            else:
                follow[start] = west
            begin[n] = start
            n += 1
    corners = np.empty((n, 2))
    starts = np.zeros(n + 1, np.int64)
    out = 0
    rings = 0
    for k in range(n):
        line = begin[k]
        while follow[line] >= 0:
            p, upright = line // 2, line % 2
            row, col = p // columns, p % columns
            u = values[row, col]
            v = values[row + 1, col] if upright else values[row, col + 1]
            t = 0.5 if u == v else min(1.0, max(0.0, u / (u - v)))
            corners[out, 0] = x0 + px * (col + (0.0 if upright else t))
            corners[out, 1] = y0 + px * (row + (t if upright else 0.0))
            out += 1
            after = follow[line]
            follow[line] = -1
            line = after
        if out > starts[rings]:
            rings += 1
            starts[rings] = out
    return corners, starts[: rings + 1].copy()

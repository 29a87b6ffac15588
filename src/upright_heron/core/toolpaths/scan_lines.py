"""Straight lines across a region, joined along its outline where the way is short: kernels."""

from __future__ import annotations

import math

import numpy as np
from numba import njit


@njit(cache=True)
def crossings(points, ring_start, cos, sin, spacing, offset):  # type: ignore[no-untyped-def]
    """Where lines cross outlines: line, place along it, edge and place on that, each (c,), sorted."""
    total = 0
    line, edge = np.empty(0, np.int64), np.empty(0, np.int64)
    along, on = np.empty(0), np.empty(0)
    for step in range(2):
        n = 0
        for r in range(ring_start.shape[0] - 1):
            j = ring_start[r + 1] - 1
            for i in range(ring_start[r], ring_start[r + 1]):
                va = -points[j, 0] * sin + points[j, 1] * cos
                vb = -points[i, 0] * sin + points[i, 1] * cos
                if va != vb:
                    lo, hi = min(va, vb), max(va, vb)
                    # Half open, so that a corner on a line counts once.
                    k0, k1 = math.ceil((lo - offset) / spacing), math.ceil((hi - offset) / spacing)
                    if step == 1:
                        ua = points[j, 0] * cos + points[j, 1] * sin
                        ub = points[i, 0] * cos + points[i, 1] * sin
                        for k in range(k0, k1):
                            t = (offset + k * spacing - va) / (vb - va)
                            line[n], along[n] = k, ua + t * (ub - ua)
                            edge[n], on[n] = i, t
                            n += 1
                    else:
                        n += k1 - k0
                j = i
        if step == 0:
            total = n
            line, edge = np.empty(total, np.int64), np.empty(total, np.int64)
            along, on = np.empty(total), np.empty(total)
    if total == 0:
        return line, along, edge, on
    low = line.min()
    counts = np.zeros(line.max() - low + 2, np.int64)
    for k in range(total):
        counts[line[k] - low + 1] += 1
    for k in range(1, counts.shape[0]):
        counts[k] += counts[k - 1]
    order = np.empty(total, np.int64)
    filled = counts.copy()
    for k in range(total):
        order[filled[line[k] - low]] = k
        filled[line[k] - low] += 1
    for k in range(counts.shape[0] - 1):
        a, b = counts[k], counts[k + 1]
        for x in range(a + 1, b):
            now, y = order[x], x - 1
            while y >= a and along[order[y]] > along[now]:
                order[y + 1] = order[y]
                y -= 1
            order[y + 1] = now
    return line[order], along[order], edge[order], on[order]


@njit(cache=True)
def _root(parent, k):  # type: ignore[no-untyped-def]
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k


@njit(cache=True)
def lines_across(points, ring_start, angle, spacing, offset, reach, most_apart):  # type: ignore[no-untyped-def]
    """Lines at an angle across a region, joined along its outline over no more than ``reach``.

    Ends are joined of lines that are no more than ``most_apart`` lines from each other. Returns corners
    (P, 2), where each chain begins (N + 1,), and the length of all links.
    """
    cos, sin = math.cos(angle), math.sin(angle)
    line, along, edge, on = crossings(points, ring_start, cos, sin, spacing, offset)
    ends = line.shape[0] - line.shape[0] % 2
    # Length along the outline up to each corner, and the ring of each.
    total = points.shape[0]
    upto = np.zeros(total)
    ring = np.empty(total, np.int64)
    girth = np.zeros(ring_start.shape[0] - 1)
    for r in range(ring_start.shape[0] - 1):
        run = 0.0
        j = ring_start[r + 1] - 1
        for i in range(ring_start[r], ring_start[r + 1]):
            run += math.sqrt((points[i, 0] - points[j, 0]) ** 2 + (points[i, 1] - points[j, 1]) ** 2)
            upto[i] = run
            ring[i] = r
            j = i
        girth[r] = run
    # Ends by the rings they lie on and the way along these.
    key = np.empty(ends)
    for e in range(ends):
        i = edge[e]
        first = ring_start[ring[i]]
        before = upto[i - 1] if i > first else 0.0
        key[e] = before + on[e] * (upto[i] - before)
    base = 0.0
    for r in range(girth.shape[0]):
        girth_r = girth[r]
        girth[r] = base
        base += girth_r + 1.0
    sorting = np.empty(ends)
    for e in range(ends):
        sorting[e] = girth[ring[edge[e]]] + key[e]
    order = np.argsort(sorting)
    mate = np.full(ends, -1, np.int64)
    parent = np.arange(ends // 2)
    for q in range(ends):
        e = order[q]
        if q + 1 == ends:
            break
        f = order[q + 1]
        if mate[e] >= 0 or mate[f] >= 0 or ring[edge[e]] != ring[edge[f]]:
            continue
        if abs(line[e] - line[f]) > most_apart or key[f] - key[e] > reach:
            continue
        a, b = _root(parent, e // 2), _root(parent, f // 2)
        if a == b:
            continue
        parent[a] = b
        mate[e], mate[f] = f, e
    links = 0.0
    out = np.empty((2 * ends + total + 4, 2))
    start = np.zeros(ends // 2 + 2, np.int64)
    done = np.zeros(ends // 2, np.bool_)
    n = chains = 0
    for s in range(ends):
        if mate[s] >= 0 or done[s // 2]:
            continue
        e = s
        while True:
            done[e // 2] = True
            other = e ^ 1
            for end in (e, other):
                if n + 2 >= out.shape[0]:
                    out = np.concatenate((out, np.empty_like(out)))
                v = offset + line[end] * spacing
                out[n, 0] = along[end] * cos - v * sin
                out[n, 1] = along[end] * sin + v * cos
                n += 1
            f = mate[other]
            if f < 0:
                break
            links += abs(key[f] - key[other])
            # The corners of the outline between both.
            if key[other] < key[f]:
                i = edge[other]
                while i != edge[f]:
                    if n + 2 >= out.shape[0]:
                        out = np.concatenate((out, np.empty_like(out)))
                    out[n] = points[i]
                    n += 1
                    i += 1
            else:
                i = edge[other]
                while i != edge[f]:
                    i -= 1
                    if n + 2 >= out.shape[0]:
                        out = np.concatenate((out, np.empty_like(out)))
                    out[n] = points[i]
                    n += 1
            e = f
        chains += 1
        start[chains] = n
    return out[:n].copy(), start[: chains + 1].copy(), links


@njit(cache=True)
def clipped(points, ring_start, chain, chain_start, least):  # type: ignore[no-untyped-def]
    """What of chains lies in a region: corners (P, 2) and where each piece begins; none too short."""
    low = np.inf
    high = -np.inf
    for i in range(points.shape[0]):
        low, high = min(low, points[i, 1]), max(high, points[i, 1])
    rows = max(1, min(512, points.shape[0]))
    tall = max((high - low) / rows, 1e-9)
    # Edges by the rows of the region that they reach into.
    count = np.zeros(rows + 1, np.int64)
    among = np.empty((0, 4))
    filled = count
    for step in range(2):
        if step == 1:
            for k in range(1, rows + 1):
                count[k] += count[k - 1]
            among = np.empty((count[rows], 4))
            filled = count.copy()
        for r in range(ring_start.shape[0] - 1):
            j = ring_start[r + 1] - 1
            for i in range(ring_start[r], ring_start[r + 1]):
                a = min(int((min(points[i, 1], points[j, 1]) - low) / tall), rows - 1)
                b = min(int((max(points[i, 1], points[j, 1]) - low) / tall), rows - 1)
                for k in range(a, b + 1):
                    if step == 0:
                        count[k + 1] += 1
                    else:
                        among[filled[k]] = (points[j, 0], points[j, 1], points[i, 0], points[i, 1])
                        filled[k] += 1
                j = i
    out = np.empty((chain.shape[0] + 1024, 2))
    start = np.zeros(1024, np.int64)
    n = pieces = 0
    cuts = np.empty(256)
    for c in range(chain_start.shape[0] - 1):
        begin, finish = chain_start[c], chain_start[c + 1]
        if finish - begin < 2:
            continue
        inside = _inside_rows(among, count, low, tall, rows, chain[begin, 0], chain[begin, 1])
        opened = n
        if inside:
            if n + 4 >= out.shape[0]:
                out = np.concatenate((out, np.empty_like(out)))
            out[n] = chain[begin]
            n += 1
        for p in range(begin + 1, finish):
            ax, ay, bx, by = chain[p - 1, 0], chain[p - 1, 1], chain[p, 0], chain[p, 1]
            m = 0
            # A little more than its own rows, so that none is missed by rounding.
            ka = max(math.floor((min(ay, by) - low) / tall - 1e-6), 0)
            kb = min(math.floor((max(ay, by) - low) / tall + 1e-6), rows - 1)
            for k in range(ka, kb + 1):
                for q in range(count[k], count[k + 1]):
                    cx, cy, dx, dy = among[q, 0], among[q, 1], among[q, 2], among[q, 3]
                    s1 = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
                    s2 = (bx - ax) * (dy - ay) - (by - ay) * (dx - ax)
                    if (s1 > 0) == (s2 > 0):
                        continue
                    s3 = (dx - cx) * (ay - cy) - (dy - cy) * (ax - cx)
                    s4 = (dx - cx) * (by - cy) - (dy - cy) * (bx - cx)
                    if (s3 > 0) == (s4 > 0):
                        continue
                    # What reaches into many rows counts in the first that both do.
                    first = min(int((min(cy, dy) - low) / tall), rows - 1)
                    if k == max(ka, first) and m < cuts.shape[0]:
                        cuts[m] = s3 / (s3 - s4)
                        m += 1
            if m > 1:
                cuts[:m].sort()
            for q in range(m):
                if n + 4 >= out.shape[0]:
                    out = np.concatenate((out, np.empty_like(out)))
                out[n, 0], out[n, 1] = ax + cuts[q] * (bx - ax), ay + cuts[q] * (by - ay)
                n += 1
                if inside:
                    n, pieces, start = _closed(out, start, opened, n, pieces, least)
                opened = opened if not inside else n
                if not inside:
                    opened = n - 1
                inside = not inside
            if inside:
                if n + 4 >= out.shape[0]:
                    out = np.concatenate((out, np.empty_like(out)))
                out[n] = chain[p]
                n += 1
        if inside:
            n, pieces, start = _closed(out, start, opened, n, pieces, least)
        else:
            n = start[pieces]
    return out[:n].copy(), start[: pieces + 1].copy()


@njit(cache=True)
def _closed(out, start, opened, n, pieces, least):  # type: ignore[no-untyped-def]
    """End a piece, unless it is too short."""
    long = 0.0
    for k in range(opened + 1, n):
        long += math.sqrt((out[k, 0] - out[k - 1, 0]) ** 2 + (out[k, 1] - out[k - 1, 1]) ** 2)
    if n - opened < 2 or long < least:
        return opened, pieces, start
    pieces += 1
    if pieces >= start.shape[0]:
        start = np.concatenate((start, np.zeros_like(start)))
    start[pieces] = n
    return n, pieces, start


@njit(cache=True)
def _inside_rows(among, count, low, tall, rows, x, y):  # type: ignore[no-untyped-def]
    k = math.floor((y - low) / tall)
    if k < 0 or k >= rows:
        return False
    inside = False
    for q in range(count[k], count[k + 1]):
        ax, ay, bx, by = among[q, 0], among[q, 1], among[q, 2], among[q, 3]
        if (ay > y) != (by > y) and x < (bx - ax) * (y - ay) / (by - ay) + ax:
            inside = not inside
    return inside

"""Which pieces of neighbouring layers share area: kernels, compiled whole."""

from __future__ import annotations

import numpy as np
from numba import njit

# A piece is broad with more than this share of what all of a layer reach over.
BROAD = 0.01
# Edges are passed over by so many.
BUNCH = 32


@njit(cache=True)
def _bunches(points, ring_start):  # type: ignore[no-untyped-def]
    """Boxes (k, 4) of every ``BUNCH`` edges, which go to their corners from the ones before."""
    boxes = np.empty((points.shape[0] // BUNCH + 1, 4))
    boxes[:, :2] = np.inf
    boxes[:, 2:] = -np.inf
    for r in range(ring_start.shape[0] - 1):
        j = ring_start[r + 1] - 1
        for i in range(ring_start[r], ring_start[r + 1]):
            b = i // BUNCH
            boxes[b, 0] = min(boxes[b, 0], points[i, 0], points[j, 0])
            boxes[b, 1] = min(boxes[b, 1], points[i, 1], points[j, 1])
            boxes[b, 2] = max(boxes[b, 2], points[i, 0], points[j, 0])
            boxes[b, 3] = max(boxes[b, 3], points[i, 1], points[j, 1])
            j = i
    return boxes


@njit(cache=True)
def _within(points, ring_start, around, bunches, own, x, y):  # type: ignore[no-untyped-def]
    """Whether a place lies in a piece, as ``_in_piece``, where bunches of edges far off are passed over."""
    inside = False
    for r in own:
        if y < around[r, 1] or y > around[r, 3] or x > around[r, 2]:
            continue
        first, i, end = ring_start[r], ring_start[r], ring_start[r + 1]
        while i < end:
            b = i // BUNCH
            last = min((b + 1) * BUNCH, end)
            if y >= bunches[b, 1] and y <= bunches[b, 3] and x <= bunches[b, 2]:
                j = i - 1 if i > first else end - 1
                for k in range(i, last):
                    yi, yj = points[k, 1], points[j, 1]
                    if (yi > y) != (yj > y):
                        at = (points[j, 0] - points[k, 0]) * (y - yi) / (yj - yi) + points[k, 0]
                        if x < at:
                            inside = not inside
                    j = k
            i = last
    return inside


@njit(cache=True)
def _any_corner_in(points, ring_start, around, bunches, own, other, some):  # type: ignore[no-untyped-def]
    """Whether one of so many corners of each ring of a piece lies in another."""
    for r in own:
        a, b = ring_start[r], ring_start[r + 1]
        step = max(1, (b - a) // some)
        for i in range(a, b, step):
            if _within(points, ring_start, around, bunches, other, points[i, 0], points[i, 1]):
                return True
    return False


@njit(cache=True)
def _edges_in(points, ring_start, around, bunches, own, x0, y0, x1, y1):  # type: ignore[no-untyped-def]
    edges = np.empty((64, 4))
    n = 0
    for r in own:
        if around[r, 0] > x1 or around[r, 2] < x0 or around[r, 1] > y1 or around[r, 3] < y0:
            continue
        first, i, end = ring_start[r], ring_start[r], ring_start[r + 1]
        while i < end:
            b = i // BUNCH
            last = min((b + 1) * BUNCH, end)
            near = bunches[b, 0] <= x1 and bunches[b, 2] >= x0 and bunches[b, 1] <= y1 and bunches[b, 3] >= y0
            for k in range(i, last if near else i):
                j = k - 1 if k > first else end - 1
                ax, ay, bx, by = points[j, 0], points[j, 1], points[k, 0], points[k, 1]
                if max(ax, bx) < x0 or min(ax, bx) > x1 or max(ay, by) < y0 or min(ay, by) > y1:
                    continue
                if n == edges.shape[0]:
                    edges = np.concatenate((edges, np.empty_like(edges)))
                edges[n, 0], edges[n, 1], edges[n, 2], edges[n, 3] = ax, ay, bx, by
                n += 1
            i = last
    return edges[:n]


@njit(cache=True)
def _outlines_meet(points, ring_start, around, bunches, own, other, box, other_box):  # type: ignore[no-untyped-def]
    """Whether two pieces cross or touch: else, with no point of one in the other, they share nothing."""
    x0, x1 = max(box[0], other_box[0]), min(box[2], other_box[2])
    y0, y1 = max(box[1], other_box[1]), min(box[3], other_box[3])
    some = _edges_in(points, ring_start, around, bunches, own, x0, y0, x1, y1)
    others = _edges_in(points, ring_start, around, bunches, other, x0, y0, x1, y1)
    for i in range(some.shape[0]):
        ax, ay, bx, by = some[i, 0], some[i, 1], some[i, 2], some[i, 3]
        for k in range(others.shape[0]):
            cx, cy, dx, dy = others[k, 0], others[k, 1], others[k, 2], others[k, 3]
            if max(ax, bx) < min(cx, dx) or max(cx, dx) < min(ax, bx):
                continue
            if max(ay, by) < min(cy, dy) or max(cy, dy) < min(ay, by):
                continue
            side1 = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            side2 = (bx - ax) * (dy - ay) - (by - ay) * (dx - ax)
            side3 = (dx - cx) * (ay - cy) - (dy - cy) * (ax - cx)
            side4 = (dx - cx) * (by - cy) - (dy - cy) * (bx - cx)
            if side1 * side2 <= 0.0 and side3 * side4 <= 0.0:
                return True
    return False


@njit(cache=True)
def link_kernel(points, ring_start, around, by_piece, first, start, inside, boxes, axis, order):  # type: ignore[no-untyped-def]
    """Pairs that share area for sure, and that may; ``order`` has those of each layer along an axis."""
    layers = start.shape[0] - 1
    sure = np.empty((1024, 2), np.int64)
    unsure = np.empty((256, 2), np.int64)
    n = m = 0
    bunches = _bunches(points, ring_start)
    begins = np.empty(order.shape[0])
    slim, broad = np.empty(order.shape[0], np.int64), np.empty(order.shape[0], np.int64)
    near = np.empty(order.shape[0], np.int64)
    for layer in range(1, layers):
        lo, mid, hi = start[layer - 1], start[layer], start[layer + 1]
        if lo == mid or mid == hi:
            continue
        # Slim ones are looked for by where they begin; what reaches far is looked at every time.
        widest = BROAD * (boxes[order[mid - 1], axis] - boxes[order[lo], axis])
        slims = broads = 0
        for k in range(lo, mid):
            d = order[k]
            if boxes[d, axis + 2] - boxes[d, axis] > widest:
                broad[broads] = d
                broads += 1
            else:
                slim[slims], begins[slims] = d, boxes[d, axis]
                slims += 1
        for u in range(mid, hi):
            count = 0
            a = np.searchsorted(begins[:slims], boxes[u, axis] - widest)
            b = np.searchsorted(begins[:slims], boxes[u, axis + 2])
            for k in range(a, b + broads):
                d = slim[k] if k < b else broad[k - b]
                apart = boxes[d, 2] <= boxes[u, 0] or boxes[u, 2] <= boxes[d, 0]
                if not apart and boxes[u, 1] < boxes[d, 3] and boxes[d, 1] < boxes[u, 3]:
                    near[count] = d
                    count += 1
            upper = by_piece[first[u] : first[u + 1]]
            if count > 1:
                near[:count].sort()
            for d in near[:count]:
                lower = by_piece[first[d] : first[d + 1]]
                meet = False
                linked = _within(
                    points, ring_start, around, bunches, lower, inside[u, 0], inside[u, 1]
                ) or _within(points, ring_start, around, bunches, upper, inside[d, 0], inside[d, 1])
                if not linked:
                    # Where no outlines meet each ring lies in the other piece as a whole, or not at all.
                    meet = _outlines_meet(
                        points, ring_start, around, bunches, upper, lower, boxes[u], boxes[d]
                    )
                    some = 8 if meet else 1
                    # Without holes one would lie in the other, with the place that is known to lie in it.
                    holes = upper.shape[0] > 1 or lower.shape[0] > 1
                    linked = (meet or holes) and (
                        _any_corner_in(points, ring_start, around, bunches, upper, lower, some)
                        or _any_corner_in(points, ring_start, around, bunches, lower, upper, some)
                    )
                if linked:
                    if n == sure.shape[0]:
                        sure = np.concatenate((sure, np.empty_like(sure)))
                    sure[n, 0], sure[n, 1] = u, d
                    n += 1
                elif meet:
                    if m == unsure.shape[0]:
                        unsure = np.concatenate((unsure, np.empty_like(unsure)))
                    unsure[m, 0], unsure[m, 1] = u, d
                    m += 1
    return sure[:n].copy(), unsure[:m].copy()

"""Kernels that look for facets that pass through each other, under a tree of boxes."""

from __future__ import annotations

import math

import numpy as np
from numba import njit


@njit(cache=True)
def leaves_of(count):  # type: ignore[no-untyped-def]
    """Leaves of the tree over so many facets: a power of two."""
    leaves = 1
    while leaves * 4 < count:
        leaves *= 2
    return leaves


@njit(cache=True)
def _pierces(corners, f, g, a, b, slack):  # type: ignore[no-untyped-def]
    """Whether the edge from corner a to b of facet g goes through the inside of facet f."""
    ox, oy, oz = corners[g, a, 0], corners[g, a, 1], corners[g, a, 2]
    dx, dy, dz = corners[g, b, 0] - ox, corners[g, b, 1] - oy, corners[g, b, 2] - oz
    ax, ay, az = corners[f, 0, 0], corners[f, 0, 1], corners[f, 0, 2]
    ux, uy, uz = corners[f, 1, 0] - ax, corners[f, 1, 1] - ay, corners[f, 1, 2] - az
    vx, vy, vz = corners[f, 2, 0] - ax, corners[f, 2, 1] - ay, corners[f, 2, 2] - az
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if length == 0.0:
        return False
    # Edges that only touch the plane do not cross: in files of single precision they touch all the time.
    h0 = (nx * (ox - ax) + ny * (oy - ay) + nz * (oz - az)) / length
    h1 = (nx * (ox + dx - ax) + ny * (oy + dy - ay) + nz * (oz + dz - az)) / length
    if not (h0 > slack and h1 < -slack) and not (h0 < -slack and h1 > slack):
        return False
    t = h0 / (h0 - h1)
    px, py, pz = ox + t * dx - ax, oy + t * dy - ay, oz + t * dz - az
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    pu, pv = px * ux + py * uy + pz * uz, px * vx + py * vy + pz * vz
    det = uu * vv - uv * uv
    if det <= 0.0:
        return False
    s, r = (vv * pu - uv * pv) / det, (uu * pv - uv * pu) / det
    return s > -1e-9 and r > -1e-9 and s + r < 1.0 + 1e-9


@njit(cache=True)
def _cross(corners, ids, f, g, slack):  # type: ignore[no-untyped-def]
    """Whether two facets pass through each other; those that share an edge are not tried."""
    shared = 0
    mine = theirs = 0
    for a in range(3):
        for b in range(3):
            if ids[f, a] == ids[g, b]:
                shared += 1
                mine, theirs = a, b
    if shared > 1:
        return False
    if shared == 1:
        return _pierces(corners, f, g, (theirs + 1) % 3, (theirs + 2) % 3, slack) or _pierces(
            corners, g, f, (mine + 1) % 3, (mine + 2) % 3, slack
        )
    for a in range(3):
        b = (a + 1) % 3
        if _pierces(corners, f, g, a, b, slack) or _pierces(corners, g, f, a, b, slack):
            return True
    return False


@njit(cache=True)
def crossings_of(corners, ids, boxes, limit, slack):  # type: ignore[no-untyped-def]
    """Pairs (k, 2) of facets that cross, up to a limit.

    The box of each leaf is taken down the tree, to the leaves from itself on: a pair is met once.
    """
    m = corners.shape[0]
    leaves = leaves_of(m)
    found = np.empty((limit, 2), np.int64)
    count = 0
    # Nodes under way, with their first leaf and how many there are below them.
    stack = np.empty((128, 3), np.int64)
    lows, highs = np.empty((8, 3)), np.empty((8, 3))
    for leaf in range(leaves):
        begin, end = leaf * m // leaves, (leaf + 1) * m // leaves
        if begin == end:
            continue
        own = boxes[leaves - 1 + leaf]
        for f in range(begin, end):
            for axis in range(3):
                a, b, c = corners[f, 0, axis], corners[f, 1, axis], corners[f, 2, axis]
                lows[f - begin, axis], highs[f - begin, axis] = min(a, b, c), max(a, b, c)
        stack[0, 0], stack[0, 1], stack[0, 2] = 0, 0, leaves
        top = 1
        while top > 0:
            top -= 1
            node, first, span = stack[top, 0], stack[top, 1], stack[top, 2]
            if (
                first + span <= leaf
                or boxes[node, 0] > own[3] or boxes[node, 3] < own[0]
                or boxes[node, 1] > own[4] or boxes[node, 4] < own[1]
                or boxes[node, 2] > own[5] or boxes[node, 5] < own[2]
            ):  # fmt: skip
                continue
            if span > 1:
                half = span // 2
                stack[top, 0], stack[top, 1], stack[top, 2] = 2 * node + 1, first, half
                stack[top + 1, 0], stack[top + 1, 1], stack[top + 1, 2] = 2 * node + 2, first + half, half
                top += 2
                continue
            for f in range(begin, end):
                low, high = lows[f - begin], highs[f - begin]
                if (
                    boxes[node, 0] > high[0] or boxes[node, 3] < low[0]
                    or boxes[node, 1] > high[1] or boxes[node, 4] < low[1]
                    or boxes[node, 2] > high[2] or boxes[node, 5] < low[2]
                ):  # fmt: skip
                    continue
                for g in range(max(f + 1, first * m // leaves), (first + 1) * m // leaves):
                    apart = False
                    for axis in range(3):
                        a, b, c = corners[g, 0, axis], corners[g, 1, axis], corners[g, 2, axis]
                        if min(a, b, c) > high[axis] or max(a, b, c) < low[axis]:
                            apart = True
                            break
                    if not apart and _cross(corners, ids, f, g, slack):
                        found[count, 0], found[count, 1] = f, g
                        count += 1
                        if count == limit:
                            return found
    return found[:count].copy()

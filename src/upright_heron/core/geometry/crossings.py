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
def _may_cross(corners, ids, f, normal, reach, g):  # type: ignore[no-untyped-def]
    """Whether facet g has corners on both sides of the plane of f, and no edge in common with it.

    ``reach`` is the length of the normal times what counts as touching.

    Corners that are those of f do not count. Nearly all pairs that come near each other are neighbours on one
    smooth surface, and end here; so do facets in one plane, that may lie over each other by the thousand.
    """
    above = below = beside = shared = 0
    for c in range(3):
        mine = (ids[g, c] == ids[f, 0]) | (ids[g, c] == ids[f, 1]) | (ids[g, c] == ids[f, 2])
        height = 0.0
        for axis in range(3):
            height += normal[axis] * (corners[g, c, axis] - corners[f, 0, axis])
        shared += mine
        above += (height >= 0.0) & (not mine)
        below += (height <= 0.0) & (not mine)
        beside += (abs(height) > reach) & (not mine)
    return shared < 2 and above > 0 and below > 0 and beside > 0


@njit(cache=True)
def _normal(corners, f):  # type: ignore[no-untyped-def]
    """Normal of a facet, not of unit length."""
    ux, uy, uz = corners[f, 1, 0], corners[f, 1, 1], corners[f, 1, 2]
    vx, vy, vz = corners[f, 2, 0], corners[f, 2, 1], corners[f, 2, 2]
    x, y, z = corners[f, 0, 0], corners[f, 0, 1], corners[f, 0, 2]
    ux, uy, uz, vx, vy, vz = ux - x, uy - y, uz - z, vx - x, vy - y, vz - z
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


@njit(cache=True)
def _rounded_out(box, low, high):  # type: ignore[no-untyped-def]
    """Put a box into single precision so that it holds what it held."""
    for axis in range(3):
        down, up = np.float32(low[axis]), np.float32(high[axis])
        box[axis] = down if down <= low[axis] else np.nextafter(down, np.float32(-np.inf))
        box[3 + axis] = up if up >= high[axis] else np.nextafter(up, np.float32(np.inf))


@njit(cache=True)
def _spans(corners):  # type: ignore[no-untyped-def]
    """Boxes (m, 6) float32 of facets: lowest and highest corner."""
    spans = np.empty((corners.shape[0], 6), np.float32)
    low, high = np.empty(3), np.empty(3)
    for f in range(corners.shape[0]):
        for axis in range(3):
            a, b, c = corners[f, 0, axis], corners[f, 1, axis], corners[f, 2, axis]
            low[axis], high[axis] = min(a, b, c), max(a, b, c)
        _rounded_out(spans[f], low, high)
    return spans


@njit(cache=True)
def _meet(one, a, two, b):  # type: ignore[no-untyped-def]
    """Whether a box of one list and a box of another have a point in common."""
    # Without short cuts: where boxes lie close together, guessing the way of a branch wrongly costs more.
    return (
        (one[a, 0] <= two[b, 3]) & (one[a, 3] >= two[b, 0])
        & (one[a, 1] <= two[b, 4]) & (one[a, 4] >= two[b, 1])
        & (one[a, 2] <= two[b, 5]) & (one[a, 5] >= two[b, 2])
    )  # fmt: skip


@njit(cache=True)
def _level(nodes, a, b):  # type: ignore[no-untyped-def]
    """Whether all of two nodes lies in one plane across an axis: nothing there passes through anything."""
    for axis in range(3):
        at = nodes[a, axis]
        if at == nodes[a, 3 + axis] and at == nodes[b, axis] and at == nodes[b, 3 + axis]:
            return True
    return False


@njit(cache=True)
def crossings_of(corners, ids, boxes, limit, slack):  # type: ignore[no-untyped-def]
    """Pairs (k, 2) of facets that cross, up to a limit.

    The tree is taken down against itself: two nodes whose boxes meet, or one with itself, give way to their
    children, so that what lies apart high up is not met again below. The lowest nodes are left out: facets in
    single precision are tried faster than boxes one by one.
    """
    m = corners.shape[0]
    leaves = max(leaves_of(m) // 2, 1)
    spans = _spans(corners)
    nodes = np.empty((2 * leaves - 1, 6), np.float32)
    for node in range(2 * leaves - 1):
        _rounded_out(nodes[node], boxes[node, :3], boxes[node, 3:])
    found = np.empty((limit, 2), np.int64)
    count = 0
    near = np.empty(m // leaves + 2, np.int64)
    normal = np.empty(3)
    # Pairs of nodes of one depth; a depth leaves three of them behind at most.
    stack = np.zeros((256, 2), np.int64)
    top = 1
    while top > 0:
        top -= 1
        a, b = stack[top, 0], stack[top, 1]
        if _level(nodes, a, b):
            continue
        if a < leaves - 1:
            for one in range(2 * a + 2, 2 * a, -1):
                for two in range(2 * b + 2, (one if a == b else 2 * b + 1) - 1, -1):
                    stack[top, 0], stack[top, 1] = one, two
                    top += _meet(nodes, one, nodes, two)
            continue
        one, two = a - leaves + 1, b - leaves + 1
        some = 0
        for g in range(two * m // leaves, (two + 1) * m // leaves):
            near[some] = g
            some += _meet(spans, g, nodes, a)
        for f in range(one * m // leaves, (one + 1) * m // leaves):
            if not _meet(spans, f, nodes, b):
                continue
            normal[0], normal[1], normal[2] = _normal(corners, f)
            reach = slack * math.sqrt(normal[0] ** 2 + normal[1] ** 2 + normal[2] ** 2)
            for g in near[:some]:
                if (
                    g > f
                    and _meet(spans, f, spans, g)
                    and _may_cross(corners, ids, f, normal, reach, g)
                    and _cross(corners, ids, f, g, slack)
                ):
                    found[count, 0], found[count, 1] = f, g
                    count += 1
                    if count == limit:
                        return found
    return found[:count].copy()

"""Kernels over a lattice: the nearest facet of each node, and steps to the nearest node of a kind."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from ..geometry.tree import squared_distance

# Nodes so many steps from a facet are told of it right away; sweeps carry it on from there.
SEEDED = 1.2


@njit(cache=True)
def seed(corners, low, step, within, facet, away):  # type: ignore[no-untyped-def]
    """Write the nearest facet, and its squared distance, at nodes within right beside facets.

    ``corners`` (m, 3, 3), ``low`` (3,) the place of the first node, ``within``, ``facet`` and ``away``
    (nz, ny, nx). Facets that are larger than a step are gone through in bits.
    """
    nz, ny, nx = within.shape
    lows, highs = np.empty(3), np.empty(3)
    for f in range(corners.shape[0]):
        longest = 0.0
        for c in range(3):
            for axis in range(3):
                longest = max(longest, abs(corners[f, c, axis] - corners[f, (c + 1) % 3, axis]))
        bits = max(1, math.ceil(longest / (2 * step)))
        for i in range(bits):
            for j in range(bits - i):
                for axis in range(3):
                    a = corners[f, 0, axis]
                    u, v = (corners[f, 1, axis] - a) / bits, (corners[f, 2, axis] - a) / bits
                    start = (a + i * u + j * v - low[axis]) / step
                    # Along the long side a bit is a triangle, elsewhere two of them.
                    both = u + v if i + j + 1 < bits else 0.0
                    lows[axis] = start + min(0.0, u, v, both) / step - SEEDED
                    highs[axis] = start + max(0.0, u, v, both) / step + SEEDED
                for z in range(max(0, math.ceil(lows[2])), min(nz - 1, math.floor(highs[2])) + 1):
                    for y in range(max(0, math.ceil(lows[1])), min(ny - 1, math.floor(highs[1])) + 1):
                        for x in range(max(0, math.ceil(lows[0])), min(nx - 1, math.floor(highs[0])) + 1):
                            if not within[z, y, x]:
                                continue
                            d = squared_distance(
                                corners, f, low[0] + x * step, low[1] + y * step, low[2] + z * step
                            )
                            if d < away[z, y, x]:
                                away[z, y, x] = d
                                facet[z, y, x] = f


@njit(cache=True)
def sweep(corners, low, step, within, facet, away, reach):  # type: ignore[no-untyped-def]
    """Pass nearest facets on from node to node in eight sweeps, no further than a depth ``reach``, mm.

    Arrays as for ``seed``. Distances are exact to the facet that is found; that is the nearest but for what
    comes round a corner of the lattice.
    """
    nz, ny, nx = within.shape
    most = reach * reach
    for turn in range(8):
        dz, dy, dx = (1 if turn & 4 else -1), (1 if turn & 2 else -1), (1 if turn & 1 else -1)
        for k in range(nz):
            z = k if dz > 0 else nz - 1 - k
            for i in range(ny):
                y = i if dy > 0 else ny - 1 - i
                for j in range(nx):
                    x = j if dx > 0 else nx - 1 - j
                    if not within[z, y, x]:
                        continue
                    best, own = away[z, y, x], facet[z, y, x]
                    last = own
                    for side in range(1, 8):
                        a = z - dz if side & 4 else z
                        b = y - dy if side & 2 else y
                        c = x - dx if side & 1 else x
                        if a < 0 or a >= nz or b < 0 or b >= ny or c < 0 or c >= nx:
                            continue
                        f = facet[a, b, c]
                        if f < 0 or f in (own, last) or away[a, b, c] > most:
                            continue
                        last = f
                        d = squared_distance(
                            corners, f, low[0] + x * step, low[1] + y * step, low[2] + z * step
                        )
                        if d < best:
                            best, own = d, f
                    away[z, y, x], facet[z, y, x] = best, own


@njit(cache=True)
def squared_steps(core):  # type: ignore[no-untyped-def]
    """Squared distance (nz, ny, nx) of each node from the nearest of a kind, in steps; infinite without any.

    The lower envelope of parabolas along each axis in turn: P. F. Felzenszwalb, D. P. Huttenlocher, "Distance
    transforms of sampled functions", Theory of Computing 8 (2012).
    """
    nz, ny, nx = core.shape
    found = np.empty(core.shape, np.float32)
    longest = max(nz, ny, nx)
    line, out = np.empty(longest), np.empty(longest)
    where, edge = np.empty(longest, np.int64), np.empty(longest + 1)
    for z in range(nz):
        for y in range(ny):
            gap = np.inf
            for x in range(nx):
                gap = 0.0 if core[z, y, x] else gap + 1.0
                found[z, y, x] = gap * gap
            gap = np.inf
            for k in range(nx):
                x = nx - 1 - k
                gap = 0.0 if core[z, y, x] else gap + 1.0
                found[z, y, x] = min(found[z, y, x], gap * gap)
        for x in range(nx):
            for y in range(ny):
                line[y] = found[z, y, x]
            lowest(line, ny, where, edge, out)
            for y in range(ny):
                found[z, y, x] = out[y]
    for y in range(ny):
        for x in range(nx):
            for z in range(nz):
                line[z] = found[z, y, x]
            lowest(line, nz, where, edge, out)
            for z in range(nz):
                found[z, y, x] = out[z]
    return found


@njit(cache=True)
def lowest(line, count, where, edge, out):  # type: ignore[no-untyped-def]
    """Write the lower envelope ``out`` (count,) of parabolas rooted at ``line`` (count,).

    ``where`` (count,) and ``edge`` (count + 1,) are room for which is the lowest, and from where on.
    """
    at = 0
    where[0], edge[0], edge[1] = 0, -np.inf, np.inf
    for q in range(1, count):
        if line[q] == np.inf:
            continue
        while True:
            p = where[at]
            meet = -np.inf if line[p] == np.inf else ((line[q] + q * q) - (line[p] + p * p)) / (2.0 * (q - p))
            if meet > edge[at] or at == 0:
                break
            at -= 1
        if line[where[at]] == np.inf or meet == -np.inf:
            where[at], edge[at + 1] = q, np.inf
            continue
        at += 1
        where[at], edge[at], edge[at + 1] = q, meet, np.inf
    at = 0
    for q in range(count):
        while edge[at + 1] < q:
            at += 1
        out[q] = (q - where[at]) ** 2 + line[where[at]]

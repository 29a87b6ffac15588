"""Flooding a lattice: how high a liquid has to rise to get out."""

from __future__ import annotations

import heapq

import numpy as np
from numba import njit


@njit(cache=True)
def flooded(room, start, level, base, rises):  # type: ignore[no-untyped-def]
    """Least highest point on the ways from openings to the nodes of a lattice.

    Parameters
    ----------
    room : (nz, ny, nx) bool
        Nodes that a way may go through.
    start : (n,) int64
        Numbers of the nodes at the openings.
    level : (n,) float64, mm
        How high the way out through each goes at least.
    base : float, mm
        Height of the first node, along what is up.
    rises : (3,) float64, mm
        What a step along z, y and x rises.

    Returns
    -------
    (nz, ny, nx) float64
        mm; infinite where no way leads to.

    Notes
    -----
    Priority flood: R. Barnes, C. Lehman, D. Mulla, "Priority-flood", Computers & Geosciences 62, 2014.
    """
    nz, ny, nx = room.shape
    highest = np.full(room.shape, np.inf)
    queue = [(np.inf, np.int64(-1))]
    for k in range(start.shape[0]):
        z, rest = divmod(start[k], ny * nx)
        y, x = divmod(rest, nx)
        h = max(level[k], base + z * rises[0] + y * rises[1] + x * rises[2])
        if h < highest[z, y, x]:
            highest[z, y, x] = h
            heapq.heappush(queue, (h, start[k]))
    while len(queue) > 1:
        h, node = heapq.heappop(queue)
        z, rest = divmod(node, ny * nx)
        y, x = divmod(rest, nx)
        if h > highest[z, y, x]:
            continue
        for side in range(6):
            step = 1 if side & 1 else -1
            a = z + step if side < 2 else z
            b = y + step if 2 <= side < 4 else y
            c = x + step if side >= 4 else x
            if a < 0 or a >= nz or b < 0 or b >= ny or c < 0 or c >= nx or not room[a, b, c]:
                continue
            there = max(h, base + a * rises[0] + b * rises[1] + c * rises[2])
            if there < highest[a, b, c]:
                highest[a, b, c] = there
                heapq.heappush(queue, (there, np.int64((a * ny + b) * nx + c)))
    return highest

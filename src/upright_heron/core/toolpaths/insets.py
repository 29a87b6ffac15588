"""Outlines moved inwards corner by corner, where nothing gets lost: a kernel.

An inset whose corners all stay, whose sides all keep their direction, and whose area is that of the true
inset has met no event: nothing of the region is thinner than twice the way, and shallower insets meet none.
"""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType
from numba import njit
from numpy.typing import NDArray

from ..layers.stack import packed

# Corners that would move by more than this many times the way are cut off by others.
MITRE = 2.0
# Areas are the same to this share.
SAME = 1e-6

Rings = tuple[NDArray[np.float64], NDArray[np.int64]]


def plain_rings(region: CrossSection, depth_mm: float) -> Rings | None:
    """Corners of a region, where its inset by a depth meets no event; ``None`` where it does.

    Parameters
    ----------
    region : CrossSection
    depth_mm : float

    Returns
    -------
    ((P, 2), (N + 1,)) or None
        Corners, mm, and where each ring begins.
    """
    rings = packed(region.to_polygons())
    if not len(rings[0]):
        return None
    moved, plain = inset(*rings, depth_mm)
    if not plain:
        return None
    true = region.offset(-depth_mm, JoinType.Miter, MITRE)
    if true.num_vert() != len(rings[0]) or true.num_contour() != len(rings[1]) - 1:
        return None
    area = _area(moved, rings[1])
    return rings if abs(float(true.area()) - area) <= SAME * area else None


def inset_rings(rings: Rings, depth_mm: float, *, several: bool = False) -> Rings:
    """Rings moved inwards, with mitres.

    Parameters
    ----------
    rings : ((P, 2), (N + 1,))
        Corners, mm, and where each ring begins: outer ones run counter-clockwise.
    depth_mm : float
        Far less than what they enclose is wide nearly everywhere.
    several : bool
        Several rings are moved corner by corner too, though a side may be lost between them.

    Returns
    -------
    ((P, 2), (N + 1,))
        Of one ring corner by corner, where no side is lost: a neck thinner than twice the depth stays. All
        else is offset.
    """
    points, start = rings
    if several or len(start) == 2:
        moved, plain = inset(points, start, depth_mm)
        if plain:
            return moved, start
    region = CrossSection([points[a:b] for a, b in pairwise(start.tolist())], FillRule.NonZero)
    return packed(region.offset(-depth_mm, JoinType.Miter, MITRE).to_polygons())


@njit(cache=True)
def inset(points, ring_start, depth):  # type: ignore[no-untyped-def]
    """Corners (P, 2) moved inwards by a depth, and whether all sides keep their direction."""
    out = np.empty_like(points)
    for r in range(ring_start.shape[0] - 1):
        a, b = ring_start[r], ring_start[r + 1]
        for i in range(a, b):
            h = i - 1 if i > a else b - 1
            j = i + 1 if i + 1 < b else a
            ux, uy = points[i, 0] - points[h, 0], points[i, 1] - points[h, 1]
            vx, vy = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1]
            u, v = math.sqrt(ux * ux + uy * uy), math.sqrt(vx * vx + vy * vy)
            if u < 1e-9 or v < 1e-9:
                return out, False
            ux, uy, vx, vy = ux / u, uy / u, vx / v, vy / v
            # Outlines run counter-clockwise: what is inside lies to the left.
            nx, ny = -uy - vy, ux + vx
            scale = 1.0 + ux * vx + uy * vy
            # The mitre is sqrt(2 / scale) times as long as the way.
            if scale < 2.0 / (MITRE * MITRE):
                return out, False
            out[i, 0] = points[i, 0] + depth * nx / scale
            out[i, 1] = points[i, 1] + depth * ny / scale
        for i in range(a, b):
            j = i + 1 if i + 1 < b else a
            x, y = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1]
            if x * (out[j, 0] - out[i, 0]) + y * (out[j, 1] - out[i, 1]) <= 0.0:
                return out, False
    return out, True


@njit(cache=True)
def _area(points, ring_start):  # type: ignore[no-untyped-def]
    area = 0.0
    for r in range(ring_start.shape[0] - 1):
        j = ring_start[r + 1] - 1
        for i in range(ring_start[r], ring_start[r + 1]):
            area += 0.5 * (points[j, 0] * points[i, 1] - points[i, 0] * points[j, 1])
            j = i
    return area

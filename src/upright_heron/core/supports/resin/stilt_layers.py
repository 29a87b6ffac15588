"""Layers of stilts and their braces."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection, FillRule
from numba import njit
from numpy.typing import NDArray

from ...layers.stack import LayerStack, pack
from ...progress import Progress, tracked
from ..rings import CIRCLE_AREA, SIDES, circle_rings
from .stilt import Brace, Stilt


def stilt_layers(
    stilts: Sequence[Stilt], braces: Sequence[Brace], stack: LayerStack, progress: Progress
) -> LayerStack:
    """Outlines of stilts and braces on the layers of a part, counted from the plate; what meets is united."""
    h = stack.layer_mm
    total = len(stack) + round(stack.base_mm / h)
    heights = np.arange(0.5, total) * h
    circles, start = _circles(stilts, heights)
    bars: list[list[NDArray[np.float64]]] = [[] for _ in range(total)]
    for one in braces:
        first, last = np.searchsorted(heights, one.ends_mm[:, 2])
        for level, ring in enumerate(one.rings(heights[first:last]), int(first)):
            bars[level].append(ring)
    bar_start = np.cumsum([0] + [len(some) for some in bars]).astype(np.int64)
    every = np.array([ring for some in bars for ring in some], np.float64).reshape(-1, SIDES, 2)
    meets = _meeting(circles, start, np.hstack([every.min(axis=1), every.max(axis=1)]), bar_start)
    alone_mm2 = np.where(meets, 0.0, CIRCLE_AREA * circles[:, 2] ** 2)
    rings, areas = [], []
    for level in tracked(range(total), "Layers of the stilts", progress, every=32):
        some = slice(int(start[level]), int(start[level + 1]))
        plan, close = circle_rings(circles[some]), meets[some]
        own, area = _merged([*plan[close], *bars[level]])
        rings.append(own + list(plan[~close]))
        areas.append(area + float(alone_mm2[some].sum()))
    return pack(rings, areas, h, 0.0)


def _circles(
    stilts: Sequence[Stilt], heights: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Circles (n, 3) of x, y and radius, level by level, and where each of the levels begins (k + 1,)."""
    levels, found = [np.zeros(0, np.int64)], [np.zeros((0, 3))]
    for one in stilts:
        z = one.circles[:, 2]
        first, last = np.searchsorted(heights, z[0]), np.searchsorted(heights, z[-1], side="right")
        at = heights[first:last]
        found.append(np.stack([np.interp(at, z, one.circles[:, k]) for k in (0, 1, 3)], axis=1))
        levels.append(np.arange(first, last))
    where = np.concatenate(levels)
    order = np.argsort(where, kind="stable")
    start = np.searchsorted(where[order], np.arange(len(heights) + 1))
    return np.concatenate(found)[order], start.astype(np.int64)


@njit(cache=True)
def _meeting(circles, start, boxes, bar_start):  # type: ignore[no-untyped-def]
    """Which circles (n,) meet another of their level, or the box of a bar."""
    meets = np.zeros(circles.shape[0], np.bool_)
    for level in range(start.shape[0] - 1):
        for a in range(start[level], start[level + 1]):
            x, y, r = circles[a, 0], circles[a, 1], circles[a, 2]
            for b in range(a + 1, start[level + 1]):
                u, v, reach = circles[b, 0] - x, circles[b, 1] - y, circles[b, 2] + r
                if u * u + v * v < reach * reach:
                    meets[a] = meets[b] = True
            for b in range(bar_start[level], bar_start[level + 1]):
                if (
                    boxes[b, 0] < x + r
                    and boxes[b, 2] > x - r
                    and boxes[b, 1] < y + r
                    and boxes[b, 3] > y - r
                ):
                    meets[a] = True
    return meets


def _merged(rings: list[NDArray[np.float64]]) -> tuple[list[NDArray[np.float64]], float]:
    if not rings:
        return [], 0.0
    section = CrossSection(rings, FillRule.NonZero)
    return section.to_polygons(), float(section.area())

"""Layers of stilts and their braces."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ...layers.stack import LayerStack, pack
from ...progress import Progress, tracked
from ..model import CIRCLE_AREA, Brace, Stilt, circle_rings


def stilt_layers(
    stilts: Sequence[Stilt], braces: Sequence[Brace], stack: LayerStack, progress: Progress
) -> LayerStack:
    """Outlines of stilts and braces on the layers of a part, counted from the plate; what meets is united."""
    h = stack.layer_mm
    total = len(stack) + round(stack.base_mm / h)
    heights = np.arange(0.5, total) * h
    circles = _circles(stilts, heights)
    bars: list[list[NDArray[np.float64]]] = [[] for _ in range(total)]
    for one in braces:
        first, last = np.searchsorted(heights, one.ends_mm[:, 2])
        for level, ring in enumerate(one.rings(heights[first:last]), int(first)):
            bars[level].append(ring)
    rings, areas = [], []
    for level in tracked(range(total), "Layers of the stilts", progress, every=32):
        own, area = _united(circles[level], bars[level])
        rings.append(own)
        areas.append(area)
    return pack(rings, areas, h, 0.0)


def _circles(stilts: Sequence[Stilt], heights: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Circles (k, 3) of x, y and radius at each height."""
    levels, found = [], []
    for one in stilts:
        z = one.circles[:, 2]
        first, last = np.searchsorted(heights, z[0]), np.searchsorted(heights, z[-1], side="right")
        at = heights[first:last]
        found.append(np.stack([np.interp(at, z, one.circles[:, k]) for k in (0, 1, 3)], axis=1))
        levels.append(np.arange(first, last))
    if not found:
        return [np.zeros((0, 3))] * len(heights)
    every, where = np.concatenate(found), np.concatenate(levels)
    order = np.argsort(where, kind="stable")
    return np.split(every[order], np.searchsorted(where[order], np.arange(1, len(heights))))


def _united(
    circles: NDArray[np.float64], bars: list[NDArray[np.float64]]
) -> tuple[list[NDArray[np.float64]], float]:
    """Outlines of circles (k, 3) and bars in a layer, and their area, mm2; what lies apart stays as it is."""
    from scipy.spatial import cKDTree

    if not len(circles):
        return _merged(bars)
    plan = circle_rings(circles)
    meets = np.zeros(len(circles), bool)
    near = cKDTree(circles[:, :2]).query_pairs(2 * float(circles[:, 2].max()), output_type="ndarray")
    if len(near):
        gap = np.hypot(*(circles[near[:, 0], :2] - circles[near[:, 1], :2]).T)
        close = near[gap < circles[near[:, 0], 2] + circles[near[:, 1], 2]]
        meets[close] = True
    if bars:
        outlines = np.stack(bars)
        low, high = outlines.min(axis=1)[:, None], outlines.max(axis=1)[:, None]
        reach = circles[:, 2:]
        beside = (circles[:, :2] + reach > low) & (circles[:, :2] - reach < high)
        meets |= beside.all(axis=2).any(axis=0)
    rings, area = _merged([*plan[meets], *bars])
    alone = circles[~meets]
    return rings + list(plan[~meets]), area + float(CIRCLE_AREA * (alone[:, 2] ** 2).sum())


def _merged(rings: list[NDArray[np.float64]]) -> tuple[list[NDArray[np.float64]], float]:
    if not rings:
        return [], 0.0
    section = CrossSection(rings, FillRule.NonZero)
    return section.to_polygons(), float(section.area())

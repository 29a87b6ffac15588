"""What is printed of supports in each level: of one by itself, and of all together."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ..progress import Progress, silent, tracked
from .model import Branches, Column, SupportSettings, circle_rings

Ring = NDArray[np.float64]
# Walls of a branch; what they leave free inside is hollow.
WALLS = 2


def branch_rings(
    tree: Branches,
    levels: int,
    layer_mm: float,
    settings: SupportSettings,
    runs: NDArray[np.int64] | None = None,
) -> dict[int, list[Ring]]:
    """Rings of one tree or post by level: its walls, whole where it is thin.

    Parameters
    ----------
    tree : Branches
    levels : int
        Higher ones are left out.
    layer_mm : float
    settings : SupportSettings
    runs : (k,) int64, optional
        Only of the branches that end in these nodes.

    Returns
    -------
    dict of int to list of (k, 2) float64
        Outer rings counter-clockwise, those round a hollow clockwise; outer rings may overlap.
    """
    upper = np.flatnonzero(tree.down >= 0) if runs is None else runs
    high, low = tree.nodes[upper], tree.nodes[tree.down[upper]]
    first = np.maximum(np.ceil(low[:, 2] / layer_mm - 0.5 - 1e-9).astype(np.int64), 0)
    last = np.minimum(np.ceil(high[:, 2] / layer_mm - 0.5 - 1e-9).astype(np.int64) - 1, levels - 1)
    count = np.maximum(last - first + 1, 0)
    run = np.repeat(np.arange(len(upper)), count)
    level = first[run] + np.arange(len(run)) - np.repeat(np.cumsum(count) - count, count)
    rise = np.maximum(high[:, 2] - low[:, 2], 1e-9)
    t = (((level + 0.5) * layer_mm - low[run, 2]) / rise[run])[:, None]
    at = low[run][:, [0, 1, 3]] + t * (high[run] - low[run])[:, [0, 1, 3]]
    outer: dict[int, list[Ring]] = {}
    for k, ring in zip(level.tolist(), circle_rings(at), strict=True):
        outer.setdefault(k, []).append(ring)
    at[:, 2] -= WALLS * settings.line_mm
    hollow = at[:, 2] > settings.line_mm
    inner: dict[int, list[Ring]] = {}
    for k, ring in zip(level[hollow].tolist(), circle_rings(at[hollow]), strict=True):
        inner.setdefault(k, []).append(ring)
    for k, holes in inner.items():
        section = CrossSection(outer[k], FillRule.NonZero) - CrossSection(holes, FillRule.NonZero)
        outer[k] = section.to_polygons()
    return outer


def overlapping_runs(
    tree: Branches, others: Sequence[Branches], margin_mm: float = 0.05
) -> NDArray[np.int64]:
    """Upper nodes of the branches of a tree whose boxes meet those of other trees."""
    upper, low, high = _boxes(tree, margin_mm)
    met = np.zeros(len(upper), bool)
    for other in others:
        _, other_low, other_high = _boxes(other, margin_mm)
        # Most branches lie outside the box of the whole other tree.
        mine = np.flatnonzero(
            (low <= other_high.max(axis=0)).all(axis=1) & (high >= other_low.min(axis=0)).all(axis=1)
        )
        if not len(mine):
            continue
        near = (other_low <= high[mine].max(axis=0)).all(axis=1) & (
            other_high >= low[mine].min(axis=0)
        ).all(axis=1)
        pairs = np.ones((len(mine), int(near.sum())), bool)
        for axis in range(3):
            pairs &= low[mine, None, axis] <= other_high[None, near, axis]
            pairs &= high[mine, None, axis] >= other_low[None, near, axis]
        met[mine] |= pairs.any(axis=1)
    return upper[met]


def _boxes(
    tree: Branches, margin_mm: float
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]]:
    upper = np.flatnonzero(tree.down >= 0)
    a, b = tree.nodes[upper], tree.nodes[tree.down[upper]]
    wide = np.maximum(a[:, 3], b[:, 3])[:, None] * np.array([1.0, 1.0, 0.0]) + margin_mm
    return upper, np.minimum(a[:, :3], b[:, :3]) - wide, np.maximum(a[:, :3], b[:, :3]) + wide


def column_rings(column: Column, levels: int, layer_mm: float) -> dict[int, list[Ring]]:
    """Rings of one column by level."""
    found: dict[int, list[Ring]] = {}
    for slab in column.slabs:
        for level in range(round(slab.low_mm / layer_mm), min(levels, round(slab.high_mm / layer_mm))):
            found.setdefault(level, []).extend(slab.rings)
    return found


def rings_of(
    support: Column | Branches, levels: int, layer_mm: float, settings: SupportSettings
) -> dict[int, list[Ring]]:
    """Rings of one support by level from the plate; see ``branch_rings``."""
    if isinstance(support, Column):
        return column_rings(support, levels, layer_mm)
    return branch_rings(support, levels, layer_mm, settings)


def level_sections(
    supports: Sequence[Column | Branches],
    levels: int,
    layer_mm: float,
    settings: SupportSettings,
    progress: Progress = silent,
) -> list[CrossSection | None]:
    """Unite what is printed of all supports, level by level from the plate.

    Returns
    -------
    list of CrossSection or None
    """
    every: list[list[Ring]] = [[] for _ in range(levels)]
    for support in supports:
        for level, rings in rings_of(support, levels, layer_mm, settings).items():
            every[level].extend(rings)
    last: tuple[int, ...] = ()
    found: list[CrossSection | None] = []
    for level in tracked(range(levels), "Layers of the supports", progress):
        rings = every[level]
        # Levels of one slab share its rings: they are united once.
        same = tuple(id(ring) for ring in rings)
        if found and same == last:
            found.append(found[-1])
            continue
        last = same
        found.append(CrossSection(rings, FillRule.NonZero) if rings else None)
    return found

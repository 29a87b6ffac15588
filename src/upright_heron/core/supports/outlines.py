"""What is printed of supports in each level: of one by itself, and of all together."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ..progress import Progress, silent, tracked
from .model import Branches, Column, SupportSettings, circle_rings

Ring = NDArray[np.float64]
# Direction of the lines that fill a trunk: aslant, for walls of lines mostly run along the axes.
FILL_DEG = 45.0


def branch_rings(
    tree: Branches,
    levels: int,
    layer_mm: float,
    settings: SupportSettings,
    runs: NDArray[np.int64] | None = None,
) -> dict[int, list[Ring]]:
    """Rings of one tree or post by level: its walls, whole where it is thin, and what fills it.

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
    at[:, 2] -= settings.walls * settings.line_mm
    hollow = at[:, 2] > settings.line_mm
    inner: dict[int, list[Ring]] = {}
    for k, ring in zip(level[hollow].tolist(), circle_rings(at[hollow]), strict=True):
        inner.setdefault(k, []).append(ring)
    pattern = CrossSection()
    if inner and settings.fill > 0:
        low_xy, high_xy = tree.nodes[:, :2].min(axis=0), tree.nodes[:, :2].max(axis=0)
        wide = float(tree.nodes[:, 3].max())
        box = (*(low_xy - wide).tolist(), *(high_xy + wide).tolist())
        lines = strips(box, settings.line_mm, settings.line_mm / settings.fill, FILL_DEG)
        pattern = CrossSection(lines, FillRule.NonZero)
    for k, holes in inner.items():
        hollow = CrossSection(holes, FillRule.NonZero) - pattern
        outer[k] = (CrossSection(outer[k], FillRule.NonZero) - hollow).to_polygons()
    return outer


def strips(
    bounds: tuple[float, float, float, float],
    width_mm: float,
    spacing_mm: float,
    angle_deg: float,
    slit_mm: float = 0.0,
    slit_wide_mm: float = 0.0,
) -> list[Ring]:
    """Strips one line wide over a box, in one direction.

    Parameters
    ----------
    bounds : (x0, y0, x1, y1)
    width_mm, spacing_mm : float
        Of one strip, and from middle to middle. They belong to the plate: neighbours have them in step.
    angle_deg : float
        0 along x.
    slit_mm, slit_wide_mm : float
        Strips are parted after each ``slit_mm``, by so much; 0 does not.

    Returns
    -------
    list of (4, 2) float64
    """
    x0, y0, x1, y1 = bounds
    middle = np.array([(x0 + x1) / 2, (y0 + y1) / 2])
    reach = math.hypot(x1 - x0, y1 - y0) / 2 + spacing_mm
    a = math.radians(angle_deg)
    along, across = np.array([math.cos(a), math.sin(a)]), np.array([-math.sin(a), math.cos(a)])
    begin, offset = float(middle @ along) - reach, float(middle @ across)
    first, last = math.floor((offset - reach) / spacing_mm), math.ceil((offset + reach) / spacing_mm)
    lines = spacing_mm * np.arange(first, last + 1)
    cuts, gap = np.array([begin, begin + 2 * reach]), 0.0
    if slit_mm > 0:
        cuts = slit_mm * np.arange(math.floor(begin / slit_mm), math.ceil((begin + 2 * reach) / slit_mm) + 1)
        gap = slit_wide_mm / 2
    y, low = (v.ravel() for v in np.meshgrid(lines, cuts[:-1] + gap, indexing="ij"))
    high = np.tile(cuts[1:] - gap, len(lines))
    u = np.stack([low, high, high, low], axis=1)
    v = np.stack([y, y, y, y], axis=1) + 0.5 * width_mm * np.array([-1.0, -1.0, 1.0, 1.0])
    return list(u[..., None] * along + v[..., None] * across)


def overlapping_runs(
    tree: Branches, others: Sequence[Branches], margin_mm: float = 0.05
) -> NDArray[np.int64]:
    """Upper nodes (k,) of the branches of a tree whose boxes meet those of other trees."""
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
        near = (other_low <= high[mine].max(axis=0)).all(axis=1) & (other_high >= low[mine].min(axis=0)).all(
            axis=1
        )
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


# Outlines of what columns print in a level, united, with their area and box; by the rings they are of.
Known = dict[tuple[int, ...], "_Own"]


@dataclass(frozen=True, eq=False)
class _Own:
    """What one column prints in a level; ``of`` keeps alive what it is known by."""

    of: list[Ring]
    rings: list[Ring]
    area_mm2: float
    box: tuple[float, float, float, float]


def level_outlines(
    supports: Sequence[Column | Branches],
    levels: int,
    layer_mm: float,
    settings: SupportSettings,
    progress: Progress = silent,
    known: Known | None = None,
) -> tuple[list[list[Ring]], list[float]]:
    """Unite what is printed of all supports, level by level from the plate.

    Parameters
    ----------
    supports : sequence of Column or Branches
    levels : int
    layer_mm : float
    settings : SupportSettings
    progress : Progress
    known : dict, optional
        What was united before, and is again where the same columns come back.

    Returns
    -------
    list of lists of (k, 2) float64
        Rings of each level.
    list of float
        Their areas, mm2.

    Notes
    -----
    Columns that share nothing with others are united by themselves: most go on through many levels, and
    uniting all of a level costs more than all of them one by one.
    """
    known = {} if known is None else known
    columns: list[list[list[Ring]]] = [[] for _ in range(levels)]
    branches: list[list[Ring]] = [[] for _ in range(levels)]
    for support in supports:
        for level, rings in rings_of(support, levels, layer_mm, settings).items():
            if isinstance(support, Column):
                columns[level].append(rings)
            else:
                branches[level].extend(rings)
    found: list[list[Ring]] = []
    areas: list[float] = []
    last: tuple[tuple[int, ...], ...] | None = None
    for level in tracked(range(levels), "Layers of the supports", progress):
        # Levels of one slab share its rings: they are united once.
        same = tuple(tuple(id(ring) for ring in rings) for rings in columns[level])
        if not branches[level] and same == last:
            found.append(found[-1])
            areas.append(areas[-1])
            continue
        last = None if branches[level] else same
        every = [_own(rings, key, known) for rings, key in zip(columns[level], same, strict=True)]
        alone = _alone([own.box for own in every], branches[level])
        kept = [own for own, free in zip(every, alone, strict=True) if free]
        rest = [ring for own, free in zip(every, alone, strict=True) if not free for ring in own.rings]
        rest += branches[level]
        rings = [ring for own in kept for ring in own.rings]
        area = sum(own.area_mm2 for own in kept)
        if rest:
            united = CrossSection(rest, FillRule.NonZero)
            rings, area = rings + united.to_polygons(), area + float(united.area())
        found.append(rings)
        areas.append(area)
    return found, areas


def _own(rings: list[Ring], key: tuple[int, ...], known: Known) -> _Own:
    if key not in known:
        section = CrossSection(rings, FillRule.NonZero)
        box = section.bounds() if not section.is_empty() else (0.0, 0.0, 0.0, 0.0)
        x0, y0, x1, y1 = box
        known[key] = _Own(rings, section.to_polygons(), float(section.area()), (x0, y0, x1, y1))
    return known[key]


def _alone(boxes: list[tuple[float, float, float, float]], others: list[Ring]) -> list[bool]:
    """Which boxes meet no other box, nor those round other rings."""
    every = [*boxes, *((*ring.min(axis=0).tolist(), *ring.max(axis=0).tolist()) for ring in others)]
    if not boxes:
        return []
    x0, y0, x1, y1 = np.array(every).T
    own = slice(len(boxes))
    met = (x0[own, None] <= x1) & (x1[own, None] >= x0) & (y0[own, None] <= y1) & (y1[own, None] >= y0)
    alone: list[bool] = (met.sum(axis=1) == 1).tolist()
    return alone

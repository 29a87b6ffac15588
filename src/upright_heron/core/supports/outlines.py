"""What is printed of supports in each level: of one by itself, and of all together."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, FillRule
from numba import njit
from numpy.typing import NDArray

from ..layers.layer_components import Pieces, pieces
from ..layers.stack import pack, packed
from ..progress import Progress, silent, tracked
from .model import Branches, Column, SupportSettings
from .rings import circle_rings

Ring = NDArray[np.float64]
# Direction of the lines that fill a trunk: aslant, for walls of lines mostly run along the axes.
FILL_DEG = 45.0
# Rings of less area are left out: uniting outlines that all but touch leaves such needles, which no machine
# draws and nothing carries.
NOTHING_MM2 = 1e-3


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
    # Where a foot narrows by more than its walls in a layer, the ring above would stand over its hollow.
    above = np.minimum(t[:, 0] + layer_mm / rise[run], 1.0)
    at[:, 2] = np.minimum(at[:, 2], low[run, 3] + above * (high[run, 3] - low[run, 3]))
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


@dataclass(frozen=True, eq=False)
class _United:
    """Shapes of a level that are united: rings, those of each piece (n,), boxes (n, 4), and the area.

    ``of`` keeps alive what it is known by.
    """

    of: Sequence[object]
    rings: list[Ring]
    area_mm2: float

    @cached_property
    def sorted(self) -> Pieces:
        """Its pieces."""
        return pieces(pack([self.rings], [self.area_mm2], 1.0, 0.0))

    @cached_property
    def box(self) -> NDArray[np.float64]:
        """Box (4,) of all."""
        boxes = ring_boxes(self.rings)
        if not len(boxes):
            return np.array([0.0, 0.0, 0.0, 0.0])
        return np.concatenate([boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)])


Printed = tuple[list[Ring], NDArray[np.float64]]


class Known:
    """What was united before, and is again where the same supports come back."""

    def __init__(self) -> None:
        self.columns: dict[tuple[int, ...], _United] = {}
        self.together: dict[tuple[tuple[int, ...], ...], _United] = {}
        self.levels: dict[tuple[object, ...], tuple[list[Ring], float]] = {}
        self.branches: dict[int, tuple[Branches, dict[int, Printed]]] = {}

    def take(self, other: Known) -> None:
        """Know what another knows too."""
        self.columns.update(other.columns)
        self.together.update(other.together)
        self.levels.update(other.levels)
        self.branches.update(other.branches)

    def printed(
        self, tree: Branches, levels: int, layer_mm: float, settings: SupportSettings
    ) -> dict[int, Printed]:
        """Rings of one tree or post by level, with their boxes (k, 4)."""
        key = id(tree.nodes)
        if key not in self.branches:
            rings = branch_rings(tree, levels, layer_mm, settings)
            boxes = ring_boxes([ring for level in rings.values() for ring in level])
            ends = np.cumsum([len(level) for level in rings.values()])[:-1]
            parts = np.split(boxes, ends)
            self.branches[key] = (
                tree,
                {level: (own, box) for (level, own), box in zip(rings.items(), parts, strict=True)},
            )
        return self.branches[key][1]

    def column(self, slabs: Sequence[tuple[Ring, ...]]) -> _United:
        """What one column prints in a level."""
        key = tuple(id(rings) for rings in slabs)
        if key not in self.columns:
            self.columns[key] = _united([ring for rings in slabs for ring in rings], slabs)
        return self.columns[key]

    def all_columns(self, columns: Sequence[Sequence[tuple[Ring, ...]]]) -> _United:
        """What all columns print in a level."""
        key = tuple(tuple(id(rings) for rings in slabs) for slabs in columns)
        if key not in self.together:
            every = [self.column(slabs) for slabs in columns]
            met = _meet_others(np.array([own.box for own in every]).reshape(-1, 4))
            rings = [ring for own, meets in zip(every, met, strict=True) if not meets for ring in own.rings]
            area = sum(own.area_mm2 for own, meets in zip(every, met, strict=True) if not meets)
            rest = [ring for own, meets in zip(every, met, strict=True) if meets for ring in own.rings]
            both = _united(rest, columns)
            self.together[key] = _United(every, rings + both.rings, area + both.area_mm2)
        return self.together[key]


def _united(rings: list[Ring], of: Sequence[object]) -> _United:
    section = CrossSection(rings, FillRule.NonZero) if rings else CrossSection()
    found = section.to_polygons()
    areas = ring_areas(found)
    # Holes have areas below 0, so that what is left out counts for what it was.
    large = np.abs(areas) > NOTHING_MM2
    kept = found if large.all() else [ring for ring, is_kept in zip(found, large, strict=True) if is_kept]
    return _United(of, kept, float(areas[large].sum()))


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
    known : Known, optional
        What was united before.

    Returns
    -------
    list of lists of (k, 2) float64
        Rings of each level.
    list of float
        Their areas, mm2.

    Notes
    -----
    Columns go on through many levels, and are united once for all in which they stay the same; branches are
    put to what they meet of them.
    """
    known = known or Known()
    columns: list[list[list[tuple[Ring, ...]]]] = [[] for _ in range(levels)]
    branches: list[list[Printed]] = [[] for _ in range(levels)]
    for support in supports:
        if isinstance(support, Branches):
            for level, printed in known.printed(support, levels, layer_mm, settings).items():
                branches[level].append(printed)
            continue
        slabs: dict[int, list[tuple[Ring, ...]]] = {}
        for slab in support.slabs:
            for level in range(round(slab.low_mm / layer_mm), min(levels, round(slab.high_mm / layer_mm))):
                slabs.setdefault(level, []).append(slab.rings)
        for level, own in slabs.items():
            columns[level].append(own)
    found: list[list[Ring]] = []
    areas: list[float] = []
    for level in tracked(range(levels), "Layers of the supports", progress):
        below = tuple(tuple(id(rings) for rings in slabs) for slabs in columns[level])
        key = (below, tuple(id(rings) for rings, _ in branches[level]))
        if key not in known.levels:
            known.levels[key] = _with_branches(known.all_columns(columns[level]), branches[level])
        rings, area = known.levels[key]
        found.append(rings)
        areas.append(area)
    return found, areas


def _with_branches(columns: _United, branches: Sequence[Printed]) -> tuple[list[Ring], float]:
    """Put branches to columns: only the pieces that they meet are united with them."""
    if not branches:
        return columns.rings, columns.area_mm2
    found = columns.sorted
    met = _meets_box(
        found.stack.points, found.stack.ring_start, found.ring_piece, len(found),
        np.concatenate([boxes for _, boxes in branches]),
    )  # fmt: skip
    of_met = met[found.ring_piece]
    rest = [ring for ring, meets in zip(columns.rings, of_met, strict=True) if meets]
    united = _united([*rest, *(ring for rings, _ in branches for ring in rings)], branches)
    kept = [ring for ring, meets in zip(columns.rings, of_met, strict=True) if not meets]
    return kept + united.rings, float(found.area_mm2[~met].sum()) + united.area_mm2


def ring_areas(rings: list[Ring]) -> NDArray[np.float64]:
    """Signed areas (k,) of rings, mm2: those that run clockwise, round holes, have less than 0."""
    points, starts = packed(rings)
    if len(starts) < 2:
        return np.zeros(0)
    following = np.arange(1, len(points) + 1)
    following[starts[1:] - 1] = starts[:-1]
    # About a corner of each ring: far from the origin products would lose what the areas need.
    x, y = (points - np.repeat(points[starts[:-1]], np.diff(starts), axis=0)).T
    areas: NDArray[np.float64] = 0.5 * np.add.reduceat(x * y[following] - x[following] * y, starts[:-1])
    return areas


def ring_boxes(rings: list[Ring]) -> NDArray[np.float64]:
    """Boxes (k, 4) of x0, y0, x1, y1 round rings."""
    points, starts = packed(rings)
    if len(starts) < 2:
        return np.zeros((0, 4))
    return np.column_stack([bound.reduceat(points, starts[:-1]) for bound in (np.minimum, np.maximum)])


def _meet_others(boxes: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which boxes (n, 4) meet another of them."""
    x0, y0, x1, y1 = boxes.T
    met = (x0[:, None] <= x1) & (x1[:, None] >= x0) & (y0[:, None] <= y1) & (y1[:, None] >= y0)
    result: NDArray[np.bool_] = met.sum(axis=1) > 1
    return result


@njit(cache=True)
def _meets_box(points, ring_start, ring_piece, count, boxes):  # type: ignore[no-untyped-def]
    """Which of so many pieces have an edge near any of the boxes (k, 4), or hold one.

    Where no edge is near a box, its middle tells for all of it.
    """
    met = np.zeros(count, np.bool_)
    inside = np.zeros(count, np.bool_)
    rings = ring_start.shape[0] - 1
    around = np.empty((rings, 4))
    for r in range(rings):
        a, b = ring_start[r], ring_start[r + 1]
        around[r, 0], around[r, 1] = points[a:b, 0].min(), points[a:b, 1].min()
        around[r, 2], around[r, 3] = points[a:b, 0].max(), points[a:b, 1].max()
    for k in range(boxes.shape[0]):
        x0, y0, x1, y1 = boxes[k, 0], boxes[k, 1], boxes[k, 2], boxes[k, 3]
        x, y = 0.5 * (x0 + x1), 0.5 * (y0 + y1)
        inside[:] = False
        for r in range(rings):
            piece = ring_piece[r]
            if met[piece] or around[r, 0] > x1 or around[r, 2] < x0 or around[r, 1] > y1 or around[r, 3] < y0:
                continue
            j = ring_start[r + 1] - 1
            for i in range(ring_start[r], ring_start[r + 1]):
                ax, ay, bx, by = points[j, 0], points[j, 1], points[i, 0], points[i, 1]
                j = i
                if max(ax, bx) >= x0 and min(ax, bx) <= x1 and max(ay, by) >= y0 and min(ay, by) <= y1:
                    met[piece] = True
                    break
                if (ay > y) != (by > y) and x < ax + (y - ay) / (by - ay) * (bx - ax):
                    inside[piece] = not inside[piece]
        for piece in range(count):
            met[piece] = met[piece] or inside[piece]
    return met

"""How near outlines on a plate come to each other: what arranging is held against."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..geometry.plan_shapes import shape_of
from .outline import Outline

# Outlines that share no more than this touch and do not overlap.
TOUCH_MM2 = 1e-3


@dataclass(frozen=True, eq=False)
class Lying:
    """An outline that lies somewhere on a plate: its origin from the middle (mm), and its swing (degrees)."""

    outline: Outline
    x_mm: float
    y_mm: float
    swing_deg: float


@dataclass(frozen=True, slots=True)
class Near:
    """Two outlines by their places in a list: how far apart they are (mm), and what they share (mm2)."""

    first: int
    second: int
    gap_mm: float
    shared_mm2: float

    @property
    def crosses(self) -> bool:
        """Whether they overlap, rather than touch."""
        return self.shared_mm2 > TOUCH_MM2


def shapes_of(lying: Sequence[Lying]) -> list[Any]:
    """Outlines where they lie, as shapely geometries."""
    import shapely.affinity

    shapes: dict[tuple[int, float], Any] = {}
    made = []
    for one in lying:
        key = (id(one.outline), one.swing_deg)
        if key not in shapes:
            shapes[key] = shape_of(one.outline.turned(one.swing_deg))
        made.append(shapely.affinity.translate(shapes[key], one.x_mm, one.y_mm))
    return made


def near_pairs(lying: Sequence[Lying], within_mm: float) -> list[Near]:
    """Pairs of outlines that come nearer to each other than a distance, or overlap.

    Parameters
    ----------
    lying : sequence of Lying
    within_mm : float

    Returns
    -------
    list of Near
        The nearest first.
    """
    import shapely

    if len(lying) < 2:
        return []
    shapes = np.array(shapes_of(lying), object)
    first, second = shapely.STRtree(shapes).query(shapes, predicate="dwithin", distance=within_mm)
    once = first < second
    first, second = first[once], second[once]
    away = shapely.distance(shapes[first], shapes[second])
    shared = shapely.area(shapely.intersection(shapes[first], shapes[second]))
    order = np.lexsort((second, first, -shared, away))
    pairs = (Near(int(first[k]), int(second[k]), float(away[k]), float(shared[k])) for k in order.tolist())
    return [pair for pair in pairs if pair.crosses or pair.gap_mm < within_mm]


def meet(one: Lying, other: Lying) -> bool:
    """Whether two outlines that cross from above have anything at one height in common."""
    for a in one.outline.slices:
        for b in other.outline.slices:
            if min(a.high_mm, b.high_mm) - max(a.low_mm, b.low_mm) <= 1e-6:
                continue
            plans = (
                piece.section.rotate(lying.swing_deg).translate([lying.x_mm, lying.y_mm])
                for piece, lying in ((a, one), (b, other))
            )
            first, second = plans
            if (first ^ second).area() > TOUCH_MM2:
                return True
    return False


def least_gap_mm(lying: Sequence[Lying]) -> float | None:
    """The least distance between any two outlines, mm; ``None`` where there are no two."""
    import shapely

    if len(lying) < 2:
        return None
    shapes = np.array(shapes_of(lying), object)
    tree = shapely.STRtree(shapes)
    near, away = tree.query_nearest(shapes, exclusive=True, return_distance=True)
    return float(away.min()) if len(near[0]) else None


def away_mm(one: Lying, place: tuple[float, float]) -> float:
    """How far an outline is from a place of the plate, mm; nought where it covers it."""
    import shapely

    return float(shapely.distance(shapes_of([one])[0], shapely.Point(place)))


def used_share(lying: Sequence[Lying], plate_mm: tuple[float, float]) -> float:
    """Share of a plate that outlines cover."""
    return sum(one.outline.area_mm2 for one in lying) / (plate_mm[0] * plate_mm[1])


def past_edge_mm(one: Lying, plate_mm: tuple[float, float]) -> float:
    """By how much an outline reaches past the edge of a plate; negative where it lies within."""
    x0, y0, x1, y1 = one.outline.turned(one.swing_deg).bounds()
    wide, deep = plate_mm[0] / 2, plate_mm[1] / 2
    x, y = one.x_mm, one.y_mm
    return float(max(-wide - x0 - x, x1 + x - wide, -deep - y0 - y, y1 + y - deep))

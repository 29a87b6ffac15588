"""Ways down for single supports, looked for in the layers themselves: no field has to be made first."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection
from numba import njit
from numpy.typing import NDArray

from ...layers.stack import LayerStack, pack, packed

# A way is looked for in steps of about this height.
STEP_MM = 0.8
# A tip may be this near to the part, as a share of its branch, over so many steps.
NEAR_SHARE = 0.65
FIRST_STEPS = 3
# Drifts that are tried where nothing leads straight down: lengths and directions.
DRIFTS_MM = (3.0, 6.0, 10.0, 16.0, 25.0)
COMPASS = 16


@dataclass(frozen=True, eq=False)
class Way:
    """A way down.

    Attributes
    ----------
    places : (k, 3) float64
        From the tip down, mm.
    ends : str
        ``plate``, ``part`` or ``nowhere``.
    """

    places: NDArray[np.float64]
    ends: str


def around(stack: LayerStack, places: NDArray[np.float64], reach_mm: float = 50.0) -> NDArray[np.float64]:
    """Signed distances in plan of places (k, 3) from the part in their layer: below 0 inside it.

    Places above and below the part are as far as ``reach_mm``.
    """
    layer = np.floor((places[:, 2] - stack.base_mm) / stack.layer_mm + 1e-6).astype(np.int64)
    result: NDArray[np.float64] = _around(
        stack.points, stack.ring_start, stack.layer_start, layer,
        np.ascontiguousarray(places[:, :2]), reach_mm,
    )  # fmt: skip
    return result


def gap_under(stack: LayerStack, places: NDArray[np.float64], layers: int) -> NDArray[np.float64]:
    """Distances of places (k, 3) from the part straight below, mm; infinite beyond so many layers.

    The places lie on the undersides of layers.
    """
    found = np.full(len(places), np.inf)
    for step in range(layers, 0, -1):
        inside = around(stack, places - [0.0, 0.0, (step - 0.5) * stack.layer_mm], 1.0) < 0.0
        found[inside] = (step - 1) * stack.layer_mm
    return found


def plan_distance(
    rings: list[NDArray[np.float64]], places: NDArray[np.float64], reach_mm: float
) -> NDArray[np.float64]:
    """Distances in plan of places (k, 2) from a shape of rings, cut off at ``reach_mm``; below 0 inside."""
    points, starts = packed(rings)
    result: NDArray[np.float64] = _around(
        points, starts, np.array([0, len(rings)]), np.zeros(len(places), np.int64),
        np.ascontiguousarray(places), reach_mm,
    )  # fmt: skip
    return result


def way_down(
    stack: LayerStack,
    tip_mm: tuple[float, float, float],
    radius_mm: float,
    clearance_mm: float,
    lean_deg: float,
    *,
    from_plate: bool = False,
    clear: Sequence[CrossSection | None] | None = None,
    near_mm: float | None = None,
) -> Way:
    """Find a way down for one post.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    tip_mm : (x, y, z)
        Where it ends at the part.
    radius_mm : float
    clearance_mm : float
        From the side of the part.
    lean_deg : float
        Most that it leans, from vertical.
    from_plate : bool
        It may not stand on the part.
    clear : sequence of CrossSection or None, optional
        By level from the plate: where nothing may pass.
    near_mm : float, optional
        As near to the part it may be over the first steps, until it can have come off a wall by all its
        lean; by a share of the radius over a few of them where this is not given.

    Returns
    -------
    Way
        Straight down where that is free, else giving way to the part, else drifting aside first; the first
        that reaches the plate. Where none does it stands on the part, as straight as it can.
    """
    steps = max(1, math.ceil(tip_mm[2] / STEP_MM))
    z = np.linspace(tip_mm[2], 0.0, steps + 1)
    layer = np.floor((z - stack.base_mm) / stack.layer_mm + 1e-6).astype(np.int64)
    blocked = _packed(clear, len(stack) + round(stack.base_mm / stack.layer_mm), stack.layer_mm)
    level = np.floor(z / stack.layer_mm + 1e-6).astype(np.int64)
    slope = math.tan(math.radians(lean_deg))
    first, near = FIRST_STEPS, NEAR_SHARE * radius_mm
    if near_mm is not None:
        first, near = math.ceil((radius_mm + clearance_mm) / (slope * STEP_MM)) + 1, near_mm
    best: Way | None = None
    tries = [(0.0, 0.0, 0.0)]
    turns = 2 * math.pi * np.arange(COMPASS) / COMPASS
    tries += [(math.cos(a), math.sin(a), length) for length in DRIFTS_MM for a in turns]
    for dx, dy, length in tries:
        places, count, free = _descend(
            stack.points, stack.ring_start, stack.layer_start, layer,
            blocked.points, blocked.ring_start, blocked.layer_start, level,
            z, tip_mm[0], tip_mm[1], radius_mm, clearance_mm, slope, dx, dy, length, first, near,
        )  # fmt: skip
        way = np.column_stack([places[:count], z[:count]])
        if free:
            return Way(way, "plate")
        if best is None:
            best = Way(way, "nowhere" if from_plate else "part")
    assert best is not None
    return best


def _packed(clear: Sequence[CrossSection | None] | None, levels: int, layer_mm: float) -> LayerStack:
    if clear is None:
        return pack(([] for _ in range(levels)), [0.0] * levels, layer_mm, 0.0)
    rings = [plan.to_polygons() if plan is not None else [] for plan in clear]
    rings += [[] for _ in range(levels - len(rings))]
    return pack(rings, [0.0] * len(rings), layer_mm, 0.0)


@njit(cache=True)
def _beside(points, ring_start, layer_start, layer, x, y, reach):  # type: ignore[no-untyped-def]
    """Signed distance of a place from the rings of a layer, cut off at ``reach``; below 0 inside."""
    if layer < 0 or layer >= layer_start.shape[0] - 1:
        return reach
    best = reach * reach
    inside = False
    for r in range(layer_start[layer], layer_start[layer + 1]):
        lo, hi = ring_start[r], ring_start[r + 1]
        ax, ay = points[hi - 1, 0], points[hi - 1, 1]
        for p in range(lo, hi):
            bx, by = points[p, 0], points[p, 1]
            if (ay > y) != (by > y) and x < ax + (y - ay) / (by - ay) * (bx - ax):
                inside = not inside
            # Only edges whose box is near enough can be nearest.
            gx = max(min(ax, bx) - x, x - max(ax, bx), 0.0)
            gy = max(min(ay, by) - y, y - max(ay, by), 0.0)
            if gx * gx + gy * gy < best:
                ex, ey = bx - ax, by - ay
                length = ex * ex + ey * ey
                t = ((x - ax) * ex + (y - ay) * ey) / length if length > 0 else 0.0
                t = min(max(t, 0.0), 1.0)
                px, py = x - ax - t * ex, y - ay - t * ey
                best = min(best, px * px + py * py)
            ax, ay = bx, by
    d = np.sqrt(best)
    return -d if inside else d


@njit(cache=True)
def _around(points, ring_start, layer_start, layer, places, reach):  # type: ignore[no-untyped-def]
    found = np.empty(places.shape[0])
    for k in range(places.shape[0]):
        found[k] = _beside(points, ring_start, layer_start, layer[k], places[k, 0], places[k, 1], reach)
    return found


@njit(cache=True)
def _descend(  # type: ignore[no-untyped-def]
    points,
    ring_start,
    layer_start,
    layer,
    b_points,
    b_ring_start,
    b_layer_start,
    level,
    z,
    x,
    y,
    radius,
    clearance,
    slope,
    dx,
    dy,
    drift,
    first,
    near,
):
    """Go down step by step: places, how many there are, and whether the plate was reached."""
    n = z.shape[0]
    places = np.empty((n, 2))
    places[0, 0], places[0, 1] = x, y
    far = 3.0 * (radius + clearance) + 2.0
    left = drift
    for k in range(1, n):
        reach = slope * (z[k - 1] - z[k])
        need = radius + clearance if k > first else near
        move = min(left, reach)
        wx, wy = x + dx * move, y + dy * move
        best_x, best_y, best = wx, wy, -1e9
        # Where it wants to go; else the nearest place that is free; a little further off where that is more.
        for ring in range(5):
            share = 0.25 * ring
            turns = 1 if ring == 0 else 16
            for t in range(turns):
                a = 2.0 * np.pi * t / 16
                px = wx if ring == 0 else x + share * reach * np.cos(a)
                py = wy if ring == 0 else y + share * reach * np.sin(a)
                d = min(
                    _beside(points, ring_start, layer_start, layer[k], px, py, far),
                    _beside(b_points, b_ring_start, b_layer_start, level[k], px, py, far),
                )
                # Between two steps too.
                if layer[k - 1] - layer[k] > 1:
                    between = (layer[k - 1] + layer[k]) // 2
                    d = min(d, _beside(points, ring_start, layer_start, between, px, py, far))
                if d > best + 1e-9 and best < radius + clearance:
                    best, best_x, best_y = d, px, py
            if best >= radius + clearance:
                break
        if best < need:
            return places, k, False
        if move > 0.0:
            left -= move
        x, y = best_x, best_y
        places[k, 0], places[k, 1] = x, y
    return places, n, True

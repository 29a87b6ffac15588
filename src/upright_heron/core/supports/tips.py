"""Where trees and posts touch a patch: so that all of it is held, slopes and narrow strips too."""

from __future__ import annotations

import math

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..layers import LayerStack, packed
from .demand import Patch, inside_of
from .descent import around
from .growth import fill
from .model import SupportSettings

# Each place of a patch has a tip within so many spacings in plan, and no further up or down.
COVERED = 0.85
FALL_MM = 2.0
# A patch is drawn on a raster of this pixel, or of one that gives so many.
PATCH_MM = 0.15
PATCH_PIXELS = 100_000


def tips_of(
    patch: Patch, stack: LayerStack, settings: SupportSettings, spacing_mm: float
) -> list[tuple[float, float, float]]:
    """Places (x, y, z) under a patch: on a grid that belongs to the plate, and wherever that leaves gaps.

    Parameters
    ----------
    patch : Patch
    stack : LayerStack
    settings : SupportSettings
    spacing_mm : float

    Returns
    -------
    list of (x, y, z)
        z is where a support ends: the contact gap below the part. The lowest first; none where the whole
        patch comes to lie on the plate.

    Notes
    -----
    Every place of the patch has one within ``COVERED`` spacings in plan that ends no more than ``FALL_MM``
    lower or higher: on a slope they stand closer than on a flat underside, and along a narrow strip too.
    """
    from scipy.spatial import cKDTree

    if patch.spots:
        return list(patch.spots)
    gap = settings.gap_layers(stack.layer_mm) * stack.layer_mm
    # What begins within the gap comes to lie on the plate.
    least = round((gap - stack.base_mm) / stack.layer_mm) + 1
    plans = {layer: plan for layer, plan in patch.plans.items() if layer >= least}
    if not plans:
        return []
    low, pixel, layers = _drawn(plans)
    rows, columns = np.nonzero(layers >= 0)
    places = low + (np.column_stack([columns, rows]) + 0.5) * pixel
    heights = stack.base_mm + layers[rows, columns] * stack.layer_mm - gap
    on_grid = np.round(places / spacing_mm) * spacing_mm
    nearest = np.abs(places - on_grid).max(axis=1) <= 0.5 * pixel
    # An island where it begins, then the grid, then what they leave, each from the lowest up.
    found: list[tuple[float, float, float]] = []
    free = np.ones(len(places), bool)
    tree = cKDTree(places)
    reach = COVERED * spacing_mm

    def take(x: float, y: float, z: float) -> None:
        near = np.array(tree.query_ball_point((x, y), reach), np.int64)
        if len(near):
            free[near[np.abs(heights[near] - z) <= FALL_MM]] = False

    def room(x: float, y: float, z: float) -> float:
        return float(around(stack, np.array([[x, y, z - 0.5 * stack.layer_mm]]), beside)[0])

    beside = settings.clearance_mm + settings.branch_mm / 2
    if any(reason.startswith("island") for reason in patch.reasons):
        found.append((*inside_of(plans[min(plans)]), stack.bottom_mm(min(plans)) - gap))
        take(*found[0])
    order = np.lexsort((places[:, 0], places[:, 1], heights))
    for k in order[nearest[order]].tolist():
        x, y, z = float(on_grid[k, 0]), float(on_grid[k, 1]), float(heights[k])
        close = (math.hypot(x - a, y - b) <= 0.5 * spacing_mm for a, b, c in found if abs(z - c) <= FALL_MM)
        if not any(close) and room(x, y, z) >= beside:
            found.append((x, y, z))
            take(x, y, z)
    crowded = []
    for k in order.tolist():
        if not free[k]:
            continue
        x, y, z = float(places[k, 0]), float(places[k, 1]), float(heights[k])
        away = room(x, y, z)
        if away >= beside:
            found.append((x, y, z))
            take(x, y, z)
        else:
            crowded.append((-round(away, 1), k, (x, y, z)))
    # Right beside a wall only where nothing else holds the place, and then where there is most room; on a
    # slope all of it is beside the part.
    for _, k, place in sorted(crowded, key=lambda c: c[0]):
        if free[k]:
            found.append(place)
            take(*place)
    return found


def _drawn(plans: dict[int, CrossSection]) -> tuple[NDArray[np.float64], float, NDArray[np.int64]]:
    """Plans on a raster: its lower corner, the pixel, and the lowest layer of each pixel or -1."""
    boxes = np.array([plan.bounds() for plan in plans.values()])
    (x0, y0), (x1, y1) = boxes[:, :2].min(axis=0).tolist(), boxes[:, 2:].max(axis=0).tolist()
    pixel = max(PATCH_MM, math.sqrt((x1 - x0) * (y1 - y0) / PATCH_PIXELS))
    low = np.array([x0, y0]) - pixel
    columns, rows = (math.ceil(side / pixel) + 3 for side in (x1 - x0, y1 - y0))
    layers = np.full((rows, columns), -1, np.int64)
    for layer, plan in sorted(plans.items()):
        drawn = np.zeros((rows, columns), np.bool_)
        points, starts = packed(plan.to_polygons())
        fill(drawn, points, starts, 0, len(starts) - 1, low, pixel, False)
        layers[drawn & (layers < 0)] = layer
    return low, pixel, layers

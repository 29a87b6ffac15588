"""Where trees and posts touch a patch: so that all of it is held, slopes and narrow strips too."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ...geometry.pixels import fill
from ...geometry.tree import Tree
from ...layers.stack import LayerStack, packed
from ..demand.patches import Patch, Spot, inside_of
from ..model import SupportSettings
from .descent import around, gap_under
from .growth import TIP_SHARE
from .landings import round_places

# Each place of a patch has a tip within so many spacings in plan that ends no further above or below it: the
# check looks 2.5 mm down a slope, in whole layers.
COVERED = 0.85
FALL_MM = 2.0
RISE_MM = 2.3
# A tip touches a wall from which it is less than this share of its rim, and is put so far aside at most.
TOUCHING = 0.9
ASIDE_MM = 0.6
ASIDE_TRIES = 8
# How far round a tip the surface is looked at.
LOOK_MM = 1.5
# So many places of a patch are looked at for crevices.
CREVICE_PROBES = 1000
# A patch is drawn on a raster of this pixel, or of one that gives so many.
PATCH_MM = 0.15
PATCH_PIXELS = 100_000


@dataclass(frozen=True, eq=False)
class Places:
    """A patch as places on a raster.

    Attributes
    ----------
    at_mm : (n, 3) float64
        Each place, at the height where a support of it ends: the contact gap below the part.
    first_mm : (x, y, z)
        A place right where it begins.
    pixel_mm : float
    spacing_mm : float
    stands : callable
        Where supports of tips (n, 3) end in fact, and what they stand on, see ``below_slopes``.
    touching : callable
        Which tips (n, 3) reach into a wall beside them with their rims.
    layer_mm : float
    """

    at_mm: NDArray[np.float64]
    first_mm: Spot
    pixel_mm: float
    spacing_mm: float
    stands: Callable[[NDArray[np.float64]], Stands]
    touching: Callable[[NDArray[np.float64]], NDArray[np.bool_]]
    layer_mm: float
    rise_mm: float = RISE_MM

    @staticmethod
    def of(
        patch: Patch, stack: LayerStack, settings: SupportSettings, spacing_mm: float, part: Tree
    ) -> Places | None:
        """Draw a patch but for what no layer of support fits under.

        ``None`` where all of it lies on the plate, or so near over the part.
        """
        gap = settings.gap_layers(stack.layer_mm) * stack.layer_mm
        # What begins within the gap comes to lie on the plate.
        least = round((gap - stack.base_mm) / stack.layer_mm) + 1
        plans = {layer: plan for layer, plan in patch.plans.items() if layer >= least}
        if not plans:
            return None

        def stands(tips: NDArray[np.float64]) -> Stands:
            return below_slopes(tips, part, settings, stack.layer_mm)

        def touching(tips: NDArray[np.float64]) -> NDArray[np.bool_]:
            rim = TIP_SHARE * settings.branch_mm / 2
            return np.asarray(room_at(stack, stands(tips).ends_mm) < TOUCHING * rim)

        lowest = min(plans)
        # The check looks further down only where a patch has many layers: see ``not_held``.
        rise = RISE_MM if len(patch.plans) > 2 else 2.1 * stack.layer_mm
        first = (*inside_of(plans[lowest]), stack.bottom_mm(lowest) - gap)
        low, pixel, layers = _drawn(plans)
        rows, columns = np.nonzero(layers >= 0)
        if not len(rows):
            # Smaller than the pixels.
            return Places(np.array([first]), first, pixel, spacing_mm, stands, touching, stack.layer_mm, rise)
        plan = low + (np.column_stack([columns, rows]) + 0.5) * pixel
        places = np.column_stack([plan, stack.base_mm + layers[rows, columns] * stack.layer_mm])
        near = settings.least_layers(stack.layer_mm) - 1
        # Most patches have no crevice: some of their places tell.
        if np.isfinite(gap_under(stack, places[:: max(1, len(places) // CREVICE_PROBES)], near)).any():
            places = places[np.isinf(gap_under(stack, places, near))]
            if not len(places):
                return None
        places[:, 2] -= gap
        return Places(places, first, pixel, spacing_mm, stands, touching, stack.layer_mm, rise)

    @cached_property
    def _drawn(self) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """Lower corner of the pixels, and the number of the place on each (rows, columns) or -1."""
        low = self.at_mm[:, :2].min(axis=0)
        at = np.round((self.at_mm[:, :2] - low) / self.pixel_mm).astype(np.int64)
        pixels = np.full(at.max(axis=0)[::-1] + 1, -1, np.int64)
        pixels[at[:, 1], at[:, 0]] = np.arange(len(at))
        return low, pixels

    def _beside(self, plan: tuple[float, float], within_mm: float) -> NDArray[np.int64]:
        """Numbers of the places that near to one in plan."""
        low, pixels = self._drawn
        a = np.maximum(np.floor((plan - low - within_mm) / self.pixel_mm).astype(np.int64), 0)
        b = np.maximum(np.ceil((plan - low + within_mm) / self.pixel_mm).astype(np.int64) + 1, 0)
        some = pixels[a[1] : b[1], a[0] : b[0]].ravel()
        some = some[some >= 0]
        away = self.at_mm[some, :2] - plan
        found: NDArray[np.int64] = some[(away * away).sum(axis=1) <= within_mm * within_mm]
        return found

    def near(self, tips: Sequence[Spot], share: float = COVERED) -> list[NDArray[np.int64]]:
        """Which places (k,) each tip holds: within a share of the spacing, and about where it ends.

        What stands in a crevice holds nothing that lies lower than its first layer, but for what is right
        above it.
        """
        if not tips:
            return []
        ends, floors = self.stands(np.array(tips))
        lowest = np.maximum(ends[:, 2] - FALL_MM, floors + 0.5 * self.layer_mm)
        found = []
        for (x, y, _), end, least in zip(tips, ends[:, 2].tolist(), lowest.tolist(), strict=True):
            beside = self._beside((x, y), share * self.spacing_mm)
            heights = self.at_mm[beside, 2]
            right_above = np.abs(self.at_mm[beside, :2] - (x, y)).max(axis=1) <= self.pixel_mm
            found.append(beside[right_above | (heights >= least) & (heights <= end + self.rise_mm)])
        return found

    def held(self, tips: Sequence[Spot], share: float = COVERED) -> NDArray[np.bool_]:
        """Which places (n,) any of the tips holds."""
        held = np.zeros(len(self.at_mm), bool)
        for places in self.near(tips, share):
            held[places] = True
        return held

    def clear_of_walls(self, place: int, tip: Spot) -> Spot:
        """A tip for a place by its number, or one a little aside that holds it too and touches no wall."""
        if not self.touching(np.array([tip]))[0]:
            return tip
        beside = self.at_mm[np.sort(self._beside(tip[:2], ASIDE_MM))]
        beside = beside[~self.touching(beside)]
        nearest = np.argsort(((beside - tip) ** 2).sum(axis=1), kind="stable")[:ASIDE_TRIES]
        others = [(x, y, z) for x, y, z in beside[nearest].tolist()]
        holding = (o for o, held in zip(others, self.near(others), strict=True) if place in held)
        return next(holding, tip)


def tips_of(
    patch: Patch, stack: LayerStack, settings: SupportSettings, spacing_mm: float, part: Tree
) -> list[Spot]:
    """Places (x, y, z) under a patch: on a grid that belongs to the plate, and wherever that leaves gaps.

    Parameters
    ----------
    patch : Patch
    stack : LayerStack
    settings : SupportSettings
    spacing_mm : float
    part : Tree
        Of the part where it stands.

    Returns
    -------
    list of (x, y, z)
        z is where a support ends: the contact gap below the part. The lowest first; none where the whole
        patch comes to lie on the plate.

    Notes
    -----
    Every place of the patch has one within ``COVERED`` spacings in plan that ends no more than ``RISE_MM``
    lower or ``FALL_MM`` higher: on a slope they stand closer than on a flat underside, and along a narrow
    strip too.
    """
    if patch.spots:
        return list(patch.spots)
    places = Places.of(patch, stack, settings, spacing_mm, part)
    if places is None:
        return []
    plan, heights = places.at_mm[:, :2], places.at_mm[:, 2]
    on_grid = np.round(plan / spacing_mm) * spacing_mm
    nearest = np.abs(plan - on_grid).max(axis=1) <= 0.5 * places.pixel_mm
    # An island where it begins, then the grid, then what they leave, each from the lowest up.
    found: list[Spot] = []
    free = np.ones(len(plan), bool)

    def take(tip: Spot) -> None:
        found.append(tip)
        free[places.near([tip])[0]] = False

    beside = room_beside(settings)
    if patch.islands:
        take(places.first_mm)
    order = np.lexsort((plan[:, 0], plan[:, 1], heights))
    for k in order[nearest[order]].tolist():
        tip = (float(on_grid[k, 0]), float(on_grid[k, 1]), float(heights[k]))
        close = (
            math.hypot(tip[0] - a, tip[1] - b) <= 0.5 * spacing_mm
            for a, b, c in found
            if abs(tip[2] - c) <= FALL_MM
        )
        if not any(close) and room_at(stack, np.array([tip]))[0] >= beside:
            take(tip)
    crowded = []
    left = order[free[order]]
    for k, away in zip(left.tolist(), room_at(stack, places.at_mm[left]).tolist(), strict=True):
        if not free[k]:
            continue
        x, y, z = places.at_mm[k].tolist()
        if away >= beside:
            take((x, y, z))
        else:
            crowded.append((-round(away, 1), k, (x, y, z)))
    # Right beside a wall only where nothing else holds the place, and then where there is most room; on a
    # slope all of it is beside the part.
    for _, k, tip in sorted(crowded, key=lambda c: c[0]):
        if free[k]:
            take(places.clear_of_walls(k, tip))
    return found


class Stands(NamedTuple):
    """Where supports of tips end (n, 3), and what they stand on (n,): ``-inf`` where that is the plate."""

    ends_mm: NDArray[np.float64]
    floors_mm: NDArray[np.float64]


def below_slopes(tips: NDArray[np.float64], part: Tree, settings: SupportSettings, layer_mm: float) -> Stands:
    """Lower tips (n, 3) until their rims are clear of a slope as their middles are of the surface over them.

    Above the plate, and above what lies below them in a crevice, one layer of them is left.
    """
    if not len(tips):
        return Stands(tips, np.zeros(0))
    radius = TIP_SHARE * settings.branch_mm / 2
    up = np.tile([0.0, 0.0, 1.0], (len(tips), 1))
    every = np.full(len(tips), -1)
    under, _ = part.first_hits(tips, -up, every)
    over, _ = part.first_hits(tips, up, every)
    # From below, but not from within what lies below in a crevice.
    look = np.minimum(LOOK_MM, 0.9 * under)
    around = round_places(tips - look[:, None] * up, radius, 0.0)
    length, _ = part.first_hits(around, np.repeat(up, 8, axis=0), np.repeat(every, 8))
    # How much nearer the surface is over the rim than over the middle.
    nearest = length.reshape(len(tips), -1).min(axis=1) - look
    lower = np.clip(np.where(np.isfinite(over), over, 0.0) - nearest, 0.0, LOOK_MM)
    # The foot of so short a branch stands clear of a slope in the same way.
    gap = settings.gap_below_layers(layer_mm) * layer_mm
    floors = np.where(np.isfinite(under), tips[:, 2] - under + gap, -np.inf)
    least = np.where(floors + radius > gap, floors + radius, 0.0) + layer_mm
    result = tips.copy()
    lowered = tips[:, 2] - np.where(np.isfinite(nearest), lower, 0.0)
    result[:, 2] = np.maximum(lowered, np.minimum(tips[:, 2], least))
    return Stands(result, floors)


def room_beside(settings: SupportSettings) -> float:
    """Distance from the part at which a branch right below a tip is clear of it, mm."""
    return settings.clearance_mm + settings.branch_mm / 2


def room_at(stack: LayerStack, tips: NDArray[np.float64], reach_mm: float = 5.0) -> NDArray[np.float64]:
    """Distances of tips (k, 3) from the part beside them, just below their ends, mm; below 0 inside it."""
    return around(stack, tips - [0.0, 0.0, 0.5 * stack.layer_mm], reach_mm)


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

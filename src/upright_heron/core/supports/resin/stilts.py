"""Resin supports: straight stilts with a cone tip at every island and on a grid under overhangs."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ...geometry.mesh import Mesh, facet_normals
from ...geometry.solid import Solid
from ...hanging.islands import Island
from ...hanging.overhangs import overhangs, threshold
from ...layers.stack import LayerStack, pack
from ...marking.marks import Mark, Marks
from ...progress import Progress, silent, tracked
from ..demand.demand_overrides import spread_tips
from ..model import Stilt, SupportSettings, circle_ring, stilt_volume_mm3, support_id
from ..support_set import SupportSet

# Sideways reach of a tip when the way straight down is taken, and the compass directions tried.
REACHES_MM = (0.0, 1.0, 2.0, 3.5)
COMPASS = 12
# Rays round a shaft that must pass clear of the part.
ROUND = 8
# Shortest stilt that can be printed and snipped.
SHORTEST_MM = 0.8
FOOT_HEIGHT_MM = 0.6


def _hits(body: Any, start: tuple[float, float, float], end: tuple[float, float, float]) -> list[Any]:
    return body.ray_cast(start, end)  # type: ignore[no-any-return]


def _underside(body: Any, x: float, y: float, z: float, layer_mm: float) -> float | None:
    """Height of the surface where an island starts, or ``None`` when the ray slips past it."""
    for hit in _hits(body, (x, y, z - 2 * layer_mm), (x, y, z + 2 * layer_mm)):
        if hit.normal[2] < 0:
            return float(hit.position[2])
    return None


def _grid_tips(
    body: Any, bounds: NDArray[np.float64], limit_deg: float, spacing: float, progress: Progress
) -> list[tuple[float, float, float]]:
    """Points of a fixed grid on every facet past the limit, on all storeys of the part."""
    sine = threshold(limit_deg)
    (x0, y0, z0), (x1, y1, z1) = bounds
    # The grid belongs to the plate: it does not jump when a part grows by a hair.
    xs = np.arange(math.ceil(x0 / spacing), math.floor(x1 / spacing) + 1) * spacing
    ys = np.arange(math.ceil(y0 / spacing), math.floor(y1 / spacing) + 1) * spacing
    tips: list[tuple[float, float, float]] = []
    for x in tracked([float(v) for v in xs], "Placing tips", progress, every=4):
        for y in ys:
            hits = _hits(body, (x, float(y), z0 - 1.0), (x, float(y), z1 + 1.0))
            tips.extend((x, float(y), float(hit.position[2])) for hit in hits if -hit.normal[2] > sine)
    return tips


def _way_down(
    body: Any, tip: tuple[float, float, float], settings: SupportSettings, low: float
) -> tuple[NDArray[np.float64], bool] | None:
    """Circles of a stilt from the plate (or the part) to the tip; ``None`` when there is no room."""
    x, y, z = tip
    radius = settings.shaft_mm / 2
    length = min(settings.tip_length_mm, max(0.4, 0.6 * z))
    landing: tuple[float, NDArray[np.float64]] | None = None
    for reach in REACHES_MM:
        if reach > length * 1.5:
            break
        turns = range(COMPASS) if reach else range(1)
        for turn in turns:
            angle = 2 * math.pi * turn / COMPASS
            kx, ky = x + reach * math.cos(angle), y + reach * math.sin(angle)
            knee = (kx, ky, z - length)
            if _hits(body, (x, y, z - 0.05), knee):
                continue
            around = [(0.0, 0.0)] + [
                (
                    (radius + settings.clearance_mm) * math.cos(a),
                    (radius + settings.clearance_mm) * math.sin(a),
                )
                for a in (2 * math.pi * k / ROUND for k in range(ROUND))
            ]
            floors = []
            for dx, dy in around:
                # The rays begin a little below the knee, where the cone has drawn back from the surface.
                under = _hits(body, (kx + dx, ky + dy, z - 0.7 * length), (kx + dx, ky + dy, low - 1.0))
                floors.append(float(under[0].position[2]) if under else None)
            if all(f is None for f in floors):
                return _circles(tip, (kx, ky, z - length), 0.0, settings, on_part=False), False
            if landing is None and floors[0] is not None:
                # Only the part lies below: note where a stilt could stand on it, and look on for the plate.
                highest = max(f for f in floors if f is not None)
                level = floors[0]
                if z - length - highest > SHORTEST_MM and highest - level < 2 * radius:
                    landing = (level, _circles(tip, (kx, ky, z - length), level, settings, on_part=True))
    return (landing[1], True) if landing else None


def _circles(
    tip: tuple[float, float, float],
    knee: tuple[float, float, float],
    floor: float,
    settings: SupportSettings,
    *,
    on_part: bool,
) -> NDArray[np.float64]:
    kx, ky, kz = knee
    shaft, point = settings.shaft_mm / 2, settings.tip_mm / 2
    if on_part:
        # On the part it stands on a point as well: a foot would scar the surface.
        foot = [[kx, ky, floor - settings.depth_mm, point], [kx, ky, floor + 1.0, shaft]]
    else:
        wide = settings.foot_mm / 2
        foot = [
            [kx, ky, floor, wide],
            [kx, ky, floor + FOOT_HEIGHT_MM / 2, wide],
            [kx, ky, floor + 2 * FOOT_HEIGHT_MM, shaft],
        ]
    rows = [row for row in foot if row[2] < kz - 1e-6]
    top = [
        [kx, ky, kz, shaft],
        [tip[0], tip[1], tip[2], point],
        [tip[0], tip[1], tip[2] + settings.depth_mm, point],
    ]
    return np.array(rows + top)


def make_stilts(
    mesh: Mesh,
    solid: Solid,
    stack: LayerStack,
    limit_deg: float,
    islands: list[Island],
    settings: SupportSettings,
    *,
    painted: tuple[Mesh, Marks] | None = None,
    progress: Progress = silent,
) -> SupportSet:
    """Stand stilts under islands and overhangs.

    Parameters
    ----------
    mesh : Mesh
        In its stance.
    solid : Solid
        The same part.
    stack : LayerStack
        Its layers.
    limit_deg : float
    islands : list of Island
    settings : SupportSettings
    painted : (Mesh, Marks), optional
        The fine mesh in the same stance, and what is painted on it.
    progress : Progress

    Returns
    -------
    SupportSet
    """
    body = solid.manifold
    wanted: list[tuple[str, int, tuple[float, float, float]]] = []
    unheld: list[int] = []
    for island in tracked(islands, "Placing tips", progress):
        z = _underside(body, island.x_mm, island.y_mm, island.z_mm, stack.layer_mm)
        if z is None:
            z = island.z_mm
        wanted.append((f"island {island.number}", island.number, (island.x_mm, island.y_mm, z)))
    clear = None
    if painted is not None:
        clear = cKDTree(painted[0].vertices[painted[0].faces].mean(axis=1))
        wanted = [t for t in wanted if not _kept_clear(clear, painted[1], t[2])]
        for tip in spread_tips(*painted, settings.spacing_mm, SHORTEST_MM):
            wanted.append(("painted", 0, tip))
    near = cKDTree([t[2] for t in wanted]) if wanted else None
    for tip in _grid_tips(body, mesh.bounds, limit_deg, settings.spacing_mm, progress):
        if tip[2] <= SHORTEST_MM:
            continue
        if clear is not None and painted is not None and _kept_clear(clear, painted[1], tip):
            continue
        if near is None or near.query(tip)[0] > settings.spacing_mm / 2:
            wanted.append(("overhang", 0, tip))
    stilts = []
    blocked = 0
    for reason, number, tip in tracked(wanted, "Standing stilts", progress):
        if tip[2] < SHORTEST_MM:
            # Too low for a stilt: it prints against the plate.
            continue
        way = _way_down(body, tip, settings, 0.0)
        if way is None:
            if number:
                unheld.append(number)
            else:
                blocked += 1
            continue
        circles, on_part = way
        stilts.append(
            Stilt(support_id("stilt", *tip), reason, tip, on_part, stilt_volume_mm3(circles), circles)
        )
    notes = []
    if unheld:
        notes.append(f"Islands with no room for a stilt below them: {len(unheld)}.")
    if blocked:
        notes.append(f"Places under overhangs with no room for a stilt: {blocked}.")
    layers = _stilt_layers(stilts, stack, progress)
    return SupportSet(
        tuple(stilts),
        layers,
        _held(mesh, stilts, limit_deg, stack.base_mm, settings),
        tuple(unheld),
        tuple(notes),
    )


def _kept_clear(clear: cKDTree, marks: Marks, tip: tuple[float, float, float]) -> bool:
    """Whether the surface at a tip is painted to be kept clear."""
    return bool(marks[clear.query(tip)[1]] == Mark.KEEP_CLEAR)


def _held(
    mesh: Mesh, stilts: list[Stilt], limit_deg: float, lift_mm: float, settings: SupportSettings
) -> float:
    if not stilts:
        return 0.0
    past = overhangs(mesh, limit_deg, plate_mm=0.0 if lift_mm <= 0 else None).past
    centres = mesh.vertices[mesh.faces[past]].mean(axis=1)
    distance = cKDTree([s.touch_mm for s in stilts]).query(centres)[0] if past.any() else np.zeros(0)
    return float(facet_normals(mesh)[1][past][distance <= settings.spacing_mm].sum())


def _stilt_layers(stilts: list[Stilt], stack: LayerStack, progress: Progress) -> LayerStack:
    h = stack.layer_mm
    total = len(stack) + round(stack.base_mm / h)
    per_layer: list[list[tuple[float, float, float]]] = [[] for _ in range(total)]
    for stilt in stilts:
        low, high = stilt.circles[0, 2], stilt.circles[-1, 2]
        for i in range(max(0, math.ceil(low / h - 0.5)), min(total, math.floor(high / h - 0.5) + 1)):
            circle = stilt.circle_at((i + 0.5) * h)
            if circle:
                per_layer[i].append(circle)
    known: dict[tuple[tuple[float, float, float], ...], tuple[list[NDArray[np.float64]], float]] = {}
    rings, areas = [], []
    for circles in tracked(per_layer, "Layers of the stilts", progress):
        key = tuple(circles)
        if key not in known:
            known.clear()  # only neighbouring layers repeat
            section = (
                CrossSection([circle_ring(*c) for c in circles], FillRule.NonZero)
                if circles
                else CrossSection()
            )
            known[key] = (section.to_polygons(), float(section.area()))
        rings.append(known[key][0])
        areas.append(known[key][1])
    return pack(rings, areas, h, 0.0)

"""Where branches end: wide on the plate, thin on the part, beside holes that are closed to them."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ..model import SupportSettings
from .growth import TIP_SHARE

# Holes of the part that enclose less than this in plan are closed to branches.
HOLE_MM2 = 150.0
# An end on the part is thin over so much height.
TIP_MM = 2.0
# The surface below a branch is looked for from so much above its last step: it may lie level with it.
ABOVE_MM = 0.6
# A place of the part is level for a foot if its rim rises and falls by no more.
LEVEL_MM = 0.15
# Level directions in which the part is looked for.
AROUND = 16
# A foot on the plate: how high, and its width as a share of the branch.
FOOT_MM = 1.0
FOOT_SHARE = 1.7


def feet_on_part(
    part: Tree,
    end: NDArray[np.float64],
    above: NDArray[np.float64],
    settings: SupportSettings,
    layer_mm: float,
    *,
    from_above_mm: float = ABOVE_MM,
    in_holes: bool = False,
) -> list[NDArray[np.float64]] | None:
    """Nodes (4,) of a branch, x, y, z and radius, from its last step down to its end on the part.

    It stays clear of the slope beside it. Over a hole it stands beside the hole, as far aside as it may lean
    from the node ``above``, unless it begins ``in_holes``. ``None`` where there is nothing to stand on. The
    surface is looked for from a little above the last step; where that is the tip itself nothing is free
    above it.
    """
    x, y, z, radius = (float(v) for v in end)
    reach = math.tan(math.radians(settings.branch_deg)) * float(above[2] - z)
    turn = 2 * np.pi * np.arange(8) / 8
    aside = [(0.0, 0.0), *((s * math.cos(t), s * math.sin(t)) for s in (0.5, 1.0) for t in turn)]
    gap = settings.gap_below_layers(layer_mm) * layer_mm
    for u, v in aside:
        at = (x, y) if not (u or v) else (float(above[0]) + reach * u, float(above[1]) + reach * v)
        narrow, floor = _landing(part, *at, z + from_above_mm, radius, TIP_SHARE * settings.branch_mm / 2)
        if math.isfinite(floor) and (in_holes or not _in_hole(part, *at, floor, z)):
            break
    else:
        return None
    floor += gap
    if floor >= z:
        return [np.array([*at, floor, narrow])]
    feet = [np.array([*at, z, radius])]
    if z - floor > 2 * TIP_MM:
        # Thin only near its end, and as far up as the slope beside it asks for.
        beside = float(_level_ways(part, *at, floor + TIP_MM).min()) - settings.clearance_mm
        feet.append(np.array([*at, floor + TIP_MM, min(radius, max(narrow, beside))]))
    return [*feet, np.array([*at, floor, narrow])]


def _landing(part: Tree, x: float, y: float, top: float, radius: float, narrow: float) -> tuple[float, float]:
    """Radius of an end on the part, wide where it is level there and narrow on a slope; and its height."""
    for share in (1.0, 0.6, narrow / radius):
        around = round_places(np.array([[x, y, top]]), share * radius, 0.0)
        length, _ = part.first_hits(around, np.tile([0.0, 0.0, -1.0], (8, 1)), np.full(8, -1))
        if np.isfinite(length).all() and float(np.ptp(length)) < LEVEL_MM:
            break
    return max(share * radius, narrow), top - float(length.min())


def _in_hole(part: Tree, x: float, y: float, floor: float, z: float) -> bool:
    """Whether what lies below an end is the bottom of a hole that is closed to branches."""
    if z - floor < 2 * TIP_MM:
        return False
    length = _level_ways(part, x, y, 0.5 * (floor + z))
    return bool((length < 2 * math.sqrt(HOLE_MM2 / math.pi)).all())


def _level_ways(part: Tree, x: float, y: float, z: float) -> NDArray[np.float64]:
    """How far it is to the part in some level directions; infinite where it is not met."""
    turn = 2 * np.pi * np.arange(AROUND) / AROUND
    ways = np.column_stack([np.cos(turn), np.sin(turn), np.zeros(AROUND)])
    length, _ = part.first_hits(np.tile([x, y, z], (AROUND, 1)), ways, np.full(AROUND, -1))
    return length


def foot_nodes(
    x: float,
    y: float,
    z: float,
    radius: float,
    free_mm: float,
    settings: SupportSettings,
    layer_mm: float,
    above: tuple[float, float, float] | None = None,
) -> list[NDArray[np.float64]]:
    """Nodes (4,) of a foot on the plate, below a branch that ends at a height: wide, with a rim if asked.

    ``free_mm`` is the distance of the part in the first layer, ``above`` the node that a branch comes from
    which reaches the plate by itself.
    """
    room = free_mm - settings.clearance_mm
    wide = max(radius, min(max(FOOT_SHARE * radius, radius + 1.0), room))
    nodes = [np.array([x, y, FOOT_MM, radius])] if z > FOOT_MM + layer_mm else []
    rim = min(settings.brim_mm, room - wide)
    top = above or (x, y, z)
    if rim > settings.line_mm and top[2] > 2 * layer_mm:
        for share, out in ((1.01 * layer_mm / top[2], 0.0), (layer_mm / top[2], rim)):
            u = share if above else 0.0
            nodes.append(np.array([x + u * (top[0] - x), y + u * (top[1] - y), share * top[2], wide + out]))
        wide += rim
    nodes.append(np.array([x, y, 0.0, wide]))
    return nodes


def round_places(places: NDArray[np.float64], radius: float, below: float) -> NDArray[np.float64]:
    """Eight points round each place (n, 3), and so much below it: (8 n, 3)."""
    turn = 2 * np.pi * np.arange(8) / 8
    ring = np.column_stack([radius * np.cos(turn), radius * np.sin(turn), np.full(8, -below)])
    result: NDArray[np.float64] = (places[:, None, :] + ring[None]).reshape(-1, 3)
    return result

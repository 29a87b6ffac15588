"""Holes that resin runs out of and air comes in by."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from manifold3d import Manifold, OpType
from numpy.typing import NDArray

from ..errors import BadValue
from ..geometry.frames import frame
from ..geometry.tree import Tree
from ..tags import stored

# Facets round a hole.
ROUND = 48
# A hole goes on so far past both surfaces, mm: no skin is left.
THROUGH_MM = 0.1
# A hole that does not come out within so many of its widths goes astray.
FAR_WIDTHS = 20.0
# A place that is pointed at lies no further off the surface than this.
ON_SURFACE_MM = 1.0
LEAST_MM, MOST_MM, MOST_TAPER_DEG = 0.5, 50.0, 45.0


@stored("drain")
@dataclass(frozen=True, slots=True)
class Drain:
    """One hole through the wall of a hollow part.

    Attributes
    ----------
    at_mm : (x, y, z)
        Its middle on the outer surface.
    inner_mm : (x, y, z)
        Its middle where it opens into the hollow.
    diameter_mm, inner_diameter_mm : float
        There and here; they differ in a tapered hole.
    vent : bool
        It is there for air.
    """

    at_mm: tuple[float, float, float]
    inner_mm: tuple[float, float, float]
    diameter_mm: float
    inner_diameter_mm: float
    vent: bool = False


def drain(
    hollow: Tree,
    at_mm: NDArray[np.float64],
    into: NDArray[np.float64],
    diameter_mm: float,
    *,
    taper_deg: float = 0.0,
    vent: bool = False,
) -> Drain | None:
    """Point a hole.

    Parameters
    ----------
    hollow : Tree
        Of the surface of the hollow.
    at_mm, into : (3,) float64
        A place on the outer surface, and the direction in which the hole goes.
    diameter_mm : float
        At the outer surface.
    taper_deg : float
        By how much its sides lean inwards.
    vent : bool

    Returns
    -------
    Drain or None
        None where no hollow lies behind the place.

    Raises
    ------
    BadValue
        A width or taper that no hole can have.
    """
    if not LEAST_MM <= diameter_mm <= MOST_MM or not 0 <= taper_deg <= MOST_TAPER_DEG:
        raise BadValue(
            f"A hole is {LEAST_MM:g} to {MOST_MM:g} mm wide and tapers by 0 to {MOST_TAPER_DEG:g} degrees.",
            "Type a width such as 3.",
        )
    axis = np.asarray(into, np.float64) / np.linalg.norm(into)
    (deep,), _ = hollow.first_hits(np.asarray(at_mm, np.float64)[None], axis[None])
    if not math.isfinite(deep) or deep > FAR_WIDTHS * max(diameter_mm, 1.0):
        return None
    inner = at_mm + deep * axis
    narrow = max(diameter_mm - 2 * deep * math.tan(math.radians(taper_deg)), LEAST_MM)
    outer_at, inner_at = ((float(p[0]), float(p[1]), float(p[2])) for p in (at_mm, inner))
    return Drain(outer_at, inner_at, diameter_mm, narrow, vent)


def inward(part: Tree, at_mm: NDArray[np.float64]) -> NDArray[np.float64]:
    """Direction (3,) into the part, square to its surface at the place nearest to a point (3,).

    Raises
    ------
    BadValue
        The point is no place of the surface.
    """
    facet, away = part.nearest(at_mm)
    if away > ON_SURFACE_MM:
        x, y, z = (float(v) for v in at_mm)
        raise BadValue(
            f"{x:.1f}, {y:.1f}, {z:.1f} mm lies {away:.1f} mm off the surface.",
            "Give a place on the surface of the part.",
        )
    a, b, c = part.corners[np.flatnonzero(part.order == facet)[0]]
    normal = np.cross(b - a, c - a)
    return np.asarray(-normal / np.linalg.norm(normal), np.float64)


def drilled(shell: Any, drains: tuple[Drain, ...], part: Tree, hollow: Tree) -> Any:
    """Drill holes into a hollow part, a Manifold: through its wall and no further."""
    if not drains:
        return shell
    return Manifold.batch_boolean([shell, *(_body(one, part, hollow) for one in drains)], OpType.Subtract)


def _body(one: Drain, part: Tree, hollow: Tree) -> Any:
    """What a hole takes away: from outside the surface to within the hollow, all round its rim."""
    outer, inner = np.array(one.at_mm), np.array(one.inner_mm)
    axis = inner - outer
    deep = float(np.linalg.norm(axis))
    axis /= deep
    side, over, _ = frame(axis)
    turn = 2 * np.pi * np.arange(ROUND) / ROUND
    rim = np.cos(turn)[:, None] * side + np.sin(turn)[:, None] * over
    # From the middle of the wall both ways; what comes out far off is another wall.
    most = deep + 2 * max(one.diameter_mm, one.inner_diameter_mm)
    middle = outer + 0.5 * deep * axis + 0.25 * (one.diameter_mm + one.inner_diameter_mm) * rim
    ahead, _ = hollow.first_hits(middle, np.tile(axis, (ROUND, 1)))
    back, _ = part.first_hits(middle, np.tile(-axis, (ROUND, 1)))
    ahead, back = ahead[ahead < most], back[back < most]
    in_to = max(deep, 0.5 * deep + float(ahead.max(initial=0.0))) + THROUGH_MM
    out_to = max(0.0, float(back.max(initial=0.0)) - 0.5 * deep) + THROUGH_MM
    slope = (one.inner_diameter_mm - one.diameter_mm) / 2 / deep
    wide = max(one.diameter_mm / 2 - slope * out_to, LEAST_MM / 2)
    narrow = max(one.diameter_mm / 2 + slope * in_to, LEAST_MM / 2)
    body = Manifold.cylinder(out_to + in_to, wide, narrow, ROUND).translate((0.0, 0.0, -out_to))
    return body.transform(np.column_stack([side, over, axis, outer]))

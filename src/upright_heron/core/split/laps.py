"""Half-laps: half of a thin wall stands out over the joint and lies in the other half of its neighbour."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from manifold3d import CrossSection, JoinType, Manifold
from numpy.typing import NDArray

from ..geometry.plan_shapes import shape_of
from .faces import Turned
from .fittings import OUT_MM, ROOT_MM, JointSetting

# A wall is thin when its face is so many times longer than thick; thicker ones bear pegs.
SLIM = 5.0
# Each half keeps this much at least: two lines of a common nozzle (common practice).
HALF_MM = 0.8
# A lap reaches so many thicknesses unless it is said, and no less than so many (common practice: one to two).
REACH, LEAST = 2.0, 0.75
SHORTER = 0.7
# Outlines are thinned by this: corners that lie closer fold up in a file of single precision.
FINE_MM = 0.02
# What has to be left of each half at the end of the lap, as a share of what it begins with.
KEEPS = 0.7
# The wall goes on so far straight in from its edge, in thicknesses: there the wall ends.
BLIND = 2.0


@dataclass(frozen=True, eq=False)
class Interlock:
    """What of one piece stands in another.

    Attributes
    ----------
    stands, cut : Manifold
        What of the material there stands out of the first piece, rooted in it, and what is taken from the
        other; the cut lies level.
    plan : CrossSection
        What it takes of the face.
    width_mm, reach_mm, travel_mm : float
    slides : (2,) float64 or None
        In the plane of the cut: along which it goes together, where not square to it.
    """

    stands: Any
    cut: Any
    plan: CrossSection
    width_mm: float
    reach_mm: float
    travel_mm: float
    slides: NDArray[np.float64] | None = None


def lap(region: CrossSection, above: Turned, setting: JointSetting) -> tuple[Interlock | None, str]:
    """Make a half-lap of a face.

    Parameters
    ----------
    region : CrossSection
        The face.
    above : Turned
        The piece that the lap lies in.
    setting : JointSetting

    Returns
    -------
    Interlock or None
    str
        Why there is none.
    """
    rings = region.to_polygons()
    perimeter = sum(float(np.hypot(*(ring - np.roll(ring, 1, axis=0)).T).sum()) for ring in rings)
    thick = 2 * float(region.area()) / perimeter
    if region.area() < SLIM * thick**2:
        return None, "The face is no thin wall: pegs hold it better than a lap."
    half = thick / 2
    if half - setting.clearance_mm < HALF_MM:
        return (
            None,
            f"A wall of {thick:.1f} mm is too thin for a lap that leaves {HALF_MM:g} mm of each half.",
        )
    tongue = _inner_half(region.simplify(FINE_MM), half)
    tongue = tongue.simplify(FINE_MM) if tongue is not None else None
    if tongue is None or tongue.area() < 0.25 * region.area():
        return None, "The wall has no two sides that a lap could follow."
    reach = setting.reach_mm or REACH * thick
    while not _stays(tongue, region, above, reach, setting.clearance_mm):
        reach *= SHORTER
        if reach < LEAST * thick:
            return None, f"The wall leans so much that no lap of {LEAST * thick:.1f} mm stays in it."
    # Out of the wall on its side, for a prism that ended right in a surface would leave slivers of it.
    beyond = (tongue.offset(half, JoinType.Round) - (region - tongue)).simplify(FINE_MM)
    wide = beyond.offset(setting.clearance_mm, JoinType.Round).simplify(FINE_MM)
    stands = prism(beyond, above, -ROOT_MM, reach)
    cut = prism(wide, above, -OUT_MM, reach + setting.clearance_mm)
    return Interlock(stands, cut, tongue, half, reach, reach), ""


def prism(plan: CrossSection, above: Turned, low: float, high: float) -> Any:
    """Upright body over a plan, from low to high beyond the plane into a piece."""
    sign = 1.0 if above.beyond else -1.0
    body = Manifold.extrude(plan, high - low)
    z = above.offset + (low if sign > 0 else -high)
    return body.translate((0.0, 0.0, z))


def _stays(tongue: CrossSection, region: CrossSection, above: Turned, reach: float, clearance: float) -> bool:
    """Whether both halves go on in the wall to the end of the lap."""
    rest = region - tongue
    for share in (0.5, 1.0):
        wall = above.section(share * reach, inward=True)
        if (tongue ^ wall).area() < KEEPS * tongue.area():
            return False
        left = wall - tongue.offset(clearance, JoinType.Round)
        # Only what is as thick as half of what must stay counts.
        left = left.offset(-HALF_MM / 4, JoinType.Round).offset(HALF_MM / 4, JoinType.Round)
        if (left ^ region).area() < KEEPS * KEEPS * rest.area():
            return False
    return True


def _inner_half(region: CrossSection, half: float) -> CrossSection | None:
    """The half of a wall away from its longer side; ``None`` where it has no two sides."""
    import shapely

    rings = region.to_polygons()
    whole = shape_of(region).geoms[0]
    if len(rings) > 1:
        outer = max(rings, key=lambda ring: shapely.Polygon(ring).area)
        return CrossSection([outer]).offset(-half, JoinType.Round) ^ region
    side = _longer_side(np.asarray(rings[0]), half)
    if side is None:
        return None
    rest = whole.difference(shapely.LineString(side).buffer(half))
    if rest.geom_type == "MultiPolygon":
        rest = max(rest.geoms, key=lambda part: part.area)
    if rest.is_empty or rest.geom_type != "Polygon":
        return None
    found = CrossSection([np.asarray(rest.exterior.coords)[:-1]])
    return found if found.area() > 0 else CrossSection([np.asarray(rest.exterior.coords)[:-1][::-1]])


def _longer_side(ring: NDArray[np.float64], half: float) -> NDArray[np.float64] | None:
    """The longer of the two sides (k, 2) of a strip without holes, between the middles of its ends."""
    import shapely

    line = shapely.LineString([*ring, ring[0]])
    count = max(24, int(line.length / (0.5 * half)))
    at = (np.arange(count) + 0.5) / count * line.length
    ahead = np.array([p.coords[0] for p in shapely.line_interpolate_point(line, at + 0.05 * half)])
    back = np.array([p.coords[0] for p in shapely.line_interpolate_point(line, at - 0.05 * half)])
    place = np.array([p.coords[0] for p in shapely.line_interpolate_point(line, at)])
    along = (ahead - back) / np.maximum(np.hypot(*(ahead - back).T), 1e-12)[:, None]
    inward = np.column_stack([-along[:, 1], along[:, 0]])
    rays = shapely.linestrings(
        np.stack([place + 0.1 * half * inward, place + 2 * half * BLIND * inward], axis=1)
    )
    blind = shapely.contains(shapely.Polygon(ring), rays)
    # Runs of such places round the ring are its ends.
    starts = np.flatnonzero(blind & ~np.roll(blind, 1))
    if len(starts) != 2:
        return None
    middles = []
    for start in starts.tolist():
        long = next(n for n in range(1, count + 1) if not blind[(start + n) % count])
        middles.append((start + (long - 1) / 2) % count)
    first, second = sorted(middles)
    order = np.arange(count)
    one = place[(order > first) & (order < second)]
    other = np.concatenate([place[order > second], place[order < first]])
    sides = [side for side in (one, other) if len(side) > 1]
    if len(sides) < 2:
        return None
    return max(sides, key=lambda side: float(np.hypot(*np.diff(side, axis=0).T).sum()))

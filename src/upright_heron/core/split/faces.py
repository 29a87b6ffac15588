"""Joint faces: pieces turned so that their cut lies level, and places in the faces."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..geometry.plan_shapes import lattice, shape_of

# Two pieces are looked at so far on each side of their plane.
BESIDE_MM = 0.02
# Places of a face that are tried.
PLACES = 256


class Turned:
    """A piece turned so that the plane of a cut is level.

    Parameters
    ----------
    body : Manifold
        As it lies.
    turn : (3, 3) float64
        Brings the plane level.
    offset : float
        Of the plane, mm.
    """

    def __init__(self, body: Any, turn: NDArray[np.float64], offset: float) -> None:
        self._plain, self._turn, self.offset = body, turn, offset
        self._level: Any = None
        self._known: dict[float, CrossSection] = {}
        self.x0, self.y0, self.z0, self.x1, self.y1, self.z1 = (float(v) for v in self.body.bounding_box())

    @property
    def body(self) -> Any:
        """As it lies when the plane is level."""
        if self._level is None:
            self._level = self._plain.transform(np.column_stack([self._turn, np.zeros(3)]))
        return self._level

    def forget(self) -> None:
        """Keep what is known of it, and not the copy that it was learned from."""
        self._level = None

    @property
    def beyond(self) -> bool:
        """Whether it lies beyond the plane."""
        return self.z0 + self.z1 > 2 * self.offset

    def reaches(self, side: int) -> bool:
        """Whether it comes up to the plane from its side."""
        return abs((self.z1 if side < 0 else self.z0) - self.offset) < 10 * BESIDE_MM

    def over(self, other: Turned) -> bool:
        """Whether two boxes meet in the plane."""
        beside = self.x0 >= other.x1 or other.x0 >= self.x1
        return not (beside or self.y0 >= other.y1 or other.y0 >= self.y1)

    def section(self, away_mm: float, *, inward: bool = False) -> CrossSection:
        """Section so far beyond the plane; inward, so deep in the piece."""
        z = (1.0 if self.beyond else -1.0) * away_mm if inward else away_mm
        if z not in self._known:
            self._known[z] = self.body.slice(self.offset + z)
        return self._known[z]


@dataclass(frozen=True, eq=False)
class Face:
    """Where two pieces meet in the plane of a cut; what is told of the plane lies level.

    Attributes
    ----------
    cut : str
        Id of the cut.
    id : str
        Of the face: the cut and the paths of both pieces.
    turn : (3, 3) float64
        Brings the plane level.
    offset : float
        Of the plane, mm.
    region : CrossSection
    first, second : int
        Numbers of the pieces, from 0: of the one that bears the joint, and of the other.
    below, above : Turned
        The pieces.
    others : tuple of Turned
        All other pieces on the side of the second.
    """

    cut: str
    id: str
    turn: NDArray[np.float64]
    offset: float
    region: CrossSection
    first: int
    second: int
    below: Turned
    above: Turned
    others: tuple[Turned, ...] = ()

    @property
    def axis(self) -> NDArray[np.float64]:
        """(3,) float64: direction from the first piece into the second."""
        return np.asarray(self.turn[2] if self.above.beyond else -self.turn[2], np.float64)

    def at(self, x: float, y: float) -> tuple[float, float, float]:
        """Return a place in the plane as it lies in the part."""
        return vector(np.array([x, y, self.offset]) @ self.turn)

    def level(self, body: Any) -> Any:
        """Return a body as it lies when the plane is level."""
        return body.transform(np.column_stack([self.turn, np.zeros(3)]))

    def back(self, body: Any) -> Any:
        """Return a body that lies level as it lies in the part."""
        return body.transform(np.column_stack([self.turn.T, np.zeros(3)]))


def places_in(allowed: CrossSection) -> NDArray[np.float64]:
    """Places (n, 2) all over a shape: on a lattice, and at its corners."""
    import shapely

    some = lattice(allowed, PLACES)
    inside = some[shapely.contains_xy(shape_of(allowed), some)] if len(some) else some
    corners = np.concatenate(allowed.to_polygons())
    corners = corners[:: max(1, len(corners) // 60)]
    return np.concatenate([inside, corners])


def spread_out(
    places: NDArray[np.float64], middle: NDArray[np.float64], apart: float, unequal: float, most: int
) -> list[int]:
    """Places (n, 2) as far apart as there is room, by their numbers.

    No two lie the same way about the middle (2,).
    """
    from scipy.spatial.distance import cdist

    away = np.hypot(*(places - middle).T)
    central = int(np.argmin(away))
    if most < 2 or len(places) < 2:
        return [central]
    between = cdist(places, places)
    rated = np.where(np.abs(away[:, None] - away[None]) >= unequal, between, -1.0)
    first, second = (int(v) for v in np.unravel_index(int(np.argmax(rated)), rated.shape))
    if rated[first, second] < apart:
        return [central]
    chosen = [first, second]
    while len(chosen) < most:
        nearest = between[:, chosen].min(axis=1)
        different = np.abs(away[:, None] - away[chosen][None]).min(axis=1) >= unequal
        rest = np.where(different, nearest, -1.0)
        k = int(np.argmax(rest))
        if rest[k] < apart:
            break
        chosen.append(k)
    return chosen


def centre(region: CrossSection) -> tuple[float, float]:
    """Centre of area of a shape."""
    area = x = y = 0.0
    for ring in region.to_polygons():
        a, b = ring, np.roll(ring, -1, axis=0)
        cross = a[:, 0] * b[:, 1] - b[:, 0] * a[:, 1]
        area += float(cross.sum())
        x += float(((a[:, 0] + b[:, 0]) * cross).sum())
        y += float(((a[:, 1] + b[:, 1]) * cross).sum())
    return x / (3 * area), y / (3 * area)


def inside_of(region: CrossSection) -> tuple[float, float]:
    """A place in a shape."""
    import shapely

    largest = max(region.to_polygons(), key=lambda ring: shapely.Polygon(ring).area)
    point = shapely.Polygon(largest).representative_point()
    return float(point.x), float(point.y)


def vector(v: NDArray[np.float64]) -> tuple[float, float, float]:
    """Three numbers of an array (3,)."""
    x, y, z = (float(c) for c in v)
    return x, y, z


def long_way_deg(region: CrossSection) -> float:
    """Direction of the longer side of the smallest rectangle round a shape, from the first axis."""
    import shapely

    corners = np.concatenate(region.to_polygons())
    box = shapely.oriented_envelope(shapely.MultiPoint(corners))
    a, b, c = np.asarray(box.exterior.coords)[:3]
    long = b - a if np.hypot(*(b - a)) >= np.hypot(*(c - b)) else c - b
    # One of the two ways along it, whichever the rectangle begins with.
    return float(np.degrees(np.arctan2(long[1], long[0]))) % 180.0

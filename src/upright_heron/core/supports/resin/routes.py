"""Ways of stilts: from a tip on the part down to the plate, or to the part where that is allowed."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...geometry.pixels import fill
from ...geometry.tree import Tree
from ...layers.stack import LayerStack
from ..model import SupportSettings
from ..on_plate import on_plate
from .sizes import StiltSize, sizes

# The free room is looked at on cubes of this side, or of one that gives so many of them.
PIXEL_MM, MOST_CELLS = 0.5, 2_500_000
# So far beside the part a stilt may stand.
ASIDE_MM = 12.0
# A tip comes at the surface from within so many degrees of straight up, and of the surface's own direction.
CONE_DEG, OFF_NORMAL_DEG = 45.0, 50.0
# Shafts lean by these angles, in so many directions, until there is a way straight down.
LEANS_DEG, COMPASS = (15.0, 30.0, 45.0), 16
# Shortest stilt that can be printed and snipped.
SHORTEST_MM = 0.8
FOOT_HEIGHT_MM = 0.6
# Along its way a shaft is looked at so often; there it may come closer than the clearance by this share.
EVERY_MM, CLOSER = 0.4, 0.6
# On the part a shaft grows from a point over so much.
LANDING_MM = 1.0


@dataclass(frozen=True, eq=False)
class Way:
    """How a stilt runs.

    Attributes
    ----------
    circles : (k, 4) float64
        x, y, z and radius from the foot up, mm.
    on_part : bool
    bend : int
        Below this circle the shaft is upright: braces hold on to it there.
    """

    circles: NDArray[np.float64]
    on_part: bool
    bend: int


class Room:
    """Free room round a part, in cubes.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    settings : SupportSettings
    """

    def __init__(self, stack: LayerStack, settings: SupportSettings) -> None:
        from scipy.ndimage import distance_transform_edt

        first, last = stack.points.min(axis=0), stack.points.max(axis=0)
        # Feet and the last cubes reach a little further.
        rim = sizes(settings)[-1].foot_mm / 2 + 2 * PIXEL_MM
        low, high = on_plate(first - ASIDE_MM, last + ASIDE_MM, stack, settings.plate_mm, rim)
        top = stack.base_mm + len(stack) * stack.layer_mm
        volume = float((high - low).prod()) * top
        self.pixel_mm = max(PIXEL_MM, (volume / MOST_CELLS) ** (1 / 3))
        self.low = low
        columns, rows = (int(v) + 1 for v in np.ceil((high - low) / self.pixel_mm))
        levels = int(top / self.pixel_mm) + 1
        taken = np.zeros((levels, rows, columns), np.bool_)
        each = stack.layer_mm
        for k in range(levels):
            # A layer in the middle of the cubes stands for them; thinner walls are met by the exact look.
            layer = int(((k + 0.5) * self.pixel_mm - stack.base_mm) / each)
            if (k + 0.5) * self.pixel_mm < stack.base_mm or layer >= len(stack):
                continue
            a, b = int(stack.layer_start[layer]), int(stack.layer_start[layer + 1])
            fill(taken[k], stack.points, stack.ring_start, a, b, low, self.pixel_mm, True)
        self.away = np.full(taken.shape, 1e3, np.float32)
        if taken.any():
            self.away = (distance_transform_edt(~taken) * self.pixel_mm).astype(np.float32)
        # How near the part comes on the way straight down from each cube.
        self.below = np.minimum.accumulate(self.away, axis=0)

    def free(self, places: NDArray[np.float64], *, down: bool = False) -> NDArray[np.float64]:
        """Free distance (...) round places (..., 3), mm, or all the way down from them; 0 beyond the room."""
        column, row = ((places[..., k] - self.low[k]) / self.pixel_mm for k in (0, 1))
        index = [np.floor(v).astype(np.int64) for v in (places[..., 2] / self.pixel_mm, row, column)]
        inside = np.ones(places.shape[:-1], bool)
        for k, size in enumerate(self.away.shape):
            inside &= (index[k] >= 0) & (index[k] < size)
        field = self.below if down else self.away
        at = tuple(np.where(inside, v, 0) for v in index)
        return np.where(inside, field[at], 0.0)


class Router:
    """Finds ways for stilts.

    Parameters
    ----------
    part : Tree
        Of the part where it stands.
    stack : LayerStack
    settings : SupportSettings
    """

    def __init__(self, part: Tree, stack: LayerStack, settings: SupportSettings) -> None:
        self.part, self.settings = part, settings
        self.room = Room(stack, settings)
        self._steps = self._leans()

    def _leans(self) -> NDArray[np.float64]:
        """Steps (t, COMPASS, s, 3) of leaning shafts from their knees, mm."""
        turn = 2 * np.pi * np.arange(COMPASS) / COMPASS
        far = np.arange(1, 61) * self.room.pixel_mm
        found = []
        for lean in np.radians(LEANS_DEG):
            way = np.stack(
                [
                    math.sin(lean) * np.cos(turn),
                    math.sin(lean) * np.sin(turn),
                    np.full(COMPASS, -math.cos(lean)),
                ],
                axis=1,
            )
            found.append(way[:, None, :] * far[None, :, None])
        return np.stack(found)

    def way(self, at: NDArray[np.float64], outward: NDArray[np.float64], size: StiltSize) -> Way | None:
        """Find a way from a place on the part.

        Parameters
        ----------
        at : (3,) float64, mm
        outward : (3,) float64
            Direction of the surface there.
        size : StiltSize

        Returns
        -------
        Way or None
            Straight down if it can be, else leaning to where it can, else onto the part; ``None`` where there
            is no room.
        """
        if at[2] < SHORTEST_MM:
            return None
        need = size.shaft_mm / 2 + self.settings.clearance_mm
        long = min(size.length_mm, max(0.4, 0.6 * float(at[2])))
        landing: Way | None = None
        for cone in cones(outward):
            knee = at + cone * long
            # The cubes tell distances to half a cube.
            if self.room.free(knee) < need - 0.5 * self.room.pixel_mm:
                continue
            if self.room.free(knee, down=True) >= need:
                found = self._standing(at, cone, knee, knee, size)
                if found is not None:
                    return found
            bend = self._bend(knee, need)
            if bend is not None:
                found = self._standing(at, cone, knee, bend, size)
                if found is not None:
                    return found
            if landing is None and not self.settings.from_plate:
                landing = self._landing(at, cone, knee, size)
        return landing

    def _bend(self, knee: NDArray[np.float64], need: float) -> NDArray[np.float64] | None:
        """Where a shaft that leans from its knee comes to a way straight down, with the least lean."""
        places = knee + self._steps
        over = places[..., 2] > 2 * FOOT_HEIGHT_MM
        free = np.logical_and.accumulate((self.room.free(places) >= need) & over, axis=2)
        open_ = free & (self.room.free(places, down=True) >= need)
        for lean in range(len(LEANS_DEG)):
            first = np.where(open_[lean].any(axis=1), open_[lean].argmax(axis=1), 10**6)
            best = int(first.argmin())
            if first[best] < 10**6:
                bend: NDArray[np.float64] = places[lean, best, first[best]]
                return bend
        return None

    def _standing(
        self,
        at: NDArray[np.float64],
        cone: NDArray[np.float64],
        knee: NDArray[np.float64],
        bend: NDArray[np.float64],
        size: StiltSize,
    ) -> Way | None:
        """A stilt on the plate; ``None`` where the part itself is too near."""
        shaft, foot = size.shaft_mm / 2, size.foot_mm / 2
        rows = [[*bend[:2], z, r] for z, r in _foot(foot, shaft) if z < bend[2] - 1e-6]
        if bend[2] < knee[2] - 1e-6:
            rows.append([*bend, shaft])
        upright = len(rows) - (bend[2] < knee[2] - 1e-6)
        way = Way(np.array(rows + _cone(at, cone, knee, size)), on_part=False, bend=upright)
        return way if self._clear(way, at) else None

    def _landing(
        self, at: NDArray[np.float64], cone: NDArray[np.float64], knee: NDArray[np.float64], size: StiltSize
    ) -> Way | None:
        """A stilt straight down onto the part, on a point as well: a foot would scar the surface."""
        shaft, point = size.shaft_mm / 2, size.tip_mm / 2
        turn = np.linspace(0, 2 * np.pi, 8, endpoint=False)
        beside = np.stack([np.cos(turn), np.sin(turn), np.zeros(8)], axis=1)
        starts = np.concatenate([knee[None], knee + (shaft + self.settings.clearance_mm) * beside])
        fall, _ = self.part.first_hits(starts, np.tile([0.0, 0.0, -1.0], (len(starts), 1)))
        floor = float(knee[2] - fall[0])
        # Past a steep slope it would slip.
        highest = float(knee[2] - fall.min())
        if not math.isfinite(floor) or knee[2] - highest < SHORTEST_MM or highest - floor > 2 * shaft:
            return None
        rows = [[*knee[:2], floor - size.depth_mm, point], [*knee[:2], floor + LANDING_MM, shaft]]
        rows = [row for row in rows if row[2] < knee[2] - 1e-6]
        way = Way(np.array(rows + _cone(at, cone, knee, size)), on_part=True, bend=len(rows))
        return way if self._clear(way, at, floor) else None

    def _clear(self, way: Way, at: NDArray[np.float64], floor: float = -math.inf) -> bool:
        """Whether the part is nowhere too near, measured on its surface."""
        places, radii = along(way.circles)
        off = np.linalg.norm(places - at, axis=1)
        shaft = (off > self.settings.tip_length_mm) & (places[:, 2] > floor + LANDING_MM)
        if shaft.any():
            away = self.part.distances(places[shaft], 5.0)
            if (away < radii[shaft] + CLOSER * self.settings.clearance_mm).any():
                return False
        # The cone itself only leaves the surface: its axis may not go back into the part.
        axis = places[(off <= self.settings.tip_length_mm) & (off > 0.3) & (places[:, 2] < at[2])]
        return not len(axis) or bool((self.part.winding(axis) < 0.5).all())


def along(circles: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places (n, 3) along circles (k, 4) of x, y, z and radius, ``EVERY_MM`` apart, with the radii there."""
    steps = np.linalg.norm(np.diff(circles[:, :3], axis=0), axis=1)
    length = np.concatenate([[0.0], np.cumsum(steps)])
    at = np.linspace(0, length[-1], max(2, math.ceil(length[-1] / EVERY_MM)))
    found = np.stack([np.interp(at, length, circles[:, k]) for k in range(4)], axis=1)
    return found[:, :3], found[:, 3]


def cones(outward: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Directions (3,) that a tip can come from, away from the part, the best first.

    Along the surface's own direction as far as ``CONE_DEG`` allows, straight down, and between and beside.
    """
    a, b, c = (float(v) for v in outward)
    lean = min(math.degrees(math.atan2(math.hypot(a, b), -c)), CONE_DEG)
    azimuth = math.degrees(math.atan2(b, a))
    # The same way only once, where the surface is level or a wall.
    tried = dict.fromkeys(
        (round(tilt, 3), round(turn if tilt > 0 else 0.0, 3))
        for tilt, turn in (
            (lean, azimuth),
            (0.0, 0.0),
            (lean / 2, azimuth),
            (CONE_DEG, azimuth),
            *((30.0, azimuth + aside) for aside in _ASIDE),
        )
    )
    least = math.cos(math.radians(OFF_NORMAL_DEG + 1e-6))
    found: list[NDArray[np.float64]] = []
    for tilt, turn in tried:
        t, u = math.radians(tilt), math.radians(turn)
        x, y, z = math.sin(t) * math.cos(u), math.sin(t) * math.sin(u), -math.cos(t)
        if x * a + y * b + z * c >= least:
            found.append(np.array([x, y, z]))
    return found


_ASIDE = (60.0, -60.0, 120.0, -120.0, 180.0)


def _foot(foot: float, shaft: float) -> list[tuple[float, float]]:
    return [(0.0, foot), (FOOT_HEIGHT_MM / 2, foot), (2 * FOOT_HEIGHT_MM, shaft)]


def _cone(
    at: NDArray[np.float64], cone: NDArray[np.float64], knee: NDArray[np.float64], size: StiltSize
) -> list[list[float]]:
    point = size.tip_mm / 2
    inside = at - cone * size.depth_mm
    return [[*knee, size.shaft_mm / 2], [*at, point], [*inside, point]]

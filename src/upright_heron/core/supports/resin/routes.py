"""Ways of stilts: from a tip on the part down to the plate, or to the part where that is allowed."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...geometry.near_cells import near_cells
from ...geometry.pixels import fill
from ...geometry.tree import Tree
from ...layers.stack import LayerStack
from ..model import SupportSettings
from ..on_plate import on_plate
from .sizes import THICKEST, StiltSize, sizes

# The free room is looked at on cubes of this side, or of one that gives so many of them.
PIXEL_MM, MOST_CELLS = 0.5, 2_500_000
# So far beside the part a stilt may stand.
ASIDE_MM = 12.0
# A tip comes at the surface from within so many degrees of straight up, and of the surface's own direction.
CONE_DEG, OFF_NORMAL_DEG = 45.0, 50.0
# Shafts lean by these shares of the most that they may, in so many directions, over so many cubes, until
# there is a way straight down.
LEANS, COMPASS, LONGEST = (1 / 3, 2 / 3, 1.0), 16, 60
# What is reached from outside by no wider way is a hollow: holes to drain are narrower (common practice).
HOLE_MM = 4.0
# Where a part is thinner than tips are deep they keep such shares of their depth.
SHALLOWER = (1.0, 0.5, 0.25)
# Shortest stilt that can be printed and snipped.
SHORTEST_MM = 0.8
FOOT_HEIGHT_MM = 0.6
# Along its way a shaft is looked at so often; there it may come closer than the clearance by this share.
EVERY_MM, CLOSER = 0.4, 0.6
# A ball at a tip is so many times as wide as what it touches; there it goes over into the cone.
BALL, STEM = 1.5, 0.75
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
        # More room than the thickest shaft needs is not asked for.
        need = THICKEST * sizes(settings)[-1].shaft_mm / 2 + settings.clearance_mm
        self.away = near_cells(taken, math.ceil(need / self.pixel_mm) + 1) * np.float32(self.pixel_mm)
        self.taken = taken
        # How near the part comes on the way straight down from each cube.
        self.below = np.minimum.accumulate(self.away, axis=0)

    @cached_property
    def enclosed(self) -> NDArray[np.bool_]:
        """Cubes (nz, ny, nx) that nothing wider than ``HOLE_MM`` gets to from outside."""
        from scipy.ndimage import label

        rooms, _ = label(self.away >= HOLE_MM / 2)
        # What comes to the sides or to the top of the room is outside.
        sides = [rooms[-1], rooms[:, 0], rooms[:, -1], rooms[:, :, 0], rooms[:, :, -1]]
        outside = np.isin(rooms, np.setdiff1d(np.concatenate([side.ravel() for side in sides]), [0]))
        steps = math.ceil(HOLE_MM / 2 / self.pixel_mm)
        return np.asarray(~self.taken & (near_cells(outside, steps) > steps))

    def is_enclosed(self, place: NDArray[np.float64]) -> bool:
        """Whether a place (3,) lies inside a hollow."""
        column, row = ((place[k] - self.low[k]) / self.pixel_mm for k in (0, 1))
        at = tuple(int(v) for v in (place[2] / self.pixel_mm, row, column))
        within = all(0 <= k < size for k, size in zip(at, self.taken.shape, strict=True))
        return within and bool(self.enclosed[at])


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
        # How many circles a tip has, from its knee.
        self.cone = 5 if settings.rounded else 3
        # How often a stilt was kept out of a hollow.
        self.kept_out = 0
        lean = np.radians(settings.lean_deg) * np.array(LEANS)
        turn = 2 * np.pi * np.arange(COMPASS) / COMPASS
        # Directions (leans, COMPASS, 3) of shafts that lean, downwards.
        self._leaning = np.stack(
            [
                np.outer(np.sin(lean), np.cos(turn)),
                np.outer(np.sin(lean), np.sin(turn)),
                np.outer(-np.cos(lean), np.ones(COMPASS)),
            ],
            axis=2,
        )

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
        room = self.room
        from_knee = at + long * np.array(cones(outward)).reshape(-1, 3)
        open_, straight, bends = _ways(
            room.away, room.below, room.low, room.pixel_mm, from_knee, need, self._leaning
        )
        for k, knee in enumerate(from_knee):
            cone = (knee - at) / long
            if not open_[k]:
                continue
            for bend in ([knee] if straight[k] else []) + ([bends[k]] if bends[k, 2] > 0 else []):
                found = self._standing(at, cone, knee, bend, size)
                if found is not None:
                    return found
            if landing is None and not self.settings.from_plate:
                if not self.settings.inside and room.is_enclosed(knee):
                    self.kept_out += 1
                    return None
                landing = self._landing(at, cone, knee, size)
        return landing

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
        # A shaft gains in thickness towards its foot.
        low = shaft + self.settings.shaft_taper_mm / 20 * max(float(bend[2]) - 2 * FOOT_HEIGHT_MM, 0.0)
        rows = [[*bend[:2], z, r] for z, r in _foot(max(foot, low), low) if z < bend[2] - 1e-6]
        if bend[2] < knee[2] - 1e-6:
            rows.append([*bend, shaft])
        upright = len(rows) - (bend[2] < knee[2] - 1e-6)
        way = Way(
            np.array(rows + _cone(at, cone, knee, size, self.settings.rounded)), on_part=False, bend=upright
        )
        return self._deep(way, at) if self.clear(way.circles, at) else None

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
        way = Way(
            np.array(rows + _cone(at, cone, knee, size, self.settings.rounded)), on_part=True, bend=len(rows)
        )
        return self._deep(way, at) if self.clear(way.circles, at, floor) else None

    def _deep(self, way: Way, at: NDArray[np.float64]) -> Way:
        """The way with its tip no deeper in the part than that is thick there: it would come out behind."""
        into = way.circles[-1, :3] - at
        ends = at + np.outer(SHALLOWER, into)
        within = self.part.winding(ends) > 0.5
        # On a sharp edge it only just touches.
        way.circles[-1, :3] = ends[int(within.argmax()) if within.any() else -1]
        return way

    def clear(
        self,
        circles: NDArray[np.float64],
        at: NDArray[np.float64],
        floor_mm: float = -math.inf,
        *,
        shaft_only: bool = False,
    ) -> bool:
        """Whether the part is nowhere too near, measured on its surface.

        Parameters
        ----------
        circles : (k, 4) float64
            x, y, z and radius from below, mm.
        at : (3,) float64
            The place on the part.
        floor_mm : float
            Height at which it stands on the part.
        shaft_only : bool
            The cone was looked at before.
        """
        places, radii = _along(circles, EVERY_MM)
        off = np.linalg.norm(places - at, axis=1)
        shaft = (off > self.settings.tip_length_mm) & (places[:, 2] > floor_mm + LANDING_MM)
        if shaft.any():
            reach = radii[shaft] + CLOSER * self.settings.clearance_mm
            if self.part.nearer(places[shaft], reach).any():
                return False
        if shaft_only:
            return True
        # The cone itself only leaves the surface: its axis may not go back into the part.
        axis = places[(off <= self.settings.tip_length_mm) & (off > 0.3) & (places[:, 2] < at[2])]
        return not len(axis) or bool((self.part.winding(axis) < 0.5).all())

    def thicker(
        self, circles: NDArray[np.float64], at: NDArray[np.float64], shaft_mm: float
    ) -> NDArray[np.float64] | None:
        """The same way (k, 4) with a thicker shaft, or ``None`` where the part is too near for it.

        Parameters
        ----------
        circles : (k, 4) float64
            x, y, z and radius from the foot up, mm.
        at : (3,) float64
            The place on the part.
        shaft_mm : float
            Diameter below the cone.
        """
        on_part = circles[0, 2] > 0
        first = 1 if on_part else int(np.searchsorted(circles[:, 2], 2 * FOOT_HEIGHT_MM - 1e-6))
        found = circles.copy()
        found[first : len(found) - self.cone + 1, 3] += shaft_mm / 2 - circles[-self.cone, 3]
        if not on_part:
            found[:first, 3] = np.maximum(found[:first, 3], found[first, 3])
        floor = float(circles[0, 2]) if on_part else -math.inf
        return found if self.clear(found, at, floor, shaft_only=True) else None


@njit(cache=True)
def _free(field, low, pixel, x, y, z):  # type: ignore[no-untyped-def]
    """What a field of cubes tells at a place; 0 beyond it."""
    k = int(np.floor(z / pixel))
    row = int(np.floor((y - low[1]) / pixel))
    column = int(np.floor((x - low[0]) / pixel))
    if k < 0 or row < 0 or column < 0:
        return 0.0
    if k >= field.shape[0] or row >= field.shape[1] or column >= field.shape[2]:
        return 0.0
    return float(field[k, row, column])


@njit(cache=True)
def _ways(away, below, low, pixel, knees, need, leaning):  # type: ignore[no-untyped-def]
    """Ways from knees (k, 3): whether there is room at all, straight down, and where a leaning shaft ends.

    The end (k, 3) is where the least lean comes to a way straight down, as soon as any direction does; its
    height is -1 where none does.
    """
    count = knees.shape[0]
    open_, straight = np.zeros(count, np.bool_), np.zeros(count, np.bool_)
    bends = np.full((count, 3), -1.0)
    for n in range(count):
        x, y, z = knees[n, 0], knees[n, 1], knees[n, 2]
        # The cubes tell distances to half a cube.
        open_[n] = _free(away, low, pixel, x, y, z) >= need - 0.5 * pixel
        if not open_[n]:
            continue
        straight[n] = _free(below, low, pixel, x, y, z) >= need
        for lean in range(leaning.shape[0]):
            least = LONGEST + 1
            for turn in range(leaning.shape[1]):
                a, b, c = leaning[lean, turn, 0], leaning[lean, turn, 1], leaning[lean, turn, 2]
                for step in range(1, least):
                    u, v, w = x + step * pixel * a, y + step * pixel * b, z + step * pixel * c
                    if w <= 2 * FOOT_HEIGHT_MM or _free(away, low, pixel, u, v, w) < need:
                        break
                    if _free(below, low, pixel, u, v, w) >= need:
                        least = step
                        bends[n] = u, v, w
                        break
            if least <= LONGEST:
                break
    return open_, straight, bends


@njit(cache=True)
def _along(circles, every):  # type: ignore[no-untyped-def]
    """Places (n, 3) along circles (k, 4), no further apart than asked, with the radii there."""
    length = np.zeros(circles.shape[0])
    for k in range(1, circles.shape[0]):
        x, y, z, _ = circles[k] - circles[k - 1]
        length[k] = length[k - 1] + math.sqrt(x * x + y * y + z * z)
    count = max(2, math.ceil(length[-1] / every))
    places, radii = np.empty((count, 3)), np.empty(count)
    k = 0
    for n in range(count):
        at = length[-1] * n / (count - 1)
        while k + 2 < circles.shape[0] and length[k + 1] < at:
            k += 1
        run = length[k + 1] - length[k]
        share = min((at - length[k]) / run, 1.0) if run > 0 else 0.0
        places[n] = circles[k, :3] + share * (circles[k + 1, :3] - circles[k, :3])
        radii[n] = circles[k, 3] + share * (circles[k + 1, 3] - circles[k, 3])
    return places, radii


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
    at: NDArray[np.float64], cone: NDArray[np.float64], knee: NDArray[np.float64], size: StiltSize, ball: bool
) -> list[list[float]]:
    """Circles of a tip from its knee into the part, pointed or with a ball at its end."""
    point = size.tip_mm / 2
    inside = at - cone * size.depth_mm
    neck: list[list[float]] = []
    if ball:
        # So wide that the circle in which it meets a level surface is that of the tip.
        radius = BALL * point
        middle = math.sqrt(radius**2 - point**2)
        long = float(np.linalg.norm(knee - at))
        if long > 1.5 * (middle + radius):
            neck = [[*(at + cone * (middle + radius * STEM)), point], [*(at + cone * middle), radius]]
        else:
            neck = [[*(at + cone * long * share), point] for share in (0.66, 0.33)]
    return [[*knee, size.shaft_mm / 2], *neck, [*at, point], [*inside, point]]

"""Outlines set beside each other on a plate: each in the first place that has room for it.

Outlines and the plate are pixels. Those that are only touched count, in what is laid and taken, so
that no gap is lost by rounding; ``gaps.py`` measures it once more from the true outlines.

References
----------
Bottom-left placing: B. Baker, E. Coffman and R. Rivest, "Orthogonal packings in two dimensions", SIAM J.
Computing 9(4), 1980. Of outlines as pixels: J. Oliveira and J. Ferreira, "Algorithms for nesting problems",
in Applied Simulated Annealing, Springer 1993 (both from memory).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..layers.coverage import accumulate, words_for
from ..layers.stack import packed
from ..progress import Progress, silent
from .free_places import first_free, nearest_free, runs_of, scan_back, scan_rows
from .outline import OUTLINE_MM, Outline, grown

Point = tuple[float, float]
Mask = NDArray[np.bool_]
# Pixels along the longer side of a plate, unless they get finer than this.
ALONG = 768
FINEST_MM = 0.1
QUARTERS = (0.0, 90.0, 180.0, 270.0)
_FAR = 1 << 30
# A pixel up counts for so much more than one to the right.
_LEFT = 0.02
_ANYWHERE = (0, _FAR, 0, _FAR)
FREELY = tuple(float(turn) for turn in range(0, 360, 30))


@dataclass(frozen=True, slots=True)
class Room:
    """Where outlines may lie.

    Attributes
    ----------
    plate_mm : (x, y)
        Its middle is the origin.
    gap_mm : float
        Clear distance between outlines.
    edge_mm : float
        Clear distance from the edges of the plate.
    spot_mm : (x, y)
        What does not fill the plate lies about this.
    worn : tuple of (x, y, radius)
        Places that are kept free, mm.
    turns : tuple of float
        Swings that are tried, degrees.
    """

    plate_mm: Point
    gap_mm: float = 3.0
    edge_mm: float = 0.0
    spot_mm: Point = (0.0, 0.0)
    worn: tuple[tuple[float, float, float], ...] = ()
    turns: tuple[float, ...] = (0.0,)


@dataclass(frozen=True, slots=True)
class Laid:
    """Where an outline lies: its number, its plate from 0, its origin from the middle (mm) and its swing."""

    number: int
    plate: int
    x_mm: float
    y_mm: float
    swing_deg: float


@dataclass(frozen=True, slots=True)
class Lock:
    """What stays of a place: along x, along y, its swing; with all three it does not move at all."""

    at: Laid
    x: bool = True
    y: bool = True
    swing: bool = True

    @property
    def whole(self) -> bool:
        """Whether nothing is left to choose."""
        return self.x and self.y and self.swing


@dataclass(eq=False)
class _Stamp:
    """An outline in one swing, as pixels.

    ``runs`` are those that it touches, from its lowest corner; ``taken`` those nearer than the gap, which
    begin ``margin`` pixels before; ``origin`` is where its own origin lies from that corner, mm.
    """

    swing: float
    size: tuple[int, int]
    runs: NDArray[np.int64]
    taken: Mask
    margin: int
    origin: Point


# A stamp, and the row and column of its corner.
_Found = tuple[_Stamp, int, int]


class _Pixels:
    """The pixels of a plate, rows along y: how outlines are drawn on them."""

    def __init__(self, room: Room) -> None:
        self.room = room
        # The true outline may lie so far outside the one that is laid.
        wide, deep = (side - 2 * (room.edge_mm + OUTLINE_MM) for side in room.plate_mm)
        self.pixel_mm = max(max(wide, deep) / ALONG, FINEST_MM)
        self.columns, self.rows = (max(0, int(side / self.pixel_mm + 1e-9)) for side in (wide, deep))
        # Of what is left of a pixel at the edges both sides have a half.
        self.low = (-self.columns * self.pixel_mm / 2, -self.rows * self.pixel_mm / 2)

    def stamp(self, plan: CrossSection, swing: float, at: Point | None = None) -> _Stamp:
        """An outline with its corner on a pixel; or as it lies when its origin is at a place of the plate."""
        p, gap = self.pixel_mm, self.room.gap_mm + 2 * OUTLINE_MM
        low: Point = plan.bounds()[:2]
        if at is not None:
            low = (self._on_pixel(low[0], at[0], 0), self._on_pixel(low[1], at[1], 1))
        margin = math.ceil(gap / p)
        laid = touched(plan, low, p)
        taken = touched(grown(plan, gap), (low[0] - margin * p, low[1] - margin * p), p)
        rows, columns = laid.shape
        return _Stamp(swing, (rows, columns), runs_of(laid), taken, margin, (-low[0], -low[1]))

    def _on_pixel(self, low: float, at: float, axis: int) -> float:
        """The corner of the pixel that a coordinate falls in, in the frame of the outline."""
        corner = self.low[axis]
        return corner + self.pixel_mm * math.floor((low + at - corner) / self.pixel_mm) - at

    def pixel_of(self, stamp: _Stamp, at: Point) -> tuple[int, int]:
        """Row and column of the corner of a stamp whose origin is at a place."""
        x, y = at[0] - stamp.origin[0] - self.low[0], at[1] - stamp.origin[1] - self.low[1]
        return round(y / self.pixel_mm), round(x / self.pixel_mm)

    def place_of(self, stamp: _Stamp, row: int, column: int) -> Point:
        """Where the origin of an outline is when its stamp lies there."""
        return (
            self.low[0] + column * self.pixel_mm + stamp.origin[0],
            self.low[1] + row * self.pixel_mm + stamp.origin[1],
        )


class _Plate:
    """What is taken of one plate."""

    def __init__(self, pixels: _Pixels) -> None:
        self.pixels = pixels
        rows, columns = pixels.rows, pixels.columns
        x = pixels.low[0] + (np.arange(columns) + 0.5) * pixels.pixel_mm
        y = pixels.low[1] + (np.arange(rows)[:, None] + 0.5) * pixels.pixel_mm
        self.taken: Mask = np.zeros((rows, columns), bool)
        for at_x, at_y, radius in pixels.room.worn:
            self.taken |= np.hypot(x - at_x, y - at_y) < radius + pixels.pixel_mm * math.sqrt(0.5)
        self._ahead, self._free, self._back = (np.zeros((rows, columns + 1), np.int32) for _ in range(3))
        self._scan(0, rows)
        # Where the last search for a stamp ended: below that nothing gets free again.
        self._reached: dict[int, int] = {}

    def _scan(self, first: int, last: int) -> None:
        scan_rows(self.taken, self._ahead, self._free, first, last)
        scan_back(self.taken, self._back, first, last)

    def take(self, stamp: _Stamp, row: int, column: int) -> None:
        """Mark what is nearer to a laid stamp than the gap."""
        r, c = row - stamp.margin, column - stamp.margin
        rows, columns = stamp.taken.shape
        r0, c0 = max(r, 0), max(c, 0)
        r1, c1 = min(r + rows, self.pixels.rows), min(c + columns, self.pixels.columns)
        if r1 > r0 and c1 > c0:
            self.taken[r0:r1, c0:c1] |= stamp.taken[r0 - r : r1 - r, c0 - c : c1 - c]
            self._scan(r0, r1)

    def lowest(self, stamp: _Stamp, up_to: int) -> tuple[int, int] | None:
        """The lowest place that is free for a stamp, in rows up to one."""
        begin = self._reached.get(id(stamp), 0)
        row, column = first_free(self._ahead, self._free, stamp.runs, stamp.size, begin, up_to, 0)
        self._reached[id(stamp)] = row if row >= 0 else max(begin, up_to + 1)
        return None if row < 0 else (row, column)

    def nearest(
        self, stamp: _Stamp, spot: Point, bound: float, window: tuple[int, int, int, int] = _ANYWHERE
    ) -> tuple[int, int] | None:
        """The free place for a stamp that is nearest to one for its corner, both as row and column."""
        row, column = nearest_free(
            self._ahead, self._free, self._back, stamp.runs, stamp.size, spot, bound, window
        )
        return None if row < 0 else (row, column)


def touched(plan: CrossSection, low: Point, pixel_mm: float) -> Mask:
    """Pixels (rows, columns) that a plan touches, from a corner on; rows run along y."""
    _, _, x1, y1 = plan.bounds()
    columns = max(1, math.ceil((x1 - low[0]) / pixel_mm - 1e-9))
    rows = max(1, math.ceil((y1 - low[1]) / pixel_mm - 1e-9))
    total = np.zeros((rows + 1, columns + 2))
    marks = np.zeros((rows + 1, words_for(columns)), np.uint64)
    points, starts = packed([np.asarray(ring, np.float64) for ring in plan.to_polygons()])
    accumulate(points, starts, low[0], low[1], pixel_mm, total, marks)
    covered: Mask = np.cumsum(total, axis=1)[:rows, :columns] > 1e-9
    return covered


def nest(
    outlines: Sequence[Outline],
    which: Sequence[int],
    room: Room,
    locks: Sequence[Lock] = (),
    *,
    swings: Sequence[float] = (),
    ranks: Sequence[int] = (),
    lone: Collection[int] = (),
    plates: int | None = None,
    progress: Progress = silent,
) -> list[Laid]:
    """Lay outlines on as many plates as they need, the largest first.

    Parameters
    ----------
    outlines : sequence of Outline
        Each once, however often it is laid.
    which : sequence of int
        For each that is laid, which outline it is of.
    room : Room
    locks : sequence of Lock, optional
        What stays where it is, or moves along one axis only; ``at.number`` counts in ``which``.
    swings : sequence of float, optional
        How each is swung to begin with, degrees; turns come on top.
    ranks : sequence of int, optional
        For each: all of a lower one are laid before those of a higher, whatever their size.
    lone : collection of int, optional
        Numbers of which a plate bears one at most.
    plates : int, optional
        How many there are at most.
    progress : Progress

    Returns
    -------
    list of Laid
        By number. What is too large for a plate, or finds no room, is missing.
    """
    work = _Nesting(outlines, which, room, locks, swings, ranks, lone)
    left = work.free
    done: list[Laid] = []
    last_locked = max((lock.at.plate for lock in locks), default=-1)
    plate = 0
    while (left or plate <= last_locked) and (plates is None or plate < plates):
        about = work.fill(plate, left, work.about_the_spot)
        if len(about.laid) < len(about.asked):
            # It does not all fit about the spot: from one edge more finds room.
            tried = [about, *(work.fill(plate, order, work.low) for order in work.orders(left))]
            about = max(tried, key=lambda one: work.worth(one.laid))
        if not about.laid and plate > last_locked:
            break
        done += about.laid
        there = {one.number for one in about.laid}
        left = [k for k in left if k not in there]
        plate += 1
        progress("Arranging", len(done), len(which))
    return sorted(done, key=lambda one: one.number)


@dataclass(frozen=True, slots=True)
class _Filled:
    """What was laid on a plate, of what was asked for."""

    laid: list[Laid]
    asked: list[int]


class _Nesting:
    """What is known of the outlines that are laid, whatever plate they are laid on."""

    def __init__(
        self,
        outlines: Sequence[Outline],
        which: Sequence[int],
        room: Room,
        locks: Sequence[Lock],
        swings: Sequence[float] = (),
        ranks: Sequence[int] = (),
        lone: Collection[int] = (),
    ) -> None:
        self._lone = frozenset(lone)
        self._ranks = ranks or [0] * len(which)
        self.pixels = _Pixels(room)
        self._outlines, self._which = outlines, which
        self._swings = swings or [0.0] * len(which)
        self._areas = [outline.area_mm2 for outline in outlines]
        self._sides = [np.ptp(one.points, axis=0) if len(one.points) else np.zeros(2) for one in outlines]
        self._locks = {lock.at.number: lock for lock in locks}
        self._stamps: dict[tuple[int, float], _Stamp] = {}
        numbers = [k for k in range(len(which)) if k not in self._locks and len(outlines[which[k]].points)]
        self.free = self._largest(numbers, lambda k: self._sides[k].prod())

    def _largest(self, numbers: Sequence[int], size: Callable[[int], float]) -> list[int]:
        """Numbers of what is laid by rank, then by size of their outline; those alike after each other."""
        return sorted(numbers, key=lambda k: (self._ranks[k], -size(self._which[k]), self._which[k], k))

    def orders(self, numbers: Sequence[int]) -> list[list[int]]:
        """Orders that are tried: by box, by area, by the longer side."""
        sizes = (lambda k: self._sides[k].prod(), lambda k: self._areas[k], lambda k: self._sides[k].max())
        return [self._largest(numbers, size) for size in sizes]

    def worth(self, laid: Sequence[Laid]) -> tuple[float, ...]:
        """Area of the outlines that were laid, mm2: that of the first rank, and so on."""
        areas = dict.fromkeys(sorted(set(self._ranks)), 0.0)
        for one in laid:
            areas[self._ranks[one.number]] += self._areas[self._which[one.number]]
        return tuple(round(area, 3) for area in areas.values())

    def stamp(self, number: int, swing: float) -> _Stamp:
        """Pixels of an outline in a swing, made once."""
        key = (self._which[number], swing)
        if key not in self._stamps:
            self._stamps[key] = self.pixels.stamp(self._outlines[key[0]].turned(swing), swing)
        return self._stamps[key]

    def fill(
        self, plate: int, left: Sequence[int], look: Callable[[_Plate, Sequence[_Stamp]], _Found | None]
    ) -> _Filled:
        """Lay what finds room on one plate, beside what is locked there."""
        there = _Plate(self.pixels)
        laid = self._locked(plate, there)
        # What found no room will find none later: the plate only gets fuller.
        hopeless: set[tuple[int, float]] = set()
        full = any(one.number in self._lone for one in laid)
        for number in left:
            if full and number in self._lone:
                continue
            own = self._swings[number]
            kind = (self._which[number], own)
            if kind in hopeless:
                continue
            found = look(there, [self.stamp(number, own + turn) for turn in self.pixels.room.turns])
            if found is None:
                hopeless.add(kind)
            else:
                laid.append(self._lay(plate, number, there, *found))
                full = full or number in self._lone
        return _Filled(laid, [*(one.number for one in laid if one.number in self._locks), *left])

    def _lay(self, plate: int, number: int, there: _Plate, stamp: _Stamp, row: int, column: int) -> Laid:
        there.take(stamp, row, column)
        return Laid(number, plate, *self.pixels.place_of(stamp, row, column), stamp.swing)

    def _locked(self, plate: int, there: _Plate) -> list[Laid]:
        """What is locked on a plate: what does not move first, then what moves along an axis."""
        laid: list[Laid] = []
        mine = [lock for lock in self._locks.values() if lock.at.plate == plate]
        for lock in sorted(mine, key=lambda lock: not lock.whole):
            at, plan = lock.at, self._outlines[self._which[lock.at.number]]
            if lock.whole:
                stamp = self.pixels.stamp(plan.turned(at.swing_deg), at.swing_deg, (at.x_mm, at.y_mm))
                there.take(stamp, *self.pixels.pixel_of(stamp, (at.x_mm, at.y_mm)))
                laid.append(at)
                continue
            swings = (at.swing_deg,) if lock.swing else self.pixels.room.turns
            # Drawn where it lies: from there it moves by whole pixels, and no gap is lost.
            put = (at.x_mm, at.y_mm)
            stamps = [self.pixels.stamp(plan.turned(swing), swing, put) for swing in swings]
            found = self._nearest_to(there, stamps, lock)
            if found is not None:
                placed = self._lay(plate, at.number, there, *found)
                x = at.x_mm if lock.x else placed.x_mm
                y = at.y_mm if lock.y else placed.y_mm
                laid.append(Laid(at.number, plate, x, y, placed.swing_deg))
        return laid

    def _nearest_to(self, there: _Plate, stamps: Sequence[_Stamp], lock: Lock) -> _Found | None:
        best: tuple[float, _Found] | None = None
        for stamp in stamps:
            row, column = self.pixels.pixel_of(stamp, (lock.at.x_mm, lock.at.y_mm))
            rows = (row, row) if lock.y else (0, _FAR)
            columns = (column, column) if lock.x else (0, _FAR)
            bound = math.inf if best is None else best[0]
            found = there.nearest(stamp, (row, column), bound, (*rows, *columns))
            if found is not None:
                best = math.hypot(found[0] - row, found[1] - column), (stamp, *found)
        return None if best is None else best[1]

    def about_the_spot(self, there: _Plate, stamps: Sequence[_Stamp]) -> _Found | None:
        """The free place whose middle is nearest to the favourite spot."""
        best, found = math.inf, None
        pixels = self.pixels
        x, y = ((at - low) / pixels.pixel_mm for at, low in zip(pixels.room.spot_mm, pixels.low, strict=True))
        for stamp in stamps:
            rows, columns = stamp.size
            spot = (y - rows / 2, x - columns / 2)
            place = there.nearest(stamp, spot, best)
            if place is not None:
                best = math.hypot(place[0] - spot[0], place[1] - spot[1])
                found = (stamp, *place)
        return found

    def low(self, there: _Plate, stamps: Sequence[_Stamp]) -> _Found | None:
        """The free place in which it reaches up least, and then to the right least."""
        best, found = math.inf, None
        for stamp in stamps:
            rows, columns = stamp.size
            up_to = _FAR if found is None else math.floor(best - rows)
            place = there.lowest(stamp, up_to)
            if place is not None:
                score = place[0] + rows + _LEFT * (place[1] + columns)
                if score < best:
                    best, found = score, (stamp, *place)
        return found

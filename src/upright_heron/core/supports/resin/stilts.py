"""Resin supports: stilts under what begins in mid-air and what hangs, as many as the pull asks for."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ...geometry.mesh import Mesh, facet_normals
from ...geometry.tree import Tree
from ...hanging.findings import Hanging
from ...hanging.overhangs import overhangs
from ...layers.layer_components import Pieces, links, piece_at, pieces
from ...layers.peel import pulls
from ...layers.stack import LayerStack
from ...machines.catalogue import Peel
from ...marking.mark import Mark
from ...marking.marks import Marks
from ...progress import Progress, silent, tracked
from ..checks.stilt_check import unbraced_mm, verify_stilts
from ..demand.demand_overrides import spread_tips
from ..model import SupportSettings, support_id
from ..show_side import ENOUGH, Shown
from ..support_set import SupportSet
from .braces import brace, steady
from .joins import join
from .loads import Borne, walk_loads
from .routes import SHORTEST_MM, Router, Way
from .seen import seen_shares
from .sizes import THICKEST, StiltSize, Stoutness, size_for, sizes
from .stilt import Brace, Stilt, stilt_volume_mm3
from .stilt_layers import stilt_layers
from .tip_places import (
    AWAY_MM,
    BESIDE_MM,
    FREE_MM,
    MOST_BESIDE,
    Place,
    Start,
    Undersides,
    beside,
    by_slope,
    fits_round,
    starts,
    undersides,
)

# Tips that are added for their load may find no way: then others are asked for, so many times.
ROUNDS = 6
# A shaft that nothing braces is made so much thicker than it has to be.
SPARE_STIFF = 1.05
# Facets at right angles are as far apart for what is painted.
SIDE_MM = 5.0
# So many of the weakest tips are told by themselves.
WEAKEST = 10
# Where a tip was taken out by hand none comes so near; a size that was chosen is for the tip so near.
OUT_MM, SIZED_MM = 1.0, 0.5
# Ways (k, 3) that a tip on a point can come from, away from the part.
POINTING = np.array(
    [
        (math.sin(lean) * math.cos(turn), math.sin(lean) * math.sin(turn), -math.cos(lean))
        for lean in np.radians((0.0, 15.0, 30.0, 45.0))
        for turn in np.radians(np.arange(0, 360, 30) if lean else (0,))
    ]
)
# One tip below a point is left out where so many stand beside it.
ENOUGH_BESIDE = 2


@dataclass(frozen=True, eq=False)
class Ground:
    """A part where it stands, with what is known of it.

    Attributes
    ----------
    mesh : Mesh
    part : Tree
        Of the mesh.
    stack : LayerStack
    hanging : Hanging
        What was found walking up its layers.
    up : (x, y, z)
        The way up of the part as it came.
    shown : Shown, optional
        The show side; without one what is seen walking round the part counts.
    """

    mesh: Mesh
    part: Tree
    stack: LayerStack
    hanging: Hanging
    up: tuple[float, float, float] = (0.0, 0.0, 1.0)
    shown: Shown | None = None


@dataclass(frozen=True, eq=False)
class ByHand:
    """What hands did to tips where the part stands.

    Attributes
    ----------
    put_mm : (n, 3) float64
        Places on the part that are to have one.
    out_mm : (m, 3) float64
        Places round which there is to be none of the automatic ones.
    sized_mm : (k, 3) float64
        Places whose tips have sizes of their own,
    sizes : tuple of Stoutness
        and which.
    """

    put_mm: NDArray[np.float64]
    out_mm: NDArray[np.float64]
    sized_mm: NDArray[np.float64] = field(default_factory=lambda: np.zeros((0, 3)))
    sizes: tuple[Stoutness, ...] = ()


NOTHING = ByHand(np.zeros((0, 3)), np.zeros((0, 3)))


def make_stilts(
    ground: Ground,
    limit_deg: float,
    settings: SupportSettings,
    *,
    peel: Peel = Peel.USUAL,
    painted: tuple[Mesh, Marks] | None = None,
    by_hand: ByHand = NOTHING,
    progress: Progress = silent,
) -> SupportSet:
    """Stand stilts under a part, as many as bear it, braced, and check them.

    Parameters
    ----------
    ground : Ground
    limit_deg : float
        From vertical.
    settings : SupportSettings
        Tip, shaft and foot are those of the medium size.
    peel : Peel
        Class of the material: how hard it is pulled, and what its tips bear.
    painted : (Mesh, Marks), optional
        The fine mesh in the same stance, and what is painted on it.
    by_hand : ByHand
    progress : Progress

    Returns
    -------
    SupportSet
    """
    work = _Work(ground, limit_deg, settings, peel, painted, by_hand, progress)
    work.hold_by_hand()
    work.hold_starts()
    work.hold_painted()
    work.hold_slopes()
    borne = work.bear()
    stilts = join(work.stilts(borne.load_n), work.router, settings, peel)
    progress("Bracing stilts", 0, 1)
    braces = work.braces(stilts)
    if work.thicken(stilts, braces):
        braces = work.braces(stilts)
    layers = stilt_layers(stilts, braces, ground.stack, progress)
    made = SupportSet(
        tuple(stilts),
        layers,
        _held(ground, stilts, limit_deg, settings),
        tuple(sorted(work.unheld)),
        tuple(work.notes()),
        braces=tuple(braces),
    )
    faults = verify_stilts(made, ground.stack, ground.part, slender=settings.slender, progress=progress)
    return replace(made, faults=tuple(faults))


class _Work:
    """Stilts while they are thought of."""

    def __init__(
        self,
        ground: Ground,
        limit_deg: float,
        settings: SupportSettings,
        peel: Peel,
        painted: tuple[Mesh, Marks] | None,
        by_hand: ByHand,
        progress: Progress,
    ) -> None:
        self.ground, self.limit_deg, self.settings, self.peel = ground, limit_deg, settings, peel
        self.by_hand, self.astray = by_hand, 0
        self.painted, self.progress = painted, progress
        self.sizes = sizes(settings)
        progress("Finding room for stilts", 0, 1)
        self.router = Router(ground.part, ground.stack, settings)
        self.normals = facet_normals(ground.mesh)[0]
        self.coat: tuple[cKDTree, Marks] | None = None
        if painted is not None:
            fine, marks = painted
            middles = fine.vertices[fine.faces].mean(axis=1)
            self.coat = cKDTree(_sided(middles, facet_normals(fine)[0])), marks
        self.under = self._allowed(undersides(ground.mesh))
        self.places: list[Place] = []
        self.ways: list[Way] = []
        self.unheld: set[int] = set()
        self.blocked = 0
        self.pieces: Pieces = pieces(ground.stack)
        self.on_plate = ground.stack.base_mm <= 0

    @property
    def medium(self) -> StiltSize:
        """The size that ways are looked for with."""
        return self.sizes[1]

    @property
    def tips(self) -> NDArray[np.float64]:
        """Places of the tips so far (t, 3)."""
        return np.array([p.at_mm for p in self.places], np.float64).reshape(-1, 3)

    def _allowed(self, under: Undersides) -> Undersides:
        """What is not painted to be kept clear, and no tip was taken out of."""
        return under.some(~self._kept_clear(under.at_mm, under.outward) & ~self._taken_out(under.at_mm))

    def _taken_out(self, places: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Whether a tip was taken out by hand at places (n, 3)."""
        if not len(self.by_hand.out_mm) or not len(places):
            return np.zeros(len(places), bool)
        away: NDArray[np.float64] = cKDTree(self.by_hand.out_mm).query(places)[0]
        return away <= OUT_MM

    def _kept_clear(self, places: NDArray[np.float64], outward: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Whether the surface at places (n, 3), with its directions (n, 3), is painted to be kept clear."""
        if self.coat is None or not len(places):
            return np.zeros(len(places), bool)
        near, marks = self.coat
        found: NDArray[np.bool_] = marks[near.query(_sided(places, outward))[1]] == Mark.KEEP_CLEAR
        return found

    def _clear_of(self, places: Sequence[Place]) -> list[Place]:
        """Those of some places that are not kept clear, and that no tip was taken out of."""
        if not places:
            return []
        at = np.array([p.at_mm for p in places])
        kept = self._kept_clear(at, np.array([p.outward for p in places])) | self._taken_out(at)
        return [place for place, clear in zip(places, kept, strict=True) if not clear]

    def take(self, place: Place) -> bool:
        """Stand a stilt under a place, if there is a way."""
        way = self.router.way(np.array(place.at_mm), np.array(place.outward), self.medium)
        if way is None:
            return False
        self.places.append(place)
        self.ways.append(way)
        return True

    def _try(self, place: Place) -> None:
        """Stand a stilt under a place, or count it as without room; hollows are told by themselves."""
        before = self.router.kept_out
        self.blocked += not self.take(place) and self.router.kept_out == before

    def hold_by_hand(self) -> None:
        """Stand tips where hands put them, as far as there is a way."""
        for at in self.by_hand.put_mm:
            outward = self.normals[self.ground.part.nearest(at)[0]]
            x, y, z = (float(v) for v in at)
            a, b, c = (float(v) for v in outward)
            looks_down = c < 0 and z >= SHORTEST_MM
            self.astray += not (
                looks_down and self.take(Place((x, y, z), (a, b, c), "by hand", by_hand=True))
            )

    def hold_starts(self) -> None:
        """Hold every island and low point: points from beside, others from below."""
        every = starts(self.ground.hanging, self.ground.part, self.normals, self.ground.stack)
        every = [one for one in every if one.place.at_mm[2] >= SHORTEST_MM]
        points = np.array([one.place.at_mm for one in every if one.point])
        if len(points):
            # Nothing else touches a point either.
            self.under = self.under.some(cKDTree(points).query(self.under.at_mm)[0] > AWAY_MM)
        for one in tracked(every, "Placing tips", self.progress):
            clear = self._clear_of([one.place])
            held = bool(clear) and (self._round(one) if one.point else self.take(one.place))
            held = held or self._by_hand(one)
            if not held and one.place.island:
                self.unheld.add(one.place.island)

    def _by_hand(self, start: Start) -> bool:
        """Whether a tip that was put by hand stands right at a start."""
        at = [p.at_mm for p in self.places if p.by_hand]
        return any(math.dist(one, start.place.at_mm) <= BESIDE_MM for one in at)

    def _round(self, start: Start) -> bool:
        """Hold a point from beside, and itself only where that is not enough."""
        chosen: list[Place] = []
        places = self._clear_of(beside(start, self.ground.part, self.normals))
        shown = self._shown(np.array([one.at_mm for one in places]).reshape(-1, 3))

        def enough() -> bool:
            first = min((one.at_mm[2] for one in chosen), default=np.inf) - start.place.at_mm[2]
            return len(chosen) >= ENOUGH_BESIDE and first <= FREE_MM

        # What is shown comes last, and only where the others do not hold the point.
        for k in np.argsort(shown, kind="stable").tolist():
            if len(chosen) == MOST_BESIDE or (shown[k] and enough()):
                break
            if fits_round(places[k], chosen, start.place) and self.take(places[k]):
                chosen.append(places[k])
        if enough():
            return True
        return self._on_point(start.place) or bool(chosen)

    def _on_point(self, place: Place) -> bool:
        """Hold a point itself, from where the end of the tip lies in it: a needle is thin for one aslant."""
        at = np.array(place.at_mm)
        # Straight up first, then more and more aslant.
        ends = at - self.medium.depth_mm * POINTING
        best = int((self.ground.part.winding(ends) > 0.5).argmax())
        x, y, z = (float(v) for v in POINTING[best])
        return self.take(replace(place, snip=True, outward=(x, y, z)))

    def hold_painted(self) -> None:
        """Hold what is painted to be held."""
        if self.painted is None:
            return
        for at in spread_tips(*self.painted, self.settings.spacing_mm, SHORTEST_MM):
            self._try(Place(at, (0.0, 0.0, -1.0), "painted"))

    def hold_slopes(self) -> None:
        """Hold what hangs past the limit: beside the show side first, and on it what that leaves far off."""
        names = {f: f"overhang {r.number}" for r in self.ground.hanging.regions for f in r.facets}
        shown = self._shown(self.under.at_mm)
        for on, apart in ((False, 1.0), (True, ENOUGH)):
            some = np.flatnonzero(shown == on)
            spacing = apart * self.settings.spacing_mm
            chosen = some[by_slope(self.under.some(some), self.limit_deg, spacing, self.tips)]
            for k in tracked(chosen.tolist(), "Placing tips", self.progress, every=16):
                reason = names.get(int(self.under.facet[k]), "overhang")
                self._try(self._place(k, reason))

    def _shown(self, places: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Which places (n, 3) lie on the show side."""
        if self.ground.shown is None:
            return np.zeros(len(places), np.bool_)
        return self.ground.shown.over(places)

    def _place(self, k: int, reason: str) -> Place:
        x, y, z = (float(v) for v in self.under.at_mm[k])
        a, b, c = (float(v) for v in self.under.outward[k])
        return Place((x, y, z), (a, b, c), reason)

    def _pieces_of(self, places: NDArray[np.float64]) -> NDArray[np.int64]:
        """Piece of its layer that each place (n, 3) touches; -1 for none."""
        stack = self.ground.stack
        first = np.ceil((places[:, 2] - stack.base_mm) / stack.layer_mm - 0.5).astype(np.int64)
        found = np.full(len(places), -1, np.int64)
        # A tip on a slope lies in the piece of the next layers; beside a point a little further up.
        for more in range(4):
            open_ = found < 0
            layers = np.maximum(first[open_] + more, 0)
            found[open_] = piece_at(self.pieces, layers, np.ascontiguousarray(places[open_, :2]))
        return found

    def bear(self) -> Borne:
        """Add tips until each bears no more than a medium one can, and has some to spare."""
        pull = pulls(self.pieces, self.peel)
        pairs = links(self.pieces)
        most = self.medium.bears_n(self.peel) / self.settings.spare
        spare = self.under
        where = self._pieces_of(spare.at_mm)
        shown = self._shown(spare.at_mm)
        # The show side is asked for no more than what the others cannot bear.
        for free in [where >= 0] if not shown.any() else [(where >= 0) & ~shown, (where >= 0) & shown]:
            for _ in range(ROUNDS):
                tips = (self.tips[:, :2], self._pieces_of(self.tips))
                asked = (spare.at_mm[free, :2], where[free])
                borne = walk_loads(self.pieces, pairs, pull, tips, asked, most, on_plate=self.on_plate)
                numbers = np.flatnonzero(free)[borne.added]
                free[numbers] = False
                failed = 0
                for k in tracked(numbers.tolist(), "Adding tips for their load", self.progress, every=16):
                    failed += not self.take(self._place(k, "load"))
                if not failed:
                    break
        none = np.zeros((0, 2)), np.zeros(0, np.int64)
        tips = (self.tips[:, :2], self._pieces_of(self.tips))
        return walk_loads(self.pieces, pairs, pull, tips, none, np.inf, on_plate=self.on_plate)

    def stilts(self, load_n: NDArray[np.float64]) -> list[Stilt]:
        """The stilts, each of the size that its load (t,), N, asks for where there is room for it."""
        found: list[Stilt] = []
        seen = self.seen()
        names: set[str] = set()
        for place, way, load, shows in zip(self.places, self.ways, load_n.tolist(), seen, strict=True):
            # Two within half a millimetre would have one name.
            name = support_id("stilt", *place.at_mm)
            while name in names:
                name += "+"
            names.add(name)
            at, outward = np.array(place.at_mm), np.array(place.outward)
            size = self._size_by_hand(at) or size_for(load * self.settings.spare, self.sizes, self.peel)
            own = way if size is self.medium else self.router.way(at, outward, size)
            if own is None or own.on_part != way.on_part:
                size, own = self.medium, way
            found.append(
                Stilt(
                    name,
                    place.reason,
                    place.at_mm,
                    own.on_part,
                    stilt_volume_mm3(own.circles),
                    own.circles,
                    own.bend,
                    size.name.value,
                    load,
                    size.bears_n(self.peel),
                    place.snip,
                    shows,
                    cone=self.router.cone,
                )
            )
        return found

    def _size_by_hand(self, at: NDArray[np.float64]) -> StiltSize | None:
        """The size that was chosen for the tip at a place (3,); ``None`` where its load decides."""
        if not len(self.by_hand.sized_mm):
            return None
        away = np.linalg.norm(self.by_hand.sized_mm - at, axis=1)
        k = int(away.argmin())
        if away[k] > SIZED_MM:
            return None
        return next(one for one in self.sizes if one.name is self.by_hand.sizes[k])

    def seen(self) -> list[float]:
        """How much the mark of each tip is seen, 0 to 1."""
        if not self.places:
            return []
        at, outward = self.tips, np.array([place.outward for place in self.places], np.float64)
        if self.ground.shown is not None:
            return [float(on) for on in self.ground.shown.over(at)]
        return [float(v) for v in seen_shares(at, outward, self.ground.part, np.array(self.ground.up))]

    def braces(self, stilts: Sequence[Stilt]) -> list[Brace]:
        """Braces between the stilts, longer ones where a shaft runs too far."""
        part, settings = self.ground.part, self.settings
        return steady(stilts, brace(stilts, part, settings), part, settings)

    def thicken(self, stilts: list[Stilt], braces: Sequence[Brace]) -> bool:
        """Make shafts thicker that nothing braces for too long; whether any was."""
        lengths = unbraced_mm(stilts, braces)
        carrying = {one.stands_on for one in stilts}
        changed = False
        for k, (one, place) in enumerate(zip(stilts, self.places, strict=True)):
            want = SPARE_STIFF * lengths[k] / self.settings.slender
            if want <= one.shaft_mm:
                continue
            shaft = min(want, THICKEST * self.sizes[-1].shaft_mm)
            at = np.array(place.at_mm)
            circles, bend = self.router.thicker(one.circles, at, shaft), one.bend
            if circles is None and one.id not in carrying and not one.stands_on:
                # Where it is there is no room: another way may have some.
                size = next(s for s in self.sizes if s.name.value == one.size)
                way = self.router.way(at, np.array(place.outward), replace(size, shaft_mm=shaft))
                if way is not None and way.on_part == one.on_part:
                    circles, bend = way.circles, way.bend
            if circles is not None:
                stilts[k] = replace(one, circles=circles, bend=bend, volume_mm3=stilt_volume_mm3(circles))
                changed = True
        return changed

    def notes(self) -> list[str]:
        """What could not be done, in words."""
        told = []
        if self.unheld:
            told.append(f"Islands with no room for a stilt below them: {len(self.unheld)}.")
        if self.router.kept_out:
            told.append(f"Places inside hollows, which are left free as asked: {self.router.kept_out}.")
        if self.blocked:
            told.append(f"Places under overhangs with no room for a stilt: {self.blocked}.")
        if self.astray:
            told.append(f"Tips put by hand that find no way, or where the part looks up: {self.astray}.")
        return told


def _sided(places: NDArray[np.float64], outward: NDArray[np.float64]) -> NDArray[np.float64]:
    """Places (n, 3) with their directions (n, 3), so that those round an edge lie apart: (n, 6)."""
    return np.concatenate([places, SIDE_MM * outward], axis=1)


def _held(ground: Ground, stilts: Sequence[Stilt], limit_deg: float, settings: SupportSettings) -> float:
    """Area of the facets past the limit within two spacings of a tip, which slopes have, mm2."""
    if not stilts:
        return 0.0
    mesh = ground.mesh
    past = overhangs(mesh, limit_deg, plate_mm=0.0 if ground.stack.base_mm <= 0 else None).past
    centres = mesh.vertices[mesh.faces[past]].mean(axis=1)
    distance = cKDTree([s.touch_mm for s in stilts]).query(centres)[0] if past.any() else np.zeros(0)
    return float(facet_normals(mesh)[1][past][distance <= 2 * settings.spacing_mm].sum())

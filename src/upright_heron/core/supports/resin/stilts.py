"""Resin supports: stilts under what begins in mid-air and what hangs, as many as the pull asks for."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ...geometry.mesh import Mesh, facet_normals
from ...marking.mark import Mark
from ...marking.marks import Marks
from ...progress import Progress, silent, tracked
from ..demand.demand_overrides import spread_tips
from ..show_side import ENOUGH
from .braces import brace, steady
from .joins import join
from .making import free_id, stilt, thicken
from .routes import SHORTEST_MM, Way
from .site import NOTHING, BareIsland, ByHand, Site, Stood
from .stilt import Brace, Stilt
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
# Facets at right angles are as far apart for what is painted.
SIDE_MM = 5.0
# So many of the weakest tips are told by themselves.
WEAKEST = 10
# Where a tip was taken out by hand none comes so near.
OUT_MM = 1.0
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


def stand(
    site: Site,
    *,
    painted: tuple[Mesh, Marks] | None = None,
    by_hand: ByHand = NOTHING,
    progress: Progress = silent,
) -> Stood:
    """Stand stilts under a part, as many as bear it, and brace them.

    Parameters
    ----------
    site : Site
    painted : (Mesh, Marks), optional
        The fine mesh in the same stance, and what is painted on it.
    by_hand : ByHand
        The others are stood round what hands did.
    progress : Progress

    Returns
    -------
    Stood
    """
    work = _Work(site, painted, by_hand, progress)
    work.hold_by_hand()
    work.hold_starts()
    work.hold_painted()
    work.hold_slopes()
    stilts = work.stilts(work.bear())
    progress("Bracing stilts", 0, 1)
    outward = np.array([place.outward for place in work.places], np.float64).reshape(-1, 3)

    def braced() -> list[Brace]:
        part, settings = site.ground.part, site.settings
        return steady(stilts, brace(stilts, part, settings), part, settings)

    braces = braced()
    if thicken(site, stilts, outward, braces):
        braces = braced()
    return Stood(
        tuple(stilts),
        outward,
        np.array([place.island for place in work.places], np.int64),
        tuple(braces),
        tuple(sorted(work.bare, key=lambda one: one.number)),
        site.router.kept_out - work.kept_out,
        work.blocked,
        work.astray,
    )


class _Work:
    """Stilts while they are thought of."""

    def __init__(
        self, site: Site, painted: tuple[Mesh, Marks] | None, by_hand: ByHand, progress: Progress
    ) -> None:
        self.site, self.ground, self.settings = site, site.ground, site.settings
        self.by_hand, self.astray = by_hand, 0
        self.painted, self.progress = painted, progress
        progress("Finding room for stilts", 0, 1)
        self.router = site.router
        # What was kept out before is not of this making.
        self.kept_out = self.router.kept_out
        self.coat: tuple[cKDTree, Marks] | None = None
        if painted is not None:
            fine, marks = painted
            middles = fine.vertices[fine.faces].mean(axis=1)
            self.coat = cKDTree(_sided(middles, facet_normals(fine)[0])), marks
        self.under = self._allowed(undersides(self.ground.mesh))
        self.places: list[Place] = []
        self.ways: list[Way] = []
        self.bare: set[BareIsland] = set()
        self.blocked = 0

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
        way = self.router.way(np.array(place.at_mm), np.array(place.outward), self.site.medium)
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
            outward = self.site.outward(at)
            x, y, z = (float(v) for v in at)
            a, b, c = (float(v) for v in outward)
            looks_down = c < 0 and z >= SHORTEST_MM
            self.astray += not (
                looks_down and self.take(Place((x, y, z), (a, b, c), "by hand", by_hand=True))
            )

    def hold_starts(self) -> None:
        """Hold every island and low point: points from beside, others from below."""
        every = starts(self.ground.hanging, self.ground.part, self.site.normals, self.ground.stack)
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
                self.bare.add(BareIsland(one.place.island, one.place.at_mm))

    def _by_hand(self, start: Start) -> bool:
        """Whether a tip that was put by hand stands right at a start."""
        at = [p.at_mm for p in self.places if p.by_hand]
        return any(math.dist(one, start.place.at_mm) <= BESIDE_MM for one in at)

    def _round(self, start: Start) -> bool:
        """Hold a point from beside, and itself only where that is not enough."""
        chosen: list[Place] = []
        places = self._clear_of(beside(start, self.ground.part, self.site.normals))
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
        ends = at - self.site.medium.depth_mm * POINTING
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
            chosen = some[by_slope(self.under.some(some), self.site.limit_deg, spacing, self.tips)]
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

    def bear(self) -> NDArray[np.float64]:
        """Add tips until each bears what a medium one can with some to spare; what each (t,) bears, N."""
        site = self.site
        most = site.medium.bears_n(site.peel) / self.settings.spare
        spare = self.under
        where = site.pieces_of(spare.at_mm)
        shown = self._shown(spare.at_mm)
        # The show side is asked for no more than what the others cannot bear.
        for free in [where >= 0] if not shown.any() else [(where >= 0) & ~shown, (where >= 0) & shown]:
            for _ in range(ROUNDS):
                borne = site.borne(self.tips, (spare.at_mm[free, :2], where[free]), most)
                numbers = np.flatnonzero(free)[borne.added]
                free[numbers] = False
                failed = 0
                for k in tracked(numbers.tolist(), "Adding tips for their load", self.progress, every=16):
                    failed += not self.take(self._place(k, "load"))
                if not failed:
                    break
        return site.borne(self.tips).load_n

    def stilts(self, load_n: NDArray[np.float64]) -> list[Stilt]:
        """The stilts, each of the size that its load (t,), N, asks for where there is room for it."""
        found: list[Stilt] = []
        outward = np.array([place.outward for place in self.places], np.float64).reshape(-1, 3)
        seen = self.site.seen(self.tips, outward)
        names: set[str] = set()
        for place, way, load, shows in zip(self.places, self.ways, load_n.tolist(), seen, strict=True):
            name = free_id(place, names)
            names.add(name)
            chosen = self.by_hand.size_at(np.array(place.at_mm))
            size = self.site.size(chosen)
            found.append(stilt(self.site, name, place, way, load, shows, size))
        return join(found, self.router, self.settings, self.site.peel)


def _sided(places: NDArray[np.float64], outward: NDArray[np.float64]) -> NDArray[np.float64]:
    """Places (n, 3) with their directions (n, 3), so that those round an edge lie apart: (n, 6)."""
    return np.concatenate([places, SIDE_MM * outward], axis=1)

"""Pegs, dowels and pockets: how many a face bears, how wide, and where they stand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from manifold3d import CrossSection, JoinType

from .faces import Face, centre, inside_of, places_in, spread_out, vector
from .fittings import (
    DEEPEST,
    END_MM,
    POCKET_MM,
    WIDEST_MM,
    JointKind,
    JointSetting,
    Peg,
    lip_of,
    placed,
    room_body,
)
from .worked import Worked

# At so many depths it is looked for what both pieces have there, before the exact test.
DEPTHS = 4
# Each width that is tried is this share of the one before.
NARROWER = 0.8
# Down to this share of the widest two are looked for.
HALF = 0.45
# The width of a peg as a share of the root of its face.
WIDTH_SHARE = 0.22
# A face bears one more peg for each of these areas, mm2; between them lie so many widths at least.
MORE_MM2 = (0.0, 250.0, 15_000.0, 40_000.0)
APART = 2.5
# A peg that goes by the wall is tried so many widths deep, the deepest first.
DEPTH_STEPS = tuple(np.arange(DEEPEST, 1.0, -0.25).tolist())
# How often other places are tried where the exact test refuses some.
TRIES = 6
# Pairs lie unequally about the middle of their face: by so many widths, so that no turn fits but one.
UNEQUAL = 0.5


def pegs_of(face: Face, setting: JointSetting, first: Worked, second: Worked) -> tuple[list[Peg], str]:
    """Place the pegs of a face.

    Parameters
    ----------
    face : Face
    setting : JointSetting
    first, second : Worked
        The pieces with the joints that are made already: of the one that bears the pegs, and of the other.

    Returns
    -------
    list of Peg
    str
        Why there are none, or narrower ones than asked for.

    Notes
    -----
    Sections at a few depths say where a peg may stand; whether the wall asked for stays round it is tested on
    the pieces themselves, with the sockets that are in them already. Depth about one and a half widths and
    two pegs a face where there is room are common practice.
    """
    area = float(face.region.area())
    widest = setting.width_mm or float(np.clip(WIDTH_SHARE * np.sqrt(area), setting.least_mm, WIDEST_MM))
    if setting.kind is JointKind.POCKET:
        # What goes into it has the size that it has.
        widest = setting.width_mm or POCKET_MM
    most = setting.most or sum(area >= least for least in MORE_MM2)
    width, best = widest, list[Peg]()
    while width >= setting.least_mm - 1e-9 and (not best or width >= HALF * widest):
        found = _Places(face, setting, (first, second), width).pegs(most)
        # Two narrower ones hold better than one that is wide.
        if len(found) > len(best):
            best = found
        if len(best) >= min(2, most) or setting.kind is JointKind.POCKET:
            break
        width *= NARROWER
    if best:
        narrower = setting.width_mm is not None and best[0].width_mm < widest - 1e-9
        return best, f"No room for {widest:.1f} mm: {best[0].width_mm:.1f} mm wide." if narrower else ""
    if setting.snaps and not lip_of(widest, setting.reach(widest), setting):
        return [], (
            f"The legs of a peg of {widest:.1f} mm that is {setting.reach(widest):.1f} mm deep would be"
            f" stretched by more than {100 * setting.strain:.1f} %: a longer one bends."
        )
    what, least = ("peg", setting.least_mm) if setting.kind is not JointKind.POCKET else ("pocket", widest)
    return [], (
        f"No room for a {what} of {least:g} mm that keeps {setting.wall_mm:g} mm of wall round it"
        f" over {setting.reach(least):.1f} mm."
    )


class _Places:
    """Places for pegs of one width in a face."""

    def __init__(
        self, face: Face, setting: JointSetting, pieces: tuple[Worked, Worked], width: float
    ) -> None:
        self.face, self.setting, self.pieces, self.width = face, setting, pieces, width
        self.lip = lip_of(width, setting.reach(width), setting) if setting.snaps else 0.0

    def pegs(self, most: int) -> list[Peg]:
        """As many as asked for and there is space between."""
        if self.setting.snaps and not self.lip:
            return []
        allowed = self._allowed()
        if allowed.is_empty():
            return []
        places = places_in(allowed)
        region, width = self.face.region, self.width
        middle = np.array(inside_of(region) if len(places) < 2 else centre(region))
        for _ in range(TRIES):
            chosen = spread_out(places, middle, APART * width, UNEQUAL * width, most)
            bad = [k for k in chosen if not self._fits(self._peg(*places[k]))]
            if not bad:
                return [self._deepest(self._peg(*places[k])) for k in chosen]
            keep = np.ones(len(places), bool)
            for k in bad:
                keep &= np.hypot(*(places - places[k]).T) > 0.5 * width
            places = places[keep]
            if not len(places):
                return []
        # No two at once: one, wherever it is nearest to the middle.
        nearest = np.argsort(np.hypot(*(places - middle).T), kind="stable")
        near = (self._peg(*places[k]) for k in nearest[: 2 * TRIES].tolist())
        return [self._deepest(peg) for peg in near if self._fits(peg)][:1]

    def _allowed(self) -> CrossSection:
        """Where the middle of a peg may lie, as far as sections tell."""
        face, setting = self.face, self.setting
        deep = setting.reach(self.width) + END_MM + setting.wall_mm
        looks = [(face.above, t * deep) for t in np.linspace(0.02, 1.0, DEPTHS)]
        far = deep if setting.both_sides else setting.wall_mm
        looks += [(face.below, t * far) for t in np.linspace(0.05, 1.0, DEPTHS if far == deep else 2)]
        found = face.region
        for piece, depth in looks:
            found = found ^ piece.section(depth, inward=True)
            if found.is_empty():
                return found
        room = setting.round_mm(self.width + 2 * (setting.clearance_mm + setting.wall_mm + self.lip))
        return found.offset(-room, JoinType.Round)

    def _peg(self, x: float, y: float) -> Peg:
        given, face = self.setting, self.face
        return Peg(
            face.at(x, y),
            vector(face.axis),
            self.width,
            given.reach(self.width),
            given.clearance_mm,
            given.sides,
            vector(face.turn[1]),
            given.taper_deg,
            self.lip,
        )

    def _deepest(self, peg: Peg) -> Peg:
        """A peg as deep as the walls round it let it, where it goes by them."""
        if not self.setting.to_wall or self.setting.kind is JointKind.POCKET:
            return peg
        deeper = (replace(peg, depth_mm=share * self.width) for share in DEPTH_STEPS)
        return next((one for one in deeper if self._fits(one)), peg)

    def _fits(self, peg: Peg) -> bool:
        """Whether the wall asked for stays round a peg in both pieces."""
        wall, turn = self.setting.wall_mm, self.face.turn
        if not self.pieces[1].holds(placed(room_body(peg, wall), peg, turn)):
            return False
        # A fixed peg needs no socket below it, only the wall.
        root = peg if self.setting.both_sides else replace(peg, depth_mm=-END_MM)
        return self.pieces[0].holds(placed(room_body(root, wall), peg, turn, back=True))

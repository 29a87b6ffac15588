"""What holds two pieces together: the shapes of pegs, dowels and their sockets."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

import numpy as np
from manifold3d import Manifold, Mesh64
from numpy.typing import NDArray

from ..errors import BadValue
from ..tags import stored

# A round section is drawn with so many sides.
ROUND = 48
# The widest peg that is taken unasked.
WIDEST_MM = 8.0
# Pegs are rooted so deep in their piece, and cutters stand out so far of what they cut: a face that lies in
# the joint plane itself would leave a film.
ROOT_MM, OUT_MM = 0.6, 0.8
# Room at the end of a socket beyond the peg: what is pushed ahead of it has to go somewhere.
END_MM = 0.5
# A socket is wider by this at its mouth, for a first layer spreads on the plate (common practice).
RELIEF_MM = 0.4
# Room at the end of a pocket, for glue; a pocket is so deep as a share of its width (a common magnet is 5 by
# 2 mm) and so wide unless that is said.
GLUE_MM, POCKET_DEEP, POCKET_MM = 0.1, 0.4, 5.0
# Pegs that go by the wall are no deeper than so many widths: longer ones hold no better (common practice).
DEEPEST = 3.0
# A tenon stands out no further unasked.
MOST_TENON_MM = 12.0
# A peg that leans more is a cone, and holds nothing.
MOST_TAPER_DEG = 9.0
# A peg that snaps is so deep as a share of its width; its slot so wide, from so far above the plane; its
# lip stands out by this share of the width at most beyond the clearance, stays so wide, has to be bent by so
# much to hold, and has so much play along the peg (common practice).
SNAP_DEEP, SLOT, LEAST_SLOT_MM, SLOT_ROOT_MM = 2.2, 0.28, 1.2, 0.5
LIP, LIP_FLAT_MM, LEAST_BENT_MM, PLAY_MM = 0.09, 0.4, 0.2, 0.1
# What legs of a material may be stretched by once or twice, by the name it begins with (common practice, from
# memory; of printed layers the lower ends of what handbooks say).
STRAINS = {"PLA": 0.015, "PETG": 0.025, "ABS": 0.02, "ASA": 0.02, "PA": 0.035, "TPU": 0.10}
# The end of a peg is narrower by this share of its width, over as much length.
LEAD = 0.15
# Sides that are given by name, with the clearance a side, mm. ISO 286 names the same kinds of fit for round
# holes and shafts: press H7/p6, snug H7/h6, sliding H7/g6, loose H8/f7; parts that are printed need more air,
# and the coupon of each machine says how much (the values here are common practice).
FITS = {"press": 0.05, "snug": 0.1, "sliding": 0.15, "loose": 0.25}


class JointKind(StrEnum):
    """How two pieces are held in place."""

    BUTT = "butt"
    PEG = "peg"
    DOWEL = "dowel"
    POCKET = "pocket"
    DOVETAIL = "dovetail"
    LAP = "lap"
    TENON = "tenon"


# What is made of the material that was cut.
INTERLOCKS = {JointKind.LAP, JointKind.DOVETAIL, JointKind.TENON}


@stored("joint setting")
@dataclass(frozen=True, slots=True)
class JointSetting:
    """What joints must do.

    Attributes
    ----------
    kind : JointKind
        Faces alone, pegs fixed on one side, loose dowels, pockets in both faces for magnets, nuts or screws,
        dovetails that slide along the face, half-laps of thin walls, or a tenon of the face's own outline.
    sides : int
        Of the section; 0 is round and may turn.
    width_mm : float or None
        ``None`` follows the face.
    reach_mm : float or None
        How far it stands into a piece; ``None`` is one and a half widths (common practice).
    to_wall : bool
        Pegs and dowels stand in as deep as the wall there lets them, up to ``DEEPEST`` widths.
    most : int or None
        How many on a face; ``None`` follows its area.
    clearance_mm : float
        On each side.
    wall_mm : float
        Of each piece that stays round it.
    least_mm : float
        No peg is made narrower than this.
    swapped : tuple of str
        Cuts whose pegs are borne by the other side.
    numbers : bool
        Numbers are sunk into the joint faces.
    taper_deg : float
        By how much the sides of a peg lean inwards: it centres itself as it goes in.
    snap : bool
        A peg is split and has a lip that springs into its socket,
    strain : float
        and is bent by so much of its length at most on its way (0.015 is 1.5 %).
    others : tuple of (str, JointKind)
        Cuts and faces whose pieces are held in another way, by their ids.
    """

    kind: JointKind = JointKind.PEG
    sides: int = 4
    width_mm: float | None = None
    reach_mm: float | None = None
    most: int | None = None
    clearance_mm: float = 0.15
    wall_mm: float = 2.0
    least_mm: float = 3.0
    swapped: tuple[str, ...] = ()
    numbers: bool = False
    taper_deg: float = 0.0
    snap: bool = False
    strain: float = 0.015
    others: tuple[tuple[str, JointKind], ...] = ()
    to_wall: bool = False

    def of(self, cut: str, face: str = "") -> JointSetting:
        """What holds for one cut, or for one of its faces."""
        own = dict(self.others)
        swapped = (cut,) if cut in self.swapped else ()
        return replace(self, kind=own.get(face, own.get(cut, self.kind)), others=(), swapped=swapped)

    @property
    def kinds(self) -> set[JointKind]:
        """All ways in which pieces are held."""
        return {self.kind, *(kind for _, kind in self.others)}

    @property
    def interlocks(self) -> bool:
        """Whether something is made of the material that was cut: a lap or a dovetail."""
        return bool(self.kinds & INTERLOCKS)

    @property
    def pegged(self) -> bool:
        """Whether something is cut round a place of the face: for a peg, a dowel, or into a pocket."""
        return self.kind in (JointKind.PEG, JointKind.DOWEL, JointKind.POCKET)

    @property
    def snaps(self) -> bool:
        """Whether its pegs have a lip."""
        return self.snap and self.kind is JointKind.PEG

    @property
    def both_sides(self) -> bool:
        """Whether both pieces get a socket."""
        return self.kind in (JointKind.DOWEL, JointKind.POCKET)

    def checked(self) -> JointSetting:
        """Return it, or say what is wrong with it.

        Raises
        ------
        BadValue
            A size that no joint can have.
        """
        sizes = [self.clearance_mm, self.wall_mm, self.least_mm, self.width_mm or 1.0, self.reach_mm or 1.0]
        if not all(math.isfinite(v) for v in sizes):
            raise BadValue("The sizes of joints have to be numbers.", "Type them in mm.")
        if not 0 <= self.clearance_mm <= 2:
            raise BadValue("The clearance has to lie between 0 and 2 mm.", "Type a clearance such as 0.15.")
        if not 0.4 <= self.wall_mm <= 20 or not 1 <= self.least_mm <= 50:
            raise BadValue(
                "The wall round a peg has to lie between 0.4 and 20 mm, the least width between 1 and 50.",
                "Type a wall such as 2.",
            )
        if self.sides and not 3 <= self.sides <= 12:
            raise BadValue("A keyed section has 3 to 12 sides.", "Type a number such as 4.")
        if self.width_mm is not None and not self.least_mm <= self.width_mm <= 100:
            raise BadValue(
                f"The width has to lie between {self.least_mm:g} and 100 mm.", "Type a width such as 6."
            )
        if self.reach_mm is not None and not 1 <= self.reach_mm <= 200:
            raise BadValue("The reach has to lie between 1 and 200 mm.", "Type a reach such as 9.")
        if self.to_wall and (self.reach_mm is not None or self.snap):
            raise BadValue(
                "A peg as deep as the wall there lets it has no reach of its own, and does not snap.",
                "Leave the reach empty and snapping out, or type how deep pegs go.",
            )
        if not 0 <= self.taper_deg <= MOST_TAPER_DEG:
            raise BadValue(
                f"The taper has to lie between 0 and {MOST_TAPER_DEG:g} degrees.", "Type a taper such as 4."
            )
        if self.snap and (self.taper_deg or self.sides % 2):
            raise BadValue(
                "A peg that snaps is straight, and round or of an even number of sides.",
                "Take the taper out, or pick 4 sides.",
            )
        if self.most is not None and not 1 <= self.most <= 12:
            raise BadValue("A face takes 1 to 12 pegs.", "Type a number such as 2.")
        return self

    @property
    def stands_out_mm(self) -> float:
        """How far pegs stand out of a piece at most: a box has to be so much larger."""
        far = 0.0
        if JointKind.PEG in self.kinds:
            widest = self.width_mm or WIDEST_MM
            far = DEEPEST * widest if self.to_wall else replace(self, kind=JointKind.PEG).reach(widest)
        if self.kinds & {JointKind.LAP, JointKind.DOVETAIL}:
            far = max(far, self.reach_mm or WIDEST_MM)
        if JointKind.TENON in self.kinds:
            far = max(far, self.reach_mm or MOST_TENON_MM)
        return far

    def reach(self, width_mm: float) -> float:
        """How far a peg of a width stands into a piece, mm; the least of it where that goes by the wall."""
        if self.reach_mm is not None:
            return self.reach_mm
        if self.kind is JointKind.POCKET:
            return POCKET_DEEP * width_mm
        if self.to_wall:
            return width_mm
        return (SNAP_DEEP if self.snaps else 1.5) * width_mm

    def round_mm(self, width_mm: float) -> float:
        """Radius of the circle round its section, mm."""
        return width_mm / 2 / math.cos(math.pi / (self.sides or ROUND))


@stored("peg")
@dataclass(frozen=True, slots=True)
class Peg:
    """A peg or dowel, and the sockets that it stands in.

    Attributes
    ----------
    at_mm : (x, y, z)
        Its middle in the joint plane.
    axis : (x, y, z)
        Its direction, into the piece that has the socket.
    width_mm, depth_mm, clearance_mm : float
        Across its flats, into the socket, and on each side of it.
    sides : int
        0 is round.
    across : (x, y, z)
        Square to the axis, towards the middle of one of its flats.
    taper_deg : float
        Of its sides.
    lip_mm : float
        Of a peg that snaps: how far its lip stands out, on both sides towards ``across``.
    """

    at_mm: tuple[float, float, float]
    axis: tuple[float, float, float]
    width_mm: float
    depth_mm: float
    clearance_mm: float
    sides: int
    across: tuple[float, float, float]
    taper_deg: float = 0.0
    lip_mm: float = 0.0

    def narrower(self, depth_mm: float) -> float:
        """How much narrower it is so far in, mm; at its end a third of its width at most."""
        slope = min(math.tan(math.radians(self.taper_deg)), self.width_mm / 6 / self.depth_mm)
        return 2 * slope * min(max(depth_mm, 0.0), self.depth_mm)


def strain_of(material: str) -> float:
    """Return how much legs of a material may be stretched; of one that is not known as the most brittle."""
    known = (most for name, most in STRAINS.items() if material.startswith(name))
    return next(known, min(STRAINS.values()))


def lofted(sides: int, levels: list[tuple[float, float]]) -> Any:
    """Body with a regular section whose width across its flats follows the height.

    Parameters
    ----------
    sides : int
        0 is round.
    levels : list of (z, width)
        Upwards, mm.

    Returns
    -------
    Manifold
        Round the z axis, a flat side towards +y.
    """
    n = sides or ROUND
    turn = 2 * np.pi * (np.arange(n) + 0.5) / n + np.pi / 2
    unit = np.column_stack([np.cos(turn), np.sin(turn)]) / (2 * math.cos(math.pi / n))
    rings = [np.column_stack([width * unit, np.full(n, z)]) for z, width in levels]
    low, high = levels[0][0], levels[-1][0]
    vertices = np.concatenate([*rings, [[0.0, 0.0, low], [0.0, 0.0, high]]])
    k = np.arange(n)
    after = (k + 1) % n
    faces = []
    for level in range(len(levels) - 1):
        a, b = level * n, (level + 1) * n
        faces += [np.stack([a + k, a + after, b + after], 1), np.stack([a + k, b + after, b + k], 1)]
    top = (len(levels) - 1) * n
    faces.append(np.stack([after, k, np.full(n, len(vertices) - 2)], 1))
    faces.append(np.stack([top + k, top + after, np.full(n, len(vertices) - 1)], 1))
    return Manifold(Mesh64(vertices, np.concatenate(faces).astype(np.uint64)))


def peg_body(peg: Peg, root_mm: float = ROOT_MM) -> Any:
    """What stands out of a piece, and so deep in it: along +z from z = 0."""
    if peg.lip_mm:
        return snap_body(peg, root_mm)
    lead = min(LEAD * peg.width_mm, peg.depth_mm / 3)
    wide, deep = peg.width_mm, peg.depth_mm
    root = [(-root_mm, wide), (0.0, wide)] if peg.taper_deg else [(-root_mm, wide)]
    neck, end = wide - peg.narrower(deep - lead), wide - peg.narrower(deep) - 2 * lead
    return lofted(peg.sides, [*root, (deep - lead, neck), (deep, end)])


def socket_body(peg: Peg, out_mm: float = OUT_MM, end_mm: float = END_MM) -> Any:
    """What is cut out of the piece that a peg stands in: along +z, wider at its mouth."""
    wide, deep = peg.width_mm + 2 * peg.clearance_mm, peg.depth_mm + end_mm
    mouth = wide + 2 * RELIEF_MM
    if peg.lip_mm:
        return snap_socket(peg, out_mm, end_mm)
    levels = [(-out_mm, mouth), (0.0, mouth), (RELIEF_MM, wide - peg.narrower(RELIEF_MM))]
    if peg.taper_deg:
        levels.append((peg.depth_mm, wide - peg.narrower(deep)))
    return lofted(peg.sides, [*levels, (deep, wide - peg.narrower(deep))])


@dataclass(frozen=True, slots=True)
class Snap:
    """Legs and lip of a peg that snaps, mm: along its axis from the joint plane, and across.

    Attributes
    ----------
    slot : float
        Width of the slot between its legs,
    root : float
        from so far up to the end.
    leg : float
        Thickness of a leg in the middle.
    long : float
        From the root of the slot to the middle of the lip.
    low : float
        Where the lip begins; it rises by its height, stays, and falls to the end of the peg.
    broad : float
        Width of the lip, square to ``across``.
    """

    slot: float
    root: float
    leg: float
    long: float
    low: float
    broad: float

    @classmethod
    def of(cls, width_mm: float, depth_mm: float, lip_mm: float, sides: int) -> Snap:
        """Sizes for a peg of a width and depth whose lip stands out so far."""
        slot = max(SLOT * width_mm, LEAST_SLOT_MM)
        low = depth_mm - 3 * lip_mm - LIP_FLAT_MM
        middle = low + lip_mm + LIP_FLAT_MM / 2
        broad = (0.7 if sides else 0.5) * width_mm
        return cls(slot, SLOT_ROOT_MM, (width_mm - slot) / 2, middle - SLOT_ROOT_MM, low, broad)

    def strain(self, bent_mm: float) -> float:
        """Return how much the root of a leg is stretched where its lip is bent aside by so much.

        A cantilever of even thickness under a force at its lip: 3 t y / (2 L^2). W. C. Young, R. G. Budynas,
        "Roark's Formulas for Stress and Strain", 2002, beams (from memory).
        """
        return 1.5 * self.leg * bent_mm / self.long**2


def lip_of(width_mm: float, depth_mm: float, setting: JointSetting) -> float:
    """How far the lip of a peg may stand out: as far as its legs bear, and there is room for them to bend.

    Returns
    -------
    float
        0 where that is less than a lip that holds.
    """
    # The lip passes a socket that is wider by the clearance.
    gap = setting.clearance_mm
    bent = min(LIP * width_mm, max(SLOT * width_mm, LEAST_SLOT_MM) / 2 - 0.1)
    while bent >= LEAST_BENT_MM - 1e-9:
        snap = Snap.of(width_mm, depth_mm, bent + gap, setting.sides)
        if snap.low > snap.root + bent and snap.strain(bent) <= setting.strain:
            return bent + gap
        bent -= 0.05
    return 0.0


def _slab(wide: float, thick: float, low: float, high: float) -> Any:
    """Box round the z axis, along x and y, from low to high."""
    return Manifold.cube((wide, thick, high - low)).translate((-wide / 2, -thick / 2, low))


def snap_body(peg: Peg, root_mm: float = ROOT_MM) -> Any:
    """A split peg with a lip on both legs: along +z from z = 0."""
    snap = Snap.of(peg.width_mm, peg.depth_mm, peg.lip_mm, peg.sides)
    wide, deep, lip = peg.width_mm, peg.depth_mm, peg.lip_mm
    lead = min(LEAD * wide, deep / 3)
    shaft = lofted(peg.sides, [(-root_mm, wide), (deep - lead, wide), (deep, wide - 2 * lead)])
    top = snap.low + lip + LIP_FLAT_MM
    # From within the shaft, so that no faces lie in each other.
    rise = [(snap.low - 0.2, wide - 0.4), (snap.low + lip, wide + 2 * lip), (top, wide + 2 * lip)]
    bulge = lofted(peg.sides, [*rise, (deep - 1e-3, wide - 1.9 * lead)])
    lips = bulge ^ _slab(snap.broad, 2 * wide, snap.low - 1.0, deep + 1.0)
    return (shaft + lips) - _slab(2 * wide, snap.slot, snap.root, deep + 1.0)


def snap_socket(peg: Peg, out_mm: float = OUT_MM, end_mm: float = END_MM) -> Any:
    """What is cut out for a peg that snaps: wider where its lip springs out."""
    snap = Snap.of(peg.width_mm, peg.depth_mm, peg.lip_mm, peg.sides)
    wide, deep, lip = peg.width_mm + 2 * peg.clearance_mm, peg.depth_mm + end_mm, peg.lip_mm
    mouth = wide + 2 * RELIEF_MM
    hole = lofted(peg.sides, [(-out_mm, mouth), (0.0, mouth), (RELIEF_MM, wide), (deep, wide)])
    low = snap.low - PLAY_MM
    groove = [(low - 0.2, wide - 0.4), (low + lip, wide + 2 * lip), (deep - 1e-3, wide + 2 * lip)]
    return hole + (
        lofted(peg.sides, groove)
        ^ _slab(snap.broad + 2 * peg.clearance_mm, 2 * wide + 4 * lip, low - 1.0, deep + 1.0)
    )


def lip_room(peg: Peg) -> Any:
    """Where the lips of a peg are, and nothing else of it: they bend aside for what is in their way."""
    snap = Snap.of(peg.width_mm, peg.depth_mm, peg.lip_mm, peg.sides)
    outer = _slab(snap.broad + 0.1, peg.width_mm + 2 * peg.lip_mm + 0.1, snap.low - 0.1, peg.depth_mm + 0.1)
    return outer - _slab(2 * peg.width_mm, peg.width_mm - 0.02, snap.low - 1.0, peg.depth_mm + 1.0)


def dowel_body(peg: Peg) -> Any:
    """A loose dowel, with both ends: its middle at z = 0."""
    lead = min(LEAD * peg.width_mm, peg.depth_mm / 3)
    wide, far = peg.width_mm, peg.depth_mm
    half = [(far - lead, wide - peg.narrower(far - lead)), (far, wide - peg.narrower(far) - 2 * lead)]
    if peg.taper_deg:
        half.insert(0, (0.0, wide))
    back = [(-z, width) for z, width in half[::-1] if z > 0]
    return lofted(peg.sides, [*back, *half])


def room_body(peg: Peg, wall_mm: float) -> Any:
    """What has to be material round a socket, and beyond its end: along +z from the joint plane."""
    wide = peg.width_mm + 2 * (peg.clearance_mm + wall_mm + peg.lip_mm)
    return lofted(peg.sides, [(0.0, wide), (peg.depth_mm + END_MM + wall_mm, wide)])


def placed(body: Any, peg: Peg, turn: NDArray[np.float64], *, back: bool = False) -> Any:
    """Put a shape that stands along +z where a peg is, by a turn (3, 3) as from ``frame``.

    ``back`` puts it the other way round.
    """
    u, v, n = turn
    # Mirrored where it points the other way: its section stays as it is.
    up = (float(np.dot(n, peg.axis)) > 0) != back
    return body.transform(np.column_stack([np.stack([u, v, n if up else -n]).T, peg.at_mm]))

"""Joints between the pieces of a cut: where two pieces touch, and the pegs that hold them together there."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from manifold3d import CrossSection, JoinType, Manifold, OpType
from numpy.typing import NDArray

from ..progress import Progress, silent, tracked
from ..tags import stored
from .cuts import Bound, Node, bounds_of, frame
from .dovetails import dovetail
from .faces import BESIDE_MM, Turned, centre, inside_of, long_way_deg, places_in, spread_out, vector
from .fittings import (
    END_MM,
    GLUE_MM,
    OUT_MM,
    POCKET_MM,
    RELIEF_MM,
    WIDEST_MM,
    JointKind,
    JointSetting,
    Peg,
    dowel_body,
    peg_body,
    placed,
    room_body,
    socket_body,
)
from .laps import Interlock, lap
from .lettering import labels_for
from .numbers import DEPTH_MM, Label, area_mm2, cutter

# Faces smaller than this hold nothing (common practice: glue alone).
LEAST_MM2 = 30.0
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
# How often other places are tried where the exact test refuses some.
TRIES = 6
# Pairs lie unequally about the middle of their face: by so many widths, so that no turn fits but one.
UNEQUAL = 0.5
# A face, and its pieces: the number and body of the one that bears the joint, and of the other.
Face = tuple[CrossSection, tuple[int, Turned, int, Turned]]
# What a prism may have outside of a body by rounding, mm3.
NOISE_MM3 = 1e-3


@stored("joint")
@dataclass(frozen=True, eq=False)
class Joint:
    """Where two pieces touch across a cut.

    Attributes
    ----------
    cut : str
        Id of the cut.
    between : (int, int)
        Numbers of the pieces: of the one that bears the pegs, and of the other.
    area_mm2 : float
    at_mm : (x, y, z)
        A place in the face.
    kind : JointKind
    pegs : tuple of Peg
    refused : str
        Why there is none, or a narrower one than asked for.
    direction : (x, y, z)
        Square to the face, towards the second piece.
    labels : tuple of Label
        Sunk into the first piece, and into the second; none where there is no room.
    unnumbered : bool
        There is no room for them.
    width_mm, reach_mm : float
        Of a lap or a dovetail: across, and into the second piece.
    slides : (x, y, z) or None
        Along which the second piece is drawn off a dovetail.
    travel_mm : float
        How far it is drawn off until a lap or dovetail is free.
    """

    cut: str
    between: tuple[int, int]
    area_mm2: float
    at_mm: tuple[float, float, float]
    kind: JointKind
    pegs: tuple[Peg, ...]
    refused: str
    direction: tuple[float, float, float]
    labels: tuple[Label, ...] = ()
    unnumbered: bool = False
    width_mm: float = 0.0
    reach_mm: float = 0.0
    slides: tuple[float, float, float] | None = None
    travel_mm: float = 0.0

    @property
    def way(self) -> tuple[float, float, float]:
        """Along which the second piece is drawn off: square to the face, or along it where it slides."""
        return self.slides or self.direction

    @property
    def holds(self) -> bool:
        """Whether more than the face holds it."""
        return bool(self.pegs) or self.reach_mm > 0

    @property
    def stands_out(self) -> bool:
        """Whether something of the first piece stands out of its face."""
        return self.reach_mm > 0 or (bool(self.pegs) and self.kind is JointKind.PEG)


@dataclass(frozen=True, eq=False)
class Joined:
    """Pieces with their joints.

    Attributes
    ----------
    bodies : list of Manifold
    joints : list of Joint
    dowels : list of (Manifold, int)
        Loose dowels, with the number of the joint that each belongs to.
    added_mm3, removed_mm3 : (n,) float64
        What pegs put to each piece, and sockets took from it.
    """

    bodies: list[Any]
    joints: list[Joint]
    dowels: list[tuple[Any, int]]
    added_mm3: NDArray[np.float64]
    removed_mm3: NDArray[np.float64]


def join(
    tree: Node,
    leaves: Sequence[Node],
    bodies: Sequence[Any],
    owners: Sequence[int],
    setting: JointSetting,
    *,
    progress: Progress = silent,
) -> Joined:
    """Put joints where pieces touch.

    Parameters
    ----------
    tree : Node
        The cuts.
    leaves : sequence of Node
        Of the tree.
    bodies : sequence of Manifold
        The pieces.
    owners : sequence of int
        The leaf of each piece, by its number.
    setting : JointSetting
    progress : Progress

    Returns
    -------
    Joined

    Notes
    -----
    Sections at a few depths say where a peg may stand; whether the wall asked for stays round it is tested on
    the bodies themselves, with the sockets that are in them already. Depth about one and a half widths and
    two pegs a face where there is room are common practice.
    """
    work = _Work(list(bodies), [bounds_of(tree, leaves[owner]) for owner in owners], setting)
    number_of = {id(leaf): k for k, leaf in enumerate(leaves)}
    for node in tracked(list(tree.parted()), "Joining pieces", progress):
        assert node.cut is not None
        sides = []
        for half in node.halves:
            inside = {number_of[id(leaf)] for leaf in half.leaves()}
            sides.append([k for k, owner in enumerate(owners) if owner in inside])
        work.across(node, sides)
    return Joined(work.lettered(), work.joints, work.dowels, work.added, work.removed)


class _Work:
    """Bodies as they are while joints are put in, one after another."""

    def __init__(self, bodies: list[Any], bounds: list[list[Bound]], setting: JointSetting) -> None:
        self.bodies, self.plain, self.bounds = bodies, list(bodies), bounds
        self.usual = self.setting = setting
        self.joints: list[Joint] = []
        self.dowels: list[tuple[Any, int]] = []
        self.letters: list[list[Any]] = [[] for _ in bodies]
        # What joints cut out of each piece; and laps and dovetails with the pieces that they are of: what
        # stands out, and what was cut for it.
        self.sunk: list[list[Any]] = [[] for _ in bodies]
        self.locked: list[tuple[set[int], tuple[Any, Any]]] = []
        self.added, self.removed = np.zeros(len(bodies)), np.zeros(len(bodies))

    def across(self, node: Node, sides: list[list[int]]) -> None:
        """Join all pieces that touch across the plane of a node."""
        assert node.cut is not None
        cut, normal, offset = node.cut.id, np.asarray(node.cut.normal), node.cut.offset_mm
        self.parted = node.whole
        self.setting = self.usual.of(cut)
        turn = frame(vector(normal))
        before, beyond = (
            {k: Turned(self.plain[k].transform(np.column_stack([turn, np.zeros(3)])), offset) for k in side}
            for side in sides
        )
        # On the plate a peg points up: from the piece below, where the plane has one.
        upward = normal[int(np.argmax(np.abs(normal)))] > 0 if abs(normal[2]) < 0.1 else normal[2] > 0
        flipped = upward == (cut in self.setting.swapped)
        faces: list[Face] = []
        for (i, low), (j, high) in itertools.product(before.items(), beyond.items()):
            if not low.reaches(-1) or not high.reaches(1) or not low.over(high):
                continue
            both = low.section(-BESIDE_MM) ^ high.section(BESIDE_MM)
            ends = (j, high, i, low) if flipped else (i, low, j, high)
            faces += [(region, ends) for region in both.decompose() if region.area() >= LEAST_MM2]
        far = list((before if flipped else beyond).values())
        slides = self._slide(faces, far) if self.setting.kind is JointKind.DOVETAIL else 0.0
        for region, ends in faces:
            others = [piece for piece in far if piece is not ends[3]]
            self._join(cut, turn, offset, region, ends, slides, others)

    def _slide(self, faces: Sequence[Face], far: Sequence[Turned]) -> float:
        """Direction in which the dovetails of a cut slide, degrees: all of them the same one.

        Along the largest face or across it, whichever holds more.
        """
        if not faces:
            return 0.0
        along = long_way_deg(max(faces, key=lambda face: face[0].area())[0])

        def held(way: float) -> float:
            return sum(
                float(region.area())
                for region, ends in faces
                if dovetail(region, ends[3], self.setting, way, [p for p in far if p is not ends[3]])[0]
            )

        return max((along, along + 90.0), key=held)

    def _join(
        self,
        cut: str,
        turn: NDArray[np.float64],
        offset: float,
        region: CrossSection,
        ends: tuple[int, Turned, int, Turned],
        slides: float,
        others: Sequence[Turned],
    ) -> None:
        owner, _, other, above = ends
        sign = 1.0 if above.side(offset) else -1.0
        axis = sign * turn[2]
        pegs: list[Peg] = []
        refused = ""
        lock: Interlock | None = None
        if self.setting.pegged:
            pegs, refused = self._pegs(turn, offset, region, ends, axis)
        elif self.setting.kind is JointKind.LAP:
            lock, refused = lap(region, above, self.setting)
        elif self.setting.kind is JointKind.DOVETAIL:
            lock, refused = dovetail(region, above, self.setting, slides, others)
        for peg in pegs:
            self._put(peg, turn, owner, other)
        if lock is not None and not self._interlock(lock, turn, owner, other):
            lock, refused = None, "It would meet the joint of another cut."
        labels: tuple[Label, ...] = ()
        if self.setting.numbers:
            free = region if lock is None else region - lock.plan.offset(OUT_MM, JoinType.Round)
            labels = self._letter(turn, offset, free, pegs, ends)
        x, y = inside_of(region)
        at = np.array([x, y, offset]) @ turn
        found = Joint(
            cut=cut,
            between=(owner, other),
            area_mm2=float(region.area()),
            at_mm=vector(at),
            kind=self.setting.kind,
            pegs=tuple(pegs),
            refused=refused,
            direction=vector(axis),
            labels=labels,
            unnumbered=self.setting.numbers and not labels,
            width_mm=lock.width_mm if lock is not None else 0.0,
            reach_mm=lock.reach_mm if lock is not None else 0.0,
            slides=vector(lock.slides @ turn[:2]) if lock is not None and lock.slides is not None else None,
            travel_mm=lock.travel_mm if lock is not None else 0.0,
        )
        self.joints.append(found)

    def _letter(
        self,
        turn: NDArray[np.float64],
        offset: float,
        region: CrossSection,
        pegs: Sequence[Peg],
        ends: tuple[int, Turned, int, Turned],
    ) -> tuple[Label, ...]:
        """Sink the numbers of both pieces into their faces, one right over the other."""
        free, pair = region, (ends[0], ends[2])
        for peg in pegs:
            x, y, _ = turn @ np.asarray(peg.at_mm)
            round_it = self.setting.round_mm(peg.width_mm + 2 * (peg.clearance_mm + RELIEF_MM))
            free = free - CrossSection.circle(round_it, 32).translate((x, y))
        labels = labels_for(
            turn, offset, free, pair, (ends[1], ends[3]), (self.sunk[pair[0]], self.sunk[pair[1]])
        )
        for k, label in zip(pair, labels, strict=False):  # none where there is no room
            self.letters[k].append(cutter(label, OUT_MM))
            self.removed[k] += area_mm2(label) * DEPTH_MM
        return labels

    def lettered(self) -> list[Any]:
        """Bodies with their numbers cut into them, all of one at once: they lie apart from each other."""
        return [
            Manifold.batch_boolean([body, *cuts], OpType.Subtract) if cuts else body
            for body, cuts in zip(self.bodies, self.letters, strict=True)
        ]

    def _interlock(self, lock: Interlock, turn: NDArray[np.float64], owner: int, other: int) -> bool:
        """Put a lap or dovetail in; not where it would meet another."""
        back = np.column_stack([turn.T, np.zeros(3)])
        stands, cut = lock.stands.transform(back) ^ self.parted, lock.cut.transform(back)
        # Not over later cuts, nor into what lies near by and hangs together elsewhere.
        for normal, offset in self.bounds[owner] + self.bounds[other]:
            if abs(float(np.dot(normal, turn[2]))) < 1 - 1e-9:
                stands = stands.trim_by_plane(normal, offset)
        stands = max(stands.decompose(), key=lambda body: body.volume())
        # By what is cut, not by what is left: the books are to tell when the two are not the same.
        gone = cut ^ self.bodies[other]
        shapes = (stands, gone)
        for pair, placed_before in self.locked:
            if pair & {owner, other} and any(
                float((one ^ two).volume()) > NOISE_MM3 for one in shapes for two in placed_before
            ):
                return False
        self.locked.append(({owner, other}, shapes))
        self.added[owner] += float((stands - self.bodies[owner]).volume())
        self.bodies[owner] = self.bodies[owner] + stands
        self.removed[other] += float(gone.volume())
        self.sunk[other].append(gone)
        self.bodies[other] = self.bodies[other] - cut
        return True

    def _put(self, peg: Peg, turn: NDArray[np.float64], owner: int, other: int) -> None:
        end = GLUE_MM if self.setting.kind is JointKind.POCKET else END_MM
        socket = socket_body(peg, end_mm=end)
        inner = float(socket.trim_by_plane((0.0, 0.0, 1.0), 0.0).volume())
        self.sunk[other].append(placed(socket, peg, turn))
        self.bodies[other] = self.bodies[other] - self.sunk[other][-1]
        self.removed[other] += inner
        if self.setting.both_sides:
            self.sunk[owner].append(placed(socket, peg, turn, back=True))
            self.bodies[owner] = self.bodies[owner] - self.sunk[owner][-1]
            self.removed[owner] += inner
            if self.setting.kind is JointKind.DOWEL:
                self.dowels.append((placed(dowel_body(peg), peg, turn), len(self.joints)))
            return
        stands = peg_body(peg)
        self.bodies[owner] = self.bodies[owner] + placed(stands, peg, turn)
        self.added[owner] += float(stands.trim_by_plane((0.0, 0.0, 1.0), 0.0).volume())

    def _pegs(
        self,
        turn: NDArray[np.float64],
        offset: float,
        region: CrossSection,
        ends: tuple[int, Turned, int, Turned],
        axis: NDArray[np.float64],
    ) -> tuple[list[Peg], str]:
        """Pegs of a face, and why there are none or narrower ones."""
        setting = self.setting
        area = float(region.area())
        widest = setting.width_mm or float(np.clip(WIDTH_SHARE * np.sqrt(area), setting.least_mm, WIDEST_MM))
        if setting.kind is JointKind.POCKET:
            # What goes into it has the size that it has.
            widest = setting.width_mm or POCKET_MM
        most = setting.most or sum(area >= least for least in MORE_MM2)
        width, best = widest, list[Peg]()
        while width >= setting.least_mm - 1e-9 and (not best or width >= HALF * widest):
            allowed = self._allowed(region, ends, width)
            found = self._stand(allowed, region, turn, offset, ends, axis, width, most)
            # Two narrower ones hold better than one that is wide.
            if len(found) > len(best):
                best = found
            if len(best) >= min(2, most) or setting.kind is JointKind.POCKET:
                break
            width *= NARROWER
        if best:
            narrower = setting.width_mm is not None and best[0].width_mm < widest - 1e-9
            return best, f"No room for {widest:.1f} mm: {best[0].width_mm:.1f} mm wide." if narrower else ""
        what, least = (
            ("peg", setting.least_mm) if setting.kind is not JointKind.POCKET else ("pocket", widest)
        )
        return [], (
            f"No room for a {what} of {least:g} mm that keeps {setting.wall_mm:g} mm of wall round it"
            f" over {setting.reach(least):.1f} mm."
        )

    def _allowed(
        self, region: CrossSection, ends: tuple[int, Turned, int, Turned], width: float
    ) -> CrossSection:
        """Where the middle of a peg may lie, as far as sections tell."""
        _, below, _, above = ends
        setting = self.setting
        deep = setting.reach(width) + END_MM + setting.wall_mm
        looks = [(above, t * deep) for t in np.linspace(0.02, 1.0, DEPTHS)]
        far = deep if setting.both_sides else setting.wall_mm
        looks += [(below, t * far) for t in np.linspace(0.05, 1.0, DEPTHS if far == deep else 2)]
        found = region
        for piece, depth in looks:
            found = found ^ piece.section(depth, inward=True)
            if found.is_empty():
                return found
        room = setting.round_mm(width + 2 * (setting.clearance_mm + setting.wall_mm))
        return found.offset(-room, JoinType.Round)

    def _stand(
        self,
        allowed: CrossSection,
        region: CrossSection,
        turn: NDArray[np.float64],
        offset: float,
        ends: tuple[int, Turned, int, Turned],
        axis: NDArray[np.float64],
        width: float,
        most: int,
    ) -> list[Peg]:
        """Pegs of a width that the bodies have room for: as many as asked for and there is space between."""
        if allowed.is_empty():
            return []
        places = places_in(allowed)
        middle = np.array(inside_of(region) if len(places) < 2 else centre(region))
        fine: dict[int, bool] = {}

        def peg(k: int) -> Peg:
            at = np.array([*places[k], offset]) @ turn
            deep = self.setting.reach(width)
            given = self.setting
            return Peg(
                vector(at),
                vector(axis),
                width,
                deep,
                given.clearance_mm,
                given.sides,
                vector(turn[1]),
                given.taper_deg,
            )

        def holds(k: int) -> bool:
            if k not in fine:
                fine[k] = self._fits(peg(k), turn, ends[0], ends[2])
            return fine[k]

        for _ in range(TRIES):
            chosen = spread_out(places, middle, APART * width, UNEQUAL * width, most)
            bad = [k for k in chosen if not holds(k)]
            if not bad:
                return [peg(k) for k in chosen]
            keep = np.ones(len(places), bool)
            for k in bad:
                keep &= np.hypot(*(places - places[k]).T) > 0.5 * width
            places, fine = places[keep], {}
            if not len(places):
                return []
        # No two at once: one, wherever it is nearest to the middle.
        nearest = np.argsort(np.hypot(*(places - middle).T), kind="stable")
        return [peg(k) for k in nearest[: 2 * TRIES].tolist() if holds(k)][:1]

    def _fits(self, peg: Peg, turn: NDArray[np.float64], owner: int, other: int) -> bool:
        """Whether the wall asked for stays round a peg in both pieces."""
        wall = self.setting.wall_mm
        room = placed(room_body(peg, wall), peg, turn)
        if float((room - self.bodies[other]).volume()) > NOISE_MM3:
            return False
        # A fixed peg needs no socket below it, only the wall.
        root = peg if self.setting.both_sides else replace(peg, depth_mm=-END_MM)
        back = placed(room_body(root, wall), peg, turn, back=True)
        return float((back - self.bodies[owner]).volume()) <= NOISE_MM3

"""Joints between the pieces of a cut: where two pieces touch, and what holds them together there."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from manifold3d import CrossSection, JoinType

from ..geometry.frames import frame
from ..progress import Progress, silent, tracked
from ..tags import stored
from .cut_part import CutPart
from .cuts import NEAR_MM, Node
from .dovetails import dovetail
from .faces import BESIDE_MM, Face, Turned, inside_of, long_way_deg, vector
from .fittings import (
    END_MM,
    GLUE_MM,
    INTERLOCKS,
    OUT_MM,
    RELIEF_MM,
    JointKind,
    JointSetting,
    Peg,
    dowel_body,
    peg_body,
    placed,
    socket_body,
)
from .laps import Interlock, lap
from .lettering import labels_for
from .numbers import DEPTH_MM, Label, area_mm2, cutter
from .pegs import pegs_of
from .tenons import tenon
from .worked import Change, Worked

# Faces smaller than this hold nothing (common practice: glue alone).
LEAST_MM2 = 30.0


@stored("joint")
@dataclass(frozen=True, eq=False)
class Joint:
    """Where two pieces touch across a cut.

    Attributes
    ----------
    cut : str
        Id of the cut.
    face : str
        Id of the face: the cut, and the paths of both pieces.
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
    face: str
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
    pieces : list of Worked
    joints : list of Joint
    dowels : list of (Manifold, int)
        Loose dowels, with the number of the joint that each belongs to.
    """

    pieces: list[Worked]
    joints: list[Joint]
    dowels: list[tuple[Any, int]]

    @property
    def put_mm3(self) -> float:
        """What joints put to all pieces, less what they took from them."""
        return sum(one.added_mm3 - one.removed_mm3 for piece in self.pieces for one in piece.changes)


@dataclass(frozen=True, eq=False)
class _Made:
    """A joint, what it does to its pieces, and its dowels; known by a number."""

    serial: int
    joint: Joint
    first: Change
    second: Change
    dowels: tuple[Any, ...]

    @property
    def told(self) -> tuple[object, ...]:
        """All that makes it what it is, so that two of a face that tell the same are the same."""
        one = self.joint
        # What a lap or dovetail is made of is not told by its figures.
        own = self.serial if self.first.locks else -1
        return one.kind, one.between, one.pegs, one.refused, one.labels, own


def join(part: CutPart, setting: JointSetting, *, progress: Progress = silent) -> Joined:
    """Put joints where pieces touch.

    Parameters
    ----------
    part : CutPart
        What is made is noted in it: with another setting only the joints that it changes are made again.
    setting : JointSetting
    progress : Progress

    Returns
    -------
    Joined
    """
    pieces = [Worked(body, part.bounds(k)) for k, body in enumerate(part.bodies)]
    done = Joined(pieces, [], [])
    number_of = {id(leaf): k for k, leaf in enumerate(part.leaves)}
    for node in tracked(list(part.tree.parted()), "Joining pieces", progress):
        assert node.cut is not None
        cut = node.cut.id
        if id(node) not in part.known.faces:
            part.known.faces[id(node)] = _faces(part, node, number_of)
        before, beyond = part.known.faces[id(node)]
        given = setting.of(cut)
        # On the plate a peg points up: from the piece below, where the plane has one.
        normal = np.asarray(node.cut.normal)
        upward = normal[int(np.argmax(np.abs(normal)))] > 0 if abs(normal[2]) < 0.1 else normal[2] > 0
        faces: list[Face] = beyond if upward == (cut in given.swapped) else before
        slides = _Slides(part, node, faces)
        for n, face in enumerate(faces):
            own, hindered = _of_face(face, setting, given)
            way = slides.way(given) if own.kind is JointKind.DOVETAIL else 0.0
            first, second = pieces[face.first], pieces[face.second]
            # The same joint, where nothing that it was made of is another.
            key = (id(node), n, own, hindered, way, face.first, tuple(first.serials), tuple(second.serials))
            made = part.known.joints.get(key)
            if made is None:
                made = _joint(len(part.known.joints), face, own, way, node.whole, first, second)
                if hindered:
                    asked = setting.of(cut, face.id).kind
                    made = replace(made, joint=replace(made.joint, kind=asked, refused=hindered))
                # One that came out as before leaves its pieces, and the joints made after it, as they are.
                made = part.known.alike.setdefault((key[:5], *made.told), made)
                part.known.joints[key] = made
            first.take(made.first, made.serial)
            second.take(made.second, made.serial)
            done.dowels.extend((dowel, len(done.joints)) for dowel in made.dowels)
            done.joints.append(made.joint)
        for face in faces:
            for turned in (face.below, face.above, *face.others):
                turned.forget()
    return done


def _faces(part: CutPart, node: Node, number_of: dict[int, int]) -> tuple[list[Face], list[Face]]:
    """Faces across the plane of a node: with the pieces before it first, and with those beyond it first."""
    assert node.cut is not None
    turn, offset = frame(node.cut.normal), node.cut.offset_mm
    sides: list[dict[int, Turned]] = []
    for half in node.halves:
        inside = {number_of[id(leaf)] for leaf in half.leaves()}
        numbers = [k for k, owner in enumerate(part.owners) if owner in inside]
        sides.append({k: Turned(part.bodies[k], turn, offset) for k in numbers})
    before, beyond = sides
    found: tuple[list[Face], list[Face]] = ([], [])
    for (i, low), (j, high) in itertools.product(before.items(), beyond.items()):
        if not low.reaches(-1) or not high.reaches(1) or not low.over(high):
            continue
        name = f"{node.cut.id}:{part.paths[i]}:{part.paths[j]}"
        both = low.section(-BESIDE_MM) ^ high.section(BESIDE_MM)
        for region in both.decompose():
            if region.area() < LEAST_MM2:
                continue
            far = tuple(piece for k, piece in beyond.items() if k != j)
            near = tuple(piece for k, piece in before.items() if k != i)
            found[0].append(Face(node.cut.id, name, turn, offset, region, i, j, low, high, far))
            found[1].append(Face(node.cut.id, name, turn, offset, region, j, i, high, low, near))
    for one in (*before.values(), *beyond.values()):
        one.forget()
    return found


def _of_face(face: Face, setting: JointSetting, given: JointSetting) -> tuple[JointSetting, str]:
    """What holds for a face, and why it is not what was asked for.

    All pieces of a cut come together in one direction: along the face with a dovetail, else square to it.
    """
    own = setting.of(face.cut, face.id)
    square = {JointKind.PEG, JointKind.DOWEL, JointKind.LAP, JointKind.TENON}
    if own.kind is JointKind.DOVETAIL and given.kind in square:
        return replace(own, kind=JointKind.BUTT), "The other faces of this cut go together square to it."
    if own.kind in square and given.kind is JointKind.DOVETAIL:
        return replace(own, kind=JointKind.BUTT), "The other faces of this cut slide along it."
    return own, ""


class _Slides:
    """Direction in which the dovetails of a cut slide: all of them the same one."""

    def __init__(self, part: CutPart, node: Node, faces: Sequence[Face]) -> None:
        self.part, self.node, self.faces = part, node, faces

    def way(self, setting: JointSetting) -> float:
        """Along the largest face or across it, whichever holds more, degrees."""
        given = replace(setting, kind=JointKind.DOVETAIL)
        key = (id(self.node), self.faces[0].first, given)
        known = self.part.known.slides
        if key not in known:
            along = long_way_deg(max(self.faces, key=lambda face: face.region.area()).region)
            known[key] = max(
                (along, along + 90.0),
                key=lambda way: sum(
                    float(face.region.area()) for face in self.faces if _tail(face, given, way)[0]
                ),
            )
        return known[key]


def _tail(face: Face, setting: JointSetting, way: float) -> tuple[Interlock | None, str]:
    return dovetail(face.region, face.above, setting, way, face.others)


def _joint(
    serial: int, face: Face, setting: JointSetting, way: float, whole: Any, first: Worked, second: Worked
) -> _Made:
    """Make the joint of a face; a dovetail slides along its way, made of the whole that was cut there."""
    pegs: list[Peg] = []
    refused = ""
    lock: Interlock | None = None
    changes = Change(), Change()
    dowels: tuple[Any, ...] = ()
    if setting.pegged:
        pegs, refused = pegs_of(face, setting, first, second)
        changes, dowels = _pegged(pegs, face, setting)
    elif setting.kind in INTERLOCKS:
        lock, refused = _interlock(face, setting, way, second)
        locked = None if lock is None else _interlocked(lock, face, whole, first, second)
        if locked is not None:
            changes = locked
            if second.falls_apart(changes[1].sunk):
                lock, refused = None, "It would cut the other piece in two."
                changes = Change(), Change()
        elif lock is not None:
            lock, refused = None, "It would meet the joint of another cut."
    labels: tuple[Label, ...] = ()
    if setting.numbers:
        free = face.region if lock is None else face.region - lock.plan.offset(OUT_MM, JoinType.Round)
        sunk = [*first.sunk, *changes[0].sunk], [*second.sunk, *changes[1].sunk]
        labels = labels_for(face, _beside(free, pegs, face, setting), sunk)
        if labels:
            one, other = (_lettered(change, label) for change, label in zip(changes, labels, strict=True))
            changes = one, other
    found = Joint(
        cut=face.cut,
        face=face.id,
        between=(face.first, face.second),
        area_mm2=float(face.region.area()),
        at_mm=face.at(*inside_of(face.region)),
        kind=setting.kind,
        pegs=tuple(pegs),
        refused=refused,
        direction=vector(face.axis),
        labels=labels,
        unnumbered=setting.numbers and not labels,
        width_mm=lock.width_mm if lock is not None else 0.0,
        reach_mm=lock.reach_mm if lock is not None else 0.0,
        slides=vector(lock.slides @ face.turn[:2]) if lock is not None and lock.slides is not None else None,
        travel_mm=lock.travel_mm if lock is not None else 0.0,
    )
    return _Made(serial, found, *changes, dowels)


def _interlock(face: Face, setting: JointSetting, way: float, second: Worked) -> tuple[Interlock | None, str]:
    if setting.kind is JointKind.DOVETAIL:
        return _tail(face, setting, way)
    if setting.kind is JointKind.LAP:
        return lap(face.region, face.above, setting)
    return tenon(
        face.region,
        face.above,
        setting,
        avoid=[face.level(one) for one in second.sunk],
        holds=lambda room: second.holds(face.back(room)),
    )


def _pegged(
    pegs: Sequence[Peg], face: Face, setting: JointSetting
) -> tuple[tuple[Change, Change], tuple[Any, ...]]:
    """What pegs do to both pieces, and loose dowels."""
    end = GLUE_MM if setting.kind is JointKind.POCKET else END_MM
    sockets = [socket_body(peg, end_mm=end) for peg in pegs]
    hollow = sum(_beyond_mm3(one) for one in sockets)
    into = tuple(placed(one, peg, face.turn) for one, peg in zip(sockets, pegs, strict=True))
    second = Change(sunk=into, removed_mm3=hollow)
    if setting.both_sides:
        back = tuple(placed(one, peg, face.turn, back=True) for one, peg in zip(sockets, pegs, strict=True))
        loose = setting.kind is JointKind.DOWEL
        dowels = tuple(placed(dowel_body(peg), peg, face.turn) for peg in pegs) if loose else ()
        return (Change(sunk=back, removed_mm3=hollow), second), dowels
    bodies = [peg_body(peg) for peg in pegs]
    stands = tuple(placed(one, peg, face.turn) for one, peg in zip(bodies, pegs, strict=True))
    return (Change(stands=stands, added_mm3=sum(_beyond_mm3(one) for one in bodies)), second), ()


def _beyond_mm3(body: Any) -> float:
    """Volume of a fitting beyond its joint plane."""
    return float(body.trim_by_plane((0.0, 0.0, 1.0), 0.0).volume())


def _interlocked(
    lock: Interlock, face: Face, whole: Any, first: Worked, second: Worked
) -> tuple[Change, Change] | None:
    """What a lap or dovetail does to both pieces; ``None`` where it would meet another."""
    stands, cut = face.back(lock.stands) ^ whole, face.back(lock.cut)
    # Not over other cuts, nor into what lies near by and hangs together elsewhere.
    for normal, offset in first.bounds + second.bounds:
        along = float(np.dot(normal, face.turn[2]))
        if abs(along) < 1 - 1e-9 or abs(along * offset - face.above.offset) > NEAR_MM:
            stands = stands.trim_by_plane(normal, offset)
    stands = max(stands.decompose(), key=lambda body: float(body.volume()))
    # By what is cut, not by what is left: the books are to tell when the two are not the same.
    gone = second.left_of(cut ^ second.plain)
    locks = (stands, gone)
    if first.locked_by(locks) or second.locked_by(locks):
        return None
    # By what it shares with its piece: where surfaces of both lie in each other their difference folds up.
    rooted = first.left_of(stands)
    added = float(rooted.volume()) - float((rooted ^ first.plain).volume())
    return (
        Change(stands=(stands,), locks=locks, added_mm3=added),
        Change(sunk=(cut,), locks=locks, removed_mm3=float(gone.volume())),
    )


def _beside(free: CrossSection, pegs: Sequence[Peg], face: Face, setting: JointSetting) -> CrossSection:
    """What of a face its pegs leave free."""
    for peg in pegs:
        x, y, _ = face.turn @ np.asarray(peg.at_mm)
        round_it = setting.round_mm(peg.width_mm + 2 * (peg.clearance_mm + RELIEF_MM))
        free = free - CrossSection.circle(round_it, 32).translate((x, y))
    return free


def _lettered(change: Change, label: Label) -> Change:
    """A change with a number sunk into the piece, too."""
    removed = change.removed_mm3 + area_mm2(label) * DEPTH_MM
    return replace(change, letters=(cutter(label, OUT_MM),), removed_mm3=removed)

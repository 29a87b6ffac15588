"""How pieces go together again: the tree of cuts read backwards, and each joint swept to see that it goes."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, MutableMapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache, partial
from typing import Any

import numpy as np
from manifold3d import CrossSection, JoinType, Manifold, OpType
from numpy.typing import NDArray

from ..geometry.frames import frame
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..geometry.tree import Tree
from ..progress import Progress, silent, tracked
from ..tags import stored
from .cuts import Node
from .fittings import lip_room, placed
from .joints import Joint
from .numbers import DEPTH_MM, outline

# A step is swept at so many distances; and soon after it begins, where what hooks or leans meets first.
SWEEP, EARLY_MM = 4, 1.5
# Overlap of two pieces under this is the noise of single precision, mm3 on each cm2 of joint.
NOISE_MM3 = 0.05
# Pieces are looked at so far round where they may meet: a box in a face itself would leave films.
AROUND_MM = 0.37
# At rest they are looked at so far from each other: less than the noise lets pass, and where two faces lie in
# one plane exactly it takes a hundred times as long to say what they share.
REST_MM = 4e-4
# Points round a socket at which there has to be material, and shares of its depth.
TURNS, DEEP = 16, (0.1, 0.5, 0.9)
# So near to the wall that was promised it is looked.
SHARE = 0.85
# Sections of a leg, and by how much their steps may mislead about how far it is stretched.
HEIGHTS, SLACK = 24, 1.25
# Of the strokes of a number that are cut so much may be missing, or too much.
MISREAD = 0.05
# A box that takes less of a piece than this share of its height is cut out with all that lies so high.
FLAT = 0.3
# A plane parts two pieces of which neither reaches further over it.
PARTED_MM = 1e-4
# Boxes that share less than this only touch.
TOUCH_MM = 1e-3


@stored("assembly step")
@dataclass(frozen=True, slots=True)
class Step:
    """Two groups of pieces that meet.

    Attributes
    ----------
    cut : str
    first, second : tuple of int
        Numbers of the pieces of each group.
    direction : (x, y, z)
        Along which the second is drawn off the first; it comes on the other way.
    """

    cut: str
    first: tuple[int, ...]
    second: tuple[int, ...]
    direction: tuple[float, float, float]


@stored("joint fault")
@dataclass(frozen=True, slots=True)
class JointFault:
    """Something that the verification found.

    Attributes
    ----------
    kind : str
        ``overlap``, ``sweep``, ``wall``, ``strain`` or ``number``.
    between : (int, int)
    words : str
    mm3 : float
        How much overlaps; 0 where nothing does.
    """

    kind: str
    between: tuple[int, int]
    words: str
    mm3: float = 0.0


def steps(tree: Node, numbers: Mapping[int, Sequence[int]], joints: Sequence[Joint] = ()) -> list[Step]:
    """Steps in which the pieces go together, first to last.

    Parameters
    ----------
    tree : Node
    numbers : mapping
        Of the pieces, by the ``id`` of the leaf that they come from.
    joints : sequence of Joint
        What slides along its face is drawn off that way.

    Returns
    -------
    list of Step
        The tree read backwards: what was cut last is joined first.
    """
    found = []
    slides = {joint.cut: joint.slides for joint in joints if joint.slides is not None}
    for node in tree.parted():
        assert node.cut is not None
        groups = [tuple(n for leaf in half.leaves() for n in numbers[id(leaf)]) for half in node.halves]
        if all(groups):
            found.append(Step(node.cut.id, groups[0], groups[1], slides.get(node.cut.id, node.cut.normal)))
    return found[::-1]


def verify(
    meshes: Sequence[Mesh],
    joints: Sequence[Joint],
    *,
    wall_mm: float,
    strain: float = 1.0,
    known: MutableMapping[Any, list[JointFault]] | None = None,
    progress: Progress = silent,
) -> list[JointFault]:
    """Judge pieces as they are written: whether they go together, and what stays round their sockets.

    Parameters
    ----------
    meshes : sequence of Mesh
        The pieces as read back from their files, where they were in the part.
    joints : sequence of Joint
        With the numbers of their pieces, from 0.
    wall_mm : float
        That was promised round a socket.
    strain : float
        That legs of pegs that snap may be stretched by.
    known : mapping, optional
        Of what was judged before, by the surfaces and joints themselves: it is not judged again, and what is
        judged now is noted.
    progress : Progress

    Returns
    -------
    list of JointFault

    Notes
    -----
    Of two pieces that touch neither may lie in the other, at rest and while the second is drawn off. Round
    each socket points are looked at by the winding number of the surface that was written.
    """
    told: MutableMapping[Any, list[JointFault]] = {} if known is None else known
    pieces = _Pieces(meshes)

    def once(what: str, judge: Callable[[], list[JointFault]], of: tuple[int, ...], *key: object) -> None:
        whole = (what, of, tuple(meshes[k].digest for k in of), *key)
        if whole not in told:
            told[whole] = judge()
        faults.extend(told[whole])

    faults: list[JointFault] = []
    pairs = sorted({*_near(meshes), *((min(j.between), max(j.between)) for j in joints)})
    by_pair: dict[tuple[int, int], list[Joint]] = {pair: [] for pair in pairs}
    for joint in joints:
        by_pair[min(joint.between), max(joint.between)].append(joint)
    for pair, mine in tracked(list(by_pair.items()), "Checking joints", progress):
        once("together", partial(_together, pieces, pair, mine), pair, *mine)
    for joint in joints:
        second = joint.between[1]
        once("wall", partial(_walls, pieces, joint, wall_mm), (second,), joint, wall_mm)
        if any(peg.lip_mm for peg in joint.pegs):
            once("strain", partial(_strained, pieces, joint, strain), joint.between, joint, strain)
        once("number", partial(_misnumbered, pieces, joint), joint.between, joint)
    return faults


@dataclass(eq=False)
class _Cut:
    """What of a piece lies in a box."""

    body: Any

    @cached_property
    def tree(self) -> Tree:
        """Its surface, closed where it is cut."""
        return Tree.of(Solid(self.body).mesh())


class _Pieces:
    """Solids of pieces as they were written, each made once, when it is asked for."""

    def __init__(self, meshes: Sequence[Mesh]) -> None:
        self.meshes = meshes
        self.solid = lru_cache(None)(lambda k: Solid.from_mesh(meshes[k]).manifold)
        # What lies so high along an axis, by the piece and axis.
        self._slabs: dict[tuple[int, int], list[tuple[float, float, _Cut]]] = {}

    def within(self, k: int, low: NDArray[np.float64], high: NDArray[np.float64]) -> Any:
        """What of a piece lies between two corners (3,) of a box, or all that lies as high as a flat one."""
        return self._cut(k, low, high).body

    def _cut(self, k: int, low: NDArray[np.float64], high: NDArray[np.float64]) -> _Cut:
        """What of a piece lies between two corners (3,).

        Most boxes lie along the faces of a piece and are flat: what lies so high is cut once for all of them.
        """
        size = np.ptp(self.meshes[k].bounds, axis=0)
        axis = int(np.argmin((high - low) / size))
        if high[axis] - low[axis] >= FLAT * size[axis]:
            return _Cut(_within(self.solid(k), low, high))
        known = self._slabs.setdefault((k, axis), [])
        for from_mm, to_mm, there in known:
            if from_mm <= low[axis] and high[axis] <= to_mm:
                return there
        whole = self.meshes[k].bounds + [[-1.0], [1.0]]
        # Faces often lie at whole millimetres, and a box in a face itself would leave films.
        from_mm, to_mm = math.floor(low[axis]) - AROUND_MM, math.ceil(high[axis]) + AROUND_MM
        low_end, high_end = self.meshes[k].bounds[:, axis]
        up = np.eye(3)[axis]
        if from_mm < low_end or to_mm > high_end:
            # At an end of the piece one plane is enough, and a box takes twice as long.
            plane = (-up, -to_mm) if from_mm < low_end else (up, from_mm)
            body = self.solid(k).trim_by_plane(plane[0].tolist(), plane[1])
            body.num_tri()
        else:
            whole[:, axis] = from_mm, to_mm
            body = _within(self.solid(k), *whole)
        cut = _Cut(body)
        known.append((from_mm, to_mm, cut))
        return cut

    def tree_within(self, k: int, low: NDArray[np.float64], high: NDArray[np.float64]) -> Tree:
        """Tree of what of a piece lies between two corners (3,), as in ``within``: most of it is far away."""
        return self._cut(k, low, high).tree


def _together(pieces: _Pieces, pair: tuple[int, int], mine: Sequence[Joint]) -> list[JointFault]:
    """Whether two pieces lie in each other once they are joined, or on their way."""
    if not mine:
        # Nothing of the one lies beyond a plane that nothing of the other lies before: no need to try.
        i, j = (pieces.meshes[k] for k in pair)
        if any(_parts(way, i, j) for way in _ways_between(i.bounds, j.bounds)):
            return []
        still, moving = _where_they_may_meet(pieces, *pair, np.zeros(3))
        over = float((still ^ moving).volume())
        return [_lie_in_each_other("overlap", *pair, over)] if over > NOISE_MM3 else []
    if not any(one.holds for one in mine):
        first, second = mine[0].between
        if _parts(np.asarray(mine[0].direction), pieces.meshes[first], pieces.meshes[second]):
            return []
    first, second = mine[0].between
    area = sum(one.area_mm2 for one in mine)
    reaches = [p.depth_mm for one in mine for p in one.pegs] + [one.travel_mm for one in mine]
    far = max(reaches, default=0.0) + 1.0
    way = np.asarray(next((one.slides for one in mine if one.slides is not None), mine[0].direction))
    still, moving = _where_they_may_meet(pieces, first, second, far * way)
    ways = [REST_MM, min(EARLY_MM, far / 4), *(far * k / (SWEEP - 1) for k in range(1, SWEEP))]
    lips = [placed(lip_room(p), p, frame(p.axis)) for one in mine for p in one.pegs if p.lip_mm]
    for k, by in enumerate(ways):
        both = still ^ moving.translate((by * way).tolist())
        # On the way a lip gives way, nothing else.
        over = float(
            (Manifold.batch_boolean([both, *lips], OpType.Subtract) if k and lips else both).volume()
        )
        if over > NOISE_MM3 * max(1.0, area / 100):
            return [_lie_in_each_other("sweep" if k else "overlap", first, second, over)]
    return []


def _parts(way: NDArray[np.float64], one: Mesh, other: Mesh) -> bool:
    """Whether a plane square to a direction (3,) parts two pieces: so they stay while they are drawn off."""
    return float((one.vertices @ way).max()) <= float((other.vertices @ way).min()) + PARTED_MM


def _ways_between(one: NDArray[np.float64], other: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Directions (3,) from one piece to another beside it, along axes or aslant, by their boxes (2, 3).

    Pegs stand out of both, so that their boxes meet; most that lie over corner are parted aslant.
    """
    shared = np.minimum(one[1], other[1]) - np.maximum(one[0], other[0])
    beside = shared < FLAT * np.minimum(np.ptp(one, axis=0), np.ptp(other, axis=0))
    sign = np.sign(other.sum(axis=0) - one.sum(axis=0))
    slant = np.where(beside, sign, 0.0)
    ways = [slant, *(axis * sign for axis in np.eye(3)[beside])]
    return [way / np.linalg.norm(way) for way in ways if way.any()]


def _where_they_may_meet(
    pieces: _Pieces, first: int, second: int, move: NDArray[np.float64]
) -> tuple[Any, Any]:
    """What of two pieces can lie in each other while the second is moved: the rest is left out.

    Whatever overlaps lies in the box of the first and in that of the second on its way. Small pieces of large
    ones are then tried again and again, not these.
    """
    own, other = pieces.meshes[first].bounds, pieces.meshes[second].bounds
    low = np.maximum(own[0], other[0] + np.minimum(move, 0.0)) - AROUND_MM
    high = np.minimum(own[1], other[1] + np.maximum(move, 0.0)) + AROUND_MM
    if (high <= low).any():
        return Manifold(), Manifold()
    # The second is cut where it is before it moves.
    before = np.minimum(low, low - move), np.maximum(high, high - move)
    return pieces.within(first, low, high), pieces.within(second, *before)


def _within(body: Any, low: NDArray[np.float64], high: NDArray[np.float64]) -> Any:
    part = body ^ Manifold.cube((high - low).tolist()).translate(low.tolist())
    # Asked for its size it is made now, once, and not again with each thing it is tried with.
    part.num_tri()
    return part


def _misnumbered(pieces: _Pieces, joint: Joint) -> list[JointFault]:
    """Faces that do not say which piece they are of, and which belongs there: read from a section through."""
    faults = []
    for k, label in enumerate(joint.labels):
        own, other = joint.between[k], joint.between[1 - k]
        right, up = np.asarray(label.right), np.asarray(label.up)
        turn = np.stack([right, up, np.cross(right, up)])
        x, y, z = turn @ np.asarray(label.at_mm)
        # The strokes lie in a box of this size round their middle, at every turn.
        wide = 0.5 * (label.height_mm * len(label.text) + DEPTH_MM) * (np.abs(right) + np.abs(up))
        middle = np.asarray(label.at_mm) - DEPTH_MM / 2 * turn[2]
        near = pieces.within(own, middle - wide - AROUND_MM / 4, middle + wide + AROUND_MM / 4)
        level = near.transform(np.column_stack([turn, np.zeros(3)])).slice(z - DEPTH_MM / 2)
        wanted = outline(f"{own + 1}/{other + 1}", label.height_mm).translate((x, y))
        x0, y0, x1, y1 = wanted.bounds()
        window = CrossSection([np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1)])]).offset(
            0.2, JoinType.Miter
        )
        read = window - level
        wrong = float((read - wanted).area() + (wanted - read).area())
        if wrong > MISREAD * float(wanted.area()):
            words = f"A face of piece {own + 1} does not say that piece {other + 1} belongs there."
            faults.append(JointFault("number", (own, other), words))
    return faults


def _strained(pieces: _Pieces, joint: Joint, most: float) -> list[JointFault]:
    """Legs that would break on their way in: measured on sections of what was written."""
    faults = []
    first = joint.between[0]
    for peg in joint.pegs:
        n, v = np.asarray(peg.axis), np.asarray(peg.across)
        turn = np.stack([np.cross(v, n), v, n])
        x, y, z = turn @ np.asarray(peg.at_mm)
        reach = peg.width_mm + 2 * peg.lip_mm
        near = CrossSection.square((2 * reach, 2 * reach), True).translate((x, y))
        # Both are cut out round the peg: the piece itself is large.
        ends = np.asarray(peg.at_mm) + np.outer([0.0, peg.depth_mm], n)
        around = pieces.within(first, ends.min(axis=0) - 2 * reach, ends.max(axis=0) + 2 * reach)
        level = around.transform(np.column_stack([turn, np.zeros(3)]))
        heights = np.linspace(0.1, peg.depth_mm - 0.1, HEIGHTS)
        spans = [_span(level.slice(z + h) ^ near, y) for h in heights]
        split = [k for k, (inner, _) in enumerate(spans) if inner > 0]
        outer = np.array([out for _, out in spans])
        tip = int(np.argmax(outer))
        # From the root of the slot up to the lip nothing joins the legs.
        if not split or any(k not in split for k in range(split[0], tip)) or tip - split[0] < HEIGHTS / 4:
            faults.append(
                JointFault("strain", joint.between, f"A peg of piece {first + 1} has no legs to bend.")
            )
            continue
        leg = float(np.median([outer[k] - spans[k][0] for k in split if k < tip]))
        bent = float(outer[tip]) - peg.width_mm / 2 - peg.clearance_mm
        stretched = 1.5 * leg * max(bent, 0.0) / max(heights[tip] - heights[split[0]], 1e-6) ** 2
        if stretched > most * SLACK:
            words = f"The legs of a peg of piece {first + 1} would be stretched by {100 * stretched:.1f} %."
            faults.append(JointFault("strain", joint.between, words))
    return faults


def _span(section: CrossSection, y: float) -> tuple[float, float]:
    """From where to where a section lies off a line along x: 0 where it lies on it."""
    if section.is_empty():
        return 0.0, 0.0
    boxes = [part.bounds() for part in section.decompose()]
    inner = min(max(y0 - y, y - y1, 0.0) for _, y0, _, y1 in boxes)
    return inner, max(max(abs(y0 - y), abs(y1 - y)) for _, y0, _, y1 in boxes)


def _near(meshes: Sequence[Mesh]) -> list[tuple[int, int]]:
    """Pairs of pieces whose boxes share room: those that only touch cannot lie in each other."""
    boxes = np.array([mesh.bounds for mesh in meshes])
    apart = (boxes[:, None, 0] > boxes[None, :, 1] - TOUCH_MM).any(axis=2)
    i, j = np.nonzero(np.triu(~(apart | apart.T), 1))
    return list(zip(i.tolist(), j.tolist(), strict=True))


def _lie_in_each_other(kind: str, i: int, j: int, mm3: float) -> JointFault:
    how = "while they are joined" if kind == "sweep" else "once they are joined"
    return JointFault(kind, (i, j), f"Pieces {i + 1} and {j + 1} lie in each other {how}.", mm3)


def _walls(pieces: _Pieces, joint: Joint, wall_mm: float) -> list[JointFault]:
    """Sockets with less material round them than was promised."""
    faults = []
    turns = 2 * np.pi * np.arange(TURNS) / TURNS
    for peg in joint.pegs:
        n, v = np.asarray(peg.axis), np.asarray(peg.across)
        # Off the flats by most of the wall: between two flats the section is wider.
        each = 2 * np.pi / (peg.sides or TURNS)
        flat = (peg.width_mm / 2 + peg.clearance_mm + peg.lip_mm) / np.cos(
            (turns + each / 2) % each - each / 2
        )
        out = (flat + SHARE * wall_mm)[:, None]
        ring = out * (np.cos(turns)[:, None] * v + np.sin(turns)[:, None] * np.cross(n, v))
        points = np.concatenate([np.asarray(peg.at_mm) + ring + t * peg.depth_mm * n for t in DEEP])
        other = joint.between[1]
        ends = points.min(axis=0) - AROUND_MM, points.max(axis=0) + AROUND_MM
        if (pieces.tree_within(other, *ends).winding(points) < 0.5).any():
            words = f"A socket of piece {other + 1} has less than {wall_mm:g} mm of wall round it."
            faults.append(JointFault("wall", joint.between, words))
    return faults

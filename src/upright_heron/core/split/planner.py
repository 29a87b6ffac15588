"""Plans of cuts: planes that part a piece too big for the machine into as few as can be.

References
----------
L. Luo, I. Baran, S. Rusinkiewicz, W. Matusik, on partitioning models into printable parts, ACM Transactions
on Graphics 31(6), 2012: beam search over trees of planes.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..errors import BadValue
from ..geometry.frames import frame
from ..geometry.solid import Solid, bodies_of
from ..progress import Progress, silent
from ..tags import stored
from .cut_part import DUST_MM3
from .cuts import Cut, Node, Vector, cut, cut_tree
from .grid import grid_cuts
from .kept import Kept, crossed
from .pieces import SLIVER_MM3
from .sizes import FRAMES, boxes_taken, counts, fits, frames

# The surface is thinned by this, and its edges are no longer than that, before it is sampled; on a large part
# as shares of its longest side.
THIN_MM, EDGE_MM = 0.3, 20.0
THIN_SHARE, EDGE_SHARE = 1 / 1500, 1 / 33
# Planes of a direction are tried so far apart.
STEP_MM = 4.0
# Directions of planes, and frames in which all of them are rated.
NORMALS, ROUGH_FRAMES = 20, 9
# So many of the planes of a piece are gone into, and so many trees are kept at a time.
RATED, BEAM = 4, 3
# Trees deeper than this are given up.
MOST_DEEP = 60
# Of more outermost samples those that are none any more are looked for.
MOST_RIM = 1500
# A plane so near to the end of a piece leaves a sliver.
END_MM = 6.0


@stored("plan")
@dataclass(frozen=True, eq=False)
class Plan:
    """Cuts that are proposed, with figures of the exact pieces.

    Attributes
    ----------
    name : str
        ``boxes``, ``shifted boxes``, ``planned``, or ``whole`` where it fits another way up.
    cuts : tuple of Cut
    pieces : int
    too_big, slivers : int
        Of these.
    joint_mm2 : float
        Area of all joint faces.
    least_joint_mm2 : float
        Of the smallest.
    balance : float
        Volume of the smallest piece as a share of the largest.
    score : float
        Less is better: pieces, with slivers counted again.
    amounts : tuple of (float, float, float)
        Of each piece: volume (mm3), surface (mm2), and its shortest side (mm), which may stand upright.
    """

    name: str
    cuts: tuple[Cut, ...]
    pieces: int
    too_big: int
    slivers: int
    joint_mm2: float
    least_joint_mm2: float
    balance: float
    score: float
    amounts: tuple[tuple[float, float, float], ...] = ()


@dataclass(frozen=True, eq=False)
class _Part:
    """A piece as samples (n, 3) with the edges (m, 2) between them, and how many boxes it takes.

    The ``rim`` (k, 3) has all samples that lie furthest in some direction.
    """

    points: NDArray[np.float64]
    edges: NDArray[np.int64]
    boxes: int
    path: str
    rim: NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class _Tree:
    """Cuts so far, with the pieces that they leave."""

    parts: tuple[_Part, ...]
    cuts: tuple[Cut, ...] = ()
    area: float = 0.0
    done: tuple[_Part, ...] = field(default=())

    @property
    def rating(self) -> tuple[float, float]:
        """Boxes that all pieces take, and how much is cut: less is better."""
        return sum(p.boxes for p in self.parts) + sum(p.boxes for p in self.done), self.area


def plans(
    solid: Solid,
    box_mm: Vector,
    *,
    kept: Sequence[Kept] = (),
    early: Callable[[list[Plan]], None] | None = None,
    progress: Progress = silent,
) -> list[Plan]:
    """Propose cuts, the best first.

    Parameters
    ----------
    solid : Solid
    box_mm : (x, y, z)
        Largest size of a piece: the build volume less what keeps off its sides and what pegs stand out.
    kept : sequence of corners
        Boxes that no plane may go through.
    early : callable, optional
        Told what is found so far.
    progress : Progress

    Returns
    -------
    list of Plan
        Boxes that are as even as can be, always; the same shifted, and planes in any direction.

    Raises
    ------
    BadValue
        The box is too small for the part.
    """
    # While plans are compared they are counted on a thinned copy, the best in the end on the part itself.
    thin = thinned(solid)
    found = [_counted(thin, "boxes", grid_cuts(solid.bounds, box_mm, kept=kept), box_mm)]
    if early is not None:
        early(found)
    if not found[0].cuts:
        return found
    sample = _sample(thin)
    for name, width in (("planned", 1), ("shifted boxes", 0), ("planned", BEAM)):
        if width:
            cuts = _planned(sample, box_mm, kept, width, progress)
        else:
            cuts = _shifted(solid, sample, box_mm, kept)
        if cuts is None:
            continue
        plan = _counted(thin, name if cuts else "whole", cuts, box_mm)
        known = [p for p in found if p.name == plan.name]
        if not known or plan.score < known[0].score:
            found = [p for p in found if p.name != plan.name] + [plan]
        found.sort(key=_rating)
        if early is not None:
            early(found)
    return _confirmed(solid, found, box_mm)


def thinned(solid: Solid) -> Solid:
    """Return a copy with fewer facets, as near to it as plans need."""
    longest = float(np.ptp(solid.bounds, axis=0).max())
    return Solid(solid.manifold.simplify(max(THIN_MM, THIN_SHARE * longest)))


def _confirmed(solid: Solid, found: list[Plan], box_mm: Vector) -> list[Plan]:
    """Plans with the best of them counted on the part itself."""
    sure: set[str] = set()
    while found[0].name not in sure:
        best = found[0]
        sure.add(best.name)
        exact = _counted(solid, best.name, best.cuts, box_mm)
        found = sorted([exact, *found[1:]], key=_rating)
    return found


def _rating(plan: Plan) -> tuple[bool, float, float]:
    return plan.too_big > 0, plan.score, plan.joint_mm2


def _counted(solid: Solid, name: str, cuts: Sequence[Cut], box_mm: Vector) -> Plan:
    """Cut a part, and count."""
    tree = cut_tree(solid, cuts)
    amounts, big = [], 0
    for leaf in tree.leaves():
        for body in bodies_of(leaf.body):
            volume = float(body.volume())
            if volume < DUST_MM3:
                continue
            x0, y0, z0, x1, y1, z1 = body.bounding_box()
            side = float(min(x1 - x0, y1 - y0, z1 - z0))
            amounts.append((volume, float(body.surface_area()), side))
            big += not fits(np.asarray(body.hull().to_mesh64().vert_properties)[:, :3], box_mm)
    faces = [_face_mm2(node) for node in tree.parted()]
    volumes = [volume for volume, _, _ in amounts]
    slivers = sum(v < SLIVER_MM3 for v in volumes)
    return Plan(
        name, tuple(cuts), len(volumes), int(big), slivers, sum(faces), min(faces, default=0.0),
        min(volumes) / max(volumes), len(volumes) + 2.0 * slivers + 10.0 * int(big),
        tuple(amounts),
    )  # fmt: skip


def _face_mm2(node: Node) -> float:
    """Area of a cut, on the side before its plane."""
    assert node.cut is not None
    turn = np.column_stack([frame(node.cut.normal), np.zeros(3)])
    return sum(
        float(leaf.body.transform(turn).slice(node.cut.offset_mm - 0.02).area())
        for leaf in node.halves[0].leaves()
    )


def _sample(solid: Solid) -> _Part:
    longest = float(np.ptp(solid.bounds, axis=0).max())
    thin = solid.manifold.refine_to_length(max(EDGE_MM, EDGE_SHARE * longest)).to_mesh64()
    points = np.asarray(thin.vert_properties)[:, :3].copy()
    faces = np.asarray(thin.tri_verts).astype(np.int64)
    edges = np.unique(np.sort(faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1), axis=0)
    return _Part(points, edges, 0, "", _outermost(points))


def _outermost(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Those of some points (n, 3) that are corners of their hull; all where they lie in a plane."""
    from scipy.spatial import ConvexHull, QhullError

    try:
        return np.asarray(points[ConvexHull(points).vertices])
    except (QhullError, ValueError):
        return points


def _normals(count: int) -> NDArray[np.float64]:
    """Directions (k, 3) over a half of the sphere, the axes first."""
    k = np.arange(count - 3) + 0.5
    up, turn = k / (count - 3), np.pi * (1 + 5**0.5) * k
    level = np.sqrt(1 - up * up)
    spread = np.column_stack([level * np.cos(turn), level * np.sin(turn), up])
    return np.concatenate([np.eye(3), spread])


def _planned(
    sample: _Part, box_mm: Vector, kept: Sequence[Kept], width: int, progress: Progress
) -> list[Cut] | None:
    """Search trees of planes on samples, keeping so many at a time."""
    every, rough = frames(FRAMES), frames(ROUGH_FRAMES)
    normals = _normals(NORMALS)
    first = replace(sample, boxes=boxes_taken(sample.rim, every, box_mm))
    beam = [_Tree((first,)) if first.boxes > 1 else _Tree((), done=(first,))]
    for deep in range(MOST_DEEP):
        progress("Planning cuts", deep, MOST_DEEP)
        if all(not tree.parts for tree in beam):
            break
        after: list[_Tree] = []
        for tree in beam:
            if not tree.parts:
                after.append(tree)
                continue
            # The one that takes most boxes is parted first.
            worst = max(tree.parts, key=lambda p: (p.boxes, len(p.points)))
            rest = tuple(p for p in tree.parts if p is not worst)
            for halves, one, area in _parted(worst, normals, rough, every, box_mm, kept, len(tree.cuts) + 1):
                open_ = tuple(h for h in halves if h.boxes > 1)
                done = tuple(h for h in halves if h.boxes <= 1)
                after.append(_Tree((*rest, *open_), (*tree.cuts, one), tree.area + area, (*tree.done, *done)))
        if not after:
            return None
        beam = sorted(after, key=lambda t: t.rating)[:width]
    best = min((t for t in beam if not t.parts), key=lambda t: t.rating, default=None)
    return None if best is None else list(best.cuts)


def _parted(
    part: _Part,
    normals: NDArray[np.float64],
    rough: NDArray[np.float64],
    every: NDArray[np.float64],
    box_mm: Vector,
    kept: Sequence[Kept],
    number: int,
) -> list[tuple[tuple[_Part, _Part], Cut, float]]:
    """The best planes of a piece, rated on a few frames, then on all."""
    box = np.sort(np.asarray(box_mm))
    along_frames = part.points @ rough.reshape(-1, 3).T
    rated: list[tuple[float, float, int, float]] = []
    for k, normal in enumerate(normals):
        along = part.points @ normal
        low, high = float(along.min()), float(along.max())
        bins = int((high - low) / STEP_MM)
        if high - low < 2 * END_MM or bins < 2:
            continue
        at = np.minimum(((along - low) / STEP_MM).astype(np.int64), bins)
        before, beyond = _extents(at, along_frames, bins + 1)
        taken = counts(before.reshape(bins, -1, 3), box).min(axis=1)
        taken += counts(beyond.reshape(bins, -1, 3), box).min(axis=1)
        offsets = low + (np.arange(bins) + 1) * STEP_MM
        allowed = (offsets - low >= END_MM) & (high - offsets >= END_MM)
        if kept:
            allowed &= [crossed(normal, v, kept) is None for v in offsets.tolist()]
        order = np.argsort(taken, kind="stable")
        # What is kept whole may rule out the best: then the next ones are gone into.
        chosen = order[:3] if not kept else order[allowed[order]][:3]
        for b in chosen[allowed[chosen]].tolist():
            offset = float(offsets[b])
            crossing = int((np.diff((along[part.edges] > offset).astype(np.int8), axis=1) != 0).sum())
            rated.append((float(taken[b]), float(crossing), k, offset))
    rated.sort()
    found = []
    for _, edges, k, offset in rated[:RATED]:
        two = _halves(part, normals[k], offset, str(number))
        halves = tuple(replace(h, boxes=boxes_taken(h.rim, every, box_mm)) for h in two)
        one = cut(normals[k].tolist(), offset, str(number), part.path)
        found.append(((halves[0], halves[1]), one, edges))
    return found


@njit(cache=True)
def _extents(at, along, bins):  # type: ignore[no-untyped-def]
    """What lies before and beyond each plane between bins reaches over, in each of some directions."""
    columns = along.shape[1]
    low, high = np.full((bins, columns), np.inf), np.full((bins, columns), -np.inf)
    for p in range(at.shape[0]):
        for c in range(columns):
            low[at[p], c] = min(low[at[p], c], along[p, c])
            high[at[p], c] = max(high[at[p], c], along[p, c])
    before, beyond = np.zeros((bins - 1, columns)), np.zeros((bins - 1, columns))
    for c in range(columns):
        a, b = np.inf, -np.inf
        for k in range(bins - 1):
            a, b = min(a, low[k, c]), max(b, high[k, c])
            before[k, c] = max(b - a, 0.0)
        a, b = np.inf, -np.inf
        for k in range(bins - 1, 0, -1):
            a, b = min(a, low[k, c]), max(b, high[k, c])
            beyond[k - 1, c] = max(b - a, 0.0)
    return before, beyond


def _halves(part: _Part, normal: NDArray[np.float64], offset: float, name: str) -> tuple[_Part, _Part]:
    """Samples on both sides of a plane, each with the points in which edges meet it."""
    along = part.points @ normal - offset
    ends = along[part.edges]
    crosses = (ends[:, 0] > 0) != (ends[:, 1] > 0)
    over = part.edges[crosses]
    a, b = along[over[:, 0]], along[over[:, 1]]
    t = (a / (a - b))[:, None]
    fresh = part.points[over[:, 0]] * (1 - t) + part.points[over[:, 1]] * t
    lead = f"{part.path}-" if part.path else ""
    outer = part.rim @ normal - offset
    made = []
    for side in ("a", "b"):
        mine = along <= 0 if side == "a" else along > 0
        number = np.cumsum(mine) - 1
        kept = part.edges[mine[part.edges].all(axis=1)]
        start = int(mine.sum())
        inner = np.where(mine[over[:, 0]], over[:, 0], over[:, 1])
        new = np.column_stack([number[inner], start + np.arange(len(over))])
        points = np.concatenate([part.points[mine], fresh])
        # What is outermost of a half was so of the whole, or lies in the cut.
        rim = np.concatenate([part.rim[(outer <= 0) if side == "a" else (outer > 0)], fresh])
        rim = _outermost(rim) if len(rim) > MOST_RIM else rim
        made.append(_Part(points, np.concatenate([number[kept], new]), 0, f"{lead}{name}{side}", rim))
    return made[0], made[1]


def _shifted(solid: Solid, sample: _Part, box_mm: Vector, kept: Sequence[Kept]) -> list[Cut] | None:
    """Boxes moved so that fewer of them hold something, and less of that in slivers."""
    best: tuple[float, Vector] | None = None
    shift = [0.0, 0.0, 0.0]
    for axis in (0, 1, 2):
        for share in np.linspace(-0.45, 0.45, 7):
            tried = list(shift)
            tried[axis] = float(share)
            try:
                cuts = grid_cuts(solid.bounds, box_mm, (tried[0], tried[1], tried[2]), kept=kept)
            except BadValue:
                continue
            cell = np.zeros(len(sample.points), np.int64)
            for one in cuts:
                side = sample.points @ np.asarray(one.normal) > one.offset_mm
                cell = cell + side * 1000**one.axis
            held = np.unique(cell, return_counts=True)[1]
            rating = len(held) + 2.0 * float((held < 0.004 * len(cell)).sum())
            if best is None or rating < best[0]:
                best = (rating, (tried[0], tried[1], tried[2]))
        shift = list(best[1]) if best else shift
    if best is None or not any(best[1]):
        return None
    return grid_cuts(solid.bounds, box_mm, best[1], kept=kept)

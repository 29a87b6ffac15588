"""Cuts by planes, one after another: the tree of cuts and the bodies that come of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import BadValue
from ..geometry.frames import frame
from ..geometry.solid import Solid
from ..progress import Progress, silent
from ..tags import stored
from .plane_cut import IN_PLANE_MM, Shell, Whole

Vector = tuple[float, float, float]
# A plane nearer to a corner than this goes through it.
NEAR_MM = 0.01
# Corners that lie in one plane to this do so exactly, mm; and directions are along an axis to this.
SAME_MM, LEVEL = 1e-7, 1e-6
# A plane by its normal and its distance from the origin.
Bound = tuple[Vector, float]
# The volumes of what comes of cuts balance to this share, or the solid's own cut is taken.
BOOKS = 1e-9
# More cuts than this are a slip, not a plan.
MOST_CUTS = 400


@stored("cut")
@dataclass(frozen=True, slots=True)
class Cut:
    """A plane that parts all of an item, or one of its pieces.

    Attributes
    ----------
    id : str
        Stays the same when the plane is moved.
    normal : (x, y, z)
        Of length 1; it points to the side called b.
    offset_mm : float
        Distance of the plane from the origin along the normal.
    within : str
        Path of the piece that is cut; empty where everything is.
    """

    id: str
    normal: Vector
    offset_mm: float
    within: str = ""

    @property
    def axis(self) -> int:
        """The axis that its normal points along most: 0, 1 or 2."""
        return int(np.argmax(np.abs(self.normal)))


@dataclass(eq=False)
class Node:
    """A place in the tree of cuts: parted by a cut in two, or a body.

    Attributes
    ----------
    path : str
        Cuts and sides that lead to it: ``1a-3b``. Cuts that miss it are not named.
    sides : dict of str to str
        On which side of each cut it lies.
    body : Manifold or None
        Where it is not parted.
    uncut : Shell or Whole or None
        What it is until all cuts are made.
    cut : Cut or None
        That parts it,
    halves : tuple of Node
        into the side before the plane and that beyond it.
    whole : Manifold or None
        What the cut parted, where it was asked to be kept.
    """

    path: str
    sides: dict[str, str] = field(default_factory=dict)
    body: Any = None
    uncut: Shell | Whole | None = None
    cut: Cut | None = None
    halves: tuple[Node, ...] = ()
    whole: Any = None

    def leaves(self) -> Iterator[Node]:
        """Bodies below it, those before each plane first."""
        if not self.halves:
            yield self
        for half in self.halves:
            yield from half.leaves()

    def parted(self) -> Iterator[Node]:
        """Nodes that a cut parts, each before those below it."""
        if self.halves:
            yield self
        for half in self.halves:
            yield from half.parted()


def cut(normal: Sequence[float], offset_mm: float, name: str, within: str = "") -> Cut:
    """Make a cut of a normal of any length.

    Raises
    ------
    BadValue
        The normal has no direction, or a number is not finite.
    """
    n = np.asarray(normal, np.float64)
    length = float(np.linalg.norm(n))
    if n.shape != (3,) or not np.isfinite([*n, offset_mm]).all() or length < 1e-9:
        raise BadValue("A plane needs a direction and a distance.", "Type four numbers, as 0,0,1,120.")
    # A plane that leans by less than a file can tell is square to its axis.
    n = np.where(np.abs(n) < LEVEL * length, 0.0, n)
    x, y, z = (float(v) for v in n / np.linalg.norm(n))
    return Cut(name, (x, y, z), float(offset_mm), within)


def cut_tree(solid: Solid, cuts: Sequence[Cut], *, keep: bool = False, progress: Progress = silent) -> Node:
    """Cut a solid, plane after plane.

    Parameters
    ----------
    solid : Solid
    cuts : sequence of Cut
        In their order: a later one parts what the earlier ones left.
    keep : bool
        What each cut parts is kept with it.
    progress : Progress

    Returns
    -------
    Node
        The whole, with the tree of cuts below it.

    Raises
    ------
    BadValue
        More cuts than ``MOST_CUTS``.

    Notes
    -----
    A plane a hair beside a corner leaves a film that single precision folds up, so it is moved onto corners
    that it would miss by less than ``NEAR_MM``.
    """
    if len(cuts) > MOST_CUTS:
        raise BadValue(f"{len(cuts)} cuts are too many.", f"Use {MOST_CUTS} at most.")
    if not cuts:
        return Node("", body=solid.manifold)
    shell = Shell.of(solid.manifold)
    moved = [replace(one, offset_mm=snapped(shell.corners, one)) for one in cuts]
    try:
        tree = _grown(shell, moved, keep=keep, progress=progress)
        if (
            abs(sum(leaf.body.volume() for leaf in tree.leaves()) - solid.volume_mm3)
            < BOOKS * solid.volume_mm3
        ):
            return tree
    except _NotClosed:
        pass
    return _grown(Whole(solid.manifold), moved, keep=keep, progress=progress)


class _NotClosed(Exception):
    """What came of cutting a surface cannot be taken for a body."""


def _grown(uncut: Shell | Whole, cuts: list[Cut], *, keep: bool, progress: Progress) -> Node:
    """Tree of cuts of a part."""
    whole = Node("", uncut=uncut)
    for n, one in enumerate(cuts):
        progress("Cutting pieces", n, len(cuts))
        for leaf in list(whole.leaves()):
            if _lies_in(leaf.path, one.within):
                _part(leaf, one, keep=keep)
    for leaf in whole.leaves():
        assert leaf.uncut is not None
        leaf.body, leaf.uncut = _body(leaf.uncut), None
    progress("Cutting pieces", len(cuts), len(cuts))
    return whole


def _body(uncut: Shell | Whole) -> Any:
    made = uncut.body()
    if made.is_empty():
        raise _NotClosed
    return made


def _lies_in(path: str, within: str) -> bool:
    return not within or path == within or path.startswith(within + "-")


def _part(leaf: Node, plane: Cut, *, keep: bool) -> None:
    uncut = leaf.uncut
    assert uncut is not None
    low, high = (end - plane.offset_mm for end in uncut.reach(plane.normal))
    if low >= -IN_PLANE_MM or high <= IN_PLANE_MM:
        leaf.sides[plane.id] = "b" if low >= -IN_PLANE_MM else "a"
        return
    turn = frame(plane.normal)
    halves: tuple[Shell | Whole, ...] | None = uncut.halves(turn, plane.offset_mm)
    if halves is None and isinstance(uncut, Shell):
        solids = Whole(_body(uncut)).halves(turn, plane.offset_mm)
        halves = solids and tuple(Shell.of(half.solid) for half in solids)
    if halves is None:
        leaf.sides[plane.id] = "b" if low + high > 0 else "a"
        return
    lead = f"{leaf.path}-" if leaf.path else ""
    leaf.halves = tuple(
        Node(f"{lead}{plane.id}{side}", {**leaf.sides, plane.id: side}, uncut=half)
        for side, half in zip("ab", halves, strict=True)
    )
    leaf.cut, leaf.uncut, leaf.whole = plane, None, _body(uncut) if keep else None


def bounds_of(tree: Node, leaf: Node) -> list[Bound]:
    """Planes that bound a leaf of a tree, each by the normal to the side that it lies on."""
    found: list[Bound] = []
    node = tree
    while node.halves:
        assert node.cut is not None
        beyond = leaf in node.halves[1].leaves()
        x, y, z = node.cut.normal
        offset = node.cut.offset_mm
        found.append(((x, y, z), offset) if beyond else ((-x, -y, -z), -offset))
        node = node.halves[beyond]
    return found


def snapped(corners: NDArray[np.float64], plane: Cut) -> float:
    """Offset of a plane, moved onto corners (n, 3) that it would miss by a hair.

    Where those lie at several heights, each a hair from the others, it goes to where there are none near.
    """
    along = corners @ np.asarray(plane.normal)
    near = along[np.abs(along - plane.offset_mm) < NEAR_MM]
    if not len(near):
        return plane.offset_mm
    if float(np.ptp(near)) < SAME_MM:
        return float(near[np.argmin(np.abs(near - plane.offset_mm))])
    far = 100 * NEAR_MM
    around = np.unique(along[np.abs(along - plane.offset_mm) < far])
    around = np.array([plane.offset_mm - far, *around, plane.offset_mm + far])
    gaps = np.flatnonzero(np.diff(around) > NEAR_MM)
    if not len(gaps):
        return plane.offset_mm
    middles = np.clip(plane.offset_mm, around[gaps] + NEAR_MM / 2, around[gaps + 1] - NEAR_MM / 2)
    return float(middles[np.argmin(np.abs(middles - plane.offset_mm))])

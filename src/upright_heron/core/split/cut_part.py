"""A part that is cut, before its pieces are joined: kept while only the joints change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from cachetools import LRUCache

from ..geometry.solid import Solid, bodies_of
from ..progress import Progress, silent
from .cuts import Bound, Cut, Node, bounds_of, cut_tree
from .grid import Cell

# A body thinner than this, or with less volume, is left out: no machine makes it.
DUST_MM, DUST_MM3 = 0.02, 1.0
# So many pieces are kept for when a setting of their joints comes back.
MOST_PIECES = 400


@dataclass(eq=False)
class Known:
    """What is known of joints that were made of the same bodies: only what changed is made again.

    Attributes
    ----------
    faces : dict
        By the node of the tree: where its pieces meet.
    slides : dict
        By the node and what holds for its joints: direction of dovetails.
    joints : dict
        By the face, what holds for it and the joints made before in its pieces: a joint, with its number.
    alike : dict
        Joints by the face, what holds for it, and all that is told of them.
    pieces : mapping
        The last ones, by the body and the numbers of its joints: the piece as it is read back from a file.
    checks : dict
        By what was checked: what was found.
    """

    faces: dict[int, Any] = field(default_factory=dict)
    slides: dict[Any, float] = field(default_factory=dict)
    joints: dict[Any, Any] = field(default_factory=dict)
    alike: dict[Any, Any] = field(default_factory=dict)
    pieces: LRUCache[Any, Any] = field(default_factory=lambda: LRUCache(MOST_PIECES))
    checks: dict[Any, Any] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class CutPart:
    """Bodies of a part that is cut.

    Attributes
    ----------
    tree : Node
    leaves : list of Node
        In the order of their pieces.
    boxes : bool
        The cuts are those of ``grid_cuts``.
    cuts : tuple of Cut
    cells : list of (i, j, k)
        Of each leaf: in a grid how many planes lie before it along each axis; else 0.
    bodies : list of Manifold
        Every separate body of a leaf: what hangs together by nothing prints as two.
    owners : list of int
        The leaf of each body.
    paths : list of str
        Of each body: cuts and sides that lead to it.
    slivers : int
        Bodies too thin to print that were left out,
    lost_mm3 : float
        and their volume.
    volume_mm3 : float
        Of the whole.
    known : Known
    """

    tree: Node
    leaves: list[Node]
    boxes: bool
    cuts: tuple[Cut, ...]
    cells: list[Cell]
    bodies: list[Any]
    owners: list[int]
    paths: list[str]
    slivers: int
    lost_mm3: float
    volume_mm3: float
    known: Known = field(default_factory=Known)

    def bounds(self, body: int) -> list[Bound]:
        """Planes that bound a body."""
        return bounds_of(self.tree, self.leaves[self.owners[body]])

    def numbers(self) -> dict[int, list[int]]:
        """Numbers of the bodies, from 1, by the ``id`` of their leaf."""
        found: dict[int, list[int]] = {id(leaf): [] for leaf in self.leaves}
        for number, owner in enumerate(self.owners, 1):
            found[id(self.leaves[owner])].append(number)
        return found


def cut_part(
    solid: Solid,
    cuts: Sequence[Cut],
    *,
    boxes: bool = False,
    keep: bool = False,
    progress: Progress = silent,
) -> CutPart:
    """Cut a part.

    Parameters
    ----------
    solid : Solid
    cuts : sequence of Cut
        In their order.
    boxes : bool
        The cuts are those of ``grid_cuts``: pieces are ordered and named by their boxes.
    keep : bool
        What each cut parts is kept: laps and dovetails are made of the material that was there.
    progress : Progress

    Returns
    -------
    CutPart

    Raises
    ------
    BadValue
        Too many cuts.
    """
    tree = cut_tree(solid, cuts, keep=keep, progress=progress)
    leaves = list(tree.leaves())
    cells = [_cell(leaf, cuts) if boxes else (0, 0, 0) for leaf in leaves]
    order = sorted(range(len(leaves)), key=lambda k: cells[k][::-1])
    leaves, cells = [leaves[k] for k in order], [cells[k] for k in order]
    bodies, owners, slivers, lost = _bodies(leaves)
    places = [
        "-".join(map(str, c)) if boxes else leaf.path or "all" for leaf, c in zip(leaves, cells, strict=True)
    ]
    # Bodies of one place are told apart by a number behind its path.
    paths = [
        places[owner] + (f".{k + 1 - owners.index(owner)}" if owners.count(owner) > 1 else "")
        for k, owner in enumerate(owners)
    ]
    return CutPart(
        tree, leaves, boxes, tuple(cuts), cells, bodies, owners, paths, slivers, lost, solid.volume_mm3
    )


def _cell(leaf: Node, cuts: Sequence[Cut]) -> Cell:
    """How many planes of a grid lie before a body along each axis."""
    x, y, z = (sum(leaf.sides[one.id] == "b" for one in cuts if one.axis == axis) for axis in range(3))
    return x, y, z


def _bodies(leaves: Sequence[Node]) -> tuple[list[Any], list[int], int, float]:
    """Separate bodies of all leaves, the largest of each first, with their leaves; and what is left out."""
    bodies, owners = [], []
    slivers, lost = 0, 0.0
    for owner, leaf in enumerate(leaves):
        for body in bodies_of(leaf.body):
            volume = float(body.volume())
            x0, y0, z0, x1, y1, z1 = body.bounding_box()
            if volume < DUST_MM3 or min(x1 - x0, y1 - y0, z1 - z0) < DUST_MM:
                slivers, lost = slivers + 1, lost + volume
                continue
            bodies.append(body)
            owners.append(owner)
    return bodies, owners, slivers, lost

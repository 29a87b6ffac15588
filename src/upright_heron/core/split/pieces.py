"""A part in pieces: cut, joined, checked, with how it goes together again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..health.apart import take_apart
from ..health.patching import drop_needless
from ..health.written import as_written, judge
from ..progress import Progress, silent
from ..tags import stored
from .assembly import JointFault, Step, steps, verify
from .cut_part import CutPart, cut_part
from .cuts import Cut, Vector
from .fittings import JointKind, JointSetting
from .grid import Cell
from .joints import Joined, Joint, join
from .sizes import fits

# Thinner than this, or smaller, a piece is a sliver: it can be made, and is hard to join (common practice).
SLIVER_MM, SLIVER_MM3 = 3.0, 1000.0
# What is not closed as written is thinned by these before.
FINER_MM = (1e-4, 5e-4, 2e-3)
# Pulled apart all the way the halves of a cut lie so far from each other, as a share of what they reach over.
PULLED = 0.35


@stored("piece")
@dataclass(frozen=True, eq=False)
class Piece:
    """One piece of a split part.

    Attributes
    ----------
    number : int
        From 1.
    cell : (i, j, k)
        In a grid how many planes lie before it along each axis; else 0.
    size_mm : (x, y, z)
    volume_mm3 : float
        With its pegs, less its sockets.
    mesh : Mesh
        Where the piece was in the part.
    path : str
        Cuts and sides that lead to it: it stays while these stay.
    fits : bool
        Whether it fits the box that was asked for, some way up.
    loose : str
        A dowel: the cut that it is for.
    area_mm2 : float
        Of its surface.
    """

    number: int
    cell: Cell
    size_mm: Vector
    volume_mm3: float
    mesh: Mesh
    path: str = ""
    fits: bool = True
    loose: str = ""
    area_mm2: float = 0.0

    @property
    def amount(self) -> tuple[float, float, float]:
        """Volume (mm3), surface (mm2) and shortest side (mm): what rough estimates need."""
        return self.volume_mm3, self.area_mm2, min(self.size_mm)

    @property
    def sliver(self) -> bool:
        """Whether it is too thin or small to be joined well."""
        return not self.loose and (min(self.size_mm) < SLIVER_MM or self.volume_mm3 < SLIVER_MM3)


@stored("split")
@dataclass(frozen=True, eq=False)
class Split:
    """A part cut into pieces.

    Attributes
    ----------
    cells : (nx, ny, nz)
        How many boxes along each axis, of a grid; else 0.
    box_mm : (x, y, z)
        Largest size of a piece that was asked for.
    pieces : tuple of Piece
        Loose dowels last.
    slivers : int
        Bodies too thin to print that were left out,
    lost_mm3 : float
        and their volume.
    cuts : tuple of Cut
    joints : tuple of Joint
        With the numbers of their pieces.
    steps : tuple of Step
        How it goes together, first to last.
    faults : tuple of JointFault
    volume_error_mm3 : float
        By how much the volumes of the pieces miss that of the part, its pegs, sockets and what was left out.
    """

    cells: Cell
    box_mm: Vector
    pieces: tuple[Piece, ...]
    slivers: int = 0
    lost_mm3: float = 0.0
    cuts: tuple[Cut, ...] = ()
    joints: tuple[Joint, ...] = ()
    steps: tuple[Step, ...] = ()
    faults: tuple[JointFault, ...] = ()
    volume_error_mm3: float = 0.0

    @property
    def parts(self) -> tuple[Piece, ...]:
        """Pieces of the part itself, without loose dowels."""
        return tuple(piece for piece in self.pieces if not piece.loose)

    @property
    def refused(self) -> tuple[Joint, ...]:
        """Joints that have no peg though they should."""
        return tuple(j for j in self.joints if j.kind is not JointKind.BUTT and not j.holds)

    def neighbours(self, number: int) -> list[int]:
        """Numbers of the pieces that touch one."""
        found = {n for joint in self.joints if number in joint.between for n in joint.between}
        return sorted(found - {number})


def split(
    solid: Solid,
    cuts: Sequence[Cut],
    box_mm: Vector,
    setting: JointSetting | None = None,
    *,
    boxes: bool = False,
    progress: Progress = silent,
) -> Split:
    """Cut a part, join its pieces, and judge them as they are written.

    Parameters
    ----------
    solid : Solid
    cuts : sequence of Cut
        In their order.
    box_mm : (x, y, z)
        That each piece should fit, what stands out of it for its joints aside: see ``box_for``.
    setting : JointSetting, optional
        Plain faces without.
    boxes : bool
        The cuts are those of ``grid_cuts``: pieces are ordered and named by their boxes.
    progress : Progress

    Returns
    -------
    Split
        Every separate body of a cell is a piece: what hangs together by nothing prints as two.

    Raises
    ------
    BadValue
        Too many cuts, or a joint that cannot be.
    """
    given = (setting or JointSetting(kind=JointKind.BUTT)).checked()
    part = cut_part(solid, cuts, boxes=boxes, keep=given.interlocks, progress=progress)
    return join_pieces(part, box_mm, given, progress=progress)


def join_pieces(
    part: CutPart, box_mm: Vector, setting: JointSetting, *, progress: Progress = silent
) -> Split:
    """Join the pieces of a part that is cut, and judge them as they are written.

    Parameters
    ----------
    part : CutPart
        What is made is noted in it: with another setting only what that changes is made again.
    box_mm : (x, y, z)
        That each piece should fit, what stands out of it for its joints aside: see ``box_for``.
    setting : JointSetting
    progress : Progress

    Returns
    -------
    Split

    Raises
    ------
    BadValue
        A joint that cannot be.
    """
    joined = join(part, setting.checked(), progress=progress)
    x, y, z = (side + setting.stands_out_mm for side in box_mm)
    pieces, written = _pieces(joined, part, (x, y, z))
    faults = verify(
        [piece.mesh for piece in pieces if not piece.loose], joined.joints, wall_mm=setting.wall_mm,
        strain=setting.strain,
        known=part.known.checks, progress=progress,
    )  # fmt: skip
    along = tuple(int(part.boxes) + max(cell[axis] for cell in part.cells) for axis in range(3))
    return Split(
        (along[0], along[1], along[2]),
        box_mm,
        tuple(pieces),
        part.slivers,
        part.lost_mm3,
        part.cuts,
        tuple(replace(j, between=(j.between[0] + 1, j.between[1] + 1)) for j in joined.joints),
        tuple(steps(part.tree, part.numbers(), joined.joints)),
        tuple(replace(f, between=(f.between[0] + 1, f.between[1] + 1)) for f in faults),
        written - (part.volume_mm3 - part.lost_mm3 + joined.put_mm3),
    )


def _pieces(joined: Joined, part: CutPart, box_mm: Vector) -> tuple[list[Piece], float]:
    """Pieces as they are read back from a file, with their dowels; and the volume of the pieces, mm3."""
    found, whole = [], 0.0
    for k, worked in enumerate(joined.pieces):
        key = (k, tuple(worked.serials))
        if key not in part.known.pieces:
            part.known.pieces[key] = _read_back(worked.body())
        made = part.known.pieces[key]
        whole += made[1]
        found.append(_piece(k + 1, part.cells[part.owners[k]], made, part.paths[k], box_mm))
    for n, (body, joint) in enumerate(joined.dowels, 1):
        one = _piece(len(found) + 1, (0, 0, 0), _read_back(body), f"dowel.{n}", box_mm)
        found.append(replace(one, loose=joined.joints[joint].cut))
    return found, whole


def _piece(number: int, cell: Cell, made: tuple[Mesh, float, float], path: str, box_mm: Vector) -> Piece:
    mesh, volume, area = made
    x, y, z = (float(v) for v in mesh.size_mm)
    fit = fits(mesh.vertices, box_mm)
    return Piece(number, cell, (x, y, z), volume, mesh, path, fit, area_mm2=area)


def _read_back(body: Any) -> tuple[Mesh, float, float]:
    """A piece as it is read back from a file, and its volume and surface as it was made, mm3 and mm2."""
    mesh, closed = _as_file(Solid(body).mesh())
    for step in FINER_MM:
        if closed:
            break
        # Corners closer than a file can tell are drawn together first.
        mesh, closed = _as_file(Solid(body.simplify(step)).mesh())
    return mesh, float(body.volume()), float(body.surface_area())


def _as_file(mesh: Mesh) -> tuple[Mesh, bool]:
    """A piece as it is read back from a file, with what folds up there mended; and whether it is closed."""
    # On steps of the largest coordinate: near zero a file tells apart what most readers take for one corner.
    step = float(np.spacing(np.float32(max(float(np.abs(mesh.vertices).max(initial=1.0)), 1.0))))
    back = as_written(Mesh(np.round(mesh.vertices / step) * step, mesh.faces))
    if not len(back.faces) or _closed(back):
        return back, bool(len(back.faces))
    mended = as_written(drop_needless(back)[0])
    mended = take_apart(mended)[0] if len(mended.faces) else mended
    return mended, _closed(mended)


def _closed(mesh: Mesh) -> bool:
    return judge(mesh, np.zeros((0, 2), np.int64)).closed


def pulled(made: Split) -> tuple[NDArray[np.float64], NDArray[np.int8]]:
    """How pieces lie when they are pulled apart, step by step.

    Returns
    -------
    (steps, 3) float64
        How far the second group of each step is drawn off the first, mm; in the order of assembly.
    (steps, pieces) int8
        1 where a piece belongs to the second group of a step, -1 to the first, 0 to neither.
    """
    away = np.zeros((len(made.steps), 3))
    side = np.zeros((len(made.steps), len(made.pieces)), np.int8)
    boxes = np.array([piece.mesh.bounds for piece in made.pieces]).reshape(-1, 2, 3)
    for k, step in enumerate(made.steps):
        members = np.array([*step.first, *step.second]) - 1
        size = boxes[members, 1].max(axis=0) - boxes[members, 0].min(axis=0)
        n = np.asarray(step.direction)
        away[k] = PULLED * float(np.abs(n) @ size) * n
        side[k, np.array(step.first) - 1] = -1
        side[k, np.array(step.second) - 1] = 1
    return away, side

"""Cutting a part into a grid of boxes, with plain butt joints."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..errors import BadValue
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..health.apart import take_apart
from ..health.patching import drop_needless
from ..health.written import as_written, judge
from ..progress import Progress, silent
from ..tags import stored
from ..tolerances import DEFAULT, Tolerances

Size = tuple[float, float, float]
Cell = tuple[int, int, int]
# Finer grids than this are a mistyped box, not a plan.
MOST_CELLS = 4000
# A plane nearer to a vertex goes through it.
NEAR_MM = 0.01
# A body thinner than this is left out: no machine makes it.
SLIVER_MM = 0.02


@stored("piece")
@dataclass(frozen=True, eq=False)
class Piece:
    """One piece of a split part.

    Attributes
    ----------
    number : int
        From 1; by cell (x fastest, then y, then z), the largest body of a cell first.
    cell : (i, j, k)
    size_mm : (x, y, z)
    volume_mm3 : float
    mesh : Mesh
        Where the piece was in the part.
    """

    number: int
    cell: Cell
    size_mm: Size
    volume_mm3: float
    mesh: Mesh


@stored("split")
@dataclass(frozen=True, eq=False)
class Split:
    """A part cut into pieces.

    Attributes
    ----------
    cells : (nx, ny, nz)
        How many boxes along each axis.
    box_mm : (x, y, z)
        Size of each box.
    pieces : tuple of Piece
    slivers : int
        Bodies too thin to print that were left out,
    lost_mm3 : float
        and their volume.
    """

    cells: Cell
    box_mm: Size
    pieces: tuple[Piece, ...]
    slivers: int = 0
    lost_mm3: float = 0.0


def cell_counts(size_mm: Size, box_mm: Size, tolerances: Tolerances = DEFAULT) -> Cell:
    """Boxes needed along each axis: ``ceil(size / box)``, guarded against float noise.

    Raises
    ------
    BadValue
        A box without size, or so small that the part would be cut into thousands.
    """
    if not all(math.isfinite(b) and b > 0 for b in box_mm):
        raise BadValue("The box has to be larger than 0 mm on every side.", "Type a smaller margin.")
    x, y, z = (max(1, math.ceil(s / b - tolerances.count)) for s, b in zip(size_mm, box_mm, strict=True))
    if x * y * z > MOST_CELLS:
        raise BadValue(
            f"The box is too small: {x} × {y} × {z} boxes would be needed.",
            "Check the unit of the part, or use a larger box.",
        )
    return x, y, z


def split_into_grid(
    solid: Solid, box_mm: Size, *, progress: Progress = silent, tolerances: Tolerances = DEFAULT
) -> Split:
    """Cut a solid into equal boxes no larger than ``box_mm``.

    Parameters
    ----------
    solid : Solid
    box_mm : (x, y, z)
        Largest size of a piece.
    progress : Progress
    tolerances : Tolerances

    Returns
    -------
    Split
        Every separate body of a cell is a piece: what hangs together by nothing prints as two.

    Raises
    ------
    BadValue
        From ``cell_counts``.
    """
    low, high = solid.bounds
    sx, sy, sz = (float(v) for v in high - low)
    counts = cell_counts((sx, sy, sz), box_mm, tolerances)
    box = (sx / counts[0], sy / counts[1], sz / counts[2])
    planes = [
        _snapped(solid, axis, [float(low[axis]) + (k + 1) * box[axis] for k in range(counts[axis] - 1)])
        for axis in range(3)
    ]
    cuts = sum(counts[:1]) + counts[0] * counts[1] + counts[0] * counts[1] * counts[2]
    done = 0
    columns: list[tuple[tuple[int, ...], Any]] = [((), solid.manifold)]
    for axis in range(3):
        normal = [0.0, 0.0, 0.0]
        normal[axis] = 1.0
        finer: list[tuple[tuple[int, ...], Any]] = []
        for where, body in columns:
            rest = body
            for k in range(counts[axis]):
                progress("Cutting pieces", done, cuts)
                done += 1
                if k + 1 < counts[axis]:
                    # Halves are (beyond the plane, before the plane).
                    rest, piece = rest.split_by_plane(normal, planes[axis][k])
                else:
                    piece = rest
                if not piece.is_empty():
                    finer.append(((*where, k), piece))
        columns = finer
    found = []
    slivers, lost = 0, 0.0
    for where, body in sorted(columns, key=lambda item: item[0][::-1]):
        parts = sorted(body.decompose(), key=lambda part: -part.volume())
        for part in parts:
            mesh = _as_file(Solid(part).mesh())
            volume = float(part.volume())
            if not len(mesh.faces) or min(mesh.size_mm) < SLIVER_MM:
                slivers, lost = slivers + 1, lost + abs(volume)
                continue
            x, y, z = (float(v) for v in mesh.size_mm)
            cell = (where[0], where[1], where[2])
            found.append((cell, (x, y, z), volume, mesh))
    progress("Cutting pieces", cuts, cuts)
    pieces = [Piece(n, cell, size, volume, mesh) for n, (cell, size, volume, mesh) in enumerate(found, 1)]
    return Split(counts, box, tuple(pieces), slivers, lost)


def _snapped(solid: Solid, axis: int, planes: list[float]) -> list[float]:
    """Planes moved onto vertices that they would miss by a hair.

    A cut a hair beside a face leaves a film that single precision folds up: such a piece is open in its file.
    """
    along = np.unique(np.asarray(solid.manifold.to_mesh64().vert_properties)[:, axis])
    result = []
    for plane in planes:
        nearest = float(along[np.argmin(np.abs(along - plane))])
        result.append(nearest if abs(nearest - plane) < NEAR_MM else plane)
    return result


def _as_file(mesh: Mesh) -> Mesh:
    """A piece as it is read back from a file, with what folds up there mended."""
    back = as_written(mesh)
    if not len(back.faces) or judge(back, np.zeros((0, 2), np.int64)).closed:
        return back
    mended = as_written(drop_needless(back)[0])
    return take_apart(mended)[0] if len(mended.faces) else mended


def box_for(build_mm: Size, margin_mm: float) -> Size:
    """Largest piece for a build volume: the volume less a margin on every side (on top only, in height).

    Raises
    ------
    BadValue
        The margin leaves nothing.
    """
    x, y, z = (build_mm[0] - 2 * margin_mm, build_mm[1] - 2 * margin_mm, build_mm[2] - margin_mm)
    if min(x, y, z) < 5.0 or margin_mm < 0 or not np.isfinite(margin_mm):
        raise BadValue(
            f"A margin of {margin_mm:g} mm leaves no box to cut to.",
            "Type a margin between 0 and a few centimetres.",
        )
    return x, y, z

"""Cutting a part into a grid of boxes, with plain butt joints."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..errors import BadValue
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..progress import Progress, silent
from ..tags import stored
from ..tolerances import DEFAULT, Tolerances

Size = tuple[float, float, float]
Cell = tuple[int, int, int]
# Finer grids than this are a mistyped box, not a plan.
MOST_CELLS = 4000


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
    """

    cells: Cell
    box_mm: Size
    pieces: tuple[Piece, ...]


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
                    rest, piece = rest.split_by_plane(normal, float(low[axis]) + (k + 1) * box[axis])
                else:
                    piece = rest
                if not piece.is_empty():
                    finer.append(((*where, k), piece))
        columns = finer
    found = []
    for where, body in sorted(columns, key=lambda item: item[0][::-1]):
        parts = sorted(body.decompose(), key=lambda part: -part.volume())
        for part in parts:
            mesh = Solid(part).mesh()
            if len(mesh.faces):
                x, y, z = (float(v) for v in mesh.size_mm)
                cell = (where[0], where[1], where[2])
                found.append((cell, (x, y, z), float(part.volume()), mesh))
    progress("Cutting pieces", cuts, cuts)
    return Split(
        counts,
        box,
        tuple(Piece(n, cell, size, volume, mesh) for n, (cell, size, volume, mesh) in enumerate(found, 1)),
    )


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

"""Cutting a part into a grid of boxes: its planes, and how large a box may be."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..errors import BadValue
from ..tolerances import DEFAULT, Tolerances
from .cuts import Cut, Vector, cut
from .kept import Kept, clear_of, span

Cell = tuple[int, int, int]
# Finer grids than this are a mistyped box, not a plan.
MOST_CELLS = 4000


def cell_counts(size_mm: Vector, box_mm: Vector, tolerances: Tolerances = DEFAULT) -> Cell:
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


def grid_cuts(
    bounds: NDArray[np.float64],
    box_mm: Vector,
    shift: Vector = (0.0, 0.0, 0.0),
    tolerances: Tolerances = DEFAULT,
    kept: Sequence[Kept] = (),
) -> list[Cut]:
    """Planes of equal boxes no larger than ``box_mm``.

    Parameters
    ----------
    bounds : (2, 3) float64
        Lowest and highest corner of the part.
    box_mm : (x, y, z)
        Largest size of a piece.
    shift : (x, y, z)
        How far the planes are moved, as shares from -0.5 to 0.5 of a box: where there is one plane more than
        needed the boxes stay no larger.
    tolerances : Tolerances
    kept : sequence of corners
        Boxes that no plane may go through: planes give way, and boxes are no longer equal.

    Returns
    -------
    list of Cut
        Along x, then y, then z, of each the middle one first; each through everything.

    Raises
    ------
    BadValue
        A box without size, or so small that the part would be cut into thousands; or what is kept whole
        leaves no room.
    """
    low, high = bounds
    size = tuple(float(v) for v in high - low)
    counts = cell_counts((size[0], size[1], size[2]), box_mm, tolerances)
    cuts = []
    for axis in range(3):
        count, moved = counts[axis], float(shift[axis])
        if moved:
            # Full boxes, with what is left shared out at both ends; one more where that is too much.
            side = box_mm[axis]
            first = (size[axis] - (count - 1) * side) / 2 + moved * side
            at = [first + k * side for k in range(-1, count + 1)]
        else:
            at = [size[axis] / count * k for k in range(1, count)]
        normal = [0.0, 0.0, 0.0]
        normal[axis] = 1.0
        inside = [v for v in at if 1e-6 < v < size[axis] - 1e-6]
        if kept:
            spans = np.array([span(normal, one) for one in kept]) - low[axis]
            inside = clear_of(inside, box_mm[axis], 0.0, size[axis], spans)
        each = [cut(normal, float(low[axis]) + v, f"{'xyz'[axis]}{k}") for k, v in enumerate(inside, 1)]
        cuts += [each[k] for k in _halving(len(each))]
    return cuts


def _halving(count: int) -> list[int]:
    """Numbers below a count, the middle one first, then those of the halves: each cut has less to part."""
    spans, order = [(0, count)], list[int]()
    for low, high in spans:
        if low < high:
            middle = (low + high) // 2
            order.append(middle)
            spans += [(low, middle), (middle + 1, high)]
    return order


def box_for(build_mm: Vector, margin_mm: float, stands_out_mm: float = 0.0) -> Vector:
    """Largest piece for a build volume: the volume less a margin on every side (on top only, in height).

    Less what pegs stand out of it, too.

    Raises
    ------
    BadValue
        The margin leaves nothing.
    """
    sides = (build_mm[0] - 2 * margin_mm, build_mm[1] - 2 * margin_mm, build_mm[2] - margin_mm)
    x, y, z = (side - stands_out_mm for side in sides)
    if min(x, y, z) < 5.0 or margin_mm < 0 or not np.isfinite(margin_mm):
        raise BadValue(
            f"A margin of {margin_mm:g} mm"
            + (f" and pegs that stand out {stands_out_mm:g} mm" if stands_out_mm else "")
            + (" leave" if stands_out_mm else " leaves")
            + " no box to cut to.",
            "Type a margin between 0 and a few centimetres.",
        )
    return x, y, z

"""Continuous strands in a layer: turns along its outline, or lines across it, where there is room."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from manifold3d import CrossSection, JoinType, OpType
from numpy.typing import NDArray

from ..layers.stack import packed
from ..supports.outlines import ring_areas
from .beads import Chain, Kind
from .coverage import bead_area
from .scan_lines import lines_across
from .zones import StrandZone

# Width of a strand, and the shortest that is fed before it is cut (common practice), mm.
STRAND_MM, SHORTEST_MM = 0.9, 45.0
# Turns are one strand while the step inwards is no longer than so many widths.
STEP = 3.0
# The strand is laid by the second nozzle.
NOZZLE = 1


class Strands(NamedTuple):
    """Strands of a layer: their paths, what is left to be filled, and what is too small for any, mm2."""

    chains: list[Chain]
    rest: CrossSection
    refused_mm2: float

    @property
    def length_mm(self) -> float:
        """Of all strands."""
        return sum(_length(chain.places) for chain in self.chains)


def strands_of(region: CrossSection, asked: StrandZone) -> Strands:
    """Lay strands in what is inside the walls.

    Parameters
    ----------
    region : CrossSection
        What is neither wall nor top nor bottom.
    asked : StrandZone

    Returns
    -------
    Strands
        Paths go to the second nozzle.
    """
    chains: list[Chain] = []
    rests: list[CrossSection] = []
    refused = 0.0
    for piece in region.decompose():
        lines = _turns(piece, asked.turns) if asked.turns else _across(piece, math.radians(asked.angle_deg))
        long = [line for line in lines if _length(line) >= SHORTEST_MM]
        if not long:
            refused += float(piece.area())
            rests.append(piece)
            continue
        laid = [Chain(line, np.full(len(line), STRAND_MM), Kind.STRAND, 1.0, NOZZLE) for line in long]
        chains += laid
        if len(long) < len(lines):
            # What was to be a strand and is too short is filled as elsewhere.
            rests.append(piece - bead_area(laid))
        elif asked.turns:
            rests.append(piece.offset(-asked.turns * STRAND_MM, JoinType.Miter, 2.0))
    rest = CrossSection.batch_boolean(rests, OpType.Add) if rests else CrossSection()
    return Strands(chains, rest, refused)


def _turns(piece: CrossSection, turns: int) -> list[NDArray[np.float64]]:
    """Rings inwards, those that lie inside each other joined to one strand."""
    open_ends: list[tuple[list[NDArray[np.float64]], bool]] = []
    for turn in range(turns):
        inner = piece.offset(-(turn + 0.5) * STRAND_MM, JoinType.Miter, 2.0).simplify(0.01)
        rings = inner.to_polygons()
        for ring, area in zip(rings, ring_areas(rings), strict=True):
            outer = bool(area > 0)
            fits = [
                (float(((ring - line[-1][-1]) ** 2).sum(axis=1).min()), k)
                for k, (line, is_outer) in enumerate(open_ends)
                if is_outer == outer and len(line) == turn
            ]
            away, best = min(fits, default=(math.inf, -1))
            if away > (STEP * STRAND_MM) ** 2:
                open_ends.append(([np.concatenate([ring, ring[:1]])], outer))
                continue
            line = open_ends[best][0]
            k = int(((ring - line[-1][-1]) ** 2).sum(axis=1).argmin())
            around = np.roll(ring, -k, axis=0)
            line.append(np.concatenate([around, around[:1]]))
    return [np.concatenate(line) for line, _ in open_ends]


def _across(piece: CrossSection, angle: float) -> list[NDArray[np.float64]]:
    """Lines side by side, joined at their ends to strands that are as long as can be."""
    inner = piece.offset(-0.5 * STRAND_MM, JoinType.Miter, 2.0)
    rings = packed(inner.to_polygons())
    if not len(rings[0]):
        return []
    points, start, _ = lines_across(*rings, angle, STRAND_MM, 0.5 * STRAND_MM, STEP * STRAND_MM, 1)
    return [points[a:b] for a, b in zip(start[:-1].tolist(), start[1:].tolist(), strict=True) if b - a > 1]


def _length(line: NDArray[np.float64]) -> float:
    return float(np.hypot(*np.diff(line, axis=0).T).sum())


# Strands next to a face reach so far into a part, as a share of its height, and no further than this, mm.
SHARE, DEEPEST_MM = 0.1, 2.0


def worth_most(low_mm: float, high_mm: float, height_mm: float, layer_mm: float) -> list[StrandZone]:
    """Where strands are worth most (common practice): next to the lowest and the highest whole layers.

    Parameters
    ----------
    low_mm, high_mm : float
        Between the whole layers below and above.
    height_mm : float
        Of the part over the plate.
    layer_mm : float

    Returns
    -------
    list of StrandZone
        The lower and the upper one; none where both would meet.
    """
    deep = max(layer_mm, round(min(DEEPEST_MM, SHARE * height_mm) / layer_mm) * layer_mm)
    if high_mm - low_mm < 2 * deep:
        return []
    return [StrandZone(low_mm, low_mm + deep), StrandZone(high_mm - deep, high_mm)]

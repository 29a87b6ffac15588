"""How thick branches are: from what they carry and how far they run, with one sturdiness for all of it."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..model import Branches, SupportSettings

# A branch at its tip, and the thickest trunk, mm (common practice).
TIP_MM, MOST_MM = 1.2, 8.0
# A branch is nowhere longer, from its tip down, than so many times its thickness there: with half as much
# again it shakes (common practice).
SLENDERNESS = 1000.0 / 24.0
# Sturdier than this trunks have three lines around instead of two, and sturdier still some fill, in percent.
THREE_WALLS, FILLED = 150.0, 200.0
FILL = 0.15
# Upwards a branch may widen by so much for each millimetre, to each side.
THICKER = 0.1


@dataclass(frozen=True, slots=True)
class Thickness:
    """What thickness comes to; see ``SupportSettings`` for the names."""

    branch_mm: float
    trunk_mm: float
    taper_mm: float
    walls: int
    fill: float


def thickness(sturdiness_percent: float) -> Thickness:
    """Work out how thick branches are.

    Parameters
    ----------
    sturdiness_percent : float
        100 is usual; twice that is twice as thick everywhere.

    Returns
    -------
    Thickness

    Notes
    -----
    A branch of thickness d at its tip that has run a length l and carries n tips is as thick as the larger of
    d + l / slenderness and d n^0.45: cross-sections nearly add where branches meet, as in a real tree
    (a rule of L. da Vinci's, from memory); the numbers are common practice.
    """
    share = sturdiness_percent / 100.0
    return Thickness(
        branch_mm=TIP_MM * share,
        trunk_mm=MOST_MM * share,
        taper_mm=10.0 * share / SLENDERNESS,
        walls=3 if sturdiness_percent >= THREE_WALLS else 2,
        fill=FILL if sturdiness_percent >= FILLED else 0.0,
    )


def tapered(nodes: NDArray[np.float64], down: NDArray[np.int64]) -> NDArray[np.float64]:
    """Draw branches in where they would stand thick on thin: a trunk is no stronger than what is below it.

    Parameters
    ----------
    nodes : (n, 4) float64
        x, y, z and radius, mm; lower ones come later.
    down : (n,) int64
        The node each leads down to, -1 at a foot.

    Returns
    -------
    (n, 4) float64
    """
    result = nodes.copy()
    for i in range(len(nodes) - 1, -1, -1):
        j = down[i]
        if j >= 0:
            most = result[j, 3] + THICKER * (nodes[i, 2] - nodes[j, 2])
            result[i, 3] = min(result[i, 3], most)
    return result


def volume_mm3(tree: Branches, settings: SupportSettings) -> float:
    """Material of a tree as printed: frusta, less what is hollow inside its walls. Joints count twice."""
    wall = settings.walls * settings.line_mm
    upper = np.flatnonzero(tree.down >= 0)
    lower = tree.down[upper]
    height = tree.nodes[upper, 2] - tree.nodes[lower, 2]
    total = 0.0
    for less, sign in ((0.0, 1.0), (wall, settings.fill - 1.0)):
        a, b = (np.maximum(tree.nodes[ends, 3] - less, 0.0) for ends in (upper, lower))
        total += sign * math.pi / 3 * float((height * (a * a + a * b + b * b)).sum())
    return total

"""How a tree gets its foot: on the plate, or on the part."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ...layers.stack import LayerStack
from ..model import SLENDER, SupportSettings
from .clearance_field import Room
from .descent import around
from .growth import NEAR_SHARE
from .landings import ABOVE_MM, feet_on_part, foot_nodes

# So far above its end on the part a branch may be in a groove that is narrower than its clearance.
DROP_MM = 10.0
# So far up the stretch above it a foot that widens on its way is looked at.
WIDENED = 0.8
# Nodes of a tree with the numbers of those below them, and the number of the lowest.
Foot = tuple[list[NDArray[np.float64]], list[int], int]


def foot_on_plate(at: Foot, settings: SupportSettings, stack: LayerStack, room: Room) -> None:
    """Give a tree its foot on the plate."""
    places, below, last = at
    x, y, z, r = (float(v) for v in places[last])
    free = room.beside(x, y, 0)
    if z < 1e-6 and last:
        # The last step itself is the foot: it runs on to the plate and widens on its way.
        above = places[below.index(last)]
        free = min(free, _free_on_its_way(stack, places[last], above, settings))
        feet = foot_nodes(x, y, z, r, free, settings, stack.layer_mm, tuple(above[:3]))
        places[last], below[last] = feet[0], -1
        feet = feet[1:]
    else:
        feet = foot_nodes(x, y, z, r, free, settings, stack.layer_mm)
    _add_below(at, feet)


def foot_on_part(
    at: Foot, settings: SupportSettings, part: Tree, stack: LayerStack, *, in_holes: bool
) -> bool:
    """Give a tree its foot on the part; ``False`` where it finds none."""
    places, below, last = at
    r = float(places[last][3])
    if len(places) == 1 and float(around(stack, places[0][None, :3])[0]) < 0.5 * r:
        # No room for a step, and it lies in the part or too near to it to stand straight.
        return False
    # Where several come together it cannot be moved aside for one of them.
    into = below.index(last) if below.count(last) == 1 else last
    landed = feet_on_part(
        part, places[last], places[into], settings, stack.layer_mm,
        from_above_mm=ABOVE_MM if len(places) > 1 else 0.0, in_holes=in_holes,
    )  # fmt: skip
    high = max(p[2] for p in places) - landed[-1][2] if landed is not None else 0.0
    if (
        landed is None
        or high < stack.layer_mm
        or (len(places) == 1 and high > SLENDER * r)
        or _scrapes(landed, stack, settings)
    ):
        # Nothing to stand on, not one layer between the tip and what lies below, no branch at all but a
        # needle, or it runs into what is beside it or too long along a wall.
        return False
    places[last] = landed[0]
    _add_below(at, landed[1:])
    return True


def _add_below(at: Foot, nodes: Sequence[NDArray[np.float64]]) -> None:
    """Put nodes below the lowest of a tree, each below the one before."""
    places, below, last = at
    for node in nodes:
        places.append(node)
        below[last] = len(places) - 1
        below.append(-1)
        last = len(places) - 1


def _free_on_its_way(
    stack: LayerStack, foot: NDArray[np.float64], above: NDArray[np.float64], settings: SupportSettings
) -> float:
    """Free distance that a foot has which widens from the node above it, by all that its way passes."""
    z = np.arange(0.5 * stack.layer_mm, float(above[2]), stack.layer_mm)
    t = z / float(above[2])
    z, t = z[t < WIDENED], t[t < WIDENED]
    if not len(z):
        return math.inf
    at = foot[:2] + t[:, None] * (above[:2] - foot[:2])
    room = around(stack, np.column_stack([at, z]), 10.0) - settings.clearance_mm
    return float(((room - t * float(above[3])) / (1.0 - t)).min()) + settings.clearance_mm


def _scrapes(landed: list[NDArray[np.float64]], stack: LayerStack, settings: SupportSettings) -> bool:
    """Whether the last stretch down to the part runs into what is beside it, or is long and too near it."""
    nodes = np.array(landed[::-1])
    z = np.arange(nodes[0, 2] + 0.5 * stack.layer_mm, nodes[-1, 2], stack.layer_mm)
    if not len(z):
        return False
    x, y, radius = (np.interp(z, nodes[:, 2], nodes[:, k]) for k in (0, 1, 3))
    away = around(stack, np.column_stack([x, y, z]), 5.0)
    need = np.where(z > nodes[0, 2] + DROP_MM, nodes[-1, 3] + settings.clearance_mm, NEAR_SHARE * radius)
    return bool((away < need).any())

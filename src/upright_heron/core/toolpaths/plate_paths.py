"""Paths of all items of a plate, layer by layer."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from .beads import Beads, Chain, packed

# Layers at the same height to this are one.
SAME_MM = 1e-4


class Placed(NamedTuple):
    """Paths of an item where it stands: from the middle of the plate, turned about its own."""

    beads: Beads
    x_mm: float
    y_mm: float
    swing_deg: float


def merged(items: list[Placed]) -> Beads:
    """Put the paths of several items together: one height after the other, items in their order.

    Parameters
    ----------
    items : list of Placed

    Returns
    -------
    Beads
    """
    levels: dict[int, list[tuple[int, int]]] = {}
    for k, item in enumerate(items):
        for layer, top in enumerate(item.beads.tops_mm.tolist()):
            levels.setdefault(round(top / SAME_MM), []).append((k, layer))
    found: list[list[Chain]] = []
    tops = []
    for level in sorted(levels):
        chains: list[Chain] = []
        for k, layer in levels[level]:
            item = items[k]
            swing = math.radians(item.swing_deg)
            turn = np.array([[math.cos(swing), math.sin(swing)], [-math.sin(swing), math.cos(swing)]])
            for chain in item.beads.chains(layer):
                places = chain.places if item.swing_deg == 0 else chain.places @ turn
                chains.append(chain._replace(places=places + (item.x_mm, item.y_mm)))
        k, layer = levels[level][0]
        tops.append(float(items[k].beads.tops_mm[layer]))
        found.append(chains)
    return packed(found, np.array(tops), items[0].beads.layer_mm)

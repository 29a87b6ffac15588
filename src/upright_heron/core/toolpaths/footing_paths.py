"""Paths of a footing: lines round what stands on the plate, or lines across under it."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ..footing.footing import Footing, FootingKind
from .beads import Chain, Kind
from .patterns import chains_of, lines_apart, solid
from .walls import SMOOTH_MM, walls_of

# What paths of each kind are; a raft and what is like it goes without.
_KINDS = {FootingKind.SKIRT: Kind.SKIRT, FootingKind.BRIM: Kind.BRIM, FootingKind.CORNERS: Kind.BRIM}
# Lines round follow each other inwards until nothing is left.
MOST_LINES = 200


def footing_chains(
    base: Footing, of: FootingKind, layer: int, line_mm: float, second: frozenset[Kind]
) -> list[Chain]:
    """Lay one layer of a footing.

    Parameters
    ----------
    base : Footing
    of : FootingKind
    layer : int
        Of the footing, from 0.
    line_mm : float
    second : frozenset of Kind
        What the second nozzle prints.

    Returns
    -------
    list of Chain
    """
    kind = _KINDS.get(of, Kind.RAFT)
    if base.loops:
        return [_closed(ring, line_mm, kind, int(kind in second)) for ring in base.loops]
    region = base.section(layer).simplify(SMOOTH_MM)
    if kind is not Kind.RAFT:
        chains, _ = walls_of(region, MOST_LINES, line_mm)
    else:
        apart, width = base.weave[layer] if layer < len(base.weave) else (line_mm, line_mm)
        chains, inside = walls_of(region, 1, width)
        turn = (layer % 2) * math.pi / 2
        chains += chains_of(
            solid(inside, width, turn) if apart <= width else lines_apart(inside, width, apart, turn), kind
        )
    return [chain._replace(kind=kind, nozzle=int(kind in second)) for chain in chains]


def _closed(ring: NDArray[np.float64], line_mm: float, kind: Kind, nozzle: int) -> Chain:
    places = np.concatenate([ring, ring[:1]])
    return Chain(places, np.full(len(places), line_mm), kind, nozzle=nozzle)

"""How well beads cover the layers of a part: exact unions of their outlines."""

from __future__ import annotations

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType, OpType
from numpy.typing import NDArray

from ..layers.stack import LayerStack
from .beads import Beads, Chain, Kind
from .walls import as_region

# So many layers are looked at, spread over the part.
LAYERS = 12
# Corners of a half circle at the end of a bead.
ROUND = 8
OF_PART = frozenset({Kind.OUTER, Kind.WALL, Kind.THIN, Kind.TOP, Kind.BOTTOM, Kind.BRIDGE})


def covered_share(part: LayerStack, beads: Beads, sparse: LayerStack) -> float:
    """Share of the area of the layers that beads cover; what a pattern fills counts by its outline.

    Parameters
    ----------
    part : LayerStack
    beads : Beads
        Of all that is printed.
    sparse : LayerStack
        What is filled by a pattern, on the layers of the part.

    Returns
    -------
    float
        From 0 to 1, over a dozen layers.
    """
    raised = float(beads.tops_mm[-1]) - (part.base_mm + len(part) * part.layer_mm) if len(part) else 0.0
    there = whole = 0.0
    for layer in np.unique(np.linspace(0, len(part) - 1, LAYERS).astype(int)).tolist():
        region = part.section(layer)
        top = part.base_mm + (layer + 1) * part.layer_mm + raised
        level = int(np.abs(beads.tops_mm - top).argmin())
        chains = [chain for chain in beads.chains(level) if chain.kind in OF_PART]
        laid = bead_area(chains) + as_region(sparse, layer)
        there += float((laid ^ region).area())
        whole += float(region.area())
    return there / whole if whole else 1.0


def bead_area(chains: list[Chain]) -> CrossSection:
    """What paths cover: along each stretch a strip with round ends, as wide as the bead is there."""
    strips = [ring for chain in chains for ring in _strips(chain)]
    if not strips:
        return CrossSection()
    parts = [CrossSection([ring], FillRule.Positive) for ring in strips]
    return CrossSection.batch_boolean(parts, OpType.Add).offset(1e-4, JoinType.Miter, 2.0)


def _strips(chain: Chain) -> list[NDArray[np.float64]]:
    """Outlines of the stretches of a path, counter-clockwise."""
    found = []
    turn = np.linspace(-0.5 * np.pi, 0.5 * np.pi, ROUND + 1)
    for k in range(1, len(chain.places)):
        a, b = chain.places[k - 1], chain.places[k]
        way = b - a
        long = float(np.hypot(*way))
        if long < 1e-9:
            continue
        angle = np.arctan2(way[1], way[0])
        ends = []
        for at, radius, half in ((b, 0.5 * chain.width[k], 0.0), (a, 0.5 * chain.width[k - 1], np.pi)):
            around = angle + half + turn
            ends.append(at + radius * np.column_stack([np.cos(around), np.sin(around)]))
        found.append(np.concatenate(ends))
    return found

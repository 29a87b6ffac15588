"""Soles: where a lifted part begins broadly, and the ring of tips that holds its edge."""

from __future__ import annotations

import math

import numpy as np
from manifold3d import JoinType
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ...layers.layer_components import links, pieces
from ...layers.stack import LayerStack

# What begins broader than this is a sole; smaller ones are points and pegs, which have tips of their own.
SOLE_MM2 = 4.0
# The surface is looked for so far below and above where a layer begins.
LOOK_MM = 1.0


def ring_places(stack: LayerStack, part: Tree, spacing_mm: float, inset_mm: float) -> NDArray[np.float64]:
    """Places all round the edges of the soles of a part.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted.
    part : Tree
        Of the part where it stands.
    spacing_mm : float
        Between neighbours along the edge: no more than this.
    inset_mm : float
        How far inside the edge they stand.

    Returns
    -------
    (n, 3) float64
        On the surface of the part; edges of holes in a sole have a ring too.
    """
    found = pieces(stack)
    held = np.zeros(len(found), np.bool_)
    held[links(found)[:, 0]] = True
    starts = np.flatnonzero(~held & (found.area_mm2 >= SOLE_MM2))
    places: list[NDArray[np.float64]] = []
    for k in starts.tolist():
        layer = int(found.layer[k])
        if stack.base_mm <= 0 and layer == 0:
            continue  # it lies on the plate
        inner = found.section(k).offset(-inset_mm, JoinType.Miter)
        bottom = stack.bottom_mm(layer)
        places += [
            np.column_stack([at, np.full(len(at), bottom)])
            for at in (_along(ring, spacing_mm) for ring in inner.to_polygons())
        ]
    if not places:
        return np.zeros((0, 3))
    every = np.concatenate(places)
    up = np.tile([0.0, 0.0, 1.0], (len(every), 1))
    far, _ = part.first_hits(every - LOOK_MM * up, up)
    every[:, 2] += far - LOOK_MM
    return np.asarray(every[far <= 2 * LOOK_MM], np.float64)


def _along(ring: NDArray[np.float64], spacing_mm: float) -> NDArray[np.float64]:
    """Points (k, 2) along a ring (n, 2), evenly and no further apart; at least three."""
    ends = np.concatenate([ring, ring[:1]])
    way = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(ends, axis=0).T))])
    count = max(3, math.ceil(way[-1] / spacing_mm - 1e-9))
    at = np.arange(count) * way[-1] / count
    return np.column_stack([np.interp(at, way, ends[:, axis]) for axis in (0, 1)])

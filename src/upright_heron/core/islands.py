"""Islands: pieces of a layer with nothing below them in the layer below. They start in mid-air and fail."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .layers import LayerStack
from .regions import Pieces, links, pieces


@dataclass(frozen=True, slots=True)
class Island:
    """One island.

    Attributes
    ----------
    number : int
        From 1, bottom first.
    layer : int
        The layer it starts in, from 0.
    z_mm : float
        Underside of that layer.
    area_mm2 : float
        Area of the piece in that layer.
    x_mm, y_mm : float
        A point inside the piece.
    piece : int
        Number of the piece in the stack's ``Pieces``.
    """

    number: int
    layer: int
    z_mm: float
    area_mm2: float
    x_mm: float
    y_mm: float
    piece: int


def find_islands(stack: LayerStack, *, on_plate: bool = True) -> tuple[list[Island], Pieces]:
    """Find the pieces that start with nothing below them.

    Parameters
    ----------
    stack : LayerStack
    on_plate : bool
        The first layer lies on the plate; when the part is lifted it does not, and its pieces are
        islands too.

    Returns
    -------
    list of Island
        From the bottom up; in one layer by x, then y.
    Pieces
        The pieces they are numbered in.

    Notes
    -----
    Definition: a connected component of layer i that shares no area with layer i - 1.
    """
    all_pieces = pieces(stack)
    held = np.zeros(len(all_pieces), bool)
    held[links(all_pieces)[:, 0]] = True
    if on_plate:
        held |= all_pieces.layer == _first_filled(all_pieces)
    starts = np.flatnonzero(~held)
    inside = all_pieces.inside_mm[starts]
    order = np.lexsort((inside[:, 1], inside[:, 0], all_pieces.layer[starts]))
    found = []
    for number, index in enumerate(starts[order], 1):
        layer = int(all_pieces.layer[index])
        x, y = (float(v) for v in all_pieces.inside_mm[index])
        found.append(
            Island(number, layer, stack.bottom_mm(layer), float(all_pieces.area_mm2[index]), x, y, int(index))
        )
    return found, all_pieces


def _first_filled(all_pieces: Pieces) -> int:
    # A pointed foot can miss the middle of the first layer; the layer where it appears then rests on it.
    return int(all_pieces.layer[0]) if len(all_pieces) and all_pieces.layer[0] <= 1 else 0

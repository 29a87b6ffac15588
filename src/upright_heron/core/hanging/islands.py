"""Islands: pieces of a layer with nothing below them in the layer below. They start in mid-air and fail."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..layers.layer_components import Pieces, links, pieces
from ..layers.stack import LayerStack
from ..tags import stored
from .lowest_points import Low

# How far up an island is followed to tell how fast it grows.
GROWTH_MM = 1.0


@stored("island")
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
    point : bool
        It starts smaller than the nozzle (or three pixels) and grows: its very tip must not be held.
    grown_mm2 : float
        Its area one millimetre higher, or where it joins if that is lower.
    joins_z_mm : float or None
        Underside of the layer in which it joins the rest; ``None`` where it never does.
    joins : int
        What it joins there: the number of an island that began lower, or 0 for what stands on the plate.
    hanging_mm3 : float
        Volume that hangs on it where it joins, with what joined it below.
    """

    number: int
    layer: int
    z_mm: float
    area_mm2: float
    x_mm: float
    y_mm: float
    piece: int
    point: bool = False
    grown_mm2: float = 0.0
    joins_z_mm: float | None = None
    joins: int = 0
    hanging_mm3: float = 0.0


def find_islands(stack: LayerStack, *, on_plate: bool = True) -> tuple[list[Island], Pieces]:
    """Find the pieces that start with nothing below them, and follow them up to where they join the rest.

    Parameters
    ----------
    stack : LayerStack
    on_plate : bool
        The first layer lies on the plate; when the part is lifted it does not, and its pieces are
        islands too.

    Returns
    -------
    list of Island
        From the bottom up; in one layer by x, then y. Points are told by ``with_points``.
    Pieces
        The pieces they are numbered in.

    Notes
    -----
    Definition: a connected component of layer i that shares no area with layer i - 1. Where two islands come
    together before they reach what stands, the one that began later joins the earlier one.
    """
    all_pieces = pieces(stack)
    pairs = links(all_pieces)
    held = np.zeros(len(all_pieces), bool)
    held[pairs[:, 0]] = True
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
    return (_followed(found, all_pieces, pairs) if found else found), all_pieces


def _first_filled(all_pieces: Pieces) -> int:
    # A pointed foot can miss the middle of the first layer; the layer where it appears then rests on it.
    return int(all_pieces.layer[0]) if len(all_pieces) and all_pieces.layer[0] <= 1 else 0


def _followed(islands: list[Island], all_pieces: Pieces, pairs: NDArray[np.int64]) -> list[Island]:
    """Say of each island how it grows, where it joins and what hangs on it."""
    stack = all_pieces.stack
    lower: list[list[int]] = [[] for _ in range(len(all_pieces))]
    upper: list[list[int]] = [[] for _ in range(len(all_pieces))]
    for above, below in pairs.tolist():
        lower[above].append(below)
        upper[below].append(above)
    volume = (all_pieces.area_mm2 * stack.layer_mm).tolist()
    number_of = {island.piece: island.number for island in islands}
    # Of each group of joined pieces: the number of its first island, 0 where it stands; and its volume.
    group = list(range(len(all_pieces)))
    first = [number_of.get(piece, 0) for piece in range(len(all_pieces))]
    joined: dict[int, tuple[int, int, float]] = {}

    def root(i: int) -> int:
        while group[i] != i:
            group[i] = group[group[i]]
            i = group[i]
        return i

    for piece, below in enumerate(lower):
        groups = sorted({root(b) for b in below}, key=lambda g: first[g])
        if not groups:
            continue
        eldest = groups[0]
        for younger in groups[1:]:
            if first[younger]:
                layer = int(all_pieces.layer[piece])
                joined[first[younger]] = (layer, first[eldest], volume[younger])
            group[younger] = eldest
            volume[eldest] += volume[younger]
        group[piece] = eldest
        volume[eldest] += volume[piece]
    steps = max(1, round(GROWTH_MM / stack.layer_mm))
    result = []
    for island in islands:
        layer, into, hanging = joined.get(island.number, (len(stack), -1, volume[root(island.piece)]))
        top = min(island.layer + steps, layer - 1)
        here = {island.piece}
        while (above := {u for p in here for u in upper[p]}) and all_pieces.layer[min(above)] <= top:
            here = above
        result.append(
            replace(
                island,
                grown_mm2=float(sum(all_pieces.area_mm2[p] for p in here)),
                joins_z_mm=None if into < 0 else stack.bottom_mm(layer),
                joins=max(into, 0),
                hanging_mm3=hanging,
            )
        )
    return result


def with_points(
    islands: Sequence[Island], lows: Sequence[Low], stack: LayerStack, spot_mm: float
) -> tuple[list[Island], list[Low]]:
    """Tell points from flat starts, and the low points that begin an island from those that do not.

    Parameters
    ----------
    islands : sequence of Island
    lows : sequence of Low
        Of the same part where it stands.
    stack : LayerStack
    spot_mm : float
        Narrowest thing the machine makes: its nozzle, or three pixels.

    Returns
    -------
    list of Island
    list of Low
        Those that begin between two layers and no island; numbered anew, without those that rest on the
        plate within the first layer.
    """
    by_layer: dict[int, list[int]] = {}
    for k, island in enumerate(islands):
        by_layer.setdefault(island.layer, []).append(k)
    tips: dict[int, Low] = {}
    rest: list[Low] = []
    for low in lows:
        # The first layer whose middle lies above the tip; one more where the tip is only just below it.
        level = int(np.ceil((low.z_mm - stack.base_mm) / stack.layer_mm - 0.5 - 1e-9))
        near = [
            (np.hypot(low.x_mm - islands[k].x_mm, low.y_mm - islands[k].y_mm), k)
            for layer in (level, level + 1)
            for k in by_layer.get(layer, ())
        ]
        # A tip lies under its island or, where it leans, beside it by no more than the width of both.
        fits = [
            (away, k)
            for away, k in near
            if away <= low.wide_mm + spot_mm + stack.layer_mm + np.sqrt(islands[k].area_mm2)
        ]
        if fits:
            _, k = min(fits)
            if k not in tips or low.z_mm < tips[k].z_mm:
                tips[k] = low
        else:
            rest.append(low)
    told = [
        replace(island, point=k in tips and tips[k].wide_mm < spot_mm and island.grown_mm2 > island.area_mm2)
        for k, island in enumerate(islands)
    ]
    return told, [replace(low, number=n) for n, low in enumerate(rest, 1)]

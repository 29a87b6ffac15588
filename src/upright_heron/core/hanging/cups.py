"""Suction cups: hollows that are closed all round while the film closes them above.

A resin part hangs from its plate and every new layer is made against the film. A hollow that reaches the
layer being made, with walls all round and plate or part at its other end, is a cup there: the film pulls on
it at each lift.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..layers.layer_components import Pieces, links, pieces
from ..layers.stack import LayerStack
from ..tags import stored

# Cups of less than this are no more than the roughness of a texture.
SMALLEST_MM3 = 1.0


@stored("cup")
@dataclass(frozen=True, slots=True)
class Cup:
    """One hollow that closes against the film.

    Attributes
    ----------
    volume_mm3 : float
        Enclosed when it was last closed.
    film_mm2 : float
        Largest area of film over it.
    z_mm, x_mm, y_mm : float
        A point inside it, in the last layer in which it was closed.
    layers : int
        For so many layers it is closed.
    trapped : bool
        It closes for good: resin stays inside.
    """

    volume_mm3: float
    film_mm2: float
    z_mm: float
    x_mm: float
    y_mm: float
    layers: int
    trapped: bool


def find_cups(stack: LayerStack, *, on_plate: bool = True) -> list[Cup]:
    """Find the suction cups of a part in its stance.

    Parameters
    ----------
    stack : LayerStack
    on_plate : bool
        The part stands on the plate, which then closes what is open below.

    Returns
    -------
    list of Cup
        The largest first.

    Notes
    -----
    The empty regions of each layer are joined with those below that they share area with, from the plate
    upwards; a region that is not joined to the outside by then is closed when its layer is made.
    """
    voids = _voids(stack)
    if voids is None:
        return []
    empty, first = voids
    lower: dict[int, list[int]] = {}
    for upper, below in links(empty).tolist():
        lower.setdefault(upper, []).append(below)
    parent = list(range(len(empty) + 1))
    outside = len(empty)
    volume = [*(empty.area_mm2 * stack.layer_mm).tolist(), 0.0]

    def root(i: int) -> int:
        while parent[i] != i:
            parent[i] = parent[parent[i]]
            i = parent[i]
        return i

    def join(i: int, j: int) -> None:
        i, j = root(i), root(j)
        if i != j:
            parent[j] = i
            volume[i] += volume[j]

    found: list[Cup] = []
    open_cups: dict[int, Cup] = {}
    for layer in range(len(empty.start) - 1):
        members = range(int(empty.start[layer]), int(empty.start[layer + 1]))
        for piece in members:
            if _is_outside(empty, piece) or (layer + first == 0 and not on_plate):
                join(outside, piece)
            for below in lower.get(piece, ()):
                join(piece, below)
        closed: dict[int, list[int]] = {}
        for piece in members:
            if root(piece) != root(outside):
                closed.setdefault(root(piece), []).append(piece)
        went_on = {root(p) for p in members}
        now: dict[int, Cup] = {}
        found += [
            replace(cup, trapped=root(cup_root) not in went_on)
            for cup_root, cup in open_cups.items()
            if root(cup_root) not in closed
        ]
        before = {root(cup_root): cup for cup_root, cup in open_cups.items()}
        for cup_root, parts in closed.items():
            film = float(empty.area_mm2[parts].sum())
            last = before.get(cup_root)
            x, y = empty.inside_mm[parts[0]].tolist()
            now[cup_root] = Cup(
                volume[cup_root], max(film, last.film_mm2 if last else 0.0),
                stack.bottom_mm(first + layer) + stack.layer_mm, x, y,
                (last.layers if last else 0) + 1, False,
            )  # fmt: skip
        open_cups = now
    found += open_cups.values()
    return sorted((c for c in found if c.volume_mm3 >= SMALLEST_MM3), key=lambda c: -c.volume_mm3)


def _voids(stack: LayerStack) -> tuple[Pieces, int] | None:
    """Empty pieces of each layer, and the layer they begin with; ``None`` without holes."""
    turn = _ring_areas(stack)
    ring_layer = np.repeat(np.arange(len(stack)), np.diff(stack.layer_start))
    with_holes = ring_layer[turn < 0]
    if not len(with_holes):
        return None
    # Below the first hole and above the last nothing can be closed: a layer more shows how it begins and
    # ends.
    first, end = max(int(with_holes.min()) - 1, 0), min(int(with_holes.max()) + 2, len(stack))
    low, high = stack.points.min(axis=0) - 10.0, stack.points.max(axis=0) + 10.0
    frame = np.array([low, [high[0], low[1]], high, [low[0], high[1]]])
    points, ring_start, layer_start = [], [0], [0]
    for layer in range(first, end):
        points.append(frame)
        ring_start.append(ring_start[-1] + 4)
        for r in range(stack.layer_start[layer], stack.layer_start[layer + 1]):
            ring = stack.points[stack.ring_start[r] : stack.ring_start[r + 1]][::-1]
            points.append(ring)
            ring_start.append(ring_start[-1] + len(ring))
        layer_start.append(len(ring_start) - 1)
    area = np.prod(high - low) - stack.area_mm2[first:end]
    around = replace(
        stack,
        points=np.concatenate(points),
        ring_start=np.array(ring_start),
        layer_start=np.array(layer_start),
        area_mm2=area,
    )
    return pieces(around), first


def _ring_areas(stack: LayerStack) -> NDArray[np.float64]:
    x, y = stack.points[:, 0], stack.points[:, 1]
    following = np.arange(1, len(x) + 1)
    following[stack.ring_start[1:] - 1] = stack.ring_start[:-1]
    cross = x * y[following] - x[following] * y
    return 0.5 * np.add.reduceat(cross, stack.ring_start[:-1]) if len(x) else np.zeros(0)


def _is_outside(empty: Pieces, piece: int) -> bool:
    # The frame is the first ring of its layer.
    return bool(empty.ring_piece[empty.stack.layer_start[empty.layer[piece]]] == piece)

"""Height profile of a plate: how much of it each layer prints."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..footing.footing import Footing
from ..layers.stack import LayerStack


@dataclass(frozen=True, eq=False)
class Heights:
    """What each layer prints.

    Attributes
    ----------
    area_mm2 : ndarray of shape (k,)
        float64, from the plate up.
    """

    area_mm2: NDArray[np.float64]


def heights_of(part: LayerStack, supports: LayerStack | None, footing: Footing | None) -> Heights:
    """What each layer prints of an item, from the plate up.

    Parameters
    ----------
    part : LayerStack
    supports : LayerStack, optional
        Counted from the plate.
    footing : Footing, optional
        A raft raises the other two.

    Returns
    -------
    Heights
        What of them lies over another counts twice, as it does in the profile of an item.
    """
    layer = part.layer_mm
    raised = round(footing.raise_mm / layer) if footing is not None else 0
    every = [
        (raised + round(stack.base_mm / layer), stack.area_mm2)
        for stack in (part, supports)
        if stack is not None
    ]
    if footing is not None:
        every.append((0, np.array([footing.section(k).area() for k in range(footing.layers)])))
    return Heights(_summed(every))


def heights_together(each: Iterable[tuple[int, Heights]]) -> Heights:
    """Those of all copies of several items, up to the highest."""
    return Heights(_summed([(0, copies * one.area_mm2) for copies, one in each]))


def _summed(parts: Sequence[tuple[int, NDArray[np.float64]]]) -> NDArray[np.float64]:
    """Sum of areas (k,), mm2, each from a layer on."""
    total = np.zeros(max((first + len(one) for first, one in parts), default=0))
    for first, one in parts:
        total[first : first + len(one)] += one
    return total

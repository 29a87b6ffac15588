"""Layers that stand out in the area of a part: sudden steps, and thin necks that carry much above them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..layers.stack import LayerStack
from ..tags import stored

# A layer of so many times the area of its neighbour is a step (common practice: from there on walls shrink
# unlike each other, and a film pulls unlike).
FACTOR = 2.0
# Smaller steps than these do not show: a share of the largest layer, and mm2.
LEAST_SHARE = 0.1
LEAST_MM2 = 20.0
# A neck carries layers of so many times its own area on average, over so much height and share of the part.
NECK_FACTOR = 4.0
NECK_ABOVE_MM = 5.0
# Below it something larger stands: where a part only begins small, its contact tells that already.
NECK_BELOW = 1.5
NECK_SHARE = 0.05


@stored("step")
@dataclass(frozen=True, slots=True)
class Step:
    """A layer whose area differs much from that of the layer below it.

    Attributes
    ----------
    layer : int
        The upper of the two, from 0.
    z_mm : float
        Where they meet.
    below_mm2, above_mm2 : float
    """

    layer: int
    z_mm: float
    below_mm2: float
    above_mm2: float

    @property
    def grows(self) -> bool:
        """Whether the upper layer is the larger."""
        return self.above_mm2 > self.below_mm2

    @property
    def ratio(self) -> float:
        """How many times larger the larger one is."""
        small, large = sorted((self.below_mm2, self.above_mm2))
        return large / small


@stored("neck")
@dataclass(frozen=True, slots=True)
class Neck:
    """A thin place of the whole part, with much above it.

    Attributes
    ----------
    layer : int
    z_mm : float
        Middle of that layer.
    area_mm2 : float
        Of the part there.
    above_mm3 : float
        Volume above it.
    ratio : float
        Mean area of the layers above over the area of the neck.
    """

    layer: int
    z_mm: float
    area_mm2: float
    above_mm3: float
    ratio: float


def layer_steps(stack: LayerStack, factor: float = FACTOR) -> list[Step]:
    """Find layers whose area grows or drops by more than a factor from one to the next.

    Parameters
    ----------
    stack : LayerStack
    factor : float
        More than 1.

    Returns
    -------
    list of Step
        From the bottom up. The lowest and the highest layer begin and end the part, and are no steps.
    """
    area = stack.area_mm2
    if len(area) < 3:
        return []
    below, above = area[:-1], area[1:]
    small, large = np.minimum(below, above), np.maximum(below, above)
    least = max(LEAST_MM2, LEAST_SHARE * float(area.max()))
    stands_out = (small > 0) & (large > factor * small) & (large - small >= least)
    return [
        Step(int(i) + 1, stack.bottom_mm(int(i) + 1), float(area[i]), float(area[i + 1]))
        for i in np.flatnonzero(stands_out)
    ]


def thin_necks(stack: LayerStack, factor: float = NECK_FACTOR) -> list[Neck]:
    """Find thin layers that carry much: where a part breaks as it is printed or freed.

    Parameters
    ----------
    stack : LayerStack
    factor : float
        Mean area of the layers above over the area of a neck, from which on it is one.

    Returns
    -------
    list of Neck
        From the bottom up, each the thinnest layer of its stretch.
    """
    area, h = stack.area_mm2, stack.layer_mm
    count = len(area)
    if not count:
        return []
    above = np.concatenate([np.cumsum(area[::-1])[::-1][1:], [0.0]])
    left = np.arange(count - 1, -1, -1)
    ratio = np.where((area > 0) & (left > 0), above / np.maximum(left * area, 1e-12), 0.0)
    below = np.maximum.accumulate(np.concatenate([[0.0], area[:-1]]))
    much = (left * h >= NECK_ABOVE_MM) & (above >= NECK_SHARE * float(area.sum()))
    thin = (below >= NECK_BELOW * area) & (ratio >= factor) & much
    found = []
    edges = np.flatnonzero(np.diff(np.concatenate([[0], thin.astype(np.int8), [0]])))
    for low, high in edges.reshape(-1, 2):
        at = int(low) + int(np.argmax(ratio[low:high]))
        found.append(Neck(at, float(stack.z_mm[at]), float(area[at]), float(above[at]) * h, float(ratio[at])))
    return found

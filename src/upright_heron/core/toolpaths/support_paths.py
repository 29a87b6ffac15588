"""Paths of supports: what is solid in them is filled whole, the rest as it was made."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from cachetools import LRUCache
from manifold3d import CrossSection, FillRule, OpType
from numpy.typing import NDArray

from ..progress import Progress, silent, tracked
from ..supports.model import Column
from ..supports.support_set import SupportSet
from .beads import Beads, Chain, Kind, packed
from .patterns import chains_of, solid
from .walls import SMOOTH_MM, as_region, fingerprint, walls_of

# Layers whose paths are remembered.
MOST_KNOWN = 32


class Grouped:
    """Regions of layers that are printed in every so many layers, as much higher.

    What all layers of a group have in common is printed in its last one; the rest of each in its own.
    """

    def __init__(self, region: Callable[[int], CrossSection], count: int, every: int, first: int = 0) -> None:
        self.region, self.count, self.every, self.first = region, count, every, first
        self._common: tuple[int, CrossSection] = (-1, CrossSection())

    def of(self, layer: int) -> list[tuple[CrossSection, int]]:
        """Regions of a layer, with how many layers high each is printed."""
        own = self.region(layer)
        if self.every < 2 or layer < self.first:
            return [(own, 1)]
        begin = layer - (layer - self.first) % self.every
        if begin + self.every > self.count:
            return [(own, 1)]
        if self._common[0] != begin:
            members = [self.region(k) for k in range(begin, begin + self.every)]
            self._common = begin, CrossSection.batch_boolean(members, OpType.Intersect)
        common = self._common[1]
        found = [(own if common.is_empty() else own - common, 1)]
        return [*found, (common, self.every)] if layer == begin + self.every - 1 else found


def lay_supports(made: SupportSet, asked: PropSetting, *, progress: Progress = silent) -> Beads:
    """Lay the paths of a set of supports: they are a result of their own, for parts change more often.

    Parameters
    ----------
    made : SupportSet
    asked : PropSetting
    progress : Progress

    Returns
    -------
    Beads
        By layers of the set; nothing is in their order yet.
    """
    paths = _SupportPaths(made, asked)
    layers = range(len(made.layers))
    found = [paths.chains(layer) for layer in tracked(layers, "Laying paths of supports", progress)]
    h = made.layers.layer_mm
    return packed(found, h * np.arange(1, len(found) + 1, dtype=np.float64), h)


@dataclass(frozen=True, slots=True)
class PropSetting:
    """How supports are laid: width of a line, mm, walls, layers at once, what the second nozzle prints."""

    line_mm: float
    walls: int = 1
    every: int = 1
    second: frozenset[Kind] = frozenset()


class _SupportPaths:
    """Paths of a set of supports, layer by layer from below."""

    def __init__(self, made: SupportSet, asked: PropSetting) -> None:
        self.made, self.asked = made, asked
        self._solid: dict[int, list[NDArray[np.float64]]] = {}
        # Upright walls give the same paths again.
        self._known: LRUCache[tuple[bytes, Kind, int, float], list[Chain]] = LRUCache(MOST_KNOWN)
        h = made.layers.layer_mm
        for one in made.supports:
            for slab in one.slabs if isinstance(one, Column) else ():
                if slab.solid:
                    for level in range(round(slab.low_mm / h), round(slab.high_mm / h)):
                        self._solid.setdefault(level, []).extend(slab.rings)
        # The first layer holds by itself.
        self._grouped = Grouped(self._loose, len(made.layers), asked.every, 1)

    def chains(self, layer: int) -> list[Chain]:
        """Paths of a layer."""
        chains: list[Chain] = []
        for region, high in self._grouped.of(layer):
            chains += self._laid(region, Kind.SUPPORT, layer, high)
        flat = self._flat(layer)
        if not flat.is_empty():
            chains += self._laid(as_region(self.made.layers, layer) ^ flat, Kind.INTERFACE, layer)
        return chains

    def _flat(self, layer: int) -> CrossSection:
        return CrossSection(self._solid[layer], FillRule.NonZero) if layer in self._solid else CrossSection()

    def _loose(self, layer: int) -> CrossSection:
        whole, flat = as_region(self.made.layers, layer), self._flat(layer)
        return whole if flat.is_empty() else whole - flat

    def _laid(self, region: CrossSection, kind: Kind, layer: int, high: int = 1) -> list[Chain]:
        if region.is_empty():
            return []
        w = self.asked.line_mm
        # Lines that are printed in every so many layers go the same way each time.
        turn = (layer // high % 2) * math.pi / 2
        name = fingerprint(region.to_polygons()), kind, high, turn
        if name in self._known:
            return self._known[name]
        chains, inside = walls_of(region.simplify(SMOOTH_MM), self.asked.walls, w)
        chains += chains_of(solid(inside, w, turn), kind)
        nozzle = int(kind in self.asked.second)
        made = [chain._replace(kind=kind, high=float(high), nozzle=nozzle) for chain in chains]
        self._known[name] = made
        return made

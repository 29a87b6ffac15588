"""All paths of an item, of footing, supports and part, in the order in which they are printed."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ..footing.footing import Footing, FootingKind
from ..layers.stack import LayerStack
from ..layers.stack import packed as packed_rings
from ..progress import Progress, silent, tracked
from ..supports.model import Column
from ..supports.outlines import ring_areas
from ..supports.support_set import SupportSet
from .beads import Beads, Chain, Kind, packed
from .ordering import Order, ordered
from .patterns import Filled, Pattern, filled, solid
from .surfaces import Surfaces, inside_some
from .walls import SMOOTH_MM, Walls, as_region, walls_of

# What comes first of what belongs together; outer walls come before or after the inner ones.
_RANK = {
    Kind.WALL: 1,
    Kind.THIN: 2,
    Kind.OUTER: 3,
    Kind.BRIDGE: 4,
    Kind.BOTTOM: 4,
    Kind.TOP: 5,
    Kind.INFILL: 6,
}
# Denser than this is filled whole.
WHOLE = 0.99
_OF_FOOTING = {FootingKind.SKIRT: Kind.SKIRT, FootingKind.BRIM: Kind.BRIM}


@dataclass(frozen=True, slots=True)
class Laying:
    """How paths are laid.

    Attributes
    ----------
    line_mm : float
    pattern : Pattern
    density : float
        Share of the inside that is filled, from 0 to 1.
    order : Order
    walls_of_supports : int
    """

    line_mm: float
    pattern: Pattern = Pattern.GRID
    density: float = 0.15
    order: Order = field(default_factory=Order)
    walls_of_supports: int = 1


@dataclass(frozen=True, slots=True)
class _Level:
    """What is printed at one height: layers of footing, supports and part, by their numbers."""

    top_mm: float
    footing: int = -1
    above: int = -1


def lay(
    part: LayerStack,
    walls: Walls,
    surfaces: Surfaces,
    asked: Laying,
    supports: SupportSet | None = None,
    footing: tuple[Footing, FootingKind] | None = None,
    *,
    progress: Progress = silent,
) -> Beads:
    """Lay all paths of an item.

    Parameters
    ----------
    part : LayerStack
        Lifted or not.
    walls : Walls
        Of the part.
    surfaces : Surfaces
    asked : Laying
    supports : SupportSet, optional
    footing : (Footing, FootingKind), optional
    progress : Progress

    Returns
    -------
    Beads
        Travels lie between them.
    """
    levels = list(_levels(part, supports, footing))
    lift = round(part.base_mm / part.layer_mm)
    held = _Held(supports, asked)
    at = np.zeros(2)
    found: list[list[Chain]] = []
    for number, level in enumerate(tracked(levels, "Laying paths", progress)):
        chains: list[Chain] = []
        if footing is not None and level.footing >= 0:
            base, at = ordered(*_footing(*footing, level.footing, asked), at, asked.order, number)
            chains += base
        if level.above >= 0:
            props = held.chains(level.above)
            some, at = ordered(props, [(0, 0)] * len(props), at, asked.order, number)
            chains += some
            own = level.above - lift
            if 0 <= own < len(part):
                some, at = ordered(*_part(part, walls, surfaces, own, asked), at, asked.order, number)
                chains += some
        found.append(chains)
    return packed(found, np.array([level.top_mm for level in levels]), part.layer_mm)


def _levels(
    part: LayerStack, supports: SupportSet | None, footing: tuple[Footing, FootingKind] | None
) -> Iterator[_Level]:
    h = part.layer_mm
    base = footing[0] if footing is not None else None
    lift = round(part.base_mm / h)
    above = max(len(part) + lift, len(supports.layers) if supports is not None else 0)
    raised = base.raise_mm if base is not None else 0.0
    under = base.layers if base is not None else 0
    # What is raised stands on the footing; else they share the lowest layers.
    beside = under if raised == 0 else 0
    for k in range(0 if beside else under):
        yield _Level((k + 1) * h, footing=k)
    for k in range(above):
        yield _Level(raised + (k + 1) * h, k if k < beside else -1, k)


def _part(
    part: LayerStack, walls: Walls, surfaces: Surfaces, layer: int, asked: Laying
) -> tuple[list[Chain], list[tuple[int, int]]]:
    """Paths of a layer of the part, with what each belongs to and what comes first."""
    chains = walls.beads.chains(layer)
    w = asked.line_mm
    angle = math.pi / 4 + (layer % 2) * math.pi / 2
    z = part.base_mm + (layer + 0.5) * part.layer_mm
    for stack, kind in (
        (surfaces.bridge, Kind.BRIDGE),
        (surfaces.bottom, Kind.BOTTOM),
        (surfaces.top, Kind.TOP),
    ):
        if stack.area_mm2[layer] > 0:
            turn = float(surfaces.angles[layer]) if kind is Kind.BRIDGE else angle
            chains += _chains(solid(as_region(stack, layer), w, turn), kind)
    if asked.density > 0 and surfaces.sparse.area_mm2[layer] > 0:
        rest = as_region(surfaces.sparse, layer)
        whole = asked.density > WHOLE
        found = solid(rest, w, angle) if whole else filled(rest, asked.pattern, asked.density, w, z, layer)
        chains += _chains(found, Kind.INFILL)
    rings = part.rings(layer)
    outers = [ring for ring, area in zip(rings, ring_areas(rings), strict=True) if area > 0]
    group = _islands(chains, outers)
    first = 0 if asked.order.outer_first else _RANK[Kind.OUTER]
    return chains, [
        (g, first if c.kind is Kind.OUTER else _RANK[c.kind]) for g, c in zip(group, chains, strict=True)
    ]


def _chains(lines: Filled, kind: Kind) -> list[Chain]:
    return [
        Chain(lines.points[a:b], np.full(b - a, lines.width_mm), kind)
        for a, b in zip(lines.start[:-1].tolist(), lines.start[1:].tolist(), strict=True)
        if b - a > 1
    ]


def _islands(chains: list[Chain], outers: list[NDArray[np.float64]]) -> list[int]:
    """Which outline each path lies in: the smallest that it does."""
    if len(outers) < 2 or not chains:
        return [0] * len(chains)
    by_size = np.argsort(-ring_areas(outers)).tolist()
    places = np.array([c.places[len(c.places) // 2] for c in chains])
    group = np.zeros(len(chains), np.int64)
    for k in by_size:
        ring = outers[k]
        low, high = ring.min(axis=0), ring.max(axis=0)
        near = np.flatnonzero(((places >= low) & (places <= high)).all(axis=1))
        if len(near):
            group[near[inside_some(places[near], packed_rings([ring]))]] = k
    found: list[int] = group.tolist()
    return found


class _Held:
    """Paths of supports: what is solid in the set is filled whole, the rest as well, as it is printed."""

    def __init__(self, made: SupportSet | None, asked: Laying) -> None:
        self.made, self.asked = made, asked
        self._solid: dict[int, list[NDArray[np.float64]]] = {}
        self._last: tuple[int, list[Chain]] = (-1, [])
        if made is not None:
            h = made.layers.layer_mm
            for one in made.supports:
                for slab in one.slabs if isinstance(one, Column) else ():
                    if slab.solid:
                        for level in range(round(slab.low_mm / h), round(slab.high_mm / h)):
                            self._solid.setdefault(level, []).extend(slab.rings)

    def chains(self, layer: int) -> list[Chain]:
        """Paths of a layer."""
        if self.made is None or layer >= len(self.made.layers):
            return []
        # Upright walls give the same paths again.
        plain = layer not in self._solid and layer - 1 not in self._solid
        again = plain and self._last[0] == layer - 1 and self.made.layers.same_as_below(layer)
        self._last = (layer, self._last[1] if again else self._anew(layer))
        return self._last[1]

    def _anew(self, layer: int) -> list[Chain]:
        assert self.made is not None
        whole = as_region(self.made.layers, layer)
        flat = CrossSection(self._solid[layer], FillRule.NonZero) if layer in self._solid else CrossSection()
        chains = self._laid(whole - flat if not flat.is_empty() else whole, Kind.SUPPORT, layer)
        return chains + self._laid(whole ^ flat, Kind.INTERFACE, layer)

    def _laid(self, region: CrossSection, kind: Kind, layer: int) -> list[Chain]:
        if region.is_empty():
            return []
        w = self.asked.line_mm
        chains, inside = walls_of(region.simplify(SMOOTH_MM), self.asked.walls_of_supports, w)
        chains = [chain._replace(kind=kind) for chain in chains]
        return chains + _chains(solid(inside, w, (layer % 2) * math.pi / 2), kind)


def _footing(
    base: Footing, of: FootingKind, layer: int, asked: Laying
) -> tuple[list[Chain], list[tuple[int, int]]]:
    """Paths of a layer of the footing: lines round, or a raft of lines across."""
    kind = _OF_FOOTING.get(of, Kind.RAFT)
    region = base.section(layer).simplify(SMOOTH_MM)
    chains, inside = walls_of(region, 1 if kind is Kind.RAFT else 50, asked.line_mm)
    chains = [chain._replace(kind=kind) for chain in chains]
    if kind is Kind.RAFT:
        chains += _chains(solid(inside, asked.line_mm, (layer % 2) * math.pi / 2), kind)
    return chains, [(0, 0)] * len(chains)

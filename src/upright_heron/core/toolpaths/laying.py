"""All paths of an item, of footing, supports and part, in the order in which they are printed."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import partial

import numpy as np
from cachetools import LRUCache
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..footing.footing import Footing, FootingKind
from ..layers.stack import LayerStack, Rings
from ..layers.stack import packed as packed_rings
from ..progress import Progress, silent, tracked
from ..supports.outlines import ring_areas
from .beads import Beads, Chain, Kind, packed
from .footing_paths import footing_chains
from .ordering import Order, Seam, ordered
from .patterns import Pattern, chains_of, filled, lines_apart, solid
from .purge import by_nozzle, with_stand
from .steep import slowed
from .strands import strands_of
from .support_paths import Grouped
from .surfaces import Surfaces, inside_some
from .travels import inside_ways
from .walls import Walls, as_region
from .zones import Pause, StrandZone, Zone, at_height, events

# What comes first of what belongs together; outer walls come before or after the inner ones.
_RANK = {
    Kind.WALL: 1,
    Kind.THIN: 2,
    Kind.OUTER: 3,
    Kind.STRAND: 4,
    Kind.BRIDGE: 4,
    Kind.BOTTOM: 4,
    Kind.TOP: 5,
    Kind.INFILL: 6,
    Kind.SMOOTHING: 7,
}
# Denser than this is filled whole.
WHOLE = 0.99
# Patterns that are another in each layer.
WAVES = frozenset({Pattern.GYROID, Pattern.CUBIC})
# Lines of a smoothing pass are so far apart, and push out so much of what a bead has (common practice).
SMOOTHING_MM, SMOOTHING_FLOW = 0.15, 0.1
# Ways up to this are straight: nothing is drawn back for them, mm.
SHORT_MM = 2.0
# So many of the lowest layers are told of ahead of the rest.
FIRST = 40


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
    infill_every : int
        Infill is printed in every so many layers, as much higher.
    roof_density : float
        Share that is filled right under roofs; as elsewhere where it is less.
    bridge_flow : float
        What bridges push out, as a share of their usual volume.
    smooth : bool
        A hot nozzle goes over tops again.
    slow_steep : bool
        Outer walls slow down where the layer below does not carry them.
    inside : bool
        The nozzle stays inside the outline on its ways where that costs little.
    second : frozenset of Kind
        What of the footing the second nozzle prints.
    zones, strands, pauses : tuple
        Stretches of height with settings of their own, strands, and pauses.
    usual : (nozzle C, fan percent)
        Outside of zones.
    """

    line_mm: float
    pattern: Pattern = Pattern.GRID
    density: float = 0.15
    order: Order = field(default_factory=Order)
    infill_every: int = 1
    roof_density: float = 0.0
    bridge_flow: float = 1.0
    smooth: bool = False
    slow_steep: bool = True
    inside: bool = True
    second: frozenset[Kind] = frozenset()
    zones: tuple[Zone, ...] = ()
    strands: tuple[StrandZone, ...] = ()
    pauses: tuple[Pause, ...] = ()
    usual: tuple[float, float] = (0.0, 100.0)


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
    supports: Beads | None = None,
    footing: tuple[Footing, FootingKind] | None = None,
    *,
    first: Callable[[Beads], None] | None = None,
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
    supports : Beads, optional
        Paths of supports by their layers, as ``lay_supports`` makes them.
    footing : (Footing, FootingKind), optional
    first : callable, optional
        Is handed the paths of the lowest layers as soon as they are laid, where there are far more. Not so
        where a second nozzle prints: what it is purged on is known at the end.
    progress : Progress

    Returns
    -------
    Beads
        Travels lie between them; ways inside the outline among them.
    """
    levels = list(_levels(part, supports, footing))
    h = part.layer_mm
    lift = round(part.base_mm / h)
    others = asked.second, walls.second is not None, supports is not None and supports.nozzle.any()
    tells = FIRST if not any(others) and len(levels) > 2 * FIRST else -1
    own = _PartPaths(part, walls, surfaces, asked)
    at = np.zeros(2)
    found: list[list[Chain]] = []
    for number, level in enumerate(tracked(levels, "Laying paths", progress)):
        chains: list[Chain] = []
        z = (level.above + 0.5) * h
        if footing is not None and level.footing >= 0:
            base = footing_chains(*footing, level.footing, asked.line_mm, asked.second)
            base, at = ordered(base, [(0, 0)] * len(base), at, asked.order, number)
            chains += base
        if level.above >= 0:
            there = supports is not None and level.above < len(supports.tops_mm)
            props = supports.chains(level.above) if supports is not None and there else []
            some, at = ordered(props, [(0, 0)] * len(props), at, asked.order, number)
            chains += some
            if 0 <= level.above - lift < len(part):
                some, at = own.of(level.above - lift, at, number, z)
                chains += some
        found.append(chains)
        if first is not None and len(found) == tells:
            first(_printed(found, levels[:tells], asked, h))
    # A layer that is cut above the very top has nothing in it.
    while found and not found[-1]:
        found.pop()
    return _printed(found, levels[: len(found)], asked, h)


def _printed(found: list[list[Chain]], levels: list[_Level], asked: Laying, layer_mm: float) -> Beads:
    """Paths of levels with what the nozzles change for, and what happens before them."""
    heights = [(level.above + 0.5) * layer_mm if level.above >= 0 else math.nan for level in levels]
    happens = events(asked.zones, asked.pauses, heights, asked.usual)
    tops = np.array([level.top_mm for level in levels])
    return packed(with_stand(by_nozzle(found), asked.line_mm), tops, layer_mm, happens)


def _levels(
    part: LayerStack, supports: Beads | None, footing: tuple[Footing, FootingKind] | None
) -> Iterator[_Level]:
    h = part.layer_mm
    base = footing[0] if footing is not None else None
    lift = round(part.base_mm / h)
    above = max(len(part) + lift, len(supports.tops_mm) if supports is not None else 0)
    raised = base.raise_mm if base is not None else 0.0
    under = base.layers if base is not None else 0
    # What is raised stands on the footing; else they share the lowest layers.
    beside = under if raised == 0 else 0
    for k in range(0 if beside else under):
        yield _Level((k + 1) * h, footing=k)
    for k in range(above):
        yield _Level(raised + (k + 1) * h, k if k < beside else -1, k)


class _PartPaths:
    """Paths of a part, layer by layer from below."""

    def __init__(self, part: LayerStack, walls: Walls, surfaces: Surfaces, asked: Laying) -> None:
        self.part, self.walls, self.surfaces, self.asked = part, walls, surfaces, asked
        self._grouped = Grouped(partial(as_region, surfaces.sparse), len(part), asked.infill_every)
        # Layers alike are laid alike.
        self._alike = walls.alike.tolist()
        self._known: LRUCache[tuple[object, ...], tuple[list[Chain], NDArray[np.float64]]] = LRUCache(16)

    def of(
        self, layer: int, at: NDArray[np.float64], number: int, z_mm: float
    ) -> tuple[list[Chain], NDArray[np.float64]]:
        """Paths of a layer in their order, from where the nozzle is, (2,) mm, and where it is then."""
        name = self._name(layer, z_mm)
        if name is None:
            return self._laid(layer, at, number, z_mm)
        if name not in self._known:
            self._known[name] = self._laid(layer, at, number, z_mm)
        return self._known[name]

    def _name(self, layer: int, z_mm: float) -> tuple[object, ...] | None:
        """What a layer shares with others whose paths are the same; ``None`` where all are different."""
        asked = self.asked
        turning = asked.order.seam in (Seam.SCATTERED, Seam.PICKED) or asked.infill_every > 1
        if turning or asked.pattern in WAVES:
            return None
        found = self.surfaces
        stacks = (found.top, found.bottom, found.bridge, found.sparse, found.bare, found.roofed)
        areas = tuple(round(float(one.area_mm2[layer]), 6) for one in stacks)
        zones = at_height(asked.zones, z_mm), at_height(asked.strands, z_mm)
        if any(zone is not None and zone.pattern in WAVES for zone in zones[:1]):
            return None
        # What a layer stands on counts too.
        below = self._alike[layer - 1] if layer else -1
        return self._alike[layer], below, layer % 2, *areas, *zones, float(found.angles[layer])

    def _laid(
        self, layer: int, at: NDArray[np.float64], number: int, z_mm: float
    ) -> tuple[list[Chain], NDArray[np.float64]]:
        zone = at_height(self.asked.zones, z_mm)
        chains = self._walls(layer) + self._skins(layer) + self._inside(layer, zone, z_mm)
        if zone is not None and zone.pace is not None:
            chains = [
                chain._replace(
                    pace=zone.pace * (np.ones(len(chain.places)) if chain.pace is None else chain.pace)
                )
                for chain in chains
            ]
        ranks = self._ranks(layer, chains)
        outlines = self._outlines(layer) if self.asked.inside else {}
        found: list[Chain] = []
        for nozzle in range(2):
            own = [k for k, chain in enumerate(chains) if chain.nozzle == nozzle]
            if not own:
                continue
            some, then = ordered(
                [chains[k] for k in own], [ranks[k] for k in own], at, self.asked.order, number, z_mm
            )
            if self.asked.inside:
                begin = at if nozzle == 0 else some[0].places[0]
                some = inside_ways(some, begin, outlines[nozzle], self.asked.line_mm, SHORT_MM)
            found, at = found + some, then
        return found, at

    def _outlines(self, layer: int) -> dict[int, Rings]:
        """What each nozzle stays inside on its ways: neither crosses what the other prints."""
        points, start = self.walls.outline.packed_rings(layer)
        whole = points[start[0] : start[-1]], start - start[0]
        if self.walls.second is None or not self.walls.second.area_mm2[layer] > 0:
            return {0: whole, 1: whole}
        parts = self._by_nozzle(layer, as_region(self.walls.outline, layer))
        return {0: whole, 1: whole} | {nozzle: packed_rings(part.to_polygons()) for nozzle, part in parts}

    def _walls(self, layer: int) -> list[Chain]:
        chains = self.walls.beads.chains(layer)
        if not self.asked.slow_steep or layer == 0 or self._alike[layer] == self._alike[layer - 1]:
            return chains
        below = self.walls.outline.packed_rings(layer - 1)
        return [slowed(chain, *below) if chain.kind is Kind.OUTER else chain for chain in chains]

    def _skins(self, layer: int) -> list[Chain]:
        surfaces, w = self.surfaces, self.asked.line_mm
        angle = math.pi / 4 + (layer % 2) * math.pi / 2
        found = []
        for stack, kind in (
            (surfaces.bridge, Kind.BRIDGE),
            (surfaces.bottom, Kind.BOTTOM),
            (surfaces.top, Kind.TOP),
        ):
            if stack.area_mm2[layer] > 0:
                turn = float(surfaces.angles[layer]) if kind is Kind.BRIDGE else angle
                high = self.asked.bridge_flow if kind is Kind.BRIDGE else 1.0
                for nozzle, region in self._by_nozzle(layer, as_region(stack, layer)):
                    lines = chains_of(solid(region, w, turn), kind)
                    found += [chain._replace(high=high, nozzle=nozzle) for chain in lines]
        if self.asked.smooth and surfaces.bare.area_mm2[layer] > 0:
            for nozzle, region in self._by_nozzle(layer, as_region(surfaces.bare, layer)):
                lines = chains_of(
                    lines_apart(region, SMOOTHING_MM, SMOOTHING_MM, angle + math.pi / 2), Kind.SMOOTHING
                )
                found += [chain._replace(high=SMOOTHING_FLOW, nozzle=nozzle) for chain in lines]
        return found

    def _by_nozzle(self, layer: int, region: CrossSection) -> list[tuple[int, CrossSection]]:
        """What of a region each nozzle fills. Walls lie between both."""
        second = self.walls.second
        if second is None or not second.area_mm2[layer] > 0:
            return [(0, region)]
        body = as_region(second, layer)
        parts = [(0, region - body), (1, region ^ body)]
        return [(nozzle, part) for nozzle, part in parts if not part.is_empty()]

    def _inside(self, layer: int, zone: Zone | None, z_mm: float) -> list[Chain]:
        """Strands and infill."""
        asked, w = self.asked, self.asked.line_mm
        density, pattern = asked.density, asked.pattern
        if zone is not None:
            density = density if zone.density is None else zone.density
            pattern = pattern if zone.pattern is None else zone.pattern
        found: list[Chain] = []
        strands = at_height(asked.strands, z_mm)
        if strands is not None:
            laid = strands_of(as_region(self.surfaces.sparse, layer), strands)
            found += laid.chains
            regions = [(laid.rest, 1)]
        else:
            regions = self._grouped.of(layer)
        parts = [(region, density, high) for region, high in regions]
        if self.surfaces.roofed.area_mm2[layer] > 0:
            parts.append((as_region(self.surfaces.roofed, layer), max(asked.roof_density, density), 1))
        angle = math.pi / 4 + (layer % 2) * math.pi / 2
        for whole, share, high in parts:
            if share <= 0 or whole.is_empty():
                continue
            z = z_mm - 0.5 * (high - 1) * self.part.layer_mm
            for nozzle, region in self._by_nozzle(layer, whole):
                lines = (
                    solid(region, w, angle)
                    if share > WHOLE
                    else filled(region, pattern, share, w, z, layer // high)
                )
                laid_here = chains_of(lines, Kind.INFILL)
                found += [chain._replace(high=float(high), nozzle=nozzle) for chain in laid_here]
        return found

    def _ranks(self, layer: int, chains: list[Chain]) -> list[tuple[int, int]]:
        """What each path belongs to, and what comes first there."""
        rings = self.walls.outline.rings(layer)
        # One ring alone is an outline.
        alone = len(rings) < 2
        outers = rings if alone else [r for r, a in zip(rings, ring_areas(rings), strict=True) if a > 0]
        first = 0 if self.asked.order.outer_first else _RANK[Kind.OUTER]
        return [
            (g, first if c.kind is Kind.OUTER else _RANK[c.kind])
            for g, c in zip(_islands(chains, outers), chains, strict=True)
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

"""Walls: outlines inwards by whole lines, with beads of their own where a part is thinner than its walls."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType, OpType
from numpy.typing import NDArray

from ..layers.stack import LayerStack, pack, packed
from ..progress import Progress, silent, tracked
from ..supports.outlines import ring_areas
from ..tags import stored
from .beads import Beads, Chain, Kind
from .beads import packed as packed_beads
from .insets import Rings, inset, plain_rings
from .thin_places import Thin, thin_beads

# Outlines are smoothed by this before walls follow them.
SMOOTH_MM = 0.01
# Walls need so much more than two lines: below it the middle has beads of its own.
ROOM_MM = 0.065
# What is left beside walls counts from this area and width.
LEFT_MM2, LEFT_MM = 0.06, 0.12
# A piece that is no longer than so many times as thick is a pin.
COMPACT = 1.4


def _unlike(old: dict[str, Any]) -> dict[str, Any]:
    """Walls as they were before layers alike and their outlines were told."""
    inside = old["inside"]
    # What lies inside stands in for the outline: nothing reads it but new paths, which have new walls.
    return {**old, "alike": np.arange(len(inside)), "outline": inside}


def _of_one_nozzle(old: dict[str, Any]) -> dict[str, Any]:
    """Walls as they were before a second nozzle printed bodies."""
    return {**old, "second": None}


@stored("walls", version=3, upcasters={1: _unlike, 2: _of_one_nozzle})
@dataclass(frozen=True, eq=False)
class Walls:
    """Walls of all layers, and what lies inside them.

    Attributes
    ----------
    beads : Beads
    inside : LayerStack
        Outlines of what is to be filled, up to the last walls.
    alike : (L,) int64
        Of each layer the lowest one with the same outlines and walls.
    outline : LayerStack
        What walls follow: outlines of the part, smoothed and moved.
    second : LayerStack, optional
        What lies within them of the bodies that the second nozzle prints.
    """

    beads: Beads
    inside: LayerStack
    alike: NDArray[np.int64]
    outline: LayerStack
    second: LayerStack | None = None


@dataclass(frozen=True, slots=True)
class Aside:
    """By how much outlines are moved before walls follow them, so that sizes come out as drawn.

    Attributes
    ----------
    outline_mm : float
        Outwards, negative inwards.
    hole_mm : float
        By how much holes get larger all round.
    first_mm : float
        Outwards in the first layer, which is pressed wide (common practice).
    """

    outline_mm: float = 0.0
    hole_mm: float = 0.0
    first_mm: float = 0.0

    def moved(self, region: CrossSection, *, first: bool) -> CrossSection:
        """Outlines of a layer, moved."""
        out = self.outline_mm + (self.first_mm if first else 0.0)
        if not out and not self.hole_mm:
            return region
        found = []
        for piece in region.decompose():
            rings = piece.to_polygons()
            areas = ring_areas(rings)
            outer = [ring for ring, area in zip(rings, areas, strict=True) if area > 0]
            holes = [ring[::-1] for ring, area in zip(rings, areas, strict=True) if area < 0]
            moved = CrossSection(outer, FillRule.Positive).offset(out, JoinType.Miter, 2.0)
            if holes:
                moved -= CrossSection(holes, FillRule.Positive).offset(self.hole_mm, JoinType.Miter, 2.0)
            found.append(moved)
        return CrossSection.batch_boolean(found, OpType.Add) if found else region


def make_walls(
    stack: LayerStack,
    count: int,
    line_mm: float,
    *,
    counts: Callable[[float], int] | None = None,
    aside: Aside | None = None,
    second: LayerStack | None = None,
    progress: Progress = silent,
) -> Walls:
    """Lay walls round all layers.

    Parameters
    ----------
    stack : LayerStack
    count : int
        Walls inward.
    line_mm : float
        Width of a line.
    counts : callable, optional
        Walls at a height, from the plate, instead of ``count``.
    aside : Aside, optional
    second : LayerStack, optional
        What of the part the second nozzle prints: it has walls of its own all round.
    progress : Progress

    Returns
    -------
    Walls
    """
    beads: list[list[Chain]] = []
    inside: list[list[NDArray[np.float64]]] = []
    areas: list[float] = []
    alike: list[int] = []
    outlines: list[list[NDArray[np.float64]]] = []
    others: list[CrossSection] = []
    known: dict[tuple[bytes, int, bytes], tuple[int, list[Chain], list[NDArray[np.float64]], float]] = {}

    def followed(of: LayerStack, layer: int) -> CrossSection:
        """Outlines smoothed and moved: of bodies as of the whole, or slivers would lie between."""
        region = of.section(layer).simplify(SMOOTH_MM)
        return region if aside is None else aside.moved(region, first=layer == 0 and of.base_mm == 0)

    for layer in tracked(range(len(stack)), "Laying walls", progress):
        region = followed(stack, layer)
        here = counts(stack.base_mm + (layer + 0.5) * stack.layer_mm) if counts is not None else count
        # Upright walls give the same outlines again and again, if not always from the same corner on.
        outlines.append(region.to_polygons())
        other = region ^ followed(second, layer) if second is not None else CrossSection()
        others.append(other)
        name = fingerprint(outlines[-1]), here, fingerprint(other.to_polygons())
        if name not in known:
            chains, left = _by_nozzle(region, other, here, line_mm)
            known[name] = layer, chains, left.to_polygons(), float(left.area())
        lowest, chains, rings, area = known[name]
        alike.append(lowest)
        beads.append(chains)
        inside.append(rings)
        areas.append(area)
    h = stack.layer_mm
    tops = stack.base_mm + h * np.arange(1, len(stack) + 1, dtype=np.float64)
    laid = packed_beads(beads, tops, h)
    inner = pack(inside, areas, h, stack.base_mm)
    outline = pack(outlines, stack.area_mm2.tolist(), h, stack.base_mm)
    if second is not None:
        within, covered = [one.to_polygons() for one in others], [float(one.area()) for one in others]
        second = pack(within, covered, h, stack.base_mm)
    return Walls(laid, inner, np.array(alike, np.int64), outline, second)


def _by_nozzle(
    region: CrossSection, second: CrossSection, count: int, line_mm: float
) -> tuple[list[Chain], CrossSection]:
    """Walls round what each nozzle prints of a region, and what lies inside them."""
    if second.is_empty():
        return walls_of(region, count, line_mm)
    chains, inside = walls_of(region - second, count, line_mm)
    others, within = walls_of(second, count, line_mm)
    return chains + [chain._replace(nozzle=1) for chain in others], inside + within


def fingerprint(rings: list[NDArray[np.float64]]) -> bytes:
    """What rings (k, 2) have in common that differ by less than 0.1 micrometres, or in where they begin."""
    names = []
    for ring in rings:
        near = np.round(ring, 4) + 0.0
        first = int(np.lexsort((near[:, 1], near[:, 0]))[0])
        names.append(np.roll(near, -first, axis=0).tobytes())
    return b"/".join(sorted(names))


def walls_of(region: CrossSection, count: int, line_mm: float) -> tuple[list[Chain], CrossSection]:
    """Lay walls round one region.

    Returns
    -------
    list of Chain
        From the outer wall inwards, with what fills thin places behind the walls it belongs to.
    CrossSection
        What is inside the last walls, and thick enough to be filled by lines.
    """
    need = line_mm + ROOM_MM
    plain = plain_rings(region, count * line_mm + need)
    if plain is not None:
        # Nothing is thinner than all its walls: they lie whole lines inward, corner by corner.
        return (
            [
                chain
                for wall in range(count)
                for chain in _ring_chains(
                    plain, (wall + 0.5) * line_mm, line_mm, Kind.WALL if wall else Kind.OUTER
                )
            ],
            region.offset(-count * line_mm, JoinType.Miter, 2.0),
        )
    left = region
    chains: list[Chain] = []
    for wall in range(count + 1):
        if left.is_empty():
            break
        kind = Kind.WALL if wall else Kind.OUTER
        plain = plain_rings(left, need)
        if plain is not None:
            if wall == count:
                return chains, left
            chains += _ring_chains(plain, 0.5 * line_mm, line_mm, kind)
            left = left.offset(-line_mm, JoinType.Miter, 2.0)
            continue
        core = left.offset(-need, JoinType.Miter, 2.0)
        broad = core.offset(need, JoinType.Miter, 2.0)
        chains += _thin(left, broad, line_mm, 2 * need)
        if wall == count:
            return chains, broad
        for ring in core.offset(need - 0.5 * line_mm, JoinType.Miter, 2.0).to_polygons():
            closed = np.concatenate([ring, ring[:1]])
            chains.append(Chain(closed, np.full(len(closed), line_mm), kind))
        left = core.offset(need - line_mm, JoinType.Miter, 2.0)
    return chains, CrossSection()


def _ring_chains(plain: Rings, depth_mm: float, line_mm: float, kind: Kind) -> list[Chain]:
    points, start = plain
    moved, _ = inset(points, start, depth_mm)
    found = []
    for a, b in pairwise(start.tolist()):
        closed = np.concatenate([moved[a:b], moved[a : a + 1]])
        found.append(Chain(closed, np.full(b - a + 1, line_mm), kind))
    return found


def _thin(region: CrossSection, broad: CrossSection, line_mm: float, thick_mm: float) -> list[Chain]:
    """Beads in what of a region is not broad."""
    if float(region.area()) - float(broad.area()) < LEFT_MM2:
        return []
    left, boxes = [], []
    pins: list[Chain] = []
    for one in (region - broad).decompose():
        x0, y0, x1, y1 = one.bounds()
        area = float(one.area())
        if area > LEFT_MM2 and 2 * area / max(x1 - x0 + y1 - y0, 1e-9) > LEFT_MM * 0.5:
            alone = broad.is_empty() or (one.offset(0.01) ^ broad).is_empty()
            if alone and max(x1 - x0, y1 - y0) < COMPACT * _thickness(one):
                pins += _pin(one)
                continue
            left.append(one)
            boxes.append((x0 - 0.05, y0 - 0.05, x1 + 0.05, y1 + 0.05))
    if not boxes:
        return pins
    thin = Thin(packed(region.to_polygons()), packed(broad.to_polygons()), line_mm)
    chains = thin_beads(thin, np.array(boxes), thick_mm)
    laid = np.concatenate([chain.places for chain in chains]) if chains else np.zeros((0, 2))
    for one, (x0, y0, x1, y1) in zip(left, boxes, strict=True):
        here = (laid >= (x0, y0)).all(axis=1) & (laid <= (x1, y1)).all(axis=1)
        if not here.any():
            chains += _pin(one)
    return pins + chains


def _pin(piece: CrossSection) -> list[Chain]:
    """A ring in a piece that is about as long as wide, half as broad as that is thick: it fills it."""
    thick = _thickness(piece)
    found = []
    for ring in piece.offset(-0.25 * thick, JoinType.Miter, 2.0).to_polygons():
        closed = np.concatenate([ring, ring[:1]])
        found.append(Chain(closed, np.full(len(closed), 0.5 * thick), Kind.THIN))
    return found


def _thickness(piece: CrossSection) -> float:
    """Diameter of a disc or side of a square, mm: four times the area over the girth."""
    rings = piece.to_polygons()
    girth = sum(float(np.hypot(*(ring - np.roll(ring, 1, axis=0)).T).sum()) for ring in rings)
    return 4 * float(piece.area()) / max(girth, 1e-9)


def as_region(stack: LayerStack, layer: int) -> CrossSection:
    """Outlines of a layer as a region, empty where there is none."""
    rings = stack.rings(layer) if 0 <= layer < len(stack) else []
    return CrossSection(rings, FillRule.NonZero) if rings else CrossSection()

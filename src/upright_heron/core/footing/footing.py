"""Footing: what holds the part on the plate, as true polygons."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType, Manifold, OpType
from numpy.typing import NDArray

from ..geometry.mesh import Mesh
from ..geometry.solid import Solid, union
from ..layers.stack import LayerStack, pack
from ..tags import stored
from .resin_base import MOST_RIM, MOST_TIE, TIE_MM, pads, raft, rims, ties


class FootingKind(StrEnum):
    """What holds the part down."""

    NONE = "none"
    SKIRT = "skirt"
    BRIM = "brim"
    RAFT = "raft"
    CORNERS = "corners"
    PADS = "pads"
    TIES = "ties"


# What widens the contact, so that a small one holds.
HOLDS_DOWN = frozenset({
    FootingKind.BRIM, FootingKind.CORNERS, FootingKind.RAFT, FootingKind.PADS, FootingKind.TIES,
})  # fmt: skip
# What part and supports stand on.
UNDER = frozenset({FootingKind.RAFT, FootingKind.PADS, FootingKind.TIES})


# What there is under stilts.
BASES = (FootingKind.NONE, FootingKind.RAFT, FootingKind.PADS, FootingKind.TIES)


def kinds_on(resin: bool) -> tuple[FootingKind, ...]:
    """The kinds there are on a resin machine, or on one that prints filament."""
    under = (FootingKind.PADS, FootingKind.TIES)
    return BASES if resin else tuple(kind for kind in FootingKind if kind not in under)


class BrimSide(StrEnum):
    """Which outlines a brim follows."""

    ALL = "all"
    OUTSIDE = "outside"
    INSIDE = "inside"
    HELPS = "helps"


# Lines are smoothed by this.
SMOOTH_MM = 0.01
# A piece of the first layer is helped by a brim that has less area, mm2, or is longer, mm, and so many times
# as long as it is wide (common practice).
SMALL_MM2, LONG_MM, SLIM = 200.0, 60.0, 6.0


@dataclass(frozen=True, slots=True)
class FootingSettings:
    """Settings of a footing.

    Attributes
    ----------
    kind : FootingKind
    lines : int
        Lines of a skirt or a brim.
    line_width_mm : float
    distance_mm : float
        From the outline to the first line of a skirt.
    margin_mm : float
        How far a raft reaches past the outline.
    raft_layers : int
    gap_mm : float
        Between the raft and the part; nought when the feet are meant to grow from it (resin).
    rim_deg : float
        By how much the rim of what stands under resin parts leans out upwards, so that a blade gets below it.
    gaps : bool
        A raft has holes that resin runs off through.
    prime_mm : float
        A skirt has as many lines as make up this length at least.
    brim_gap_mm : float
        Between the outline and a brim, so that it comes off clean.
    side : BrimSide
    corner_mm : float
        Radius of the discs at sharp corners and long ends.
    base_layers, top_layers : int
        Of a raft of filament: wide lines below, close ones above, and lines half apart between.
    """

    kind: FootingKind = FootingKind.NONE
    lines: int = 6
    line_width_mm: float = 0.44
    distance_mm: float = 3.0
    margin_mm: float = 4.0
    raft_layers: int = 4
    gap_mm: float = 0.25
    rim_deg: float = 0.0
    gaps: bool = False
    prime_mm: float = 0.0
    brim_gap_mm: float = 0.0
    side: BrimSide = BrimSide.ALL
    corner_mm: float = 6.0
    base_layers: int = 1
    top_layers: int = 2

    @property
    def reach_mm(self) -> float:
        """How far it reaches past the outline of what it holds."""
        lines = self.lines * self.line_width_mm
        return {
            FootingKind.NONE: 0.0,
            FootingKind.BRIM: lines + self.brim_gap_mm,
            FootingKind.CORNERS: self.corner_mm,
            FootingKind.SKIRT: self.distance_mm + lines,
            FootingKind.RAFT: self.margin_mm,
            FootingKind.PADS: self.margin_mm,
            FootingKind.TIES: self.margin_mm,
        }[self.kind]

    def raise_mm(self, layer_mm: float) -> float:
        """How far part and supports move up for it, with layers so high."""
        return self.raft_layers * layer_mm + self.gap_mm if self.kind in UNDER else 0.0


@stored(
    "footing",
    version=3,
    upcasters={
        1: lambda old: {**old, "below": ()},
        2: lambda old: {**old, "weave": (), "loops": (), "around": False},
    },
)
@dataclass(frozen=True, eq=False)
class Footing:
    """A footing as polygons.

    Attributes
    ----------
    outline : CrossSection
        Of its top layer, and of all that are not told by themselves.
    layers : int
    layer_mm : float
    raise_mm : float
        How much part and supports move up for it.
    below : tuple of CrossSection
        Outlines of its lowest layers, bottom first, where they differ: its rim leans.
    weave : tuple of (apart, width)
        Of the lines of each layer of a raft of filament, bottom first, mm; whole where there is none.
    loops : tuple of (k, 2) float64
        Rings that the lines of a skirt or a brim follow, from the part outwards, mm.
    around : bool
        It stands aside of the part and holds nothing: a skirt, which is left out where it has no room.
    """

    outline: CrossSection
    layers: int
    layer_mm: float
    raise_mm: float
    below: tuple[CrossSection, ...] = ()
    weave: tuple[tuple[float, float], ...] = ()
    loops: tuple[NDArray[np.float64], ...] = ()
    around: bool = False

    def section(self, layer: int) -> CrossSection:
        """Outline of one of its layers."""
        return self.below[layer] if layer < len(self.below) else self.outline

    @property
    def stack(self) -> LayerStack:
        """Its layers, from the plate up."""
        sections = [self.section(layer) for layer in range(self.layers)]
        rings = [one.to_polygons() for one in sections]
        return pack(rings, [float(one.area()) for one in sections], self.layer_mm, 0.0)

    @property
    def area_mm2(self) -> float:
        """Area of its widest layer."""
        return float(self.outline.area())

    @property
    def volume_mm3(self) -> float:
        """Volume of all layers."""
        whole = self.area_mm2 * max(self.layers - len(self.below), 0)
        if self.weave:
            whole = self.area_mm2 * sum(min(width / apart, 1.0) for apart, width in self.weave)
        return (whole + sum(float(one.area()) for one in self.below[: self.layers])) * self.layer_mm

    def mesh(self, bands: int | None = None) -> Mesh:
        """Solid of the footing, from the plate up; empty when there is none.

        Its leaning rim is drawn in so many steps at most, to look at; in all its layers without.
        """
        if self.layers == 0 or self.outline.is_empty():
            return Solid(Manifold()).mesh()
        lean = min(len(self.below), self.layers)
        each = max(1, math.ceil(lean / bands)) if bands else 1
        slabs = []
        for k in [*range(0, lean, each), lean]:
            end = self.layers if k == lean else min(k + each, lean)
            if end > k:
                body = self.section(k).extrude((end - k) * self.layer_mm)
                slabs.append(body.translate((0, 0, k * self.layer_mm)))
        return Solid(union(slabs)).mesh()


def filled(section: CrossSection) -> CrossSection:
    """Fill the holes of a section: its outer rings only."""
    rings = [ring for ring in section.to_polygons() if _signed_area(ring) > 0]
    return CrossSection(rings, FillRule.NonZero) if rings else CrossSection()


def _signed_area(ring) -> float:  # type: ignore[no-untyped-def]
    x, y = ring[:, 0] - ring[0, 0], ring[:, 1] - ring[0, 1]
    return float(0.5 * (x[:-1] @ y[1:] - x[1:] @ y[:-1]))


def grown(section: CrossSection, distance_mm: float) -> CrossSection:
    """Grow a section by a distance with round corners (128 segments a circle)."""
    return section.offset(distance_mm, JoinType.Round, 2.0, 128)


def make_footing(first: CrossSection, settings: FootingSettings, layer_mm: float) -> Footing:
    """Make a footing round what lies on the plate.

    Parameters
    ----------
    first : CrossSection
        First layer of part and supports together.
    settings : FootingSettings
    layer_mm : float

    Returns
    -------
    Footing

    Notes
    -----
    A brim follows every outline, inside holes too; a skirt only goes round the outside. By Steiner's
    formula a brim of width d round a convex outline of length P has the area P d + pi d^2. Under resin parts
    a base is fused to what stands on it: see ``resin_base``.
    """
    if settings.kind is FootingKind.BRIM:
        loops = _loops(_brim(first, settings, k) for k in range(settings.lines))
        return Footing(_brim(first, settings), 1, layer_mm, 0.0, loops=loops)
    if settings.kind is FootingKind.CORNERS:
        return Footing(_corners(first, settings), 1, layer_mm, 0.0)
    if settings.kind is FootingKind.SKIRT:
        inner = filled(grown(filled(first), settings.distance_mm))
        around = sum(_length(ring) for ring in inner.to_polygons())
        lines = max(settings.lines, math.ceil(settings.prime_mm / around) if around else 0)
        w = settings.line_width_mm
        loops = _loops(grown(inner, (k + 0.5) * w) for k in range(lines))
        around_it = _settled(grown(inner, lines * w) - inner)
        return Footing(around_it, 1, layer_mm, 0.0, loops=loops, around=True)
    if settings.kind in UNDER and not settings.gap_mm:
        return _under_resin(first, settings, layer_mm)
    if settings.kind is FootingKind.RAFT:
        slab = filled(grown(first, settings.margin_mm))
        return Footing(
            slab, settings.raft_layers, layer_mm, settings.raise_mm(layer_mm), weave=_weave(settings)
        )
    return Footing(CrossSection(), 0, layer_mm, 0.0)


# Lines of the lowest layers of a raft are so much wider than others, and so many widths apart; those between
# so many (common practice).
BASE_WIDE, BASE_APART, MIDDLE_APART = 1.8, 2.0, 2.0


def _weave(settings: FootingSettings) -> tuple[tuple[float, float], ...]:
    w, count = settings.line_width_mm, settings.raft_layers
    base = min(settings.base_layers, count)
    top = min(settings.top_layers, count - base)
    wide = BASE_WIDE * w
    rows = [(BASE_APART * wide, wide)] * base + [(MIDDLE_APART * w, w)] * (count - base - top)
    return (*rows, *[(w, w)] * top)


def _settled(section: CrossSection) -> CrossSection:
    """A section as it is read back: offsets of offsets leave corners that a first reading cleans away."""
    return CrossSection(section.to_polygons(), FillRule.NonZero)


def _loops(outlines: Iterator[CrossSection]) -> tuple[NDArray[np.float64], ...]:
    """Rings that lines follow, smoothed by as little as walls are."""
    return tuple(ring for one in outlines for ring in one.simplify(SMOOTH_MM).to_polygons())


def _brim(first: CrossSection, settings: FootingSettings, line: int | None = None) -> CrossSection:
    """What a brim covers on the sides that were asked for, or what one of its lines, from 0, goes round."""
    helped = first
    if settings.side is BrimSide.HELPS:
        weak = [one for one in first.decompose() if is_helped(one)]
        helped = CrossSection.batch_boolean(weak, OpType.Add) if weak else CrossSection()
    w, gap, count = settings.line_width_mm, settings.brim_gap_mm, settings.lines
    reach = gap + (count * w if line is None else (line + 0.5) * w)
    # A line stays half its width away from what it does not hold.
    near = gap if line is None else gap + 0.5 * w
    others = grown(first, near) if near else first
    if settings.side is BrimSide.OUTSIDE:
        found = grown(filled(helped), reach)
        return found if line is not None else found - filled(others)
    if settings.side is BrimSide.INSIDE:
        # Holes alone: what is left of them inside the lines.
        found = filled(helped) - grown(helped, reach)
        return found if line is not None else (filled(helped) - others) - found
    found = grown(helped, reach)
    if line is None:
        return found - others
    rest = first - helped
    return found if rest.is_empty() else found - grown(rest, near)


def is_helped(piece: CrossSection) -> bool:
    """Whether a piece of the first layer is small, or long and slim, so that a brim helps it."""
    if float(piece.area()) < SMALL_MM2:
        return True
    long, wide = sides_of(piece)
    return long > LONG_MM and long > SLIM * wide


def sides_of(piece: CrossSection) -> tuple[float, float]:
    """Length and width of the smallest rectangle round a piece, mm."""
    frame = np.array(piece.hull().to_polygons()[0])
    edges = np.roll(frame, -1, axis=0) - frame
    edges = edges[np.hypot(*edges.T) > 1e-9]
    best = (math.inf, 0.0, 0.0)
    for x, y in edges / np.hypot(*edges.T)[:, None]:
        long, wide = np.ptp(frame @ (x, y)), np.ptp(frame @ (-y, x))
        best = min(best, (float(long * wide), float(max(long, wide)), float(min(long, wide))))
    return best[1], best[2]


# Corners sharper than this, degrees, between sides at least so long, mm, lift off first where a material
# shrinks (common practice).
SHARP_DEG, SIDE_MM = 100.0, 5.0


def sharp_corners(first: CrossSection) -> list[tuple[float, float]]:
    """Corners (x, y), mm, that lift off the plate first: sharp ones at the far ends of each piece."""
    found = []
    for piece in first.simplify(0.1).decompose():
        far = {tuple(corner) for corner in piece.hull().to_polygons()[0].tolist()}
        for ring in piece.to_polygons():
            back, on = np.roll(ring, 1, axis=0) - ring, np.roll(ring, -1, axis=0) - ring
            sides = np.hypot(*back.T), np.hypot(*on.T)
            cos = (back * on).sum(axis=1) / np.maximum(sides[0] * sides[1], 1e-12)
            sharp = np.degrees(np.arccos(np.clip(cos, -1, 1))) < SHARP_DEG
            sharp &= np.minimum(*sides) >= SIDE_MM
            found += [(x, y) for x, y in ring[sharp].tolist() if (x, y) in far]
    return found


def _corners(first: CrossSection, settings: FootingSettings) -> CrossSection:
    """Discs of one layer at sharp corners."""
    disc = CrossSection.circle(settings.corner_mm, 64)
    discs = [disc.translate(at) for at in sharp_corners(first)]
    if not discs:
        return CrossSection()
    gap = settings.brim_gap_mm
    return CrossSection.batch_boolean(discs, OpType.Add) - (grown(first, gap) if gap else first)


def _length(ring: NDArray[np.float64]) -> float:
    return float(np.hypot(*(ring - np.roll(ring, 1, axis=0)).T).sum())


def _under_resin(first: CrossSection, settings: FootingSettings, layer_mm: float) -> Footing:
    """What feet are fused to."""
    outline, most = ties(first), MOST_TIE * TIE_MM
    if settings.kind is not FootingKind.TIES:
        plain = settings.kind is FootingKind.PADS
        margin = settings.margin_mm
        outline, most = (
            pads(first, margin) if plain else raft(first, margin, gaps=settings.gaps),
            MOST_RIM * margin,
        )
    below = rims(outline, first, settings.raft_layers, layer_mm, settings.rim_deg, most)
    return Footing(outline, settings.raft_layers, layer_mm, settings.raise_mm(layer_mm), below)


def footprint(part: LayerStack, supports: LayerStack | None, *, lifted: bool) -> CrossSection:
    """Plan of what lies on the plate: first layers of the part (unless it is lifted) and of the supports."""
    plan = CrossSection() if lifted else part.section(0)
    if not lifted and plan.is_empty():
        plan = part.section(1)
    return plan + supports.section(0) if supports is not None else plan

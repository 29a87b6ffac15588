"""Footing: what holds the part on the plate, as true polygons."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

from manifold3d import CrossSection, FillRule, JoinType, Manifold

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
    PADS = "pads"
    TIES = "ties"


# What widens the contact, so that a small one holds.
HOLDS_DOWN = frozenset({FootingKind.BRIM, FootingKind.RAFT, FootingKind.PADS, FootingKind.TIES})
# What part and supports stand on.
UNDER = frozenset({FootingKind.RAFT, FootingKind.PADS, FootingKind.TIES})


# What there is under stilts.
BASES = (FootingKind.NONE, FootingKind.RAFT, FootingKind.PADS, FootingKind.TIES)


def kinds_on(resin: bool) -> tuple[FootingKind, ...]:
    """The kinds there are on a resin machine, or on one that prints filament."""
    under = (FootingKind.PADS, FootingKind.TIES)
    return BASES if resin else tuple(kind for kind in FootingKind if kind not in under)


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

    @property
    def reach_mm(self) -> float:
        """How far it reaches past the outline of what it holds."""
        lines = self.lines * self.line_width_mm
        return {
            FootingKind.NONE: 0.0,
            FootingKind.BRIM: lines,
            FootingKind.SKIRT: self.distance_mm + lines,
            FootingKind.RAFT: self.margin_mm,
            FootingKind.PADS: self.margin_mm,
            FootingKind.TIES: self.margin_mm,
        }[self.kind]

    def raise_mm(self, layer_mm: float) -> float:
        """How far part and supports move up for it, with layers so high."""
        return self.raft_layers * layer_mm + self.gap_mm if self.kind in UNDER else 0.0


@stored("footing", version=2, upcasters={1: lambda old: {**old, "below": ()}})
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
    """

    outline: CrossSection
    layers: int
    layer_mm: float
    raise_mm: float
    below: tuple[CrossSection, ...] = ()

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
    width = settings.lines * settings.line_width_mm
    if settings.kind is FootingKind.BRIM:
        return Footing(grown(first, width) - first, 1, layer_mm, 0.0)
    if settings.kind is FootingKind.SKIRT:
        inner = filled(grown(filled(first), settings.distance_mm))
        return Footing(grown(inner, width) - inner, 1, layer_mm, 0.0)
    if settings.kind in UNDER and not settings.gap_mm:
        return _under_resin(first, settings, layer_mm)
    if settings.kind is FootingKind.RAFT:
        slab = filled(grown(first, settings.margin_mm))
        return Footing(slab, settings.raft_layers, layer_mm, settings.raise_mm(layer_mm))
    return Footing(CrossSection(), 0, layer_mm, 0.0)


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

"""Supports as objects: each can be picked, explained, measured and drawn by itself."""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ..geometry.mesh import Mesh
from ..geometry.solid import concatenated
from ..tags import stored
from .rings import CIRCLE, PRISM, SIDES

# A trunk higher than so many times its thickness shakes (common practice).
SLENDER = 60.0


@dataclass(frozen=True, slots=True)
class SupportSettings:
    """Settings of generation.

    Attributes
    ----------
    gap_mm : float
        Clear height between a support and the part above it, rounded up to whole layers (filament).
    gap_below_mm : float or None
        Likewise to the part that it stands on; as above it where there is none.
    clearance_mm : float
        Clear distance to the side of the part.
    smallest_mm2 : float
        Overhang pieces with less area are left out, islands never (filament).
    spacing_mm : float
        Grid of the stilts under overhangs (resin).
    tip_mm, shaft_mm, foot_mm : float
        Diameters of a stilt.
    tip_length_mm : float
        Height of the cone at the tip.
    rounded : bool
        The tip of a stilt ends in a ball, of which so much touches the part as of a pointed one.
    depth_mm : float
        How far the tip reaches into the part.
    shaft_taper_mm : float
        What the shaft of a stilt gains in diameter over each 10 mm downwards.
    lean_deg : float
        Most that a shaft leans, from vertical (resin).
    fine_mm, stout_mm : (tip, shaft) or (None, None)
        Diameters of the fine and the stout size of stilts; in proportion to the medium one where not given.
    brace_deg, brace_every_mm : float
        How braces rise, and in what height there is one (resin).
    slender : float
        No shaft is longer between braces than so many times its thickness (resin).
    inside : bool
        Stilts may stand in hollows, where nobody gets at them (resin).
    joins : bool
        A stilt may stand on the shaft of another where that saves material (resin).
    line_mm : float
        Width of one line (filament).
    line_spacing_mm : float
        Between the walls of lines and grids.
    line_angle_deg : float
        Of the walls of lines, 0 along x.
    interface_layers : int
        Solid layers where lines and grids end at the part.
    slit_mm : float
        Lines are parted after so much length, so that a column comes out piece by piece; 0 does not.
    from_plate : bool
        Supports stand on the plate only, never on the part.
    otherwise : frozenset of str
        Ids of the patches for which the opposite of ``from_plate`` was chosen.
    branch_deg : float
        Most that a branch leans, from vertical.
    branch_mm, trunk_mm : float
        Diameters of a branch at its tip and of the thickest trunk.
    taper_mm : float
        What a branch gains in diameter over each 10 mm downwards.
    walls : int
        Lines round a trunk.
    fill : float
        Share of what they enclose that is filled, 0 to 1.
    every : int
        Walls of lines and grids are printed in every so many layers, as much thicker.
    brim_mm : float
        Width of a rim round what stands on the plate.
    plate_mm : (x, y) or None
        Size of the plate that branches stay on; without limit where there is none.
    spare : float
        Each tip can bear so many times what pulls at it (resin).
    """

    gap_mm: float = 0.2
    gap_below_mm: float | None = None
    clearance_mm: float = 0.45
    smallest_mm2: float = 1.0
    spacing_mm: float = 4.0
    tip_mm: float = 0.4
    shaft_mm: float = 1.0
    foot_mm: float = 3.0
    tip_length_mm: float = 2.5
    rounded: bool = False
    depth_mm: float = 0.2
    shaft_taper_mm: float = 0.0
    lean_deg: float = 45.0
    fine_mm: tuple[float | None, float | None] = (None, None)
    stout_mm: tuple[float | None, float | None] = (None, None)
    brace_deg: float = 45.0
    brace_every_mm: float = 25.0
    slender: float = 40.0
    inside: bool = True
    joins: bool = True
    line_mm: float = 0.44
    line_spacing_mm: float = 2.2
    line_angle_deg: float = 0.0
    interface_layers: int = 2
    slit_mm: float = 0.0
    from_plate: bool = False
    otherwise: frozenset[str] = frozenset()
    branch_deg: float = 40.0
    branch_mm: float = 1.2
    trunk_mm: float = 8.0
    taper_mm: float = 0.24
    walls: int = 2
    fill: float = 0.0
    every: int = 1
    brim_mm: float = 0.0
    plate_mm: tuple[float, float] | None = None
    spare: float = 1.0

    @property
    def rim_mm(self) -> float:
        """How far the thickest trunk reaches from its middle, with its rim."""
        return self.trunk_mm / 2 + self.brim_mm

    def gap_layers(self, layer_mm: float) -> int:
        """Whole layers of the contact gap below the part."""
        return math.ceil(self.gap_mm / layer_mm - 1e-6) if self.gap_mm > 0 else 0

    def gap_below_layers(self, layer_mm: float) -> int:
        """Whole layers of the contact gap where a support stands on the part."""
        gap_mm = self.gap_mm if self.gap_below_mm is None else self.gap_below_mm
        return math.ceil(gap_mm / layer_mm - 1e-6) if gap_mm > 0 else 0

    def least_layers(self, layer_mm: float) -> int:
        """Layers from one of the part down to the next below, where one layer of support fits between."""
        return self.gap_layers(layer_mm) + self.gap_below_layers(layer_mm) + 2

    def plate_only(self, patch: str) -> bool:
        """Whether supports of a patch may stand on the plate only."""
        return self.from_plate != (patch in self.otherwise)


@stored("slab")
@dataclass(frozen=True, eq=False)
class Slab:
    """A stretch of a column with one outline: from ``low_mm`` to ``high_mm``.

    ``solid`` where it is an interface: filled, at the end of walls.
    """

    low_mm: float
    high_mm: float
    rings: tuple[NDArray[np.float64], ...]
    solid: bool = False

    @property
    def section(self) -> CrossSection:
        """Outline of the slab."""
        return CrossSection(list(self.rings), FillRule.NonZero)


@stored("column")
@dataclass(frozen=True, eq=False)
class Column:
    """A filament support: upright slabs under an overhang.

    Attributes
    ----------
    id : str
        Stays the same while it holds the same place.
    reason : str
    touch_mm : (x, y, z)
        A point at its top.
    on_part : bool
        It stands on the part, not on the plate.
    volume_mm3 : float
        Of its outline.
    slabs : tuple of Slab
        Bottom first.
    patch : str
        Id of the patch that it holds.
    style : str
        How its outline is filled; a plain outline without one.
    contact_mm2 : float
        Area of the part that it touches, above and below.
    hand : str
        ``made`` or ``changed`` by hand, ``locked``; empty where it is made anew with the rest.
    """

    id: str
    reason: str
    touch_mm: tuple[float, float, float]
    on_part: bool
    volume_mm3: float
    slabs: tuple[Slab, ...]
    patch: str = ""
    style: str = ""
    contact_mm2: float = 0.0
    hand: str = ""

    @property
    def patches(self) -> tuple[str, ...]:
        """Id of the patch that it holds, as for branches."""
        return (self.patch,) if self.patch else ()

    def manifolds(self, thin_mm: float = 0.0, band_mm: float = 0.0) -> list[Any]:
        """Bodies that make up the column.

        Their outlines are thinned by up to ``thin_mm``; slabs thinner than ``band_mm`` are drawn as the first
        of them as far as that reaches.
        """
        bodies = []
        slabs: list[Slab] = []
        for solid in (False, True):
            band: Slab | None = None
            for slab in (s for s in self.slabs if s.solid == solid):
                if band and slab.low_mm <= band.high_mm + 1e-6 and slab.high_mm - band.low_mm <= band_mm:
                    band = slabs[-1] = Slab(band.low_mm, slab.high_mm, band.rings)
                else:
                    band = slab
                    slabs.append(slab)
        for slab in slabs:
            section = slab.section.simplify(thin_mm) if thin_mm > 0 else slab.section
            if not section.is_empty():
                bodies.append(section.extrude(slab.high_mm - slab.low_mm).translate((0, 0, slab.low_mm)))
        return bodies


@stored("branches")
@dataclass(frozen=True, eq=False)
class Branches:
    """A tree support or a post: circles along branches that come together downwards.

    Attributes
    ----------
    id, reason, touch_mm, on_part, volume_mm3
        As for a column; the volume is of what is printed.
    nodes : (n, 4) float64
        x, y, z and radius, mm.
    down : (n,) int64
        The node each leads down to, -1 at the foot.
    patches : tuple of str
        Ids of the patches it holds.
    style, hand : str
        As for a column.
    """

    id: str
    reason: str
    touch_mm: tuple[float, float, float]
    on_part: bool
    volume_mm3: float
    nodes: NDArray[np.float64]
    down: NDArray[np.int64]
    patches: tuple[str, ...] = ()
    style: str = ""
    hand: str = ""

    @cached_property
    def tips(self) -> NDArray[np.int64]:
        """Nodes (k,) that nothing leads down to: its ends at the part."""
        return np.setdiff1d(np.arange(len(self.nodes)), self.down)

    @property
    def foot(self) -> int:
        """The lowest node, where it stands."""
        return int(np.flatnonzero(self.down < 0)[0])

    @property
    def contact_mm2(self) -> float:
        """Area of the part that it touches, with its foot where that stands on the part."""
        ends = np.append(self.tips, self.foot) if self.on_part else self.tips
        return float(np.pi * (self.nodes[ends, 3] ** 2).sum())

    @property
    def lean_deg(self) -> float:
        """The most that one of its branches leans, from vertical."""
        runs = np.flatnonzero(self.down >= 0)
        steps = self.nodes[runs, :3] - self.nodes[self.down[runs], :3]
        flat = np.hypot(steps[:, 0], steps[:, 1])
        return float(np.degrees(np.arctan2(flat, np.maximum(steps[:, 2], 1e-9))).max(initial=0.0))

    def mesh(self) -> Mesh:
        """Closed frusta from node to node, side by side: to look at."""
        parts = []
        for i, j in enumerate(self.down.tolist()):
            if j >= 0 and self.nodes[i, 2] - self.nodes[j, 2] > 1e-6:
                parts.append(_frustum(self.nodes[j], self.nodes[i]))
        return concatenated(parts)


def _frustum(low: NDArray[np.float64], high: NDArray[np.float64]) -> Mesh:
    walls = np.concatenate(
        [np.column_stack([CIRCLE * end[3] + end[:2], np.full(SIDES, end[2])]) for end in (low, high)]
    )
    return Mesh(walls, PRISM)


def support_id(kind: str, x: float, y: float, z: float) -> str:
    """Name a support after the place it holds, to half a millimetre: it survives small changes."""
    place = f"{kind}:{round(2 * x)}:{round(2 * y)}:{round(2 * z)}"
    return hashlib.blake2b(place.encode(), digest_size=5).hexdigest()

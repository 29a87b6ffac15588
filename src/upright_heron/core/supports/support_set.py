"""All supports of a part, what they hold, and what a check found wrong with them."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ..geometry.mesh import Mesh
from ..geometry.solid import Solid, concatenated, union
from ..hanging.findings import Bare
from ..layers.stack import LayerStack
from ..tags import stored
from .model import Branches, Column, Slab
from .resin.stilt import Brace, Stilt
from .rings import PRISM

# Outlines of columns are drawn with this tolerance; what is handed off keeps them whole.
SEEN_MM = 0.15
SEEN_CORNERS = 120_000
# What a frustum is that is drawn, as a sum.
BAR, LOW_END, HIGH_END = 1.0, 2.0, 4.0


class FaultKind(StrEnum):
    """What the check of supports looks for."""

    NOT_HELD = "not held"
    CROSSES = "crosses the part"
    TOO_NEAR = "too near"
    FLOATS = "floats"
    SLENDER = "slender"
    OVERLOADED = "overloaded"


@stored("fault")
@dataclass(frozen=True, slots=True)
class Fault:
    """Something that the check found.

    Attributes
    ----------
    kind : FaultKind
    at_mm : (x, y, z)
    words : str
        What is so, and why.
    patch : str
        Id of the patch it is about, where it is about one.
    """

    kind: FaultKind
    at_mm: tuple[float, float, float]
    words: str
    patch: str = ""


@stored("patch-line")
@dataclass(frozen=True, slots=True)
class PatchLine:
    """A patch as it is listed.

    Attributes
    ----------
    id, reason : str
    style : str
        How it is held.
    why : str
        Why this style was proposed; empty where the technician chose.
    area_mm2 : float
    at_mm : (x, y, z)
    held : bool
        The check found support under it.
    lost : str
        What of it nothing reaches or was taken out, in words; mostly empty.
    """

    id: str
    reason: str
    style: str
    why: str
    area_mm2: float
    at_mm: tuple[float, float, float]
    held: bool
    lost: str = ""


@stored("support-set")
@dataclass(frozen=True, eq=False)
class SupportSet:
    """All supports of a part in its stance.

    Attributes
    ----------
    supports : tuple of Column, Branches or Stilt
    layers : LayerStack
        Outlines of all supports, on the layers of the part counted from the plate.
    held_area_mm2 : float
        Filament: plan area of the overhang pieces over columns. Resin: area of the facets past the limit
        within one spacing of a tip.
    unheld_islands : tuple of int
        Numbers of the islands with nothing under them all the same.
    notes : tuple of str
        What could not be done, and why.
    patches : tuple of PatchLine
        What is to be held, and how (filament).
    faults : tuple of Fault
        What the check found.
    braces : tuple of Brace
        Between stilts (resin).
    """

    supports: tuple[Column | Branches | Stilt, ...]
    layers: LayerStack
    held_area_mm2: float
    unheld_islands: tuple[int, ...]
    notes: tuple[str, ...] = ()
    patches: tuple[PatchLine, ...] = ()
    faults: tuple[Fault, ...] = ()
    braces: tuple[Brace, ...] = ()

    @property
    def volume_mm3(self) -> float:
        """Volume of all outlines: layer areas times layer height, overlaps counted once."""
        return float(self.layers.area_mm2.sum()) * self.layers.layer_mm

    @property
    def unheld(self) -> int:
        """How many patches that are to be held are not; of stilts, islands."""
        if not self.patches:
            return len(self.unheld_islands)
        return sum(not patch.held for patch in self.patches if patch.style != "none")

    @property
    def bare(self) -> tuple[Bare, ...]:
        """Patches that are to be held and that the check found without, each with why."""
        lines = {patch.id: patch for patch in self.patches if patch.style != "none"}
        return tuple(
            Bare(f.patch, f.at_mm, lines[f.patch].area_mm2, f.words)
            for f in self.faults
            if f.kind == FaultKind.NOT_HELD and f.patch in lines
        )

    @cached_property
    def contact_mm2(self) -> float:
        """Area of the part that supports touch."""
        return sum(s.contact_mm2 for s in self.supports)

    @cached_property
    def stilts(self) -> tuple[Stilt, ...]:
        """Those of the supports that are stilts."""
        return tuple(s for s in self.supports if isinstance(s, Stilt))

    @property
    def joined(self) -> int:
        """How many stilts stand on the shaft of another."""
        return sum(bool(one.stands_on) for one in self.stilts)

    @property
    def by_size(self) -> dict[str, int]:
        """How many stilts there are of each size."""
        return dict(Counter(s.size for s in self.stilts))

    @property
    def marks_seen(self) -> float:
        """How many marks of stilts are seen: each counts by the share of the sides that it is seen from."""
        return float(sum(one.seen for one in self.stilts))

    @property
    def weakest(self) -> tuple[Stilt, ...]:
        """Stilts by how near their tips come to what they bear, the nearest first."""
        loaded = [s for s in self.stilts if s.load_n > 0]
        return tuple(sorted(loaded, key=lambda s: s.bears_n / s.load_n))

    @cached_property
    def shells(self) -> tuple[Mesh, ...]:
        """The shell of each support, to look at.

        Columns with very many corners are drawn in bands of several layers, so that a browser can turn them.
        """
        columns = [s for s in self.supports if isinstance(s, Column)]
        corners = sum(len(ring) for c in columns for slab in c.slabs for ring in slab.rings)
        band = math.ceil(corners / SEEN_CORNERS) * self.layers.layer_mm if corners > SEEN_CORNERS else 0.0
        return tuple(
            concatenated([Solid(body).mesh() for body in s.manifolds(SEEN_MM, band)])
            if isinstance(s, Column)
            else s.mesh()
            for s in self.supports
        )

    def view_mesh(self) -> Mesh:
        """Shells of all supports side by side."""
        return concatenated([*self.shells, *(one.mesh() for one in self.braces)])

    @property
    def frusta(self) -> NDArray[np.float64] | None:
        """Stilts and braces (n, 9) as frusta to draw many times, or ``None`` where there is something else.

        Each is x, y, z and radius, mm, of its lower and of its upper circle, and a sum: 1 where it is a
        brace, whose circles are ellipses along it, 2 and 4 where its lower and its upper end is closed. Those
        of a stilt lie one after another, in the order of the stilts; those of braces come last.
        """
        if len(self.stilts) != len(self.supports):
            return None
        rows = []
        for one in self.stilts:
            closed = np.zeros(len(one.circles) - 1)
            closed[0] += LOW_END
            closed[-1] += HIGH_END
            rows.append(np.column_stack([one.circles[:-1], one.circles[1:], closed]))
        for bar in self.braces:
            low, high = (np.append(end, bar.radius_mm) for end in bar.ends_mm)
            rows.append(np.concatenate([low, high, [BAR + LOW_END + HIGH_END]])[None])
        return np.concatenate(rows) if rows else np.zeros((0, 9))

    def drawn_facets(self) -> list[int]:
        """How many facets of each support are drawn: stilts as closed frusta, all else as shells."""
        if self.frusta is not None:
            return [len(PRISM) * (len(one.circles) - 1) for one in self.stilts]
        return [len(shell.faces) for shell in self.shells]

    @cached_property
    def interface_mm3(self) -> float:
        """Volume of the solid interfaces of lines and grids."""
        return sum(
            float(slab.section.area()) * (slab.high_mm - slab.low_mm) for slab in self._slabs if slab.solid
        )

    def thick_mm3(self, every: int) -> float:
        """Volume of walls that are printed in every so many layers, as much thicker."""
        if every <= 1:
            return 0.0
        least = every * self.layers.layer_mm - 1e-6
        return sum(
            float(slab.section.area()) * (slab.high_mm - slab.low_mm)
            for slab in self._slabs
            if not slab.solid and slab.high_mm - slab.low_mm >= least
        )

    @property
    def _slabs(self) -> list[Slab]:
        return [slab for s in self.supports if isinstance(s, Column) for slab in s.slabs]

    def _levels(self, without: dict[int, list[NDArray[np.float64]]] | None = None) -> list[Mesh]:
        """What is printed, level by level, less some rings; levels with one outline are one shell."""
        h = self.layers.layer_mm
        taken = without or {}
        shells = []
        level = 0
        while level < len(self.layers):
            end = level + 1
            while end < len(self.layers) and self.layers.same_as_below(end):
                if taken.get(end) is not taken.get(level):
                    break
                end += 1
            section = self.layers.section(level)
            if level in taken:
                section = section - CrossSection(taken[level], FillRule.NonZero)
            if not section.is_empty():
                shells.append(Solid(section.extrude((end - level) * h).translate((0, 0, level * h))).mesh())
            level = end
        return shells

    def parted_meshes(self) -> tuple[Mesh, Mesh]:
        """What is handed off in two: walls and branches, and the solid interfaces, for another material."""
        h = self.layers.layer_mm
        solid: dict[int, list[NDArray[np.float64]]] = {}
        for slab in self._slabs:
            if slab.solid:
                for level in range(round(slab.low_mm / h), round(slab.high_mm / h)):
                    solid.setdefault(level, []).extend(slab.rings)
        interface = []
        for level, rings in sorted(solid.items()):
            body = CrossSection(rings, FillRule.NonZero).extrude(h).translate((0, 0, level * h))
            interface.append(Solid(body).mesh())
        return concatenated(self._levels(solid)), concatenated(interface)

    def handoff_mesh(self) -> Mesh:
        """All supports as closed shells, to hand off.

        Stilts are united. What else there is leaves as the levels that are printed, each outline a shell that
        stands on the one below: uniting them costs minutes on a large part, and any program that reads the
        file fills them alike.
        """
        stilts = [body for s in self.stilts for body in s.manifolds()]
        if stilts:
            bars = [body for one in self.braces for body in one.manifolds()]
            return Solid(union([*stilts, *bars])).mesh()
        return concatenated(self._levels())


def shifted(support: Column | Branches, x_mm: float, y_mm: float) -> Column | Branches:
    """Return a support moved in plan."""
    x, y, z = support.touch_mm
    touch = (x + x_mm, y + y_mm, z)
    if isinstance(support, Branches):
        return replace(support, touch_mm=touch, nodes=support.nodes + [x_mm, y_mm, 0.0, 0.0])
    slabs = tuple(
        replace(slab, rings=tuple(ring + [x_mm, y_mm] for ring in slab.rings)) for slab in support.slabs
    )
    return replace(support, touch_mm=touch, slabs=slabs)

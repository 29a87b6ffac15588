"""True outlines from above: what is printed of an item, with every bay and hole of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType, OpType
from numpy.typing import NDArray

from ..layers.stack import LayerStack, Rings, packed
from ..tags import stored

# The outline of a layer is thinned by this before it is united with others, by a quarter of it once more.
THINNED_MM = 0.01
# So an outline lies no further than this from what is printed.
OUTLINE_MM = 0.02
# Outlines are also kept for slices of the height, no more of them than this and none thinner.
SLICES, SLICE_MM = 16, 2.0


@stored("outline-slice")
@dataclass(frozen=True, eq=False)
class Slice:
    """What is printed between two heights, from above.

    Attributes
    ----------
    low_mm, high_mm : float
        From the plate.
    points : (P, 2) float64, mm
        Corners of all rings, one after the other.
    ring_start : (R + 1,) int64
        Where each ring begins; outer rings run counter-clockwise, holes clockwise.
    """

    low_mm: float
    high_mm: float
    points: NDArray[np.float64]
    ring_start: NDArray[np.int64]

    @cached_property
    def section(self) -> CrossSection:
        """As a plan."""
        return _section((self.points, self.ring_start))


@stored("outline")
@dataclass(frozen=True, eq=False)
class Outline:
    """All that is printed of an item from above, in its own frame.

    Attributes
    ----------
    points : (P, 2) float64, mm
        Corners of all rings, one after the other; outer rings run counter-clockwise, holes clockwise.
    ring_start : (R + 1,) int64
        Where each ring begins.
    high_mm : float
        Top of all that is printed.
    slices : tuple of Slice
        The same by height, from below; neighbours begin where the one below ends.
    """

    points: NDArray[np.float64]
    ring_start: NDArray[np.int64]
    high_mm: float
    slices: tuple[Slice, ...] = ()

    @property
    def rings(self) -> list[NDArray[np.float64]]:
        """Rings (k, 2)."""
        return np.split(self.points, self.ring_start[1:-1]) if len(self.points) else []

    @cached_property
    def section(self) -> CrossSection:
        """As a plan."""
        return _section((self.points, self.ring_start))

    @cached_property
    def area_mm2(self) -> float:
        """What it covers of a plate."""
        return float(self.section.area())

    def turned(self, swing_deg: float) -> CrossSection:
        """The plan swung about the item's own origin, counter-clockwise."""
        return self.section.rotate(swing_deg) if swing_deg else self.section


def _section(rings: Rings) -> CrossSection:
    points, starts = rings
    if not len(points):
        return CrossSection()
    return CrossSection(np.split(points, starts[1:-1]), FillRule.NonZero)


def _rings(plan: CrossSection) -> Rings:
    return packed([np.asarray(ring, np.float64) for ring in plan.to_polygons()])


def of_plan(plan: CrossSection, high_mm: float) -> Outline:
    """A plan of one height as an outline."""
    rings = _rings(plan)
    return Outline(*rings, high_mm, (Slice(0.0, high_mm, *rings),))


def outline_of(stacks: Sequence[tuple[LayerStack, float]], high_mm: float) -> Outline:
    """Unite all layers of what is printed of an item.

    Parameters
    ----------
    stacks : sequence of (LayerStack, float)
        Each with what it is raised by, mm.
    high_mm : float
        Top of all of them.
    """
    step = max(SLICE_MM, high_mm / SLICES)
    plans: list[list[CrossSection]] = [[] for _ in range(max(1, math.ceil(high_mm / step - 1e-9)))]
    for stack, raised in stacks:
        below = stack.base_mm + raised
        for level in range(len(stack)):
            # A layer is in the slice of its middle, and at its ends in the one beyond as well.
            low, high = below + level * stack.layer_mm, below + (level + 1) * stack.layer_mm
            first, last = (min(max(0, int(z / step)), len(plans) - 1) for z in (low + 1e-6, high - 1e-6))
            if first == last and stack.same_as_below(level) and (low - stack.layer_mm) >= first * step - 1e-6:
                continue
            plan = stack.section(level).simplify(THINNED_MM)
            for k in range(first, last + 1):
                plans[k].append(plan)
    united = [
        CrossSection.batch_boolean(some, OpType.Add).simplify(THINNED_MM / 4) if some else CrossSection()
        for some in plans
    ]
    whole = CrossSection.batch_boolean(united, OpType.Add).simplify(THINNED_MM / 4)
    slices = tuple(
        Slice(k * step, min((k + 1) * step, high_mm), *_rings(plan)) for k, plan in enumerate(united)
    )
    return Outline(*_rings(whole), high_mm, slices)


NOTHING = of_plan(CrossSection(), 0.0)


def boxed(outline: Outline) -> Outline:
    """The box round an outline."""
    if not len(outline.points):
        return outline
    (x0, y0), (x1, y1) = outline.points.min(axis=0).tolist(), outline.points.max(axis=0).tolist()
    return of_plan(CrossSection.square([x1 - x0, y1 - y0]).translate([x0, y0]), outline.high_mm)


def grown(plan: CrossSection, by_mm: float) -> CrossSection:
    """A plan and all that is nearer to it than so much; its round corners lie outside the true ones."""
    if by_mm <= 0:
        return plan
    sides = 64
    return plan.offset(by_mm / math.cos(math.pi / sides), JoinType.Round, circular_segments=sides)

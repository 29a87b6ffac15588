"""Layers of stilts and their braces."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ...layers.stack import LayerStack, packed
from ...progress import Progress, tracked
from ..rings import CIRCLE
from .outline_groups import alike, assembled, cuts_of, groups, outlines_of, rings_of_groups, same_levels
from .stilt import Brace, Stilt

# What layers were made of that hands changed: they will change them again.
_plans: WeakKeyDictionary[LayerStack, _Plan] = WeakKeyDictionary()
Standing = tuple[Sequence[Stilt], Sequence[Brace]]


def stilt_layers(
    stilts: Sequence[Stilt],
    braces: Sequence[Brace],
    stack: LayerStack,
    progress: Progress,
    *,
    before: tuple[LayerStack, Standing] | None = None,
) -> LayerStack:
    """Outlines of stilts and braces on the layers of a part, counted from the plate; what meets is united.

    Parameters
    ----------
    stilts : sequence of Stilt
    braces : sequence of Brace
    stack : LayerStack
        Of the part, lifted or not.
    progress : Progress
    before : (LayerStack, (sequence of Stilt, sequence of Brace)), optional
        The layers that others had on the same part: what meets there as here is not united again.

    Returns
    -------
    LayerStack
        The same with and without ``before``, to the bit.
    """
    h = stack.layer_mm
    heights = np.arange(0.5, len(stack) + round(stack.base_mm / h)) * h
    known, old = _nothing(heights), None
    if before is not None and len(before[0]) == len(heights):
        # What is read from memory cannot be written: so there is one kind of it to compile for.
        known = replace(
            before[0],
            area_mm2=_fixed(before[0].area_mm2),
            points=_fixed(before[0].points),
            ring_start=_fixed(before[0].ring_start),
            layer_start=_fixed(before[0].layer_start),
        )
        old = _plans.get(before[0]) or _Plan.of(*before[1], heights)
    plan = _Plan.of(stilts, braces, heights, old)
    count = len(plan.first) - 1
    old_rings, taken = np.zeros((0, 2), np.int64), np.full(count, -1, np.int64)
    if old is not None:
        packed_rings = known.points, known.ring_start, known.layer_start
        old_rings, sure = rings_of_groups(*packed_rings, old.start, old.grouped[1], *old.groups, plan.same)
        taken = alike(plan.grouped[0], *plan.groups, old.grouped[0], *old.groups, 0)
        some = np.flatnonzero(taken >= 0)
        taken[some[~sure[taken[some]]]] = -1
    below = alike(plan.grouped[0], *plan.groups, plan.grouped[0], *plan.groups, 1)
    made: list[NDArray[np.float64]] = []
    ranges = np.zeros((count, 2), np.int64)
    first, is_taken = plan.first.tolist(), taken >= 0
    for k in tracked(np.flatnonzero(~is_taken).tolist(), "Layers of the stilts", progress, every=512):
        if below[k] >= 0 and not is_taken[below[k]]:
            ranges[k] = ranges[below[k]]
            continue
        outlines = outlines_of(plan.grouped[0][first[k] : first[k + 1]], CIRCLE)
        rings = CrossSection(list(outlines), FillRule.NonZero).to_polygons()
        ranges[k] = len(made), len(made) + len(rings)
        made += rings
    united, united_start = (_fixed(one) for one in packed(made))
    points, ring_start, layer_start, areas = assembled(
        plan.cuts, plan.start, plan.group, plan.group_start, taken, ranges, united, united_start,
        known.points, known.ring_start, known.layer_start, known.area_mm2, old_rings, plan.same, CIRCLE,
    )  # fmt: skip
    layers = LayerStack(h, 0.0, areas, points, ring_start, layer_start, 0)
    if before is not None:
        _plans[layers] = plan
    return layers


def _fixed(array: NDArray[Any]) -> NDArray[Any]:
    """The same array, not to be written."""
    view = array.view()
    view.setflags(write=False)
    return view


def _nothing(heights: NDArray[np.float64]) -> LayerStack:
    """Layers (k,) with nothing in them."""
    count = len(heights)
    starts = _fixed(np.zeros(1, np.int64)), _fixed(np.zeros(count + 1, np.int64))
    return LayerStack(1.0, 0.0, _fixed(np.zeros(count)), _fixed(np.zeros((0, 2))), *starts, 0)


@dataclass(frozen=True, eq=False)
class _Plan:
    """What stilts and braces are in each level.

    Attributes
    ----------
    cuts : (n, 6) float64
        Level by level, as of ``cuts_of``.
    start : (k + 1,) int64
        Where those of each level begin.
    group : (n,) int64
        What may meet has one number, counted on from level to level; -1 for what meets nothing.
    group_start : (k + 1,) int64
        Where the groups of each level begin.
    first : (g + 1,) int64
        Where each group begins in ``grouped``.
    grouped : (m, 6) float64 and (m, 4) float64
        Cuts group by group, and their boxes of x0, y0, x1, y1.
    same : (k,) bool
        Levels in which all is as in the plan that this was made after.
    """

    cuts: NDArray[np.float64]
    start: NDArray[np.int64]
    group: NDArray[np.int64]
    group_start: NDArray[np.int64]
    first: NDArray[np.int64]
    grouped: tuple[NDArray[np.float64], NDArray[np.float64]]
    same: NDArray[np.bool_]

    @property
    def groups(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Where the groups of each level begin (k + 1,), and each group in ``grouped`` (g + 1,)."""
        return self.group_start, self.first

    @classmethod
    def of(
        cls,
        stilts: Sequence[Stilt],
        braces: Sequence[Brace],
        heights: NDArray[np.float64],
        after: _Plan | None = None,
    ) -> _Plan:
        """Those of stilts and braces at heights (k,); what is the same as in another plan is of that."""
        rows = np.concatenate([np.zeros((0, 4)), *(one.circles for one in stilts)])
        begins = np.cumsum([0] + [len(one.circles) for one in stilts]).astype(np.int64)
        ends = np.array([one.ends_mm for one in braces], np.float64).reshape(-1, 2, 3)
        radius = np.array([one.radius_mm for one in braces], np.float64)
        cuts, boxes, start = cuts_of(rows, begins, ends, radius, heights, CIRCLE)
        if after is None:
            same, others = np.zeros(len(heights), np.bool_), (np.zeros(0, np.int64), start, start)
        else:
            same = same_levels(cuts, start, after.cuts, after.start)
            others = after.group, after.start, after.group_start
        group, group_start = groups(boxes, start, same, *others)
        order = np.flatnonzero(group >= 0)
        order = order[np.argsort(group[order], kind="stable")]
        first = np.searchsorted(group[order], np.arange(group_start[-1] + 1)).astype(np.int64)
        return cls(cuts, start, group, group_start, first, (cuts[order], boxes[order]), same)

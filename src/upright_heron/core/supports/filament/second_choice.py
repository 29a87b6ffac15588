"""What one style of supports leaves bare, and what holds it instead."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ...layers.stack import LayerStack, pack
from ..checks.verify import holding_rings, levels_of, not_held
from ..demand.patches import Patch, Spot
from ..model import Branches, Column, SupportSettings
from ..outlines import Ring, branch_rings
from ..support_set import SupportSet
from .branches import BESIDE
from .descent import plan_distance
from .single_posts import post_below
from .tips import below_slopes, tips_of

Supports = Sequence[Column | Branches]


def left_bare(
    stack: LayerStack,
    asked: Sequence[Patch],
    supports: Supports,
    settings: SupportSettings,
    lost: Mapping[str, str] | None = None,
) -> list[Patch]:
    """Patches that the check would find without support.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    asked : sequence of Patch
    supports : sequence of Column or Branches
    settings : SupportSettings
    lost : mapping of patch id to words, optional
        Why something of a patch may not be held: all of its places are looked for then.

    Returns
    -------
    list of Patch
        In their order.
    """
    if not asked:
        return []
    there = SupportSet((), _layers(stack, asked, supports, settings), 0.0, ())
    bare = {fault.patch for fault in not_held(stack, asked, there, settings, lost or {})}
    return [patch for patch in asked if patch.id in bare]


def held_tips(
    stack: LayerStack, bare: Sequence[Patch], columns: Supports, settings: SupportSettings, part: Tree
) -> NDArray[np.float64]:
    """Places (k, 3) of tips of some patches that columns stand below: nothing has to be put there."""
    layers = _layers(stack, bare, columns, settings)
    found = []
    for patch in bare:
        tips = np.array(tips_of(patch, stack, settings, settings.spacing_mm, part)).reshape(-1, 3)
        levels = np.floor(tips[:, 2] / stack.layer_mm + 1e-6).astype(np.int64) - 1
        for level in np.unique(levels).tolist():
            here = tips[levels == level]
            below = layers.rings(level) if 0 <= level < len(layers) else []
            rings = holding_rings(patch, CrossSection(below, FillRule.NonZero)) if below else []
            if rings:
                within = BESIDE * settings.spacing_mm
                found.append(here[plan_distance(rings, here[:, :2], within + 0.1) <= within])
    return np.concatenate(found) if found else np.zeros((0, 3))


def posts_below(
    stack: LayerStack,
    bare: Sequence[Patch],
    there: Supports,
    settings: SupportSettings,
    part: Tree,
    clear: Sequence[CrossSection | None] | None = None,
) -> list[Branches]:
    """Single posts right where the check finds some patches bare, of those that they hold.

    ``there`` are the supports that leave them bare; the rest is as for ``left_bare``.
    """
    found: list[Branches] = []
    for patch in bare:
        added: list[Branches] = []
        for tip in _probed(patch, stack, settings, part):
            near = (math.dist(tip, post.touch_mm) for post in added)
            if min(near, default=math.inf) > 0.5 * settings.spacing_mm:
                post = post_below(patch, tip, stack, settings, clear=clear)
                added += [post] if post is not None else []
        if added and not left_bare(stack, [patch], [*there, *added], settings):
            found += added
    return found


def _probed(patch: Patch, stack: LayerStack, settings: SupportSettings, part: Tree) -> list[Spot]:
    """Tips below the places of a patch that the check looks at."""
    gap = settings.gap_layers(stack.layer_mm) * stack.layer_mm
    tips = [
        (x, y, stack.bottom_mm(layer) - gap)
        for (layer, _), points in sorted(patch.probes.items())
        for x, y in points.tolist()
    ]
    ends = below_slopes(np.array(tips).reshape(-1, 3), part, settings, stack.layer_mm).ends_mm
    return [(x, y, z) for x, y, z in ends.tolist() if z > stack.layer_mm]


def _layers(
    stack: LayerStack, asked: Sequence[Patch], supports: Supports, settings: SupportSettings
) -> LayerStack:
    """Outlines of supports side by side, in the levels only that the check looks at for some patches."""
    h = stack.layer_mm
    count = len(stack) + round(stack.base_mm / h)
    wanted = np.zeros(count + 1, np.int64)
    for patch in asked:
        levels = levels_of(patch, stack, settings)
        wanted[[level for level in levels if 0 <= level < count]] = 1
    before = np.concatenate([[0], np.cumsum(wanted)])

    def any_between(low_mm: NDArray[np.float64], high_mm: NDArray[np.float64]) -> NDArray[np.bool_]:
        first = np.clip(np.floor(low_mm / h).astype(np.int64) - 1, 0, count)
        last = np.clip(np.ceil(high_mm / h).astype(np.int64) + 1, 0, count)
        found: NDArray[np.bool_] = before[last + 1] > before[first]
        return found

    rings: list[list[Ring]] = [[] for _ in range(count)]
    for support in supports:
        if isinstance(support, Column):
            for slab in support.slabs:
                for level in _of(wanted, round(slab.low_mm / h), round(slab.high_mm / h)):
                    rings[level].extend(slab.rings)
            continue
        upper = np.flatnonzero(support.down >= 0)
        lower = support.down[upper]
        near = upper[any_between(support.nodes[lower, 2], support.nodes[upper, 2])]
        if len(near):
            for level, some in branch_rings(support, count, h, settings, near).items():
                if wanted[level]:
                    rings[level].extend(some)
    return pack(rings, [0.0] * count, h, 0.0)


def _of(wanted: NDArray[np.int64], first: int, end: int) -> Collection[int]:
    found: list[int] = (first + np.flatnonzero(wanted[first:end])).tolist()
    return found

"""Small bits of lines and grids that would begin in mid-air are left out: what they join stands elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache

import numpy as np
from manifold3d import CrossSection, FillRule, OpType

from ...layers.layer_components import Pieces, links, pieces
from ...layers.stack import LayerStack
from ..checks.verify import STEP_MM, leans_on, rests, stands_on
from ..model import Branches, Column, Slab, SupportSettings

# Outlines of a layer are united from those of the columns: so much wider a bit is cut out of them.
WIDER_MM = 0.01

Box = tuple[float, float, float, float]
# Bits that stand on nothing, with their boxes, by level.
Loose = dict[int, list[tuple[CrossSection, Box]]]


def without_loose_bits(
    supports: Sequence[Column | Branches], layers: LayerStack, stack: LayerStack, settings: SupportSettings
) -> list[Column | Branches] | None:
    """Leave out what stands on nothing until it joins what stands.

    Parameters
    ----------
    supports : sequence of Column or Branches
    layers : LayerStack
        Theirs, from the plate.
    stack : LayerStack
        Of the part, lifted or not.
    settings : SupportSettings

    Returns
    -------
    list of Column or Branches, or None
        ``None`` where nothing changes. Branches stay as they are.

    Notes
    -----
    Over a rounded top the outline of a column begins as a sliver that no machine draws; where it has become
    wide enough the surface below has gone down. What it was to hold is told as not held, where nothing else
    holds it: a strip that a machine draws into the air holds nothing either.
    """
    loose = _loose(pieces(layers), layers, stack, settings)
    if not loose:
        return None
    found = [_without(s, loose, layers.layer_mm) if isinstance(s, Column) else s for s in supports]
    changed = any(new is not old for new, old in zip(found, supports, strict=True))
    return [s for s in found if s is not None] if changed else None


def _box(slab: Slab) -> Box:
    every = np.concatenate(slab.rings)
    (x0, y0), (x1, y1) = every.min(axis=0).tolist(), every.max(axis=0).tolist()
    return x0, y0, x1, y1


def _loose(found: Pieces, layers: LayerStack, stack: LayerStack, settings: SupportSettings) -> Loose:
    """What is loose, bit by bit, by level."""
    pairs = links(found)
    pairs = pairs[np.argsort(pairs[:, 0], kind="stable")]
    begin = np.searchsorted(pairs[:, 0], np.arange(len(found) + 1))
    # For how many levels what is below each piece has stood on nothing; 0 where it stands.
    run = np.zeros(len(found), np.int64)
    # Many pieces of a level ask for the same sections.
    of_part = lru_cache(64)(stack.section)
    standing = stands_on(found, pairs)
    for level in range(1, len(layers)):
        a, b = int(found.start[level]), int(found.start[level + 1])
        firm = standing[a:b]
        if run[found.start[level - 1] : a].any():
            stays = pairs[begin[a] : begin[b]]
            on = np.bincount(stays[:, 0] - a, run[stays[:, 1]] == 0, minlength=b - a)
            firm = firm & (on > 0)
        for k in (np.flatnonzero(~firm) + a).tolist():
            section = found.section(k)
            carrying = found.section(*(n for n in found.below(k, STEP_MM) if not run[n]))
            if leans_on(section, carrying) or rests(stack, section, level, settings, of_part):
                continue
            under = pairs[begin[k] : begin[k + 1], 1]
            run[k] = 1 + (int(run[under].max()) if len(under) else 0)
    loose: Loose = {}
    for k in np.flatnonzero(run).tolist():
        # A little wider than it is.
        bit = found.section(k).offset(WIDER_MM)
        loose.setdefault(int(found.layer[k]), []).append((bit, bit.bounds()))
    return loose


def _over(bits: Sequence[tuple[CrossSection, Box]], box: Box) -> CrossSection | None:
    """Bits whose boxes meet a box, together; ``None`` where there are none."""
    near = [
        bit
        for bit, own in bits
        if own[0] <= box[2] and own[2] >= box[0] and own[1] <= box[3] and own[3] >= box[1]
    ]
    return CrossSection.batch_boolean(near, OpType.Add) if near else None


def _without(column: Column, loose: Loose, h: float) -> Column | None:
    """A column without what is loose of it: itself where nothing is, ``None`` where all of it is."""
    slabs: list[Slab] = []
    # Slabs may lie over each other: what is gone of a level is counted once.
    touched: dict[int, list[CrossSection]] = {}
    for slab in column.slabs:
        low, high = round(slab.low_mm / h), round(slab.high_mm / h)
        section, box = None, _box(slab)
        for level in range(low, high):
            cut = _over(loose.get(level, ()), box)
            if cut is None:
                continue
            section = section or CrossSection(list(slab.rings), FillRule.NonZero)
            left = section - cut
            gone = float(section.area() - left.area())
            if gone < 1e-6:
                continue
            touched.setdefault(level, []).append(section)
            if level > low:
                slabs.append(replace(slab, low_mm=low * h, high_mm=level * h))
            if not left.is_empty():
                rings = tuple(left.to_polygons())
                slabs.append(replace(slab, low_mm=level * h, high_mm=(level + 1) * h, rings=rings))
            low = level + 1
        if low < high:
            slabs.append(slab if low * h <= slab.low_mm + h / 2 else replace(slab, low_mm=low * h))
    if not touched:
        return column
    less = 0.0
    for level, sections in touched.items():
        whole = CrossSection.batch_boolean(sections, OpType.Add)
        cut = _over(loose[level], whole.bounds())
        less += float(whole.area() - (whole - cut).area()) if cut is not None else 0.0
    if not slabs:
        return None
    slabs.sort(key=lambda slab: (slab.high_mm, slab.low_mm))
    return replace(column, slabs=tuple(slabs), volume_mm3=max(column.volume_mm3 - less * h, 0.0))

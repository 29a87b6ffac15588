"""Supports put together: their layers, what the check finds in them, and single ones put in or taken out."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ...layers.stack import LayerStack, pack, spliced
from ...progress import Progress, silent
from ..checks.verify import faults_of, not_held, verify
from ..demand.patches import UPRIGHT, Patch, Style, proposed_style
from ..model import Branches, Column, SupportSettings
from ..outlines import Known, branch_rings, level_outlines, overlapping_runs, rings_of
from ..support_set import Fault, FaultKind, PatchLine, SupportSet
from .loose import without_loose_bits

Asked = Sequence[tuple[Patch, Style]]
Sections = Sequence[CrossSection | None]
# What a union leaves behind where outlines ran along each other.
CRUMB_MM2 = 1e-3
# Patches so far aside of a change are looked at again.
NEAR_MM = 4.0


def finished(
    stack: LayerStack,
    asked: Asked,
    supports: Sequence[Column | Branches],
    settings: SupportSettings,
    *,
    clear: Sections | None = None,
    lost: Mapping[str, str] | None = None,
    known: Known | None = None,
    progress: Progress = silent,
) -> SupportSet:
    """Put supports together and check them.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    asked : sequence of (Patch, Style)
        ``Style.NONE`` leaves a patch without.
    supports : sequence of Column or Branches
    settings : SupportSettings
    clear : sequence of CrossSection or None, optional
        By level from the plate: where nothing may pass.
    lost : mapping of patch id to words, optional
        Why something may not be held.
    known : Known, optional
        What is united of them already.
    progress : Progress

    Returns
    -------
    SupportSet
    """
    wanted = [patch for patch, style in asked if style is not Style.NONE]
    supports, layers = settled(stack, supports, settings, known or Known(), progress)
    made = SupportSet(tuple(supports), layers, 0.0, ())
    faults = verify(stack, wanted, made, settings, clear=clear, lost=lost, progress=progress)
    return _told(made, asked, faults, lost or {})


def settled(
    stack: LayerStack,
    supports: Sequence[Column | Branches],
    settings: SupportSettings,
    known: Known,
    progress: Progress = silent,
) -> tuple[Sequence[Column | Branches], LayerStack]:
    """Supports without what would begin in mid-air, and their layers from the plate."""
    levels = len(stack) + round(stack.base_mm / stack.layer_mm)
    while True:
        rings, areas = level_outlines(supports, levels, stack.layer_mm, settings, progress, known)
        layers = pack(rings, areas, stack.layer_mm, 0.0)
        left = without_loose_bits(supports, layers, stack, settings)
        if left is None:
            return supports, layers
        supports = left


def _lines(
    asked: Asked, made: SupportSet, bare: Collection[str], lost: Mapping[str, str]
) -> tuple[PatchLine, ...]:
    """Patches as they are listed, those left bare not held; and what holds them besides what was asked."""
    others: dict[str, set[str]] = {}
    for support in made.supports:
        if isinstance(support, Column | Branches) and not support.hand:
            for held in support.patches:
                others.setdefault(held, set()).add(support.style)
    lines = []
    for patch, style in asked:
        proposed, why = proposed_style(patch)
        upright = style in UPRIGHT
        added = [s for s in others.get(patch.id, ()) if s and (s in UPRIGHT) != upright]
        if added and style is not Style.NONE:
            what, by = ("lines", "branches") if upright else ("branches", "lines")
            why = f"{what} leave some of it bare: {by} hold that"
        elif style is not proposed:
            why = ""
        lines.append(
            PatchLine(
                patch.id, patch.reason, style.value, why, patch.area_mm2,
                patch.at_mm, style is not Style.NONE and patch.id not in bare, lost.get(patch.id, ""),
            )
        )  # fmt: skip
    return tuple(lines)


def _told(made: SupportSet, asked: Asked, faults: Sequence[Fault], lost: Mapping[str, str]) -> SupportSet:
    """Add what follows from the faults: which patches are held, which islands are not."""
    bare = {fault.patch for fault in faults if fault.kind == FaultKind.NOT_HELD}
    wanted = [patch for patch, style in asked if style is not Style.NONE]
    islands = tuple(number for patch in wanted if patch.id in bare for number in patch.islands)
    lines = _lines(asked, made, bare, lost)
    area = sum(patch.area_mm2 for patch in wanted if patch.id not in bare)
    ordered = sorted(faults, key=lambda f: (round(f.at_mm[2], 3), f.kind))
    return replace(made, held_area_mm2=area, unheld_islands=islands, patches=lines, faults=tuple(ordered))


def edited(
    made: SupportSet,
    stack: LayerStack,
    asked: Asked,
    out: Collection[str],
    put: Sequence[Column | Branches],
    settings: SupportSettings,
    *,
    clear: Sections | None = None,
    lost: Mapping[str, str] | None = None,
) -> SupportSet:
    """Take single supports out and put others in; nothing else is touched.

    Parameters
    ----------
    made : SupportSet
        Checked, as from ``finished``.
    stack : LayerStack
    asked : sequence of (Patch, Style)
        As for ``finished``.
    out : collection of str
        Ids that go.
    put : sequence of Column or Branches
        That come.
    settings : SupportSettings
    clear : sequence of CrossSection or None, optional
    lost : mapping of patch id to words, optional
        As for ``finished``.

    Returns
    -------
    SupportSet
        What ``finished`` would give for the same supports; only the levels that change are united again,
        and only what is near a change is checked again.
    """
    gone = [s for s in made.supports if s.id in out and isinstance(s, Column | Branches)]
    kept = [s for s in made.supports if s.id not in out]
    # Locking changes nothing of the shape.
    before, after = {_shape(s) for s in gone}, {_shape(s) for s in put}
    moved_in = [s for s in put if _shape(s) not in before]
    moved_out = [s for s in gone if _shape(s) not in after]
    supports = tuple(sorted([*kept, *put], key=order))
    if not moved_in and not moved_out:
        return replace(made, supports=supports)
    layers = _relayered(made, kept, moved_out, moved_in, settings)
    result = replace(made, supports=supports, layers=layers)
    near = _near(asked, [*moved_out, *moved_in])

    def touched(fault: Fault) -> bool:
        if fault.kind == FaultKind.NOT_HELD:
            return fault.patch in near
        return _of(fault, moved_out, settings, layers)

    old = [fault for fault in made.faults if not touched(fault)]
    wanted = [patch for patch, style in asked if style is not Style.NONE and patch.id in near]
    fresh = not_held(stack, wanted, result, settings, lost or {}, clear)
    for support in moved_in:
        if isinstance(support, Branches):
            fresh += faults_of(support, stack, settings, clear)
    return _told(result, asked, [*old, *fresh], lost or {})


def _shape(support: Column | Branches) -> int:
    return id(support.slabs) if isinstance(support, Column) else id(support.nodes)


def order(support: object) -> tuple[object, ...]:
    """How supports are listed: columns first, then by id and place."""
    assert isinstance(support, Column | Branches)
    return (not isinstance(support, Column), support.id, support.touch_mm)


def _relayered(
    made: SupportSet,
    kept: Sequence[object],
    out: Sequence[Column | Branches],
    put: Sequence[Column | Branches],
    settings: SupportSettings,
) -> LayerStack:
    """Unite again the levels that change, near the change."""
    layers = made.layers
    count, h = len(layers), layers.layer_mm
    minus, plus = ([rings_of(s, count, h, settings) for s in some] for some in (out, put))
    boxes = []
    for rings in (*minus, *plus):
        corners = [ring for level in rings.values() for ring in level]
        if corners:
            every = np.concatenate(corners)
            boxes.append(np.concatenate([every.min(axis=0), every.max(axis=0)]))
    if not boxes:
        return layers
    whole = np.array(boxes)
    low, high = whole[:, :2].min(axis=0), whole[:, 2:].max(axis=0)
    beside = _beside(kept, out, low, high, count, h, settings) if out else []
    changed: dict[int, tuple[list[NDArray[np.float64]], float]] = {}
    lows, highs = layers.ring_boxes
    for level in sorted({level for rings in (*minus, *plus) for level in rings}):
        takes = [ring for rings in minus for ring in rings.get(level, ())]
        gives = [ring for rings in plus for ring in rings.get(level, ())]
        own = np.concatenate([*takes, *gives])
        a, b = layers.layer_start[level], layers.layer_start[level + 1]
        over = (lows[a:b] <= own.max(axis=0)).all(axis=1) & (highs[a:b] >= own.min(axis=0)).all(axis=1)
        near: list[NDArray[np.float64]] = []
        far: list[NDArray[np.float64]] = []
        for ring, reaches in zip(layers.rings(level), over.tolist(), strict=True):
            (near if reaches else far).append(ring)
        section = CrossSection(near, FillRule.NonZero) if near else CrossSection()
        before = float(section.area())
        if takes:
            taken = CrossSection(takes, FillRule.NonZero)
            others = [ring for rings in beside for ring in rings.get(level, ())]
            section = section - taken
            if others:
                section = section + (CrossSection(others, FillRule.NonZero) ^ taken)
        if gives:
            section = section + CrossSection(gives, FillRule.NonZero)
        fresh = [r for r in section.to_polygons() if abs(_ring_area(r)) > CRUMB_MM2]
        # Of what is kept, as where all are united at once.
        area = float(layers.area_mm2[level]) - before + sum(map(_ring_area, fresh))
        changed[level] = (far + fresh, max(area, 0.0))
    return spliced(layers, changed)


def _beside(
    kept: Sequence[object],
    out: Sequence[Column | Branches],
    low: NDArray[np.float64],
    high: NDArray[np.float64],
    count: int,
    layer_mm: float,
    settings: SupportSettings,
) -> list[dict[int, list[NDArray[np.float64]]]]:
    """Rings of what stays where it may share a place with what goes."""
    trees = [s for s in out if isinstance(s, Branches)]
    found = []
    for support in kept:
        if not isinstance(support, Column | Branches) or not _over(support, low, high):
            continue
        if isinstance(support, Branches) and len(trees) == len(out):
            runs = overlapping_runs(support, trees)
            if len(runs):
                found.append(branch_rings(support, count, layer_mm, settings, runs))
        else:
            found.append(rings_of(support, count, layer_mm, settings))
    return found


def _over(support: Column | Branches, low: NDArray[np.float64], high: NDArray[np.float64]) -> bool:
    """Whether a support has something over a box in plan."""
    if isinstance(support, Branches):
        wide = support.nodes[:, 3].max()
        mine = support.nodes[:, :2].min(axis=0) - wide, support.nodes[:, :2].max(axis=0) + wide
        return bool((mine[0] <= high).all() and (mine[1] >= low).all())
    return any(
        bool((ring.min(axis=0) <= high).all() and (ring.max(axis=0) >= low).all())
        for slab in support.slabs
        for ring in slab.rings
    )


def _ring_area(ring: NDArray[np.float64]) -> float:
    x, y = ring[:, 0], ring[:, 1]
    return 0.5 * float(x @ np.roll(y, -1) - np.roll(x, -1) @ y)


def _near(asked: Asked, changed: Sequence[Column | Branches]) -> set[str]:
    """Patches that a change may hold, or may hold no longer."""
    found = {patch for support in changed for patch in support.patches}
    tips = [s.nodes[s.tips, :3] for s in changed if isinstance(s, Branches)]
    if tips:
        at = np.concatenate(tips)
        for patch, _ in asked:
            x0, y0, x1, y1 = patch.footprint.bounds()
            over = (at[:, :2] >= (x0 - NEAR_MM, y0 - NEAR_MM)) & (at[:, :2] <= (x1 + NEAR_MM, y1 + NEAR_MM))
            if (over.all(axis=1) & (at[:, 2] > patch.at_mm[2] - 2 * NEAR_MM)).any():
                found.add(patch.id)
    return found


def _of(
    fault: Fault, gone: Sequence[Column | Branches], settings: SupportSettings, layers: LayerStack
) -> bool:
    """Whether a fault was one of supports that are gone: nothing is printed there any more."""
    x, y, z = fault.at_mm
    if fault.kind == FaultKind.SLENDER:
        return any(fault.at_mm == s.touch_mm for s in gone)
    level = int(z / layers.layer_mm + 1e-6)
    spot = CrossSection.circle(0.3, 8).translate((x, y))
    if level >= len(layers) or _covers(layers.rings(level), spot):
        return False
    every = (rings_of(support, len(layers), layers.layer_mm, settings) for support in gone)
    return any(_covers(rings.get(level, []), spot) for rings in every)


def _covers(rings: list[NDArray[np.float64]], spot: CrossSection) -> bool:
    """Whether rings lie over a spot, or round it: trunks are hollow."""
    outer = [ring for ring in rings if _ring_area(ring) > 0]
    return bool(outer) and not (CrossSection(outer, FillRule.NonZero) ^ spot).is_empty()

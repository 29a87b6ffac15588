"""Filament supports as a whole: every patch in its style, put together and checked."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ..layers import LayerStack, pack
from ..marks import MEANING, Mark, Marks
from ..mesh import Mesh
from ..progress import Progress, silent
from ..tree import Tree
from .areas import make_areas
from .branches import branch_sections, grow
from .demand import Patch, Style, proposed_style
from .model import Branches, Column, SupportSet, SupportSettings
from .verify import Fault, verify


def chosen_styles(
    patches: Sequence[Patch], style: Style | None, by_patch: Mapping[str, Style]
) -> list[tuple[Patch, Style]]:
    """The style of each patch: its own, or that of all, or the proposed one."""
    return [(p, by_patch.get(p.id) or style or proposed_style(p)[0]) for p in patches]


def make_filament(
    stack: LayerStack,
    held: Sequence[tuple[Patch, Style]],
    settings: SupportSettings,
    part: Tree,
    *,
    clear: Sequence[CrossSection | None] | None = None,
    progress: Progress = silent,
) -> tuple[SupportSet, list[Fault]]:
    """Make the supports of all patches, and check them.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    held : sequence of (Patch, Style)
        ``Style.NONE`` leaves a patch without.
    settings : SupportSettings
    part : Tree
        Of the part where it stands.
    clear : sequence of CrossSection or None, optional
        By level from the plate: where nothing may pass, from ``kept_clear``.
    progress : Progress

    Returns
    -------
    SupportSet
    list of Fault
    """
    broad = [(p, s) for p, s in held if s in (Style.LINES, Style.GRID)]
    tall = [(p, s) for p, s in held if s in (Style.TREE, Style.PILLAR)]
    columns = make_areas(stack, broad, settings, clear=clear, progress=progress)
    grown = grow(stack, tall, settings, part, clear=clear, progress=progress)
    trees = _apart(grown.supports)
    lift = round(stack.base_mm / stack.layer_mm)
    levels = len(stack) + lift
    sections = branch_sections(trees, levels, stack.layer_mm, settings, progress)
    _add_columns(sections, columns, stack.layer_mm)
    rings = [[] if s is None else s.to_polygons() for s in sections]
    areas = [0.0 if s is None else float(s.area()) for s in sections]
    layers = pack(rings, areas, stack.layer_mm, 0.0)
    asked = [patch for patch, style in held if style is not Style.NONE]
    made = SupportSet((*columns, *trees), layers, 0.0, ())
    faults = verify(
        stack, asked, made, settings, clear=clear, lost=grown.lost, progress=progress
    )
    bare = {fault.patch for fault in faults if fault.kind == "not held"}
    area = sum(patch.area_mm2 for patch in asked if patch.id not in bare)
    islands = tuple(
        int(reason.split()[1])
        for patch in asked
        if patch.id in bare
        for reason in patch.reasons
        if reason.startswith("island")
    )
    notes = tuple(fault.words for fault in faults)
    return replace(made, held_area_mm2=area, unheld_islands=islands, notes=notes), faults


def _apart(trees: Sequence[Branches]) -> list[Branches]:
    """Give supports that would share an id one of their own, in the order of their places."""
    seen: dict[str, int] = {}
    result = []
    for tree in sorted(trees, key=lambda t: (t.id, t.touch_mm)):
        n = seen[tree.id] = seen.get(tree.id, 0) + 1
        result.append(tree if n == 1 else replace(tree, id=f"{tree.id}.{n}"))
    return result


def _add_columns(
    sections: list[CrossSection | None], columns: Sequence[Column], layer_mm: float
) -> None:
    """Put the slabs of columns into the levels they fill."""
    by_level: dict[int, list[CrossSection]] = {}
    for column in columns:
        for slab in column.slabs:
            section = CrossSection(list(slab.rings), FillRule.NonZero)
            for level in range(round(slab.low_mm / layer_mm), round(slab.high_mm / layer_mm)):
                by_level.setdefault(level, []).append(section)
    for level, found in by_level.items():
        if level < len(sections):
            known = sections[level]
            whole = found[0] if known is None else known + found[0]
            for other in found[1:]:
                whole = whole + other
            sections[level] = whole


def kept_clear(
    fine: Mesh, marks: Marks, stack: LayerStack
) -> list[CrossSection | None] | None:
    """Where supports may not pass: what is painted to be kept clear, with its clearance all round.

    Parameters
    ----------
    fine : Mesh
        The fine mesh where the part stands.
    marks : (m,) uint8
    stack : LayerStack

    Returns
    -------
    list of CrossSection or None, or None
        By level from the plate; ``None`` where nothing is painted so.
    """
    chosen = np.flatnonzero(marks == Mark.KEEP_CLEAR)
    if not len(chosen):
        return None
    away = MEANING[Mark.KEEP_CLEAR].clearance_mm
    h = stack.layer_mm
    lift = round(stack.base_mm / h)
    corners = fine.vertices[fine.faces[chosen]]
    low = np.floor((corners[:, :, 2].min(axis=1) - away) / h).astype(int)
    high = np.floor((corners[:, :, 2].max(axis=1) + away) / h).astype(int)
    found: list[CrossSection | None] = [None] * (len(stack) + lift)
    for level in range(max(0, int(low.min())), min(len(found) - 1, int(high.max())) + 1):
        here = np.flatnonzero((low <= level) & (level <= high))
        if len(here):
            # Upright facets have no area in plan: each is drawn a hair wider, then all are grown.
            flat = [_wide(c) for c in corners[here, :, :2]]
            plan = CrossSection(flat, FillRule.NonZero).offset(away)
            found[level] = plan if not plan.is_empty() else None
    return found


def _wide(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    low, high = corners.min(axis=0) - 0.02, corners.max(axis=0) + 0.02
    u, v = corners[1] - corners[0], corners[2] - corners[0]
    area = 0.5 * float(u[0] * v[1] - u[1] * v[0])
    if abs(area) > 0.02 * math.hypot(*(high - low)):
        return corners if area > 0 else corners[::-1]
    return np.array([low, [high[0], low[1]], high, [low[0], high[1]]])

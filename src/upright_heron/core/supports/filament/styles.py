"""Filament supports as a whole: every patch in its style, put together and checked."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ...geometry.mesh import Mesh
from ...geometry.tree import Tree
from ...layers.stack import LayerStack
from ...marking.mark import Mark
from ...marking.marks import MEANING, Marks
from ...progress import Progress, silent
from ...tags import stored
from ..checks.removal import Out, reach
from ..demand.patches import UPRIGHT, Patch, Style, proposed_style
from ..model import Branches, Column, SupportSettings
from ..outlines import Known
from ..show_side import Shown
from ..support_set import SupportSet
from .areas import make_areas
from .branches import grow
from .finish import finished, order, settled
from .second_choice import held_tips, left_bare, posts_below

# What is kept clear is drawn in cells of this size before it is grown, its facets in no more steps than this.
CELL_MM, MOST_STEPS = 0.4, 12
# Ways in which the part is looked for round a branch.
ROUND = 24


def chosen_styles(
    asked: Sequence[Patch], style: Style | None, by_patch: Mapping[str, Style]
) -> list[tuple[Patch, Style]]:
    """The style of each patch: its own, or that of all, or the proposed one.

    Contacts on the side of the part are held by what can reach them: the style of all says nothing of them
    where it is lines or a grid, which stand under what hangs.
    """
    found = []
    for patch in asked:
        of_all = None if patch.spots and style in UPRIGHT else style
        found.append((patch, by_patch.get(patch.id) or of_all or proposed_style(patch)[0]))
    return found


@stored("grown")
@dataclass(frozen=True, eq=False)
class Grown:
    """Supports as they were made, before any of them is changed by hand.

    Attributes
    ----------
    supports : tuple of Column or Branches
    lost : dict of patch id to words
        Why something may not be held.
    """

    supports: tuple[Column | Branches, ...]
    lost: dict[str, str]

    @cached_property
    def known(self) -> Known:
        """What is united of them already: nothing where they come from the store."""
        return Known()


def grow_supports(
    stack: LayerStack,
    held: Sequence[tuple[Patch, Style]],
    settings: SupportSettings,
    part: Tree,
    *,
    clear: Sequence[CrossSection | None] | None = None,
    around: Sequence[Column | Branches] = (),
    shown: Shown | None = None,
    progress: Progress = silent,
) -> Grown:
    """Make supports for patches, each in its style.

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
    around : sequence of Column or Branches
        Supports that are there already: what they hold is not held twice.
    shown : Shown, optional
        The show side.
    progress : Progress

    Returns
    -------
    Grown
    """
    columns_there = {c.patch for c in around if isinstance(c, Column)}
    tips = [s.nodes[s.tips, :3] for s in around if isinstance(s, Branches)]
    broad = [(p, s) for p, s in held if s in UPRIGHT and p.id not in columns_there]
    tall = [(p, s) for p, s in held if s in (Style.TREE, Style.PILLAR)]
    made = make_areas(stack, broad, settings, clear=clear, progress=progress)
    known = Known()
    columns = settled(stack, made, settings, known, progress)[0] if made else []
    # What no column gets to is held by branches.
    bare = left_bare(stack, [patch for patch, _ in broad], [*around, *columns], settings)
    tips.append(held_tips(stack, bare, columns, settings, part))
    tall += [(patch, Style.TREE) for patch in bare]
    grown = grow(
        stack, tall, settings, part, clear=clear, already=np.concatenate(tips), shown=shown,
        progress=progress,
    )  # fmt: skip
    # What they miss of it is held by single posts, or by lines where those do not do.
    found: list[Column | Branches] = [*columns, *grown.supports]
    below = [p for p, s in held if s in (Style.TREE, Style.PILLAR) and not p.spots]
    missed = left_bare(stack, [*bare, *below], [*around, *found], settings, grown.lost)
    posts = posts_below(stack, missed, [*around, *found], settings, part, clear)
    found += posts
    done = {patch for post in posts for patch in post.patches}
    still = left_bare(stack, [p for p in below if p.id not in done], [*around, *found], settings)
    more = make_areas(stack, [(p, Style.LINES) for p in still], settings, clear=clear, progress=progress)
    left = {p.id for p in left_bare(stack, still, [*around, *found, *more], settings)}
    found += [column for column in more if column.patch not in left]
    done |= {p.id for p in still if p.id not in left}
    lost = {patch: why for patch, why in grown.lost.items() if patch not in done}
    result = Grown(tuple(sorted(_apart(found), key=order)), lost)
    result.known.take(known)
    return result


def make_filament(
    stack: LayerStack,
    held: Sequence[tuple[Patch, Style]],
    settings: SupportSettings,
    part: Tree,
    *,
    clear: Sequence[CrossSection | None] | None = None,
    progress: Progress = silent,
) -> SupportSet:
    """Make the supports of all patches, and check them; the parameters are those of ``grow_supports``."""
    grown = grow_supports(stack, held, settings, part, clear=clear, progress=progress)
    return finished(
        stack,
        held,
        grown.supports,
        settings,
        clear=clear,
        lost=grown.lost,
        known=grown.known,
        progress=progress,
    )


def _apart(supports: Sequence[Column | Branches]) -> list[Column | Branches]:
    """Give branches that would share an id one of their own, in the order of their places."""
    seen: dict[str, int] = {}
    result: list[Column | Branches] = [s for s in supports if isinstance(s, Column)]
    trees = [s for s in supports if isinstance(s, Branches)]
    for tree in sorted(trees, key=lambda t: (t.id, t.touch_mm)):
        n = seen[tree.id] = seen.get(tree.id, 0) + 1
        result.append(tree if n == 1 else replace(tree, id=f"{tree.id}.{n}"))
    return result


def kept_clear(fine: Mesh, marks: Marks, stack: LayerStack) -> list[CrossSection | None] | None:
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
    levels = len(stack) + round(stack.base_mm / h)
    points = _samples(fine.vertices[fine.faces[chosen]])
    points = points[np.argsort(points[:, 2], kind="stable")]
    found: list[CrossSection | None] = [None] * levels
    cells = np.floor(points[:, :2] / CELL_MM).astype(np.int64)
    corner = cells.min(axis=0)
    cells -= corner
    grid = np.zeros(cells.max(axis=0)[::-1] + 1, np.bool_)
    middle = (np.arange(levels) + 0.5) * h
    first = np.searchsorted(points[:, 2], middle - away - h / 2)
    last = np.searchsorted(points[:, 2], middle + away + h / 2)
    for level in np.flatnonzero(last > first).tolist():
        here = cells[first[level] : last[level]]
        grid[:] = False
        grid[here[:, 1], here[:, 0]] = True
        found[level] = CrossSection(_runs(grid, corner), FillRule.NonZero).offset(away)
    return found


def _samples(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Points (k, 3) all over facets (m, 3, 3), no further apart than a cell."""
    edges = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
    each = np.ceil(edges.max(axis=1) / CELL_MM).astype(np.int64).clip(1, MOST_STEPS)
    found = []
    for steps in np.unique(each).tolist():
        u, v = np.meshgrid(np.arange(steps + 1), np.arange(steps + 1))
        inside = u + v <= steps
        share = np.stack([u[inside], v[inside]], axis=1) / steps
        weights = np.column_stack([share, 1.0 - share.sum(axis=1)])
        found.append(np.einsum("kj,mjd->mkd", weights, corners[each == steps]).reshape(-1, 3))
    return np.concatenate(found)


def _runs(grid: NDArray[np.bool_], corner: NDArray[np.int64]) -> list[NDArray[np.float64]]:
    """Rectangles that cover the cells of a grid: one for each run in a row."""
    row, column = np.nonzero(grid)
    fresh = np.append(True, (np.diff(row) != 0) | (np.diff(column) != 1))
    start = np.flatnonzero(fresh)
    end = np.append(start[1:], len(row)) - 1
    x0, x1 = ((column[k] + corner[0] + step) * CELL_MM for k, step in ((start, 0), (end, 1)))
    y0 = (row[start] + corner[1]) * CELL_MM
    y1 = y0 + CELL_MM
    rectangles = np.stack([np.stack([x0, x1, x1, x0], 1), np.stack([y0, y0, y1, y1], 1)], axis=2)
    return list(rectangles)


def clearance_mm(made: SupportSet, part: Tree) -> float:
    """Least distance of branches from the part beside them, in plan, their ends aside; or infinite."""
    turn = 2 * np.pi * np.arange(ROUND) / ROUND
    ways = np.column_stack([np.cos(turn), np.sin(turn), np.zeros(ROUND)])
    least = float("inf")
    for support in made.supports:
        if not isinstance(support, Branches):
            continue
        ends = np.setdiff1d(np.arange(len(support.nodes)), support.down)
        near = np.append(ends, support.down[ends][support.down[ends] >= 0])
        feet = np.flatnonzero(support.down < 0)
        inner = np.setdiff1d(np.arange(len(support.nodes)), np.concatenate([near, feet]))
        if len(inner):
            start = np.repeat(support.nodes[inner, :3], ROUND, axis=0)
            length, _ = part.first_hits(start, np.tile(ways, (len(inner), 1)), np.full(len(start), -1))
            least = min(least, float((length.reshape(-1, ROUND).min(axis=1) - support.nodes[inner, 3]).min()))
    return least


def in_figures(
    made: SupportSet, part: Tree, moved_mm: NDArray[np.float64], tool_mm: float = 3.0
) -> dict[str, object]:
    """Patches, check, contact, lean, clearance and what is trapped, as plain values, ``moved_mm`` (3,) back.

    That is how far all lies from the frame that places are told in.
    """

    def told(at: tuple[float, float, float]) -> list[float]:
        x, y, z = at
        return [x - float(moved_mm[0]), y - float(moved_mm[1]), z]

    supports = [s for s in made.supports if isinstance(s, Column | Branches)]
    ways = reach(supports, part, tool_mm)
    least = clearance_mm(made, part)
    leans = [support.lean_deg for support in made.supports if isinstance(support, Branches)]
    return {
        "contact_area_mm2": made.contact_mm2,
        "patches": [{"id": p.id, "reason": p.reason, "style": p.style, "held": p.held} for p in made.patches],
        "unheld": [p.reason for p in made.patches if not p.held],
        "faults": [{"kind": f.kind, "at_mm": told(f.at_mm), "words": f.words} for f in made.faults],
        "trapped": [
            {"id": support.id, "reason": support.reason, "at_mm": told(way.at_mm)}
            for support, way in zip(supports, ways, strict=True)
            if way.out == Out.TRAPPED
        ],
        "max_branch_deg": max(leans, default=0.0),
        "min_clearance_mm": least if math.isfinite(least) else None,
    }

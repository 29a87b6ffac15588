"""Lines and grids below broad patches: the outlines that belong to each, body by body."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType, OpType

from ...layers.layer_components import bodies, links, pieces
from ...layers.stack import LayerStack, pack
from ...progress import Progress, silent, tracked
from ..demand.patches import Patch, Style, by_layer
from ..model import Column, SupportSettings
from .columns import Run, carried_down
from .walls import CRUMB_MM2, Stretch, columns_of

# Outlines are drawn on a raster: what is within this of a footprint belongs to its patch.
NEAR_MM = 0.35
# Outlines that tremble by this from level to level still stand on each other.
STEP_MM = 0.02
# Outlines of as many corners whose areas and boxes differ by less are one (mm2, mm).
SAME = 1e-6


def make_areas(
    stack: LayerStack,
    held: Sequence[tuple[Patch, Style]],
    settings: SupportSettings,
    *,
    clear: Sequence[CrossSection | None] | None = None,
    progress: Progress = silent,
) -> list[Column]:
    """Stand lines or grids under patches.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    held : sequence of (Patch, Style)
        ``Style.LINES`` or ``Style.GRID`` each.
    settings : SupportSettings
    clear : sequence of CrossSection or None, optional
        By level from the plate: where no support may pass.
    progress : Progress

    Returns
    -------
    list of Column
        One for each connected body below a patch; their slabs hold what is printed.

    Notes
    -----
    All outlines are carried down together (``columns.carried_down``); each level is then shared out: what
    lies below several patches belongs to the lowest of them.
    """
    if not held:
        return []
    lift = round(stack.base_mm / stack.layer_mm)
    demand = by_layer([patch for patch, _ in held], len(stack))
    runs = carried_down(stack, demand, settings, progress=progress)
    order = sorted(held, key=lambda h: min(h[0].plans))
    prints = _Prints([_Print(patch, max(patch.plans) + lift) for patch, _ in order])
    shares: list[list[Stretch]] = [[] for _ in order]
    plate_only = [settings.plate_only(patch.id) for patch, _ in order]
    standing = _standing(runs) if any(plate_only) else None
    blocked = CrossSection()
    for n, run in enumerate(tracked(runs, "Sharing out columns", progress)):
        rest = CrossSection(run.rings, FillRule.NonZero)
        if clear is not None:
            blocked = _blocked(blocked, run, stack, clear, settings)
            rest = rest - blocked
        for k, mine in _shared_out(rest, run.low, prints).items():
            if plate_only[k] and standing is not None:
                mine = mine ^ standing[n]
            if mine.area() > CRUMB_MM2:
                _take(shares[k], run, mine)
    found: list[Column] = []
    plate = CrossSection()
    if settings.brim_mm > 0:
        # A rim may not come nearer to the part in its first layer than the support itself.
        plate = stack.section(-lift).offset(settings.clearance_mm)
        if clear is not None and clear[0] is not None:
            plate = plate + clear[0]
    step = lift - 1 - settings.gap_layers(stack.layer_mm)
    for (patch, style), own in zip(order, shares, strict=True):
        ends = {layer + step: plan for layer, plan in patch.plans.items()}
        apart = _bodies(own, ends, stack.layer_mm, settings.clearance_mm)
        found += columns_of(patch, style, apart, ends, stack.layer_mm, settings, plate)
    return found


def _bodies(
    own: list[Stretch], ends: dict[int, CrossSection], layer_mm: float, near_mm: float
) -> list[list[Stretch]]:
    """Sort the outlines of a patch into connected bodies, the largest first.

    One that leads up to nothing is left out: below a hole too narrow for a column its outline would go on.
    """
    sorted_ = pieces(pack([s.to_polygons() for _, _, s in own], np.zeros(len(own)), layer_mm, 0.0))
    joined = all(own[k - 1][1] + 1 == own[k][0] for k in range(1, len(own)))
    if not own or (joined and len(sorted_) == len(own)):
        return [own] if own else []
    pairs = links(sorted_)
    low, high = np.array([s[0] for s in own]), np.array([s[1] for s in own])
    # Outlines that follow each other in the list need not touch: levels may be missing between them.
    touching = high[sorted_.layer[pairs[:, 1]]] + 1 == low[sorted_.layer[pairs[:, 0]]]
    body_of = bodies(len(sorted_), pairs[touching])
    found = []
    for body in range(int(body_of.max()) + 1):
        members = np.flatnonzero(body_of == body)
        mine = []
        for k in np.unique(sorted_.layer[members]).tolist():
            rings = [ring for m in members[sorted_.layer[members] == k] for ring in sorted_.rings(int(m))]
            mine.append((own[k][0], own[k][1], CrossSection(rings, FillRule.NonZero)))
        if _leads_up(mine, ends, near_mm):
            found.append(mine)
    return sorted(found, key=lambda b: -sum((hi + 1 - lo) * float(s.area()) for lo, hi, s in b))


def _leads_up(body: list[Stretch], ends: dict[int, CrossSection], near_mm: float) -> bool:
    return any(
        low <= level <= high and not (plan.offset(near_mm) ^ section).is_empty()
        for low, high, section in reversed(body)
        for level, plan in ends.items()
    )


@dataclass(frozen=True, eq=False)
class _Print:
    """What lies below a patch, and the highest level of that."""

    patch: Patch
    top: int

    @cached_property
    def plan(self) -> CrossSection:
        """All that is near the plans of the patch; thinned before they are put together: most are strips."""
        plans = [plan.simplify(NEAR_MM / 7).offset(NEAR_MM) for plan in self.patch.plans.values()]
        return CrossSection.batch_boolean(plans, OpType.Add).simplify(NEAR_MM / 4)

    @cached_property
    def bounds(self) -> tuple[float, float, float, float]:
        """Box of the plan."""
        x0, y0, x1, y1 = self.plan.bounds()
        return x0, y0, x1, y1


class _Prints:
    """What lies below all patches, in the order in which outlines are shared out."""

    def __init__(self, prints: Sequence[_Print]) -> None:
        self._prints = prints
        self._tops = np.array([one.top for one in prints])
        self._boxes = np.array([one.bounds for one in prints])

    def near(self, box: tuple[float, float, float, float], low: int) -> Iterator[tuple[int, _Print]]:
        """Those, with their numbers, that reach up to a level and whose boxes meet a box."""
        b = self._boxes
        met = (b[:, 0] <= box[2]) & (b[:, 2] >= box[0]) & (b[:, 1] <= box[3]) & (b[:, 3] >= box[1])
        for k in np.flatnonzero(met & (self._tops >= low)).tolist():
            yield k, self._prints[k]


def _shared_out(outline: CrossSection, low: int, prints: _Prints) -> dict[int, CrossSection]:
    """Share an outline that begins at a level out among patches, the lowest first: by their numbers.

    Connected bits are shared out one by one, each only among the patches that it is near: on a part with very
    many patches nearly all lie aside of each bit.
    """
    found: dict[int, list[CrossSection]] = {}
    for bit in outline.decompose():
        for k, below in prints.near(bit.bounds(), low):
            mine = bit ^ below.plan
            if mine.area() <= CRUMB_MM2:
                continue
            found.setdefault(k, []).append(mine)
            bit = bit - below.plan
            if bit.is_empty():
                break
    return {k: CrossSection.compose(bits) if len(bits) > 1 else bits[0] for k, bits in sorted(found.items())}


def _take(own: list[Stretch], run: Run, mine: CrossSection) -> None:
    """Give a patch its share of a run; where it is as in the run below, that one goes on."""
    if own:
        low, high, before = own[-1]
        alike = (
            high + 1 == run.low
            and before.num_vert() == mine.num_vert()
            and abs(before.area() - mine.area()) < SAME
            and np.allclose(before.bounds(), mine.bounds(), rtol=0, atol=SAME)
        )
        if alike:
            own[-1] = (low, run.high, before)
            return
    own.append((run.low, run.high, mine))


def _blocked(
    below: CrossSection,
    run: Run,
    stack: LayerStack,
    clear: Sequence[CrossSection | None],
    settings: SupportSettings,
) -> CrossSection:
    """Where nothing may stand in a run: what is kept clear in it, and what would hang over that."""
    h = stack.layer_mm
    floor = run.low - 1 - settings.gap_below_layers(h) - round(stack.base_mm / h)
    if not below.is_empty() and 0 <= floor < len(stack):
        # On the part itself one may stand again.
        below = below - stack.section(floor).offset(settings.clearance_mm)
    plans = [plan for plan in clear[run.low : run.high + 1] if plan is not None]
    return CrossSection.batch_boolean([below, *plans], OpType.Add) if plans else below


def _standing(runs: Sequence[Run]) -> list[CrossSection]:
    """What of each run stands over the plate all the way down."""
    found: list[CrossSection] = []
    for k, run in enumerate(runs):
        section = CrossSection(run.rings, FillRule.NonZero)
        if run.low:
            if k and run.low == runs[k - 1].high + 1:
                # Round joins, or corners that nobody takes out, would multiply from run to run.
                below = found[-1].offset(STEP_MM, JoinType.Miter, 2.0)
                section = (section ^ below).simplify(0.1 * STEP_MM)
            else:
                section = CrossSection()
        found.append(section)
    return found

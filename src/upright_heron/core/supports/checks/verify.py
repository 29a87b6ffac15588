"""The check of finished supports, layer by layer: what will be printed, not how it was made."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import lru_cache

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ...geometry.plan_shapes import shape_of
from ...layers.changes import Changes, meeting
from ...layers.layer_components import Pieces, links, pieces
from ...layers.stack import LayerStack, packed
from ...progress import Progress, silent, tracked
from ..demand.patches import Patch, layer_of
from ..filament.descent import around, gap_under, plan_distance
from ..model import SLENDER, Branches, SupportSettings
from ..outlines import branch_rings
from ..support_set import Fault, FaultKind, SupportSet

# Overlap of support and part under this is the noise of contours, mm2 a layer.
NOISE_MM2 = 0.15
# Share of the lowest level of a support that the part has to lie right below.
CARRIED = 0.3
# Share of a piece of support that the level below has to have within a step of it.
LEANS = 0.1
# What lies on less than this share of its own area is looked at closely.
ALIKE = 0.9
# The foot of a needle is one bead that spreads as it is drawn: what lies half a bead aside carries it too.
NEEDLE_MM2, BEAD_MM = 1.0, 0.2
# What lies so near to where a post stands is its foot.
FOOT_MM = 0.6
# A support may lean over the one below it in the next layer by this, mm.
STEP_MM = 0.4
# On a slope a support may end so much lower than the place it holds.
SLOPE_MM = 2.5
# Narrower than twice this, or than this share of a patch that is narrow itself, what lies under it only
# borders on it.
SLIVER_MM, SLIVER_SHARE = 0.06, 0.3
# What runs into the part in the next layer within this of a place is told once.
SAME_MM = 3.0
# Points looked at under one patch, and the share of them that may be bare where no tip is known to be lost.
PROBES = 60
ROUGH = 0.25

# A level, what of its supports is looked at, and where: boxes (n, 4), or all of it.
Look = tuple[int, CrossSection, NDArray[np.float64] | None]


def verify(
    stack: LayerStack,
    patches: Sequence[Patch],
    made: SupportSet,
    settings: SupportSettings,
    *,
    clear: Sequence[CrossSection | None] | None = None,
    lost: Mapping[str, str] | None = None,
    progress: Progress = silent,
) -> list[Fault]:
    """Check finished supports.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    patches : sequence of Patch
        What they are to hold.
    made : SupportSet
        Its layers are counted from the plate.
    settings : SupportSettings
    clear : sequence of CrossSection or None, optional
        By level: where nothing may pass.
    lost : mapping of patch id to words, optional
        Why something may not be held.
    progress : Progress

    Returns
    -------
    list of Fault
        From the plate up.
    """
    faults = not_held(stack, patches, made, settings, lost or {}, clear)
    found = pieces(made.layers)
    faults += _crossing(stack, _looks(stack, found, clear, progress), clear)
    feet = [s.nodes[s.foot, :3] for s in made.supports if isinstance(s, Branches)]
    faults += _floating(stack, found, settings, np.array(feet).reshape(-1, 3))
    faults += [fault for s in made.supports if isinstance(s, Branches) for fault in _slender(s)]
    return sorted(faults, key=lambda f: (round(f.at_mm[2], 3), f.kind))


def not_held(
    stack: LayerStack,
    patches: Sequence[Patch],
    made: SupportSet,
    settings: SupportSettings,
    lost: Mapping[str, str],
    clear: Sequence[CrossSection | None] | None = None,
) -> list[Fault]:
    """Patches with nothing printed under them within the spacing, at many of their points; see ``verify``."""
    h = stack.layer_mm
    lift = round(stack.base_mm / h)
    gap = settings.gap_layers(h)
    within = _within(settings)
    faults = []
    for patch in patches:
        bare: list[NDArray[np.float64]] = []
        looked = 0
        falls = _falls(patch, stack, settings)
        for layer in _looked_at(patch):
            level = layer + lift - 1 - gap
            if level < 0:
                continue  # it comes to lie on the plate
            key = (layer, within)
            if key not in patch.probes:
                patch.probes[key] = _probes(patch, layer, stack, within / 2)
            points = patch.probes[key]
            looked += len(points)
            near = np.zeros(len(points), bool)
            # The level on the plate is never stepped over.
            for down in sorted({min(level, down) for down in falls}):
                if near.all():
                    break
                left = points[~near]
                box = left.min(axis=0) - within, left.max(axis=0) + within
                under = holding_rings(patch, _over_box(made.layers, level - down, *box))
                if under:
                    near[~near] = plan_distance(under, left, within + 0.1) <= within
            bare += [np.array([*p, stack.bottom_mm(layer)]) for p in points[~near]]
        # Where tips are known to be missing nothing is put down to the roughness of the look.
        if bare and len(bare) > (0.0 if patch.id in lost else ROUGH) * looked:
            x, y, z = (float(v) for v in bare[0])
            share = f"{100 * len(bare) // max(looked, 1)} % has no support below"
            if patch.spots:
                share = f"{len(bare)} of {looked} contacts missing"
            close = _too_near(np.array(bare), stack, settings)
            why = close or lost.get(patch.id)
            if why is None:
                barred = _is_barred(x, y, min(patch.plans) + lift - 1 - gap, clear or ())
                why = "what is below it is kept clear" if barred else "nothing was made below it"
            faults.append(Fault(FaultKind.NOT_HELD, (x, y, z), f"{patch.reason}: {share}; {why}.", patch.id))
    return faults


def _within(settings: SupportSettings) -> float:
    """How far aside of a place what holds it may be, mm."""
    return max(settings.line_spacing_mm, settings.spacing_mm) * 0.75 + settings.clearance_mm


def _looked_at(patch: Patch) -> list[int]:
    """Layers of a patch that are looked at: of contacts on a side every one, else some."""
    step = 1 if patch.spots else max(1, len(patch.plans) // 12)
    return sorted(patch.plans)[::step]


def _falls(patch: Patch, stack: LayerStack, settings: SupportSettings) -> tuple[int, ...]:
    """By how many levels what holds a place may end lower: on a slope by as much as that falls to it."""
    if len(patch.plans) <= 2:
        return (0, 1, 2)
    fall = max(3, round(min(_within(settings), SLOPE_MM) / stack.layer_mm))
    return (*range(0, fall, max(1, fall // 6)), fall)


def levels_of(patch: Patch, stack: LayerStack, settings: SupportSettings) -> set[int]:
    """Levels from the plate in which ``not_held`` looks for supports of a patch."""
    top = round(stack.base_mm / stack.layer_mm) - 1 - settings.gap_layers(stack.layer_mm)
    falls = _falls(patch, stack, settings)
    levels = [layer + top for layer in _looked_at(patch) if layer + top >= 0]
    return {max(level - down, 0) for level in levels for down in falls}


def _too_near(bare: NDArray[np.float64], stack: LayerStack, settings: SupportSettings) -> str:
    """Say that no layer of support fits between places (n, 3) and the part; empty where there is room."""
    away = gap_under(stack, bare, settings.least_layers(stack.layer_mm) - 1)
    close = away[np.isfinite(away)]
    if 2 * len(close) < len(bare):
        return ""
    near = f"{close.min():.2g} to {close.max():.2g}" if np.ptp(close) > 0 else f"{close[0]:.2g}"
    return f"the part is {near} mm below it, too near for a layer of support and its gaps"


def _is_barred(x: float, y: float, top: int, clear: Sequence[CrossSection | None]) -> bool:
    """Whether something is kept clear straight below a place."""
    spot = CrossSection.circle(0.1, 6).translate((x, y))
    plans = (plan for plan in clear[: top + 1] if plan is not None)
    return any(not (plan ^ spot).is_empty() for plan in plans)


def holding_rings(patch: Patch, section: CrossSection) -> list[NDArray[np.float64]]:
    """Rings (k, 2) each of what of a section stands under a patch, but for slivers that border on it.

    A neighbour's column beside a patch holds nothing of it.
    """
    rings = (patch.outline ^ section).to_polygons()
    sliver_mm = min(SLIVER_MM, SLIVER_SHARE * patch.half_width_mm)
    if not rings:
        return []
    points, starts = packed(rings)
    ends = np.arange(len(points)) + 1
    ends[starts[1:] - 1] = starts[:-1]
    other = points[ends]
    area = np.add.reduceat(points[:, 0] * other[:, 1] - points[:, 1] * other[:, 0], starts[:-1])
    way = np.add.reduceat(np.hypot(*(other - points).T), starts[:-1])
    thick = 0.5 * np.abs(area) > sliver_mm * way
    return [ring for ring, keep in zip(rings, thick.tolist(), strict=True) if keep]


def _over_box(
    layers: LayerStack, level: int, low: NDArray[np.float64], high: NDArray[np.float64]
) -> CrossSection:
    """What of a layer lies in rings that reach over a box."""
    if not 0 <= level < len(layers):
        return CrossSection()
    a, b = layers.layer_start[level], layers.layer_start[level + 1]
    lows, highs = layers.ring_boxes
    over = (lows[a:b] <= high).all(axis=1) & (highs[a:b] >= low).all(axis=1)
    rings = [layers.points[layers.ring_start[k] : layers.ring_start[k + 1]] for k in a + np.flatnonzero(over)]
    return CrossSection(rings, FillRule.NonZero) if rings else CrossSection()


def _probes(patch: Patch, layer: int, stack: LayerStack, pitch: float) -> NDArray[np.float64]:
    """Points of a patch in a layer: where supports are to end, or spread over its plan."""
    if not patch.spots:
        return _spread(patch.plans[layer], pitch, PROBES)
    return np.array([spot[:2] for spot in patch.spots if layer_of(stack, spot[2]) == layer]).reshape(-1, 2)


def _spread(plan: CrossSection, pitch: float, most: int) -> NDArray[np.float64]:
    """Points of a plan on a grid, a few along its outline where the grid misses it."""
    import shapely

    shape = shape_of(plan)
    x0, y0, x1, y1 = plan.bounds()
    pitch = max(pitch, float(np.sqrt((x1 - x0) * (y1 - y0) / most)))
    xs = np.arange(x0 + pitch / 2, x1 + 1e-9, pitch)
    ys = np.arange(y0 + pitch / 2, y1 + 1e-9, pitch)
    grid = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2) if len(xs) and len(ys) else np.zeros((0, 2))
    inside = grid[shapely.contains_xy(shape, grid[:, 0], grid[:, 1])] if len(grid) else grid
    if len(inside):
        return inside
    point = shapely.point_on_surface(shape)
    return np.array([[point.x, point.y]]) if not point.is_empty else np.zeros((0, 2))


def _looks(
    stack: LayerStack,
    found: Pieces,
    clear: Sequence[CrossSection | None] | None,
    progress: Progress,
) -> Iterable[Look]:
    """Pieces of supports in each level that are not as in the level below, or beside a part that is not.

    Where something is kept clear all of them.
    """
    lift = round(stack.base_mm / stack.layer_mm)
    of_part, of_supports = Changes(stack), Changes(found.stack)
    for level in tracked(range(len(found.stack)), "Checking supports", progress):
        a, b = int(found.start[level]), int(found.start[level + 1])
        if clear is not None and level < len(clear) and clear[level] is not None:
            yield level, found.section(*range(a, b)), None
            continue
        changed = np.concatenate(
            [of_part.places(level - lift, level - lift - 1), of_supports.places(level, level - 1)]
        )
        new = [k + a for k in meeting(found.boxes[a:b], changed).tolist()]
        yield level, found.section(*new), found.boxes[new]


def _crossing(
    stack: LayerStack,
    looks: Iterable[Look],
    clear: Sequence[CrossSection | None] | None,
) -> list[Fault]:
    """Places in which supports lie in the part, or where nothing may pass; each told where it begins."""
    lift = round(stack.base_mm / stack.layer_mm)
    faults: list[Fault] = []
    before: dict[str, tuple[int, list[tuple[float, float]]]] = {}
    for level, support, boxes in looks:
        for kind, (last, known) in list(before.items()):
            goes_on = [] if boxes is None or last != level - 1 else _outside(known, boxes)
            if goes_on:
                before[kind] = (level, goes_on)
        if support.is_empty():
            continue
        found: list[tuple[FaultKind, CrossSection]] = []
        if 0 <= level - lift < len(stack):
            found.append((FaultKind.CROSSES, stack.section(level - lift)))
        plan = clear[level] if clear is not None and level < len(clear) else None
        if plan is not None:
            found.append((FaultKind.TOO_NEAR, plan))
        for kind, other in found:
            both = support ^ other
            if both.area() <= NOISE_MM2:
                continue
            last, known = before.get(kind, (-9, []))
            here = []
            for piece in both.decompose():
                if piece.area() <= NOISE_MM2:
                    continue
                x0, y0, x1, y1 = piece.bounds()
                x, y = (x0 + x1) / 2, (y0 + y1) / 2
                here.append((x, y))
                if last >= level - 2 and any(math.hypot(x - a, y - b) < SAME_MM for a, b in known):
                    continue
                at = (x, y, (level + 0.5) * stack.layer_mm)
                what = "the part" if kind is FaultKind.CROSSES else "what is kept clear"
                faults.append(Fault(kind, at, f"A support runs into {what} at {at[2]:.1f} mm."))
            before[kind] = (level, here)
    return faults


def _outside(known: list[tuple[float, float]], boxes: NDArray[np.float64]) -> list[tuple[float, float]]:
    """Places that lie in none of the boxes (n, 4)."""
    at = np.array(known).reshape(-1, 2)
    inside = (at[:, None] >= boxes[None, :, :2]) & (at[:, None] <= boxes[None, :, 2:])
    gone: list[bool] = np.any(np.all(inside, axis=2), axis=1).tolist()
    return [place for place, lies_in in zip(known, gone, strict=True) if not lies_in]


def faults_of(
    support: Branches,
    stack: LayerStack,
    settings: SupportSettings,
    clear: Sequence[CrossSection | None] | None = None,
) -> list[Fault]:
    """Check one tree or post by itself: whether it runs into something, floats, or is too slender."""
    h = stack.layer_mm
    lift = round(stack.base_mm / h)
    rings = branch_rings(support, len(stack) + lift, h, settings)
    levels = sorted(rings)
    # Levels in which it is clear of the part all round need no polygons.
    near: set[int] = set()
    for i, j in enumerate(support.down.tolist()):
        if j < 0:
            continue
        high, low = support.nodes[i], support.nodes[j]
        first, last = math.floor(low[2] / h), math.ceil(high[2] / h)
        z = (np.arange(first, last + 1) + 0.5) * h
        t = np.clip((z - low[2]) / max(high[2] - low[2], 1e-9), 0.0, 1.0)[:, None]
        at = low + t * (high - low)
        away = around(stack, np.column_stack([at[:, :2], z]))
        near.update(int(first + k) for k in np.flatnonzero(away < at[:, 3]))
    held = clear or ()
    asked = [
        (level, CrossSection(rings[level], FillRule.NonZero), None)
        for level in levels
        if level in near or (level < len(held) and held[level] is not None)
    ]
    faults = _crossing(stack, asked, clear)
    if levels and levels[0] > 0:
        fx, fy, fz, _ = (float(v) for v in support.nodes[support.foot])
        foot = CrossSection(rings[levels[0]], FillRule.NonZero)
        if not rests(stack, foot, levels[0], settings, foot=True):
            faults.append(_begins_in_mid_air(fx, fy, fz))
    return faults + _slender(support)


def _floating(
    stack: LayerStack, found: Pieces, settings: SupportSettings, feet: NDArray[np.float64]
) -> list[Fault]:
    """Pieces of support with nothing below them: no support, no plate, no part within the gap.

    ``feet`` (k, 3) are those of trees and posts.
    """
    h = stack.layer_mm
    standing = stands_on(found, links(found))
    # Many pieces of a level ask for the same sections.
    of_part = lru_cache(64)(stack.section)
    faults = []
    for k in np.flatnonzero(~standing & (found.layer > 0)):
        level = int(found.layer[k])
        section = found.section(int(k))
        if leans_on(section, found.section(*found.below(int(k), STEP_MM))):
            continue
        x, y = (float(v) for v in found.inside_mm[k])
        near = np.abs(feet - (x, y, level * h)).max(axis=1, initial=0.0) if len(feet) else np.zeros(0)
        foot = bool((near <= max(FOOT_MM, 2 * h)).any())
        if not rests(stack, section, level, settings, of_part, foot=foot):
            faults.append(_begins_in_mid_air(x, y, level * h))
    return faults


def stands_on(found: Pieces, pairs: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which pieces (n,) may stand on pieces of the level below: not those that hardly touch any.

    ``pairs`` (k, 2) are their ``links``.
    """
    below = np.bincount(pairs[:, 0], found.area_mm2[pairs[:, 1]], minlength=len(found))
    standing: NDArray[np.bool_] = below >= ALIKE * found.area_mm2
    return standing


def leans_on(section: CrossSection, below: CrossSection) -> bool:
    """Whether a share of a piece of support lies within a step of what of supports lies in the level below.

    What lies beside it does not count by its own size: a crumb close to a long wall would lean on that.
    """
    if below.is_empty():
        return False
    near = section.offset(STEP_MM) ^ below
    return not near.is_empty() and (section ^ near.offset(STEP_MM)).area() > LEANS * float(section.area())


def _begins_in_mid_air(x: float, y: float, z: float) -> Fault:
    return Fault(FaultKind.FLOATS, (x, y, z), f"A support begins in mid-air at {z:.1f} mm.")


def rests(
    stack: LayerStack,
    section: CrossSection,
    level: int,
    settings: SupportSettings,
    sections: Callable[[int], CrossSection] | None = None,
    *,
    foot: bool = False,
) -> bool:
    """Whether the part lies below the lowest level of a support, within the contact gap.

    ``section`` is what is printed in that level, counted from the plate. What lies beside it carries nothing:
    a share of it, ``CARRIED``, has the part right below. ``sections`` may remember those of the part. The
    ``foot`` of a post that is a needle spreads as it is drawn; a crumb of a column is drawn beside others.
    """
    sections = sections or stack.section
    lift = round(stack.base_mm / stack.layer_mm)
    # It keeps clear of a slope by the side clearance: the surface below it is so much further down.
    fall = math.ceil(settings.clearance_mm / stack.layer_mm)
    down = level - lift - np.arange(1, settings.gap_below_layers(stack.layer_mm) + fall + 3)
    below = [sections(k) for k in down.tolist() if 0 <= k < len(stack)]
    area = float(section.area())
    if area >= NEEDLE_MM2 or not foot:
        return _lies_on(section, below, CARRIED * area)
    return _lies_on(section.offset(BEAD_MM), below, CARRIED * area)


def _lies_on(section: CrossSection, below: Sequence[CrossSection], asked_mm2: float) -> bool:
    """Whether so much of a section lies over what is below it, in one level or another."""
    left, carried = section, 0.0
    for part in below:
        over = left ^ part
        carried += float(over.area())
        if carried >= asked_mm2 and carried > 0:
            return True
        left = left - over
    return False


def _slender(support: Branches) -> list[Fault]:
    trunk = support.nodes[_trunk(support)]
    high = float(np.ptp(support.nodes[:, 2]))
    middle = 0.5 * float(support.nodes[:, 2].min() + support.nodes[:, 2].max())
    thick = 2 * float(np.median(trunk[trunk[:, 2] <= middle, 3]))
    if high <= SLENDER * thick:
        return []
    words = f"{support.reason}: {high:.0f} mm high and {thick:.1f} mm thick."
    return [Fault(FaultKind.SLENDER, support.touch_mm, words)]


def _trunk(support: Branches) -> list[int]:
    """Nodes from the foot up along the thickest branch each time."""
    up: dict[int, list[int]] = {}
    for node, below in enumerate(support.down.tolist()):
        up.setdefault(below, []).append(node)
    path = [support.foot]
    while path[-1] in up:
        path.append(max(up[path[-1]], key=lambda node: float(support.nodes[node, 3])))
    return path

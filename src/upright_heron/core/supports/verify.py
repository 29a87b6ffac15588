"""The check of finished supports, layer by layer: what will be printed, not how it was made."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..layers import LayerStack
from ..progress import Progress, silent, tracked
from ..regions import links, pieces
from .demand import Patch, shape_of
from .model import Branches, Fault, SupportSet, SupportSettings

# Overlap of support and part under this is the noise of contours, mm2 a layer.
NOISE_MM2 = 0.15
# A support may lean over the one below it in the next layer by this, mm.
STEP_MM = 0.6
# A trunk higher than so many times its thickness shakes (common practice).
SLENDER = 60.0
# On a slope a support may end so much lower than the place it holds.
SLOPE_MM = 2.5
# Narrower than twice this, what lies under a patch only borders on it.
SLIVER_MM = 0.06
# Points looked at under one patch.
PROBES = 60


def verify(
    stack: LayerStack,
    patches: Sequence[Patch],
    made: SupportSet,
    settings: SupportSettings,
    *,
    clear: Sequence[CrossSection | None] | None = None,
    lost: dict[str, int] | None = None,
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
    lost : dict of patch id to number of tips, optional
        That found no way; it says why something is not held.
    progress : Progress

    Returns
    -------
    list of Fault
        From the plate up.
    """
    faults = _not_held(stack, patches, made, settings, lost or {})
    faults += _crossing(stack, made, clear, progress)
    faults += _floating(stack, made, settings)
    faults += _slender(made)
    return sorted(faults, key=lambda f: (round(f.at_mm[2], 3), f.kind))


def _not_held(
    stack: LayerStack,
    patches: Sequence[Patch],
    made: SupportSet,
    settings: SupportSettings,
    lost: dict[str, int],
) -> list[Fault]:
    """Patches with nothing printed under them within the spacing, at most of their points."""
    import shapely

    h = stack.layer_mm
    lift = round(stack.base_mm / h)
    gap = settings.gap_layers(h)
    within = max(settings.line_spacing_mm, settings.spacing_mm) * 0.75 + settings.clearance_mm
    fall = max(3, round(min(within, SLOPE_MM) / h))
    sections: dict[int, CrossSection] = {}
    faults = []
    for patch in patches:
        bare: list[NDArray[np.float64]] = []
        # Only what stands under the patch itself: a neighbour's column beside it holds nothing of it.
        own = patch.footprint.simplify(SLIVER_MM / 2)
        looked = 0
        step = max(1, len(patch.plans) // 12)
        for layer in sorted(patch.plans)[::step]:
            level = layer + lift - 1 - gap
            if level < 0:
                continue  # it comes to lie on the plate
            points = _spread(patch.plans[layer], within / 2, PROBES)
            looked += len(points)
            near = np.zeros(len(points), bool)
            # On a slope what holds it ends lower, by as much as the slope falls to it.
            for down in (0, 1, 2) if len(patch.plans) <= 2 else range(0, fall, max(1, fall // 6)):
                if near.all():
                    break
                if level - down not in sections:
                    sections[level - down] = made.layers.section(level - down)
                under = sections[level - down] ^ own
                shape = shape_of(under.offset(-SLIVER_MM).offset(SLIVER_MM))
                if not shape.is_empty:
                    near |= shapely.distance(shape, shapely.points(points)) <= within
            bare += [np.array([*p, stack.bottom_mm(layer)]) for p in points[~near]]
        if bare and len(bare) > 0.25 * looked:
            x, y, z = (float(v) for v in bare[0])
            share = 100 * len(bare) // max(looked, 1)
            why = f"{lost[patch.id]} tips found no way down" if patch.id in lost else "no room below it"
            faults.append(
                Fault(
                    "not held", (x, y, z), f"{patch.reason}: {share} % has no support below; {why}.", patch.id
                )
            )
    return faults


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


def _crossing(
    stack: LayerStack, made: SupportSet, clear: Sequence[CrossSection | None] | None, progress: Progress
) -> list[Fault]:
    """Stretches of layers in which supports lie in the part, or where nothing may pass."""
    lift = round(stack.base_mm / stack.layer_mm)
    faults: list[Fault] = []
    inside = {"crosses the part": -9, "too near": -9}
    for level in tracked(range(len(made.layers)), "Checking supports", progress):
        support = made.layers.section(level)
        if support.is_empty():
            continue
        found: list[tuple[str, CrossSection]] = []
        if 0 <= level - lift < len(stack):
            found.append(("crosses the part", stack.section(level - lift)))
        plan = clear[level] if clear is not None and level < len(clear) else None
        if plan is not None:
            found.append(("too near", plan))
        for kind, other in found:
            both = support ^ other
            if both.area() <= NOISE_MM2:
                continue
            if inside[kind] < level - 1:
                x0, y0, x1, y1 = both.bounds()
                at = ((x0 + x1) / 2, (y0 + y1) / 2, (level + 0.5) * stack.layer_mm)
                what = "the part" if kind == "crosses the part" else "what is kept clear"
                faults.append(Fault(kind, at, f"A support runs into {what} at {at[2]:.1f} mm."))
            inside[kind] = level
    return faults


def _floating(stack: LayerStack, made: SupportSet, settings: SupportSettings) -> list[Fault]:
    """Pieces of support with nothing below them: no support, no plate, no part within the gap."""
    h = stack.layer_mm
    lift = round(stack.base_mm / h)
    gap = settings.gap_layers(h)
    if not made.layers.area_mm2.any():
        return []
    found = pieces(made.layers)
    standing = np.zeros(len(found), bool)
    standing[links(found)[:, 0]] = True
    faults = []
    for k in np.flatnonzero(~standing & (found.layer > 0)):
        level = int(found.layer[k])
        section = found.section(int(k))
        below = made.layers.section(level - 1)
        if not below.is_empty() and not (section.offset(STEP_MM) ^ below).is_empty():
            continue
        # It keeps clear of a slope by the side clearance, and stands beside it as much as over it.
        wide = section.offset(settings.clearance_mm + 0.25)
        rests = any(
            not (wide ^ stack.section(level - step - lift)).is_empty()
            for step in range(1, gap + 4)
            if 0 <= level - step - lift < len(stack)
        )
        if not rests:
            x, y = (float(v) for v in found.inside_mm[k])
            faults.append(
                Fault("floats", (x, y, level * h), f"A support begins in mid-air at {level * h:.1f} mm.")
            )
    return faults


def _slender(made: SupportSet) -> list[Fault]:
    faults = []
    for support in made.supports:
        if not isinstance(support, Branches) or len(support.nodes) < 2:
            continue
        high = float(np.ptp(support.nodes[:, 2]))
        middle = 0.5 * float(support.nodes[:, 2].min() + support.nodes[:, 2].max())
        thick = 2 * float(np.median(support.nodes[support.nodes[:, 2] <= middle, 3]))
        if high > SLENDER * thick:
            x, y, z = support.touch_mm
            faults.append(
                Fault("slender", (x, y, z), f"{support.reason}: {high:.0f} mm high and {thick:.1f} mm thick.")
            )
    return faults

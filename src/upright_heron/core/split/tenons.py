"""Tenons: the outline of a face itself, drawn in, stands out of one piece and lies in the other."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from manifold3d import CrossSection, JoinType

from .faces import Turned
from .fittings import END_MM, MOST_TENON_MM, OUT_MM, ROOT_MM, JointSetting
from .laps import FINE_MM, Interlock, prism

# It reaches so many of its widths unless it is said, and no less than this, mm (common practice).
REACH, LEAST_MM = 0.75, 4.0
SHORTER = 0.7
# So many sections of the other piece are looked at before the exact test.
DEPTHS = 8
# Drawn in further by so much where the exact test refuses it.
INSETS_MM = (0.0, 0.5, 1.5)
# Its end is drawn in by this, over as much length, so that it finds its way.
LEAD_MM = 0.5


def tenon(
    region: CrossSection,
    above: Turned,
    setting: JointSetting,
    *,
    avoid: Sequence[Any] = (),
    holds: Callable[[Any], bool] = lambda room: True,
) -> tuple[Interlock | None, str]:
    """Make a tenon of a face.

    Parameters
    ----------
    region : CrossSection
        The face.
    above : Turned
        The piece that it lies in.
    setting : JointSetting
    avoid : sequence of Manifold
        What is cut out of that piece already; all of it lies level.
    holds : callable
        Tells of a level body whether it lies all in the material of that piece.

    Returns
    -------
    Interlock or None
    str
        Why there is none.
    """
    room = setting.wall_mm + setting.clearance_mm
    inner = _largest(region.offset(-room, JoinType.Round).simplify(FINE_MM))
    reach = setting.reach_mm or min(max(REACH * _width(inner), LEAST_MM), MOST_TENON_MM)
    while reach >= min(LEAST_MM, setting.reach_mm or LEAST_MM) - 1e-9:
        plan = inner - _shadow(avoid, above, reach + END_MM + setting.wall_mm).offset(room, JoinType.Round)
        for depth in np.linspace(0.02, reach + END_MM + setting.wall_mm, DEPTHS):
            plan = plan ^ above.section(float(depth), inward=True).offset(-room, JoinType.Round)
        plan = _largest(plan.simplify(FINE_MM))
        # What is aslant or bulges between the sections is kept clear of by a little more.
        for more in INSETS_MM:
            less = _largest(plan.offset(-more, JoinType.Round).simplify(FINE_MM)) if more else plan
            if _width(less) < setting.least_mm:
                break
            # A little less wide than it was drawn in for: what is round is drawn in steps.
            round_it = less.offset(setting.clearance_mm + 0.98 * setting.wall_mm, JoinType.Round)
            if holds(prism(round_it.simplify(FINE_MM), above, 0.02, reach + END_MM + setting.wall_mm)):
                short = setting.reach_mm is not None and reach < setting.reach_mm - 1e-9
                told = f"No room for {setting.reach_mm:g} mm: {reach:.1f} mm deep." if short else ""
                return _made(less, above, reach, setting), told
        reach *= SHORTER
    return None, (
        f"No room for a tenon of {setting.least_mm:g} mm that keeps {setting.wall_mm:g} mm of wall round it."
    )


def _shadow(bodies: Sequence[Any], above: Turned, deep: float) -> CrossSection:
    """What bodies cover of the plane, as far as they lie no deeper beyond it."""
    far = above.offset + (deep if above.beyond else -deep)
    low, high = sorted((above.offset, far))
    found = CrossSection()
    for body in bodies:
        near = body.trim_by_plane((0.0, 0.0, 1.0), low).trim_by_plane((0.0, 0.0, -1.0), -high)
        if not near.is_empty():
            found = found + near.project()
    return found


def _made(plan: CrossSection, above: Turned, reach: float, setting: JointSetting) -> Interlock:
    end = plan.offset(-LEAD_MM, JoinType.Round).simplify(FINE_MM)
    stands = prism(plan, above, -ROOT_MM, reach - LEAD_MM)
    if not end.is_empty():
        stands = stands + prism(end, above, reach - 2 * LEAD_MM, reach)
    wide = plan.offset(setting.clearance_mm, JoinType.Round).simplify(FINE_MM)
    cut = prism(wide, above, -OUT_MM, reach + END_MM)
    return Interlock(stands, cut, wide, _width(plan), reach, reach)


def _largest(shape: CrossSection) -> CrossSection:
    """Of a shape that fell apart the largest."""
    return max(shape.decompose(), key=lambda part: float(part.area()), default=shape)


def _width(shape: CrossSection) -> float:
    """How wide a shape is where it is widest: the largest circle that lies in it, mm."""
    low, high = 0.0, 500.0
    while high - low > 0.05:
        middle = 0.5 * (low + high)
        if shape.is_empty() or shape.offset(-middle / 2, JoinType.Round).is_empty():
            high = middle
        else:
            low = middle
    return low

"""Dovetails: a tail along a joint face, wider at its top, that slides into its slot from the side."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection, Manifold

from .faces import BESIDE_MM, Turned, centre
from .fittings import OUT_MM, ROOT_MM, JointSetting
from .laps import Interlock

# A flank leans by this much (woodwork has 1:8 to 1:6, 7 to 10 degrees; printed tails more, common practice).
FLANK_DEG = 15.0
# A tail is as wide at its top as this share of its face across, and no wider than this; so high as a share.
WIDTH_SHARE, WIDEST_MM, HEIGHT = 0.4, 16.0, 0.5
# Each width that is tried is this share of the one before; places across the face that are tried, as shares.
NARROWER = 0.8
ASIDE = (0.0, -0.12, 0.12, -0.24, 0.24)
# Over so much of its length a tail has its whole wall, where the face ends slantwise.
WHOLE = 0.55
# What may be missing of a section by rounding.
NOISE_MM2 = 1e-4


def dovetail(
    region: CrossSection,
    above: Turned,
    setting: JointSetting,
    angle_deg: float,
    others: Sequence[Turned] = (),
) -> tuple[Interlock | None, str]:
    """Make a dovetail along a face.

    Parameters
    ----------
    region : CrossSection
        The face.
    above : Turned
        The piece that has the slot.
    setting : JointSetting
    angle_deg : float
        Direction of the slide in the plane of the cut, from its first direction.
    others : sequence of Turned
        All other pieces on that side of the cut: they slide along, and nothing of them may meet the tail.

    Returns
    -------
    Interlock or None
    str
        Why there is none.
    """
    level = region.rotate(-angle_deg)
    _, y0, _, y1 = level.bounds()
    widest = setting.width_mm or min(WIDTH_SHARE * (y1 - y0), WIDEST_MM)
    width, hindered = widest, False
    while width >= setting.least_mm:
        high = setting.reach_mm or HEIGHT * width
        root = width - 2 * high * math.tan(math.radians(FLANK_DEG))
        if root >= 0.4 * width:
            for aside in ASIDE:
                y = centre(level)[1] + aside * (y1 - y0)
                ends = _run(level, above, y, width, high, angle_deg, setting)
                if ends is None:
                    continue
                hindered = _meets(y, width / 2 + 2 * setting.clearance_mm, high, others, angle_deg)
                if not hindered:
                    return _made(above, y, width, root, high, ends, angle_deg, setting), ""
        width *= NARROWER
    if hindered:
        return None, "Another piece would slide into its dovetail: their faces lie in one line."
    return None, (
        f"No room for a dovetail of {setting.least_mm:g} mm that keeps {setting.wall_mm:g} mm of wall."
    )


def _meets(y: float, half: float, tall: float, others: Sequence[Turned], angle_deg: float) -> bool:
    """Whether another piece has something at the height of a tail in its line."""
    for piece in others:
        for depth in (BESIDE_MM, tall / 2, tall):
            near = piece.section(depth, inward=True).rotate(-angle_deg)
            if near.is_empty():
                continue
            x0, y0, x1, y1 = near.bounds()
            if (
                y0 < y + half
                and y1 > y - half
                and (near ^ _rectangle(x0 - 1, y - half, x1 + 1, y + half)).area() > 0
            ):
                return True
    return False


def _run(
    level: CrossSection,
    above: Turned,
    y: float,
    width: float,
    tall: float,
    angle_deg: float,
    setting: JointSetting,
) -> tuple[float, float] | None:
    """From where to where a tail runs along the face, right through it; ``None`` where it has no room."""
    room = width / 2 + setting.clearance_mm + setting.wall_mm
    x0, _, x1, _ = level.bounds()
    strip = _rectangle(x0 - 1, y - room, x1 + 1, y + room)
    inside = level ^ strip
    parts = inside.decompose()
    if len(parts) != 1:
        return None
    low, _, high, _ = inside.bounds()
    # Where something of the strip is missing the wall is not whole, in the face and over the slot: only near
    # the ends of the face.
    looked = [
        level,
        *(above.section(d, inward=True).rotate(-angle_deg) for d in (tall, tall + setting.wall_mm)),
    ]
    first, last = low, high
    middle = 0.5 * (low + high)
    for wall in looked:
        for gap in (_rectangle(low, y - room, high, y + room) - wall).decompose():
            if gap.area() < NOISE_MM2:
                continue
            a, _, b, _ = gap.bounds()
            if a <= middle <= b:
                return None
            first, last = (max(first, b), last) if b < middle else (first, min(last, a))
    return (low, high) if last - first >= WHOLE * (high - low) else None


def _made(
    above: Turned,
    y: float,
    width: float,
    root: float,
    high: float,
    ends: tuple[float, float],
    angle_deg: float,
    setting: JointSetting,
) -> Interlock:
    gap = setting.clearance_mm
    # On the flanks the clearance is square to them.
    aside = gap / math.cos(math.radians(FLANK_DEG))
    rise = math.tan(math.radians(FLANK_DEG))
    half, top_half = root / 2, width / 2
    tail = [
        (-half, -ROOT_MM),
        (half, -ROOT_MM),
        (half, 0.0),
        (top_half, high),
        (-top_half, high),
        (-half, 0.0),
    ]
    top = width / 2 + aside + gap * rise
    foot = root / 2 + aside
    slot = [
        (-foot, -OUT_MM),
        (foot, -OUT_MM),
        (foot, 0.0),
        (top, high + gap),
        (-top, high + gap),
        (-foot, 0.0),
    ]
    long = 2 * math.hypot(above.x1 - above.x0, above.y1 - above.y0) + 2 * OUT_MM
    middle = 0.5 * (ends[0] + ends[1])
    stands = _bar(tail, ends[0] - OUT_MM, ends[1] + OUT_MM, y, above, angle_deg)
    cut = _bar(slot, middle - long, middle + long, y, above, angle_deg)
    plan = _rectangle(ends[0], y - top, ends[1], y + top).rotate(angle_deg)
    turn = math.radians(angle_deg)
    along = np.array([math.cos(turn), math.sin(turn)])
    return Interlock(stands, cut, plan, width, high, ends[1] - ends[0], along)


def _bar(
    section: list[tuple[float, float]], low: float, high: float, y: float, above: Turned, angle_deg: float
) -> object:
    """Prism of a section across and upwards, along the slide from low to high."""
    body = Manifold.extrude(CrossSection([np.array(section)]), high - low)
    # Its length was upwards: each axis moves on by one.
    body = body.transform(np.array([[0.0, 0.0, 1.0, low], [1.0, 0.0, 0.0, y], [0.0, 1.0, 0.0, 0.0]]))
    if not above.beyond:
        body = body.mirror((0.0, 0.0, 1.0))
    return body.rotate((0.0, 0.0, angle_deg)).translate((0.0, 0.0, above.offset))


def _rectangle(x0: float, y0: float, x1: float, y1: float) -> CrossSection:
    return CrossSection([np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1)])])

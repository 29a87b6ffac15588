"""Which footing a part of filament wants, and why: rules of thumb of the trade, each told with its figure."""

from __future__ import annotations

from dataclasses import dataclass

from manifold3d import CrossSection

from ..tags import stored
from .footing import FootingKind, is_helped, sharp_corners, sides_of

# Below and above these something speaks for more than a skirt (common practice).
SMALL_MM2, TALL, TIPS_DEG, LONG_MM, SLIM = 100.0, 4.0, 12.0, 100.0, 5.0
SHRINKS_PERCENT, FEET, FLAT_MM2, SPOT_MM2 = 0.5, 12, 600.0, 15.0


@dataclass(frozen=True, slots=True)
class Known:
    """What is known of a part in its stance.

    Attributes
    ----------
    contact_mm2 : float
        Of the part on the plate.
    height_mm : float
    tip_deg : float
        How far the plate may be tilted.
    feet : int
        Of supports on the plate.
    shrinkage_percent : float
    heated : bool
        The plate is.
    uneven : bool
        The shop's plates are uneven.
    """

    contact_mm2: float
    height_mm: float
    tip_deg: float
    feet: int
    shrinkage_percent: float
    heated: bool
    uneven: bool = False


@stored("footing-advice")
@dataclass(frozen=True, slots=True)
class Advice:
    """A footing, and the reasons that speak for it; what speaks for more comes first.

    Attributes
    ----------
    kind : FootingKind
    reasons : tuple of str
    """

    kind: FootingKind
    reasons: tuple[str, ...]


def advise(first: CrossSection, known: Known) -> Advice:
    """Advise a footing for a part of filament.

    Parameters
    ----------
    first : CrossSection
        First layer of the part; empty where it is lifted.
    known : Known

    Returns
    -------
    Advice
        A raft where only spots touch or plates are uneven, a brim where it may tip or come off, pads where
        corners lift, and else a skirt.
    """
    pieces = first.decompose() if not first.is_empty() else []
    raft, brim, pads = [], [], []
    if known.uneven:
        raft.append("the plates of the shop are uneven")
    if pieces and known.contact_mm2 < SPOT_MM2:
        raft.append(f"only {known.contact_mm2:.0f} mm² touch the plate")
    elif pieces and known.contact_mm2 < SMALL_MM2:
        brim.append(f"only {known.contact_mm2:.0f} mm² touch the plate")
    if not pieces and known.feet:
        brim.append(f"it stands on {known.feet} feet of supports alone")
    elif known.feet >= FEET:
        brim.append(f"{known.feet} feet of supports stand on the plate")
    if pieces and known.tip_deg < TIPS_DEG:
        brim.append(f"it tips over at {known.tip_deg:.0f}°")
    long, wide = max((sides_of(one) for one in pieces), default=(0.0, 0.0))
    if wide and known.height_mm > TALL * wide:
        brim.append(f"it is {known.height_mm / wide:.0f} times as high as its foot is wide")
    weak = sum(is_helped(one) for one in pieces)
    if len(pieces) > 1 and weak:
        brim.append(f"{weak} of {len(pieces)} pieces of the first layer are small or slim")
    if long > LONG_MM and long > SLIM * wide:
        brim.append(f"its foot is long and slim: {long:.0f} by {wide:.0f} mm")
    corners = len(sharp_corners(first)) if pieces else 0
    shrinks = known.shrinkage_percent >= SHRINKS_PERCENT
    if corners and shrinks and long > 0.4 * LONG_MM:
        pads.append(f"{corners} sharp corners, and the material shrinks by {known.shrinkage_percent:g} %")
    if not known.heated and long > 0.6 * LONG_MM:
        brim.append(f"{long:.0f} mm long on a plate that is not heated")
    for kind, reasons in (
        (FootingKind.RAFT, raft),
        (FootingKind.BRIM, brim),
        (FootingKind.CORNERS, pads),
    ):
        if reasons:
            more = [*raft, *brim, *pads]
            return Advice(kind, tuple(reasons + [one for one in more if one not in reasons]))
    if known.contact_mm2 >= FLAT_MM2:
        return Advice(FootingKind.SKIRT, (f"{known.contact_mm2:.0f} mm² lie flat: nothing more is needed",))
    return Advice(FootingKind.SKIRT, ("it stands firm, and nothing speaks for more",))

"""Sizes of stilts, and what their tips bear."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

from ...machines.catalogue import Peel
from ..model import SupportSettings

# What a tip bears, N for each mm2 of its contact (a guess, common practice only says that tough resins bear
# more and castable ones less; tips of 0.4 mm then bear 0.6 N).
BEARS: dict[Peel, float] = {Peel.EASY: 3.0, Peel.USUAL: 5.0, Peel.HARD: 7.0}


class Stoutness(StrEnum):
    """Names of the sizes."""

    FINE = "fine"
    MEDIUM = "medium"
    STOUT = "stout"


# Tip and shaft of a size that follows the medium one.
NOT_TYPED = (None, None)
# A shaft that nothing braces is made so many times as thick as a stout one at most.
THICKEST = 3.0
# Of each size: tip, shaft, foot and cone against those of the medium one.
SHARES = {
    Stoutness.FINE: (0.7, 0.8, 0.8, 0.8),
    Stoutness.MEDIUM: (1.0, 1.0, 1.0, 1.0),
    Stoutness.STOUT: (1.6, 1.5, 1.3, 1.2),
}


@dataclass(frozen=True, slots=True)
class StiltSize:
    """One size of stilt.

    Attributes
    ----------
    name : Stoutness
    tip_mm, shaft_mm, foot_mm : float
        Diameters.
    length_mm : float
        Of the cone at the tip.
    depth_mm : float
        How far the tip reaches into the part.
    """

    name: Stoutness
    tip_mm: float
    shaft_mm: float
    foot_mm: float
    length_mm: float
    depth_mm: float

    def bears_n(self, peel: Peel) -> float:
        """What its tip bears in a material of a class, N: a guess."""
        return BEARS[peel] * math.pi / 4 * self.tip_mm**2


def sizes(settings: SupportSettings) -> tuple[StiltSize, StiltSize, StiltSize]:
    """Fine, medium and stout; the medium one is as in the settings, the others where they tell of them."""
    asked = {Stoutness.FINE: settings.fine_mm, Stoutness.STOUT: settings.stout_mm}
    found = []
    for name, (tip, shaft, foot, cone) in SHARES.items():
        own_tip, own_shaft = asked.get(name, NOT_TYPED)
        thick = settings.shaft_mm * shaft if own_shaft is None else own_shaft
        found.append(
            StiltSize(
                name,
                settings.tip_mm * tip if own_tip is None else own_tip,
                thick,
                max(settings.foot_mm * foot, thick),
                settings.tip_length_mm * cone,
                settings.depth_mm,
            )
        )
    fine, medium, stout = found
    return fine, medium, stout


def shaft_bears_n(shaft_mm: float, peel: Peel) -> float:
    """What a shaft of a diameter bears in a material of a class, N: the same guess as for tips."""
    return BEARS[peel] * math.pi / 4 * shaft_mm**2


def size_for(load_n: float, of: tuple[StiltSize, ...], peel: Peel) -> StiltSize:
    """The smallest size whose tip bears a load; the largest where none does."""
    return next((size for size in of if size.bears_n(peel) >= load_n), of[-1])

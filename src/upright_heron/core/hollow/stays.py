"""What stays in a hollow part, as one judges it before it is printed."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from ..quantities import volume

# Less stays in than one can see.
LEAST_MM3 = 1.0
# Down is another when its direction moves by so much: half a degree.
TURNED = 0.01


class Verdict(StrEnum):
    """How well a hollow part drains."""

    GOOD = "good"
    DOUBTFUL = "doubtful"
    WRONG = "wrong"


@dataclass(frozen=True, slots=True)
class Stays:
    """What stays in a hollow part.

    Attributes
    ----------
    sealed_mm3 : float
        Shut in: no hole opens it.
    standing_mm3 : float
        That stays in as it drains on the plate.
    turned : bool
        It stands otherwise than when that was found.
    """

    sealed_mm3: float
    standing_mm3: float
    turned: bool

    @property
    def verdict(self) -> Verdict:
        """How well it drains."""
        if self.sealed_mm3 > LEAST_MM3:
            return Verdict.WRONG
        return Verdict.DOUBTFUL if self.turned or self.standing_mm3 > LEAST_MM3 else Verdict.GOOD

    @property
    def words(self) -> str:
        """The same in words."""
        if self.sealed_mm3 > LEAST_MM3:
            return f"{volume(self.sealed_mm3)} is shut in: no hole opens it."
        if self.turned:
            return "It stands otherwise now: hollow it again to see what stays in."
        if self.standing_mm3 > LEAST_MM3:
            return f"{volume(self.standing_mm3)} of resin stays in as it drains on the plate."
        return "Hollow, and it drains as it stands."

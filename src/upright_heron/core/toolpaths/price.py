"""What a print is charged at."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Pricing:
    """How a shop charges; nought where it does not.

    Attributes
    ----------
    per_gram, per_hour : float
        For material, and for the time of the machine.
    setup : float
        Once a print.
    least : float
        No print costs less.
    round_to : float
        Prices are rounded up to whole ones of these.
    """

    per_gram: float = 0.0
    per_hour: float = 0.0
    setup: float = 0.0
    least: float = 0.0
    round_to: float = 0.0

    def price(self, mass_g: float, seconds: float) -> float:
        """Price of a print of so much mass and time."""
        found = self.setup + mass_g * self.per_gram + seconds / 3600.0 * self.per_hour
        found = max(found, self.least)
        if self.round_to > 0:
            # A price that is whole but for rounding is not rounded up once more.
            found = math.ceil(found / self.round_to - 1e-9) * self.round_to
        return found

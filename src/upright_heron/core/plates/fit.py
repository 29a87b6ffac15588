"""Does the part fit the machine, and by how much not."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations

from .extent import Extent, swing_that_fits


@dataclass(frozen=True, slots=True)
class Fit:
    """How a size stands to a build volume.

    Attributes
    ----------
    spare_mm : (x, y, z)
        Room left along each side; negative where the part is too long.
    turned : bool
        It does not fit as it stands, but some turn by right angles would.
    swing_deg : float or None
        It does not fit as it stands, but swung about the vertical by so much it does.
    whole : bool
        Supports and footing are counted.
    """

    spare_mm: tuple[float, float, float]
    turned: bool
    swing_deg: float | None = None
    whole: bool = False

    @property
    def fits(self) -> bool:
        """Whether the part fits as it stands."""
        return min(self.spare_mm) >= -1e-6

    @property
    def over(self) -> list[tuple[str, float]]:
        """Sides that are too long, with how much, the worst first."""
        sides = [(n, -s) for n, s in zip("xyz", self.spare_mm, strict=True) if s < -1e-6]
        return sorted(sides, key=lambda side: -side[1])


def fit_of(extent: Extent, build_mm: tuple[float, float, float]) -> Fit:
    """Compare all that is printed of an item with a build volume; its height counts from the plate."""
    (wide, deep), high = extent.box().size_mm, extent.high_mm[2]
    found = fit((wide, deep, high), build_mm)
    swing = None
    if not found.fits and found.spare_mm[2] >= -1e-6:
        swing = swing_that_fits(extent.corners, build_mm[:2])
    return Fit(found.spare_mm, found.turned, swing, whole=True)


def fit(size_mm: tuple[float, float, float], build_mm: tuple[float, float, float]) -> Fit:
    """Compare the size of a part in its stance with a build volume."""
    x, y, z = (b - s for s, b in zip(size_mm, build_mm, strict=True))
    any_turn = any(
        all(s <= b + 1e-6 for s, b in zip(turn, build_mm, strict=True)) for turn in permutations(size_mm)
    )
    whole = Fit((x, y, z), False)
    return whole if whole.fits else Fit((x, y, z), any_turn)

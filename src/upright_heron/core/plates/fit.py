"""Does the part fit the machine, and by how much not."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations


@dataclass(frozen=True, slots=True)
class Fit:
    """How a size stands to a build volume.

    Attributes
    ----------
    spare_mm : (x, y, z)
        Room left along each side; negative where the part is too long.
    turned : bool
        It does not fit as it stands, but some turn by right angles would.
    """

    spare_mm: tuple[float, float, float]
    turned: bool

    @property
    def fits(self) -> bool:
        """Whether the part fits as it stands."""
        return min(self.spare_mm) >= -1e-6

    @property
    def over(self) -> list[tuple[str, float]]:
        """Sides that are too long, with how much, the worst first."""
        sides = [(n, -s) for n, s in zip("xyz", self.spare_mm, strict=True) if s < -1e-6]
        return sorted(sides, key=lambda side: -side[1])


def fit(size_mm: tuple[float, float, float], build_mm: tuple[float, float, float]) -> Fit:
    """Compare the size of a part in its stance with a build volume."""
    x, y, z = (b - s for s, b in zip(size_mm, build_mm, strict=True))
    any_turn = any(
        all(s <= b + 1e-6 for s, b in zip(turn, build_mm, strict=True)) for turn in permutations(size_mm)
    )
    whole = Fit((x, y, z), False)
    return whole if whole.fits else Fit((x, y, z), any_turn)

"""What hands did to tips of stilts, as recipes read it."""

from __future__ import annotations

from dataclasses import dataclass

Vector = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class TipsByHand:
    """What hands did to tips of stilts, in the frame of the part.

    Attributes
    ----------
    put_mm, out_mm : tuple of (x, y, z)
        Tips put and taken out.
    tip_sizes : tuple of (place, name)
        Sizes that were chosen for single tips.
    """

    put_mm: tuple[Vector, ...] = ()
    out_mm: tuple[Vector, ...] = ()
    tip_sizes: tuple[tuple[Vector, str], ...] = ()


@dataclass(frozen=True, slots=True)
class TipsAround:
    """What of that was done when the other stilts were stood: they stand round it."""

    by_hand: TipsByHand = TipsByHand()

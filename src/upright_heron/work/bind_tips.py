"""What hands did to tips of stilts, as recipes read it."""

from __future__ import annotations

from ..core.recipes.settings_by_hand import TipsByHand
from ..sheet.process import ResinSupports, TipsAround


def tips_of(known: ResinSupports | TipsAround) -> TipsByHand:
    """The tips that were put, taken out and sized."""
    chosen = tuple((one.at_mm, one.size.value) for one in known.tip_sizes)
    return TipsByHand(known.put_mm, known.out_mm, chosen)


def around(known: ResinSupports, made_for: str) -> TipsAround:
    """What hands had done when the other stilts were stood; all of it where these are stood anew.

    ``made_for`` stands for what they are stood from, whatever hands do.
    """
    if known.around is not None and known.around.made_for == made_for:
        return known.around
    return TipsAround(made_for=made_for, put_mm=known.put_mm, out_mm=known.out_mm, tip_sizes=known.tip_sizes)

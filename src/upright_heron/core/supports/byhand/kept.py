"""What hands made of automatic supports: some in their place, some taken out."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Protocol

from ..filament.finish import order
from ..filament.styles import Grown
from ..model import Branches, Column

# An automatic support that ends this near to one that was taken out is the same again.
SAME_MM = 1.0
TAKEN_OUT = "its support was taken out by hand"


class Removed(Protocol):
    """An automatic support that was taken out by hand: its id, its style, and where it touched (mm)."""

    @property
    def id(self) -> str:
        """Id that it had."""

    @property
    def style(self) -> str:
        """Style that it had."""

    @property
    def at_mm(self) -> tuple[float, float, float]:
        """Where it touched, mm."""


def is_removed(support: Column | Branches, removed: Sequence[Removed]) -> bool:
    """Whether an automatic support was taken out by hand, in this making or an earlier one."""
    return any(
        support.id == gone.id
        or (support.style == gone.style and math.dist(support.touch_mm, gone.at_mm) < SAME_MM)
        for gone in removed
    )


def by_hand(
    grown: Grown, removed: Sequence[Removed], kept: Sequence[Column | Branches]
) -> tuple[list[Column | Branches], dict[str, str]]:
    """Put what hands made in the place of what was made automatically.

    Parameters
    ----------
    grown : Grown
        Supports as they were made.
    removed : sequence of Removed
    kept : sequence of Column or Branches
        Supports that hands made or changed.

    Returns
    -------
    list of Column or Branches
    dict of patch id to words
        Why a patch may not be held.
    """
    mine = {s.id for s in kept}
    lost = dict(grown.lost)
    every = list(kept)
    for support in grown.supports:
        if support.id in mine:
            continue
        if is_removed(support, removed):
            lost |= dict.fromkeys(support.patches, TAKEN_OUT)
        else:
            every.append(support)
    return sorted(every, key=order), lost

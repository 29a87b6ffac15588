"""Items of a plate printed one after the other: what the head and the rail of a machine leave room for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Clearance:
    """What moves with the nozzle, and must not touch what stands already.

    Attributes
    ----------
    head_mm : float
        How far the head reaches round the nozzle: it is as low as the nozzle, so items keep so much from
        each other (common practice).
    rail_mm : float
        How high over the nozzle the rail is: it passes over the whole plate, so only what is printed last may
        be higher (common practice).
    """

    head_mm: float
    rail_mm: float


def in_order(heights_mm: Sequence[float]) -> list[int]:
    """The order to print items of these heights in: the lowest first, what is as high in their order."""
    return sorted(range(len(heights_mm)), key=lambda k: heights_mm[k])


def under_rail(heights_mm: Sequence[float], rail_mm: float) -> list[int]:
    """Which of some items are too high to be followed by another, the one that is printed last left out."""
    return [k for k in in_order(heights_mm)[:-1] if heights_mm[k] > rail_mm]

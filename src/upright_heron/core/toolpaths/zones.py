"""Stretches of height that are printed in a way of their own, pauses between layers, and strands."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from typing import TypeVar

from .beads import Event
from .patterns import Pattern

Z = TypeVar("Z", "Zone", "StrandZone")


@dataclass(frozen=True, slots=True)
class Zone:
    """A stretch of height with settings of its own; what is ``None`` is as elsewhere.

    Attributes
    ----------
    low_mm, high_mm : float
        From the plate, without footing. A layer belongs to it by its middle.
    walls : int or None
    density : float or None
        From 0 to 1.
    pattern : Pattern or None
    pace : float or None
        Share of the usual speed.
    nozzle_c, fan_percent : float or None
    """

    low_mm: float
    high_mm: float
    walls: int | None = None
    density: float | None = None
    pattern: Pattern | None = None
    pace: float | None = None
    nozzle_c: float | None = None
    fan_percent: float | None = None


@dataclass(frozen=True, slots=True)
class Pause:
    """The machine waits before the first layer whose upper side is over a height, mm, and what for."""

    z_mm: float
    why: str


@dataclass(frozen=True, slots=True)
class StrandZone:
    """Strands in a stretch of height: so many turns along the outline, or across at an angle.

    Attributes
    ----------
    low_mm, high_mm : float
    turns : int
        Nought where they cross.
    angle_deg : float
        From x towards y, of strands that cross.
    """

    low_mm: float
    high_mm: float
    turns: int = 2
    angle_deg: float = 0.0


def at_height(zones: Iterable[Z], z_mm: float) -> Z | None:
    """Stretch that a height lies in: the last one that was set, where several do."""
    found = None
    for zone in zones:
        if zone.low_mm <= z_mm < zone.high_mm:
            found = zone
    return found


def events(
    zones: tuple[Zone, ...],
    pauses: tuple[Pause, ...],
    heights_mm: list[float],
    usual: tuple[float, float],
) -> tuple[Event, ...]:
    """What happens between layers.

    Parameters
    ----------
    zones : tuple of Zone
    pauses : tuple of Pause
    heights_mm : list of float
        Middle of each layer from the plate, without footing; not a number where it is of the footing alone.
    usual : (nozzle C, fan percent)
        Outside of all stretches.

    Returns
    -------
    tuple of Event
    """
    found = []
    now = usual
    waiting = sorted((pause for pause in pauses), key=lambda pause: pause.z_mm)
    for layer, middle in enumerate(heights_mm):
        if math.isnan(middle):
            continue
        zone = at_height(zones, middle)
        nozzle = usual[0] if zone is None or zone.nozzle_c is None else zone.nozzle_c
        fan = usual[1] if zone is None or zone.fan_percent is None else zone.fan_percent
        # The fan of the first layer is off whatever is asked.
        asked = (nozzle, fan if layer else usual[1])
        if asked != now:
            found.append(
                Event(
                    layer,
                    nozzle if nozzle != now[0] else None,
                    asked[1] if asked[1] != now[1] else None,
                )
            )
            now = asked
        while waiting and waiting[0].z_mm < middle:
            pause = waiting.pop(0)
            if layer:
                found.append(Event(layer, pause=pause.why or "go on when ready"))
    return tuple(found)

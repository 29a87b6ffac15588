"""Stilts as plain values: what the shell tells of them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ..support_set import FaultKind, SupportSet
from .routes import EVERY_MM

# So many of the weakest tips are told by themselves.
WEAKEST = 10


def in_figures(made: SupportSet, part: Tree, moved_mm: NDArray[np.float64]) -> dict[str, object]:
    """Tips, what they bear, braces and check, as plain values, ``moved_mm`` (3,) back.

    That is how far all lies from the frame that places are told in. Whether stilts can be got out is not
    looked at: ``trapped`` is ``None``.
    """

    def told(at: tuple[float, float, float]) -> list[float]:
        x, y, z = at
        return [x - float(moved_mm[0]), y - float(moved_mm[1]), z]

    reasons = dict.fromkeys(one.reason for one in made.stilts)
    short = {fault.patch for fault in made.faults if fault.kind is FaultKind.NOT_HELD}
    return {
        "contact_area_mm2": made.contact_mm2,
        "patches": [
            {"id": name, "reason": name, "style": "stilts", "held": name not in short} for name in reasons
        ],
        "unheld": [f"island {number}" for number in made.unheld_islands],
        "faults": [{"kind": f.kind, "at_mm": told(f.at_mm), "words": f.words} for f in made.faults],
        "trapped": None,
        "max_branch_deg": max((one.lean_deg for one in made.stilts), default=0.0),
        "min_clearance_mm": _least_clearance(made, part),
        "tips": [
            {
                "id": one.id, "reason": one.reason, "at_mm": told(one.touch_mm), "size": one.size,
                "load_n": one.load_n, "bears_n": one.bears_n, "on_part": one.on_part, "snip": one.snip,
                "seen": one.seen,
                "stands_on": one.stands_on,
            }
            for one in made.stilts
        ],
        "braces": [
            {
                "id": bar.id, "between": list(bar.between),
                "ends_mm": [told((x, y, z)) for x, y, z in bar.ends_mm.tolist()],
            }
            for bar in made.braces
        ],
        "weakest": [
            {"id": one.id, "reason": one.reason, "load_n": one.load_n, "bears_n": one.bears_n}
            for one in made.weakest[:WEAKEST]
        ],
    }  # fmt: skip


def _least_clearance(made: SupportSet, part: Tree) -> float | None:
    """Least distance of the upright shafts to the part, mm; ``None`` where there are none."""
    least = []
    for one in made.stilts:
        low, high = one.upright
        if high[2] - low[2] > 1.0 and not one.on_part:
            shaft = np.linspace(low, high, max(2, int((high[2] - low[2]) / EVERY_MM)))
            least.append(float(part.distances(shaft).min()) - one.shaft_mm / 2)
    return min(least, default=None)

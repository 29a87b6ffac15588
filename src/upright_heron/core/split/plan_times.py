"""How long the pieces of a plan of cuts print, before any of them is made."""

from __future__ import annotations

from ..layers.stack import layer_count
from ..machines.catalogue import Material, Printer
from ..toolpaths.rough_estimate import Amounts, estimate
from .planner import Plan


def plan_seconds(
    plan: Plan, printer: Printer, material: Material, layer_mm: float, *, walls: int, infill: float
) -> tuple[float, float]:
    """Estimate roughly how long all pieces of a plan print, and the longest of them, without supports.

    Parameters
    ----------
    plan : Plan
        With the amounts of its pieces.
    printer : Printer
    material : Material
    layer_mm : float
    walls : int
    infill : float
        From 0 to 1.

    Returns
    -------
    (float, float)
        Seconds. Each piece is taken to lie on its broadest side: its shortest side is its height.
    """
    each = [
        estimate(
            printer, material, Amounts(volume, area, layer_count(side, layer_mm), layer_mm),
            walls=walls, infill=infill,
        ).seconds
        for volume, area, side in plan.amounts
    ]  # fmt: skip
    return sum(each), max(each)

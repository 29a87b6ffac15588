"""A rough estimate of time and material from volumes and rates. Called rough wherever it is shown."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from ..machines.catalogue import Material, Printer, Technology
from .process_table import Table, steps, usual_table

# Common practice, no source: heating up, level check and cool-down of a filament machine.
WARM_UP_S = 600.0
# Travel, seams and the change of layer, on top of the time that the beads take.
LAYER_OVERHEAD_S = 4.0
# Supports are printed this sparse by most machines; resin ones are solid.
SUPPORT_FILL = 0.20
# Between two corners where the nozzle all but stops, on average (own assumption, without toolpaths).
BETWEEN_STOPS_MM = 20.0


@dataclass(frozen=True, slots=True)
class Amounts:
    """What is printed, and in how many layers.

    Attributes
    ----------
    volume_mm3, area_mm2 : float
        Of the part.
    layers : int
        Of the whole print.
    layer_mm : float
    support_mm3, footing_mm3 : float
        Of the outlines of supports and footing.
    support_share : float, optional
        Share of the supports' volume that is printed; of plain outlines what is usual.
    thick_mm3 : float
        Part of it that is printed in every so many layers, as much thicker and in as much less time.
    every : int
    """

    volume_mm3: float
    area_mm2: float
    layers: int
    layer_mm: float
    support_mm3: float = 0.0
    footing_mm3: float = 0.0
    support_share: float | None = None
    thick_mm3: float = 0.0
    every: int = 1


@dataclass(frozen=True, slots=True)
class Estimate:
    """Rough time and material.

    Attributes
    ----------
    seconds : float
    part_g, support_g, footing_g : float
    length_m : float
        Filament; nought for resin.
    volume_ml : float
    cost : float
        By the kilogram, in the currency of the shop.
    layers : int
        Of the whole print.
    """

    seconds: float
    part_g: float
    support_g: float
    footing_g: float
    length_m: float
    volume_ml: float
    cost: float
    layers: int

    @property
    def mass_g(self) -> float:
        """Mass of everything."""
        return self.part_g + self.support_g + self.footing_g


def printed_volume_mm3(volume_mm3: float, area_mm2: float, wall_mm: float, infill: float) -> float:
    """Material in a part with solid walls of ``wall_mm`` and sparse insides (``infill`` from 0 to 1).

    Notes
    -----
    The walls take the surface times their thickness, less a tenth for corners counted twice, and never more
    than the part; own approximation, good to about 15 % on bulky parts.
    """
    shell = min(volume_mm3, 0.9 * area_mm2 * wall_mm)
    return shell + (volume_mm3 - shell) * infill


def filament_length_mm(volume_mm3: float, diameter_mm: float) -> float:
    """Length of filament that holds a volume: V / (pi d^2 / 4), a cylinder by definition."""
    return volume_mm3 / (math.pi * diameter_mm**2 / 4.0)


def support_fill(printer: Printer) -> float:
    """Share of a support's outline that is printed."""
    return SUPPORT_FILL if printer.technology is Technology.FILAMENT else 1.0


def estimate(
    printer: Printer,
    material: Material,
    amounts: Amounts,
    *,
    walls: int,
    infill: float,
    rows: Table = (),
) -> Estimate:
    """Estimate time and material.

    Parameters
    ----------
    printer : Printer
    material : Material
    amounts : Amounts
    walls : int
    infill : float
        From 0 to 1.
    rows : tuple of Row, optional
        How layers of resin are made; the usual ones where there are none.

    Returns
    -------
    Estimate
    """
    filament = printer.technology is Technology.FILAMENT
    width = printer.line_width_mm
    part, layers = amounts.volume_mm3, amounts.layers
    if filament:
        part = printed_volume_mm3(part, amounts.area_mm2, walls * width, infill)
    share = support_fill(printer) if amounts.support_share is None else amounts.support_share
    support = amounts.support_mm3 * share
    total = part + support + amounts.footing_mm3
    if filament:
        flow = width * amounts.layer_mm * printer.speed_mm_s
        # Speeding up and slowing down once over a stretch costs v / a, shared between two stretches.
        stops = 1.0 + printer.speed_mm_s**2 / (2.0 * printer.acceleration_mm_s2 * BETWEEN_STOPS_MM)
        quick = amounts.thick_mm3 * (1.0 - 1.0 / amounts.every)
        seconds = WARM_UP_S + (total - quick) / flow * stops + layers * LAYER_OVERHEAD_S
    else:
        seconds = steps(rows or usual_table(printer, material), layers).seconds
    gram = material.density_g_cm3 / 1000.0
    return Estimate(
        seconds=seconds,
        part_g=part * gram,
        support_g=support * gram,
        footing_g=amounts.footing_mm3 * gram,
        length_m=filament_length_mm(total, material.diameter_mm) / 1000.0 if filament else 0.0,
        volume_ml=total / 1000.0,
        cost=total * gram / 1000.0 * material.price_per_kg,
        layers=layers,
    )


def plate_seconds(items_s: Sequence[float], technology: Technology) -> float:
    """Rough time of items that are printed on one plate.

    Parameters
    ----------
    items_s : sequence of float
        Rough time of each by itself, s.
    technology : Technology

    Returns
    -------
    float
        Resin hardens by whole layers: it takes as long as the highest of them. Filament is laid item by item,
        and gets hot once.
    """
    if technology is Technology.RESIN:
        return max(items_s, default=0.0)
    return sum(items_s) - WARM_UP_S * max(len(items_s) - 1, 0)


@dataclass(frozen=True, slots=True)
class SecondNozzle:
    """What a second nozzle prints of supports.

    Attributes
    ----------
    material : str
    mass_g : float
    extra_cost : float
        Over what the same volume costs in the material of the part.
    """

    material: str
    mass_g: float
    extra_cost: float


def second_nozzle(volume_mm3: float, own: Material, other: Material) -> SecondNozzle:
    """Mass of a volume in the material of the second nozzle, and what it costs more than in the part's."""
    mass = volume_mm3 * other.density_g_cm3 / 1000.0
    same = volume_mm3 * own.density_g_cm3 / 1000.0
    extra = (mass * other.price_per_kg - same * own.price_per_kg) / 1000.0
    return SecondNozzle(other.name, mass, extra)


def with_cost(rough: Estimate, cost: float) -> Estimate:
    """Return the estimate with another cost."""
    return replace(rough, cost=cost)

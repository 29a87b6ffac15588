"""How long all pieces of a part print, roughly: of a plan, on other machines, with other settings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ..layers.stack import layer_count
from ..machines.catalogue import Material, Printer, Technology
from ..toolpaths.rough_estimate import Amounts, estimate

# Of a piece: volume (mm3), surface (mm2), and its shortest side (mm), which may stand upright.
Amount = tuple[float, float, float]
# By so much more or less infill.
INFILLS = (-0.1, -0.05, 0.05, 0.1)


@dataclass(frozen=True, slots=True)
class Slicing:
    """What rough estimates depend on besides the pieces; ``infill`` from 0 to 1."""

    printer: Printer
    material: Material
    layer_mm: float
    walls: int
    infill: float


@dataclass(frozen=True, slots=True)
class SetEstimate:
    """Of all pieces: seconds one after the other, of the longest, grams, and price of the material."""

    seconds: float
    longest_s: float
    mass_g: float
    cost: float


def set_estimate(amounts: Sequence[Amount], how: Slicing) -> SetEstimate:
    """Estimate roughly what all pieces take, without supports.

    Parameters
    ----------
    amounts : sequence of (float, float, float)
        Each piece is taken to lie on its broadest side: its shortest side is its height.
    how : Slicing

    Returns
    -------
    SetEstimate
    """
    each = [
        estimate(
            how.printer, how.material, Amounts(volume, area, layer_count(side, how.layer_mm), how.layer_mm),
            walls=how.walls, infill=how.infill,
        )
        for volume, area, side in amounts
    ]  # fmt: skip
    return SetEstimate(
        sum(one.seconds for one in each),
        max((one.seconds for one in each), default=0.0),
        sum(one.part_g for one in each),
        sum(one.cost for one in each),
    )


def with_other_settings(amounts: Sequence[Amount], how: Slicing) -> list[tuple[Slicing, SetEstimate]]:
    """Estimate the same pieces with one setting changed at a time.

    Parameters
    ----------
    amounts : sequence of (float, float, float)
    how : Slicing

    Returns
    -------
    list of (Slicing, SetEstimate)
        The other layer heights of the machine; with filament also a wall or some infill less and more.
    """
    filament = how.printer.technology is Technology.FILAMENT
    heights = [height for height in how.printer.layer_heights_mm if abs(height - how.layer_mm) > 1e-6]
    tried = [replace(how, layer_mm=height) for height in heights]
    if filament:
        tried += [replace(how, walls=walls) for walls in (how.walls - 1, how.walls + 1) if walls >= 1]
        shares = [round(how.infill + by, 3) for by in INFILLS]
        tried += [replace(how, infill=share) for share in shares if 0 <= share <= 1]
    return [(one, set_estimate(amounts, one)) for one in tried]


def on_other_machines(
    amounts: Sequence[Amount],
    sizes_mm: Sequence[tuple[float, float, float]],
    how: Slicing,
    printers: Sequence[Printer],
) -> list[tuple[Printer, int, SetEstimate]]:
    """Estimate the same pieces on other machines of the same kind.

    Parameters
    ----------
    amounts : sequence of (float, float, float)
    sizes_mm : sequence of (x, y, z)
        Of the pieces.
    how : Slicing
    printers : sequence of Printer

    Returns
    -------
    list of (Printer, int, SetEstimate)
        Each with how many pieces are too big for it on any of their sides, the quickest first.
    """
    found = []
    for one in printers:
        if one.technology is not how.printer.technology or one.name == how.printer.name:
            continue
        build = np.sort(one.build_mm)
        big = sum(bool((np.sort(size) > build).any()) for size in sizes_mm)
        found.append((one, big, set_estimate(amounts, replace(how, printer=one))))
    return sorted(found, key=lambda each: (each[1] > 0, each[2].seconds))

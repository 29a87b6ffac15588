"""Printers and materials of the demo workshop, and what follows from choosing them.

Rates, limits and prices are common practice without a source; every one of them can be typed over in a job.
Process names after ISO/ASTM 52900: material extrusion (filament) and vat photopolymerization (resin).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from ..errors import BadValue


class Technology(StrEnum):
    """How a machine builds."""

    FILAMENT = "filament"
    RESIN = "resin"


@dataclass(frozen=True, slots=True)
class Printer:
    """A machine.

    Attributes
    ----------
    name : str
    technology : Technology
    build_mm : (x, y, z) build volume
    layer_heights_mm : tuple of float
        What it is usually run at.
    layer_mm : float
        What a new job starts with.
    finest_mm : float
        Nozzle diameter (filament) or pixel (resin).
    speed_mm_s : float
        Usual print speed (filament) or mean lift speed (resin).
    limit_bonus_deg : float
        What its cooling adds to the material's limit.
    acceleration_mm_s2 : float
        Of the nozzle.
    heated : bool
        Its plate is heated.
    habit : str
        The footing that new jobs begin with: "none", "skirt", "brim" or "raft".
    spot_mm : (x, y)
        Favourite spot for a part, from the middle of the plate.
    worn : tuple of (x, y, radius)
        Places of the plate that are kept free, from its middle, mm.
    nozzles : int
        With two, supports may be of a material of their own.
    greys : int
        Of a screen, black and white among them; 2 where pixels are on or off.
    travel_mm_s, flow_mm3_s, retract_mm, warm_up_s : float
        Speed from bead to bead; the most that comes out of a nozzle; how far filament is drawn back; and what
        it takes to get hot.
    head_mm, rail_mm : float
        How far its head reaches round the nozzle, and how high over the nozzle its rail is (filament).
    """

    name: str
    technology: Technology
    build_mm: tuple[float, float, float]
    layer_heights_mm: tuple[float, ...]
    layer_mm: float
    finest_mm: float
    speed_mm_s: float
    limit_bonus_deg: float = 0.0
    acceleration_mm_s2: float = 1000.0
    heated: bool = True
    habit: str = "skirt"
    spot_mm: tuple[float, float] = (0.0, 0.0)
    worn: tuple[tuple[float, float, float], ...] = ()
    nozzles: int = 1
    greys: int = 256
    travel_mm_s: float = 150.0
    flow_mm3_s: float = 11.0
    retract_mm: float = 1.0
    warm_up_s: float = 240.0
    head_mm: float = 35.0
    rail_mm: float = 40.0

    @property
    def line_width_mm(self) -> float:
        """Width of one bead (filament), a tenth wider than the nozzle; one pixel for resin."""
        return round(self.finest_mm * 1.1, 3) if self.technology is Technology.FILAMENT else self.finest_mm


class Peel(StrEnum):
    """How hard a layer of resin comes off the film (common practice, no standard)."""

    EASY = "easy"
    USUAL = "usual"
    HARD = "hard"


@dataclass(frozen=True, slots=True)
class Material:
    """A material.

    Attributes
    ----------
    name : str
    technology : Technology
    density_g_cm3 : float
    price_per_kg : float
    limit_deg : float
        Self-supporting limit to begin with, degrees from vertical.
    exposure_s, first_exposure_s : float
        Exposure of a layer and of the first layers (resin).
    bridge_mm : float
        Longest bridge that carries itself (filament).
    diameter_mm : float
        Of the filament.
    bottle_ml : float
        Resin in a bottle.
    spool_g : float
        Filament on a spool.
    peel : Peel
    shrinkage_percent : float
        How much shorter a printed side is than it was drawn.
    nozzle_c, bed_c : (lowest, usual, highest)
        Temperatures (filament).
    """

    name: str
    technology: Technology
    density_g_cm3: float
    price_per_kg: float
    limit_deg: float
    exposure_s: float = 0.0
    first_exposure_s: float = 0.0
    bridge_mm: float = 10.0
    diameter_mm: float = 1.75
    bottle_ml: float = 1000.0
    peel: Peel = Peel.USUAL
    shrinkage_percent: float = 0.0
    nozzle_c: tuple[float, float, float] = (180.0, 210.0, 300.0)
    bed_c: tuple[float, float, float] = (0.0, 60.0, 120.0)
    spool_g: float = 1000.0


_FILAMENT_LAYERS = (0.10, 0.15, 0.20, 0.30)
_RESIN_LAYERS = (0.025, 0.05, 0.10)

PRINTERS: tuple[Printer, ...] = (
    Printer(
        "Sedge 300",
        Technology.FILAMENT,
        (300.0, 300.0, 340.0),
        _FILAMENT_LAYERS,
        0.20,
        0.4,
        60.0,
        nozzles=2,
    ),
    Printer("Reed 190", Technology.FILAMENT, (190.0, 170.0, 185.0), _FILAMENT_LAYERS, 0.20, 0.4, 50.0),
    # 4000 x 2500 and 5600 x 3200 pixels.
    Printer("Tarn 9", Technology.RESIN, (184.0, 115.0, 190.0), _RESIN_LAYERS, 0.05, 0.046, 2.0),
    Printer("Mere 13", Technology.RESIN, (291.2, 166.4, 270.0), _RESIN_LAYERS, 0.05, 0.052, 2.0),
)
# No longer offered; jobs made for it still open.
RETIRED: tuple[Printer, ...] = (
    Printer("Reed 180", Technology.FILAMENT, (180.0, 180.0, 180.0), _FILAMENT_LAYERS, 0.20, 0.4, 50.0),
)

# What the second nozzle lays as strands: glass in nylon; from memory, as the rest of its figures.
STRAND = Material(
    "Glass strand",
    Technology.FILAMENT,
    1.5,
    250.0,
    45.0,
    nozzle_c=(235.0, 255.0, 275.0),
    bed_c=(0.0, 80.0, 110.0),
)

# Where nobody measured, 45 degrees from vertical is the starting rule whatever the material (common
# practice); a coupon tells what a machine holds.
START_DEG = 45.0

# Densities as on typical data sheets (ISO 1183 methods), from memory; the rest, shrinkage and
# temperatures among it, is common practice.
MATERIALS: tuple[Material, ...] = (
    Material(
        "PLA",
        Technology.FILAMENT,
        1.24,
        22.0,
        START_DEG,
        shrinkage_percent=0.2,
        nozzle_c=(190.0, 205.0, 225.0),
        bed_c=(0.0, 60.0, 70.0),
    ),
    Material(
        "PETG",
        Technology.FILAMENT,
        1.27,
        24.0,
        START_DEG,
        shrinkage_percent=0.3,
        nozzle_c=(225.0, 240.0, 255.0),
        bed_c=(0.0, 80.0, 90.0),
    ),
    Material(
        "ABS",
        Technology.FILAMENT,
        1.04,
        24.0,
        START_DEG,
        bridge_mm=8.0,
        shrinkage_percent=0.7,
        nozzle_c=(230.0, 245.0, 260.0),
        bed_c=(80.0, 100.0, 110.0),
    ),
    Material(
        "ASA",
        Technology.FILAMENT,
        1.07,
        30.0,
        START_DEG,
        bridge_mm=8.0,
        shrinkage_percent=0.6,
        nozzle_c=(235.0, 250.0, 265.0),
        bed_c=(80.0, 100.0, 110.0),
    ),
    Material(
        "TPU",
        Technology.FILAMENT,
        1.21,
        36.0,
        START_DEG,
        bridge_mm=5.0,
        shrinkage_percent=0.5,
        nozzle_c=(205.0, 225.0, 240.0),
        bed_c=(0.0, 45.0, 60.0),
    ),
    Material(
        "PA",
        Technology.FILAMENT,
        1.14,
        55.0,
        START_DEG,
        bridge_mm=8.0,
        shrinkage_percent=1.0,
        nozzle_c=(240.0, 260.0, 280.0),
        bed_c=(0.0, 80.0, 100.0),
    ),
    Material("Standard resin", Technology.RESIN, 1.10, 32.0, START_DEG, 2.5, 30.0, shrinkage_percent=0.3),
    Material(
        "Tough resin",
        Technology.RESIN,
        1.12,
        48.0,
        START_DEG,
        3.0,
        35.0,
        peel=Peel.HARD,
        shrinkage_percent=0.4,
    ),
    Material(
        "Castable resin",
        Technology.RESIN,
        1.11,
        180.0,
        START_DEG,
        3.5,
        40.0,
        10.0,
        1.75,
        500.0,
        Peel.EASY,
        0.5,
    ),
)

_PRINTERS = {name: known for known in (*PRINTERS, *RETIRED) for name in (known.name, known.name.lower())}
_MATERIALS = {name: known for known in MATERIALS for name in (known.name, known.name.lower())}


def printer(name: str) -> Printer:
    """Find a printer by name.

    Raises
    ------
    BadValue
        No such printer; the advice lists those there are.
    """
    known = _PRINTERS.get(name) or _PRINTERS.get(name.strip().lower())
    if known is not None:
        return known
    raise BadValue(f"There is no printer “{name}”.", f"Use one of: {', '.join(p.name for p in PRINTERS)}.")


def material(name: str) -> Material:
    """Find a material by name.

    Raises
    ------
    BadValue
        No such material; the advice lists those there are.
    """
    known = _MATERIALS.get(name) or _MATERIALS.get(name.strip().lower())
    if known is not None:
        return known
    raise BadValue(f"There is no material “{name}”.", f"Use one of: {', '.join(m.name for m in MATERIALS)}.")


def materials_for(machine: Printer) -> tuple[Material, ...]:
    """List the materials that a printer can use."""
    return tuple(m for m in MATERIALS if m.technology is machine.technology)


def limit_for(machine: Printer, stuff: Material) -> float:
    """Self-supporting limit of a printer and material, degrees from vertical."""
    return stuff.limit_deg + machine.limit_bonus_deg

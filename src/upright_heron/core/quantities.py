"""Lengths, areas, volumes and masses as they are written everywhere. A leaf module."""

from __future__ import annotations

from collections.abc import Sequence

THIN = "\u202f"  # narrow no-break space


def length(mm: float) -> str:
    """``118`` or ``0.45``: millimetres without the unit, no idle zeros."""
    return f"{mm:.2f}".rstrip("0").rstrip(".") if abs(mm) < 10 else f"{mm:.1f}".removesuffix(".0")


def size(mm: Sequence[float]) -> str:
    """``118 × 64 × 92 mm``."""
    return " × ".join(length(v) for v in mm) + " mm"


def area(mm2: float) -> str:
    """Square millimetres, or square centimetres from 1000 mm² on."""
    if mm2 >= 1000:
        # From a thousand on nobody reads the tenths.
        return f"{mm2 / 100:,.{0 if mm2 >= 1e5 else 1}f} cm²".replace(",", THIN)
    if 0 < mm2 < 1:
        return f"{mm2:.2f} mm²" if mm2 >= 0.005 else "under 0.01 mm²"
    return f"{mm2:.1f} mm²" if 0 < mm2 < 100 else f"{mm2:.0f} mm²"


def volume(mm3: float) -> str:
    """Cubic centimetres, or cubic millimetres under 1 cm³."""
    if abs(mm3) < 1000:
        return f"{mm3:.1f} mm³" if abs(mm3) < 10 else f"{mm3:.0f} mm³"
    return f"{mm3 / 1000:,.{0 if abs(mm3) >= 1e6 else 1}f} cm³".replace(",", THIN)


def mass(g: float) -> str:
    """Grams, or kilograms from 1000 g on."""
    return f"{g / 1000:.2f} kg" if g >= 1000 else f"{g:.1f} g"

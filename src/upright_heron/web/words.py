"""Figures as they are shown: units, thousands, durations."""

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


def duration(seconds: float) -> str:
    """``5 h 12 min``, ``48 min``."""
    minutes = max(1, round(seconds / 60))
    hours, minutes = divmod(minutes, 60)
    if hours >= 48:
        return f"{hours // 24} d {hours % 24} h"
    return f"{hours} h {minutes:02d} min" if hours else f"{minutes} min"


def shown(value: float) -> str:
    """A number as a field shows it: what comes back the same was not changed by hand."""
    return f"{value:.6g}"


def count(number: int, one: str, many: str | None = None) -> str:
    """``1 island``, ``3 islands``."""
    return f"{number:,} {one if number == 1 else many or one + 's'}".replace(",", THIN)


FILTERS = {
    "mm": length,
    "size": size,
    "area": area,
    "volume": volume,
    "mass": mass,
    "duration": duration,
    "count": count,
    "shown": shown,
}

# One and many of each defect, by the names of ``core.health``, and what the step that takes it is called.
DEFECT_WORDS = {
    "open_edges": ("open edge", "open edges"),
    "nonmanifold_edges": ("edge of three facets or more", "edges of three facets or more"),
    "flipped_facets": ("facet facing inwards", "facets facing inwards"),
    "duplicate_facets": ("facet there twice", "facets there twice"),
    "degenerate_facets": ("facet without area", "facets without area"),
    "self_crossings": ("crossing of facets", "crossings of facets"),
}
STEP_WORDS = {"holes": "Fill", "outwards": "Turn", "drop": "Drop", "unite": "Unite bodies"}

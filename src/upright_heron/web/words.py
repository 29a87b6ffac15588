"""Figures as pages show them: durations, counts, and quantities as the core writes them."""

from __future__ import annotations

from ..core.quantities import THIN, area, length, mass, size, volume


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


def direction(normal: tuple[float, float, float]) -> str:
    """``x``, or ``0.71, 0, 0.71`` for a direction along no axis."""
    for axis, share in zip("xyz", normal, strict=True):
        if abs(share) > 1 - 1e-6:
            return axis
    return ", ".join(f"{v:.2f}".rstrip("0").rstrip(".") for v in normal)


# Ways to cut, and what holds pieces together.
PLAN_WORDS = {
    "planned": "Planned",
    "whole": "Whole, another way up",
    "boxes": "Even boxes",
    "shifted boxes": "Shifted boxes",
}
CUT_GOAL_WORDS = {
    "fewer_pieces": "Fewer pieces",
    "less_support": "Less support",
    "clean_show": "Seams that do not show",
    "shorter_print": "Shorter longest print",
    "even_pieces": "Even pieces",
}
JOINT_WORDS = {
    "butt": "their faces alone",
    "peg": "pegs on one of them",
    "dowel": "loose dowels",
    "pocket": "pockets for magnets or nuts",
    "dovetail": "dovetails that slide in",
    "lap": "half-laps of thin walls",
    "tenon": "tenons of their own outline",
}

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
STEP_WORDS = {
    "weld": "Join corners",
    "holes": "Fill",
    "outwards": "Turn",
    "drop": "Drop",
    "unite": "Unite bodies",
    "arrange": "Cut where they cross",
    "apart": "Take apart",
    "rewrap": "Re-wrap",
}

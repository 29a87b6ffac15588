"""Small pictures of patterns: their true lines in a square of 24 mm."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

from manifold3d import CrossSection

from ....core.toolpaths.patterns import Pattern, filled

# Side of the square, and its height over the plate, mm.
SIDE_MM, AT_MM = 24.0, 3.0
# An empty inside is shown as it would be with this share.
LEAST = 0.05


@dataclass(frozen=True, slots=True)
class Swatch:
    """A pattern, its lines as the path of an SVG in mm, and how wide they are."""

    pattern: Pattern
    path: str
    line_mm: float


@lru_cache(maxsize=64)
def swatches(density: float, line_mm: float, layer_mm: float) -> list[Swatch]:
    """All patterns at a density, from 0 to 1."""
    square = CrossSection.square((SIDE_MM, SIDE_MM))
    share = max(density, LEAST)
    layer = round(AT_MM / layer_mm)
    found = []
    for pattern in Pattern:
        lines = filled(square, pattern, share, line_mm, AT_MM, layer)
        words = [
            "M" + "L".join(f"{x:.2f},{SIDE_MM - y:.2f}" for x, y in lines.points[a:b].tolist())
            for a, b in pairwise(lines.start.tolist())
        ]
        found.append(Swatch(pattern, "".join(words), lines.width_mm))
    return found

"""Patterns that fill the inside: each a family of lines that depends on height, with an exact density."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from itertools import pairwise

import numpy as np
from manifold3d import CrossSection, JoinType
from numpy.typing import NDArray

from ..layers.stack import packed
from .beads import Chain, Kind
from .insets import inset_rings
from .scan_lines import clipped, lines_across

# Lines reach so far into the walls, as a share of their width.
ANCHOR = 0.25
# Ends are joined along the wall over so many spacings: over more it costs more than it saves.
JOIN = 1.5
# Pieces shorter than so many lines are left out.
LEAST = 1.5
# Beads of a whole area are as wide as its volume asks, within these shares of a line.
FLOW = (0.8, 1.15)
# Places on a period of a wave.
AROUND = 24


class Pattern(StrEnum):
    """How the inside is filled."""

    LINES = "lines"
    ZIGZAG = "zigzag"
    GRID = "grid"
    TRIANGLES = "triangles"
    CUBIC = "cubic"
    HONEYCOMB = "honeycomb"
    GYROID = "gyroid"
    CONCENTRIC = "concentric"

    @property
    def sensible_percent(self) -> tuple[float, float]:
        """Densities that it is used with (common practice), percent."""
        return _SENSIBLE[self]

    @property
    def joined(self) -> bool:
        """Ends of its lines are joined along the walls."""
        return self not in (Pattern.CONCENTRIC, Pattern.GYROID, Pattern.HONEYCOMB)


_SENSIBLE = {
    Pattern.LINES: (5.0, 100.0), Pattern.ZIGZAG: (5.0, 100.0), Pattern.GRID: (5.0, 60.0),
    Pattern.TRIANGLES: (5.0, 50.0), Pattern.CUBIC: (5.0, 40.0), Pattern.HONEYCOMB: (5.0, 50.0),
    Pattern.GYROID: (5.0, 60.0), Pattern.CONCENTRIC: (10.0, 100.0),
}  # fmt: skip

Lines = tuple[NDArray[np.float64], NDArray[np.int64]]


@dataclass(frozen=True, slots=True)
class Filled:
    """Lines that fill a region.

    Attributes
    ----------
    points : (P, 2) float64, mm
    start : (N + 1,) int64
        Where each chain begins.
    width_mm : float
        Of the bead.
    links_mm : float
        How much of the length joins ends along the outline.
    """

    points: NDArray[np.float64]
    start: NDArray[np.int64]
    width_mm: float
    links_mm: float


def filled(
    region: CrossSection, pattern: Pattern, density: float, line_mm: float, z_mm: float, layer: int
) -> Filled:
    """Fill a region with a pattern.

    Parameters
    ----------
    region : CrossSection
        Up to the walls.
    pattern : Pattern
    density : float
        Share of the area that beads cover, over 0.
    line_mm : float
    z_mm : float
        Middle of the layer.
    layer : int
        Lines turn from layer to layer.

    Returns
    -------
    Filled
    """
    rings = inset_rings(packed(region.to_polygons()), (0.5 - ANCHOR) * line_mm)
    if not len(rings[0]):
        return Filled(np.zeros((0, 2)), np.zeros(1, np.int64), line_mm, 0.0)
    spacing = line_mm / density
    if pattern is Pattern.CONCENTRIC:
        return _concentric(region, spacing, line_mm)
    if pattern is Pattern.GYROID:
        return _waves(rings, *_gyroid(rings, spacing, z_mm, line_mm, density))
    if pattern is Pattern.HONEYCOMB:
        return _waves(rings, _honeycomb(rings, density, line_mm), line_mm)
    lines = []
    links = 0.0
    families = _families(pattern, spacing, z_mm, layer)
    # What crosses within a layer is joined for each direction by itself.
    for angle, apart, offset in families:
        reach = math.inf if pattern is Pattern.ZIGZAG else JOIN * apart
        points, start, linked = lines_across(*rings, angle, apart, offset, reach, 1)
        lines.append((points, start))
        links += float(linked)
    points, start = _together(lines)
    return Filled(points, start, line_mm, links)


def solid(region: CrossSection, line_mm: float, angle: float) -> Filled:
    """Fill a region whole with lines at an angle.

    Parameters
    ----------
    region : CrossSection
        Up to the walls.
    line_mm : float
    angle : float
        Of the lines, from x towards y, radians.

    Returns
    -------
    Filled
    """
    rings = inset_rings(packed(region.to_polygons()), (0.5 - ANCHOR) * line_mm)
    if not len(rings[0]):
        return Filled(np.zeros((0, 2)), np.zeros(1, np.int64), line_mm, 0.0)
    turned = -rings[0][:, 0] * math.sin(angle) + rings[0][:, 1] * math.cos(angle)
    low = float(turned.min())
    points, start, links = lines_across(*rings, angle, line_mm, low + 0.5 * line_mm, 2.5 * line_mm, 1)
    # Ends reach into the walls, and links lie beside them: beads are slimmer, so that the volume is right.
    steps = np.hypot(*np.diff(points, axis=0).T)
    steps[start[1:-1] - 1] = 0.0
    slim, broad = FLOW
    width = float(np.clip(region.area() / max(float(steps.sum()), 1e-9), slim * line_mm, broad * line_mm))
    return Filled(points, start, width, float(links))


def lines_apart(region: CrossSection, width_mm: float, apart_mm: float, angle: float) -> Filled:
    """Fill a region with lines so far apart, joined along its outline.

    Parameters
    ----------
    region : CrossSection
    width_mm : float
        Of a line.
    apart_mm : float
        From middle to middle.
    angle : float
        Of the lines, from x towards y, radians.

    Returns
    -------
    Filled
    """
    rings = inset_rings(packed(region.to_polygons()), (0.5 - ANCHOR) * width_mm)
    if not len(rings[0]):
        return Filled(np.zeros((0, 2)), np.zeros(1, np.int64), width_mm, 0.0)
    points, start, links = lines_across(*rings, angle, apart_mm, 0.5 * apart_mm, JOIN * apart_mm, 1)
    return Filled(points, start, width_mm, float(links))


def chains_of(lines: Filled, kind: Kind) -> list[Chain]:
    """Lines as paths of a kind."""
    return [
        Chain(lines.points[a:b], np.full(b - a, lines.width_mm), kind)
        for a, b in pairwise(lines.start.tolist())
        if b - a > 1
    ]


def widest_gap_mm(pattern: Pattern, density: float, line_mm: float) -> float:
    """How far the lines of a pattern are apart at most, from side to side, mm: what a roof has to span.

    Between parallel lines it is their spacing less a line; in squares, triangles and six-sided cells the
    width of a circle that touches all sides; of waves the half of a period across.
    """
    if density <= 0:
        return math.inf
    spacing = line_mm / density
    share = {
        Pattern.LINES: 1.0, Pattern.ZIGZAG: 1.0, Pattern.CONCENTRIC: 1.0, Pattern.GRID: 2.0,
        # Each family is three spacings apart: the circle in a triangle of that height has two thirds.
        Pattern.TRIANGLES: 2.0, Pattern.CUBIC: 2.0,
        # Two opposite walls of a cell are sqrt(3) of its side apart, which is 8 / (3 sqrt(3)) spacings.
        Pattern.HONEYCOMB: 8.0 / 3.0, Pattern.GYROID: math.pi * _gyroid_mean(),
    }[pattern]  # fmt: skip
    return max(share * spacing - line_mm, 0.0)


def _families(pattern: Pattern, spacing: float, z_mm: float, layer: int) -> list[tuple[float, float, float]]:
    """Angle, spacing and offset of each family of lines of a layer."""
    third = math.pi / 3
    if pattern in (Pattern.LINES, Pattern.ZIGZAG):
        turn = math.pi / 4 if pattern is Pattern.LINES else 0.0
        return [(turn + (layer % 2) * math.pi / 2, spacing, 0.0)]
    if pattern is Pattern.GRID:
        return [(math.pi / 4 + k * math.pi / 2, 2 * spacing, 0.0) for k in range(2)]
    # Faces of a cube on its corner are 54.74 degrees off level: their sections move by cot of that.
    shift = z_mm / math.sqrt(2.0) if pattern is Pattern.CUBIC else 0.0
    return [(k * third, 3 * spacing, shift * (-1.0) ** k) for k in range(3)]


def _together(parts: list[Lines]) -> Lines:
    points = np.concatenate([p for p, _ in parts])
    starts, at = [np.zeros(1, np.int64)], 0
    for _, start in parts:
        starts.append(start[1:] + at)
        at += int(start[-1])
    return points, np.concatenate(starts)


def _waves(rings: Lines, waves: Lines, width_mm: float) -> Filled:
    points, start = clipped(*rings, *waves, LEAST * width_mm)
    return Filled(points, start, width_mm, 0.0)


def _concentric(region: CrossSection, spacing: float, line_mm: float) -> Filled:
    rings = []
    inset = 0.5 * spacing
    while True:
        inner = region.offset(-inset, JoinType.Miter, 2.0).simplify(0.01)
        if inner.is_empty():
            break
        rings += [np.concatenate([ring, ring[:1]]) for ring in inner.to_polygons()]
        inset += spacing
    points, start = packed(rings)
    return Filled(points, start, line_mm, 0.0)


@lru_cache(maxsize=4096)
def _gyroid_length(phase: float) -> float:
    """Length of the curves of a layer of the gyroid over their area, for a period of 2 pi."""
    length = 0.0
    for along, across in _gyroid_curves(phase, 480):
        length += float(np.hypot(np.diff(along), np.diff(across)).sum())
    return length / (2 * math.pi) ** 2


@lru_cache(maxsize=1)
def _gyroid_mean() -> float:
    """Mean over height of the length of the curves over their area."""
    return float(np.mean([_gyroid_length(round(2 * math.pi * k / 64, 6)) for k in range(64)]))


def _gyroid_curves(phase: float, count: int) -> list[tuple[NDArray[np.float64], NDArray[np.float64]]]:
    """Both curves of one period: sin u cos v + sin v cos w + sin w cos u = 0 (Schoen 1970), along and across.

    For a height w it is a cos v + b sin v = c with a = sin u, b = cos w, c = - sin w cos u, where v follows
    from u; where sin w is greater than cos w, u follows from v by the same form.
    """
    t = np.linspace(0, 2 * math.pi, count + 1)
    s, c = math.sin(phase), math.cos(phase)
    if abs(c) >= abs(s):
        a, b, rest = np.sin(t), np.full_like(t, c), -s * np.cos(t)
    else:
        # sin u cos v + cos u sin w = - sin v cos w, in u.
        a, b, rest = np.full_like(t, s), np.cos(t), -c * np.sin(t)
    turn = np.unwrap(np.arctan2(b, a))
    aside = np.arccos(np.clip(rest / np.hypot(a, b), -1, 1))
    return [(t, turn + aside), (t, turn - aside)]


def _gyroid(rings: Lines, spacing: float, z_mm: float, line_mm: float, density: float) -> tuple[Lines, float]:
    """Curves of a layer over all of the region, and the width that gives the density in this layer."""
    # So that the mean length over height gives the density with beads as wide as a line.
    scale = spacing * _gyroid_mean()
    phase = (z_mm / scale) % (2 * math.pi)
    width = line_mm * _gyroid_mean() / _gyroid_length(round(phase, 4))
    low, high = rings[0].min(axis=0), rings[0].max(axis=0)
    period = 2 * math.pi * scale
    across_y = abs(math.cos(phase)) >= abs(math.sin(phase))
    first, last = (0, 1) if across_y else (1, 0)
    begin = math.floor(low[first] / period)
    repeats = math.ceil(high[first] / period) - begin
    chains = []
    for along, across in _gyroid_curves(phase, AROUND):
        # Over one period it comes back to where it began, or goes on by one.
        step = across[-1] - across[0]
        u = np.concatenate([along[:-1] + 2 * math.pi * (begin + k) for k in range(repeats)])
        v = np.concatenate([across[:-1] + step * k for k in range(repeats)])
        u, v = u * scale, v * scale
        shift = math.floor((low[last] - float(v.max())) / period)
        rows = math.ceil((high[last] - float(v.min())) / period) - shift
        for k in range(rows + 1):
            row = np.empty((len(u), 2))
            row[:, first], row[:, last] = u, v + (shift + k) * period
            chains.append(row)
    return packed(chains), width


def _honeycomb(rings: Lines, density: float, line_mm: float) -> Lines:
    """Rows of half cells, mirrored from one to the next; walls that two rows share lie beside each other."""
    side = 8 * line_mm / (3 * math.sqrt(3) * density)
    for _ in range(20):
        tall = max(math.sqrt(3) / 2 * side - line_mm, 0.05 * side)
        length = 2 * side + 2 * math.hypot(side / 2, tall)
        now = line_mm * length / (3 * side * math.sqrt(3) / 2 * side)
        side *= now / density
    step, tall = math.sqrt(3) / 2 * side, max(math.sqrt(3) / 2 * side - line_mm, 0.05 * side)
    low, high = rings[0].min(axis=0), rings[0].max(axis=0)
    begin = math.floor(low[0] / (3 * side)) - 1
    count = math.ceil(high[0] / (3 * side)) - begin + 1
    x = np.concatenate([3 * side * (begin + k) + side * np.array([0, 0.5, 1.5, 2.0]) for k in range(count)])
    up = np.tile([0.0, 1.0, 1.0, 0.0], count)
    chains = []
    for row in range(math.floor(low[1] / step) - 1, math.ceil(high[1] / step) + 1):
        share = up if row % 2 == 0 else 1 - up
        y = row * step + 0.5 * line_mm + tall * share
        chains.append(np.column_stack([x, y]))
    return packed(chains)

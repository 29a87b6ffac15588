"""What resin parts stand on: a raft under all, a pad under each foot, or feet joined by ties."""

from __future__ import annotations

import math

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType, OpType
from numpy.typing import NDArray

# A raft closes gaps up to twice this between feet, so that it is one slab.
CLOSES_MM = 15.0
# Ties are so wide, and feet have so much round them where ties end.
TIE_MM, ROUND_FOOT_MM = 1.6, 0.8
# Holes that resin runs off through: their radius, how far apart they are, and how far from feet and rim.
HOLE_MM, APART_MM, FROM_FEET_MM, FROM_RIM_MM = 2.0, 10.0, 1.0, 2.5
# A rim leans in by this share of the margin at most, and ties by this share of their width on each side.
MOST_RIM, MOST_TIE = 0.75, 0.3
SIDES = 32
# Outlines are thinned by this.
FINE_MM = 0.01


def raft(first: CrossSection, margin_mm: float, *, gaps: bool) -> CrossSection:
    """One slab under all.

    Parameters
    ----------
    first : CrossSection
        First layer of part and supports together.
    margin_mm : float
        How far it reaches past them.
    gaps : bool
        With holes that resin runs off through, where nothing stands.

    Returns
    -------
    CrossSection
    """
    closed = _grown(first, margin_mm + CLOSES_MM).offset(-CLOSES_MM, JoinType.Round, 2.0, SIDES)
    slab = CrossSection([ring for ring in closed.to_polygons() if _turn(ring) > 0], FillRule.NonZero)
    if len(slab.decompose()) > 1:
        slab = slab.hull()
    return slab - _holes(slab, first) if gaps else slab


def _holes(slab: CrossSection, first: CrossSection) -> CrossSection:
    """Holes on a grid of triangles, clear of what stands on the slab and of its rim."""
    x0, y0, x1, y1 = slab.bounds()
    rows = np.arange(y0, y1, APART_MM * math.sqrt(0.75))
    places = [
        (x, float(y))
        for k, y in enumerate(rows)
        for x in np.arange(x0 + 0.5 * APART_MM * (k % 2), x1, APART_MM).tolist()
    ]
    free = slab.offset(-(HOLE_MM + FROM_RIM_MM), JoinType.Round, 2.0, SIDES)
    free = free - _grown(first, HOLE_MM + FROM_FEET_MM)
    rings = free.to_polygons()
    if not rings or not places:
        return CrossSection()
    import shapely

    from ..geometry.plan_shapes import shape_of

    inside = shapely.contains_xy(shape_of(free), *np.array(places).T)
    circle = CrossSection.circle(HOLE_MM, 24)
    found = [circle.translate(place) for place, ok in zip(places, inside.tolist(), strict=True) if ok]
    return CrossSection.compose(found) if found else CrossSection()


def pads(first: CrossSection, margin_mm: float) -> CrossSection:
    """A pad under each foot, and under what of the part lies on the plate; the rest as for ``raft``."""
    return _grown(first, margin_mm)


def ties(first: CrossSection) -> CrossSection:
    """Feet with bars from each to those next to it: one piece, through which resin runs off.

    Parameters
    ----------
    first : CrossSection
        As for ``raft``.

    Returns
    -------
    CrossSection

    Notes
    -----
    Two feet are joined where no third lies in the circle over the two (Gabriel and Sokal 1969, A new
    statistical approach to geographic variation analysis, Systematic Zoology 18(3)): all hang together, for
    the shortest tree is part of that graph.
    """
    pieces = first.decompose()
    at = np.array([_inside(piece) for piece in pieces]).reshape(-1, 2)
    bars = [_bar(at[a], at[b]) for a, b in _next_to(at)]
    return CrossSection.batch_boolean([_grown(first, ROUND_FOOT_MM), *bars], OpType.Add)


def _next_to(at: NDArray[np.float64]) -> list[tuple[int, int]]:
    """Pairs of points (n, 2) with no third in the circle over both."""
    from scipy.spatial import Delaunay, QhullError, cKDTree

    if len(at) < 2:
        return []
    try:
        found = Delaunay(at, qhull_options="Qbb Qc Qz").simplices
        edges = np.unique(
            np.sort(np.concatenate([found[:, [0, 1]], found[:, [1, 2]], found[:, [2, 0]]]), axis=1), axis=0
        )
    except QhullError:
        # Three are needed, and not in a line: along one, each is next to the one after it.
        order = np.lexsort((at[:, 1], at[:, 0]))
        return list(zip(order[:-1].tolist(), order[1:].tolist(), strict=True))
    middle, half = at[edges].mean(axis=1), 0.5 * np.linalg.norm(np.diff(at[edges], axis=1)[:, 0], axis=1)
    near, _ = cKDTree(at).query(middle)
    return [
        (a, b) for (a, b), ok in zip(edges.tolist(), (near >= half * (1 - 1e-9)).tolist(), strict=True) if ok
    ]


def _bar(a: NDArray[np.float64], b: NDArray[np.float64]) -> CrossSection:
    way = (b - a) / max(float(np.linalg.norm(b - a)), 1e-9)
    across = 0.5 * TIE_MM * np.array([-way[1], way[0]])
    return CrossSection([np.array([a - across, b - across, b + across, a + across])], FillRule.NonZero)


def _inside(piece: CrossSection) -> tuple[float, float]:
    """A place in a piece: its middle if that lies in it."""
    import shapely

    from ..geometry.plan_shapes import shape_of

    shape = shape_of(piece)
    point = shape.centroid if shape.contains(shape.centroid) else shapely.point_on_surface(shape)
    return float(point.x), float(point.y)


def rims(
    outline: CrossSection, first: CrossSection, layers: int, layer_mm: float, rim_deg: float, most_mm: float
) -> tuple[CrossSection, ...]:
    """Outlines of the lower layers of a base whose rim leans out upwards, bottom first.

    Parameters
    ----------
    outline : CrossSection
        Of its top layer.
    first : CrossSection
        What stands on it: it is under that down to the plate.
    layers : int
    layer_mm : float
    rim_deg : float
        From upright.
    most_mm : float
        By so much it leans in at most.

    Returns
    -------
    tuple of CrossSection
        Empty where it does not lean.
    """
    step = layer_mm * math.tan(math.radians(rim_deg))
    if step < 1e-9:
        return ()
    inward = [min((layers - 1 - k) * step, most_mm) for k in range(layers - 1)]
    return tuple((outline.offset(-by, JoinType.Round, 2.0, SIDES) + first).simplify(FINE_MM) for by in inward)


def _grown(section: CrossSection, distance_mm: float) -> CrossSection:
    return section.offset(distance_mm, JoinType.Round, 2.0, SIDES).simplify(FINE_MM)


def _turn(ring: NDArray[np.float64]) -> float:
    x, y = (ring - ring[0]).T
    return float(x @ np.roll(y, -1) - np.roll(x, -1) @ y)

"""Braces between neighbouring stilts, so that no shaft stands alone."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ..model import Brace, Stilt, support_id
from .routes import EVERY_MM

# Braces rise at this angle between stilts no further apart, one in so much height, from so high up
# (common practice).
RISE_DEG, REACH_MM, RHYTHM_MM, FIRST_MM = 45.0, 12.0, 25.0, 3.0
# Nearer ones grow together anyhow; each stilt is braced to so many neighbours.
LEAST_MM, NEIGHBOURS = 1.2, 2
# Of so many that are nearest.
TRIED = 10
# As thick as this share of the thinner shaft; the part is left as clear as by shafts.
THICK = 0.7


def brace(stilts: Sequence[Stilt], part: Tree, clearance_mm: float) -> list[Brace]:
    """Put braces between the upright shafts of neighbouring stilts.

    Parameters
    ----------
    stilts : sequence of Stilt
    part : Tree
        Of the part where it stands.
    clearance_mm : float
        To the part.

    Returns
    -------
    list of Brace
        From one shaft up to the next, the other way round each time. Both ends lie in shafts.
    """
    from scipy.spatial import cKDTree

    shafts = [one.upright for one in stilts]
    tall = [k for k, (low, high) in enumerate(shafts) if high[2] - low[2] > FIRST_MM]
    if len(tall) < 2:
        return []
    plan = np.array([shafts[k][0][:2] for k in tall])
    away, near = cKDTree(plan).query(plan, min(len(tall), TRIED + 1))
    pairs = {
        (min(own, int(other)), max(own, int(other))): float(d)
        for own in range(len(tall))
        for d, other in zip(away[own], near[own], strict=True)
        if other != own and LEAST_MM <= d <= REACH_MM
    }
    nearest = sorted(pairs, key=lambda pair: (pairs[pair], pair))
    bars = [_between(stilts[tall[a]], stilts[tall[b]]) for a, b in nearest]
    clear = _clear_of(part, [bar for some in bars for bar in some], clearance_mm)
    found: list[Brace] = []
    neighbours = np.zeros(len(tall), np.int64)
    first = 0
    # The nearest first; one that the part keeps all braces from is no neighbour.
    for (a, b), some in zip(nearest, bars, strict=True):
        free = [bar for bar, fits in zip(some, clear[first : first + len(some)], strict=True) if fits]
        first += len(some)
        if free and (neighbours[[a, b]] < NEIGHBOURS).any():
            found += free
            neighbours[[a, b]] += 1
    return found


def _between(one: Stilt, other: Stilt) -> list[Brace]:
    """Braces between two shafts, from the lowest up."""
    (low_a, high_a), (low_b, high_b) = one.upright, other.upright
    rise = math.tan(math.radians(RISE_DEG)) * math.hypot(*(low_b[:2] - low_a[:2]))
    z = max(float(low_a[2]), float(low_b[2]), FIRST_MM)
    top = min(float(high_a[2]), float(high_b[2]))
    radius = THICK * min(one.shaft_mm, other.shaft_mm) / 2
    found = []
    turned = False
    while z + rise <= top:
        foot, head = (low_b, low_a) if turned else (low_a, low_b)
        ends = np.array([[*foot[:2], z], [*head[:2], z + rise]])
        middle = ends.mean(axis=0)
        found.append(
            Brace(support_id("brace", *(float(v) for v in middle)), (one.id, other.id), ends, radius)
        )
        turned = not turned
        z += RHYTHM_MM
    return found


def _clear_of(part: Tree, braces: list[Brace], clearance_mm: float) -> list[bool]:
    """Whether each comes nowhere too near to the part."""
    if not braces:
        return []
    places: list[NDArray[np.float64]] = []
    for one in braces:
        count = max(2, math.ceil(float(np.linalg.norm(one.ends_mm[1] - one.ends_mm[0])) / EVERY_MM))
        places.append(np.linspace(one.ends_mm[0], one.ends_mm[1], count))
    away = part.distances(np.concatenate(places), 5.0)
    starts = np.cumsum([0] + [len(p) for p in places[:-1]])
    least = np.minimum.reduceat(away, starts)
    return [d >= one.radius_mm + clearance_mm for one, d in zip(braces, least.tolist(), strict=True)]

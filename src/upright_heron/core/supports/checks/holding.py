"""Which supports hold which finding: looked up in the finished supports."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
import shapely
from numpy.typing import NDArray

from ...geometry.mesh import Mesh
from ...geometry.plan_shapes import shape_of
from ...hanging.findings import Family, Hanging, finding_id
from ...hanging.overhang_regions import Region
from ..model import Branches, Column, SupportSettings
from ..resin.stilt import Stilt
from ..support_set import SupportSet

# Share of the probes of a finding that need something under them.
ENOUGH = 0.5
# Probes of one region.
PROBES = 40


def probes(found: Hanging, placed: Mesh) -> dict[str, NDArray[np.float64]]:
    """Points (k, 3) of each finding that supports can hold, by its id.

    Parameters
    ----------
    found : Hanging
    placed : Mesh
        The part that the facets of the regions belong to, the plate at z = 0.
    """
    points = {
        finding_id(Family.ISLAND, i.x_mm, i.y_mm, i.z_mm): np.array([[i.x_mm, i.y_mm, i.z_mm]])
        for i in found.islands
    }
    points |= {
        finding_id(Family.LOW, p.x_mm, p.y_mm, p.z_mm): np.array([[p.x_mm, p.y_mm, p.z_mm]])
        for p in found.lows
    }
    for region in found.regions:
        points[finding_id(Family.OVERHANG, *region.lowest_mm)] = _spread(region, placed)
    return points


def _spread(region: Region, placed: Mesh) -> NDArray[np.float64]:
    """Points of a region, the more on a facet the larger it is; the same at every run."""
    corners = placed.vertices[placed.faces[region.facets]]
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    reach = np.cumsum(0.5 * np.linalg.norm(cross, axis=1))
    random = np.random.default_rng(5)
    at = np.searchsorted(reach, (np.arange(PROBES) + 0.5) / PROBES * reach[-1])
    u, v = np.sqrt(random.random(PROBES)), random.random(PROBES)
    a, b, c = (corners[at, k] for k in range(3))
    result: NDArray[np.float64] = (1 - u)[:, None] * a + (u * (1 - v))[:, None] * b + (u * v)[:, None] * c
    return result


def holding(
    points: Mapping[str, NDArray[np.float64]], made: SupportSet, settings: SupportSettings
) -> dict[str, tuple[str, ...]]:
    """Say which supports hold each finding.

    Parameters
    ----------
    points : mapping of id to (k, 3) float64
        From ``probes``.
    made : SupportSet
    settings : SupportSettings

    Returns
    -------
    dict of id to ids of supports
        Of findings that are held at ``ENOUGH`` of their points.
    """
    if not points:
        return {}
    ids = list(points)
    owner = np.repeat(np.arange(len(ids)), [len(points[i]) for i in ids])
    every = np.concatenate([points[i] for i in ids])
    h = made.layers.layer_mm
    under = np.zeros(len(every), bool)
    by: list[dict[str, None]] = [{} for _ in ids]
    columns = (s for s in made.supports if isinstance(s, Column))
    touched = (*_under_columns(every, columns, settings, h), *_at_tips(every, made, settings))
    for support, hit in touched:
        under[hit] = True
        for k in np.unique(owner[hit]):
            by[int(k)][support] = None
    total = np.bincount(owner, minlength=len(ids))
    held = np.bincount(owner, weights=under, minlength=len(ids)) >= ENOUGH * total
    return {ids[k]: tuple(by[k]) for k in np.flatnonzero(held)}


def _under_columns(
    every: NDArray[np.float64], columns: Iterable[Column], settings: SupportSettings, h: float
) -> Iterable[tuple[str, NDArray[np.int64]]]:
    """Points a column ends below, within the gap and the clearance to the side."""
    gap = settings.gap_layers(h) * h
    aside = max(settings.clearance_mm + 0.3, 0.6 * settings.line_spacing_mm)
    for column in columns:
        tops = np.array([slab.high_mm for slab in column.slabs])
        for k, slab in enumerate(column.slabs):
            # It holds what begins above it by the gap and up to two layers: a slope rises within its strip.
            low = slab.low_mm + gap
            high = tops[k] + gap + 2.5 * h
            near = np.flatnonzero((every[:, 2] > low) & (every[:, 2] <= high))
            if not len(near):
                continue
            area = shape_of(slab.section)
            x0, y0, x1, y1 = area.bounds
            spots = every[near, :2]
            close = (
                (spots[:, 0] > x0 - aside) & (spots[:, 0] < x1 + aside)
                & (spots[:, 1] > y0 - aside) & (spots[:, 1] < y1 + aside)
            )  # fmt: skip
            near = near[close]
            if len(near):
                away = shapely.distance(area, shapely.points(every[near, :2]))
                if (away <= aside).any():
                    yield column.id, near[away <= aside]


def _at_tips(
    every: NDArray[np.float64], made: SupportSet, settings: SupportSettings
) -> Iterable[tuple[str, NDArray[np.int64]]]:
    """Points within one spacing of the tip of a stilt."""
    from scipy.spatial import cKDTree

    tips: list[tuple[float, float, float]] = []
    names: list[str] = []
    for support in made.supports:
        if isinstance(support, Stilt):
            tips.append(support.touch_mm)
            names.append(support.id)
        elif isinstance(support, Branches):
            ends = np.setdiff1d(np.arange(len(support.nodes)), support.down)
            tips += [(float(x), float(y), float(z)) for x, y, z, _ in support.nodes[ends]]
            names += [support.id] * len(ends)
    if not tips:
        return
    near = cKDTree(every).query_ball_point(tips, settings.spacing_mm)
    for name, hit in zip(names, near, strict=True):
        if hit:
            yield name, np.array(sorted(hit), np.int64)

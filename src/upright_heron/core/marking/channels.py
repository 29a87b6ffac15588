"""Holes and channels: places of a surface that look at other places of it near by, all round."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..geometry.subdivision import Fine
from ..geometry.tree import Tree
from ..tags import stored

# Walls of a channel face each other: the cosine between them is below this.
FACING = -0.3
# Wider stretches belong to a channel too, up to so many times its width (the long sides of a slot).
STRETCH = 3.0
# Shorter than this times their width, holes are rims, not channels.
SHORTEST = 0.5
# Facets that rays are sent from; of finer meshes every second, third ... facet.
MOST_RAYS = 200_000
# Share of the walls that directions have to be spread over for them to close round.
ROUND = 0.08
OPEN = 0.35


@stored("channel")
@dataclass(frozen=True, eq=False)
class Channel:
    """One hole or channel.

    Attributes
    ----------
    number : int
        From 1, the narrowest first.
    width_mm : float
        Between its walls, median.
    length_mm : float
        Of its walls from end to end, about.
    straight : bool
        A pin could be pushed along it.
    area_mm2 : float
    at_mm : (x, y, z)
        The middle of one of its facets, in the frame of the part.
    facets : (k,) int64
        Of the fine mesh.
    """

    number: int
    width_mm: float
    length_mm: float
    straight: bool
    area_mm2: float
    at_mm: tuple[float, float, float]
    facets: NDArray[np.int64]


def gaps_mm(fine: Fine, tree: Tree | None = None) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """How far away each facet sees the part again, straight out, and where.

    Parameters
    ----------
    fine : Fine
    tree : Tree, optional
        Of the fine mesh.

    Returns
    -------
    (m,) float64
        mm; infinite where it sees nothing, or nothing that faces it.
    (m,) int64
        The facet it sees, or -1.
    """
    tree = tree or Tree.of(fine.mesh)
    step = -(-len(fine.parent) // MOST_RAYS)
    asked = np.arange(0, len(fine.parent), step, dtype=np.int64)
    length, seen = tree.first_hits(fine.middles_mm[asked], fine.normals[asked], asked)
    facing = np.einsum("ij,ij->i", fine.normals[asked], fine.normals[np.maximum(seen, 0)])
    good = (seen >= 0) & (facing < FACING)
    gap, other = np.full(len(fine.parent), np.inf), np.full(len(fine.parent), -1, np.int64)
    gap[asked[good]], other[asked[good]] = length[good], seen[good]
    if step > 1:
        _lend(fine, asked, gap, other)
    return gap, other


def _lend(fine: Fine, asked: NDArray[np.int64], gap: NDArray[np.float64], other: NDArray[np.int64]) -> None:
    """Give facets that sent no ray what the nearest one that did has seen."""
    from scipy.spatial import cKDTree

    rest = np.setdiff1d(np.arange(len(gap)), asked)
    _, near = cKDTree(fine.middles_mm[asked]).query(fine.middles_mm[rest])
    from_ = asked[near]
    alike = np.einsum("ij,ij->i", fine.normals[rest], fine.normals[from_]) > 0.7
    gap[rest[alike]], other[rest[alike]] = gap[from_[alike]], other[from_[alike]]


def find_channels(
    fine: Fine,
    width_mm: float,
    seen: tuple[NDArray[np.float64], NDArray[np.int64]] | None = None,
) -> list[Channel]:
    """Find holes and channels narrower than a width, straight or curved.

    Parameters
    ----------
    fine : Fine
    width_mm : float
    seen : pair of (m,) float64 and (m,) int64, optional
        From ``gaps_mm``.

    Returns
    -------
    list of Channel
        The narrowest first.

    Notes
    -----
    Facets that see the part again within the width (or ``STRETCH`` times it) are joined with their
    neighbours and with what they see. A group is a channel when its walls close round: their directions
    cancel, and are spread over more than two opposite ones.
    """
    gap, other = seen or gaps_mm(fine)
    wide = gap <= STRETCH * width_mm
    count = len(gap)
    a, b = fine.pairs.T
    near = wide[a] & wide[b]
    looks = np.flatnonzero(wide & (gap <= width_mm))
    looks = looks[wide[other[looks]]]
    one, two = np.concatenate([a[near], looks]), np.concatenate([b[near], other[looks]])
    graph = coo_matrix((np.ones(len(one), np.int8), (one, two)), (count, count))
    _, label = connected_components(graph, directed=False)
    members = np.flatnonzero(wide)
    order = members[np.argsort(label[members], kind="stable")]
    groups = np.split(order, np.flatnonzero(np.diff(label[order])) + 1) if len(order) else []
    found = []
    for group in groups:
        narrow = group[gap[group] <= width_mm]
        weight = fine.areas_mm2[group]
        area = float(weight.sum())
        if fine.areas_mm2[narrow].sum() < 0.25 * area or area < width_mm:
            continue
        normals = fine.normals[group]
        if np.linalg.norm(weight @ normals) > OPEN * area:
            continue
        spread = np.linalg.eigvalsh((normals * weight[:, None]).T @ normals) / area
        if spread[1] < ROUND:
            continue
        # By area, so that a mouth with many small facets does not count more than a plain wall.
        width = _median(gap[narrow], fine.areas_mm2[narrow])
        length = area / (np.pi * width)
        if length < SHORTEST * width:
            continue
        at = fine.middles_mm[narrow[len(narrow) // 2]]
        found.append((width, length, bool(spread[0] < 0.01), area, at, group))
    found.sort(key=lambda c: (round(c[0], 3), tuple(c[4].tolist())))
    return [
        Channel(n, width, length, straight, area, (float(at[0]), float(at[1]), float(at[2])), np.sort(group))
        for n, (width, length, straight, area, at, group) in enumerate(found, 1)
    ]


def channel_at(fine: Fine, facet: int, seen: tuple[NDArray[np.float64], NDArray[np.int64]]) -> Channel | None:
    """The channel that a facet is a wall of, however wide; ``None`` where it is no wall of one.

    Parameters
    ----------
    fine : Fine
    facet : int
    seen : pair of (m,) float64 and (m,) int64
        From ``gaps_mm``.
    """
    gap = float(seen[0][facet])
    if not np.isfinite(gap):
        return None
    for width in (1.15 * gap, 1.5 * gap, gap / STRETCH * 1.15):
        for channel in find_channels(fine, width, seen):
            if facet in channel.facets:
                return channel
    return None


def _median(values: NDArray[np.float64], weights: NDArray[np.float64]) -> float:
    order = np.argsort(values)
    reach = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(reach, 0.5 * reach[-1])])

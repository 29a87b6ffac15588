"""What hangs: connected regions of facets past the limit, what is below them, and the bridges among them."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..geometry.adjacency import across_edges
from ..geometry.mesh import Mesh, facet_normals
from ..geometry.tree import Tree
from ..tags import stored
from .overhangs import overhangs

# Regions smaller than this are the texture of a surface (common practice): no bead falls off them.
SMALLEST_MM2 = 1.0
# A region whose facets are flatter than this is a ceiling.
CEILING_DEG = 80.0
# Narrower than this on average, a region is the edge of something.
EDGE_MM = 1.0
# A bridge sags where it is not flat: its facets lie within so much height.
FLAT_MM = 0.6
# A slope as narrow as an edge is the ripple of a texture up to this area: it reaches out by less than a bead.
RIPPLE_MM2 = 5.0
# Share of the lines across a region that have to be held at both ends.
HELD = 0.97
ANGLES_DEG = np.arange(0.0, 180.0, 6.0)
LINES = 32
# Facets of a region from which what is below it is looked for.
PROBES = 60


class Kind(StrEnum):
    """What a region looks like."""

    CEILING = "ceiling"
    SLOPE = "slope"
    EDGE = "edge"
    HOLE = "underside of a hole"


@stored("bridge")
@dataclass(frozen=True, slots=True)
class Bridge:
    """A region that is held on two sides.

    Attributes
    ----------
    span_mm : float
        Longest way across, in the direction in which it is shortest.
    width_mm : float
        Across that direction.
    direction_deg : float
        Of the span, in the plane of the plate, 0 along x.
    """

    span_mm: float
    width_mm: float
    direction_deg: float


@stored("region")
@dataclass(frozen=True, eq=False)
class Region:
    """One overhang region of a part in its stance.

    Attributes
    ----------
    number : int
        From 1, the lowest first.
    kind : Kind
        One of ``Kind``.
    area_mm2 : float
    steepest_deg : float
        Steepest overhang angle of its facets, from vertical.
    lowest_mm : (x, y, z)
    gap_mm : float
        Mean height above what is below it.
    over_part : bool
        Most of it hangs over the part itself, not over the plate.
    facets : (k,) int64
    bridge : Bridge or None
    """

    number: int
    kind: Kind
    area_mm2: float
    steepest_deg: float
    lowest_mm: tuple[float, float, float]
    gap_mm: float
    over_part: bool
    facets: NDArray[np.int64]
    bridge: Bridge | None

    def carries_itself(self, bridge_mm: float) -> bool:
        """Whether it is a bridge no longer than one that prints without help."""
        return self.bridge is not None and self.bridge.span_mm <= bridge_mm + 1e-6


def hanging_regions(
    placed: Mesh,
    limit_deg: float,
    *,
    lifted: bool = False,
    tree: Tree | None = None,
    across: NDArray[np.int32] | None = None,
) -> list[Region]:
    """Find the overhang regions of a part.

    Parameters
    ----------
    placed : Mesh
        In its stance, the plate at z = 0.
    limit_deg : float
        Self-supporting limit, degrees from vertical.
    lifted : bool
        Nothing lies on the plate.
    tree : Tree, optional
        Of the mesh.
    across : (m, 3) int32, optional
        From ``joined.across_edges``; with the tree it spares most of the work when only the limit changes.

    Returns
    -------
    list of Region
        From the lowest up. Connected means over an edge; slivers are left out.
    """
    past = np.flatnonzero(overhangs(placed, limit_deg, plate_mm=None if lifted else 0.0).past)
    if not len(past):
        return []
    normals, areas = facet_normals(placed)
    across = across_edges(placed) if across is None else across
    label = _connected(past, across)
    order = np.argsort(label, kind="stable")
    groups = [past[g] for g in np.split(order, np.flatnonzero(np.diff(label[order])) + 1)]
    groups = [g for g in groups if areas[g].sum() >= SMALLEST_MM2]
    if not groups:
        return []
    gaps = _below(placed, tree or Tree.of(placed), groups, normals, areas)
    found = []
    for facets, (gap, over_part) in zip(groups, gaps, strict=True):
        corners = placed.vertices[placed.faces[facets]]
        lowest = corners.reshape(-1, 3)[int(np.argmin(corners[:, :, 2]))]
        weight = areas[facets]
        angle = np.degrees(np.arcsin(np.clip(-normals[facets, 2], -1, 1)))
        boundary, held = _boundary(facets, placed, across)
        bridge = _bridge(boundary, held) if np.ptp(corners[:, :, 2]) <= FLAT_MM and held.any() else None
        kind = _kind(corners, normals[facets], weight, angle, boundary, held)
        if kind == Kind.EDGE and weight.sum() < RIPPLE_MM2 and angle.max() < CEILING_DEG:
            continue
        x, y, z = (float(v) for v in lowest)
        found.append((z, x, y, kind, float(weight.sum()), float(angle.max()), gap, over_part, facets, bridge))
    found.sort(key=lambda r: (round(r[0], 3), r[1], r[2]))
    return [
        Region(number, kind, area, steepest, (x, y, z), gap, over_part, facets, bridge)
        for number, (z, x, y, kind, area, steepest, gap, over_part, facets, bridge) in enumerate(found, 1)
    ]


def _connected(facets: NDArray[np.int64], across: NDArray[np.int32]) -> NDArray[np.int64]:
    """Number the groups of facets that are joined by edges: (k,) int64."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    number = np.full(len(across), -1, np.int64)
    number[facets] = np.arange(len(facets))
    near = across[facets]
    there = np.where(near >= 0, number[near], -1)
    a, side = np.nonzero(there >= 0)
    graph = coo_matrix((np.ones(len(a), np.int8), (a, there[a, side])), (len(facets), len(facets)))
    _, label = connected_components(graph, directed=False)
    return np.asarray(label, np.int64)


def _boundary(
    facets: NDArray[np.int64], mesh: Mesh, across: NDArray[np.int32]
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Edges round a region (e, 2, 3), and which of them a wall below holds (e,).

    An edge is held where the facet beyond it goes down from it: there the region ends at something that
    stands.
    """
    near = across[facets]
    outside = (near < 0) | ~np.isin(near, facets)
    row, side = np.nonzero(outside)
    facet, beyond = facets[row], near[row, side]
    start, end = mesh.faces[facet, side], mesh.faces[facet, (side + 1) % 3]
    edges = mesh.vertices[np.stack([start, end], axis=1)]
    third = mesh.vertices[mesh.faces[np.maximum(beyond, 0)]].sum(axis=1) - edges.sum(axis=1)
    held = (beyond >= 0) & (third[:, 2] < edges[:, :, 2].mean(axis=1) - 1e-6)
    return edges, held


def _below(
    mesh: Mesh,
    tree: Tree,
    groups: list[NDArray[np.int64]],
    normals: NDArray[np.float64],
    areas: NDArray[np.float64],
) -> list[tuple[float, bool]]:
    """For each region its mean height over what is below, and whether that is mostly the part."""
    probes = [group[np.argsort(-areas[group], kind="stable")[:PROBES]] for group in groups]
    probed = np.concatenate(probes)
    middle = mesh.vertices[mesh.faces[probed]].mean(axis=1)
    down = np.tile(np.array([0.0, 0.0, -1.0]), (len(probed), 1))
    length, facet = tree.first_hits(middle, down, probed)
    hits = (facet >= 0) & (normals[np.maximum(facet, 0), 2] > 0)
    gap, share = np.where(hits, length, middle[:, 2]), areas[probed]
    ends = np.cumsum([len(part) for part in probes])
    return [
        (
            float(np.average(gap[lo:hi], weights=share[lo:hi])),
            bool(share[lo:hi][hits[lo:hi]].sum() > 0.5 * share[lo:hi].sum()),
        )
        for lo, hi in zip([0, *ends[:-1]], ends, strict=True)
    ]


def _kind(
    corners: NDArray[np.float64], normals: NDArray[np.float64], weight: NDArray[np.float64],
    angle: NDArray[np.float64], boundary: NDArray[np.float64], held: NDArray[np.bool_],
) -> Kind:  # fmt: skip
    edges = np.hypot(*(boundary[:, 1] - boundary[:, 0])[:, :2].T)
    rim = float(edges.sum())
    middle = corners.mean(axis=1)
    centre = np.average(middle, axis=0, weights=weight)
    # A hollow bends away from its middle: the normals of its sides look inwards.
    bend = float(np.average(np.einsum("ij,ij->i", middle - centre, normals), weights=weight))
    size = float(np.linalg.norm(np.ptp(corners.reshape(-1, 3), axis=0)))
    if bend < -0.02 * size and float(edges[held].sum()) > 0.3 * rim:
        return Kind.HOLE
    if 2.0 * float(weight.sum()) / max(rim, 1e-9) < EDGE_MM:
        return Kind.EDGE
    return Kind.CEILING if float(np.average(angle, weights=weight)) >= CEILING_DEG else Kind.SLOPE


def _bridge(boundary: NDArray[np.float64], held: NDArray[np.bool_]) -> Bridge | None:
    """The way across a region that is held at both ends and shortest, or ``None``."""
    flat = np.ascontiguousarray(boundary[:, :, :2])
    ways = _directions(flat, held)
    best, span, width = _shortest_across(flat, held, np.radians(ways), LINES, HELD)
    return Bridge(span, width, float(ways[best] % 180.0)) if best >= 0 else None


@njit(cache=True, nogil=True)
def _shortest_across(flat, held, angles, lines, least_held):  # type: ignore[no-untyped-def]
    """Number of the way across a region that is held and shortest (-1 without one), its span and width.

    ``flat`` are the edges round the region in plan (e, 2, 2), ``held`` says which of them hold. In each
    direction so many lines run across; so much of their length has to be held at both ends.
    """
    count = len(flat)
    best, best_span, best_width = -1, 0.0, 0.0
    along, across = np.empty((count, 2)), np.empty((count, 2))
    at, hold = np.empty(count), np.empty(count, np.bool_)
    for k in range(len(angles)):
        c, s = np.cos(angles[k]), np.sin(angles[k])
        low, high = np.inf, -np.inf
        for e in range(count):
            for p in range(2):
                x, y = flat[e, p, 0], flat[e, p, 1]
                along[e, p], across[e, p] = x * c + y * s, y * c - x * s
                low, high = min(low, across[e, p]), max(high, across[e, p])
        if high - low < 1e-6:
            continue
        inside = total = longest = 0.0
        for line in range(lines):
            # Off the corners, which lie at the ends of the range.
            row = low + (line + 0.5) * (high - low) / lines
            n = 0
            for e in range(count):
                p, q = across[e, 0], across[e, 1]
                if (p <= row) != (q <= row):
                    t = (row - p) / (q - p)
                    at[n], hold[n] = along[e, 0] + t * (along[e, 1] - along[e, 0]), held[e]
                    n += 1
            order = np.argsort(at[:n])
            for i in range(0, n - 1, 2):
                a, b = order[i], order[i + 1]
                length = at[b] - at[a]
                total += length
                if hold[a] and hold[b]:
                    inside += length
                    longest = max(longest, length)
        if total > 0 and inside >= least_held * total and (best < 0 or longest < best_span - 1e-9):
            best, best_span, best_width = k, longest, high - low
    return best, best_span, best_width


def _directions(flat: NDArray[np.float64], held: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Ways to look across a region: an even spread, and square to its held edges."""
    edges = (flat[:, 1] - flat[:, 0])[held]
    square = np.degrees(np.arctan2(edges[:, 1], edges[:, 0])) + 90.0
    long = np.argsort(-np.hypot(edges[:, 0], edges[:, 1]), kind="stable")[:8]
    return np.concatenate([np.unique(np.round(square[long] % 180.0, 6)), ANGLES_DEG])

"""A row of tips along an edge that looks down, from where it is pointed at to where it ends or bends."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ...geometry.adjacency import across_edges
from ...geometry.mesh import Mesh, facet_normals

# Facets that meet at more than this make an edge; it ends where it turns by more than the other.
CREASE_DEG, BEND_DEG = 25.0, 40.0
# An edge is picked from so near.
NEAR_MM = 4.0
# The face of a row looks down by this at least, by the cosine.
DOWN = 0.1


def edge_row(
    placed: Mesh, at_mm: tuple[float, float, float], spacing_mm: float, inset_mm: float
) -> NDArray[np.float64]:
    """Places of a row of tips along an edge.

    Parameters
    ----------
    placed : Mesh
        The part where it stands.
    at_mm : (x, y, z)
        Near the edge.
    spacing_mm : float
        Between neighbours: no more than this.
    inset_mm : float
        How far beside the edge they stand, on the face of it that looks down.

    Returns
    -------
    (n, 3) float64
        On the surface; none where no edge is near, or its faces look up.
    """
    ends, facets, normals = _creases(placed)
    lines = placed.vertices[ends]
    if not len(lines):
        return np.zeros((0, 3))
    away = _distances(lines, np.array(at_mm))
    first = int(np.argmin(away))
    if away[first] > NEAR_MM:
        return np.zeros((0, 3))
    chain = _chain(ends, lines, first)
    # Of each bit the face that looks down more, and the way from the edge into it.
    sides = facets[chain.bits]
    lower = np.argmin(normals[sides, 2], axis=1)
    face = sides[np.arange(len(sides)), lower]
    bits = placed.vertices[chain.nodes[1:]] - placed.vertices[chain.nodes[:-1]]
    middles = placed.vertices[placed.faces[face]].mean(axis=1)
    inward = np.cross(normals[face], bits)
    inward /= np.maximum(np.linalg.norm(inward, axis=1), 1e-12)[:, None]
    towards = ((middles - placed.vertices[chain.nodes[:-1]]) * inward).sum(axis=1) > 0
    inward[~towards] *= -1
    bit, along = _along(np.linalg.norm(bits, axis=1), spacing_mm, inset_mm, chain.closed)
    looks_down = normals[face[bit], 2] < -DOWN
    places = placed.vertices[chain.nodes[bit]] + along[:, None] * bits[bit] + inset_mm * inward[bit]
    return np.asarray(places[looks_down], np.float64)


class _Chain:
    """Corners of an edge one after the other, and its bits."""

    def __init__(self, nodes: list[int], bits: list[int], *, closed: bool) -> None:
        self.nodes, self.bits, self.closed = np.array(nodes), np.array(bits), closed


def _creases(mesh: Mesh) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.float64]]:
    """Ends (e, 2) of the bits of all edges, their two facets (e, 2), and the normals of all facets (m, 3)."""
    across = across_edges(mesh)
    normals, _ = facet_normals(mesh)
    facet, side = np.nonzero(across > np.arange(len(across))[:, None])
    other = across[facet, side]
    sharp = (normals[facet] * normals[other]).sum(axis=1) < math.cos(math.radians(CREASE_DEG))
    facet, side, other = facet[sharp], side[sharp], other[sharp]
    ends = np.stack([mesh.faces[facet, side], mesh.faces[facet, (side + 1) % 3]], axis=1)
    return ends.astype(np.int64), np.stack([facet, other], axis=1).astype(np.int64), normals


def _distances(lines: NDArray[np.float64], at: NDArray[np.float64]) -> NDArray[np.float64]:
    """Distance of a place (3,) from straight bits (e, 2, 3), mm."""
    way = lines[:, 1] - lines[:, 0]
    share = ((at - lines[:, 0]) * way).sum(axis=1) / np.maximum((way * way).sum(axis=1), 1e-12)
    nearest = lines[:, 0] + np.clip(share, 0.0, 1.0)[:, None] * way
    return np.asarray(np.linalg.norm(nearest - at, axis=1), np.float64)


def _chain(ends: NDArray[np.int64], lines: NDArray[np.float64], first: int) -> _Chain:
    """Follow an edge from one of its bits both ways, straight on wherever it branches."""
    way = lines[:, 1] - lines[:, 0]
    way /= np.maximum(np.linalg.norm(way, axis=1), 1e-12)[:, None]
    at_corner: dict[int, list[int]] = {}
    for bit, (a, b) in enumerate(ends.tolist()):
        at_corner.setdefault(a, []).append(bit)
        at_corner.setdefault(b, []).append(bit)
    nodes, bits = [int(ends[first, 0]), int(ends[first, 1])], [first]
    taken = {first}
    for back in (False, True):
        while True:
            node, last = (nodes[0], bits[0]) if back else (nodes[-1], bits[-1])
            along = way[last] if int(ends[last, 1]) == node else -way[last]
            best, turn = -1, math.cos(math.radians(BEND_DEG))
            for bit in at_corner[node]:
                out = way[bit] if int(ends[bit, 0]) == node else -way[bit]
                if bit not in taken and float(out @ along) > turn:
                    best, turn = bit, float(out @ along)
            if best < 0:
                break
            taken.add(best)
            a, b = ends[best].tolist()
            nodes.insert(0, b if a == node else a) if back else nodes.append(b if a == node else a)
            bits.insert(0, best) if back else bits.append(best)
    return _Chain(nodes, bits, closed=nodes[0] == nodes[-1])


def _along(
    lengths: NDArray[np.float64], spacing_mm: float, inset_mm: float, closed: bool
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Bit of each tip, and how far along it as a share; off both ends by the inset where it is no loop."""
    ends = np.concatenate([[0.0], np.cumsum(lengths)])
    whole = float(ends[-1])
    if closed:
        count = max(3, math.ceil(whole / spacing_mm - 1e-9))
        at = np.arange(count) * whole / count
    else:
        low, high = min(inset_mm, whole / 2), max(whole - inset_mm, whole / 2)
        at = np.linspace(low, high, max(1, math.ceil((high - low) / spacing_mm - 1e-9)) + 1)
        at = at if high > low else at[:1]
    bit = np.clip(np.searchsorted(ends, at, side="right") - 1, 0, len(lengths) - 1)
    return bit, (at - ends[bit]) / np.maximum(lengths[bit], 1e-12)

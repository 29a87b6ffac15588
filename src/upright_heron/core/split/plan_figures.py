"""What comes of a plan of cuts: supports and faces to stand on, seams where they show, and a picture."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..geometry.adjacency import across_edges
from ..geometry.mesh import Mesh, facet_normals
from ..geometry.picture import pieces_picture
from ..geometry.solid import Solid, bodies_of
from ..hanging.overhangs import threshold
from ..progress import Progress, silent, tracked
from ..stance.figures import STANDS_MM2
from ..tags import stored
from .cut_part import DUST_MM3
from .cuts import Bound, Cut, Node, bounds_of, cut_tree
from .planner import Plan, thinned

# Facets lie on the plate that are so near to it, and so level.
FLAT_MM, LEVEL = 0.05, 0.9995
# Edges that bend by more than this are creases; a seam runs along one when it lies so near to it.
CREASE_DEG, BESIDE_MM = 30.0, 0.6
# Seams are looked at so often.
STEP_MM = 1.0
# Crease edges are looked at as often, or so many times in all.
MOST_PLACES = 400_000
# A corner so near to a plane lies in it.
IN_PLANE_MM = 1e-6
# Pieces are drawn so far apart, as a share of how far they lie from the middle.
APART = 0.22
WIDE, HIGH = 132, 84


@stored("plan figures")
@dataclass(frozen=True, slots=True)
class PlanFigures:
    """Figures of a plan that take longer than counting its pieces.

    Attributes
    ----------
    name : str
        Of the plan.
    support_mm3 : float
        Straight columns from the plate up to what is past the limit, as if nothing of the piece were between,
        each piece in the stance that needs least of them.
    standing : int
        How many pieces have a face to stand on in that stance.
    seam_mm : float
        Length of all seams on the surface of the part.
    show_mm : float or None
        How much of it lies on the show side; ``None`` without one.
    crease_share : float
        How much of the seams on the show side, or of all without one, runs along creases; 0 to 1.
    png : bytes
        Its pieces, drawn apart.
    """

    name: str
    support_mm3: float
    standing: int
    seam_mm: float
    show_mm: float | None
    crease_share: float
    png: bytes


def plan_figures(
    solid: Solid,
    mesh: Mesh,
    plans: Sequence[Plan],
    limit_deg: float,
    show: NDArray[np.bool_] | None = None,
    *,
    progress: Progress = silent,
) -> tuple[PlanFigures, ...]:
    """Work out the figures of plans.

    Parameters
    ----------
    solid : Solid
    mesh : Mesh
        Its surface.
    plans : sequence of Plan
    limit_deg : float
        Past which a surface needs support, degrees from vertical.
    show : (m,) bool, optional
        Facets of the mesh that are on the show side.
    progress : Progress

    Returns
    -------
    tuple of PlanFigures

    Notes
    -----
    Supports are weighed on a thinned copy, seams measured on the surface itself.
    """
    thin = thinned(solid)
    creases = _Creases(mesh)
    found = []
    for plan in tracked(list(plans), "Weighing plans", progress):
        tree = cut_tree(thin, plan.cuts)
        pieces = [
            _mesh_of(body)
            for leaf in tree.leaves()
            for body in bodies_of(leaf.body)
            if float(body.volume()) >= DUST_MM3
        ]
        stood = [best_stand(piece, [c.normal for c in plan.cuts], limit_deg) for piece in pieces]
        lines, shown = seams(mesh, tree, show)
        counted = shown if show is not None else np.ones(len(lines), bool)
        along = creases.share_of(lines[counted])
        length = _lengths(lines)
        found.append(
            PlanFigures(
                plan.name,
                sum(volume for volume, _ in stood),
                sum(contact >= STANDS_MM2 for _, contact in stood),
                float(length.sum()),
                None if show is None else float(length[shown].sum()),
                along,
                pieces_picture(_apart(pieces), WIDE, HIGH),
            )
        )
    return tuple(found)


def best_stand(
    piece: Mesh, normals: Sequence[tuple[float, float, float]], limit_deg: float
) -> tuple[float, float]:
    """Stand a piece on each of its cut faces and on each side of its box, whichever needs least support.

    Parameters
    ----------
    piece : Mesh
    normals : sequence of (x, y, z)
        Of the cuts.
    limit_deg : float

    Returns
    -------
    (float, float)
        Volume of straight columns from the plate, mm3; and the area that lies on the plate, mm2.
    """
    facing, areas = facet_normals(piece)
    past = threshold(limit_deg)
    best = math.inf, 0.0
    ways = np.unique(np.round([*normals, *np.eye(3)], 9), axis=0)
    for down in (*ways, *-ways):
        height = piece.vertices @ -down
        height -= height.min()
        middle = height[piece.faces].mean(axis=1)
        under = facing @ down
        lies = (under > LEVEL) & (middle < FLAT_MM)
        contact = float(areas[lies].sum())
        hangs = (under > past) & ~lies
        volume = float((areas[hangs] * under[hangs] * middle[hangs]).sum())
        # Of two that need as much the one that stands more firmly.
        if (volume, -contact) < (best[0] - 1e-6, -best[1]):
            best = volume, contact
    return best


def seams(
    mesh: Mesh, tree: Node, show: NDArray[np.bool_] | None = None
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Where the cuts of a tree meet the surface.

    Parameters
    ----------
    mesh : Mesh
    tree : Node
    show : (m,) bool, optional
        Facets on the show side.

    Returns
    -------
    (n, 2, 3) float64
        Straight bits from one end to the other, mm.
    (n,) bool
        Which of them lie on the show side; none without one.
    """
    lines, shown = [np.zeros((0, 2, 3))], [np.zeros(0, bool)]
    for cut, bounds in _parted(tree):
        ends, facets = _crossed(mesh, cut)
        for normal, offset in bounds:
            ends, kept = _trimmed(ends, np.asarray(normal), offset)
            facets = facets[kept]
        lines.append(ends)
        shown.append(np.zeros(len(facets), bool) if show is None else show[facets])
    return np.concatenate(lines), np.concatenate(shown)


def _parted(tree: Node) -> Iterator[tuple[Cut, list[Bound]]]:
    """Cuts, each with the planes that bound what it parts."""
    for node in tree.parted():
        assert node.cut is not None
        leaf = next(iter(node.leaves()))
        # Those of a leaf below it, down to its own.
        yield node.cut, bounds_of(tree, leaf)[: _depth(tree, node)]


def _depth(tree: Node, node: Node) -> int:
    if tree is node:
        return 0
    half = next(h for h in tree.halves if node is h or any(node is below for below in h.parted()))
    return 1 + _depth(half, node)


def _crossed(mesh: Mesh, cut: Cut) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Bits (n, 2, 3) of a plane in the facets (n,) that it crosses."""
    away = mesh.vertices @ np.asarray(cut.normal) - cut.offset_mm
    if not (np.abs(away) < IN_PLANE_MM).any():
        return _crossings(mesh, away, away[mesh.faces] >= 0)
    # A face in the plane ends there on one side of it only, and there is no seam round it: with its corners
    # counted to one side it has none, to the other one.
    both = [_crossings(mesh, away, away[mesh.faces] >= lift) for lift in (-IN_PLANE_MM, IN_PLANE_MM)]
    return min(both, key=lambda found: float(_lengths(found[0]).sum()))


def _crossings(
    mesh: Mesh, away: NDArray[np.float64], side: NDArray[np.bool_]
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Bits (n, 2, 3) where facets (n,) have corners on both sides (m, 3), by how far off (v,) they lie."""
    facets = np.flatnonzero(side.any(axis=1) & ~side.all(axis=1))
    faces, side = mesh.faces[facets], side[facets]
    ends = np.zeros((len(facets), 2, 3))
    filled = np.zeros(len(facets), np.int64)
    for k in range(3):
        a, b = faces[:, k], faces[:, (k + 1) % 3]
        crosses = np.flatnonzero(side[:, k] != side[:, (k + 1) % 3])
        p, q = a[crosses], b[crosses]
        t = np.clip(away[p] / (away[p] - away[q]), 0.0, 1.0)[:, None]
        ends[crosses, filled[crosses]] = mesh.vertices[p] + t * (mesh.vertices[q] - mesh.vertices[p])
        filled[crosses] += 1
    return ends, facets


def _trimmed(
    ends: NDArray[np.float64], normal: NDArray[np.float64], offset: float
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """What of straight bits (n, 2, 3) lies beyond a plane, and which they are."""
    away = ends @ normal - offset
    kept = np.flatnonzero((away > 0).any(axis=1))
    ends, away = ends[kept].copy(), away[kept]
    for k in (0, 1):
        out = np.flatnonzero(away[:, k] < 0)
        t = (away[out, k] / (away[out, k] - away[out, 1 - k]))[:, None]
        ends[out, k] += t * (ends[out, 1 - k] - ends[out, k])
    return ends, kept


def _lengths(lines: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1))


def _places(lines: NDArray[np.float64], step: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places (k, 3) along straight bits, and how much of a bit each stands for."""
    length = _lengths(lines)
    count = np.maximum(np.ceil(length / step), 1).astype(np.int64)
    each = np.repeat(np.arange(len(lines)), count)
    first = np.repeat(np.cumsum(count) - count, count)
    t = ((np.arange(len(each)) - first + 0.5) / count[each])[:, None]
    return lines[each, 0] + t * (lines[each, 1] - lines[each, 0]), (length / count)[each]


class _Creases:
    """Edges of a surface that bend, to be found by place."""

    def __init__(self, mesh: Mesh) -> None:
        across = across_edges(mesh)
        normals, _ = facet_normals(mesh)
        facet, side = np.nonzero(across > np.arange(len(across))[:, None])
        bend = np.einsum("ij,ij->i", normals[facet], normals[across[facet, side]])
        sharp = bend < math.cos(math.radians(CREASE_DEG))
        facet, side = facet[sharp], side[sharp]
        ends = np.stack([mesh.faces[facet, side], mesh.faces[facet, (side + 1) % 3]], axis=1)
        lines = mesh.vertices[ends]
        step = max(BESIDE_MM, float(_lengths(lines).sum()) / MOST_PLACES)
        self.far = max(BESIDE_MM, step / 2)
        self.tree = cKDTree(_places(lines, step)[0]) if len(lines) else None

    def share_of(self, lines: NDArray[np.float64]) -> float:
        """How much of straight bits (n, 2, 3) runs along creases, from 0 to 1."""
        if self.tree is None or not len(lines):
            return 0.0
        places, stands_for = _places(lines, STEP_MM)
        near = np.isfinite(self.tree.query(places, distance_upper_bound=self.far)[0])
        return float(stands_for[near].sum() / max(stands_for.sum(), 1e-12))


def _mesh_of(body: object) -> Mesh:
    return Solid(body).mesh()


def _apart(pieces: Sequence[Mesh]) -> list[Mesh]:
    """Pieces drawn off the middle of all."""
    middles = np.array([piece.bounds.mean(axis=0) for piece in pieces])
    away = APART * (middles - middles.mean(axis=0))
    return [Mesh(piece.vertices + by, piece.faces) for piece, by in zip(pieces, away, strict=True)]

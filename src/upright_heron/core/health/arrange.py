"""Arranging what crosses: facets are cut along each other, and what parts inside from outside is kept.

References
----------
Q. Zhou, E. Grinspun, D. Zorin, A. Jacobson, "Mesh arrangements for solid geometry", ACM Trans. Graphics
35(4), 2016 (cut all, then keep by winding number). G. Barill et al., "Fast winding numbers for soups and
clouds", ACM Trans. Graphics 37(4), 2018.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..geometry.mesh import Mesh, facet_normals
from ..geometry.tree import Tree
from ..progress import Progress, silent
from .apart import take_apart
from .cutting import NEAR_STEPS, Cut, candidates
from .edges import EdgeTable, duplicate_facets
from .patching import drop_needless, fill_holes, weld_close
from .written import Verdict, as_written, judge, step_mm

# Pairs of facets that are cut in one round; more are re-wrapped.
MOST_PAIRS = 60_000
ROUNDS = 5
# What is left tangled is left out with up to so many rings of facets, less one, and filled.
RINGS = 5
MOST_TANGLED = 2000
# Facets of a patch that are asked on which side of it is material.
ASKED = 5


def arrange(mesh: Mesh, *, progress: Progress = silent) -> tuple[Mesh, str]:
    """Cut facets that pass through each other along each other, and leave out what lies inside or outside.

    Parameters
    ----------
    mesh : Mesh
        Facing outwards.
    progress : Progress

    Returns
    -------
    Mesh
        The mesh as it was, and empty words, where nothing crosses or nothing was gained.
    str
    """
    best, verdict = mesh, judge(mesh)
    first, current, left = verdict.crossings, mesh, verdict.crossings
    if not first:
        return mesh, ""
    for number in range(ROUNDS):
        progress("Cutting facets along each other", number, ROUNDS)
        tried = _round(current)
        if tried is None:
            break
        tried, found = _settled(tried)
        if found.better_than(verdict):
            best, verdict = tried, found
        # Another round may close what this one left open, as long as less and less crosses.
        if not found.crossings or found.crossings >= left:
            break
        current, left = tried, found.crossings
    if best is mesh:
        return mesh, ""
    return best, f"facets cut along each other at {first} crossings, and what lay inside left out"


def _settled(mesh: Mesh) -> tuple[Mesh, Verdict]:
    """Close the little holes that cutting on a grid leaves, and what is tangled round them."""
    best, found = mesh, judge(mesh)
    for rings in range(RINGS):
        if found.closed and (rings == 0 or not found.crossings):
            break
        changed = best
        if rings:
            changed = _without_tangle(best, rings - 1)
        for step in (weld_close, drop_needless, fill_holes, take_apart):
            changed = as_written(step(changed)[0])
        verdict = judge(changed)
        if verdict.better_than(found):
            best, found = changed, verdict
    return best, found


def _without_tangle(mesh: Mesh, rings: int) -> Mesh:
    """Leave out all facets round edges that are not shared by two, or that cross, and so many rings more."""
    mesh = as_written(mesh)
    table = EdgeTable.of(mesh.faces)
    bad = (table.count != 2) | (table.forward != 1)
    touched = np.zeros(len(mesh.vertices), bool)
    touched[table.ends[bad]] = True
    touched[mesh.faces[Tree.of(mesh).crossings(MOST_TANGLED).ravel()]] = True
    gone = touched[mesh.faces].any(axis=1)
    for _ in range(rings):
        touched[mesh.faces[gone]] = True
        gone = touched[mesh.faces].any(axis=1)
    return mesh if gone.all() or gone.sum() > MOST_TANGLED else Mesh(mesh.vertices, mesh.faces[~gone])


def _round(mesh: Mesh) -> Mesh | None:
    """One round: cut, number the patches, keep those between inside and outside."""
    step = step_mm(mesh)
    grid = np.round(mesh.vertices / step)
    faces = mesh.faces
    snapped = as_written(Mesh(grid, faces))
    grid, faces = snapped.vertices, snapped.faces
    if not len(faces):
        return None
    tree = Tree.of(snapped)
    pairs = tree.crossings(MOST_PAIRS)
    if not len(pairs) or len(pairs) == MOST_PAIRS:
        return None
    cut = Cut(grid, faces)
    cut.meet(candidates(grid, faces, pairs))
    points, pieces, whole = cut.pieces()
    made = _tidied(Mesh(points, np.concatenate([faces[whole], pieces]).astype(np.int32)))
    kept = _between(made, tree)
    if not len(kept):
        return None
    result = _tidied(Mesh(made.vertices, kept))
    return as_written(Mesh(result.vertices * step, result.faces))


def _tidied(mesh: Mesh) -> Mesh:
    """Facets without equal corners or twins; twins that face each other cancel."""
    faces = mesh.faces
    keep = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    faces = faces[keep]
    again = duplicate_facets(faces)
    if not len(again):
        return Mesh(mesh.vertices, faces)
    ordered = np.sort(faces, axis=1)
    even = _even(faces)
    _, group = np.unique(ordered, axis=0, return_inverse=True)
    group = group.ravel()
    balance = np.bincount(group, np.where(even, 1, -1))
    wanted = np.sign(balance).astype(int)
    order = np.lexsort((np.where(even, 0, 1), group))
    taken = np.zeros(len(faces), bool)
    seen: set[int] = set()
    for f in order.tolist():
        g = int(group[f])
        if wanted[g] and g not in seen and (1 if even[f] else -1) == wanted[g]:
            seen.add(g)
            taken[f] = True
    return Mesh(mesh.vertices, faces[taken])


def _even(faces: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Whether the corners of facets run as their numbers do, or the other way round."""
    a, b, c = faces.T
    even: NDArray[np.bool_] = ((a < b) & (b < c)) | ((b < c) & (c < a)) | ((c < a) & (a < b))
    return even


def _between(made: Mesh, tree: Tree) -> NDArray[np.int32]:
    """Facets (k, 3) of the patches with material on one side only, turned so that it lies behind them."""
    table = EdgeTable.of(made.faces)
    pair = np.flatnonzero(table.count == 2)
    a, b = table.facets[table.start[pair]], table.facets[table.start[pair] + 1]
    m = len(made.faces)
    _, patch = connected_components(coo_matrix((np.ones(len(a)), (a, b)), (m, m)), directed=False)
    normals, areas = facet_normals(made)
    order = np.lexsort((-areas, patch))
    rank = np.empty(m, np.int64)
    starts = np.flatnonzero(np.diff(patch[order], prepend=-1))
    rank[order] = np.arange(m) - np.repeat(starts, np.diff(np.append(starts, m)))
    asked = np.flatnonzero((rank < ASKED) & (areas > 0))
    middle = made.vertices[made.faces[asked]].mean(axis=1)
    corners = made.vertices[made.faces[asked]]
    around = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2).sum(axis=1)
    # A little to each side: within the circle that the facet holds, and beyond the steps of the grid.
    away = np.maximum(0.1 * areas[asked] / np.maximum(around, 1e-9), 2.0 * NEAR_STEPS)[:, None]
    front = tree.winding(middle + away * normals[asked]) >= 0.5
    behind = tree.winding(middle - away * normals[asked]) >= 0.5
    count = int(patch.max()) + 1
    keep = np.bincount(patch[asked], areas[asked] * (behind & ~front), minlength=count)
    turn = np.bincount(patch[asked], areas[asked] * (front & ~behind), minlength=count)
    drop = np.bincount(patch[asked], areas[asked] * (front == behind), minlength=count)
    kept = (keep >= turn) & (keep > drop)
    turned = (turn > keep) & (turn > drop)
    faces = made.faces
    return np.concatenate([faces[kept[patch]], faces[turned[patch]][:, ::-1]])

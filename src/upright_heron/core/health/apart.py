"""Taking coincident corners apart: bodies that touch in an edge or a corner are one there in any file."""

from __future__ import annotations

import itertools
import math

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..geometry.mesh import Mesh, facet_normals
from .edges import EdgeTable
from .written import as_written, step_mm

# Corners are moved inwards by so many steps of single precision: less would round back.
STEPS_APART = 2.5


def take_apart(mesh: Mesh) -> tuple[Mesh, str]:
    """Give each wedge of material at a crowded edge corners of its own, a little inside of where they were.

    Parameters
    ----------
    mesh : Mesh
        Facing outwards.

    Returns
    -------
    Mesh
        As it is read back; the mesh as it was, and empty words, where no edge is crowded or none could be
        taken apart.
    str
    """
    mesh = as_written(mesh)
    table = EdgeTable.of(mesh.faces)
    crowded = np.flatnonzero(table.count > 2)
    if not len(crowded):
        return mesh, ""
    normals, _ = facet_normals(mesh)
    pair = np.flatnonzero(table.count == 2)
    links = [np.column_stack([table.facets[table.start[pair]], table.facets[table.start[pair] + 1]])]
    ends = [table.ends[pair]]
    for edge in crowded.tolist():
        facets = table.facets[table.start[edge] : table.start[edge + 1]]
        wedges = _wedges(mesh, normals, table.ends[edge], facets)
        links.append(np.array(wedges, np.int64).reshape(-1, 2))
        ends.append(np.repeat(table.ends[edge][None], len(wedges), axis=0))
    corner, count, vertex_of = _fans(mesh, np.concatenate(links), np.concatenate(ends))
    fans = np.bincount(vertex_of, minlength=len(mesh.vertices))
    # Only fans at crowded edges are moved: bodies that meet in a single corner are closed as they are.
    touched = np.zeros(len(mesh.vertices), bool)
    touched[table.ends[crowded]] = True
    moved = (fans[vertex_of] > 1) & touched[vertex_of]
    if not moved.any():
        return mesh, ""
    inwards = np.zeros((count, 3))
    for k in range(3):
        np.add.at(inwards, corner[:, k], -normals)
    length = np.linalg.norm(inwards, axis=1)
    inwards = np.divide(inwards, length[:, None], out=np.zeros_like(inwards), where=length[:, None] > 0)
    points = mesh.vertices[vertex_of]
    # Along the longest axis by whole steps, so that none rounds back.
    reach = np.abs(inwards).max(axis=1, keepdims=True)
    step = STEPS_APART * step_mm(mesh)
    shift = np.divide(inwards * step, reach, out=np.zeros_like(inwards), where=reach > 0)
    points = np.where(moved[:, None], points + shift, points)
    result = as_written(Mesh(points, corner.astype(np.int32)))
    return result, f"{len(crowded)} edges of several facets taken apart"


def _wedges(
    mesh: Mesh, normals: NDArray[np.float64], ends: NDArray[np.int64], facets: NDArray[np.int64]
) -> list[tuple[int, int]]:
    """Pairs of the facets at an edge between which material lies."""
    a, b = (mesh.vertices[v] for v in ends)
    along = (b - a) / max(float(np.linalg.norm(b - a)), 1e-300)
    u = np.cross(along, np.eye(3)[int(np.argmin(np.abs(along)))])
    u /= np.linalg.norm(u)
    v = np.cross(along, u)
    turns = []
    for f in facets.tolist():
        third = next(int(c) for c in mesh.faces[f] if c not in ends)
        away = mesh.vertices[third] - a
        angle = math.atan2(float(away @ v), float(away @ u))
        # Seen along the edge: does material follow the facet counter-clockwise?
        side = float(np.cross(along, away - (away @ along) * along) @ normals[f]) < 0
        turns.append((angle, f, side))
    turns.sort()
    found = []
    for (_, f, follows), (_, g, after) in itertools.pairwise([*turns, turns[0]]):
        if follows and not after:
            found.append((f, g))
    return found


def _fans(
    mesh: Mesh, links: NDArray[np.int64], ends: NDArray[np.int64]
) -> tuple[NDArray[np.int64], int, NDArray[np.int64]]:
    """Number of the fan of each corner (m, 3), how many fans there are, and the vertex of each."""
    m = len(mesh.faces)
    first: list[NDArray[np.int64]] = []
    second: list[NDArray[np.int64]] = []
    for side in range(2):
        vertex = ends[:, side]
        for place, facets in ((first, links[:, 0]), (second, links[:, 1])):
            at = np.argmax(mesh.faces[facets] == vertex[:, None], axis=1)
            place.append(3 * facets + at)
    a, b = np.concatenate(first), np.concatenate(second)
    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), (3 * m, 3 * m))
    count, label = connected_components(graph, directed=False)
    vertex_of = np.zeros(count, np.int64)
    vertex_of[label] = mesh.faces.ravel()
    return label.reshape(m, 3), count, vertex_of

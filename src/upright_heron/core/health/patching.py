"""Gentle mending: corners joined, needless facets dropped, holes filled, bodies united.

References
----------
G. Barequet, M. Sharir, "Filling gaps in the boundary of a polyhedron", Computer-Aided Geometric Design 12(2),
1995 (smallest triangulation of a loop). G. Barill et al., "Fast winding numbers for soups and clouds", ACM
Trans. Graphics 37(4), 2018 (inside and outside of a torn surface).
"""

from __future__ import annotations

import itertools
import math

import numpy as np
from manifold3d import Manifold, OpType, triangulate
from numba import njit
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from ..errors import HeronError
from ..geometry.mesh import Mesh, edges, weld
from ..geometry.solid import Solid, turned_out
from ..geometry.tree import Tree
from .defects import Orientation, flat_facets, loops, makes_solid, orientation
from .edges import EdgeTable, duplicate_facets

# Corners at open edges closer than this are one: less than any machine resolves.
WELD_MM = 0.01
# Slivers thinner than this are collapsed: a thousandth of the smallest pixel.
SLIVER_MM = 1e-4
# Loops longer than this are filled over their best plane: the smallest triangulation costs their cube.
LONGEST_LOOP = 160


def _tidy(vertices: NDArray[np.float64], faces: NDArray[np.integer]) -> Mesh:
    """Leave out vertices that no facet uses."""
    used, index = np.unique(faces, return_inverse=True)
    return Mesh(vertices[used], index.reshape(-1, 3).astype(np.int32))


def weld_close(mesh: Mesh, tolerance_mm: float = WELD_MM) -> tuple[Mesh, str]:
    """Join corners of open edges that lie within a tolerance of each other, and drop facets that vanish.

    Several distances up to the tolerance are tried, and the shortest kept of those that leave fewest open
    edges: a long one would also join the corners of small details.
    """
    table = EdgeTable.of(mesh.faces)
    rim = np.unique(table.ends[table.count != 2])
    if not len(rim):
        return mesh, ""
    best, fewest, kept = mesh, int((table.count != 2).sum()), 0.0
    for distance in (0.01 * tolerance_mm, 0.1 * tolerance_mm, 0.3 * tolerance_mm, tolerance_mm):
        tried = _joined(mesh, rim, distance)
        left = int((EdgeTable.of(tried.faces).count != 2).sum()) if len(tried.faces) else fewest
        if left < fewest:
            best, fewest, kept = tried, left, distance
    if best is mesh:
        return mesh, ""
    joined = len(np.unique(mesh.faces)) - len(best.vertices)
    return best, f"{joined} corners joined that were less than {kept:.2g} mm apart"


def _joined(mesh: Mesh, rim: NDArray[np.int64], distance: float) -> Mesh:
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    pairs = cKDTree(mesh.vertices[rim]).query_pairs(distance, output_type="ndarray")
    if not len(pairs):
        return mesh
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(rim), len(rim)))
    _, label = connected_components(graph, directed=False)
    _, first = np.unique(label, return_index=True)
    becomes = np.arange(len(mesh.vertices))
    becomes[rim] = rim[first[label]]
    faces = becomes[mesh.faces]
    keep = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    return _tidy(mesh.vertices, faces[keep]) if keep.any() else mesh


def drop_needless(mesh: Mesh) -> tuple[Mesh, str]:
    """Drop facets that are there twice, and take those without area out of a closed surface.

    Nothing moves by more than ``SLIVER_MM``: short edges are collapsed, by manifold3d where it can, and a
    facet with a corner on its own longest edge swaps that edge with its neighbour.
    """
    current, dropped = _without_twins(mesh)
    words = [f"{dropped} needless facets dropped"] if dropped else []
    flat = len(flat_facets(current))
    if flat and makes_solid(current):
        flattened = _flattened(current)
        left = len(flat_facets(flattened))
        if left < flat and makes_solid(flattened):
            current = flattened
            words.append(f"{flat - left} facets without area taken out")
    return current, ", ".join(words)


def _without_twins(mesh: Mesh) -> tuple[Mesh, int]:
    """Drop facets that are there twice or have no three corners, and count them.

    Two facets with the same corners that face each other are the wall between two bodies, or a sheet given
    twice: both go if that leaves fewer bad edges, else one.
    """
    again = duplicate_facets(mesh.faces)
    f = mesh.faces
    point = (f[:, 0] == f[:, 1]) | (f[:, 1] == f[:, 2]) | (f[:, 2] == f[:, 0])
    if not len(again) and not point.any():
        return mesh, 0
    keep = ~point
    keep[again] = False
    one = f[keep]
    ordered = np.sort(f, axis=1)
    twice = np.isin(_row_keys(ordered), _row_keys(ordered[again]))
    none = f[~point & ~twice]
    bad = [int((EdgeTable.of(faces).count != 2).sum()) for faces in (one, none)]
    kept = none if len(none) and bad[1] < bad[0] else one
    return _tidy(mesh.vertices, kept), len(f) - len(kept)


def _flattened(mesh: Mesh) -> Mesh:
    simpler = Solid(Solid.from_mesh(mesh).manifold.simplify(SLIVER_MM)).mesh()
    for _ in range(6):
        # Files keep single precision: which corners are one, and which facets flat, is found as there.
        simpler, _ = _without_twins(weld(simpler.vertices[simpler.faces].astype(np.float32)))
        flat = flat_facets(simpler)
        if not len(flat):
            break
        simpler = Mesh(simpler.vertices, _swapped(simpler, flat))
        simpler = Mesh(_drawn_together(simpler), simpler.faces)
    return simpler


def _drawn_together(mesh: Mesh) -> NDArray[np.float64]:
    """Corners with the ends of short edges of flat facets in one place, where manifold3d kept them apart."""
    vertices = mesh.vertices.copy()
    for facet in flat_facets(mesh).tolist():
        for a, b in itertools.pairwise([*mesh.faces[facet].tolist(), int(mesh.faces[facet, 0])]):
            if 0 < math.dist(vertices[a], vertices[b]) < SLIVER_MM:
                vertices[b] = vertices[a]
                break
    return vertices


def _swapped(mesh: Mesh, flat: NDArray[np.int64]) -> NDArray[np.int32]:
    """Swap the longest edge of flat facets with the neighbour across it, where that makes no edge twice."""
    faces = mesh.faces.copy()
    table = EdgeTable.of(faces)
    n = len(mesh.vertices)
    keys = table.ends[:, 0] * n + table.ends[:, 1]
    touched: set[int] = set()
    for facet in flat.tolist():
        corners = mesh.vertices[faces[facet]]
        length = ((corners - np.roll(corners, -1, axis=0)) ** 2).sum(axis=1)
        k = int(np.argmax(length))
        a, b, c = (int(v) for v in np.roll(faces[facet], -k))
        at = int(np.searchsorted(keys, min(a, b) * n + max(a, b)))
        both = table.facets[table.start[at] : table.start[at + 1]].tolist()
        other = next((f for f in both if f != facet), -1)
        if len(both) != 2 or other < 0 or touched & {facet, other}:
            continue
        d = next(int(v) for v in faces[other] if v not in (a, b))
        across = min(c, d) * n + max(c, d)
        known = int(np.searchsorted(keys, across))
        if c == d or (known < len(keys) and keys[known] == across):
            continue
        faces[facet], faces[other] = (a, d, c), (d, b, c)
        touched.update((facet, other))
    return faces


def _row_keys(rows: NDArray[np.int32]) -> NDArray[np.void]:
    rows = np.ascontiguousarray(rows)
    return rows.view(np.dtype((np.void, rows.dtype.itemsize * rows.shape[1]))).ravel()


def fill_holes(mesh: Mesh) -> tuple[Mesh, str]:
    """Close every loop of open edges with facets over its own corners."""
    table = EdgeTable.of(mesh.faces)
    single = table.count == 1
    if not single.any():
        return mesh, ""
    ends = table.ends[single]
    ends = np.where((table.forward[single] == 1)[:, None], ends[:, ::-1], ends)
    found = loops(ends)
    patches = [_patch(mesh.vertices, loop) for loop in found]
    if not patches:
        return mesh, ""
    faces = np.concatenate([mesh.faces, *patches]).astype(np.int32)
    return Mesh(mesh.vertices, faces), f"{len(found)} {'hole' if len(found) == 1 else 'holes'} filled"


def _patch(vertices: NDArray[np.float64], loop: NDArray[np.int64]) -> NDArray[np.int64]:
    points = vertices[loop]
    if len(loop) == 3:
        return loop[None, :]
    # Newell's normal: robust for loops that are not flat.
    after = np.roll(points, -1, axis=0)
    normal = np.cross(points, after).sum(axis=0)
    length = float(np.linalg.norm(normal))
    size = float(np.ptp(points, axis=0).max())
    flat = (
        length > 0 and float(np.abs((points - points.mean(axis=0)) @ (normal / length)).max()) < 1e-4 * size
    )
    if flat or len(loop) > LONGEST_LOOP:
        found = _over_plane(points, normal / length if length > 0 else np.array([0.0, 0.0, 1.0]))
        if found is not None:
            return loop[found]
    if len(loop) > LONGEST_LOOP:
        # A fan closes what no plane does; its facets may be long and thin.
        k = np.arange(1, len(loop) - 1)
        return loop[np.column_stack([np.zeros_like(k), k, k + 1])]
    smallest: NDArray[np.int64] = loop[_smallest(points)]
    return smallest


def _over_plane(points: NDArray[np.float64], normal: NDArray[np.float64]) -> NDArray[np.int64] | None:
    """Triangulate a loop in its plane; ``None`` unless every edge of the loop is kept."""
    along = np.eye(3)[int(np.argmin(np.abs(normal)))]
    u = np.cross(normal, along)
    u /= np.linalg.norm(u)
    flat = np.column_stack([points @ u, points @ np.cross(normal, u)])
    found = np.asarray(triangulate([flat], -1.0, True), np.int64).reshape(-1, 3)
    if len(found) != len(points) - 2:
        return None
    rim = {(i, (i + 1) % len(points)) for i in range(len(points))}
    kept = {(int(t[i]), int(t[(i + 1) % 3])) for t in found for i in range(3)}
    return found if rim <= kept else None


@njit(cache=True)
def _smallest(points):  # type: ignore[no-untyped-def]
    """Triangulate a loop (n, 3) with the least area: dynamic programming over its stretches."""
    n = points.shape[0]
    cost = np.zeros((n, n))
    choice = np.zeros((n, n), np.int64)
    for gap in range(2, n):
        for i in range(n - gap):
            k = i + gap
            best = np.inf
            for j in range(i + 1, k):
                ux, uy, uz = points[j] - points[i]
                vx, vy, vz = points[k] - points[i]
                x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
                area = 0.5 * math.sqrt(x * x + y * y + z * z)
                total = cost[i, j] + cost[j, k] + area
                if total < best:
                    best = total
                    choice[i, k] = j
            cost[i, k] = best
    result = np.empty((n - 2, 3), np.int64)
    todo = np.empty((n + 2, 2), np.int64)
    todo[0, 0], todo[0, 1] = 0, n - 1
    top = 1
    count = 0
    while top > 0:
        top -= 1
        i, k = todo[top, 0], todo[top, 1]
        if k - i < 2:
            continue
        j = choice[i, k]
        result[count, 0], result[count, 1], result[count, 2] = i, j, k
        count += 1
        todo[top, 0], todo[top, 1] = i, j
        todo[top + 1, 0], todo[top + 1, 1] = j, k
        top += 2
    return result


def unite_bodies(mesh: Mesh) -> tuple[Mesh, str]:
    """Unite closed bodies that overlap, touch or lie in each other; cavities and loose bodies stay."""
    try:
        parts = Solid.from_mesh(mesh).manifold.decompose()
    except HeronError:
        return mesh, ""
    solids = [part for part in parts if part.volume() > 0]
    hollows = [part for part in parts if part.volume() < 0]
    if len(solids) < 2:
        return mesh, ""
    apart = sum(float(solid.volume()) for solid in solids)
    union = Manifold.batch_boolean(solids, OpType.Add)
    touching = bool((EdgeTable.of(mesh.faces).count > 2).any())
    if abs(float(union.volume()) - apart) <= 1e-9 * apart and not touching:
        return mesh, ""
    for hollow in hollows:
        union = union - turned_out(hollow)
    return Solid(union).mesh(), f"{len(solids)} bodies united"


def separated(mesh: Mesh) -> list[Mesh]:
    """Part a surface into its bodies, the largest first; a cavity stays with the body it lies in.

    Bodies that touch face to face are one: nothing tells which of the facets there belong to which.
    """
    whole = orientation(mesh)
    group, count = _together(mesh, whole)
    if count < 2:
        return [mesh]
    body, volume_mm3 = group[whole.body], np.bincount(group, whole.volume_mm3)
    parts = {n: _tidy(mesh.vertices, mesh.faces[body == n]) for n in range(count)}
    hollows = [n for n in parts if volume_mm3[n] < 0]
    solids = sorted((n for n in parts if n not in hollows), key=lambda n: -volume_mm3[n])
    inside: dict[int, list[int]] = {n: [n] for n in solids}
    for hollow in hollows:
        middle = parts[hollow].vertices[parts[hollow].faces[0]].mean(axis=0)[None]
        # The smallest of those that hold it: bodies may lie in the cavities of others.
        holds = [n for n in solids if abs(float(Tree.of(parts[n]).winding(middle)[0])) > 0.5]
        inside[holds[-1] if holds else solids[0]].append(hollow)
    return [_tidy(mesh.vertices, mesh.faces[np.isin(body, inside[n])]) for n in solids]


def _together(mesh: Mesh, whole: Orientation) -> tuple[NDArray[np.int64], int]:
    """Groups (bodies,) of what belongs together, and how many: torn bits go with what they meet at edges."""
    table = EdgeTable.of(mesh.faces)
    crowded = np.repeat(table.count > 2, table.count)
    edge = np.repeat(np.arange(len(table.count)), table.count)[crowded]
    there = whole.body[table.facets[crowded]]
    alone = {n: edges(_tidy(mesh.vertices, mesh.faces[whole.body == n])).closed for n in np.unique(there)}
    torn = np.array([not alone[n] for n in there], np.bool_)
    ends = edge[torn] + whole.bodies, there[torn]
    size = whole.bodies + len(table.count)
    met = coo_array((np.ones(len(ends[0]), np.int8), ends), (size, size))
    _, group = connected_components(met, directed=False)
    names, group = np.unique(group[: whole.bodies], return_inverse=True)
    return group.astype(np.int64), len(names)

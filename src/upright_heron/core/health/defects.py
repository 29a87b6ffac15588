"""What is wrong with a surface: every defect with its place, so that it can be counted, shown and mended."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..errors import HeronError
from ..formats.reading import Reading
from ..geometry.mesh import Mesh, facet_normals
from ..geometry.solid import Solid
from ..geometry.tree import Tree
from .edges import EdgeTable, duplicate_facets
from .written import Verdict, judge

# Finding crossings stops here: a surface with so many is re-wrapped, not mended one by one.
MOST_CROSSINGS = 1000
# Nesting is looked at in so many bodies only, the largest.
MOST_BODIES = 200
# A facet is without area when its height is below this share of the part: single precision cannot tell.
FLAT = 1e-7
# An open body that encloses less than this share of (area)^1.5 is a sheet; for a ball it is 0.09.
SHEET = 0.02


@dataclass(frozen=True, eq=False)
class Health:
    """Defects of a surface.

    Attributes
    ----------
    open_edges : (k, 2) int64
        Vertices of the edges with one facet, in the direction in which a facet there would run.
    holes : tuple of (n,) int64
        The loops that they make, by vertices.
    crowded_edges : (k, 2) int64
        Vertices of the edges with three facets or more.
    flipped, duplicates, flat : (k,) int64
        Facets that face inwards, that are there already, and that have no area.
    body : (m,) int64
        Body of each facet, numbered by their first facet; facets that share an edge are of one body.
    bodies : int
    inside : tuple of int
        Bodies that lie inside another.
    crossings : (k, 2) int64
        Pairs of facets that pass through each other, ``MOST_CROSSINGS`` at most.
    verdict : Verdict
        Of the surface as it is read back from a file.
    """

    open_edges: NDArray[np.int64]
    holes: tuple[NDArray[np.int64], ...]
    crowded_edges: NDArray[np.int64]
    flipped: NDArray[np.int64]
    duplicates: NDArray[np.int64]
    flat: NDArray[np.int64]
    body: NDArray[np.int64]
    bodies: int
    inside: tuple[int, ...]
    crossings: NDArray[np.int64]
    verdict: Verdict

    @cached_property
    def counts(self) -> dict[str, int]:
        """How many of each defect, and how many bodies."""
        return {
            "open_edges": len(self.open_edges),
            "nonmanifold_edges": len(self.crowded_edges),
            "flipped_facets": len(self.flipped),
            "duplicate_facets": len(self.duplicates),
            "degenerate_facets": len(self.flat),
            "bodies": self.bodies,
            "self_crossings": len(self.crossings),
        }

    def counts_as_read(self, reading: Reading) -> dict[str, int]:
        """Counts as they were in the file: what reading put right at once counts too."""
        put_right = {"degenerate_facets": self.counts["degenerate_facets"] + reading.dropped}
        if reading.turned:
            put_right["flipped_facets"] = len(reading.mesh.faces)
        return {**self.counts, **put_right}

    @property
    def defects(self) -> int:
        """All defects together; bodies are none."""
        return sum(n for name, n in self.counts.items() if name != "bodies")


def examine(mesh: Mesh, crossings: NDArray[np.int64] | None = None) -> Health:
    """Find the defects of a surface.

    Parameters
    ----------
    mesh : Mesh
        With at least one facet.
    crossings : (k, 2) int64, optional
        Pairs of facets that pass through each other, where they are known.

    Returns
    -------
    Health
    """
    duplicates = duplicate_facets(mesh.faces)
    flat = flat_facets(mesh)
    if crossings is None:
        crossings = Tree.of(mesh).crossings(MOST_CROSSINGS)
    table = EdgeTable.of(mesh.faces)
    single, crowded = table.count == 1, table.count > 2
    facing = orientation(mesh, duplicates, table)
    # The facet at an open edge, once it faces outwards, runs one way; what would close it runs the other.
    turned = facing.flip[table.facets[table.start[:-1][single]]]
    forward = (table.forward[single] == 1) != turned
    ends = np.where(forward[:, None], table.ends[single][:, ::-1], table.ends[single])
    return Health(
        ends,
        tuple(loops(ends)),
        table.ends[crowded],
        np.flatnonzero(facing.flip),
        duplicates,
        flat,
        facing.body,
        facing.bodies,
        facing.inside,
        crossings,
        judge(mesh, crossings),
    )


def makes_solid(mesh: Mesh) -> bool:
    """Whether manifold3d takes the surface for a closed one; it accepts crossings."""
    try:
        Solid.from_mesh(mesh)
    except HeronError:
        return False
    return True


def flat_facets(mesh: Mesh) -> NDArray[np.int64]:
    """Find the facets (k,) without area."""
    return np.flatnonzero(_heights(mesh.vertices, mesh.faces) <= FLAT * float(mesh.size_mm.max()))


@njit(cache=True)
def _heights(vertices, faces):  # type: ignore[no-untyped-def]
    """Least height (m,) of each facet, mm: over its longest side."""
    found = np.zeros(faces.shape[0])
    for f in range(faces.shape[0]):
        i, j, k = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, az = vertices[i, 0], vertices[i, 1], vertices[i, 2]
        ux, uy, uz = vertices[j, 0] - ax, vertices[j, 1] - ay, vertices[j, 2] - az
        vx, vy, vz = vertices[k, 0] - ax, vertices[k, 1] - ay, vertices[k, 2] - az
        x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        longest = max(
            ux * ux + uy * uy + uz * uz,
            vx * vx + vy * vy + vz * vz,
            (vx - ux) ** 2 + (vy - uy) ** 2 + (vz - uz) ** 2,
        )
        if longest > 0.0:
            found[f] = math.sqrt((x * x + y * y + z * z) / longest)
    return found


def loops(ends: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """Link directed edges (k, 2) to closed loops of vertices; loops that touch are taken apart there."""
    following: dict[int, list[int]] = {}
    for a, b in ends.tolist():
        following.setdefault(a, []).append(b)
    found = []
    for begin in list(following):
        while following.get(begin):
            walk = [begin]
            place = {begin: 0}
            while following.get(walk[-1]):
                after = following[walk[-1]].pop()
                if after in place:
                    at = place[after]
                    found.append(np.array(walk[at:], np.int64))
                    for vertex in walk[at + 1 :]:
                        del place[vertex]
                    walk = walk[: at + 1]
                else:
                    place[after] = len(walk)
                    walk.append(after)
    return [loop for loop in found if len(loop) > 2]


@dataclass(frozen=True, eq=False)
class Orientation:
    """Which facets have to turn round, by bodies.

    Attributes
    ----------
    flip : (m,) bool
    body : (m,) int64
    bodies : int
    closed : (bodies,) bool
    volume_mm3 : (bodies,) float64
        Signed, after turning.
    inside : tuple of int
    """

    flip: NDArray[np.bool_]
    body: NDArray[np.int64]
    bodies: int
    closed: NDArray[np.bool_]
    volume_mm3: NDArray[np.float64]
    inside: tuple[int, ...]


def _numbered(
    mesh: Mesh, body: NDArray[np.int64], kept: NDArray[np.int64], counted: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], int]:
    """Number of the body of each facet (m,), in the order of their first facets, and how many there are."""
    body, many = _ranked(body)
    if counted.all():
        return body, many
    # What does not count goes with the body of its twin, found by its first vertex.
    at = np.zeros(len(mesh.vertices), np.int64)
    at[mesh.faces[kept]] = body[kept][:, None]
    body[~counted] = at[mesh.faces[~counted, 0]]
    names, body = np.unique(body, return_inverse=True)
    return body, len(names)


@njit(cache=True)
def _ranked(roots):  # type: ignore[no-untyped-def]
    """Numbers (m,) of the roots of facets, in the order in which they are met, and how many there are."""
    number = np.full(roots.shape[0], -1, np.int64)
    many = 0
    for f in range(roots.shape[0]):
        root = roots[f]
        if number[root] < 0:
            number[root] = many
            many += 1
    for f in range(roots.shape[0]):
        roots[f] = number[roots[f]]
    return roots, many


def orientation(
    mesh: Mesh, without: NDArray[np.int64] | None = None, table: EdgeTable | None = None
) -> Orientation:
    """Tell which facets face the wrong way.

    Parameters
    ----------
    mesh : Mesh
    without : (k,) int64, optional
        Facets that do not count, such as duplicates.
    table : EdgeTable, optional
        Of all facets, where it is known already.

    Returns
    -------
    Orientation

    Notes
    -----
    Over edges with two facets the facets of a body are made to agree; then the body as a whole faces
    outwards when its volume is positive; an open sheet is left as it is. A closed body in the hollow of
    another, that faces inwards as it is, is taken for a cavity and left so.
    """
    m = len(mesh.faces)
    counted = np.ones(m, np.bool_)
    if without is not None:
        counted[without] = False
    kept = np.flatnonzero(counted)
    if table is None or len(kept) < m:
        table = EdgeTable.of(mesh.faces[kept])
    pairs = np.flatnonzero(table.count == 2)
    first = kept[table.facets[table.start[pairs]]]
    second = kept[table.facets[table.start[pairs] + 1]]
    body, turned = _agree(m, first, second, table.forward[pairs] != 1)
    body, count = _numbered(mesh, body, kept, counted)
    closed = np.ones(count, np.bool_)
    rim = table.count != 2
    closed[body[kept[table.facets[table.start[:-1][rim]]]]] = False
    sign = np.where(turned, -1.0, 1.0)
    share = np.bincount(body[kept], minlength=count).astype(float)
    part = _parts_of_volume(mesh.vertices, mesh.faces, body, counted, count)
    volume = np.bincount(body[kept], (sign * part)[kept], minlength=count)
    # As it is, before anything turns: whether a body faces inwards on the whole.
    as_is = np.bincount(body[kept], part[kept], minlength=count)
    agreeing = np.bincount(body[kept], turned[kept].astype(float), minlength=count)
    facing = np.where(turned[:, None], mesh.faces[:, ::-1], mesh.faces)
    inside = _inside(Mesh(mesh.vertices, facing), body, closed, count)
    cavity = np.zeros(count, np.bool_)
    for number, depth in inside.items():
        whole = agreeing[number] in (0.0, share[number])
        cavity[number] = depth % 2 == 1 and closed[number] and whole and as_is[number] < 0
    # An open sheet has no inside to face away from: only what encloses something is turned as a whole.
    _, areas = facet_normals(mesh)
    area = np.bincount(body[kept], areas[kept], minlength=count)
    encloses = closed | (np.abs(volume) > SHEET * area**1.5)
    wrong = ((volume < 0) != cavity) & encloses
    flip = (turned != wrong[body]) & counted
    return Orientation(
        flip,
        body,
        count,
        closed,
        np.where(cavity, -np.abs(volume), np.abs(volume)),
        tuple(sorted(n for n, depth in inside.items() if depth > 0)),
    )


@njit(cache=True)
def _parts_of_volume(vertices, faces, body, counted, count):  # type: ignore[no-untyped-def]
    """What each facet (m,) adds to the volume of its body, seen from the middle of that, mm3."""
    middle, share = np.zeros((count, 3)), np.zeros(count)
    for f in range(faces.shape[0]):
        if counted[f]:
            share[body[f]] += 1.0
            for axis in range(3):
                for c in range(3):
                    middle[body[f], axis] += vertices[faces[f, c], axis] / 3
    for n in range(count):
        middle[n] /= max(share[n], 1.0)
    found = np.empty(faces.shape[0])
    for f in range(faces.shape[0]):
        o = middle[body[f]]
        a, b, c = vertices[faces[f, 0]] - o, vertices[faces[f, 1]] - o, vertices[faces[f, 2]] - o
        x, y, z = b[1] * c[2] - b[2] * c[1], b[2] * c[0] - b[0] * c[2], b[0] * c[1] - b[1] * c[0]
        found[f] = (a[0] * x + a[1] * y + a[2] * z) / 6
    return found


def _inside(mesh: Mesh, body: NDArray[np.int64], closed: NDArray[np.bool_], count: int) -> dict[int, int]:
    """In how many closed bodies each body lies, of the largest bodies."""
    if count < 2:
        return {}
    low = np.full((count, 3), np.inf)
    high = np.full((count, 3), -np.inf)
    corners = mesh.vertices[mesh.faces]
    np.minimum.at(low, body, corners.min(axis=1))
    np.maximum.at(high, body, corners.max(axis=1))
    largest = np.argsort(-(high - low).prod(axis=1))[:MOST_BODIES]
    depth: dict[int, int] = dict.fromkeys(largest.tolist(), 0)
    first = {int(b): int(np.argmax(body == b)) for b in largest}
    for outer in largest.tolist():
        within = [
            b
            for b in largest.tolist()
            if b != outer and (low[b] >= low[outer]).all() and (high[b] <= high[outer]).all()
        ]
        if not within or not closed[outer]:
            continue
        facets = mesh.faces[body == outer]
        around = Tree.of(Mesh(mesh.vertices, facets)).winding(
            np.array([corners[first[b]].mean(axis=0) for b in within])
        )
        for b, turns in zip(within, around, strict=True):
            depth[b] += int(abs(turns) > 0.5)
    return depth


@njit(cache=True)
def _agree(count, first, second, clash):  # type: ignore[no-untyped-def]
    """Unite facets that share an edge; one is turned when an odd number of clashes lies on its way up."""
    parent = np.arange(count)
    parity = np.zeros(count, np.bool_)
    for k in range(first.shape[0]):
        a, b = first[k], second[k]
        pa = pb = False
        while parent[a] != a:
            pa ^= parity[a]
            a = parent[a]
        while parent[b] != b:
            pb ^= parity[b]
            b = parent[b]
        if a == b:
            continue
        if a > b:
            a, b = b, a
        parent[b] = a
        parity[b] = pa ^ pb ^ clash[k]
        # Shorten both ways to the root.
        for begin in (first[k], second[k]):
            x = begin
            total = False
            while parent[x] != x:
                total ^= parity[x]
                x = parent[x]
            root = x
            x = begin
            while parent[x] != root and parent[x] != x:
                after, p = parent[x], parity[x]
                parent[x], parity[x] = root, total
                total ^= p
                x = after
    turned = np.zeros(count, np.bool_)
    for f in range(count):
        x = f
        total = False
        while parent[x] != x:
            total ^= parity[x]
            x = parent[x]
        turned[f] = total
        parent_of = f
        while parent[parent_of] != parent_of:
            after, p = parent[parent_of], parity[parent_of]
            parent[parent_of], parity[parent_of] = x, total
            total ^= p
            parent_of = after
    return parent, turned


def thickness_mm(
    mesh: Mesh, tree: Tree | None = None, facets: NDArray[np.int64] | None = None
) -> NDArray[np.float64]:
    """Thickness of the wall behind each facet.

    Parameters
    ----------
    mesh : Mesh
        Facing outwards.
    tree : Tree, optional
    facets : (k,) int64, optional
        Those to measure; all without it.

    Returns
    -------
    (m,) or (k,) float64
        Length of the way straight in from the middle of the facet to the next facet that faces away; infinite
        where there is none.
    """
    tree = tree or Tree.of(mesh)
    normals, _ = facet_normals(mesh)
    asked = np.arange(len(mesh.faces)) if facets is None else facets
    middle = mesh.vertices[mesh.faces[asked]].mean(axis=1)
    length, facet = tree.first_hits(middle, -normals[asked], asked)
    away = np.einsum("ij,ij->i", normals[np.maximum(facet, 0)], normals[asked]) < 0
    return np.where((facet >= 0) & away, length, np.inf)

"""Triangle meshes: the type, welding, closedness, shells and mass properties."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..tags import stored

Vertices = NDArray[np.float64]
Faces = NDArray[np.int32]


@stored("mesh")
@dataclass(frozen=True, eq=False)
class Mesh:
    """A triangle mesh in millimetres.

    Attributes
    ----------
    vertices : (n, 3) float64, mm
    faces : (m, 3) int32
        Counter-clockwise seen from outside.
    """

    vertices: Vertices
    faces: Faces

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", _frozen(self.vertices, np.dtype(np.float64)))
        object.__setattr__(self, "faces", _frozen(self.faces, np.dtype(np.int32)))

    @cached_property
    def digest(self) -> str:
        """BLAKE2 of both arrays, 32 hexadecimal digits."""
        h = hashlib.blake2b(digest_size=16)
        h.update(self.vertices.tobytes())
        h.update(self.faces.tobytes())
        return h.hexdigest()

    @cached_property
    def bounds(self) -> NDArray[np.float64]:
        """(2, 3) float64: lowest and highest corner, mm."""
        return np.stack([self.vertices.min(axis=0), self.vertices.max(axis=0)])

    @property
    def size_mm(self) -> NDArray[np.float64]:
        """(3,) float64: extents along x, y and z."""
        result: NDArray[np.float64] = self.bounds[1] - self.bounds[0]
        return result

    def sized(self, factors: tuple[float, float, float]) -> Mesh:
        """Return the mesh with x, y and z multiplied; a mirrored one still faces outwards.

        Corners are kept to single precision, as files keep them.
        """
        vertices = (self.vertices * np.asarray(factors)).astype(np.float32).astype(np.float64)
        mirrored = np.prod(np.sign(factors)) < 0
        return Mesh(vertices, self.faces[:, ::-1] if mirrored else self.faces)

    def transformed(self, rotation: NDArray[np.float64], offset_mm: NDArray[np.float64]) -> Mesh:
        """Return the mesh turned by ``rotation`` (3, 3) and then moved by ``offset_mm`` (3,)."""
        return Mesh(self.vertices @ rotation.T + offset_mm, self.faces)

    def moved(self, x: float = 0.0, y: float = 0.0, z: float = 0.0) -> Mesh:
        """Return the mesh somewhere else; one without facets stays as it is."""
        return Mesh(self.vertices + [x, y, z], self.faces) if len(self.faces) and (x or y or z) else self


def _frozen(array: NDArray[np.generic], dtype: np.dtype[np.generic]) -> NDArray[np.generic]:
    result = np.ascontiguousarray(array, dtype=dtype)
    if result.flags.writeable:
        result = result.view()
        result.flags.writeable = False
    return result


@dataclass(frozen=True, slots=True)
class MassProperties:
    """Volume (mm3, signed), surface area (mm2) and centre of mass (3,) mm of a mesh."""

    volume_mm3: float
    area_mm2: float
    centre_mm: NDArray[np.float64]


@stored("edges")
@dataclass(frozen=True, slots=True)
class Edges:
    """How the edges of a mesh are shared.

    Attributes
    ----------
    open : int
        Edges with one facet only.
    crowded : int
        Edges with three facets or more.
    clashing : int
        Edges whose facets do not pair up in opposite directions, so that inside and outside clash.
    """

    open: int
    crowded: int
    clashing: int

    @property
    def closed(self) -> bool:
        """At every edge the facets pair up and agree about outside.

        Two bodies that touch along an edge give it four facets; they still enclose their volumes.
        """
        return self.open == 0 and self.clashing == 0


@stored("mesh-facts")
@dataclass(frozen=True, slots=True)
class MeshFacts:
    """What the Part section shows.

    Attributes
    ----------
    facets, vertices, shells : int
    size_mm : tuple of three float
    volume_mm3, area_mm2 : float
        The volume is that of the divergence theorem; on an open mesh it is only a guess.
    closed : bool
    edges : Edges
    """

    facets: int
    vertices: int
    size_mm: tuple[float, float, float]
    volume_mm3: float
    area_mm2: float
    closed: bool
    shells: int
    edges: Edges


def weld(corners: NDArray[np.float32]) -> Mesh:
    """Join the equal corners of a triangle soup and drop facets that become a line or a point.

    Parameters
    ----------
    corners : (m, 3, 3) float32
        Three corners a facet, finite.

    Returns
    -------
    Mesh
        Vertices in the order of their first use. Corners are equal when their bits are (minus zero counts
        as zero): no tolerance is applied.
    """
    flat = np.ascontiguousarray(corners.reshape(-1, 3) + np.float32(0.0), dtype=np.float32)
    ids, firsts = _weld_kernel(flat.view(np.uint32), _table_size(len(flat)))
    faces = ids.reshape(-1, 3)
    keep = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    if not keep.all():
        faces = faces[keep]
    return Mesh(flat[firsts].astype(np.float64), faces)


def distinct(points: NDArray[np.float32]) -> int:
    """How many of some points (n, 3) are different, bit for bit."""
    flat = np.ascontiguousarray(points + np.float32(0.0), dtype=np.float32)
    return len(_weld_kernel(flat.view(np.uint32), _table_size(len(flat)))[1])


def _table_size(count: int) -> int:
    size = 1024
    while size < 2 * count:
        size *= 2
    return size


@njit(cache=True)
def _weld_kernel(bits, table_size):  # type: ignore[no-untyped-def]
    # Open addressing with linear probing: one pass, measured ten times faster than any sort of the rows.
    n = bits.shape[0]
    mask = np.uint64(table_size - 1)
    table = np.full(table_size, -1, np.int32)
    ids = np.empty(n, np.int32)
    firsts = np.empty(n, np.int32)
    count = 0
    for i in range(n):
        a, b, c = np.uint64(bits[i, 0]), np.uint64(bits[i, 1]), np.uint64(bits[i, 2])
        h = a * np.uint64(0x9E3779B97F4A7C15)
        h = (h ^ (h >> np.uint64(29)) ^ b) * np.uint64(0xBF58476D1CE4E5B9)
        h = (h ^ (h >> np.uint64(32)) ^ c) * np.uint64(0x94D049BB133111EB)
        slot = (h ^ (h >> np.uint64(31))) & mask
        while True:
            known = table[slot]
            if known < 0:
                table[slot] = count
                firsts[count] = i
                ids[i] = count
                count += 1
                break
            f = firsts[known]
            if bits[f, 0] == bits[i, 0] and bits[f, 1] == bits[i, 1] and bits[f, 2] == bits[i, 2]:
                ids[i] = known
                break
            slot = (slot + np.uint64(1)) & mask
    return ids, firsts[:count]


@njit(cache=True)
def _edges_kernel(faces, vertex_count):  # type: ignore[no-untyped-def]
    # Each undirected edge is filed under its lower vertex; a vertex has few edges, so buckets stay short.
    start = np.zeros(vertex_count + 1, np.int64)
    m = faces.shape[0]
    for f in range(m):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            start[min(a, b) + 1] += 1
    for v in range(vertex_count):
        start[v + 1] += start[v]
    fill = start[:-1].copy()
    other = np.empty(3 * m, np.int32)
    for f in range(m):
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            low = min(a, b)
            # The direction is kept in the sign: +(v+1) leaves the lower vertex, -(v+1) comes to it.
            other[fill[low]] = (b + 1) if a < b else -(a + 1)
            fill[low] += 1
    open_edges = 0
    crowded = 0
    clashing = 0
    for v in range(vertex_count):
        lo, hi = start[v], start[v + 1]
        for i in range(lo, hi):
            target = abs(other[i])
            if target == 0:
                continue
            total = 1
            balance = 1 if other[i] > 0 else -1
            for j in range(i + 1, hi):
                if abs(other[j]) == target:
                    total += 1
                    balance += 1 if other[j] > 0 else -1
                    other[j] = 0
            if total == 1:
                open_edges += 1
            else:
                crowded += total > 2
                clashing += balance != 0
    return open_edges, crowded, clashing


@njit(cache=True)
def _shells_kernel(faces, vertex_count):  # type: ignore[no-untyped-def]
    parent = np.arange(vertex_count)
    for f in range(faces.shape[0]):
        for k in range(2):
            a, b = faces[f, k], faces[f, k + 1]
            while parent[a] != a:
                parent[a] = parent[parent[a]]
                a = parent[a]
            while parent[b] != b:
                parent[b] = parent[parent[b]]
                b = parent[b]
            if a != b:
                parent[max(a, b)] = min(a, b)
    used = np.zeros(vertex_count, np.bool_)
    shells = 0
    for f in range(faces.shape[0]):
        a = faces[f, 0]
        while parent[a] != a:
            a = parent[a]
        if not used[a]:
            used[a] = True
            shells += 1
    return shells


@njit(cache=True)
def _mass_kernel(vertices, faces, origin):  # type: ignore[no-untyped-def]
    volume = 0.0
    area = 0.0
    cx = cy = cz = 0.0
    ox, oy, oz = origin[0], origin[1], origin[2]
    for f in range(faces.shape[0]):
        # Number by number: little arrays for each facet would cost more than the sums.
        i, j, k = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, az = vertices[i, 0] - ox, vertices[i, 1] - oy, vertices[i, 2] - oz
        bx, by, bz = vertices[j, 0] - ox, vertices[j, 1] - oy, vertices[j, 2] - oz
        dx, dy, dz = vertices[k, 0] - ox, vertices[k, 1] - oy, vertices[k, 2] - oz
        n0 = (by - ay) * (dz - az) - (bz - az) * (dy - ay)
        n1 = (bz - az) * (dx - ax) - (bx - ax) * (dz - az)
        n2 = (bx - ax) * (dy - ay) - (by - ay) * (dx - ax)
        area += 0.5 * np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
        v = (ax * n0 + ay * n1 + az * n2) / 6.0
        volume += v
        cx += v * (ax + bx + dx) * 0.25
        cy += v * (ay + by + dy) * 0.25
        cz += v * (az + bz + dz) * 0.25
    return volume, area, cx, cy, cz


def mass_properties(mesh: Mesh) -> MassProperties:
    """Volume, area and centre of mass by the divergence theorem, summed about the middle of the box.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    MassProperties
        Signed volume: negative when the facets face inwards. The centre falls back to the middle of the
        bounding box when the volume vanishes (flat or open meshes).

    References
    ----------
    B. Mirtich, "Fast and accurate computation of polyhedral mass properties", J. Graphics Tools 1(2), 1996.
    """
    origin = mesh.bounds.mean(axis=0)
    volume, area, cx, cy, cz = _mass_kernel(mesh.vertices, mesh.faces, origin)
    scale = float(np.prod(np.maximum(mesh.size_mm, 1e-12)))
    centre = origin if abs(volume) < 1e-9 * scale else origin + np.array([cx, cy, cz]) / volume
    return MassProperties(float(volume), float(area), centre)


def edges(mesh: Mesh) -> Edges:
    """Count the open, crowded and clashing edges of a mesh."""
    return Edges(*(int(v) for v in _edges_kernel(mesh.faces, len(mesh.vertices))))


def facts(mesh: Mesh) -> MeshFacts:
    """Gather size, volume, area, closedness and shells of a mesh."""
    mass = mass_properties(mesh)
    shared = edges(mesh)
    x, y, z = (float(v) for v in mesh.size_mm)
    return MeshFacts(
        facets=len(mesh.faces),
        vertices=len(mesh.vertices),
        size_mm=(x, y, z),
        volume_mm3=mass.volume_mm3,
        area_mm2=mass.area_mm2,
        closed=shared.closed,
        shells=int(_shells_kernel(mesh.faces, len(mesh.vertices))),
        edges=shared,
    )


def facet_normals(mesh: Mesh) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Unit normals (m, 3) and areas (m,) mm2 of the facets; zero normals for facets without area."""
    normals, areas = _normals_kernel(mesh.vertices, mesh.faces)
    return normals, areas


@njit(cache=True)
def _normals_kernel(vertices, faces):  # type: ignore[no-untyped-def]
    m = faces.shape[0]
    normals = np.zeros((m, 3))
    areas = np.zeros(m)
    for f in range(m):
        i, j, k = faces[f, 0], faces[f, 1], faces[f, 2]
        ux, uy = vertices[j, 0] - vertices[i, 0], vertices[j, 1] - vertices[i, 1]
        wx, wy = vertices[k, 0] - vertices[i, 0], vertices[k, 1] - vertices[i, 1]
        uz, wz = vertices[j, 2] - vertices[i, 2], vertices[k, 2] - vertices[i, 2]
        x = uy * wz - uz * wy
        y = uz * wx - ux * wz
        z = ux * wy - uy * wx
        length = np.sqrt(x * x + y * y + z * z)
        areas[f] = 0.5 * length
        if length > 0.0:
            normals[f, 0] = x / length
            normals[f, 1] = y / length
            normals[f, 2] = z / length
    return normals, areas

"""A bounding-volume tree over the facets of a mesh: crossings, rays, nearest distance and winding number.

References
----------
T. Karras, "Maximizing parallelism in the construction of BVHs, octrees, and k-d trees", HPG 2012 (facets in
Morton order). T. Moeller, B. Trumbore, "Fast, minimum storage ray-triangle intersection", J. Graphics Tools
2(1), 1997. A. Van Oosterom, J. Strackee, "The solid angle of a plane triangle", IEEE Trans. Biomedical
Engineering 30(2), 1983. G. Barill et al., "Fast winding numbers for soups and clouds", ACM Trans. Graphics
37(4), 2018. C. Ericson, "Real-Time Collision Detection", 2005, sec. 5.1.5 (nearest point of a triangle).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .crossings import crossings_of, leaves_of
from .mesh import Mesh

# A cluster of facets is taken as one dipole from this many of its radii away: error below a hundredth.
FAR_RADII = 2.0
# Edges pass through a facet when both ends are further from it than so many steps of single precision.
NOISE = 4.0


@dataclass(frozen=True, eq=False)
class Tree:
    """Facets in Morton order under a complete binary tree of boxes.

    Attributes
    ----------
    corners : (m, 3, 3) float64
        Corners of the facets, in tree order.
    order : (m,) int64
        Facet of the mesh at each place.
    ids : (m, 3) int32
        Vertices of the facets, in tree order.
    boxes : (2 L - 1, 6) float64
        Lowest and highest corner of each node; node i has the children 2 i + 1 and 2 i + 2.
    """

    corners: NDArray[np.float64]
    order: NDArray[np.int64]
    ids: NDArray[np.int32]
    boxes: NDArray[np.float64]

    @classmethod
    def of(cls, mesh: Mesh) -> Tree:
        """Build the tree of a mesh with at least one facet."""
        low, high = mesh.bounds
        codes = _codes(mesh.vertices, mesh.faces, low, np.maximum(high - low, 1e-300))
        order = np.argsort(codes, kind="stable")
        ids = mesh.faces[order]
        corners = mesh.vertices[ids]
        return cls(corners, order, ids, _build(corners))

    @cached_property
    def moments(self) -> NDArray[np.float64]:
        """(n, 7) float64 of n nodes: area-weighted normal, its centre and the radius round it."""
        found: NDArray[np.float64] = _moments(self.corners, self.boxes)
        return found

    def crossings(self, limit: int = 1000) -> NDArray[np.int64]:
        """Find pairs of facets that pass through each other.

        Facets that share an edge are not tried; of those that share a corner only the edges away from it.

        Parameters
        ----------
        limit : int
            Stop after so many.

        Returns
        -------
        (k, 2) int64
            Facets of the mesh.
        """
        slack = NOISE * float(np.spacing(np.float32(np.abs(self.corners).max())))
        pairs: NDArray[np.int64] = self.order[crossings_of(self.corners, self.ids, self.boxes, limit, slack)]
        return pairs

    def first_hits(
        self,
        origins: NDArray[np.float64],
        directions: NDArray[np.float64],
        own: NDArray[np.int64] | None = None,
    ) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """Follow rays to the first facet.

        Parameters
        ----------
        origins, directions : (n, 3) float64, mm
        own : (n,) int64, optional
            A facet of the mesh that each ray starts on and does not hit; -1 for none.

        Returns
        -------
        (n,) float64
            Lengths in units of the direction, infinite where nothing is hit.
        (n,) int64
            Facets hit, -1 where there is none.
        """
        skip = np.full(len(origins), -1, np.int64)
        # Looking up where facets lie takes as long as there are facets; few rays need it.
        if own is not None and (own >= 0).any():
            place = np.empty(len(self.order), np.int64)
            place[self.order] = np.arange(len(self.order))
            skip = np.where(own >= 0, place[np.maximum(own, 0)], -1)
        length, at = _first_hits(self.corners, self.boxes, np.asarray(origins), np.asarray(directions), skip)
        facets = np.where(at >= 0, self.order[at], -1)
        return length, facets

    def distances(self, points: NDArray[np.float64], reach_mm: float = math.inf) -> NDArray[np.float64]:
        """Distance (n,) mm from points (n, 3) to the surface; no more than ``reach_mm``."""
        found: NDArray[np.float64] = _distances(
            self.corners, self.boxes, np.ascontiguousarray(points), reach_mm
        )
        return found

    def nearer(self, points: NDArray[np.float64], than_mm: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Whether the surface is nearer to points (n, 3) than so much (n,), mm."""
        found: NDArray[np.bool_] = _nearer(self.corners, self.boxes, np.ascontiguousarray(points), than_mm)
        return found

    def nearest(self, point: NDArray[np.float64]) -> tuple[int, float]:
        """Facet of the mesh that is nearest to a point (3,), and its distance, mm."""
        away = float(self.distances(point[None])[0])
        x, y, z = (float(v) for v in point)
        return int(self.order[_first_nearest(self.corners, x, y, z, away + 1e-6)]), away

    def winding(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        """Generalised winding number (n,) at points (n, 3): 1 inside a closed surface and 0 outside."""
        found: NDArray[np.float64] = _winding(
            self.corners, self.boxes, self.moments, np.ascontiguousarray(points), FAR_RADII
        )
        return found


@njit(cache=True)
def _first_nearest(corners, x, y, z, reach):  # type: ignore[no-untyped-def]
    """The first of the triangles (m, 3, 3) that are nearest to a place, and no further than ``reach``."""
    best, least = 0, np.inf
    for k in range(corners.shape[0]):
        a, b, c = corners[k, 0], corners[k, 1], corners[k, 2]
        if min(a[0], b[0], c[0]) > x + reach or max(a[0], b[0], c[0]) < x - reach:
            continue
        if min(a[1], b[1], c[1]) > y + reach or max(a[1], b[1], c[1]) < y - reach:
            continue
        if min(a[2], b[2], c[2]) > z + reach or max(a[2], b[2], c[2]) < z - reach:
            continue
        off = squared_distance(corners, k, x, y, z)
        if off < least:
            best, least = k, off
    return best


@njit(cache=True)
def _codes(vertices, faces, low, size):  # type: ignore[no-untyped-def]
    """Morton codes (m,) of the middles of facets, in 1,023 steps along each side of their box."""
    codes = np.empty(faces.shape[0], np.uint32)
    for f in range(faces.shape[0]):
        code = np.uint32(0)
        for axis in range(3):
            total = 0.0
            for c in range(3):
                total += vertices[faces[f, c], axis]
            x = np.uint32(min(max((total / 3 - low[axis]) / size[axis] * 1023, 0.0), 1023.0))
            x = (x | (x << np.uint32(16))) & np.uint32(0x30000FF)
            x = (x | (x << np.uint32(8))) & np.uint32(0x300F00F)
            x = (x | (x << np.uint32(4))) & np.uint32(0x30C30C3)
            x = (x | (x << np.uint32(2))) & np.uint32(0x9249249)
            code |= x << np.uint32(axis)
        codes[f] = code
    return codes


@njit(cache=True)
def _build(corners):  # type: ignore[no-untyped-def]
    """Boxes of all nodes."""
    m = corners.shape[0]
    leaves = leaves_of(m)
    boxes = np.empty((2 * leaves - 1, 6))
    boxes[:, :3] = np.inf
    boxes[:, 3:] = -np.inf
    for leaf in range(leaves):
        node = leaves - 1 + leaf
        for f in range(leaf * m // leaves, (leaf + 1) * m // leaves):
            for axis in range(3):
                for c in range(3):
                    boxes[node, axis] = min(boxes[node, axis], corners[f, c, axis])
                    boxes[node, 3 + axis] = max(boxes[node, 3 + axis], corners[f, c, axis])
    for node in range(leaves - 2, -1, -1):
        a, b = 2 * node + 1, 2 * node + 2
        for axis in range(3):
            boxes[node, axis] = min(boxes[a, axis], boxes[b, axis])
            boxes[node, 3 + axis] = max(boxes[a, 3 + axis], boxes[b, 3 + axis])
    return boxes


@njit(cache=True)
def _moments(corners, boxes):  # type: ignore[no-untyped-def]
    """Moments of all nodes, as ``Tree.moments`` has them."""
    m = corners.shape[0]
    leaves = leaves_of(m)
    moments = np.zeros((2 * leaves - 1, 7))
    weight = np.zeros(2 * leaves - 1)
    for leaf in range(leaves):
        node = leaves - 1 + leaf
        for f in range(leaf * m // leaves, (leaf + 1) * m // leaves):
            ux, uy, uz = corners[f, 1] - corners[f, 0]
            vx, vy, vz = corners[f, 2] - corners[f, 0]
            nx, ny, nz = 0.5 * (uy * vz - uz * vy), 0.5 * (uz * vx - ux * vz), 0.5 * (ux * vy - uy * vx)
            area = math.sqrt(nx * nx + ny * ny + nz * nz)
            moments[node, 0] += nx
            moments[node, 1] += ny
            moments[node, 2] += nz
            weight[node] += area
            for axis in range(3):
                middle = (corners[f, 0, axis] + corners[f, 1, axis] + corners[f, 2, axis]) / 3
                moments[node, 3 + axis] += area * middle
    for node in range(leaves - 2, -1, -1):
        a, b = 2 * node + 1, 2 * node + 2
        moments[node, :6] = moments[a, :6] + moments[b, :6]
        weight[node] = weight[a] + weight[b]
    for node in range(2 * leaves - 1):
        radius = 0.0
        for axis in range(3):
            if weight[node] > 0.0:
                moments[node, 3 + axis] /= weight[node]
            away = max(
                boxes[node, 3 + axis] - moments[node, 3 + axis], moments[node, 3 + axis] - boxes[node, axis]
            )
            radius += away * away
        moments[node, 6] = math.sqrt(radius)
    return moments


@njit(cache=True)
def _hit(corners, f, ox, oy, oz, dx, dy, dz):  # type: ignore[no-untyped-def]
    """Length of a ray to a facet, or -1: Moeller and Trumbore."""
    ax, ay, az = corners[f, 0, 0], corners[f, 0, 1], corners[f, 0, 2]
    ux, uy, uz = corners[f, 1, 0] - ax, corners[f, 1, 1] - ay, corners[f, 1, 2] - az
    vx, vy, vz = corners[f, 2, 0] - ax, corners[f, 2, 1] - ay, corners[f, 2, 2] - az
    px, py, pz = dy * vz - dz * vy, dz * vx - dx * vz, dx * vy - dy * vx
    det = ux * px + uy * py + uz * pz
    if det == 0.0:
        return -1.0
    tx, ty, tz = ox - ax, oy - ay, oz - az
    u = (tx * px + ty * py + tz * pz) / det
    if u < 0.0 or u > 1.0:
        return -1.0
    qx, qy, qz = ty * uz - tz * uy, tz * ux - tx * uz, tx * uy - ty * ux
    v = (dx * qx + dy * qy + dz * qz) / det
    if v < 0.0 or u + v > 1.0:
        return -1.0
    return (vx * qx + vy * qy + vz * qz) / det


@njit(cache=True)
def _enters(boxes, node, origin, direction):  # type: ignore[no-untyped-def]
    """Length at which a ray enters a box: 0 where it starts inside, infinite where it misses."""
    enter, leave = 0.0, np.inf
    for axis in range(3):
        o, d = origin[axis], direction[axis]
        if d == 0.0:
            if o < boxes[node, axis] or o > boxes[node, 3 + axis]:
                return np.inf
            continue
        t0, t1 = (boxes[node, axis] - o) / d, (boxes[node, 3 + axis] - o) / d
        if t0 > t1:
            t0, t1 = t1, t0
        enter, leave = max(enter, t0), min(leave, t1)
    return enter if enter <= leave else np.inf


@njit(cache=True)
def _first_hits(corners, boxes, origins, directions, skip):  # type: ignore[no-untyped-def]
    m = corners.shape[0]
    leaves = leaves_of(m)
    n = origins.shape[0]
    length = np.full(n, np.inf)
    at = np.full(n, -1, np.int64)
    stack = np.empty(128, np.int64)
    enters = np.empty(128)
    for k in range(n):
        origin, direction = origins[k], directions[k]
        ox, oy, oz = origin[0], origin[1], origin[2]
        dx, dy, dz = direction[0], direction[1], direction[2]
        stack[0], enters[0] = 0, _enters(boxes, 0, origin, direction)
        top = 1
        best = np.inf
        while top > 0:
            top -= 1
            if not enters[top] < best:
                continue
            node = stack[top]
            if node < leaves - 1:
                near, far = 2 * node + 1, 2 * node + 2
                to_near, to_far = (
                    _enters(boxes, near, origin, direction),
                    _enters(boxes, far, origin, direction),
                )
                if to_near > to_far:
                    near, far, to_near, to_far = far, near, to_far, to_near
                # The nearer box is taken first: what it holds often rules out the other.
                if to_far < best:
                    stack[top], enters[top] = far, to_far
                    top += 1
                if to_near < best:
                    stack[top], enters[top] = near, to_near
                    top += 1
                continue
            leaf = node - (leaves - 1)
            for f in range(leaf * m // leaves, (leaf + 1) * m // leaves):
                if f == skip[k]:
                    continue
                t = _hit(corners, f, ox, oy, oz, dx, dy, dz)
                if 0.0 < t < best:
                    best = t
                    at[k] = f
        length[k] = best
    return length, at


@njit(cache=True)
def squared_distance(corners, f, x, y, z):  # type: ignore[no-untyped-def]
    """Squared distance of a point from facet ``f`` of corners (m, 3, 3), mm2."""
    ax, ay, az = corners[f, 0, 0], corners[f, 0, 1], corners[f, 0, 2]
    ux, uy, uz = corners[f, 1, 0] - ax, corners[f, 1, 1] - ay, corners[f, 1, 2] - az
    vx, vy, vz = corners[f, 2, 0] - ax, corners[f, 2, 1] - ay, corners[f, 2, 2] - az
    px, py, pz = x - ax, y - ay, z - az
    d1, d2 = ux * px + uy * py + uz * pz, vx * px + vy * py + vz * pz
    s = t = 0.0
    if d1 <= 0.0 and d2 <= 0.0:
        s = t = 0.0
    else:
        uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
        d3, d4 = d1 - uu, d2 - uv
        d5, d6 = d1 - uv, d2 - vv
        vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
        if d3 >= 0.0 and d4 <= d3:
            s, t = 1.0, 0.0
        elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
            s, t = (d1 / (d1 - d3) if d1 != d3 else 0.0), 0.0
        elif d6 >= 0.0 and d5 <= d6:
            s, t = 0.0, 1.0
        elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
            s, t = 0.0, (d2 / (d2 - d6) if d2 != d6 else 0.0)
        elif va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
            w = (d4 - d3) / ((d4 - d3) + (d5 - d6)) if (d4 - d3) + (d5 - d6) != 0.0 else 0.0
            s, t = 1.0 - w, w
        else:
            total = va + vb + vc
            if total != 0.0:
                s, t = vb / total, vc / total
    ex, ey, ez = px - s * ux - t * vx, py - s * uy - t * vy, pz - s * uz - t * vz
    return ex * ex + ey * ey + ez * ez


@njit(cache=True)
def _box_distance(boxes, node, x, y, z):  # type: ignore[no-untyped-def]
    dx = max(0.0, boxes[node, 0] - x, x - boxes[node, 3])
    dy = max(0.0, boxes[node, 1] - y, y - boxes[node, 4])
    dz = max(0.0, boxes[node, 2] - z, z - boxes[node, 5])
    return dx * dx + dy * dy + dz * dz


@njit(cache=True)
def _distances(corners, boxes, points, reach):  # type: ignore[no-untyped-def]
    m = corners.shape[0]
    leaves = leaves_of(m)
    result = np.empty(points.shape[0])
    stack = np.empty(128, np.int64)
    for k in range(points.shape[0]):
        x, y, z = points[k, 0], points[k, 1], points[k, 2]
        best = reach * reach
        stack[0] = 0
        top = 1
        while top > 0:
            top -= 1
            node = stack[top]
            if _box_distance(boxes, node, x, y, z) >= best:
                continue
            if node < leaves - 1:
                a, b = 2 * node + 1, 2 * node + 2
                if _box_distance(boxes, a, x, y, z) < _box_distance(boxes, b, x, y, z):
                    a, b = b, a
                stack[top], stack[top + 1] = a, b
                top += 2
                continue
            leaf = node - (leaves - 1)
            for f in range(leaf * m // leaves, (leaf + 1) * m // leaves):
                best = min(best, squared_distance(corners, f, x, y, z))
        result[k] = math.sqrt(best)
    return result


@njit(cache=True)
def _nearer(corners, boxes, points, than):  # type: ignore[no-untyped-def]
    m = corners.shape[0]
    leaves = leaves_of(m)
    result = np.zeros(points.shape[0], np.bool_)
    stack = np.empty(128, np.int64)
    for k in range(points.shape[0]):
        x, y, z = points[k, 0], points[k, 1], points[k, 2]
        reach = than[k] * than[k]
        stack[0] = 0
        top = 1
        while top > 0:
            top -= 1
            node = stack[top]
            if _box_distance(boxes, node, x, y, z) >= reach:
                continue
            if node < leaves - 1:
                stack[top], stack[top + 1] = 2 * node + 1, 2 * node + 2
                top += 2
                continue
            leaf = node - (leaves - 1)
            for f in range(leaf * m // leaves, (leaf + 1) * m // leaves):
                if squared_distance(corners, f, x, y, z) < reach:
                    result[k] = True
                    top = 0
                    break
    return result


@njit(cache=True)
def _winding(corners, boxes, moments, points, far):  # type: ignore[no-untyped-def]
    m = corners.shape[0]
    leaves = leaves_of(m)
    result = np.empty(points.shape[0])
    stack = np.empty(128, np.int64)
    for k in range(points.shape[0]):
        x, y, z = points[k, 0], points[k, 1], points[k, 2]
        total = 0.0
        stack[0] = 0
        top = 1
        while top > 0:
            top -= 1
            node = stack[top]
            rx, ry, rz = moments[node, 3] - x, moments[node, 4] - y, moments[node, 5] - z
            away = math.sqrt(rx * rx + ry * ry + rz * rz)
            if away > far * moments[node, 6]:
                total += (
                    (moments[node, 0] * rx + moments[node, 1] * ry + moments[node, 2] * rz)
                    / (away * away * away) / (4 * math.pi)
                )  # fmt: skip
                continue
            if node < leaves - 1:
                stack[top], stack[top + 1] = 2 * node + 1, 2 * node + 2
                top += 2
                continue
            leaf = node - (leaves - 1)
            for f in range(leaf * m // leaves, (leaf + 1) * m // leaves):
                ax, ay, az = corners[f, 0, 0] - x, corners[f, 0, 1] - y, corners[f, 0, 2] - z
                bx, by, bz = corners[f, 1, 0] - x, corners[f, 1, 1] - y, corners[f, 1, 2] - z
                cx, cy, cz = corners[f, 2, 0] - x, corners[f, 2, 1] - y, corners[f, 2, 2] - z
                la = math.sqrt(ax * ax + ay * ay + az * az)
                lb = math.sqrt(bx * bx + by * by + bz * bz)
                lc = math.sqrt(cx * cx + cy * cy + cz * cz)
                det = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
                below = (
                    la * lb * lc
                    + (ax * bx + ay * by + az * bz) * lc
                    + (bx * cx + by * cy + bz * cz) * la
                    + (cx * ax + cy * ay + cz * az) * lb
                )
                total += 2 * math.atan2(det, below) / (4 * math.pi)
        result[k] = total
    return result

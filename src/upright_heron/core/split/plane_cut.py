"""A closed surface cut by planes, looking closely only at the facets that a plane crosses."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from manifold3d import Error, Manifold, Mesh64, triangulate
from numpy.typing import NDArray

# Corners so near to a plane lie in it.
IN_PLANE_MM = 1e-6

Indices = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Whole:
    """A solid while it is being cut, by its own cut: for whatever cannot be told facet by facet.

    Attributes
    ----------
    solid : Manifold
    """

    solid: Any

    def body(self) -> Any:
        """The solid."""
        return self.solid

    def reach(self, normal: Sequence[float]) -> tuple[float, float]:
        """How far its box reaches along a direction (x, y, z), mm: no corner of it lies outside."""
        box = np.reshape(self.solid.bounding_box(), (2, 3)) * np.asarray(normal)
        return float(box.min(axis=0).sum()), float(box.max(axis=0).sum())

    def halves(self, frame: NDArray[np.float64], offset_mm: float) -> tuple[Whole, Whole] | None:
        """What lies before a plane and beyond it; ``None`` where one of them is all.

        Parameters
        ----------
        frame : (3, 3) float64
            Two directions in the plane, and its normal.
        offset_mm : float
            Distance of the plane from the origin along the normal.
        """
        beyond, before = self.solid.split_by_plane(frame[2].tolist(), offset_mm)
        return None if beyond.is_empty() or before.is_empty() else (Whole(before), Whole(beyond))


@dataclass(frozen=True, eq=False)
class Face:
    """What a plane left open: it is closed once all cuts are made, so that later ones need not cut it.

    Attributes
    ----------
    frame : (3, 3) float64
        Two directions in the plane, and its normal, out of the material.
    edges : (k, 2) int64
        Corners from and to, counter-clockwise round the face.
    """

    frame: NDArray[np.float64]
    edges: Indices


@dataclass(frozen=True, eq=False)
class Shell:
    """A surface while it is being cut.

    Attributes
    ----------
    corners : (n, 3) float64
        mm; each is used.
    facets : (m, 3) int64
        Counter-clockwise seen from outside.
    faces : tuple of Face
        Together with them it is closed.
    """

    corners: NDArray[np.float64]
    facets: Indices
    faces: tuple[Face, ...] = ()

    @classmethod
    def of(cls, body: Any) -> Shell:
        """Surface of a manifold3d body."""
        mesh = body.to_mesh64()
        return cls(np.asarray(mesh.vert_properties)[:, :3], np.asarray(mesh.tri_verts).astype(np.int64))

    def body(self) -> Any:
        """The surface, its faces closed, as a manifold3d body; empty where it is not closed."""
        facets = np.concatenate([self.facets, *(_closing(face, self.corners) for face in self.faces)])
        made = Manifold(Mesh64(np.array(self.corners), facets.astype(np.uint64)))
        return made if made.status() == Error.NoError else Manifold()

    def reach(self, normal: Sequence[float]) -> tuple[float, float]:
        """How far it reaches along a direction (x, y, z), mm."""
        along = self.corners @ np.asarray(normal)
        return float(along.min(initial=np.inf)), float(along.max(initial=-np.inf))

    def halves(self, frame: NDArray[np.float64], offset_mm: float) -> tuple[Shell, Shell] | None:
        """Cut the surface by a plane that parts it.

        Parameters
        ----------
        frame : (3, 3) float64
            Two directions in the plane, and its normal.
        offset_mm : float
            Distance of the plane from the origin along the normal.

        Returns
        -------
        (before, beyond) or None
            ``None`` where it cannot be told facet by facet: the surface lies in the plane with a facet, or
            touches it with an edge or corner.

        Notes
        -----
        Corners in the plane count as beyond it. Where the plane crosses an edge there is one new corner, or
        the one that lies in it, for both sides of the edge; each crossed facet joins two of them, and so does
        each crossed face, in their order along the line: what is left open are closed loops whatever the
        rounding.
        """
        above = self.corners @ frame[2] - offset_mm
        above[np.abs(above) < IN_PLANE_MM] = 0.0
        beyond = above >= 0
        count = beyond.view(np.int8)[self.facets].sum(axis=1, dtype=np.int8)
        crossed = np.flatnonzero((count == 1) | (count == 2))
        along = _lying(self.facets, above == 0)
        if along is None:
            return None
        # Each crossed facet from its corner that is alone on its side.
        sides = beyond[self.facets[crossed]]
        alone = (sides == (count[crossed] == 1)[:, None]).argmax(axis=1)
        turn = (alone[:, None] + np.arange(3)) % 3
        tip, left, right = np.take_along_axis(self.facets[crossed], turn, axis=1).T
        over = [face.edges[beyond[face.edges[:, 0]] != beyond[face.edges[:, 1]]] for face in self.faces]
        ends = np.concatenate([np.column_stack([tip, left]), np.column_stack([tip, right]), *over])
        made = self._crossings(ends, above)
        if made is None:
            return None
        corners, at = made
        a, b = at[: len(tip)], at[len(tip) : 2 * len(tip)]
        lone = beyond[tip]
        peaks = np.column_stack([tip, a, b])
        rests = np.concatenate([np.column_stack([a, left, right]), np.column_stack([a, right, b])])
        twice = np.concatenate([lone, lone])
        # Edges of the new face as it is seen from beyond, with the material before it.
        rim = [np.where(lone[:, None], np.column_stack([a, b]), np.column_stack([b, a]))]
        lower: list[Face] = []
        upper: list[Face] = []
        used = 2 * len(tip)
        for face, edges in zip(self.faces, over, strict=True):
            parted = _parted(face, edges, at[used : used + len(edges)], corners, beyond, frame[2])
            used += len(edges)
            if parted is None:
                return None
            low, high, line = parted
            lower.append(Face(face.frame, low))
            upper.append(Face(face.frame, high))
            rim.append(line)
        new = _plain(np.concatenate(rim))
        lower.append(Face(frame, new))
        upper.append(Face(-frame[[1, 0, 2]], new[:, ::-1]))
        if any(_touching(face.edges) for face in (*lower, *upper)) or not _among(along, new):
            return None
        return (
            _shell(corners, [self.facets[count == 0], peaks[~lone], rests[twice]], lower),
            _shell(corners, [self.facets[count == 3], peaks[lone], rests[~twice]], upper),
        )

    def _crossings(
        self, ends: Indices, above: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], Indices] | None:
        """Corners with those where a plane crosses edges between ``ends`` (k, 2), and which is whose (k,).

        ``above`` (n,) is the height of each corner over the plane, mm. ``None`` where an edge has not two
        sides.
        """
        n = len(self.corners)
        keys, which, used = np.unique(
            ends.min(axis=1) * n + ends.max(axis=1), return_inverse=True, return_counts=True
        )
        if not (used == 2).all():
            return None
        p, q = keys // n, keys % n
        share = above[p] / (above[p] - above[q])
        points = self.corners[p] + share[:, None] * (self.corners[q] - self.corners[p])
        at = n + np.arange(len(keys))
        at = np.where(above[p] == 0, p, np.where(above[q] == 0, q, at))
        return np.concatenate([self.corners, points]), at[which]


def _parted(
    face: Face,
    edges: Indices,
    at: Indices,
    corners: NDArray[np.float64],
    beyond: NDArray[np.bool_],
    normal: NDArray[np.float64],
) -> tuple[Indices, Indices, Indices] | None:
    """Part a face by a plane that crosses some of its edges.

    Parameters
    ----------
    face : Face
    edges : (k, 2) int64
        Those that the plane crosses,
    at : (k,) int64
        and the corners where it does.
    corners : (n, 3) float64
    beyond : (m,) bool
        Whether each old corner lies beyond the plane.
    normal : (3,) float64
        Of the plane.

    Returns
    -------
    (low, high, line) or None
        Edges (j, 2) of the face before the plane and beyond it, and those of the plane's own new face.
    """
    inside = beyond[face.edges]
    low, high = face.edges[~inside.any(axis=1)], face.edges[inside.all(axis=1)]
    if not len(edges):
        return low, high, np.zeros((0, 2), np.int64)
    leaves = beyond[edges[:, 1]]  # the side before the plane
    start, end = edges.T
    first, second = np.column_stack([start, at]), np.column_stack([at, end])
    # Along the line a face is entered and left in turn: from where its edge leaves to where it comes back.
    order = np.argsort(corners[at] @ np.cross(normal, face.frame[2]), kind="stable")
    out, back = order[leaves[order]], order[~leaves[order]]
    if len(out) != len(back) or (leaves[order][0::2] == leaves[order][1::2]).any():
        return None
    line = np.column_stack([at[out], at[back]])
    low = np.concatenate([low, first[leaves], second[~leaves], line])
    high = np.concatenate([high, second[leaves], first[~leaves], line[:, ::-1]])
    return _plain(low), _plain(high), line[:, ::-1]


def _lying(facets: Indices, level: NDArray[np.bool_]) -> Indices | None:
    """Edges (k, 2) of facets (m, 3) between level corners (n,); ``None`` where a facet lies there whole."""
    if not level.any():
        return np.zeros((0, 2), np.int64)
    flat = level[facets]
    count = flat.sum(axis=1)
    if (count == 3).any():
        return None
    two = np.flatnonzero(count == 2)
    return facets[two][flat[two]].reshape(-1, 2)


def _among(some: Indices, edges: Indices) -> bool:
    """Whether some edges (j, 2) are all among others (k, 2), whichever way they run."""
    n = int(max(some.max(initial=0), edges.max(initial=0))) + 1
    one, all_of = (np.sort(pairs, axis=1) @ np.array([n, 1]) for pairs in (some, edges))
    return bool(np.isin(one, all_of).all())


def _plain(edges: Indices) -> Indices:
    """Edges (k, 2) without those that lead nowhere, or there and back."""
    edges = edges[edges[:, 0] != edges[:, 1]]
    if not len(edges):
        return edges
    n = int(edges.max()) + 1
    there, back = edges[:, 0] * n + edges[:, 1], edges[:, 1] * n + edges[:, 0]
    return edges[~np.isin(there, back)]


def _touching(edges: Indices) -> bool:
    """Whether loops of edges (k, 2) meet in a corner."""
    return len(np.unique(edges[:, 0])) < len(edges)


def _closing(face: Face, corners: NDArray[np.float64]) -> Indices:
    """Facets (m, 3) that close a face."""
    loops = _loops(face.edges)
    if not loops:
        return np.zeros((0, 3), np.int64)
    # By ears also where it is convex: strips from side to side make later cuts look at all of them.
    made = triangulate([corners[loop] @ face.frame[:2].T for loop in loops], allow_convex=False)
    return np.concatenate(loops)[np.asarray(made, np.int64)]


def _loops(edges: Indices) -> list[Indices]:
    """Loops of corners that edges (k, 2) run along, each corner left once."""
    after = dict(edges.tolist())
    found = []
    while after:
        first, here = after.popitem()
        loop = [first]
        while here != first:
            loop.append(here)
            here = after.pop(here)
        found.append(np.array(loop))
    return found


def _shell(corners: NDArray[np.float64], facets: list[Indices], faces: list[Face]) -> Shell:
    """Surface of some facets, without those that have no area, and faces, with the corners that they use."""
    every = np.concatenate(facets)
    a, b, c = every.T
    every = every[(a != b) & (b != c) & (c != a)]
    used = np.zeros(len(corners), bool)
    used[every] = True
    for face in faces:
        used[face.edges] = True
    number = np.cumsum(used) - 1
    kept = tuple(Face(face.frame, number[face.edges]) for face in faces if len(face.edges))
    return Shell(corners[used], number[every], kept)

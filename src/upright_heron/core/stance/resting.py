"""Resting faces: facets of the convex hull on which a part stands by itself."""

from __future__ import annotations

import string
from dataclasses import dataclass

import numpy as np
from manifold3d import Manifold
from numpy.typing import NDArray

from ..geometry.mesh import Mesh, MeshFacts, facet_normals, mass_properties
from ..tags import stored
from .pose import standing_on
from .sweep import hull_corners, sweep
from .vertical_rays import Surface

# Hull facets within this angle of each other are one face: files keep about seven digits.
SAME_FACE_DEG = 0.05
# Two stances closer than this look the same to a technician.
TWIN_DEG = 3.0
# More than these nobody reads; the best remain.
MOST = 24
# How many of the largest hull faces are looked at: a round part has thousands, each as good as the next.
CANDIDATES = 120


@stored("resting-face")
@dataclass(frozen=True, slots=True)
class RestingFace:
    """One way for the part to stand by itself.

    Attributes
    ----------
    letter : str
    down : (3,) float64
        Direction in the frame of the part that points to the plate.
    overhang_area_mm2, contact_area_mm2 : float
    height_mm : float
    """

    letter: str
    down: NDArray[np.float64]
    overhang_area_mm2: float
    contact_area_mm2: float
    height_mm: float

    @property
    def rotation(self) -> NDArray[np.float64]:
        """(3, 3) float64: the turn that stands the part on this face."""
        return standing_on(self.down)


def letter(index: int) -> str:
    """Letter of a stance: A ... Z, then AA, AB ..."""
    letters = string.ascii_uppercase
    return letters[index] if index < 26 else letters[index // 26 - 1] + letters[index % 26]


def _hull_faces(mesh: Mesh) -> list[tuple[NDArray[np.float64], NDArray[np.float64], float]]:
    """Normal (3,), corners (k, 3) and area of the faces of the convex hull, largest first."""
    out = Manifold.hull_points(np.array(mesh.vertices)).to_mesh64()
    hull = Mesh(np.asarray(out.vert_properties)[:, :3], np.asarray(out.tri_verts).astype(np.int32))
    normals, areas = facet_normals(hull)
    left = areas > 0
    cosine = np.cos(np.radians(SAME_FACE_DEG))
    faces = []
    for f in np.argsort(-areas, kind="stable"):
        if not left[f]:
            continue
        # On a convex body equal normals mean the same face.
        same = left & (normals @ normals[f] >= cosine)
        left &= ~same
        normal = (normals[same] * areas[same, None]).sum(axis=0)
        faces.append(
            (
                normal / np.linalg.norm(normal),
                hull.vertices[np.unique(hull.faces[same])],
                float(areas[same].sum()),
            )
        )
        if len(faces) == CANDIDATES:
            break
    return sorted(faces, key=lambda face: -face[2])


def _stands(normal: NDArray[np.float64], corners: NDArray[np.float64], centre: NDArray[np.float64]) -> bool:
    """Whether the centre of mass lies over the face, away from its edges."""
    u = np.cross(normal, np.eye(3)[int(np.argmin(np.abs(normal)))])
    u /= np.linalg.norm(u)
    v = np.cross(normal, u)
    flat = np.column_stack([(corners - centre) @ u, (corners - centre) @ v])
    middle = flat.mean(axis=0)
    around = flat[np.argsort(np.arctan2(*(flat - middle).T[::-1]))]
    following = np.roll(around, -1, axis=0)
    cross = around[:, 0] * following[:, 1] - around[:, 1] * following[:, 0]
    lengths = np.linalg.norm(following - around, axis=1)
    # Signed distance of the centre from each edge line; on an edge a part balances, it does not stand.
    distance = cross[lengths > 0] / lengths[lengths > 0]
    return bool((distance > 1e-6 * lengths.max()).all())


def resting_faces(
    mesh: Mesh, facts: MeshFacts, limit_deg: float, surface: Surface | None = None
) -> list[RestingFace]:
    """Find the ways a part stands by itself, best first.

    Parameters
    ----------
    mesh : Mesh
    facts : MeshFacts
        Of the same mesh; an open mesh has no centre of mass, and the middle of its hull stands in.
    limit_deg : float
        Self-supporting limit, degrees from vertical.
    surface : Surface, optional
        Of the mesh, where it is there already.

    Returns
    -------
    list of RestingFace
        Ordered by overhang area (steps of a thousandth of the surface), then larger contact, then lower
        height. Near-twins and all but the best ``MOST`` are left out.
    """
    if facts.closed:
        centre = mass_properties(mesh).centre_mm
    else:
        out = Manifold.hull_points(np.array(mesh.vertices)).to_mesh64()
        centre = mass_properties(
            Mesh(np.asarray(out.vert_properties)[:, :3], np.asarray(out.tri_verts).astype(np.int32))
        ).centre_mm
    downs = np.array([n for n, corners, _ in _hull_faces(mesh) if _stands(n, corners, centre)]).reshape(-1, 3)
    if not len(downs):
        return []
    corners = hull_corners(mesh.vertices)
    sums = sweep(Surface.of(mesh) if surface is None else surface, corners, downs, limit_deg)
    overhang, contact = sums.overhang_mm2, sums.contact_mm2
    depth = corners @ downs.T
    height = depth.max(axis=0) - depth.min(axis=0)
    grain = max(facts.area_mm2, 1e-9) * 1e-3
    order = np.lexsort((np.round(height, 3), -np.round(contact / grain), np.round(overhang / grain)))
    chosen: list[int] = []
    twin = np.cos(np.radians(TWIN_DEG))
    for i in order:
        if all(float(downs[i] @ downs[j]) < twin for j in chosen):
            chosen.append(int(i))
        if len(chosen) == MOST:
            break
    return [
        RestingFace(letter(k), downs[i], float(overhang[i]), float(contact[i]), float(height[i]))
        for k, i in enumerate(chosen)
    ]

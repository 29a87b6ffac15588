"""Broken surfaces made from sound ones, each with the volume that mending has to bring back."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from manifold3d import Manifold

from tests.support import box, mesh_of, on_plate, portal, sphere, stalactites, tee
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import concatenated


def sound() -> dict[str, Mesh]:
    """Sound parts: flat, round, with a hole through, with points."""
    return {
        "tee": mesh_of(tee()),
        "ball": mesh_of(on_plate(sphere(10, 48))),
        "doorway": mesh_of(portal()),
        "points": mesh_of(stalactites()),
        "tube": mesh_of(Manifold.cylinder(30, 10, 10, 48) - Manifold.cylinder(30, 7, 7, 48)),
    }


def volume(mesh: Mesh) -> float:
    """Volume by the divergence theorem."""
    a, b, c = (mesh.vertices[mesh.faces[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


def soup(mesh: Mesh, shake: float = 0.0, seed: int = 0) -> Mesh:
    """Every facet with corners of its own, shaken by up to so many mm."""
    corners = mesh.vertices[mesh.faces].reshape(-1, 3)
    corners = corners + np.random.default_rng(seed).uniform(-shake, shake, corners.shape)
    return Mesh(corners, np.arange(len(corners), dtype=np.int32).reshape(-1, 3))


def variants() -> Iterator[tuple[str, Mesh, float]]:
    """Name, broken surface and volume of the sound part."""
    for name, part in sound().items():
        rng = np.random.default_rng(len(name))
        v, f, true = part.vertices, part.faces, volume(part)
        few = rng.choice(len(f), max(1, len(f) // 20), replace=False)
        turned = f.copy()
        turned[few] = turned[few][:, ::-1]
        yield f"{name}: some facets flipped", Mesh(v, turned), true
        yield f"{name}: inside out", Mesh(v, f[:, ::-1]), true
        yield f"{name}: one facet missing", Mesh(v, np.delete(f, len(f) // 2, axis=0)), true
        yield f"{name}: some facets doubled", Mesh(v, np.concatenate([f, f[few]])), true
        yield (
            f"{name}: all facets doubled, facing the other way",
            Mesh(v, np.concatenate([f, f[:, ::-1]])),
            true,
        )
        yield f"{name}: not welded", soup(part), true
        yield f"{name}: corners shaken apart", soup(part, 0.001), true
        point = np.concatenate([f, [[0, 0, 1], [2, 2, 2]]]).astype(np.int32)
        yield f"{name}: facets that are lines and points", Mesh(v, point), true
        yield f"{name}: flipped, with a hole", Mesh(v, np.delete(turned, 0, axis=0)), true
    cube = mesh_of(box(20, 20, 20))
    corner = mesh_of(box(20, 20, 20, (10, 10, 10)))
    yield "two cubes that overlap", concatenated([cube, corner]), 2 * 8000 - 1000
    yield "a ball in a cube", concatenated([cube, mesh_of(sphere(8, 32).translate((10, 10, 10)))]), 8000
    bars = [mesh_of(box(40, 5, 5, (-20, -2.5, -2.5)).rotate((0, 0, 60 * k))) for k in range(3)]
    union = box(40, 5, 5, (-20, -2.5, -2.5))
    for k in (1, 2):
        union = union + box(40, 5, 5, (-20, -2.5, -2.5)).rotate((0, 0, 60 * k))
    yield "three bars crossed", concatenated(bars), float(union.volume())
    hollow = mesh_of(box(20, 20, 20) - box(10, 10, 10, (5, 5, 5)))
    yield "a cavity, some facets flipped", Mesh(hollow.vertices, _some_flipped(hollow, 2)), 7000
    wall = concatenated([mesh_of(box(10, 10, 10)), mesh_of(box(10, 10, 10, (10, 0, 0)))])
    yield "two cubes with a wall between them", _welded(wall), 2000


def _some_flipped(mesh: Mesh, count: int) -> np.ndarray:
    faces = mesh.faces.copy()
    faces[:count] = faces[:count, ::-1]
    return faces


def _welded(mesh: Mesh) -> Mesh:
    vertices, index = np.unique(np.round(mesh.vertices, 6), axis=0, return_inverse=True)
    return Mesh(vertices, index[mesh.faces].astype(np.int32))

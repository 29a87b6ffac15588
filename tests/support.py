"""Specimens with known answers, and assertions that several tests share."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import numpy as np
from manifold3d import Manifold, OpType

from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.handoff.stl import write_stl


def box(x: float, y: float, z: float, at: tuple[float, float, float] = (0, 0, 0)) -> Any:
    """Box body with its lowest corner at ``at``."""
    return Manifold.cube((x, y, z)).translate(at)


def sphere(radius: float, segments: int = 256) -> Any:
    """Sphere body about the origin."""
    return Manifold.sphere(radius, segments)


def torus(ring: float, tube: float, segments: int = 256) -> Any:
    """Torus body about the z axis."""
    from manifold3d import CrossSection

    return CrossSection.circle(tube, segments).translate((ring, 0)).revolve(segments)


def tee() -> Any:
    """T: a 10 x 10 x 20 stem under a 40 x 10 x 5 bar."""
    return box(10, 10, 20) + box(40, 10, 5, (-15, 0, 20))


def comb() -> Any:
    """Plate at z = 20 to 25 with three legs that begin at 0, 5 and 10."""
    return box(60, 20, 5, (0, 0, 20)) + box(5, 5, 20) + box(5, 5, 15, (20, 0, 5)) + box(5, 5, 10, (40, 0, 10))


def stalactites() -> Any:
    """Plate at z = 25 on one leg with 4 x 4 cones that point down to z = 13.5."""
    cones = [
        Manifold.cylinder(11.5, 0.01, 3, 32).translate((8 + 9 * i, 8 + 9 * j, 13.5))
        for i in range(4)
        for j in range(4)
    ]
    return box(40, 40, 5, (0, 0, 25)) + box(3, 3, 25) + Manifold.batch_boolean(cones, OpType.Add)


def portal() -> Any:
    """Block 40 x 15 x 30 with a doorway 20 x 15 x 20."""
    return box(40, 15, 30) - box(20, 15, 20, (10, 0, 0))


def mesh_of(body: Any) -> Mesh:
    """Surface of a body."""
    return Solid(body).mesh()


def on_plate(body: Any) -> Any:
    """The body with its lowest point at z = 0."""
    return body.translate((0, 0, -body.bounding_box()[2]))


def stl(body: Any) -> bytes:
    """Binary STL of a body."""
    return write_stl(mesh_of(body))


def ascii_stl(body: Any, name: str = "specimen") -> bytes:
    """ASCII STL of a body."""
    mesh = mesh_of(body)
    lines = [f"solid {name}"]
    for corners in mesh.vertices[mesh.faces]:
        lines += ["facet normal 0 0 0", " outer loop"]
        lines += [f"  vertex {x!r} {y!r} {z!r}" for x, y, z in corners.tolist()]
        lines += [" endloop", "endfacet"]
    return "\n".join([*lines, f"endsolid {name}", ""]).encode()


def raw_stl(corners: Any, count: int | None = None) -> bytes:
    """Binary STL of any triangles (m, 3, 3), with a declared count that may lie."""
    corners = np.asarray(corners, "<f4").reshape(-1, 3, 3)
    records = np.zeros(len(corners), [("n", "<f4", (3,)), ("c", "<f4", (3, 3)), ("a", "<u2")])
    records["c"] = corners
    return b" " * 80 + struct.pack("<I", len(corners) if count is None else count) + records.tobytes()


def open_box() -> bytes:
    """Binary STL of a 20 mm cube without its lid."""
    mesh = mesh_of(box(20, 20, 20))
    corners = mesh.vertices[mesh.faces]
    return raw_stl(corners[~(corners[:, :, 2] == 20).all(axis=1)])


def children(pid: int) -> set[int]:
    """Processes that one has started, by their ids."""
    told = [tasks.read_text() for tasks in Path(f"/proc/{pid}/task").glob("*/children")]
    return {int(child) for one in told for child in one.split()}


def below(pid: int) -> set[int]:
    """All processes below one, by their ids."""
    found: set[int] = set()
    todo = [pid]
    while todo:
        new = children(todo.pop()) - found
        found |= new
        todo += new
    return found


def obj(**bodies: Any) -> bytes:
    """An OBJ file of named bodies, whose corners are not shared."""
    lines, first = [], 1
    for name, body in bodies.items():
        mesh = mesh_of(body)
        lines.append(f"o {name}")
        lines += [f"v {x:.9g} {y:.9g} {z:.9g}" for x, y, z in mesh.vertices.tolist()]
        lines += [f"f {a} {b} {c}" for a, b, c in (mesh.faces + first).tolist()]
        first += len(mesh.vertices)
    return "\n".join(lines).encode()

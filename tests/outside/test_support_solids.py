"""Generated supports as solids, measured by other libraries: trimesh, embree, manifold3d and lib3mf."""

import unittest
from functools import cache

import lib3mf
import numpy as np
import trimesh
from manifold3d import Error, Manifold
from manifold3d import Mesh as ManifoldMesh
from trimesh.ray.ray_pyembree import RayMeshIntersector

from tests.held import USUAL, Bench
from tests.support import box, comb, stalactites, tee
from upright_heron.core.geometry.solid import concatenated
from upright_heron.core.handoff.threemf import FileObject, write_3mf
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.model import Branches

# Sides of branches are drawn with twelve corners, and fields tell distances to a part of a pixel.
NOISE_MM = 0.05
# So near to its contact a branch may come closer.
NEAR_TIP_MM = 3.5


def yard():
    """An arm on a wall over a block and a post: branches have to find their way between them."""
    body = box(8, 40, 60) + box(60, 40, 6, (0, 0, 54)) + box(14, 14, 25, (20, 12, 0))
    return body + box(5, 5, 40, (44, 30, 0))


def edge():
    """A roof over a block: every trunk has to get past its edge."""
    return box(50, 50, 4, (-25, -25, 50)) + box(4, 50, 50, (-25, -25, 0)) + box(60, 60, 8, (-21, -30, 0))


def flange():
    """A disc with four counterbores that open downwards."""
    body = Manifold.cylinder(24, 30, 30, 96)
    for x, y in ((18, 0), (-18, 0), (0, 18), (0, -18)):
        body -= Manifold.cylinder(16, 5, 5, 48).translate((x, y, 0))
        body -= Manifold.cylinder(30, 2.5, 2.5, 48).translate((x, y, -1))
    return body


BODIES = {
    "tee": tee, "comb": comb, "stalactites": stalactites, "yard": yard, "edge": edge, "flange": flange,
}  # fmt: skip


@cache
def held(name, style):
    """A body and supports under all that hangs from it."""
    bench = Bench(BODIES[name]())
    return bench, bench.make(style)


def outside(mesh):
    """A mesh of ours in trimesh."""
    return trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces), process=False)


def closed(mesh):
    """Status of a surface by manifold3d, and its volume."""
    body = Manifold(
        ManifoldMesh(
            vert_properties=np.asarray(mesh.vertices, np.float32),
            tri_verts=np.asarray(mesh.faces, np.uint32),
        )
    )
    return body.status(), body.volume()


class ClearanceTest(unittest.TestCase):
    def test_no_branch_comes_nearer_than_its_clearance_by_trimesh(self):
        for name in ("tee", "yard", "edge", "flange"):
            with self.subTest(name):
                bench, made = held(name, Style.TREE)
                self.assertEqual(made.faults, ())
                part = outside(bench.mesh)
                shells = concatenated([s.mesh() for s in made.supports])
                points, _ = trimesh.sample.sample_surface(outside(shells), 6000, seed=7)
                # Its ends hold the part and, some of them, stand on it.
                ends = [s.tips if not s.on_part else [*s.tips, s.foot] for s in made.supports]
                ends = np.concatenate([s.nodes[k, :3] for s, k in zip(made.supports, ends, strict=True)])
                away = np.linalg.norm(points[:, None] - ends[None], axis=2).min(axis=1) > NEAR_TIP_MM
                points = points[away]
                self.assertGreater(len(points), 1000)
                self.assertGreaterEqual(
                    -trimesh.proximity.signed_distance(part, points).max(), USUAL.clearance_mm - NOISE_MM
                )

    def test_rays_from_the_walls_meet_no_branch_within_the_clearance_by_embree(self):
        for name in ("tee", "yard", "edge", "flange"):
            with self.subTest(name):
                bench, made = held(name, Style.TREE)
                part, shells = outside(bench.mesh), concatenated([s.mesh() for s in made.supports])
                points, facets = trimesh.sample.sample_surface(part, 8000, seed=3)
                normals = part.face_normals[facets]
                walls = np.abs(normals[:, 2]) < 0.01
                points, normals = points[walls], normals[walls]
                hit, ray, _ = RayMeshIntersector(outside(shells)).intersects_location(
                    points + 1e-4 * normals, normals, multiple_hits=False
                )
                self.assertGreater(len(hit), 50, "some rays have to meet supports")
                away = np.linalg.norm(hit - points[ray], axis=1)
                self.assertGreaterEqual(away.min(), USUAL.clearance_mm - NOISE_MM)


class BranchTest(unittest.TestCase):
    def test_angles_measured_on_the_surface(self):
        # Each branch is a frustum: the middles of its two rims give its direction.
        for name in ("stalactites", "yard", "edge", "flange"):
            with self.subTest(name):
                _, made = held(name, Style.TREE)
                for support in made.supports:
                    self.assertIsInstance(support, Branches)
                    rims = support.mesh().vertices.reshape(-1, 2, 12, 3).mean(axis=2)
                    step = rims[:, 1] - rims[:, 0]
                    lean = np.degrees(np.arctan2(np.hypot(step[:, 0], step[:, 1]), step[:, 2]))
                    self.assertLessEqual(lean.max(), USUAL.branch_deg + 0.1)


class ClosedTest(unittest.TestCase):
    def test_what_is_handed_off_is_closed_and_as_large_as_shown(self):
        for name, styles in {
            "tee": (Style.LINES, Style.GRID, Style.PILLAR, Style.TREE),
            "comb": (Style.LINES, Style.TREE),
            "yard": (Style.TREE,),
        }.items():
            for style in styles:
                with self.subTest(name, style=style.value):
                    _, made = held(name, style)
                    # Levels stand on each other as shells of their own: each has to be closed.
                    pieces = outside(made.handoff_mesh()).split(only_watertight=False)
                    self.assertTrue(all(piece.is_watertight for piece in pieces))
                    status, volume = closed(made.handoff_mesh())
                    self.assertEqual(status, Error.NoError)
                    self.assertAlmostEqual(volume / made.volume_mm3, 1, delta=2e-4)

    def test_the_shell_of_every_branch_is_closed(self):
        _, made = held("yard", Style.TREE)
        for support in made.supports:
            self.assertEqual(closed(support.mesh())[0], Error.NoError)

    def test_a_file_is_read_back_with_the_volume_that_is_shown(self):
        for style in (Style.LINES, Style.TREE):
            with self.subTest(style.value):
                bench, made = held("tee", style)
                data = write_3mf(
                    [FileObject("part", bench.mesh), FileObject("support", made.handoff_mesh(), "support")],
                    "tee",
                )
                model = lib3mf.get_wrapper().CreateModel()
                reader = model.QueryReader("3mf")
                reader.SetStrictModeActive(True)
                reader.ReadFromBuffer(data)
                self.assertEqual(reader.GetWarningCount(), 0)
                objects = model.GetMeshObjects()
                volumes = {}
                while objects.MoveNext():
                    item = objects.GetCurrentMeshObject()
                    corners = np.array([list(v.Coordinates) for v in item.GetVertices()])
                    facets = np.array([list(t.Indices) for t in item.GetTriangleIndices()])
                    a, b, c = (corners[facets[:, k]] for k in range(3))
                    volumes[item.GetName()] = float((a * np.cross(b, c)).sum() / 6)
                    if item.GetName() == "support":
                        self.assertEqual(item.GetType(), lib3mf.ObjectType.Support)
                self.assertAlmostEqual(volumes["support"] / made.volume_mm3, 1, delta=2e-4)


if __name__ == "__main__":
    unittest.main()

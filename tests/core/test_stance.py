"""Turning, placing and resting faces."""

import itertools
import math
import unittest

import numpy as np
import trimesh
from hypothesis import example, given, settings
from hypothesis import strategies as st
from manifold3d import Manifold

from tests.support import box, mesh_of, open_box, sphere, tee
from upright_heron.core.errors import BadValue
from upright_heron.core.formats.stl import read_stl
from upright_heron.core.geometry.mesh import facts
from upright_heron.core.stance.pose import (
    about_axis,
    from_quaternion,
    place,
    standing_on,
    to_quaternion,
)
from upright_heron.core.stance.resting import resting_faces

ANGLE = st.floats(-360, 360)


def faces_of(body, limit=45.0):
    mesh = mesh_of(body)
    return resting_faces(mesh, facts(mesh), limit)


class PoseTest(unittest.TestCase):
    def test_quarter_turns_are_exact(self):
        turn = about_axis("x", 90)
        np.testing.assert_array_equal(turn @ turn @ turn @ turn, np.eye(3))
        np.testing.assert_allclose(about_axis("z", 30) @ [1, 0, 0], [math.cos(math.pi / 6), 0.5, 0])
        with self.assertRaises(BadValue):
            about_axis("w", 10)

    @settings(max_examples=60)
    @given(ANGLE, ANGLE, ANGLE)
    def test_quaternions_round_trip(self, x, y, z):
        turn = about_axis("z", z) @ about_axis("y", y) @ about_axis("x", x)
        q = to_quaternion(turn)
        self.assertGreaterEqual(q[0], 0)
        np.testing.assert_allclose(from_quaternion(q), turn, atol=1e-12)

    @settings(max_examples=60)
    @given(st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: np.linalg.norm(v) > 1e-3))
    @example((0.0, 6e-8, 1.0))
    @example((2e-6, 0.0, 1.0))
    @example((3e-8, 0.0, -1.0))
    def test_standing_on_turns_the_face_down(self, normal):
        turn = standing_on(np.array(normal))
        np.testing.assert_allclose(turn @ normal, [0, 0, -np.linalg.norm(normal)], atol=1e-9)
        np.testing.assert_allclose(turn @ turn.T, np.eye(3), atol=1e-12)
        self.assertAlmostEqual(np.linalg.det(turn), 1)

    def test_standing_on_the_top_and_the_bottom(self):
        np.testing.assert_array_equal(standing_on(np.array([0, 0, -2.0])), np.eye(3))
        np.testing.assert_allclose(standing_on(np.array([0, 0, 3.0])) @ [0, 0, 1], [0, 0, -1], atol=1e-15)
        for bad in ([0, 0, 0], [math.nan, 0, 1]):
            with self.assertRaises(BadValue):
                standing_on(np.array(bad, float))

    def test_placing(self):
        mesh = mesh_of(box(4, 6, 8, (50, 60, 70)))
        where = place(mesh, about_axis("y", 90), 5.0).apply(mesh)
        np.testing.assert_allclose(where.bounds, [[-4, -3, 5], [4, 3, 9]], atol=1e-12)
        kept = place(mesh, np.eye(3), centred=False).apply(mesh)
        np.testing.assert_allclose(kept.bounds, [[50, 60, 0], [54, 66, 8]], atol=1e-12)


class RestingTest(unittest.TestCase):
    def test_box(self):
        found = faces_of(box(40, 30, 20))
        self.assertEqual([f.letter for f in found], list("ABCDEF"))
        self.assertEqual([round(f.contact_area_mm2) for f in found], [1200, 1200, 800, 800, 600, 600])
        self.assertEqual([round(f.height_mm) for f in found], [20, 20, 30, 30, 40, 40])
        self.assertTrue(all(f.overhang_area_mm2 == 0 for f in found))

    def test_tee_stands_best_without_overhang(self):
        best = faces_of(tee())[0]
        self.assertAlmostEqual(best.overhang_area_mm2, 0)
        self.assertAlmostEqual(best.contact_area_mm2, 400)
        upright = next(f for f in faces_of(tee()) if f.down[2] < -0.99)
        self.assertAlmostEqual(upright.overhang_area_mm2, 300, delta=1e-6)
        self.assertAlmostEqual(upright.contact_area_mm2, 100, delta=1e-6)

    def test_leaning_prism_falls_off_its_ends(self):
        # Statics: the vertical through the centre of mass leaves the base, 7 mm from its middle where 5 are left.
        corners = np.array(
            [[x + 14 * z / 30, y, z] for x, y, z in itertools.product((0, 10), (0, 10), (0, 30))], float
        )
        found = faces_of(Manifold.hull_points(corners))
        self.assertEqual(len(found), 4)
        self.assertTrue(all(abs(f.down[2]) < 0.9 for f in found))

    def test_inverted_l_falls(self):
        body = box(10, 10, 10) + box(40, 10, 10, (0, 0, 10))
        self.assertTrue(all(f.down[2] > -0.99 for f in faces_of(body)))

    def test_equilateral_prism_has_five(self):
        prism = Manifold.cylinder(15, 20 / math.sqrt(3), 20 / math.sqrt(3), 3)
        self.assertEqual(len(faces_of(prism)), 5)

    def test_tetrahedra_stand_on_two_faces_at_least(self):
        # Conway, in Dawson 1985 (from memory): no homogeneous tetrahedron stands on one face only.
        rng = np.random.default_rng(3)
        for _ in range(40):
            body = Manifold.hull_points(rng.normal(size=(4, 3)) * 10)
            self.assertIn(len(faces_of(body)), (2, 3, 4))

    def test_agrees_with_the_poses_of_trimesh(self):
        body = (box(30, 20, 10) + box(8, 8, 30, (3, 4, 0)) + box(4, 18, 14, (22, 1, 0))).rotate((12, 34, 56))
        mesh = mesh_of(body)
        other = trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces))
        poses, chances = trimesh.poses.compute_stable_poses(other, n_samples=1)
        expected = [-pose[2, :3] for pose, chance in zip(poses, chances, strict=True) if chance > 1e-3]
        found = [f.down for f in resting_faces(mesh, facts(mesh), 45)]
        for down in expected:
            self.assertGreater(max(float(down @ f) for f in found), 0.9999, down)
        self.assertEqual(len(found), len(expected))

    def test_round_and_open_parts(self):
        ball = faces_of(sphere(10, 64))
        self.assertTrue(1 <= len(ball) <= 24)
        mesh = read_stl(open_box()).mesh
        self.assertEqual(len(resting_faces(mesh, facts(mesh), 45)), 6)

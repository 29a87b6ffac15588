"""Meshes against closed forms and against trimesh."""

import math
import unittest

import numpy as np
import trimesh
from manifold3d import Manifold

from tests.support import box, mesh_of, sphere, torus
from upright_heron.core.errors import NotClosed
from upright_heron.core.geometry.mesh import Mesh, edges, facet_normals, facts, mass_properties, weld
from upright_heron.core.geometry.solid import Solid

TETRA = Mesh(
    np.array([[0, 0, 0], [10, 0, 0], [0, 10, 0], [0, 0, 10]], float),
    np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]], np.int32),
)


class MassTest(unittest.TestCase):
    def test_closed_forms(self):
        # Standard solid formulas (CRC Standard Mathematical Tables, from memory). Inscribed round meshes
        # are low by about (pi/n)^2 2/3, so their tolerance is one-sided in spirit: 1e-3 at 256 segments.
        cases = {
            "box 40x30x20": (mesh_of(box(40, 30, 20)), 24000, 5200, (20, 15, 10), 1e-9),
            "tetrahedron": (TETRA, 1000 / 6, 150 + math.sqrt(3) * 50, (2.5, 2.5, 2.5), 1e-9),
            "sphere R10": (mesh_of(sphere(10)), 4 / 3 * math.pi * 1000, 400 * math.pi, (0, 0, 0), 1e-3),
            "torus R20 r5": (
                mesh_of(torus(20, 5)),
                2 * math.pi**2 * 500,
                4 * math.pi**2 * 100,
                (0, 0, 0),
                1e-3,
            ),
            "cone R10 h40": (
                mesh_of(Manifold.cylinder(40, 10, 0, 720)),
                math.pi * 4000 / 3,
                100 * math.pi + math.pi * 10 * math.hypot(10, 40),
                (0, 0, 10),
                1e-3,
            ),
        }
        for name, (mesh, volume, area, centre, tolerance) in cases.items():
            with self.subTest(name):
                found = mass_properties(mesh)
                self.assertAlmostEqual(found.volume_mm3 / volume, 1, delta=tolerance)
                self.assertAlmostEqual(found.area_mm2 / area, 1, delta=tolerance)
                np.testing.assert_allclose(found.centre_mm, centre, atol=1e-6)

    def test_far_from_the_origin(self):
        # Invariance: sums about the origin in single precision would lose this volume altogether.
        mesh = mesh_of(box(40, 30, 20, (1e5, 1e5, 1e5)))
        self.assertAlmostEqual(mass_properties(mesh).volume_mm3, 24000, delta=1e-3)

    def test_inverted_facets_give_a_negative_volume(self):
        mesh = Mesh(TETRA.vertices, TETRA.faces[:, ::-1])
        self.assertAlmostEqual(mass_properties(mesh).volume_mm3, -1000 / 6)

    def test_agrees_with_trimesh_on_a_crooked_body(self):
        body = (sphere(10, 48) + box(30, 4, 4)).rotate((20, 30, 40)) - box(9, 9, 9)
        mesh = mesh_of(body)
        other = trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces), process=False)
        found = mass_properties(mesh)
        self.assertAlmostEqual(found.volume_mm3, other.volume, delta=1e-6 * other.volume)
        self.assertAlmostEqual(found.area_mm2, other.area, delta=1e-6 * other.area)
        np.testing.assert_allclose(found.centre_mm, other.center_mass, atol=1e-6)
        np.testing.assert_allclose(facet_normals(mesh)[1], other.area_faces, atol=1e-9)


class ClosednessTest(unittest.TestCase):
    def test_sound_body(self):
        found = facts(mesh_of(box(1, 1, 1)))
        self.assertTrue(found.closed)
        self.assertEqual((found.facets, found.vertices, found.shells), (12, 8, 1))

    def test_kinds_of_fault(self):
        sound = mesh_of(box(2, 2, 2))
        hole = Mesh(sound.vertices, sound.faces[1:])
        self.assertEqual((edges(hole).open, edges(hole).closed), (3, False))
        flipped = np.array(sound.faces)
        flipped[0] = flipped[0][::-1]
        self.assertEqual((edges(Mesh(sound.vertices, flipped)).clashing, edges(hole).crowded), (3, 0))
        doubled = Mesh(sound.vertices, np.concatenate([sound.faces, sound.faces[:1]]))
        self.assertEqual(edges(doubled).crowded, 3)
        self.assertFalse(edges(doubled).closed)

    def test_bodies_that_touch_along_an_edge_are_closed(self):
        a, b = mesh_of(box(1, 1, 1)), mesh_of(box(1, 1, 1, (1, 1, 0)))
        corners = np.concatenate([a.vertices[a.faces], b.vertices[b.faces]])
        mesh = weld(corners.astype(np.float32))
        self.assertEqual(edges(mesh).crowded, 1)
        self.assertTrue(edges(mesh).closed)

    def test_shells(self):
        two = mesh_of(Manifold.compose([box(1, 1, 1), box(1, 1, 1, (5, 0, 0))]))
        self.assertEqual(facts(two).shells, 2)
        hollow = mesh_of(sphere(10, 32) - sphere(8, 32))
        self.assertEqual(facts(hollow).shells, 2)

    def test_open_mesh_makes_no_solid(self):
        sound = mesh_of(box(2, 2, 2))
        with self.assertRaises(NotClosed):
            Solid.from_mesh(Mesh(sound.vertices, sound.faces[1:]))


class WeldTest(unittest.TestCase):
    def test_box_of_36_corners_becomes_8(self):
        # Euler: a closed box has V - E + F = 8 - 18 + 12 = 2.
        mesh = mesh_of(box(3, 2, 1))
        welded = weld(mesh.vertices[mesh.faces].astype(np.float32))
        self.assertEqual((len(welded.vertices), len(welded.faces)), (8, 12))

    def test_minus_zero_and_needles(self):
        corners = np.array(
            [[[0.0, 0, 0], [1, 0, 0], [0, 1, 0]], [[-0.0, 0, 0], [0, 1, 0], [0, 1, 0]]], np.float32
        )
        welded = weld(corners)
        self.assertEqual((len(welded.vertices), len(welded.faces)), (3, 1))

    def test_inputs_stay_as_they_are(self):
        corners = np.ones((1, 3, 3), np.float32)
        corners.flags.writeable = False
        weld(corners)
        with self.assertRaises(ValueError):
            TETRA.vertices[0, 0] = 5

    def test_digest_tells_meshes_apart(self):
        same = Mesh(np.array(TETRA.vertices), np.array(TETRA.faces))
        self.assertEqual(TETRA.digest, same.digest)
        self.assertNotEqual(TETRA.digest, Mesh(TETRA.vertices * 2, TETRA.faces).digest)

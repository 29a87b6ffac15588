"""Overhang areas against surface integrals; the angle is measured from vertical, the test is strict."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold

from tests.support import box, mesh_of, on_plate, portal, sphere, tee, torus
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.overhangs import (
    facet_angles_deg,
    overhangs,
    step_mm,
    unheld_sections,
)
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.stance.sweep import hull_corners, sweep
from upright_heron.core.stance.vertical_rays import Surface

FINE = 720


def area(body, limit, **options):
    return overhangs(mesh_of(body), limit, **options).overhang_area_mm2


class ClosedFormTest(unittest.TestCase):
    """Facet normals against closed forms by surface integral (Alexander, Allen & Dutta 1998, from memory).

    The tables speak of the angle from the plate; ours is measured from vertical, so 30 there is 60 here.
    """

    def test_sphere_at_three_limits(self):
        # Archimedes' hat-box theorem: 2 pi R^2 (1 - cos b), b = 90 - limit from the plate.
        body = sphere(10, FINE).translate((0, 0, 50))
        for limit in (60, 45, 30):
            b = math.radians(90 - limit)
            with self.subTest(limit):
                self.assertAlmostEqual(area(body, limit) / (200 * math.pi * (1 - math.cos(b))), 1, delta=3e-3)

    def test_cones_on_their_tip(self):
        wide = Manifold.cylinder(10 / math.tan(math.radians(60)), 0, 10, FINE)
        self.assertAlmostEqual(area(wide, 45) / 362.7599, 1, delta=1e-3)  # its wall is 60 from vertical
        self.assertEqual(area(wide, 65), 0)
        steep = Manifold.cylinder(10 / math.tan(math.radians(30)), 0, 10, FINE)
        self.assertEqual(area(steep, 45), 0)
        self.assertAlmostEqual(area(steep, 25) / 628.3185, 1, delta=1e-3)

    def test_cylinder_and_torus(self):
        lying = Manifold.cylinder(40, 10, 10, FINE).rotate((90, 0, 0)).translate((0, 0, 50))
        self.assertAlmostEqual(area(lying, 45) / (200 * math.pi), 1, delta=5e-3)
        self.assertAlmostEqual(
            area(torus(20, 5, 512).translate((0, 0, 30)), 45) / (100 * math.pi**2), 1, delta=1e-2
        )
        upright = torus(20, 5, 512).rotate((90, 0, 0)).translate((0, 0, 30))
        self.assertAlmostEqual(area(upright, 45) / 398.9173, 1, delta=1e-2)

    def test_tilted_plates(self):
        plate = box(50, 30, 2)
        self.assertAlmostEqual(area(on_plate(plate.rotate((30, 0, 0))), 45), 1500, delta=1e-6)
        self.assertAlmostEqual(area(on_plate(plate.rotate((50, 0, 0))), 45), 100, delta=1e-6)

    def test_cube_on_its_corner(self):
        # Its lower faces lean 54.7356 degrees from the plate, 35.2644 from vertical.
        body = box(10, 10, 10).rotate((45, 0, 0)).rotate((0, math.degrees(math.atan(1 / math.sqrt(2))), 0))
        self.assertAlmostEqual(area(on_plate(body), 35), 300, delta=1e-6)
        self.assertEqual(area(on_plate(body), 36), 0)

    def test_tunnel_doorway_and_void(self):
        hole = Manifold.cylinder(60, 5, 5, FINE, True).rotate((90, 0, 0)).translate((15, 15, 10))
        found = overhangs(mesh_of(box(30, 30, 20) - hole), 45)
        self.assertAlmostEqual(found.overhang_area_mm2 / 235.6194, 1, delta=5e-3)
        self.assertAlmostEqual(found.contact_area_mm2, 900, delta=1e-6)
        door = overhangs(mesh_of(portal()), 45)
        self.assertAlmostEqual(door.overhang_area_mm2, 300, delta=1e-6)
        self.assertAlmostEqual(door.contact_area_mm2, 300, delta=1e-6)
        void = box(30, 30, 30) - sphere(10, FINE).translate((15, 15, 15))
        self.assertAlmostEqual(area(void, 45) / 184.0302, 1, delta=5e-3)

    def test_contact_is_left_out_unless_lifted(self):
        self.assertEqual(area(box(10, 10, 10), 45), 0)
        self.assertAlmostEqual(area(box(10, 10, 10), 45, plate_mm=None), 100)

    def test_extreme_limits(self):
        # 87 leaves only true ceilings; 0 gives every downward facet.
        body = tee() + sphere(8, 64).translate((60, 0, 30))
        self.assertAlmostEqual(area(body, 87), 300, delta=2)
        self.assertGreater(area(body, 0), 300 + 2 * math.pi * 64 * 0.98)
        self.assertEqual(area(tee(), 90), 0)

    @settings(max_examples=20, deadline=None)
    @given(st.floats(0, 360))
    def test_a_face_exactly_at_the_limit_never_flickers(self, swing):
        wedge = Manifold.hull_points(
            np.array(
                [
                    [0, 0, 0],
                    [10, 0, 0],
                    [0, 20, 0],
                    [10, 20, 0],
                    [-10, 0, 10],
                    [-10, 20, 10],
                    [10, 0, 10],
                    [10, 20, 10.0],
                ]
            )
        )
        self.assertEqual(area(wedge.rotate((0, 0, swing)), 45), 0)
        self.assertAlmostEqual(area(wedge.rotate((0, 0, swing)), 44.9), 20 * 10 * math.sqrt(2), delta=1e-3)

    def test_angles(self):
        angles = facet_angles_deg(mesh_of(box(1, 1, 1)))
        self.assertEqual(sorted(set(np.round(angles, 9))), [-90.0, 0.0, 90.0])


class DirectionsTest(unittest.TestCase):
    def test_many_directions_agree_with_one_at_a_time(self):
        mesh = mesh_of(tee().rotate((10, 20, 30)))
        downs = np.array([[0, 0, -1.0], [0, 0, 1], [1, 0, 0], [0.6, 0, -0.8]])
        sums = sweep(Surface.of(mesh), hull_corners(mesh.vertices), downs, 40)
        many, contact = sums.overhang_mm2, sums.contact_mm2
        for down, expected, touching in zip(downs, many, contact, strict=True):
            from upright_heron.core.stance.pose import place, standing_on

            single = overhangs(place(mesh, standing_on(down)).apply(mesh), 40)
            self.assertAlmostEqual(single.overhang_area_mm2, expected, delta=1e-6)
            self.assertAlmostEqual(single.contact_area_mm2, touching, delta=1e-6)


class LayerDifferenceTest(unittest.TestCase):
    def test_step(self):
        # Geometry: h tan(limit): 0.2 at 45 degrees, 0.3464 at 60.
        self.assertAlmostEqual(step_mm(0.2, 45), 0.2)
        self.assertAlmostEqual(step_mm(0.2, 60), 0.3464102, places=6)

    def test_doorway_and_wedge(self):
        stack = slice_solid(Solid(portal()), 0.2)
        found = unheld_sections(stack, 45)
        self.assertEqual([i for i, s in enumerate(found) if s is not None], [100])
        self.assertAlmostEqual(found[100].area(), 300, delta=1e-6)
        ramp = Manifold.hull_points(
            np.array(
                [[0, 0, 0], [5, 0, 0], [0, 9, 0], [5, 9, 0], [0, 0, 9], [14, 0, 9], [0, 9, 9], [14, 9, 9.0]]
            )
        )
        self.assertTrue(all(s is None for s in unheld_sections(slice_solid(Solid(ramp), 0.2), 45.5)))
        self.assertFalse(all(s is None for s in unheld_sections(slice_solid(Solid(ramp), 0.2), 40)))

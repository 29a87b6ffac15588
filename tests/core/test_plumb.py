"""Plumb lines, sweeps and walked layers: closed forms, and the reference of another library."""

import math
import unittest

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold

from tests.support import box, mesh_of, on_plate, portal, sphere, stalactites, tee
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.layers.closed_slicer import Walker
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.stance.pose import about_axis, place
from upright_heron.core.stance.sweep import hull_corners, sweep
from upright_heron.core.stance.vertical_rays import Surface, plumb

LIMIT = 45.0
turns = st.tuples(*[st.floats(-180, 180)] * 3).map(
    lambda d: about_axis("z", d[2]) @ about_axis("y", d[1]) @ about_axis("x", d[0])
)


def drop(body, rotation=None, limit=LIMIT, pixel=0.1, **more):
    rotation = np.eye(3) if rotation is None else rotation
    return plumb(Surface.of(mesh_of(body)), rotation, limit, pixel_mm=pixel, layer_mm=0.2, **more)


class SupportVolumeTest(unittest.TestCase):
    """Closed forms of the vertical-prism model (Allen and Dutta 1995)."""

    def near(self, found, expected, share=0.01):
        self.assertAlmostEqual(found / expected, 1, delta=share)

    def test_shelf(self):
        # 300 mm2 of underside 20 mm up: the T of the tests.
        found = drop(tee())
        self.near(found.support_mm3, 6000, 1e-6)
        self.assertEqual(found.landing_mm2, 0)
        self.near(found.volume_mm3, 4000, 1e-6)

    def test_sphere_on_the_plate_and_lifted(self):
        # pi R^3 (sin^2 b - 2/3 (1 - cos^3 b)) = 216.88, and 5 pi R^2 sin^2 b more at 5 mm.
        ball = on_plate(sphere(10, 256))
        self.near(drop(ball).support_mm3, 216.8817)
        self.near(drop(ball, lift_mm=5).support_mm3, 1002.28)

    def test_cylinder_on_its_side(self):
        # L R^2 (2 sin b - b - sin b cos b) = 515.26
        found = drop(Manifold.cylinder(40, 10, 10, 360).rotate((90, 0, 0)), pixel=0.05)
        self.near(found.support_mm3, 515.2616)

    def test_cone_on_its_tip(self):
        # A cylinder less the cone: 2/3 pi R^2 h = 1209.20
        self.near(drop(Manifold.cylinder(5.7735, 0.0001, 10, 360)).support_mm3, 1209.2)

    def test_tilted_plate(self):
        # a b^2 sin(2t) / 4 = 9742.79; of the other edge, 60 degrees steep, nothing hangs.
        self.near(drop(box(50, 30, 2), about_axis("x", 30.0)).support_mm3, 9742.786)

    def test_inside_a_tunnel_columns_stand_on_the_part(self):
        # 2 L r^2 (b + sin b cos b) = 1928.10
        hole = Manifold.cylinder(40, 5, 5, 360, True).rotate((90, 0, 0))
        found = drop(Manifold.cube((30, 30, 20), True) - hole, pixel=0.05)
        self.near(found.support_mm3, 1928.097)
        # They land on the lower half: 2 r sin b wide.
        self.near(found.landing_mm2, 30 * 2 * 5 * math.sin(math.radians(45)), 0.02)


class ShadowTest(unittest.TestCase):
    def test_cube_on_a_corner(self):
        # The largest shadow of a cube is a hexagon of sqrt(3) times its face.
        up = about_axis("x", math.degrees(math.acos(1 / math.sqrt(3)))) @ about_axis("z", 45.0)
        diagonal = drop(box(10, 10, 10), up, pixel=0.05)
        self.assertAlmostEqual(diagonal.shadow_mm2, 100 * math.sqrt(3), delta=1)
        self.assertAlmostEqual(drop(box(10, 10, 10), pixel=0.05).shadow_mm2, 100, delta=0.5)

    @settings(max_examples=25, deadline=None)
    @given(turns, st.sampled_from([tee, portal, stalactites, lambda: sphere(8, 24) + box(4, 30, 5)]))
    def test_the_shadow_bounds_the_largest_layer(self, rotation, make):
        found = drop(make(), rotation, pixel=0.4)
        self.assertLessEqual(found.layer_mm2.max(), found.shadow_mm2 + 1e-9)
        solid = Solid(make()).transformed(rotation, np.zeros(3))
        stack = slice_solid(solid, 0.5)
        # Of the exact layers too, but for the squares of the raster along the edge.
        self.assertLessEqual(stack.area_mm2.max(), found.shadow_mm2 * 1.03 + 8)

    @settings(max_examples=15, deadline=None)
    @given(turns)
    def test_volume_is_the_same_whichever_way_it_stands(self, rotation):
        self.assertAlmostEqual(drop(tee(), rotation, pixel=0.15).volume_mm3 / 4000, 1, delta=0.01)

    def test_layers_are_those_that_are_cut(self):
        ball = on_plate(sphere(10, 128))
        found = drop(ball, pixel=0.05)
        exact = slice_solid(Solid(ball), 0.2)
        np.testing.assert_allclose(found.layer_mm2, exact.area_mm2, atol=1.5)


class SweepTest(unittest.TestCase):
    def sums(self, body, down=(0, 0, -1.0), limit=LIMIT, show=None):
        mesh = mesh_of(body)
        return sweep(Surface.of(mesh, show), hull_corners(mesh.vertices), np.array([down], float), limit)

    def test_cusp_of_slopes_and_of_a_sphere(self):
        # c = h |cos theta| (Dolenc and Makela 1994); over a sphere it averages half the layer (hat-box theorem).
        self.assertAlmostEqual(self.sums(sphere(10, 256)).cusp[0], 0.5, delta=5e-4)
        wedge = self.sums(box(10, 10, 10).rotate((45, 0, 0)))
        self.assertAlmostEqual(wedge.cusp[0], math.cos(math.radians(45)) * 400 / 600, places=5)
        self.assertEqual(self.sums(box(10, 10, 10)).cusp[0], 0)

    def test_sphere_overhang(self):
        # 2 pi R^2 (1 - cos b) for limits of 45 and 60 degrees.
        for limit, expected in ((45, 184.0302), (30, 314.1593), (60, 84.17872)):
            found = self.sums(sphere(10, 400), limit=limit).overhang_mm2[0]
            self.assertAlmostEqual(found / expected, 1, delta=5e-3)

    def test_flat_undersides_and_the_show_side(self):
        mesh = mesh_of(tee())
        self.assertAlmostEqual(self.sums(tee()).flat_mm2[0], 300, places=4)
        self.assertAlmostEqual(self.sums(tee()).contact_mm2[0], 100, places=4)
        under = Surface.of(mesh).normals[:, 2] < -0.5
        self.assertAlmostEqual(self.sums(tee(), show=under).overhang_show_mm2[0], 300, places=4)

    def test_many_ways_at_once_are_each_alone(self):
        mesh = mesh_of(portal())
        surface, corners = Surface.of(mesh), hull_corners(mesh.vertices)
        rng = np.random.default_rng(3)
        downs = rng.normal(size=(37, 3))
        downs /= np.linalg.norm(downs, axis=1)[:, None]
        together = sweep(surface, corners, downs, LIMIT)
        for k, down in enumerate(downs):
            alone = sweep(surface, corners, down[None], LIMIT)
            self.assertAlmostEqual(alone.overhang_mm2[0], together.overhang_mm2[k], places=9)
            self.assertAlmostEqual(alone.cusp[0], together.cusp[k], places=12)


class WalkedLayersTest(unittest.TestCase):
    @settings(max_examples=12, deadline=None)
    @given(turns, st.sampled_from([tee, portal, stalactites, lambda: sphere(9, 48)]))
    def test_the_same_as_those_of_the_solid(self, rotation, make):
        solid = Solid(make())
        walker = Walker.of(solid.mesh(), solid)
        self.assertIsNotNone(walker)
        where = place(walker.mesh, rotation)
        walked, cut = (
            walker.layers(rotation, 0.4),
            slice_solid(solid.transformed(where.rotation, where.offset_mm), 0.4),
        )
        # Where a flat face lies exactly in a layer either answer is right; elsewhere they agree.
        same = np.abs(walked.area_mm2 - cut.area_mm2) < 1e-3
        self.assertGreater(same.mean(), 0.95)
        self.assertEqual(len(find_islands(walked)[0]), len(find_islands(cut)[0]))

    def test_two_bodies_are_left_to_the_solid(self):
        pair = Solid(Manifold.compose([box(10, 10, 10), box(5, 5, 5, (20, 0, 0))]))
        self.assertIsNone(Walker.of(pair.mesh(), pair))

    def test_a_surface_through_itself_is_left_to_the_solid(self):
        # Two boxes through each other, joined by one edge path: made by moving corners of one body.
        bent = mesh_of(box(30, 10, 10).refine(8))
        x = bent.vertices[:, 0]
        folded = Mesh(np.column_stack([np.where(x > 15, 30 - x, x), bent.vertices[:, 1:]]), bent.faces)
        self.assertIsNone(Walker.of(folded, Solid(box(30, 10, 10))))

    def test_centre_against_trimesh(self):
        mesh = mesh_of(portal().rotate((10, 20, 30)))
        from upright_heron.core.machines.catalogue import material, printer
        from upright_heron.core.stance.figures import Base, Setting

        setting = Setting(printer("Sedge 300"), material("PLA"), LIMIT, 0.2)
        reference = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False).center_mass
        np.testing.assert_allclose(Base.of(mesh, setting).centre_mm, reference, atol=1e-6)

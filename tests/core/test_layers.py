"""Cross-section areas against closed forms, and what hypothesis finds."""

import math
import unittest

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold

from tests.support import box, mesh_of, on_plate, open_box, sphere, tee, torus
from upright_heron.core.errors import BadValue, Cancelled
from upright_heron.core.formats.stl import read_stl
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import cut, layer_count, slice_open_mesh, slice_solid, thinned


class AreaTest(unittest.TestCase):
    def test_profiles(self):
        # Cavalieri's principle; areas of inscribed polygons are low by under 1e-3 at 256 segments.
        sphere_area = lambda z: math.pi * (100 - (z - 10) ** 2)  # noqa: E731
        torus_area = lambda z: 4 * math.pi * 20 * math.sqrt(max(0, 25 - (z - 5) ** 2))  # noqa: E731
        pyramid = Manifold.hull_points(
            np.array([[-10, -10, 0], [10, -10, 0], [10, 10, 0], [-10, 10, 0], [0, 0, 30.0]])
        )
        cases = {
            "sphere": (sphere(10, 512), sphere_area, 0.05, 1e-3),
            "torus lying": (torus(20, 5), torus_area, 0.05, 3e-3),
            "pyramid": (pyramid, lambda z: 400 * (1 - z / 30) ** 2, 0.2, 1e-7),
        }
        for name, (body, formula, layer, tolerance) in cases.items():
            with self.subTest(name):
                stack = slice_solid(Solid(on_plate(body)), layer)
                expected = np.array([formula(z) for z in stack.z_mm])
                inner = expected > 0.05 * expected.max()
                np.testing.assert_allclose(stack.area_mm2[inner], expected[inner], rtol=tolerance)

    def test_cube_on_its_corner_has_a_hexagon_in_the_middle(self):
        # Classical: (3 sqrt 3 / 4) a^2 of the 10 mm cube.
        body = (
            box(10, 10, 10, (-5, -5, -5))
            .rotate((45, 0, 0))
            .rotate((0, math.degrees(math.atan(1 / math.sqrt(2))), 0))
        )
        self.assertAlmostEqual(Solid(body).section(0.0).area(), 3 * math.sqrt(3) / 4 * 100, delta=1e-6)

    def test_two_cylinders_crossing(self):
        # Steinmetz solid: A(z) = 4 (R^2 - z^2), V = 16 R^3 / 3.
        one = Manifold.cylinder(40, 10, 10, 720, True).rotate((90, 0, 0))
        both = one ^ one.rotate((0, 0, 90))
        self.assertAlmostEqual(Solid(both).volume_mm3 / (16000 / 3), 1, delta=1e-3)
        self.assertAlmostEqual(Solid(both).section(6.0).area() / 256, 1, delta=1e-3)

    def test_midpoint_rule_on_a_sphere(self):
        # Davis & Rabinowitz (from memory): the sum of A(z) h is V + pi R h^2 / 6 for mid-plane layers.
        h = 0.2
        stack = slice_solid(Solid(sphere(10, 512)), h)
        expected = 4000 * math.pi / 3 + math.pi * 10 * h * h / 6
        self.assertAlmostEqual(stack.area_mm2.sum() * h / expected, 1, delta=3e-4)

    def test_agrees_with_trimesh_sections(self):
        body = on_plate((sphere(9, 40) + box(25, 5, 5)).rotate((33, 21, 8)) - box(6, 6, 6))
        mesh = mesh_of(body)
        other = trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces))
        stack = slice_solid(Solid(body), 1.0)
        for i, z in enumerate(stack.z_mm):
            section = other.section(plane_normal=[0, 0, 1], plane_origin=[0, 0, z])
            expected = section.to_2D()[0].area if section is not None else 0.0
            self.assertAlmostEqual(stack.area_mm2[i], expected, delta=1e-3 + 1e-6 * expected)

    @settings(max_examples=25, deadline=None)
    @given(
        st.lists(st.tuples(*[st.floats(1, 20)] * 3, *[st.floats(-10, 10)] * 3), min_size=1, max_size=4),
        st.floats(0.1, 0.9),
    )
    def test_layers_add_up_to_the_volume(self, boxes, layer):
        body = Manifold.batch_boolean([box(*b[:3], b[3:]) for b in boxes], _add())
        stack = slice_solid(Solid(body), layer)
        # Upright walls: only layers in which a floor or a ceiling lies are off, by less than a whole layer.
        slack = layer * stack.area_mm2.max() * (2 * len(boxes) + 1)
        self.assertLessEqual(abs(stack.area_mm2.sum() * layer - body.volume()), slack)


def _add():
    from manifold3d import OpType

    return OpType.Add


class CountTest(unittest.TestCase):
    def test_counts(self):
        for height, layer, expected in ((20.0, 0.2, 100), (20.0, 0.3, 67), (0.05, 0.2, 1), (1.0, 0.1, 10)):
            with self.subTest(height=height, layer=layer):
                self.assertEqual(layer_count(height, layer), expected)

    def test_layer_height_has_to_be_positive(self):
        for layer in (0.0, -1.0, math.nan):
            with self.assertRaises(BadValue):
                layer_count(10, layer)


class StackTest(unittest.TestCase):
    def test_polygons_match_the_areas(self):
        stack = slice_solid(Solid(tee()), 0.2)
        self.assertEqual(len(stack), 125)
        for i in (0, 60, 99, 100, 124):
            self.assertAlmostEqual(stack.section(i).area(), stack.area_mm2[i], delta=1e-6)
        self.assertTrue(stack.section(-1).is_empty() and stack.section(125).is_empty())
        self.assertEqual(stack.largest, 100)

    def test_upright_walls_repeat(self):
        stack = slice_solid(Solid(tee()), 0.2)
        self.assertTrue(stack.same_as_below(50))
        self.assertFalse(stack.same_as_below(100))
        self.assertFalse(stack.same_as_below(0))

    def test_thinning_stays_within_its_tolerance(self):
        stack = slice_solid(Solid(sphere(10, 720)), 1.0, thin_mm=0)
        thin = thinned(stack, 0.05)
        self.assertLess(len(thin.points), len(stack.points) / 5)
        for i in range(1, len(stack) - 1):
            whole, less = stack.section(i), thin.section(i)
            self.assertTrue(
                (whole - less.offset(0.051)).is_empty() and (less - whole.offset(0.051)).is_empty()
            )

    def test_cancelling(self):
        def stop(stage, done, total):
            if done > 20:
                raise Cancelled()

        with self.assertRaises(Cancelled):
            slice_solid(Solid(box(5, 5, 50)), 0.2, progress=stop)


class OpenPartTest(unittest.TestCase):
    def test_walls_of_an_open_box_still_close(self):
        # Without its lid the cube has four walls, whose contour closes in every layer.
        mesh = read_stl(open_box()).mesh
        stack = cut(mesh, None, 1.0)
        np.testing.assert_allclose(stack.area_mm2, 400, rtol=1e-6)
        self.assertEqual(stack.open_chains, 0)

    def test_missing_wall_is_counted(self):
        mesh = mesh_of(box(20, 20, 20))
        side = (mesh.vertices[mesh.faces][:, :, 0] == 20).all(axis=1)
        stack = slice_open_mesh(type(mesh)(mesh.vertices, mesh.faces[~side]), 1.0)
        self.assertEqual(stack.open_chains, 20)
        self.assertEqual(stack.area_mm2.sum(), 0)

    def test_open_slicing_agrees_with_solid_slicing(self):
        body = on_plate(torus(20, 5, 64) + box(30, 3, 3))
        closed, opened = slice_solid(Solid(body), 0.7), slice_open_mesh(mesh_of(body), 0.7)
        np.testing.assert_allclose(opened.area_mm2, closed.area_mm2, rtol=1e-4, atol=1e-3)

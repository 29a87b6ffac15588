"""Coupons measured from their facets."""

import unittest

import numpy as np

from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.mesh import facet_normals
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.hanging.overhangs import facet_angles_deg, overhangs
from upright_heron.core.health.defects import examine
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.machines import coupons


class CouponTest(unittest.TestCase):
    def test_both_are_one_sound_body_that_stands(self):
        for kind in coupons.KINDS:
            with self.subTest(kind):
                mesh = coupons.coupon(kind)
                health = examine(mesh)
                self.assertEqual((health.defects, health.bodies, health.verdict.sound), (0, 1, True))
                self.assertEqual(mesh.bounds[0, 2], 0)
                self.assertGreater(overhangs(mesh, 45).contact_area_mm2, 500)
                islands, _ = find_islands(slice_solid(Solid.from_mesh(mesh), 0.2))
                self.assertEqual(islands, [])
                self.assertLess(mesh.size_mm.max(), 180)
        with self.assertRaises(BadValue):
            coupons.coupon("spoon")

    def test_slopes_are_those_that_the_numbers_say(self):
        mesh = coupons.slope_coupon()
        angles, (normals, areas) = facet_angles_deg(mesh), facet_normals(mesh)
        under = (normals[:, 2] < -1e-6) & (angles < 89.9)
        found = {}
        for angle, area in zip(np.round(angles[under], 3), areas[under], strict=True):
            found[angle] = found.get(angle, 0.0) + area
        self.assertEqual(sorted(found), [float(d) for d in coupons.SLOPES_DEG])
        # Each underside is as wide and as long as the wing.
        np.testing.assert_allclose(list(found.values()), 9.0 * 16.0, rtol=1e-3)

    def test_bridges_span_what_the_numbers_say(self):
        mesh = coupons.bridge_coupon()
        normals, areas = facet_normals(mesh)
        middle = mesh.vertices[mesh.faces].mean(axis=1)
        under = (normals[:, 2] < -0.99) & (np.abs(middle[:, 2] - 9) < 1e-6)
        rows = np.floor((middle[under, 1] + 2.5) / 10).astype(int)
        spans = np.bincount(rows, areas[under]) / 5.0
        np.testing.assert_allclose(spans, coupons.SPANS_MM, rtol=1e-4)

    def test_what_the_limit_finds_on_the_fan(self):
        mesh = coupons.slope_coupon()
        for limit in (42.0, 57.0, 72.0):
            past = sum(d > limit for d in coupons.SLOPES_DEG)
            self.assertAlmostEqual(overhangs(mesh, limit).overhang_area_mm2 / (past * 144.0), 1, delta=1e-3)


if __name__ == "__main__":
    unittest.main()

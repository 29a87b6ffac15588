"""Overhang regions and bridges: constructed shapes with known counts, and closed forms."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold, OpType

from tests.support import box, mesh_of, on_plate, portal, sphere, stalactites, tee, torus
from upright_heron.core.hanging.overhang_regions import Kind, hanging_regions


def regions(body, limit=45.0, **more):
    return hanging_regions(mesh_of(body), limit, **more)


class RegionsTest(unittest.TestCase):
    def test_tee_has_two_shelves_or_one_frame(self):
        # 40 x 10 over a stem of 10 x 10: the underside is cut in two by the stem, which is as deep.
        found = regions(tee())
        self.assertEqual([r.kind for r in found], [Kind.CEILING, Kind.CEILING])
        self.assertEqual([round(r.area_mm2) for r in found], [150, 150])
        self.assertTrue(all(r.bridge is None and not r.over_part for r in found))
        self.assertTrue(all(abs(r.gap_mm - 20) < 1e-4 for r in found))
        self.assertEqual([r.number for r in found], [1, 2])

    def test_sphere_and_tunnel(self):
        (cap,) = regions(on_plate(sphere(10, 128)))
        self.assertEqual(cap.kind, Kind.SLOPE)
        self.assertAlmostEqual(cap.area_mm2 / 184.03, 1, delta=0.02)
        np.testing.assert_allclose(cap.lowest_mm, (0, 0, 0), atol=0.2)
        tunnel = Manifold.cube((30, 30, 20), True).translate((0, 0, 10)) - Manifold.cylinder(
            40, 5, 5, 128, True
        ).rotate((90, 0, 0)).translate((0, 0, 10))
        (ceiling,) = regions(tunnel)
        self.assertEqual(ceiling.kind, Kind.HOLE)
        self.assertTrue(ceiling.over_part)
        # 2 b r L = 235.62.
        self.assertAlmostEqual(ceiling.area_mm2 / 235.62, 1, delta=0.03)
        self.assertAlmostEqual(ceiling.steepest_deg, 90, delta=3)

    def test_stalactites_are_one_region_each_or_joined_by_their_ceiling(self):
        steep = regions(stalactites(), 87.0)
        self.assertEqual({r.kind for r in steep}, {Kind.CEILING})

    def test_only_true_ceilings_are_past_87_degrees_and_every_downward_facet_past_0(self):
        ball = on_plate(sphere(10, 64)) + box(30, 10, 4, (0, -5, 12))
        self.assertTrue(all(r.steepest_deg > 87 for r in regions(ball, 87.0)))
        everything = sum(r.area_mm2 for r in regions(on_plate(sphere(10, 128)), 0.0))
        self.assertAlmostEqual(everything / (2 * math.pi * 100), 1, delta=0.01)

    def test_cones_ring_plate_and_table(self):
        # Closed forms: pi R2 / sin 60 for a wide cone on its tip, 4 pi R r b for a ring lying flat (b = pi / 4),
        # a b for a plate that leans 60 from vertical; a table of four legs has one ceiling less its legs.
        wide = Manifold.cylinder(5.7735, 0.01, 10, 256)
        ring = on_plate(torus(20, 5, 192))
        plate = on_plate(box(50, 30, 2).rotate((30, 0, 0)))
        legs = [box(4, 4, 30, (x, y, 0)) for x in (0, 56) for y in (0, 56)]
        table = Manifold.batch_boolean([*legs, box(60, 60, 4, (0, 0, 30))], OpType.Add)
        for name, body, area in (
            ("cone", wide, 362.76), ("ring", ring, 986.96), ("plate", plate, 1500), ("table", table, 3536),
        ):  # fmt: skip
            with self.subTest(name):
                self.assertAlmostEqual(sum(r.area_mm2 for r in regions(body)) / area, 1, delta=0.01)
                self.assertEqual(len(regions(body)), 1)
        self.assertEqual(regions(Manifold.cylinder(17.32, 0.01, 10, 256)), [])

    def test_the_bar_of_an_h_is_a_bridge_and_its_feet_are_none(self):
        h = box(10, 15, 40) + box(10, 15, 40, (30, 0, 0)) + box(20, 15, 5, (10, 0, 20))
        (bar,) = regions(h)
        self.assertEqual((bar.kind, bar.over_part), (Kind.CEILING, False))
        self.assertAlmostEqual(bar.bridge.span_mm, 20, delta=1e-6)
        self.assertAlmostEqual(bar.bridge.width_mm, 15, delta=1e-6)

    def test_a_part_without_overhang_has_none(self):
        self.assertEqual(regions(box(10, 10, 10)), [])
        self.assertEqual(len(regions(box(10, 10, 10).translate((0, 0, 5)), lifted=True)), 1)

    @settings(max_examples=10, deadline=None)
    @given(st.floats(-180, 180))
    def test_swinging_about_the_vertical_changes_nothing(self, swing):
        found = regions(portal().rotate((0, 0, swing)))
        self.assertEqual(len(found), 1)
        self.assertAlmostEqual(found[0].area_mm2, 300, delta=1e-3)
        self.assertAlmostEqual(found[0].bridge.span_mm, 20, delta=1e-3)
        self.assertAlmostEqual((found[0].bridge.direction_deg - swing + 90) % 180, 90, delta=0.1)


class BridgesTest(unittest.TestCase):
    def test_doorway(self):
        # 20 wide, 15 deep: held at both 15 mm sides.
        (lintel,) = regions(portal())
        self.assertAlmostEqual(lintel.area_mm2, 300, places=4)
        self.assertAlmostEqual(lintel.bridge.span_mm, 20, places=4)
        self.assertAlmostEqual(lintel.bridge.width_mm, 15, places=4)
        self.assertFalse(lintel.carries_itself(10))
        self.assertTrue(lintel.carries_itself(20))

    def test_a_cantilever_is_no_bridge(self):
        arm = box(10, 15, 30) + box(30, 15, 5, (0, 0, 25))
        (found,) = regions(arm)
        self.assertAlmostEqual(found.area_mm2, 300, places=4)
        self.assertIsNone(found.bridge)

    def test_a_ceiling_held_all_round_is_bridged_the_short_way(self):
        room = box(50, 30, 20) - box(40, 12, 10, (5, 9, 5))
        (found,) = regions(room)
        self.assertAlmostEqual(found.bridge.span_mm, 12, places=4)
        self.assertAlmostEqual(found.bridge.direction_deg, 90, places=4)

    def test_three_posts_hold_two_spans(self):
        hall = box(70, 10, 30) - box(20, 10, 20, (10, 0, 0)) - box(20, 10, 20, (40, 0, 0))
        found = regions(hall)
        self.assertEqual(len(found), 2)
        self.assertTrue(all(abs(r.bridge.span_mm - 20) < 1e-3 for r in found))

    def test_what_slopes_is_no_bridge(self):
        self.assertIsNone(regions(on_plate(sphere(10, 64)))[0].bridge)


if __name__ == "__main__":
    unittest.main()

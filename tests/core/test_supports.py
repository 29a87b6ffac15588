"""Supports against the volumes of vertical prisms, and what must hold of every one of them."""

import math
import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold, OpType

from tests.support import box, comb, mesh_of, on_plate, portal, sphere, stalactites, tee
from upright_heron.core.errors import Cancelled
from upright_heron.core.islands import find_islands
from upright_heron.core.layers import slice_solid
from upright_heron.core.mesh import edges, facts
from upright_heron.core.solid import Solid
from upright_heron.core.supports.columns import make_columns
from upright_heron.core.supports.model import SupportSettings, stilt_volume_mm3
from upright_heron.core.supports.stilts import make_stilts

TIGHT = SupportSettings(gap_mm=0, clearance_mm=0)


def columns(body, layer=0.2, limit=45.0, settings=TIGHT, lift=0.0):
    solid = Solid(body.translate((0, 0, lift)))
    stack = slice_solid(solid, layer)
    islands, found = find_islands(stack, on_plate=lift == 0)
    return make_columns(stack, limit, islands, found, settings), stack


def stilts(body, layer=0.1, limit=60.0, settings=None, lift=0.0):
    settings = settings or SupportSettings()
    solid = Solid(body.translate((0, 0, lift)))
    stack = slice_solid(solid, layer)
    islands, _ = find_islands(stack, on_plate=lift == 0)
    return make_stilts(solid.mesh(), solid, stack, limit, islands, settings), stack, solid


class ColumnVolumeTest(unittest.TestCase):
    """Vertical-prism model: Allen & Dutta 1995; Alexander, Allen & Dutta 1998 (from memory)."""

    def test_flat_undersides_are_exact(self):
        shelf = box(10, 40, 35) + box(60, 40, 5, (0, 0, 30))
        self.assertAlmostEqual(columns(tee())[0].volume_mm3, 6000, delta=1e-3)
        self.assertAlmostEqual(columns(shelf)[0].volume_mm3, 60000, delta=1e-2)
        self.assertAlmostEqual(columns(portal())[0].volume_mm3, 6000, delta=1e-3)

    def test_gap_and_clearance(self):
        # (50 - 0.8) x 40 x (30 - 0.2): only the side at the wall is drawn back.
        shelf = box(10, 40, 35) + box(60, 40, 5, (0, 0, 30))
        found, _ = columns(shelf, settings=SupportSettings(gap_mm=0.2, clearance_mm=0.8))
        self.assertAlmostEqual(found.volume_mm3, 58646.4, delta=0.01)
        self.assertEqual(len(found.supports), 1)
        self.assertAlmostEqual(found.supports[0].volume_mm3, 58646.4, delta=0.01)

    def test_round_undersides_come_near(self):
        # Layers see a slope in steps, and steps that exceed the limit by less than the noise of the contours
        # are left: the outermost, longest prisms are missing, so the volume is low, by under a tenth.
        b = math.radians(45)
        ball = math.pi * 1000 * (math.sin(b) ** 2 - 2 / 3 * (1 - math.cos(b) ** 3))
        found, _ = columns(on_plate(sphere(10, 256)), 0.1)
        self.assertTrue(0.88 < found.volume_mm3 / ball < 1.0, found.volume_mm3 / ball)
        lifted = ball + 5 * math.pi * 100 * math.sin(b) ** 2
        found, _ = columns(on_plate(sphere(10, 256)), 0.1, lift=5.0)
        self.assertTrue(0.92 < found.volume_mm3 / lifted < 1.0, found.volume_mm3 / lifted)

    def test_tilted_plate(self):
        # a b^2 sin(2t) / 4 with the low edge on the plate.
        found, _ = columns(on_plate(box(50, 30, 2).rotate((30, 0, 0))), 0.1)
        self.assertAlmostEqual(found.volume_mm3 / 9742.786, 1, delta=0.03)

    def test_standing_on_the_part(self):
        hole = Manifold.cylinder(60, 5, 5, 360, True).rotate((90, 0, 0)).translate((15, 15, 10))
        found, _ = columns(box(30, 30, 20) - hole, 0.1)
        self.assertAlmostEqual(found.volume_mm3 / 1928.097, 1, delta=0.04)
        self.assertTrue(all(c.on_part for c in found.supports))

    def test_45_degree_slope_needs_nothing_at_its_limit(self):
        ramp = Manifold.hull_points(
            np.array(
                [[0, 0, 0], [5, 0, 0], [0, 9, 0], [5, 9, 0], [0, 0, 9], [14, 0, 9], [0, 9, 9], [14, 9, 9.0]]
            )
        )
        self.assertEqual(columns(ramp, limit=46)[0].supports, ())


class ColumnRulesTest(unittest.TestCase):
    def test_objects_and_reasons(self):
        # A wall parts the space below the plate: a foot that ends above the plate hangs in one half only.
        body = box(60, 20, 5, (0, 0, 20)) + box(4, 20, 20, (28, 0, 0)) + box(5, 5, 10, (45, 8, 10))
        found, _ = columns(body, settings=SupportSettings())
        self.assertEqual(sorted(c.reason for c in found.supports), ["island 1", "overhang"])
        self.assertEqual(len({c.id for c in found.supports}), 2)
        self.assertEqual(found.unheld_islands, ())
        again, _ = columns(body, settings=SupportSettings())
        self.assertEqual([c.id for c in again.supports], [c.id for c in found.supports])

    def test_columns_that_come_together_are_one(self):
        found, _ = columns(comb(), settings=SupportSettings())
        self.assertEqual([c.reason for c in found.supports], ["2 islands"])

    def test_nothing_stands_below_a_hole_too_narrow_for_a_column(self):
        bore = Manifold.cylinder(6, 4, 0.5, 64).translate((10, 10, 0)) + Manifold.cylinder(
            9, 0.5, 0.5, 64
        ).translate((10, 10, 0))
        body = box(20, 20, 8) - bore + box(3, 20, 20) + box(20, 20, 3, (0, 0, 20))
        found, _ = columns(body, settings=SupportSettings())
        self.assertEqual([c.on_part for c in found.supports], [True])
        self.assertEqual(found.layers.area_mm2[:39].max(), 0)

    def test_slopes_are_held_without_clefts(self):
        # Strips narrower than the raster lie side by side: nothing may be missing between them.
        found, stack = columns(on_plate(box(50, 30, 2).rotate((30, 0, 0))), 0.1)
        for level in range(0, 140, 20):
            self.assertEqual(len(found.layers.rings(level)), 1)
            edge = stack.section(level).bounds()[3]
            self.assertAlmostEqual(found.layers.area_mm2[level], 50 * (25.894 - edge), delta=0.06 * 50 + 0.1)

    def test_points_are_held_however_small(self):
        found, _ = columns(stalactites(), 0.1, settings=SupportSettings())
        self.assertEqual(found.unheld_islands, ())
        self.assertEqual(len([c for c in found.supports if c.reason.startswith("island")]), 16)

    def test_an_island_with_no_room_below_is_said(self):
        shelf = box(30, 30, 10) + box(30, 30, 5, (0, 0, 20)) + box(4, 4, 20) + box(6, 6, 9.5, (15, 15, 10.5))
        found, _ = columns(shelf, settings=SupportSettings(gap_mm=0.4))
        self.assertEqual(len(found.unheld_islands), 1)
        self.assertTrue(found.notes)

    def test_columns_keep_clear_of_the_part(self):
        body = stalactites()
        settings = SupportSettings(gap_mm=0.2, clearance_mm=0.5)
        found, stack = columns(body, 0.2, settings=settings)
        for i in range(len(stack)):
            support = found.layers.section(i)
            # Outlines may tremble from layer to layer.
            self.assertLess((support ^ stack.section(i).offset(0.42)).area(), 1e-3, f"layer {i}")
            if i + 1 < len(stack):
                self.assertLess(
                    (support ^ stack.section(i + 1).offset(-0.05)).area(), 1e-3, f"gap over layer {i}"
                )

    def test_every_column_stands(self):
        found, stack = columns(stalactites(), settings=SupportSettings(gap_mm=0))
        for column in found.supports:
            for low, high in zip(column.slabs, column.slabs[1:], strict=False):
                self.assertLessEqual(low.low_mm, high.low_mm)
            foot = column.slabs[0]
            if column.on_part:
                below = stack.section(round(foot.low_mm / 0.2) - 1)
                self.assertGreater((foot.section ^ below).area(), 0)
            else:
                self.assertEqual(foot.low_mm, 0)

    def test_handoff_mesh_is_closed_and_has_the_volume(self):
        found, _ = columns(comb(), settings=SupportSettings())
        mesh = found.handoff_mesh()
        self.assertTrue(edges(mesh).closed)
        self.assertAlmostEqual(facts(mesh).volume_mm3, found.volume_mm3, delta=1e-3 * found.volume_mm3)

    def test_heavy_columns_are_drawn_in_bands(self):
        found, _ = columns(on_plate(sphere(10, 256)), 0.1, lift=5.0)
        whole = facts(found.view_mesh()).volume_mm3
        with mock.patch("upright_heron.core.supports.model.SEEN_CORNERS", 400):
            banded = replace(found).view_mesh()
        self.assertLess(len(banded.faces), len(found.view_mesh().faces))
        self.assertAlmostEqual(facts(banded).volume_mm3 / whole, 1, delta=0.1)

    def test_cancelling(self):
        def stop(stage, done, total):
            if stage == "Standing columns" and done > 10:
                raise Cancelled()

        solid = Solid(stalactites())
        stack = slice_solid(solid, 0.2)
        islands, found = find_islands(stack)
        with self.assertRaises(Cancelled):
            make_columns(stack, 45, islands, found, TIGHT, progress=stop)

    @settings(max_examples=8, deadline=None)
    @given(
        st.lists(st.tuples(st.floats(-18, 18), st.floats(-18, 18), st.floats(4, 25)), min_size=1, max_size=4)
    )
    def test_no_column_crosses_the_part(self, bars):
        parts = [box(12, 9, 3, (x, y, z)) for x, y, z in bars]
        body = Manifold.batch_boolean([box(8, 8, 30, (-4, -4, 0)), *parts], OpType.Add)
        found, stack = columns(on_plate(body), 0.5, settings=SupportSettings())
        for i in range(len(stack)):
            self.assertLess((found.layers.section(i) ^ stack.section(i)).area(), 1e-3)


class StiltTest(unittest.TestCase):
    def test_every_island_has_one(self):
        found, _, _ = stilts(on_plate(stalactites()))
        reasons = [s.reason for s in found.supports]
        for number in range(1, 17):
            self.assertIn(f"island {number}", reasons)
        self.assertEqual(found.unheld_islands, ())

    def test_tips_touch_and_shafts_keep_clear(self):
        settings = SupportSettings()
        found, _, solid = stilts(on_plate(stalactites()), settings=settings)
        mesh = solid.mesh()
        part = trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces), process=False)
        tips = np.array([s.touch_mm for s in found.supports])
        self.assertLess(trimesh.proximity.closest_point(part, tips)[1].max(), 0.1)
        shafts = np.array(
            [
                [*s.circles[-3, :2], (s.circles[-3, 2] + s.circles[0, 2]) / 2]
                for s in found.supports
                if not s.on_part
            ]
        )
        distance = trimesh.proximity.closest_point(part, shafts)[1]
        self.assertGreater(distance.min(), settings.shaft_mm / 2 + settings.clearance_mm - 0.05)

    def test_grid_under_a_ceiling(self):
        found, _, _ = stilts(tee(), settings=SupportSettings(spacing_mm=5))
        # The two undersides of 15 x 10 mm meet lattice points every 5 mm; tips keep to them.
        self.assertGreaterEqual(len(found.supports), 8)
        self.assertTrue(all(abs(s.touch_mm[2] - 20) < 1e-6 for s in found.supports))
        self.assertAlmostEqual(found.held_area_mm2, 300, delta=1e-6)

    def test_lands_on_the_part_where_it_must(self):
        body = box(40, 40, 5) + box(4, 4, 30) + box(40, 40, 4, (0, 0, 30))
        found, _, _ = stilts(body)
        inside = [s for s in found.supports if 4 < s.touch_mm[0] < 36 and 4 < s.touch_mm[1] < 36]
        self.assertGreater(len(inside), 40)
        self.assertTrue(all(s.on_part for s in inside))
        # 0.2 mm of the point reach into the part at z = 5; tips near the rim lean out and down to the plate.
        self.assertEqual({round(float(s.circles[0, 2]), 6) for s in found.supports}, {4.8, 0.0})

    def test_a_lifted_part_stands_on_stilts_only(self):
        found, stack, _ = stilts(box(20, 20, 5), lift=5.0)
        self.assertGreaterEqual(len(found.supports), 16)
        self.assertEqual(len(found.layers), len(stack) + 50)
        self.assertGreater(found.layers.area_mm2[0], found.layers.area_mm2[30])

    def test_mesh_layers_and_volume_agree(self):
        found, _, _ = stilts(tee())
        mesh = found.handoff_mesh()
        self.assertTrue(edges(mesh).closed)
        volume = facts(mesh).volume_mm3
        self.assertAlmostEqual(found.volume_mm3 / volume, 1, delta=0.02)
        each = sum(s.volume_mm3 for s in found.supports)
        self.assertGreaterEqual(each, volume * (1 - 1e-6))
        one = found.supports[0]
        self.assertAlmostEqual(facts(one.mesh()).volume_mm3, one.volume_mm3, delta=0.02 * one.volume_mm3)

    def test_frustum_volume(self):
        # Twelve-sided cone frustum, h/3 (A1 + A2 + sqrt(A1 A2)).
        circles = np.array([[0, 0, 0, 2.0], [0, 0, 3, 1.0]])
        expected = mesh_of(Manifold.cylinder(3, 2, 1, 12))
        self.assertAlmostEqual(stilt_volume_mm3(circles), facts(expected).volume_mm3, delta=1e-6)

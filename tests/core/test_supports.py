"""Supports against the volumes of vertical prisms, and what must hold of every one of them."""

import math
import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold, OpType

from tests.held import Bench, levels, prism_mm3
from tests.support import box, comb, on_plate, portal, sphere, stalactites, tee
from upright_heron.core.errors import Cancelled
from upright_heron.core.geometry.mesh import edges, facts
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.filament.styles import make_filament
from upright_heron.core.supports.model import SupportSettings

TIGHT = SupportSettings(gap_mm=0, clearance_mm=0)


def volume(body, layer=0.2, settings=TIGHT, **options):
    bench = Bench(body, layer, bridge_mm=0.0, **options)
    return prism_mm3(bench.runs(settings), bench.stack)


class ColumnVolumeTest(unittest.TestCase):
    """Vertical-prism model: Allen & Dutta 1995; Alexander, Allen & Dutta 1998 (from memory)."""

    def test_flat_undersides_are_exact(self):
        shelf = box(10, 40, 35) + box(60, 40, 5, (0, 0, 30))
        self.assertAlmostEqual(volume(tee()), 6000, delta=1e-3)
        self.assertAlmostEqual(volume(shelf), 60000, delta=1e-2)
        self.assertAlmostEqual(volume(portal()), 6000, delta=1e-3)

    def test_gap_and_clearance(self):
        # (50 - 0.8) x 40 x (30 - 0.2): only the side at the wall is drawn back.
        shelf = box(10, 40, 35) + box(60, 40, 5, (0, 0, 30))
        found = volume(shelf, settings=SupportSettings(gap_mm=0.2, clearance_mm=0.8))
        self.assertAlmostEqual(found, 58646.4, delta=0.01)

    def test_gaps_above_and_below_are_apart(self):
        # A shelf of 20 x 20 over a floor at 10: between them 10 less both gaps.
        cave = box(40, 20, 30) - box(20, 20, 10, (10, 0, 10))
        for above, below in ((0.2, None), (0.2, 0.6), (0.4, 0.0)):
            given = SupportSettings(gap_mm=above, gap_below_mm=below, clearance_mm=0)
            high = 10 - above - (above if below is None else below)
            self.assertAlmostEqual(volume(cave, settings=given), 400 * high, delta=1e-2)

    def test_round_undersides_come_near(self):
        # Layers see a slope in steps, and steps that exceed the limit by less than the noise of the contours
        # are left: the outermost, longest prisms are missing, so the volume is low, by under a tenth.
        b = math.radians(45)
        ball = math.pi * 1000 * (math.sin(b) ** 2 - 2 / 3 * (1 - math.cos(b) ** 3))
        share = volume(on_plate(sphere(10, 256)), 0.1) / ball
        self.assertTrue(0.88 < share < 1.0, share)
        lifted = ball + 5 * math.pi * 100 * math.sin(b) ** 2
        share = volume(on_plate(sphere(10, 256)), 0.1, lift=5.0) / lifted
        self.assertTrue(0.92 < share < 1.0, share)

    def test_tilted_plate(self):
        # a b^2 sin(2t) / 4 with the low edge on the plate.
        found = volume(on_plate(box(50, 30, 2).rotate((30, 0, 0))), 0.1)
        self.assertAlmostEqual(found / 9742.786, 1, delta=0.03)

    def test_standing_on_the_part(self):
        hole = Manifold.cylinder(60, 5, 5, 360, True).rotate((90, 0, 0)).translate((15, 15, 10))
        body = box(30, 30, 20) - hole
        self.assertAlmostEqual(volume(body, 0.1) / 1928.097, 1, delta=0.04)
        made = Bench(body, 0.1, bridge_mm=0.0).make(Style.LINES)
        self.assertTrue(made.supports)
        self.assertTrue(all(c.on_part for c in made.supports))

    def test_45_degree_slope_needs_nothing_at_its_limit(self):
        ramp = Manifold.hull_points(
            np.array(
                [[0, 0, 0], [5, 0, 0], [0, 9, 0], [5, 9, 0], [0, 0, 9], [14, 0, 9], [0, 9, 9], [14, 9, 9.0]]
            )
        )
        self.assertEqual(Bench(ramp, limit=46).patches, [])


class ColumnRulesTest(unittest.TestCase):
    def test_nothing_stands_below_a_hole_too_narrow_for_a_column(self):
        bore = Manifold.cylinder(6, 4, 0.5, 64).translate((10, 10, 0)) + Manifold.cylinder(
            9, 0.5, 0.5, 64
        ).translate((10, 10, 0))
        body = box(20, 20, 8) - bore + box(3, 20, 20) + box(20, 20, 3, (0, 0, 20))
        made = Bench(body).make(Style.LINES)
        self.assertEqual([c.on_part for c in made.supports], [True])
        self.assertEqual(made.layers.area_mm2[:39].max(), 0)

    def test_slopes_are_held_without_clefts(self):
        # Strips narrower than the raster lie side by side: nothing may be missing between them.
        bench = Bench(on_plate(box(50, 30, 2).rotate((30, 0, 0))), 0.1)
        found = levels(bench.runs(TIGHT), bench.stack)
        for level in range(0, 140, 20):
            self.assertEqual(found[level].num_contour(), 1)
            edge = bench.stack.section(level).bounds()[3]
            self.assertAlmostEqual(found[level].area(), 50 * (25.894 - edge), delta=0.06 * 50 + 0.1)

    def test_points_are_held_however_small(self):
        made = Bench(stalactites(), 0.1).make(Style.LINES)
        self.assertEqual(made.unheld_islands, ())
        self.assertEqual(sum("island" in c.reason for c in made.supports), 16)

    def test_an_island_with_no_room_below_is_said(self):
        shelf = box(30, 30, 10) + box(30, 30, 5, (0, 0, 20)) + box(4, 4, 20) + box(6, 6, 9.5, (15, 15, 10.5))
        made = Bench(shelf).make(Style.LINES, given=SupportSettings(gap_mm=0.4))
        self.assertEqual(len(made.unheld_islands), 1)
        self.assertTrue(any(f.kind == "not held" and "island" in f.words for f in made.faults))

    def test_columns_keep_clear_of_the_part(self):
        bench = Bench(stalactites())
        found = levels(bench.runs(SupportSettings(gap_mm=0.2, clearance_mm=0.5)), bench.stack)
        for i, support in found.items():
            # Outlines may tremble from layer to layer.
            self.assertLess((support ^ bench.stack.section(i).offset(0.42)).area(), 1e-3, f"layer {i}")
            if i + 1 < len(bench.stack):
                self.assertLess(
                    (support ^ bench.stack.section(i + 1).offset(-0.05)).area(), 1e-3, f"gap over layer {i}"
                )

    def test_every_column_stands(self):
        made = Bench(stalactites()).make(Style.LINES, given=SupportSettings(gap_mm=0))
        self.assertTrue(made.supports)
        for column in made.supports:
            for low, high in zip(column.slabs, column.slabs[1:], strict=False):
                self.assertLessEqual(low.low_mm, high.high_mm)
            self.assertEqual(column.on_part, column.slabs[0].low_mm > 0)
        self.assertEqual([f for f in made.faults if f.kind == "floats"], [])

    def test_handoff_mesh_is_closed_and_has_the_volume(self):
        made = Bench(comb()).make(Style.LINES)
        mesh = made.handoff_mesh()
        self.assertTrue(edges(mesh).closed)
        self.assertAlmostEqual(facts(mesh).volume_mm3, made.volume_mm3, delta=1e-3 * made.volume_mm3)

    def test_heavy_columns_are_drawn_in_bands(self):
        made = Bench(on_plate(sphere(10, 256)), 0.1, lift=5.0).make(Style.LINES)
        whole = facts(made.view_mesh()).volume_mm3
        corners = sum(len(ring) for c in made.supports for slab in c.slabs for ring in slab.rings)
        with mock.patch("upright_heron.core.supports.support_set.SEEN_CORNERS", corners // 4):
            banded = replace(made).view_mesh()
        self.assertLess(len(banded.faces), len(made.view_mesh().faces))
        self.assertAlmostEqual(facts(banded).volume_mm3 / whole, 1, delta=0.1)

    def test_cancelling(self):
        bench = Bench(stalactites())
        for stage in ("Standing columns", "Sharing out columns", "Checking supports"):

            def stop(at, done, total, stage=stage):
                if at == stage and done > 0:
                    raise Cancelled()

            held = [(patch, Style.LINES) for patch in bench.patches]
            with self.subTest(stage), self.assertRaises(Cancelled):
                make_filament(bench.stack, held, SupportSettings(), bench.tree, progress=stop)

    @settings(max_examples=8, deadline=None)
    @given(
        st.lists(st.tuples(st.floats(-18, 18), st.floats(-18, 18), st.floats(4, 25)), min_size=1, max_size=4)
    )
    def test_no_column_crosses_the_part(self, bars):
        parts = [box(12, 9, 3, (x, y, z)) for x, y, z in bars]
        body = Manifold.batch_boolean([box(8, 8, 30, (-4, -4, 0)), *parts], OpType.Add)
        bench = Bench(on_plate(body), 0.5)
        for i, support in levels(bench.runs(), bench.stack).items():
            self.assertLess((support ^ bench.stack.section(i)).area(), 1e-3)

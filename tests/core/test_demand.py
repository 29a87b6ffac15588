"""What must be held: areas by closed forms, which style is proposed and why, and what the choices leave."""

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold

from tests.held import USUAL, Bench, table
from tests.support import box, comb, sphere, tee
from upright_heron.core.marking.mark import Mark
from upright_heron.core.marking.marks import blank, painted
from upright_heron.core.supports.demand.patches import Hold, Style, by_layer, proposed_style


def area(bench):
    """Area in plan of everything that is to be held, mm2."""
    plans = by_layer(bench.patches, len(bench.stack))
    return sum(plan.area() for plan in plans if plan is not None)


class AreaTest(unittest.TestCase):
    def test_flat_undersides_are_exact(self):
        # T: 40 x 10 over a stem of 10 x 10. Table: 60 x 60 over four legs of 4 x 4.
        for body, asked, high in ((tee(), 300, 20), (table(), 3600 - 64, 30)):
            bench = Bench(body)
            self.assertAlmostEqual(area(bench), asked, delta=0.01)
            self.assertAlmostEqual(sum(p.area_mm2 for p in bench.patches), asked, delta=0.01)
            self.assertTrue(all(p.flat for p in bench.patches))
            self.assertTrue(all(abs(p.high_mm - high) < 0.3 for p in bench.patches))

    def test_a_ball_by_its_cap(self):
        # Plan area of what is past the limit: pi R^2 sin^2 of the angle from the plate (Archimedes' cap).
        for limit in (45.0, 60.0):
            bench = Bench(sphere(10, 192).translate((0, 0, 10)), layer=0.1, limit=limit)
            cap = math.pi * 100 * math.cos(math.radians(limit)) ** 2
            self.assertAlmostEqual(area(bench) / cap, 1, delta=0.06)
            (patch,) = bench.patches
            self.assertFalse(patch.flat)

    @settings(max_examples=20, deadline=None)
    @given(st.integers(4, 30), st.integers(4, 30), st.integers(4, 20))
    def test_a_shelf_by_its_sides(self, long, wide, high):
        # On one wall: its bridge to nothing, so that all of it hangs.
        bench = Bench(box(4, wide, high + 3) + box(long, wide, 3, (4, 0, high)))
        self.assertAlmostEqual(area(bench), long * wide, delta=0.01)

    def test_what_is_too_small_is_left_out(self):
        body = box(10, 10, 30) + box(2, 2, 3, (10, 0, 12)) + box(10, 10, 3, (10, 0, 27))
        every, large = Bench(body, smallest_mm2=3.0), Bench(body, smallest_mm2=5.0)
        self.assertAlmostEqual(area(every) - area(large), 4.0, delta=0.01)


class ProposalTest(unittest.TestCase):
    """Common practice: lines below what is broad and flat, trees below what is not, a post for a spot."""

    def proposed(self, body, **options):
        bench = Bench(body, **options)
        return [proposed_style(patch) for patch in bench.patches]

    def test_by_shape(self):
        legs = [box(8, 8, 34), box(8, 8, 3, (8, 0, 31))]  # 64 mm2, flat and high
        small = [box(8, 4, 34), box(6, 4, 3, (8, 0, 31))]  # 24 mm2
        cases = {
            "broad": (table(), Style.LINES, "broad and flat"),
            "just broad": (legs[0] + legs[1], Style.LINES, "broad and flat"),
            "small": (small[0] + small[1], Style.TREE, "small: "),
            "round": (sphere(12, 96).translate((0, 0, 12)) + box(3, 3, 1, (-1.5, -1.5, 0)), None, ""),
            "low": (box(8, 4, 5) + box(6, 4, 3, (8, 0, 2)), Style.LINES, "low"),
        }
        for name, (body, style, why) in cases.items():
            with self.subTest(name):
                ((found, words),) = self.proposed(body)
                if style is None:
                    self.assertIn(found, (Style.TREE, Style.LINES))
                    continue
                self.assertEqual(found, style)
                self.assertTrue(words.startswith(why), words)

    def test_a_high_ball_is_rounded(self):
        ball = Manifold.sphere(12, 96).translate((0, 0, 40)) + box(3, 3, 40, (-1.5, -1.5, 0))
        ((style, words),) = self.proposed(ball)
        self.assertEqual((style, words), (Style.TREE, "rounded: branches touch little and use little"))

    def test_spots_get_a_post(self):
        found = [style for style, _ in self.proposed(box(20, 8, 30) + box(2, 2, 10, (20, 0, 15)))]
        self.assertEqual(found, [Style.PILLAR])


class GapTest(unittest.TestCase):
    """Gaps are whole layers: what is asked for is the least, and a bit of rounding makes no layer more."""

    def test_layers_of_a_gap(self):
        for gap, layer, layers in (
            (0.0, 0.2, 0),
            (0.1, 0.2, 1),
            (0.2, 0.2, 1),
            (0.25, 0.2, 2),
            (0.3, 0.1, 3),
            (0.6, 0.2, 3),
        ):
            with self.subTest(gap=gap, layer=layer):
                asked = replace(USUAL, gap_mm=gap)
                self.assertEqual(asked.gap_layers(layer), layers)
                # As above where nothing else is said for below; one layer of support has to fit between.
                self.assertEqual(asked.gap_below_layers(layer), layers)
                self.assertEqual(asked.least_layers(layer), 2 * layers + 2)
        apart = replace(USUAL, gap_mm=0.2, gap_below_mm=0.0)
        self.assertEqual((apart.gap_layers(0.2), apart.gap_below_layers(0.2)), (1, 0))

    @settings(max_examples=100)
    @given(st.floats(0.01, 2.0), st.floats(0.04, 0.6))
    def test_no_less_than_asked_and_no_layer_more(self, gap, layer):
        layers = replace(USUAL, gap_mm=gap).gap_layers(layer)
        self.assertGreaterEqual(layers * layer, gap - 1e-5)
        self.assertLess((layers - 1) * layer, gap)


class HoldTest(unittest.TestCase):
    def marks(self, fine):
        """The roof of the comb painted from its middle on."""
        roof = (np.abs(fine.middles_mm[:, 2] - 20) < 1e-6) & (fine.middles_mm[:, 0] > 50)
        return painted(blank(fine), np.flatnonzero(roof), Mark.PROP)

    def test_everything_only_islands_and_only_what_is_painted(self):
        every, islands, paint = (
            Bench(comb(), marks=self.marks, hold=hold) for hold in (Hold.ALL, Hold.ISLANDS, Hold.PAINTED)
        )
        self.assertGreater(area(every), area(islands))
        self.assertGreater(area(islands), area(paint))
        # Two legs of 5 x 5 begin in mid-air; the roof is painted over 10 x 20.
        reasons = {name for bench in (islands,) for patch in bench.patches for name in patch.reasons}
        self.assertTrue({"island 1", "island 2"} <= reasons, reasons)
        self.assertAlmostEqual(area(paint), 10 * 20, delta=6)
        self.assertAlmostEqual(area(islands), 2 * 25 + 10 * 20, delta=6)


if __name__ == "__main__":
    unittest.main()

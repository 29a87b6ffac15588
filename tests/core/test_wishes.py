"""What marks and bridges change in the demand, layers put together again, and the pull of the film: closed forms."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import CrossSection, Manifold

from tests.support import box, mesh_of, portal, torus
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.hanging.overhang_regions import hanging_regions
from upright_heron.core.layers.peel import outlines_mm, peel_curve
from upright_heron.core.layers.stack import pack, slice_solid, spliced
from upright_heron.core.machines.catalogue import Peel
from upright_heron.core.marking.mark import Mark
from upright_heron.core.marking.marks import blank, painted
from upright_heron.core.supports.demand.demand_overrides import BESIDE_MM, Wishes, spread_tips, wishes


def total(plans):
    """Area of plans of all layers, mm2."""
    return sum(plan.area() for plan in plans.values())


class BridgeTest(unittest.TestCase):
    """A doorway of 20 x 15 under a ceiling at 20 mm, which spans 20 mm between two walls."""

    @classmethod
    def setUpClass(cls):
        cls.mesh = mesh_of(portal())
        cls.stack = slice_solid(Solid(portal()), 0.2)
        cls.regions = hanging_regions(cls.mesh, 45.0)
        cls.fine = refined(cls.mesh)
        cls.under = np.abs(cls.fine.middles_mm[:, 2] - 20) < 1e-6

    def wished(self, bridge_mm, chosen=None, mark=Mark.PROP):
        coat = None
        if chosen is not None:
            marks = painted(blank(self.fine), np.flatnonzero(chosen), mark)
            coat = (self.fine.mesh, self.fine.parent, marks)
        return wishes(self.stack, self.mesh, self.regions, bridge_mm, coat)

    def test_it_is_left_out_where_the_material_spans_it(self):
        for bridge_mm, carried in ((19.0, False), (21.0, True)):
            found = self.wished(bridge_mm)
            self.assertEqual((found.added, found.propped, found.kept_clear), ({}, frozenset(), frozenset()))
            if not carried:
                self.assertEqual(found.left_out, {})
                continue
            (plan,) = found.left_out.values()
            # A little beyond its outline (Steiner): A + P d + pi d^2, corners drawn with few segments.
            area = 300 + 70 * BESIDE_MM + math.pi * BESIDE_MM**2
            self.assertLessEqual(plan.area(), area)
            self.assertGreater(plan.area(), area - (math.pi - 1.9) * BESIDE_MM**2)
            self.assertEqual(list(found.left_out), [100], "the layer that begins on it")

    def test_painted_it_is_held_all_the_same(self):
        found = self.wished(21.0, self.under)
        self.assertAlmostEqual(total(found.added), 300, places=3)
        self.assertEqual((found.propped, list(found.added)), ({self.regions[0].number}, [100]))

    def test_half_of_it_kept_clear_is_not_all_of_it(self):
        half = self.under & (self.fine.middles_mm[:, 0] < 20)
        share = float(self.fine.areas_mm2[half].sum())
        some, every = self.wished(10.0, half, Mark.KEEP_CLEAR), self.wished(10.0, self.under, Mark.KEEP_CLEAR)
        self.assertEqual((some.kept_clear, every.kept_clear), (frozenset(), {self.regions[0].number}))
        self.assertGreaterEqual(total(some.left_out), share)
        demand = [None] * len(self.stack)
        demand[100] = CrossSection.square((20, 15)).translate((10, 0))
        some.leave_out(demand)
        # What is left is the other half, less what reaches beside the paint along its jagged edge.
        self.assertLess(demand[100].area(), 300 - share)
        self.assertGreater(demand[100].area(), 300 - share - 30)
        every.leave_out(demand)
        self.assertIsNone(demand[100])

    def test_walls_have_no_footprint(self):
        walls = np.abs(self.fine.normals[:, 2]) < 0.01
        found = self.wished(10.0, walls)
        self.assertEqual((found.added, found.propped), ({}, frozenset()))

    def test_nothing_wished_changes_nothing(self):
        plan = CrossSection.square((3, 3))
        demand = [None, plan]
        Wishes().leave_out(demand)
        self.assertEqual(demand, [None, plan])


class SpreadTest(unittest.TestCase):
    @settings(max_examples=30, deadline=None)
    @given(st.floats(1.5, 8.0), st.floats(0, 40), st.floats(0, 30), st.floats(1, 25))
    def test_a_spacing_apart_and_everywhere_in_the_paint(self, spacing, x, y, radius):
        fine = refined(mesh_of(box(40, 30, 5, (0, 0, 20))))
        near = np.hypot(*(fine.middles_mm[:, :2] - [x, y]).T) < radius
        marks = painted(blank(fine), np.flatnonzero(near), Mark.PROP)
        tips = np.array(spread_tips(fine.mesh, marks, spacing, 0.5)).reshape(-1, 3)
        under = near & (np.abs(fine.middles_mm[:, 2] - 20) < 1e-6)
        self.assertEqual(len(tips) > 0, bool(under.any()))
        if not len(tips):
            return
        np.testing.assert_allclose(tips[:, 2], 20)
        between = np.linalg.norm(tips[:, None] - tips[None], axis=2) + 1e9 * np.eye(len(tips))
        self.assertGreater(float(between.min()), spacing)
        away = np.linalg.norm(fine.middles_mm[under][:, None] - tips[None], axis=2)
        self.assertLessEqual(float(away.min(axis=1).max()), spacing + 1e-9)
        # Lower ones print against the plate.
        self.assertEqual(spread_tips(fine.mesh, marks, spacing, 20.5), [])


class PeelTest(unittest.TestCase):
    """Outline and area of layers by closed forms; the pull is a sum of both, in newtons nobody measured."""

    def test_outlines(self):
        # A torus lying flat, cut at height z: two circles, 2 pi (R + s) + 2 pi (R - s) = 4 pi R.
        stack = slice_solid(Solid(torus(20, 5).translate((0, 0, 5))), 0.2)
        np.testing.assert_allclose(outlines_mm(stack), 4 * math.pi * 20, rtol=1e-3)
        # A box with a bore: its rim counts as well.
        bored = box(30, 20, 10) - Manifold.cylinder(12, 5, 5, 256).translate((15, 10, -1))
        found = outlines_mm(slice_solid(Solid(bored), 0.2))
        np.testing.assert_allclose(found, 100 + 2 * math.pi * 5, rtol=1e-4)

    def test_outlines_agree_with_shapely(self):
        import shapely

        stack = slice_solid(Solid(portal() + torus(12, 3).translate((20, 7, 33))), 0.4)
        shapes = [
            shapely.MultiLineString([shapely.LinearRing(ring) for ring in stack.rings(k)])
            for k in range(len(stack))
        ]
        np.testing.assert_allclose(outlines_mm(stack), [s.length for s in shapes], rtol=1e-12)

    @settings(max_examples=20, deadline=None)
    @given(st.floats(5, 40), st.floats(5, 40), st.floats(1.1, 3.0))
    def test_the_pull_grows_with_area_and_outline(self, a, b, scale):
        def pull(x, y, peel=Peel.USUAL):
            return float(peel_curve(slice_solid(Solid(box(x, y, 1)), 0.5), peel)[0])

        # Both terms of a rectangle come out of two sizes: p A + q P at 1 and p s^2 A + q s P at s.
        one, other = pull(a, b), pull(scale * a, scale * b)
        by_area = (other - scale * one) / (scale**2 - scale) / (a * b)
        by_outline = (one - by_area * a * b) / (2 * (a + b))
        again = by_area * 7 * 9 + by_outline * 32
        self.assertAlmostEqual(pull(7, 9) / again, 1, places=5)
        self.assertLess(pull(a, b, Peel.EASY), one)
        self.assertGreater(pull(a, b, Peel.HARD), one)


class SplicedTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.integers(0, 3), min_size=1, max_size=12), st.data())
    def test_layers_put_together_again_are_those_packed_whole(self, counts, data):
        def rings(layer, count, turn):
            return [np.array([[0, 0], [1 + layer, 0], [0, 1 + turn]], float) + 10 * k for k in range(count)]

        old = [rings(k, n, 0) for k, n in enumerate(counts)]
        stack = pack(old, [float(k) for k in range(len(old))], 0.2, 0.0)
        some = data.draw(st.sets(st.integers(0, len(counts) - 1)))
        new = {k: (rings(k, data.draw(st.integers(0, 3)), 1 + k), 100.0 + k) for k in some}
        found = spliced(stack, new)
        whole = pack(
            [new[k][0] if k in new else old[k] for k in range(len(old))],
            [new[k][1] if k in new else float(k) for k in range(len(old))],
            0.2,
            0.0,
        )
        for name in ("points", "ring_start", "layer_start", "area_mm2"):
            np.testing.assert_array_equal(getattr(found, name), getattr(whole, name))
        # The one it came from is as it was.
        self.assertEqual([len(stack.rings(k)) for k in range(len(old))], counts)


if __name__ == "__main__":
    unittest.main()

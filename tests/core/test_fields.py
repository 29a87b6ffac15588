"""Plans on a raster of distances against exact polygons of shapely."""

import unittest

import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import Polygon, affinity

from upright_heron.core.geometry.fields import Field
from upright_heron.core.layers.stack import packed as as_rings

PIXEL = 0.2


def rings_of(shape):
    """Rings of a shapely shape, outer ones counter-clockwise and holes clockwise."""
    found = []
    for part in shapely.get_parts(shape):
        part = shapely.geometry.polygon.orient(part)
        found += [np.array(r.coords)[:-1] for r in (part.exterior, *part.interiors)]
    return found


def packed(shape):
    return as_rings(rings_of(shape))


def shape_of(field, smooth=0.0):
    found = Polygon()
    for ring in field.outlines(smooth):
        found = found.symmetric_difference(Polygon(ring).buffer(0))
    return found


def field():
    return Field((-20, -20), (20, 20), PIXEL, 0.6)


def star(corners, turn):
    angles = turn + np.linspace(0, 2 * np.pi, 2 * corners, endpoint=False)
    radius = np.where(np.arange(2 * corners) % 2, 14, 8)
    return Polygon(np.column_stack([radius * np.cos(angles), radius * np.sin(angles)]))


class OutlineTest(unittest.TestCase):
    def test_straight_edges_and_corners_come_back_where_they_were(self):
        for turn in (0, 10, 45, 77):
            body = affinity.rotate(shapely.box(-8.03, -3.1, 9.07, 6.66), turn)
            body = body.difference(affinity.rotate(shapely.box(-2, -1, 3.3, 2.2), turn))
            f = field()
            f.join(packed(body))
            found = f.outlines(0.02)
            self.assertLessEqual(max(len(ring) for ring in found), 8)
            self.assertLess(shape_of(f, 0.02).symmetric_difference(body).area, 0.002 * body.length)
            self.assertLess(shape_of(f, 0.02).hausdorff_distance(body), 0.4 * PIXEL)

    def test_a_circle_keeps_its_area(self):
        circle = shapely.Point(0.3, 0.1).buffer(9.3, quad_segs=100)
        f = field()
        f.join(packed(circle))
        self.assertAlmostEqual(shape_of(f).area / circle.area, 1, delta=5e-4)

    def test_growth_is_that_of_parallel_curves(self):
        # Steiner: a convex shape grown by d gains perimeter x d + pi d^2, with round corners.
        f = field()
        f.join(packed(shapely.box(-15, -15, 15, 15)))
        f.cut(packed(shapely.box(-4, -3, 4, 3)), 0.5)
        self.assertAlmostEqual(900 - shape_of(f).area, 48 + 28 * 0.5 + np.pi * 0.25, delta=0.1)

    def test_outlines_are_wound_and_small_ones_left_out(self):
        f = field()
        f.join(packed(shapely.box(-15, -15, 15, 15)))
        f.cut(packed(shapely.box(0, 0, 0.6, 0.6)))
        f.cut(packed(shapely.box(5, 5, 8, 8)))
        areas = sorted(_area(ring) for ring in f.outlines(0.01))
        np.testing.assert_allclose(areas, [-9.0, -0.36, 900.0], atol=0.05)
        self.assertEqual(len(f.outlines(0.01, smallest_hole_mm2=1.0)), 2)
        self.assertEqual(len(f.outlines(0.01, smallest_mm2=1000.0)), 2)

    def test_an_empty_field_has_no_outline(self):
        f = field()
        self.assertEqual(f.outlines(0.1), [])
        f.join(as_rings([]))
        f.cut(as_rings([]))
        self.assertEqual(f.outlines(0.1), [])


def _area(ring):
    x, y = ring.T
    return float(0.5 * np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))


class StripTest(unittest.TestCase):
    """A slope comes as strips narrower than a pixel, cut and joined in turn from the top down."""

    def strips(self, width, count, turn=0.0):
        return [
            affinity.rotate(shapely.box(-10, -10 + k * width, 10, -10 + (k + 1) * width), turn, origin=(0, 0))
            for k in range(count)
        ]

    def test_strips_side_by_side_are_one(self):
        for width in (0.03, 0.11, 0.19, 0.3):
            for turn in (0, 33):
                parts = self.strips(width, 40, turn)
                f, above = field(), as_rings([])
                for k in range(len(parts) - 1, -1, -1):
                    # The layer below reaches up to the strip; it is cut away, as the part would be.
                    body = affinity.rotate(shapely.box(-10, -18, 10, -10 + k * width), turn, origin=(0, 0))
                    strip = packed(parts[k])
                    f.join(strip, beside=above, into=packed(body))
                    f.cut(packed(body))
                    above = strip
                    whole = shapely.union_all(parts[k:])
                    if k % 8 == 0 and 20 * (len(parts) - k) * width > 20:
                        apart = shape_of(f).symmetric_difference(whole).area
                        self.assertLess(apart, 0.25, f"{k} strips of {width} below, turned {turn}")

    def test_what_lies_apart_stays_apart(self):
        f = field()
        f.join(packed(shapely.box(-10, -10, 10, -1)))
        f.join(packed(shapely.box(-10, -0.4, 10, 9)), beside=packed(shapely.box(-10, -10, 10, -1)))
        self.assertEqual(len(f.outlines(0.01)), 2)


class ThinTest(unittest.TestCase):
    def test_thin_bits_go_and_the_rest_keeps_its_shape(self):
        body = shapely.box(-10, -10, 10, 0).union(shapely.box(3, -1, 3.15, 9))
        f = field()
        f.join(packed(body))
        f.drop_thin(0.4)
        self.assertLess(shape_of(f).symmetric_difference(shapely.box(-10, -10, 10, 0)).area, 0.1)

    def test_clefts_are_closed(self):
        f = field()
        f.join(packed(shapely.box(-10, -10, 0, 10)))
        f.join(packed(shapely.box(0.15, -10, 10, 10)))
        f.close_thin(0.4)
        self.assertEqual(len(f.outlines(0.01)), 1)
        self.assertAlmostEqual(shape_of(f).area, 400, delta=0.5)


class WindowTest(unittest.TestCase):
    def test_a_cut_in_windows_is_the_cut_all_over_seen_through_them(self):
        dice = np.random.default_rng(3)
        body = shapely.box(-18, -18, 18, 18)
        for k in range(60):
            f, whole, part = field(), field(), field()
            f.join(packed(body))
            for one in (whole, part):
                one.join(packed(body))
            # Long edges, and such as lie wholly beside a window.
            round_one = shapely.Point(0, 0).buffer(11, quad_segs=60)
            shape = affinity.translate(round_one if k % 2 else star(5, 0.2 * k), *dice.uniform(-6, 6, 2))
            grow = float(dice.uniform(0, 1.5))
            corner, size = dice.uniform(-17, 10, 2), dice.uniform(0.5, 6, 2)
            windows = f.windows(np.concatenate([corner, corner + size])[None], 0.3)
            whole.cut(packed(shape), grow)
            part.cut(packed(shape), grow, windows)
            seen = np.zeros(part.values.shape, bool)
            for top, left, bottom, right in windows:
                seen[top:bottom, left:right] = True
            np.testing.assert_allclose(part.values[seen], whole.values[seen], atol=1e-5)
            np.testing.assert_array_equal(part.values[~seen], f.values[~seen])


class BooleanPropertyTest(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(
        st.lists(
            st.tuples(
                st.booleans(), st.integers(3, 6), st.floats(0, 3), st.floats(-6, 6), st.floats(0.2, 0.7)
            ),
            min_size=1,
            max_size=5,
        )
    )
    def test_joining_and_cutting_agree_with_polygons(self, steps):
        f, exact = field(), Polygon()
        for joined, corners, turn, shift, scale in steps:
            shape = affinity.translate(affinity.scale(star(corners, turn), scale, scale), shift, -shift / 2)
            if joined:
                f.join(packed(shape))
                exact = exact.union(shape)
            else:
                f.cut(packed(shape), 0.3)
                exact = exact.difference(shape.buffer(0.3, quad_segs=32))
        apart = shape_of(f).symmetric_difference(exact).area
        # A raster of 0.2 mm loses slivers and the tips of sharp corners, along the outline.
        self.assertLess(apart, 0.02 * exact.length + 0.2)


if __name__ == "__main__":
    unittest.main()

"""Where layers change, and that windows round that give what doing all again gives."""

import unittest

import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_fields import packed
from tests.support import box, sphere
from upright_heron.core.geometry.fields import Field
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.changes import Changes
from upright_heron.core.layers.stack import pack, slice_solid
from upright_heron.core.supports.demand.patches import by_layer
from upright_heron.core.supports.filament import columns
from upright_heron.core.supports.model import SupportSettings
from upright_heron.demo.shapes import SHAPES
from upright_heron.sheet.process import FilamentSupports
from upright_heron.work.alone import Alone

SQUARE = np.array([(0.0, 0), (4, 0), (4, 4), (0, 4)])


class ChangesTest(unittest.TestCase):
    def boxes(self, below, above):
        stack = pack([below, above], [1.0, 1.0], 0.2, 0.0)
        return Changes(stack).boxes(0, 1)

    def test_the_same_rings_in_another_order_and_begun_elsewhere_are_the_same(self):
        far = SQUARE + 10
        self.assertEqual(len(self.boxes([SQUARE, far], [np.roll(far, 2, axis=0), SQUARE])), 0)

    def test_only_the_stretch_that_moved(self):
        long = np.array([(0.0, 0), (50, 0), (100, 0), (100, 20), (50, 20), (0, 20)])
        bent = long.copy()
        bent[1] = (50, 3)
        found = self.boxes([long], [bent])
        low, high = found[:, :2].min(axis=0), found[:, 2:].max(axis=0)
        np.testing.assert_allclose([*low, *high], [0, 0, 100, 3])

    def test_a_ring_that_comes_or_goes(self):
        found = self.boxes([SQUARE], [SQUARE, SQUARE + (9, 0)])
        np.testing.assert_allclose(found, [[9, 0, 13, 4]])
        self.assertEqual(len(Changes(pack([[SQUARE]], [1.0], 0.2, 0.0)).boxes(0, -1)), 1)

    def test_rings_turned_round_are_another_shape(self):
        self.assertGreater(len(self.boxes([SQUARE], [SQUARE[::-1]])), 0)

    def test_upright_walls_change_nothing(self):
        stack = slice_solid(Solid(box(10, 10, 5) + box(4, 4, 9)), 0.5)
        changes = Changes(stack)
        self.assertEqual([k for k in range(1, len(stack)) if len(changes.boxes(k, k - 1))], [10])
        ball = Changes(slice_solid(Solid(sphere(5, 48)), 0.5))
        # The two layers about the middle are alike.
        moved = [k for k in range(1, 20) if len(ball.boxes(k, k - 1))]
        self.assertEqual(moved, [k for k in range(1, 20) if k != 10])


class PlacesTest(unittest.TestCase):
    """Boxes outside which two layers cover the same."""

    def places(self, below, above):
        return Changes(pack([below, above], [1.0, 1.0], 0.2, 0.0)).places(0, 1)

    def test_a_hole_that_closes_changes_its_middle(self):
        wide, hole = 30 * SQUARE, (20 * SQUARE + 10)[::-1]
        found = self.places([wide, hole, wide + 200], [wide, wide + 200])
        np.testing.assert_allclose(found, [[10, 10, 90, 90]])

    def test_what_lies_between_edges_that_moved_has_changed(self):
        # The sides of a slit run on, its ends close: nothing is near its middle.
        outer = np.array([(0.0, 0), (60, 0), (60, 9), (0, 9)])
        slit = np.array([(10.0, 4), (10, 5), (50, 5), (50, 4)])
        halves = [np.array([(0.0, 0), (60, 0), (60, 4), (50, 4), (10, 4), (0, 4)]),
                  np.array([(0.0, 5), (10, 5), (50, 5), (60, 5), (60, 9), (0, 9)])]  # fmt: skip
        far = [SQUARE + (100, k * 9) for k in range(6)]
        found = self.places([outer, slit, *far], [*halves, *far])
        for x, y in ((30, 4.5), (5, 4.5), (55, 4.5)):
            same = even_odd([outer, slit], x, y) == even_odd(halves, x, y)
            within = ((found[:, :2] <= (x, y)) & (found[:, 2:] >= (x, y))).all(axis=1).any()
            self.assertTrue(same or within, (x, y))
        self.assertLess(found[:, 2].max(), 99)

    def test_changes_far_apart_are_two_and_where_most_changed_it_is_everything(self):
        rest = [SQUARE + (20 * k, 50) for k in range(9)]
        found = self.places([SQUARE, *rest], [*rest, SQUARE + 200])
        np.testing.assert_allclose(np.sort(found[:, 0]), [0, 200])
        self.assertTrue(np.isinf(self.places([SQUARE], [SQUARE + 1])).all())

    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 12), st.integers(0, 12), st.integers(1, 6), st.integers(1, 6)),
                    min_size=1, max_size=7), st.integers(0, 6))  # fmt: skip
    def test_points_outside_are_as_they_were(self, rectangles, first):
        far = [SQUARE + (100 + 9 * k, 0) for k in range(30)]

        def rings(some):
            shape = shapely.union_all([shapely.box(x, y, x + w, y + h) for x, y, w, h in some])
            parts = shapely.get_parts(shapely.normalize(shape))
            return [np.array(ring.coords)[:-1] for p in parts for ring in (p.exterior, *p.interiors)]

        before, after = rings(rectangles), rings(rectangles[:first])
        found = self.places([*before, *far], [*after, *far])
        for x in np.arange(0.5, 18):
            for y in np.arange(0.5, 18):
                if even_odd(before, x, y) != even_odd(after, x, y):
                    inside = ((found[:, :2] <= (x, y)) & (found[:, 2:] >= (x, y))).all(axis=1)
                    self.assertTrue(inside.any(), (x, y))


def even_odd(rings, x, y):
    return sum(shapely.contains_xy(shapely.Polygon(ring), x, y) for ring in rings) % 2 == 1


class WindowsTest(unittest.TestCase):
    @settings(max_examples=20, deadline=None)
    @given(st.lists(st.tuples(*[st.floats(-18, 16)] * 2, *[st.floats(0.1, 8)] * 2), min_size=1, max_size=6))
    def test_windows_cover_their_boxes_and_do_not_overlap(self, rectangles):
        field = Field((-20, -20), (20, 20), 0.25, 0.6)
        boxes = np.array([(x, y, x + w, y + h) for x, y, w, h in rectangles])
        count = np.zeros(field.values.shape, int)
        for top, left, bottom, right in field.windows(boxes, 0.5):
            count[top:bottom, left:right] += 1
        self.assertLessEqual(count.max(), 1)
        for x0, y0, x1, y1 in boxes:
            a, b = ((np.array(p) - field.low) / 0.25 for p in ((x0, y0), (x1, y1)))
            inside = count[int(np.ceil(a[1])) : int(b[1]) + 1, int(np.ceil(a[0])) : int(b[0]) + 1]
            self.assertTrue((inside == 1).all())

    def test_a_cut_within_windows_is_a_cut(self):
        whole, part = (Field((-20, -20), (20, 20), 0.25, 0.6) for _ in range(2))
        hole = shapely.box(3, 4, 9, 7)
        for field, windows in ((whole, None), (part, part.windows(np.array([hole.bounds]), 2.0))):
            field.join(packed(shapely.box(-15, -15, 15, 15)))
            field.cut(packed(hole), 0.5, windows)
            field.drop_thin(0.4, windows)
        np.testing.assert_array_equal(whole.values, part.values)

    def test_columns_are_the_same_as_without_windows(self):
        alone = Alone(SHAPES["telescope-bracket"](), item={"supports": FilamentSupports()},
                      job={"layer_mm": 0.3, "limit_deg": 45})  # fmt: skip
        stack = alone.make("layers")
        demand = by_layer(list(alone.make("demand")), len(stack))
        found = columns.carried_down(stack, demand, SupportSettings(gap_below_mm=0.4))
        plain = Field.windows
        try:
            Field.windows = lambda self, boxes, margin: self.whole
            whole = columns.carried_down(stack, demand, SupportSettings(gap_below_mm=0.4))
        finally:
            Field.windows = plain
        self.assertEqual(
            [(r.low, r.high, len(r.rings)) for r in found], [(r.low, r.high, len(r.rings)) for r in whole]
        )
        for one, other in zip(found, whole, strict=True):
            for a, b in zip(one.rings, other.rings, strict=True):
                np.testing.assert_array_equal(a, b)


if __name__ == "__main__":
    unittest.main()

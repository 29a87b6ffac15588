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

"""Items set out on a plate: none over another, those that were put somewhere stay there."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from upright_heron.core.handoff.preflight import plate_checks
from upright_heron.core.plates.arrange import ROW_GAP_MM, Rectangle, in_rows
from upright_heron.core.recipes.plate import arranged, checks_of_plate
from upright_heron.core.recipes.settings import Instance, Layout
from upright_heron.core.recipes.values import Extent, Placed
from upright_heron.core.topics import Topic

sides = st.tuples(*[st.floats(1, 120)] * 2)
places = st.tuples(*[st.floats(-200, 200)] * 2)


def rectangle(size, at):
    return Rectangle(at, (at[0] + size[0], at[1] + size[1]))


class RowsTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(sides, places), min_size=1, max_size=12))
    def test_no_two_come_nearer_than_the_gap_and_all_are_about_the_middle(self, parts):
        boxes = [rectangle(*part) for part in parts]
        moved = [box.moved(*by) for box, by in zip(boxes, in_rows(boxes), strict=True)]
        for k, a in enumerate(moved):
            np.testing.assert_allclose(a.size_mm, boxes[k].size_mm, atol=1e-9)
            for b in moved[k + 1 :]:
                apart = max(max(a.low[i] - b.high[i], b.low[i] - a.high[i]) for i in (0, 1))
                self.assertGreaterEqual(apart, ROW_GAP_MM - 1e-9)
        low = np.min([box.low for box in moved], axis=0)
        high = np.max([box.high for box in moved], axis=0)
        np.testing.assert_allclose(low + high, 0, atol=1e-6)

    def test_swinging_a_rectangle(self):
        box = Rectangle((-10, -2), (20, 4))
        self.assertEqual(tuple(np.round(box.swung(90).low, 9)), (-4, -10))
        self.assertEqual(tuple(np.round(box.swung(180).high, 9)), (10, 2))
        half = Rectangle((-1, -1), (1, 1)).swung(45)
        np.testing.assert_allclose(half.high, (2**0.5, 2**0.5))


class PlateTest(unittest.TestCase):
    BUILD, SPOT = (200.0, 100.0, 150.0), (30.0, -10.0)

    def layout(self, *instances):
        items = tuple(dict.fromkeys(one.item for one in instances))
        return Layout(self.BUILD, self.SPOT, instances, items)

    def of(self, layout, *sizes):
        extents = tuple(Extent((-x / 2, -y / 2, 0.0), (x / 2, y / 2, 5.0)) for x, y in sizes)
        placed = tuple(Placed((x, y, 5.0)) for x, y in sizes)
        where = arranged(placed, extents, layout)
        return where.places, checks_of_plate(where, extents, layout)

    def test_one_stands_on_the_favourite_spot_or_as_near_as_there_is_room(self):
        (one,), checks = self.of(self.layout(Instance("a", None, None, 0.0, 1)), (20, 20))
        self.assertEqual((one.x_mm, one.y_mm, checks), (30, -10, ()))
        (one,), _ = self.of(self.layout(Instance("a", None, None, 0.0, 1)), (180, 96))
        self.assertEqual((one.x_mm, one.y_mm), (10, -2))

    def test_what_was_put_somewhere_stays_there_and_the_rest_is_arranged(self):
        layout = self.layout(
            Instance("a", 12.0, 7.0, 90.0, 1),
            Instance("b", None, None, 0.0, 1),
            Instance("b", None, None, 0.0, 2),
        )
        (a, b, c), _ = self.of(layout, (10, 10), (20, 20))
        self.assertEqual((a.x_mm, a.y_mm, a.swing_deg), (12, 7, 90))
        self.assertGreaterEqual(max(abs(b.x_mm - c.x_mm), abs(b.y_mm - c.y_mm)), 25 - 1e-9)

    def test_off_the_plate_and_over_each_other(self):
        layout = self.layout(Instance("a", 95.0, 0.0, 0.0, 1), Instance("b", 90.0, 3.0, 0.0, 1))
        _, checks = self.of(layout, (20, 10), (4, 4))
        self.assertEqual([(c.item, c.topic, c.weight) for c in checks], [
            ("a", Topic.HANDOFF, "wrong"), ("a", Topic.HANDOFF, "doubtful"),
        ])  # fmt: skip
        self.assertIn("5.0 mm past the edge", checks[0].text)
        # Swung by a quarter it is narrow enough; touching is not crossing.
        layout = self.layout(Instance("a", 95.0, 0.0, 90.0, 1), Instance("b", 88.0, 0.0, 0.0, 1))
        self.assertEqual(self.of(layout, (20, 10), (4, 4))[1], ())

    def test_a_part_larger_than_the_plate_is_told_elsewhere(self):
        box = Rectangle((-150, -10), (150, 10))
        self.assertEqual(plate_checks(["a"], [box], self.BUILD), [])


if __name__ == "__main__":
    unittest.main()

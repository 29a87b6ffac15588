"""Items set out on a plate: none over another, those that were put somewhere stay there."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import CrossSection, Manifold

from upright_heron.core.footing.footing import Footing
from upright_heron.core.geometry.plan_hull import plan_hull
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.handoff.preflight import Place, Stood
from upright_heron.core.handoff.preflight_plate import plate_checks
from upright_heron.core.plates.arrange import ROW_GAP_MM, Rectangle, in_rows
from upright_heron.core.plates.extent import Extent, swing_that_fits
from upright_heron.core.plates.fit import fit_of
from upright_heron.core.plates.gaps import Lying
from upright_heron.core.plates.in_turn import Clearance
from upright_heron.core.plates.outline import Outline, Slice, of_plan
from upright_heron.core.recipes.plate import arranged, checks_of_plate, extent
from upright_heron.core.recipes.settings import Instance, Layout
from upright_heron.core.topics import Topic

sides = st.tuples(*[st.floats(1, 120)] * 2)
places = st.tuples(*[st.floats(-200, 200)] * 2)


NONE = np.zeros((0, 2))


def rectangle(size, at):
    return Rectangle(at, (at[0] + size[0], at[1] + size[1]))


def corners(x, y):
    return np.array([(-x, -y), (x, -y), (x, y), (-x, y)]) / 2


def printed(part, supports=NONE, footing=NONE, high=5.0):
    every = np.concatenate([np.asarray(p, float) for p in (part, supports, footing)])
    (a, b), (c, d) = every.min(axis=0), every.max(axis=0)
    return Extent((a, b, 0.0), (c, d, high), np.asarray(part, float), supports, footing)


def plan(x, y, high=5.0):
    return of_plan(CrossSection.square((x, y)).translate((-x / 2, -y / 2)), high)


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
        box = printed([(-10, -2), (20, 4)])
        self.assertEqual(tuple(np.round(box.box(90).low, 9)), (-4, -10))
        self.assertEqual(tuple(np.round(box.box(180).high, 9)), (10, 2))
        half = printed([(-1, -1), (1, 1), (-1, 1), (1, -1)]).box(45)
        np.testing.assert_allclose(half.high, (2**0.5, 2**0.5))

    def test_what_is_round_needs_no_more_room_swung(self):
        angles = np.radians(np.arange(0, 360, 2))
        disc = printed(10 * np.column_stack([np.cos(angles), np.sin(angles)]))
        np.testing.assert_allclose(disc.box(45).high, (10, 10), atol=0.01)


class PlateTest(unittest.TestCase):
    BUILD, SPOT = (200.0, 100.0, 150.0), (30.0, -10.0)

    def layout(self, *instances):
        items = tuple(dict.fromkeys(one.item for one in instances))
        return Layout(self.BUILD, self.SPOT, instances, items, 3.0)

    def of(self, layout, *sizes):
        extents = tuple(printed(corners(x, y)) for x, y in sizes)
        where = arranged(extents, layout)
        return where.places, checks_of_plate(where, extents, tuple(plan(*size) for size in sizes), layout)

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
            ("a", Topic.HANDOFF, "wrong"), ("a", Topic.HANDOFF, "wrong"),
        ])  # fmt: skip
        self.assertIn("5.0 mm past the edge", checks[0].text)
        self.assertEqual(checks[1].text, "It crosses another on the plate.")
        # Swung by a quarter it is narrow enough; touching is not crossing, but nearer than the gap.
        for x, said in ((88.0, "0.0 mm"), (86.5, "1.5 mm"), (85.0, "")):
            layout = self.layout(Instance("a", 95.0, 0.0, 90.0, 1), Instance("b", x, 0.0, 0.0, 1))
            told = self.of(layout, (20, 10), (4, 4))[1]
            self.assertEqual([c.weight for c in told], ["doubtful"] if said else [])
            self.assertTrue(not said or f"It stands {said} from another" in told[0].text)

    def test_a_bay_may_hold_another_and_heights_that_do_not_meet_are_told_apart(self):
        bay = of_plan(CrossSection.square((40, 40)) - CrossSection.square((30, 30)).translate((5, 10)), 20)
        small = plan(10, 10)
        box = printed(corners(40, 40) + 20), printed(corners(10, 10))

        def told(outlines, x, y):
            layout = self.layout(Instance("a", 0.0, 0.0, 0.0, 1), Instance("b", x, y, 0.0, 1))
            where = arranged(box, layout)
            return [(c.weight, c.text) for c in checks_of_plate(where, box, outlines, layout)]

        self.assertEqual(told((bay, small), 20.0, 25.0), [])
        self.assertEqual(told((bay, small), 20.0, 12.0)[0][0], "wrong")
        # A shelf from 10 mm up over something that ends at 5.
        shelf = Outline(
            bay.points, bay.ring_start, 20.0,
            (Slice(0.0, 10.0, plan(2, 2).points, plan(2, 2).ring_start), Slice(10.0, 20.0, bay.points, bay.ring_start)),
        )  # fmt: skip
        self.assertEqual(told((shelf, small), 20.0, 12.0)[0][0], "doubtful")
        self.assertIn("they share no height", told((shelf, small), 20.0, 12.0)[0][1])
        high = of_plan(small.section, 10.5)
        self.assertEqual(told((shelf, high), 20.0, 12.0)[0][0], "wrong")

    def test_printed_in_turn_the_head_and_the_rail_need_room(self):
        head_and_rail = Clearance(30.0, 40.0)

        def told(gap, *highs, needs=head_and_rail):
            stood, lying, x = [], [], 0.0
            for high in highs:
                one = of_plan(plan(20, 20).section, high)
                stood.append(Stood(f"{high:g}", printed(corners(20, 20), high=high), x, 0.0, 0.0))
                lying.append(Lying(one, x, 0.0, 0.0))
                x += 20.0 + gap
            found = plate_checks(stood, (900.0, 200.0, 300.0), lying, 2.0, (), needs)
            return [(check.weight.value, check.item, check.text) for check in found]

        self.assertEqual(told(30.0, 20.0, 40.0, 300.0), [])
        ((weight, _, text),) = told(29.0, 20.0, 40.0)
        self.assertEqual(weight, "wrong")
        self.assertIn("2 stand as near as 29.0 mm to each other; printed in turn, the head needs 30 mm", text)
        # Only what is printed last may be higher than the rail.
        ((weight, _, text),) = told(30.0, 60.0, 20.0, 41.0)
        self.assertEqual(weight, "wrong")
        self.assertIn("One is higher than 40 mm and others follow", text)
        self.assertIn("2 are higher", told(30.0, 60.0, 50.0, 41.0)[0][2])
        # By itself, or all at once, neither counts.
        self.assertEqual(told(1.0, 290.0), [])
        self.assertNotIn("wrong", [weight for weight, *_ in told(5.0, 60.0, 90.0, needs=None)])

    def test_a_part_larger_than_the_plate_is_told_elsewhere(self):
        long = printed(corners(300, 20))
        self.assertEqual(plate_checks([Stood("a", long, 0, 0, 0)], self.BUILD, []), [])
        self.assertIsNone(fit_of(long, self.BUILD).swing_deg)


class EdgeTest(unittest.TestCase):
    """What prints past the edge of the plate vanishes: supports and footing count with the part."""

    BUILD = (200.0, 100.0, 150.0)

    def check(self, extent, x=0.0, y=0.0, swing=0.0):
        return plate_checks([Stood("a", extent, x, y, swing)], self.BUILD, [])

    def test_the_footing_alone_is_past_the_edge_and_a_move_brings_it_back(self):
        brim = printed(corners(60, 40), footing=corners(70, 50))
        self.assertEqual(self.check(brim, 65.0, 25.0), [])
        (found,) = self.check(brim, 68.0, -28.0)
        self.assertEqual(found.text, "Its footing reaches 3.0 mm past the edge of the plate.")
        self.assertEqual(found.mend, "Move it 3.0 mm along x and 3.0 mm along y.")
        self.assertEqual(found.place, Place(65.0, -25.0, 0.0))
        self.assertEqual(self.check(brim, found.place.x_mm, found.place.y_mm), [])
        (found,) = self.check(printed(corners(60, 40), supports=corners(70, 30)), -70.0)
        self.assertEqual(found.text, "Its supports reach 5.0 mm past the edge of the plate.")
        (found,) = self.check(printed(corners(60, 40), corners(62, 40), corners(70, 30)), -75.0)
        self.assertIn("The part and its supports and its footing reach 10.0 mm", found.text)

    def test_a_swing_that_makes_it_fit_is_the_smallest_and_is_offered(self):
        # 196 by 4 with a rim of 4: 204 by 12 does not lie along x, swung by some degrees it does.
        bar = printed(corners(196, 4), footing=corners(204, 12))
        found = fit_of(bar, self.BUILD)
        self.assertEqual((found.fits, round(found.spare_mm[0], 6)), (False, -4.0))
        swing = swing_that_fits(bar.corners, self.BUILD[:2])
        self.assertEqual(swing, found.swing_deg)
        self.assertIsNotNone(swing)

        def needs(degrees):
            t = np.radians(degrees)
            return (204 * np.cos(t) + 12 * np.sin(t), 204 * np.sin(t) + 12 * np.cos(t))

        fits = [d for d in range(91) if needs(d)[0] <= 200 and needs(d)[1] <= 100]
        self.assertEqual(swing, fits[0])
        (told,) = self.check(bar)
        self.assertEqual(told.place, Place(None, None, swing))
        self.assertEqual(self.check(bar, swing=swing), [])

    def test_height_counts_from_the_plate_and_no_swing_mends_it(self):
        high = fit_of(printed(corners(10, 10), high=151.0), self.BUILD)
        self.assertEqual((high.fits, high.swing_deg, high.over), (False, None, [("z", 1.0)]))

    def test_what_is_arranged_goes_off_the_spot_for_its_brim(self):
        one = Instance("a", None, None, 0.0, 1)
        layout = Layout(self.BUILD, (90.0, 40.0), (one,), ("a",))
        (place,) = arranged((printed(corners(20, 10), footing=corners(30, 20)),), layout).places
        self.assertEqual((place.x_mm, place.y_mm), (85.0, 40.0))
        two = (one, Instance("b", None, None, 0.0, 1))
        both = arranged((printed(corners(80, 80)), printed(corners(80, 80))),
                        Layout(self.BUILD, (90.0, 40.0), two, ("a", "b")))  # fmt: skip
        self.assertEqual(checks_of_plate(both, (printed(corners(80, 80)),) * 2, (plan(80, 80),) * 2,
                                         Layout(self.BUILD, (0, 0), two, ("a", "b"))), ())  # fmt: skip

    def test_the_hull_of_what_is_printed_is_that_of_all_its_layers(self):
        mesh = Solid(Manifold.cube((30, 10, 8)).translate((-15, -5, 0))).mesh()
        rim = Footing(CrossSection.square((40, 20)).translate((-20, -10)), 5, 0.2, 1.25)
        found = extent(mesh, None, rim)
        self.assertEqual((found.low_mm, found.high_mm), ((-20, -10, 0), (20, 10, 9.25)))
        self.assertEqual(len(found.part), 4)
        line = np.array([(0.0, 0), (1, 1), (2, 2), (3, 3), (4, 4)])
        self.assertEqual(sorted(map(tuple, plan_hull(line))), [(0, 0), (4, 4)])
        upright = np.array([(1.0, 0), (1, 5), (1, 2), (1, 3)])
        self.assertEqual(sorted(map(tuple, plan_hull(upright))), [(1, 0), (1, 5)])


if __name__ == "__main__":
    unittest.main()

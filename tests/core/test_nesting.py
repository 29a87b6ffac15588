"""Outlines laid on plates: gaps measured another way, known counts, locks, worn places, and what does not fit."""

import unittest
from unittest import mock

import numpy as np
import shapely
import shapely.affinity
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import CrossSection

from tests.support import box, on_plate
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.plates import tighter
from upright_heron.core.plates.free_places import first_free, nearest_free, runs_of, scan_back, scan_rows
from upright_heron.core.plates.gaps import Lying, least_gap_mm, near_pairs, past_edge_mm, used_share
from upright_heron.core.plates.nesting import FREELY, QUARTERS, Laid, Lock, Room, nest, touched
from upright_heron.core.plates.outline import OUTLINE_MM, boxed, of_plan, outline_of
from upright_heron.core.plates.tighter import nest_tighter


def square(x, y, at=(0.0, 0.0)):
    return CrossSection.square((x, y)).translate(at)


def bracket(long, wide, thick):
    return square(long, thick) + square(thick, wide)


def true_shape(outline, laid):
    """An outline where it lies, made by another library from its rings alone."""
    rings = [shapely.Polygon(ring) for ring in outline.rings]
    shape = shapely.MultiPolygon()
    for ring in sorted(rings, key=lambda one: -one.area):
        shape = shape.symmetric_difference(ring)
    turned = shapely.affinity.rotate(shape, laid.swing_deg, origin=(0, 0))
    return shapely.affinity.translate(turned, laid.x_mm, laid.y_mm)


class NestCase(unittest.TestCase):
    def held(self, outlines, which, room, laid, spare=2 * OUTLINE_MM):
        """All lie within their plate, with their gap and what outlines are thinned by, pair by pair."""
        wide, deep = (side / 2 - room.edge_mm for side in room.plate_mm)
        plates = {}
        for one in laid:
            shape = true_shape(outlines[which[one.number]], one)
            x0, y0, x1, y1 = shape.bounds
            self.assertGreaterEqual(min(x0 + wide, y0 + deep, wide - x1, deep - y1), -1e-6)
            for x, y, radius in room.worn:
                self.assertGreaterEqual(shape.distance(shapely.Point(x, y)), radius - 1e-6)
            plates.setdefault(one.plate, []).append(shape)
        gaps = [a.distance(b) for some in plates.values() for k, a in enumerate(some) for b in some[k + 1 :]]
        self.assertGreaterEqual(min(gaps, default=np.inf), room.gap_mm + spare - 1e-9)
        return plates, min(gaps, default=None)


class NestTest(NestCase):
    def test_a_grid_of_rectangles(self):
        # 17.1: 40 by 30 with a gap of 5 on 250 by 210 are 5 by 6.
        outlines, which = [of_plan(square(40, 30), 5.0)], [0] * 31
        room = Room((250.0, 210.0), 5.0, turns=(0.0,))
        laid = nest(outlines, which, room)
        self.assertEqual([sum(one.plate == k for one in laid) for k in (0, 1, 2)], [30, 1, 0])
        self.held(outlines, which, room, laid)

    @settings(max_examples=25, deadline=None)
    @given(
        st.lists(st.tuples(*[st.floats(4, 60)] * 2, st.floats(1, 3)), min_size=1, max_size=5),
        st.integers(1, 5), st.floats(0, 8), st.floats(0, 10), st.booleans(),
    )  # fmt: skip
    def test_no_gap_is_violated_and_each_is_laid_once(self, sizes, copies, gap, edge, freely):
        outlines = [of_plan(bracket(x, y, min(x, y) / t), 5.0) for x, y, t in sizes]
        which = [k for k in range(len(outlines)) for _ in range(copies)]
        room = Room(
            (110.0, 90.0), gap, edge, (10.0, -5.0), ((-20.0, 15.0, 6.0),), FREELY if freely else QUARTERS
        )
        laid = nest(outlines, which, room)
        numbers = [one.number for one in laid]
        self.assertEqual(len(numbers), len(set(numbers)))
        for k in set(range(len(which))) - set(numbers):
            # Only what hardly fits an empty plate is left out.
            self.assertGreater(max(np.ptp(outlines[which[k]].points, axis=0)), 30)
        _, gap = self.held(outlines, which, room, laid)
        by_plate = [
            [o for o in laid if o.plate == k] for k in range(max((o.plate for o in laid), default=-1) + 1)
        ]
        self.assertTrue(all(by_plate))
        mine = [
            least_gap_mm([Lying(outlines[which[o.number]], o.x_mm, o.y_mm, o.swing_deg) for o in some])
            for some in by_plate
        ]
        known = [one for one in mine if one is not None]
        self.assertEqual(gap is None, not known)
        if known:
            self.assertAlmostEqual(min(known), gap, places=6)

    def test_angles_lie_in_each_other(self):
        # Two angles of 40 by 40 by 8 and their gap go into 60 by 60 only because one lies in the other's bay.
        outlines = [of_plan(bracket(40, 40, 8), 5.0)]
        self.assertEqual(len(nest(outlines, [0, 0], Room((60.0, 60.0), 3.0, turns=(0.0,)), plates=1)), 2)
        boxes = [boxed(one) for one in outlines]
        self.assertEqual(len(nest(boxes, [0, 0], Room((60.0, 60.0), 3.0, turns=(0.0,)), plates=1)), 1)

    def test_a_small_one_goes_into_the_hole_of_a_large_one(self):
        ring = of_plan(square(60, 60) - square(50, 50, (5, 5)), 5.0)
        outlines = [ring, of_plan(square(40, 40), 5.0)]
        room = Room((62.0, 62.0), 3.0)
        laid = nest(outlines, [0, 1], room)
        self.assertEqual([one.plate for one in laid], [0, 0])
        self.held(outlines, [0, 1], room, laid)

    def test_what_does_not_fill_a_plate_lies_about_the_spot(self):
        outlines = [of_plan(square(10, 10, (-5, -5)), 5.0)]
        room = Room((200.0, 200.0), 2.0, spot_mm=(40.0, -30.0))
        laid = nest(outlines, [0] * 5, room)
        away = [np.hypot(one.x_mm - 40, one.y_mm + 30) for one in laid]
        self.assertLess(min(away), 0.3)
        self.assertLess(max(away), 13.5)

    def test_what_is_locked_stays_and_the_rest_keeps_away(self):
        outlines = [of_plan(square(30, 10, (-15, -5)), 5.0)]
        which, room = [0] * 6, Room((100.0, 60.0), 4.0)
        locks = [
            Lock(Laid(2, 0, 11.3, -7.7, 33.0)),
            Lock(Laid(4, 1, 5.0, 12.0, 90.0), y=False, swing=False),
            Lock(Laid(5, 0, 10.0, -7.0, 0.0), x=False, y=True, swing=True),
        ]
        laid = nest(outlines, which, room, locks)
        by_number = {one.number: one for one in laid}
        self.assertEqual(sorted(by_number), list(range(6)))
        self.assertEqual(by_number[2], Laid(2, 0, 11.3, -7.7, 33.0))
        self.assertEqual((by_number[4].plate, by_number[4].x_mm), (1, 5.0))
        self.assertEqual((by_number[5].plate, by_number[5].y_mm, by_number[5].swing_deg), (0, -7.0, 0.0))
        # Along a locked axis it stays to the last digit, and keeps its gap.
        self.held(outlines, which, room, laid)

    def test_a_plate_bears_one_lone_part_and_fills_up_with_others(self):
        large, small = (of_plan(square(side, side), 5) for side in (40, 20))
        room, which = Room((100, 100), gap_mm=4), [0, 0, 0, 1, 1, 1]
        self.assertEqual({one.plate for one in nest([large, small], which, room)}, {0})
        for lay in (nest, nest_tighter):
            more = {"seconds": 1} if lay is nest_tighter else {}
            laid = lay([large, small], which, room, lone=(0, 2, 4), **more)
            self.held([large, small], which, room, laid)
            plates = {one.number: one.plate for one in laid}
            self.assertEqual(sorted(plates[k] for k in (0, 2, 4)), [0, 1, 2])
            self.assertEqual({plates[k] for k in (1, 3, 5)}, {0})
        # One that is locked there counts.
        lock = Lock(Laid(2, 0, 0, 0, 0))
        laid = nest([large, small], which, room, [lock], lone=(0, 2))
        plates = {one.number: one.plate for one in laid}
        self.assertEqual((plates[2], plates[0]), (0, 1))

    def test_what_has_a_lower_rank_is_laid_first_whatever_its_size(self):
        large, small = (of_plan(square(side, side), 5) for side in (60, 40))
        room, which = Room((100, 100), gap_mm=4), [0, 1, 1, 1, 1]
        for ranks, first in (([0, 0, 0, 0, 0], {0}), ([1, 0, 0, 0, 0], {1, 2, 3, 4}), ([0, 1, 1, 0, 1], {0})):
            with self.subTest(ranks):
                laid = nest([large, small], which, room, ranks=ranks)
                self.held([large, small], which, room, laid)
                self.assertEqual(len(laid), 5)
                self.assertEqual({one.number for one in laid if one.plate == 0}, first)

    def test_parts_that_are_swung_stay_so_but_for_turns(self):
        outlines = [of_plan(square(40, 10), 5.0)]
        for turns, seen in (((0.0,), {30.0}), (QUARTERS, {30.0, 120.0, 210.0, 300.0})):
            laid = nest(outlines, [0] * 9, Room((90.0, 90.0), 2.0, turns=turns), swings=[30.0] * 9)
            self.assertEqual(len(laid), 9)
            self.assertLessEqual({one.swing_deg for one in laid}, seen)
            self.held(outlines, [0] * 9, Room((90.0, 90.0), 2.0), laid)

    def test_what_is_too_large_is_left_out(self):
        outlines = [of_plan(square(120, 10), 5.0), of_plan(square(20, 10), 5.0)]
        self.assertEqual([one.number for one in nest(outlines, [0, 1], Room((100.0, 100.0)))], [1])
        self.assertEqual(nest(outlines, [0], Room((100.0, 100.0))), [])
        # 95 by 40 fits 60 by 100 by a quarter turn only.
        tall = [of_plan(square(95, 40), 5.0)]
        self.assertEqual(nest(tall, [0], Room((60.0, 100.0), turns=(0.0,))), [])
        self.assertEqual(nest(tall, [0], Room((60.0, 100.0), turns=QUARTERS))[0].swing_deg % 180, 90)

    def test_no_packing_beats_the_densest(self):
        # 17.3: discs cover no more than pi / sqrt 12 of a plane (Thue; Fejes Toth), here with a plate's edges.
        disc = of_plan(CrossSection.circle(6.0, 96), 5.0)
        room = Room((120.0, 120.0), 0.0)
        laid = [one for one in nest([disc], [0] * 140, room) if one.plate == 0]
        lying = [Lying(disc, one.x_mm, one.y_mm, one.swing_deg) for one in laid]
        share = used_share(lying, room.plate_mm)
        self.assertLess(share, np.pi / np.sqrt(12))
        self.assertGreaterEqual(len(laid), 95)

    def test_a_tighter_way_lays_no_less_and_keeps_the_gap(self):
        outlines = [of_plan(CrossSection([[(0, 0), (46, 0), (0, 24)]]), 5.0)]
        which, room = [0] * 24, Room((120.0, 120.0), 3.0, turns=QUARTERS)
        plain = nest(outlines, which, room)
        tight = nest_tighter(outlines, which, room, seconds=4)
        self.assertEqual([one.number for one in tight], list(range(24)))
        self.held(outlines, which, room, tight)
        first, second = (sum(one.plate == 0 for one in some) for some in (plain, tight))
        self.assertGreater(second, first)
        # What has room on one plate lies closer together there.
        few = nest_tighter(outlines, [0] * 5, room, seconds=2)
        self.held(outlines, [0] * 5, room, few)

        def spread(laid):
            shapes = shapely.MultiPolygon([true_shape(outlines[0], one) for one in laid])
            return shapes.envelope.area

        loose = nest(outlines, [0] * 5, room)
        self.assertEqual({one.plate for one in few}, {0})
        self.assertLess(spread(few), spread(loose))
        # Where the library kept no gap, its answer is not taken.
        with mock.patch.object(tighter, "least_gap_mm", lambda lying: 2.9):
            self.assertEqual(nest_tighter(outlines, which, room, seconds=3), plain)


class PixelsTest(unittest.TestCase):
    def test_free_places_are_those_that_trying_every_one_finds(self):
        rng = np.random.default_rng(5)
        for k in range(60):
            # In every third nothing is free but what is not there, beside the raster.
            taken = rng.random((30, 40)) < (0.12 if k % 3 else 0.7)
            laid = rng.random((rng.integers(1, 7), rng.integers(1, 9))) < 0.6
            laid[0, 0] = laid[-1, -1] = True
            rows, columns = laid.shape
            free = np.array([
                [not (taken[r : r + rows, c : c + columns] & laid).any() for c in range(41 - columns)]
                for r in range(31 - rows)
            ])  # fmt: skip
            ahead, next_free, back = (np.zeros((30, 41), np.int32) for _ in range(3))
            scan_rows(taken, ahead, next_free, 0, 30)
            scan_back(taken, back, 0, 30)
            runs = runs_of(laid)
            self.assertEqual(int((runs[:, 2] - runs[:, 1]).sum()), int(laid.sum()))
            places = np.argwhere(free)
            first = tuple(places[0]) if len(places) else (-1, -1)
            self.assertEqual(first_free(ahead, next_free, runs, laid.shape, 0, 99, 0), first)
            spot = (float(rng.uniform(-5, 35)), float(rng.uniform(-5, 45)))
            anywhere = (0, 99, 0, 99)
            for window in (anywhere, (4, 9, 0, 99), (0, 99, 7, 7)):
                r0, r1, c0, c1 = window
                some = [p for p in places if r0 <= p[0] <= r1 and c0 <= p[1] <= c1]
                best = min((np.hypot(*(p - spot)) for p in some), default=np.inf)
                found = nearest_free(ahead, next_free, back, runs, laid.shape, spot, np.inf, window)
                if not some:
                    self.assertEqual(found, (-1, -1))
                    continue
                self.assertTrue(free[found])
                self.assertAlmostEqual(np.hypot(found[0] - spot[0], found[1] - spot[1]), best)

    def test_the_free_places_of_a_rectangle_beside_another_are_their_no_fit_region(self):
        # 17.6: 4 by 3 and 2 by 5 cross where the corner of one is in an area of (4 + 2)(3 + 5) = 48.
        pixel = 0.05
        taken = np.zeros((400, 400), bool)
        taken[180:240, 160:240] = True
        laid = np.ones((100, 40), bool)
        ahead, next_free = (np.zeros((400, 401), np.int32) for _ in range(2))
        scan_rows(taken, ahead, next_free, 0, 400)
        runs, crossing = runs_of(laid), 0
        for row in range(301):
            for column in range(361):
                crossing += first_free(ahead, next_free, runs, laid.shape, row, row, column) != (row, column)
        self.assertAlmostEqual(crossing * pixel**2, 48.0, delta=0.8)

    def test_pixels_that_are_only_touched_count(self):
        plan = CrossSection.circle(3.3, 64)
        marked = touched(plan, plan.bounds()[:2], 0.5)
        x0, y0 = plan.bounds()[:2]
        shape = shapely.Polygon(plan.to_polygons()[0])
        for r, c in np.ndindex(marked.shape):
            cell = shapely.box(x0 + c * 0.5, y0 + r * 0.5, x0 + (c + 1) * 0.5, y0 + (r + 1) * 0.5)
            self.assertEqual(bool(marked[r, c]), shape.intersection(cell).area > 1e-9)


class OutlineTest(unittest.TestCase):
    def test_an_outline_is_the_shadow_of_all_layers(self):
        body = box(30, 20, 4) + box(10, 20, 12).translate((0, 0, 0)) + box(40, 6, 2).translate((0, 0, 10))
        stack = slice_solid(Solid(on_plate(body)), 0.2)
        found = outline_of([(stack, 0.0)], 12.0)
        self.assertAlmostEqual(found.area_mm2, on_plate(body).project().area(), delta=0.2)
        self.assertAlmostEqual(found.slices[0].section.area(), 600, delta=0.2)
        self.assertAlmostEqual(found.slices[-1].section.area(), 10 * 20 + 30 * 6, delta=0.2)
        self.assertEqual((found.slices[0].low_mm, found.slices[-1].high_mm), (0.0, 12.0))
        raised = outline_of([(stack, 3.0)], 15.0)
        self.assertEqual(raised.slices[0].section.area(), 0.0)

    def test_a_round_part_is_kept_to_its_tolerance(self):
        from manifold3d import Manifold

        ball = Manifold.sphere(15.0, 128)
        stack = slice_solid(Solid(on_plate(ball)), 0.1)
        found = outline_of([(stack, 0.0)], 30.0)
        shape = shapely.Polygon(found.rings[0])
        true = shapely.union_all([shapely.Polygon(r) for k in range(len(stack)) for r in stack.rings(k)])
        self.assertLess(shape.hausdorff_distance(true), OUTLINE_MM)

    def test_gaps_and_edges(self):
        plan = of_plan(square(10, 10, (-5, -5)), 5.0)
        some = [Lying(plan, 0, 0, 0), Lying(plan, 12, 0, 0), Lying(plan, 0, 16, 45), Lying(plan, 40, 40, 0)]
        pairs = near_pairs(some, 5.0)
        self.assertEqual([(p.first, p.second) for p in pairs], [(0, 1), (0, 2)])
        self.assertAlmostEqual(pairs[0].gap_mm, 2.0)
        self.assertAlmostEqual(pairs[1].gap_mm, 16 - 5 - 5 * 2**0.5)
        self.assertAlmostEqual(past_edge_mm(some[1], (30.0, 40.0)), 2.0)
        self.assertAlmostEqual(past_edge_mm(some[0], (30.0, 40.0)), -10.0)
        self.assertIsNone(least_gap_mm(some[:1]))


if __name__ == "__main__":
    unittest.main()

"""Supports in random worlds of bars: what has to hold whatever the part looks like, measured by other means."""

import unittest
from dataclasses import replace

import numpy as np
from hypothesis import example, given, settings
from hypothesis import strategies as st
from manifold3d import Manifold, OpType

from tests.held import USUAL, Bench
from tests.support import box, on_plate
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.filament.clearance_field import Room
from upright_heron.core.supports.filament.descent import around, gap_under, way_down
from upright_heron.core.supports.filament.finish import edited, finished
from upright_heron.core.supports.filament.styles import chosen_styles, grow_supports
from upright_heron.core.supports.filament.tips import COVERED, FALL_MM, RISE_MM, Places, tips_of

# A tip ends a gap below the part: it may cut into a wall beside it by the noise of the check, layer by layer.
NOISE_MM3 = 0.15 * 0.2 * 4


# Bars in a space of 40 x 40 x 30 mm: length, width, thickness, and where.
SIDE, ASIDE = st.integers(3, 20), st.integers(0, 20)
WORLDS = st.lists(
    st.tuples(SIDE, SIDE, st.integers(2, 8), ASIDE, ASIDE, st.integers(0, 25)), min_size=2, max_size=5
)


def world(bars):
    """Bars as one body on the plate."""
    return on_plate(
        Manifold.batch_boolean([box(a, b, c, (x, y, z)) for a, b, c, x, y, z in bars], OpType.Add)
    )


def surface(made):
    """Trees and posts as one solid."""
    return Manifold.batch_boolean([Solid.from_mesh(s.mesh()).manifold for s in made.supports], OpType.Add)


class TreesTest(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(WORLDS, st.sampled_from([Style.TREE, Style.PILLAR]), st.booleans())
    # A short foot that widens beside a bar, and a branch that lands between two.
    @example([(3, 3, 2, 0, 0, 0), (3, 3, 2, 0, 9, 2), (3, 3, 2, 0, 10, 1)], Style.PILLAR, False)
    @example(
        [
            (3, 3, 2, 0, 0, 0),
            (3, 3, 2, 10, 0, 5),
            (3, 3, 2, 12, 11, 1),
            (3, 3, 6, 12, 6, 1),
            (3, 10, 2, 11, 2, 7),
        ],
        Style.TREE,
        False,
    )
    def test_they_cross_nothing_lean_no_more_than_they_may_and_end_where_they_may(self, bars, style, plate):
        body = world(bars)
        bench = Bench(body)
        made = bench.make(style, given=replace(USUAL, from_plate=plate))
        self.assertLessEqual({f.kind for f in made.faults}, {"not held"})
        for fault in made.faults:
            # A reason is given each time.
            self.assertRegex(
                fault.words, "no way down|nothing was made below it|single places|too near for a layer"
            )
        for tree in made.supports:
            self.assertLessEqual(tree.lean_deg, USUAL.branch_deg + 0.1)
            self.assertFalse(plate and tree.on_part)
            if not tree.on_part:
                self.assertEqual(float(tree.nodes[tree.foot, 2]), 0.0)
        if made.supports:
            both = surface(made) ^ body
            tips = sum(len(s.tips) for s in made.supports)
            self.assertLess(both.volume(), NOISE_MM3 * tips)

    @settings(max_examples=15, deadline=None)
    @given(WORLDS, st.randoms(use_true_random=False))
    def test_the_same_whatever_order_patches_come_in(self, bars, random):
        bench = Bench(world(bars))
        held = chosen_styles(bench.patches, Style.TREE, {})
        first = grow_supports(bench.stack, held, USUAL, bench.tree)
        random.shuffle(held)
        again = grow_supports(bench.stack, held, USUAL, bench.tree)
        self.assertEqual(first.lost, again.lost)
        volumes = [round(sum(s.volume_mm3 for s in grown.supports), 6) for grown in (first, again)]
        self.assertEqual(*volumes)


class ColumnsTest(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(WORLDS, st.sampled_from([Style.LINES, Style.GRID]), st.booleans())
    def test_they_cross_nothing_and_begin_nowhere_in_mid_air(self, bars, style, plate):
        body = world(bars)
        bench = Bench(body)
        made = bench.make(style, given=replace(USUAL, from_plate=plate))
        self.assertLessEqual({f.kind for f in made.faults}, {"not held"})
        if not made.supports:
            return
        # As they leave: shells of levels, each in the air or on the part, but not in it.
        self.assertLess((Solid.from_mesh(made.handoff_mesh()).manifold ^ body).volume(), 1e-3)
        # What is told is what is printed.
        printed = sum(made.layers.area_mm2) * made.layers.layer_mm
        self.assertAlmostEqual(sum(s.volume_mm3 for s in made.supports) / printed, 1, delta=0.03)


class EditTest(unittest.TestCase):
    @settings(max_examples=20, deadline=None)
    @given(WORLDS, st.sampled_from([Style.TREE, Style.LINES]), st.data())
    def test_taking_some_out_is_making_the_others(self, bars, style, data):
        bench = Bench(world(bars))
        held = chosen_styles(bench.patches, style, {})
        made = bench.make(style)
        if not made.supports:
            return
        names = st.sampled_from([s.id for s in made.supports])
        out = data.draw(st.sets(names, min_size=1, max_size=4))
        some = edited(made, bench.stack, held, out, [], USUAL)
        left = [s for s in made.supports if s.id not in out]
        whole = finished(bench.stack, held, left, USUAL)
        self.assertEqual([s.id for s in some.supports], [s.id for s in whole.supports])
        # What outlines that ran along each other leave behind, at most.
        np.testing.assert_allclose(some.layers.area_mm2, whole.layers.area_mm2, atol=5e-3)
        self.assertEqual({p.id for p in some.patches if p.held}, {p.id for p in whole.patches if p.held})
        # And put back they are what they were.
        gone = [s for s in made.supports if s.id in out]
        again = edited(some, bench.stack, held, [], gone, USUAL)
        np.testing.assert_allclose(again.layers.area_mm2, made.layers.area_mm2, atol=5e-3)
        self.assertEqual({p.id for p in again.patches if p.held}, {p.id for p in made.patches if p.held})


class TipsTest(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(WORLDS, st.sampled_from([2.5, 4.0, 6.0]))
    def test_every_place_of_a_patch_has_a_tip_near_it(self, bars, spacing):
        bench = Bench(world(bars))
        for patch in bench.patches:
            places = Places.of(patch, bench.stack, USUAL, spacing, bench.tree)
            tips = tips_of(patch, bench.stack, USUAL, spacing, bench.tree)
            if places is None:
                self.assertEqual(tips, [])
                continue
            # Where they end in fact, by our own rays; distances by numpy.
            ends, _ = places.stands(np.array(tips))
            away = np.hypot(*(places.at_mm[:, None, :2] - ends[None, :, :2]).transpose(2, 0, 1))
            above = places.at_mm[:, None, 2] - ends[None, :, 2]
            near = (away <= COVERED * spacing) & (above <= RISE_MM) & (above >= -FALL_MM)
            self.assertTrue(near.any(axis=1).all())
            # All of them right below what they hold.
            self.assertLess(float(away.min(axis=0).max()), 1.5 * places.pixel_mm)

    @settings(max_examples=25, deadline=None)
    @given(WORLDS)
    def test_tips_end_the_gap_below_the_part_and_not_in_it(self, bars):
        bench = Bench(world(bars))
        gap = USUAL.gap_layers(0.2) * 0.2
        for patch in bench.patches:
            tips = np.array(tips_of(patch, bench.stack, USUAL, 4.0, bench.tree)).reshape(-1, 3)
            up, _ = bench.tree.first_hits(
                tips, np.tile([0.0, 0.0, 1.0], (len(tips), 1)), np.full(len(tips), -1)
            )
            # Between bars nothing is aslant: to half a layer, as layers are cut in their middles.
            np.testing.assert_allclose(up, gap, atol=0.11)


class RoomTest(unittest.TestCase):
    @settings(max_examples=20, deadline=None)
    @given(WORLDS, st.sampled_from([20.0, 40.0, 55.0]), st.booleans())
    def test_from_every_open_place_a_step_leads_on_and_keeps_its_width(self, bars, lean, closed):
        asked, body = replace(USUAL, branch_deg=lean), world(bars)
        stack = slice_solid(Solid(body), 0.2)
        low, high = np.array(body.bounding_box()).reshape(2, 3)
        room = Room(stack, low[:2], high[:2], float(high[2]), asked, None, lambda *_: None, closed=closed)
        need = room.radius_mm + asked.clearance_mm
        reach = room.reach_mm / room.pixel_mm
        span = int(reach)
        steps = [
            (a, b)
            for a in range(-span, span + 1)
            for b in range(-span, span + 1)
            if a * a + b * b <= reach * reach
        ]
        for k in range(1, room.count):
            for grade, wide in ((1, need), (3, room.wide_mm + asked.clearance_mm)):
                here = room.opened[k] >= grade
                self.assertGreaterEqual(float(room.away[k][here].min(initial=np.inf)), wide - 1e-5)
                below = np.zeros_like(here)
                wider = np.pad(room.opened[k - 1] >= grade, span)
                rows, columns = here.shape
                for a, b in steps:
                    below |= wider[span + a : span + a + rows, span + b : span + b + columns]
                self.assertFalse((here & ~below).any())
        # What is open to wide trunks is open to stout and thin ones; narrow for no step and wide are one.
        np.testing.assert_array_equal(room.opened == 3, room.narrow == 0)
        np.testing.assert_array_equal(room.opened == 0, room.narrow == 255)

    def test_a_bore_is_a_hole_and_a_wide_one_is_not(self):
        for radius, hole in ((4.0, True), (6.5, True), (8.0, False)):
            body = box(40, 40, 10) - Manifold.cylinder(12, radius, radius, 64).translate((20, 20, -1))
            stack = slice_solid(Solid(body), 0.2)
            corners = np.array([0.0, 0.0]), np.array([40.0, 40.0])
            rooms = {
                closed: Room(stack, *corners, 9.0, USUAL, None, lambda *_: None, closed=closed)
                for closed in (True, False)
            }
            for closed, room in rooms.items():
                with self.subTest(radius, closed=closed):
                    self.assertEqual(room.in_hole(np.array([20.0, 20.0, 8.0])), hole)
                    self.assertFalse(room.in_hole(np.array([-5.0, 20.0, 8.0])))
                    # Closed, nothing is free in it; open, its middle is as far from the wall as it is wide.
                    free = room.beside(20.0, 20.0, 4)
                    if hole and closed:
                        self.assertLess(free, 0.0)
                    else:
                        self.assertLessEqual(free, radius)
                        self.assertGreater(free, radius - 2 * room.pixel_mm)


class WaysTest(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(WORLDS, st.floats(-5, 45), st.floats(-5, 45), st.floats(5, 40))
    def test_a_way_down_keeps_clear_and_leans_no_more_than_it_may(self, bars, x, y, z):
        stack = slice_solid(Solid(world(bars)), 0.2)
        if around(stack, np.array([[x, y, z]]))[0] < 1.05:
            return
        way = way_down(stack, (x, y, z), 0.6, 0.45, 40.0)
        step = np.diff(way.places, axis=0)
        if len(step):
            lean = np.degrees(np.arctan2(np.hypot(step[:, 0], step[:, 1]), -step[:, 2]))
            self.assertLessEqual(float(lean.max()), 40.0 + 1e-6)
        # Past its first steps it has its clearance all round.
        self.assertTrue((around(stack, way.places[4:]) >= 1.05 - 1e-9).all())
        if way.ends == "plate":
            self.assertAlmostEqual(float(way.places[-1, 2]), 0.0)

    def test_gaps_under_places(self):
        body = box(20, 20, 4) + box(20, 20, 4, (0, 0, 4.8)) + box(2, 20, 0.8, (0, 0, 4))
        stack = slice_solid(Solid(body), 0.2)
        under = gap_under(stack, np.array([[10, 10, 4.8], [10, 10, 4.8 + 0.2], [30, 10, 4.8]]), 6)
        # Four layers of air; from within the part it is none; beside it there is nothing below.
        np.testing.assert_allclose(under, [0.8, 0.0, np.inf])
        self.assertEqual(float(gap_under(stack, np.array([[10, 10, 4.8]]), 4)[0]), np.inf)


if __name__ == "__main__":
    unittest.main()

"""Stilts that stand on the shafts of others: what they may, what that saves, and what the check finds."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
import trimesh
from scipy.ndimage import distance_transform_edt

from tests.stilted import USUAL, Stilted
from tests.support import box, mesh_of, sphere
from upright_heron.core.geometry.mesh import edges
from upright_heron.core.geometry.near_cells import near_cells
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.machines.catalogue import Peel
from upright_heron.core.supports.resin.joins import join
from upright_heron.core.supports.resin.site import ByHand
from upright_heron.core.supports.resin.sizes import Stoutness, shaft_bears_n, sizes
from upright_heron.core.supports.resin.stilt import Stilt


def leans(made):
    """Lean of every step of every shaft, without the cones, degrees."""
    found = []
    for one in made.stilts:
        steps = np.diff(one.circles[:-2, :3], axis=0)
        found += np.degrees(np.arctan2(np.hypot(steps[:, 0], steps[:, 1]), steps[:, 2])).tolist()
    return np.array(found)


class JoinTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        # A plate high above the bed, with a fin that hangs down between the stilts of both sides.
        cls.bench = Stilted(box(30, 30, 3, (0, 0, 40)) + box(1, 30, 40, (14.5, 0, 0)), 0.25, lift=20.0)
        cls.made = cls.bench.made()
        cls.joined = [one for one in cls.made.stilts if one.stands_on]
        cls.named = {one.id: one for one in cls.made.stilts}

    def test_most_stand_on_a_few_and_much_is_saved(self):
        apart = self.bench.made(replace(USUAL, joins=False))
        self.assertFalse([one for one in apart.stilts if one.stands_on])
        self.assertEqual(len(apart.stilts), len(self.made.stilts))
        self.assertGreater(len(self.joined), 0.6 * len(self.made.stilts))
        self.assertLess(self.made.volume_mm3, 0.6 * apart.volume_mm3)
        self.assertEqual((self.made.faults, apart.faults), ((), ()))
        self.assertEqual(self.bench.in_mid_air(self.made, 0.15), [])

    def test_each_ends_in_the_upright_shaft_of_one_that_stands_by_itself(self):
        for one in self.joined:
            trunk = self.named[one.stands_on]
            self.assertEqual(trunk.stands_on, "")
            self.assertFalse(one.on_part)
            low, high = trunk.upright
            x, y, z, radius = one.circles[0]
            np.testing.assert_allclose((x, y), low[:2], atol=1e-9)
            self.assertTrue(low[2] < z < high[2])
            self.assertLessEqual(radius, trunk.circle_at(z)[2] + 1e-9)

    def test_tips_stay_where_they_were(self):
        apart = self.bench.made(replace(USUAL, joins=False))
        by_id = {one.id: one for one in apart.stilts}
        for one in self.joined:
            np.testing.assert_array_equal(one.circles[-3:, :3], by_id[one.id].circles[-3:, :3])
            self.assertEqual(one.load_n, by_id[one.id].load_n)

    def test_they_keep_clear_of_the_part(self):
        part = trimesh.Trimesh(
            np.array(self.bench.mesh.vertices), np.array(self.bench.mesh.faces), process=False
        )
        places, radii = [], []
        for one in self.joined:
            share = np.linspace(0, 1, 12)[:, None]
            way = one.circles[0] + share * (one.circles[1] - one.circles[0])
            # The knee of a cone is as near to the surface as its tip is long.
            places.append(way[:-3, :3])
            radii.append(way[:-3, 3])
        away = trimesh.proximity.closest_point(part, np.concatenate(places))[1]
        self.assertGreater((away - np.concatenate(radii)).min(), 0.6 * USUAL.clearance_mm - 1e-6)

    def test_no_shaft_bears_more_than_it_can(self):
        through = {one.id: one.load_n for one in self.made.stilts}
        for one in self.joined:
            through[one.stands_on] += one.load_n
        for name in {one.stands_on for one in self.joined}:
            self.assertLessEqual(through[name], shaft_bears_n(self.named[name].shaft_mm, Peel.USUAL))
        # A shaft as thick as its tip bears as much; twice as thick four times that.
        self.assertAlmostEqual(shaft_bears_n(0.8, Peel.HARD), 4 * shaft_bears_n(0.4, Peel.HARD))
        # With much to spare each shaft takes fewer.
        spare = self.bench.made(replace(USUAL, spare=4.0, shaft_mm=0.5, tip_mm=0.4))
        most = max(
            sum(one.load_n for one in spare.stilts if trunk in (one.id, one.stands_on))
            - shaft_bears_n(next(s for s in spare.stilts if s.id == trunk).shaft_mm, Peel.USUAL) / 4
            for trunk in {one.stands_on for one in spare.stilts if one.stands_on}
        )
        self.assertLessEqual(most, 1e-9)

    def test_none_leans_more_than_asked(self):
        self.assertLessEqual(leans(self.made).max(), 45.0 + 1e-6)
        self.assertGreater(leans(self.made).max(), 40.0)
        steep = self.bench.made(replace(USUAL, lean_deg=25.0))
        self.assertLessEqual(leans(steep).max(), 25.0 + 1e-6)
        self.assertTrue([one for one in steep.stilts if one.stands_on])

    def test_nor_round_what_stands_in_its_way(self):
        # A ceiling over a block that reaches past it by 3 mm: straight down there is no room.
        body = box(6, 30, 40, (-6, 0, 0)) + box(20, 30, 3, (-6, 0, 37)) + box(17, 30, 6, (-6, 0, 10))
        alone = replace(USUAL, from_plate=True, joins=False, lean_deg=12.0)
        made = Stilted(body).made(alone)
        self.assertTrue(made.stilts)
        self.assertLessEqual(leans(made).max(), 12.0 + 1e-6)
        self.assertGreater(leans(made).max(), 5.0)

    def test_where_little_is_saved_each_stands_by_itself(self):
        low = Stilted(box(20, 20, 3), lift=4.0).made()
        self.assertFalse([one for one in low.stilts if one.stands_on])

    def test_what_would_land_on_the_part_joins_rather(self):
        # A roof with a wide floor below one half of it: some would leave marks there.
        body = box(30, 8, 3, (0, 0, 40)) + box(3, 8, 43, (-3, 0, 0)) + box(13, 30, 3, (0, -11, 10))
        bench = Stilted(body, 0.25)
        apart = bench.made(replace(USUAL, joins=False))
        made = bench.made()
        scars = [sum(one.on_part for one in each.stilts) for each in (made, apart)]
        self.assertLess(scars[0], scars[1])
        self.assertEqual(made.faults, ())


class Free:
    """Room everywhere."""

    def clear(self, *_, **__):
        return True


def post(x, top, shaft=1.0, floor=0.0):
    """A stilt by itself whose knee is at a height; it stands on the part where there is a floor."""
    rows = [[x, 0, floor, 1.5], [x, 0, floor + 1.2, shaft / 2]]
    tip = [[x, 0, top, shaft / 2], [x, 0, top + 2.0, 0.2], [x, 0, top + 2.2, 0.2]]
    circles = np.array(rows + tip, float)
    return Stilt(f"{x}", "", (x, 0.0, top + 2.0), floor > 0, 1.0, circles, 2, "", 0.1, 0.6)


class RuleTest(unittest.TestCase):
    """Which of two may stand on the other, by stilts as they are drawn."""

    def stands(self, *posts):
        found = join(posts, Free(), USUAL, Peel.USUAL)
        return [(one.id, one.stands_on) for one in found if one.stands_on]

    def test_one_of_two_alike_stands_on_the_other(self):
        self.assertEqual(len(self.stands(post(0.0, 20), post(3.0, 20))), 1)
        self.assertEqual(self.stands(post(0.0, 20), post(11.0, 20)), [])

    def test_none_stands_on_a_thinner_one(self):
        self.assertEqual(self.stands(post(0.0, 20, 1.5), post(3.0, 30)), [("3.0", "0.0")])
        self.assertEqual(self.stands(post(0.0, 20), post(3.0, 30, 1.5)), [("0.0", "3.0")])

    def test_none_is_longer_than_it_is_stiff(self):
        self.assertEqual(self.stands(post(0.0, 80), post(3.0, 20, 1.5)), [])
        self.assertEqual(self.stands(post(0.0, 80), post(3.0, 60, 1.5)), [("0.0", "3.0")])

    def test_none_ends_right_over_a_foot(self):
        self.assertEqual(self.stands(post(0.0, 6.05), post(3.1, 6.05)), [])
        self.assertEqual(len(self.stands(post(0.0, 6.2), post(3.1, 6.2))), 1)

    def test_none_takes_a_way_as_long_as_its_own(self):
        self.assertEqual(self.stands(post(0.0, 13.0), post(9.0, 13.0)), [])
        self.assertEqual(len(self.stands(post(0.0, 15.0), post(9.0, 15.0))), 1)

    def test_none_stands_on_one_that_stands_on_the_part(self):
        self.assertEqual(self.stands(post(0.0, 30, floor=10.0), post(3.0, 30)), [("0.0", "3.0")])
        self.assertEqual(self.stands(post(0.0, 30, floor=10.0), post(3.0, 30, floor=10.0)), [])


class ThickTest(unittest.TestCase):
    def test_a_shaft_gains_towards_its_foot(self):
        bench = Stilted(box(1.2, 1.2, 3), 0.25, lift=30.0)
        plain, wider = (bench.made(replace(USUAL, shaft_taper_mm=taper)) for taper in (0.0, 0.2))
        for one, other in zip(plain.stilts, wider.stilts, strict=True):
            _, _, z, radius = other.circles[2]
            # 0.2 mm in diameter over each 10 mm, above its foot.
            high = other.circles[other.bend, 2] - z
            self.assertAlmostEqual(2 * radius, other.shaft_mm + 0.2 * high / 10, places=6)
            self.assertEqual(one.shaft_mm, other.shaft_mm)
        self.assertGreater(wider.volume_mm3, 1.2 * plain.volume_mm3)

    def test_one_that_stands_alone_keeps_its_way_as_it_is_made_thicker(self):
        bench = Stilted(box(1.2, 1.2, 3), 0.25, lift=120.0)
        made = bench.made()
        self.assertEqual(made.faults, ())
        for one in made.stilts:
            self.assertGreaterEqual(one.shaft_mm, 3.0)
            self.assertGreaterEqual(one.circles[0, 3], one.shaft_mm / 2)
            self.assertAlmostEqual(2 * one.circles[-1, 3], one.tip_mm)


class ThinTest(unittest.TestCase):
    def test_a_tip_is_no_deeper_than_the_part_is_thick(self):
        # A sheet of 0.12 mm, thinner than tips are deep: none comes out on its upper side.
        bench = Stilted(box(12, 12, 0.12) + box(12, 0.5, 6), 0.02, lift=6.0)
        made = bench.made()
        under = [one for one in made.stilts if one.touch_mm[1] > 1.0]
        self.assertGreater(len(under), 5)
        for one in under:
            self.assertLess(one.circles[-1, 2], 6.12)
            self.assertGreater(one.circles[-1, 2], 6.0)
        self.assertEqual([fault for fault in made.faults if fault.kind.value == "not held"], [])


class AskedTest(unittest.TestCase):
    """What the shop asks of sizes and braces."""

    def test_sizes_are_as_typed_and_else_in_proportion(self):
        fine, medium, stout = sizes(replace(USUAL, tip_mm=0.5, shaft_mm=1.2, foot_mm=3.0))
        self.assertEqual([round(one.tip_mm, 3) for one in (fine, medium, stout)], [0.35, 0.5, 0.8])
        self.assertEqual([round(one.shaft_mm, 3) for one in (fine, medium, stout)], [0.96, 1.2, 1.8])
        fine, medium, stout = sizes(replace(USUAL, fine_mm=(0.25, None), stout_mm=(None, 4.5)))
        self.assertEqual((fine.tip_mm, fine.shaft_mm), (0.25, 0.8))
        self.assertEqual((medium.tip_mm, medium.shaft_mm), (0.4, 1.0))
        self.assertAlmostEqual(stout.tip_mm, 0.64)
        # A foot is no thinner than its shaft.
        self.assertEqual((stout.shaft_mm, stout.foot_mm), (4.5, 4.5))

    def test_tips_are_as_long_as_asked_and_end_in_a_ball_where_asked(self):
        bench = Stilted(box(20, 20, 3), 0.1, lift=20.0)
        plain = bench.made(replace(USUAL, tip_length_mm=3.5))
        for one in plain.stilts:
            long = np.linalg.norm(one.axis[-1] - one.touch_mm)
            self.assertAlmostEqual(long, 3.5 * (0.8 if one.size == "fine" else 1.0), places=6)
        balls = bench.made(replace(USUAL, rounded=True))
        self.assertEqual(balls.faults, ())
        self.assertEqual([one.touch_mm for one in balls.stilts], [one.touch_mm for one in plain.stilts])
        self.assertTrue([one for one in balls.stilts if one.stands_on])
        self.assertTrue(balls.braces)
        for one in balls.stilts:
            knee, neck, ball, touch, end = one.circles[-5:]
            # Half as wide again as what it touches; the circle cut off it by the surface is that of the tip.
            self.assertAlmostEqual(ball[3], 1.5 * touch[3])
            self.assertAlmostEqual(np.hypot(touch[3], np.linalg.norm(ball[:3] - touch[:3])), ball[3])
            self.assertLess(neck[3], ball[3])
            self.assertTrue((np.diff([knee[2], neck[2], ball[2], touch[2], end[2]]) > 0).all())
            self.assertEqual(2 * knee[3], one.shaft_mm)
            self.assertTrue(edges(one.mesh()).closed)
        # No more of the part is touched.
        self.assertAlmostEqual(balls.contact_mm2, bench.made().contact_mm2)

    def test_braces_rise_and_follow_as_asked(self):
        bench = Stilted(box(30, 30, 3), 0.25, lift=60.0)
        made = bench.made(replace(USUAL, brace_deg=60.0, brace_every_mm=10.0))
        self.assertEqual(made.faults, ())
        starts = set()
        for bar in made.braces:
            way = bar.ends_mm[1] - bar.ends_mm[0]
            self.assertAlmostEqual(way[2], np.hypot(*way[:2]) * 3**0.5, delta=1e-3)
            starts.add(round(float(bar.ends_mm[0, 2]), 6))
        self.assertTrue(starts <= {3.0 + 10 * k for k in range(6)}, starts)
        self.assertGreater(len(starts), 3)

    def test_shafts_are_as_stiff_as_asked(self):
        bench = Stilted(box(1.2, 1.2, 3), 0.25, lift=60.0)
        for slender in (20.0, 60.0):
            made = bench.made(replace(USUAL, slender=slender))
            self.assertEqual(made.faults, ())
            self.assertGreaterEqual(min(one.shaft_mm for one in made.stilts), 62 / slender - 0.01)
            self.assertLess(min(one.shaft_mm for one in made.stilts), max(1.0, 70 / slender))

    def test_a_size_that_was_chosen_holds_whatever_its_load(self):
        bench = Stilted(box(20, 20, 3), 0.25, lift=8.0)
        before = bench.made().stilts
        one = before[0]
        other = min(before[1:], key=lambda tip: -np.linalg.norm(np.subtract(tip.touch_mm, one.touch_mm)))
        at = np.array([one.touch_mm, other.touch_mm])
        chosen = ByHand(np.zeros((0, 3)), np.zeros((0, 3)), at, (Stoutness.STOUT, Stoutness.FINE))
        after = {tip.touch_mm: tip for tip in bench.made(by_hand=chosen).stilts}
        self.assertEqual(set(after), {tip.touch_mm for tip in before})
        self.assertEqual(after[one.touch_mm].size, "stout")
        self.assertAlmostEqual(after[one.touch_mm].tip_mm, 0.64)
        self.assertEqual(after[other.touch_mm].size, "fine")
        for tip in before:
            if tip.touch_mm not in (one.touch_mm, other.touch_mm):
                self.assertEqual(after[tip.touch_mm].size, tip.size)


class SteadyTest(unittest.TestCase):
    def test_shafts_far_from_each_other_have_longer_braces_rather_than_more_thickness(self):
        # Two feet, 20 mm apart: further than usual braces reach.
        bench = Stilted(box(1.2, 1.2, 3) + box(1.2, 1.2, 3, (20, 0, 0)), 0.25, lift=100.0)
        made = bench.made()
        self.assertEqual(made.faults, ())
        self.assertTrue(made.braces)
        named = {one.id: one for one in made.stilts}
        for bar in made.braces:
            way = bar.ends_mm[1] - bar.ends_mm[0]
            flat = np.hypot(*way[:2])
            self.assertAlmostEqual(way[2], flat, places=6)
            # No bar is longer than forty times its thickness, but where its shafts are thinner than that.
            thinner = min(named[name].shaft_mm for name in bar.between)
            self.assertGreaterEqual(2 * bar.radius_mm, min(np.linalg.norm(way) / 40, thinner) - 1e-9)
        self.assertTrue(
            [bar for bar in made.braces if np.hypot(*np.diff(bar.ends_mm[:, :2], axis=0)[0]) > 15]
        )
        self.assertLess(max(one.shaft_mm for one in made.stilts), 1.6)
        # Those further apart stand alone, and are made thicker.
        alone = Stilted(box(1.2, 1.2, 3) + box(1.2, 1.2, 3, (40, 0, 0)), 0.25, lift=100.0).made()
        self.assertFalse([b for b in alone.braces if np.hypot(*np.diff(b.ends_mm[:, :2], axis=0)[0]) > 15])
        self.assertEqual(alone.faults, ())
        self.assertGreater(max(one.shaft_mm for one in alone.stilts), 2.4)


class BrokenTest(unittest.TestCase):
    """Joins broken on purpose: the check finds each."""

    @classmethod
    def setUpClass(cls):
        cls.bench = Stilted(box(20, 20, 3), 0.25, lift=30.0)
        cls.made = cls.bench.made()
        cls.one = next(one for one in cls.made.stilts if one.stands_on)
        cls.trunk = next(one for one in cls.made.stilts if one.id == cls.one.stands_on)

    def found(self, *changed):
        """Faults with some stilts changed, in words."""
        by_id = {one.id: one for one in changed}
        supports = tuple(by_id.get(one.id, one) for one in self.made.supports)
        made = replace(self.made, supports=supports, braces=())
        return [
            (fault.kind.value, fault.words)
            for fault in _checked(made, self.bench)
            if fault.kind.value != "slender"
        ]

    def test_as_it_is_nothing_is_wrong(self):
        self.assertEqual(self.found(), [])

    def test_one_that_ends_beside_the_shaft(self):
        circles = self.one.circles.copy()
        circles[0, 0] += 0.5 * self.trunk.shaft_mm
        self.assertIn("floats", dict(self.found(replace(self.one, circles=circles))))

    def test_one_that_is_wider_than_the_shaft(self):
        circles = self.one.circles.copy()
        circles[0, 3] = self.trunk.circle_at(circles[0, 2])[2] + 0.05
        self.assertIn("floats", dict(self.found(replace(self.one, circles=circles))))

    def test_one_on_another_that_does_not_stand_by_itself(self):
        other = next(one for one in self.made.stilts if one.stands_on and one.stands_on != self.one.stands_on)
        self.assertIn("floats", dict(self.found(replace(self.trunk, stands_on=other.id))))

    def test_a_shaft_that_bears_too_many(self):
        heavy = replace(self.trunk, load_n=self.trunk.bears_n, bears_n=self.trunk.bears_n)
        weak = replace(heavy, bears_n=heavy.load_n, circles=_thin(heavy))
        words = [said for kind, said in self.found(weak) if kind == "overloaded"]
        self.assertTrue(any(said.startswith("The shaft of") for said in words), words)

    def test_a_shaft_is_held_where_others_stand_on_it(self):
        from upright_heron.core.supports.checks.stilt_check import unbraced_mm

        (alone,) = unbraced_mm([self.trunk], [])
        held, _ = unbraced_mm([self.trunk, self.one], [])
        self.assertLess(held, alone - 1.0)


def _thin(stilt):
    """The stilt with a shaft as thick as its tip."""
    circles = stilt.circles.copy()
    circles[2:, 3] = circles[-1, 3]
    return circles


def _checked(made, bench):
    from upright_heron.core.supports.checks.stilt_check import verify_stilts

    return verify_stilts(made, bench.stack, bench.tree)


class NearTest(unittest.TestCase):
    def test_cells_have_the_distances_that_scipy_finds(self):
        taken = np.random.default_rng(7).random((30, 41, 52)) < 0.002
        exact = distance_transform_edt(~taken)
        for reach in (1, 3, 6):
            found = near_cells(taken, reach)
            within = exact <= reach
            np.testing.assert_allclose(found[within], exact[within], rtol=1e-6)
            self.assertGreater(found[~within].min(), reach)
            self.assertLessEqual(found.max(), reach + 1)
        self.assertEqual(near_cells(np.zeros((2, 2, 2), bool), 3).min(), 4)

    def test_what_is_nearer_is_what_has_less_distance(self):
        tree = Tree.of(mesh_of(sphere(10, 24)))
        points = np.random.default_rng(3).uniform(-14, 14, (400, 3))
        away = tree.distances(points)
        for share in (0.7, 0.999, 1.001, 1.5):
            np.testing.assert_array_equal(tree.nearer(points, share * away), np.full(400, share > 1))
        self.assertFalse(tree.nearer(points, np.zeros(400)).any())


if __name__ == "__main__":
    unittest.main()

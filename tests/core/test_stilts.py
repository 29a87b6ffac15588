"""Resin supports: where tips go, what they bear, the ways of stilts, braces, and the check of all of it."""

from __future__ import annotations

import itertools
import math
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from manifold3d import CrossSection, Manifold, OpType

from tests.stilted import USUAL, Stilted
from tests.support import box, mesh_of, on_plate, sphere, stalactites, tee
from upright_heron.core.geometry.mesh import edges, facet_normals, facts
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.layers.layer_components import links, piece_at, pieces
from upright_heron.core.layers.peel import peel_curve, pulls
from upright_heron.core.layers.stack import pack, slice_solid
from upright_heron.core.machines.catalogue import Peel
from upright_heron.core.marking.mark import Mark
from upright_heron.core.supports.checks.stilt_check import verify_stilts
from upright_heron.core.supports.resin.figures import in_figures
from upright_heron.core.supports.resin.loads import walk_loads
from upright_heron.core.supports.resin.seen import seen_shares
from upright_heron.core.supports.resin.site import ByHand, Ground
from upright_heron.core.supports.resin.sizes import SHARES, Stoutness, size_for, sizes
from upright_heron.core.supports.resin.soles import ring_places
from upright_heron.core.supports.resin.stilt import Brace, Stilt, stilt_volume_mm3
from upright_heron.core.supports.resin.stilt_layers import stilt_layers
from upright_heron.core.supports.resin.stilt_sets import make_stilts
from upright_heron.core.supports.rings import CIRCLE_AREA, circle_rings
from upright_heron.core.supports.show_side import Shown
from upright_heron.core.supports.support_set import SupportSet

NONE = np.zeros((0, 2)), np.zeros(0, np.int64)


def spikes(rows, columns, apart=5.0, half_deg=35.0):
    """A slab on a post with cones that hang from it, their points down; and the points (n, 3)."""
    high = 4.0
    wide = high * math.tan(math.radians(half_deg))
    slab = box(columns * apart, rows * apart, 3, (0, 0, 20)) + box(4, rows * apart, 23, (-4, 0, 0))
    at = [(apart * (c + 0.5), apart * (r + 0.5)) for r in range(rows) for c in range(columns)]
    cones = [Manifold.cylinder(high, 0, wide, 24).translate((x, y, 20 - high + 0.01)) for x, y in at]
    return Manifold.batch_boolean([slab, *cones], OpType.Add), np.array([(x, y, 16.01) for x, y in at])


class WhereTest(unittest.TestCase):
    def test_every_island_has_one_and_nothing_floats(self):
        bench = Stilted(on_plate(stalactites()))
        made = bench.made()
        reasons = {s.reason for s in made.supports}
        for number in range(1, 17):
            self.assertIn(f"island {number}", reasons)
        self.assertEqual((made.unheld_islands, made.faults), ((), ()))
        self.assertEqual(bench.in_mid_air(made), [])

    def test_points_are_held_from_beside_and_never_on_the_point(self):
        body, points = spikes(3, 4)
        bench = Stilted(body, 0.05)
        made = bench.made()
        tips = np.array([s.touch_mm for s in made.supports])
        for point in points:
            away = np.linalg.norm(tips - point, axis=1)
            self.assertGreater(away.min(), 0.2)
            near = tips[away < 2.5]
            self.assertGreaterEqual(len(near), 2)
            self.assertLess(near[:, 2].min() - point[2], 0.35)
        self.assertFalse(any(s.snip for s in made.supports))
        self.assertEqual([f for f in made.faults if f.kind.value != "overloaded"], [])

    def test_a_needle_that_nothing_holds_from_beside_is_marked(self):
        # The sides of the spike stand so steeply that no tip gets at them.
        needle = Manifold.cylinder(12, 0.0, 0.4, 24).translate((0, 0, 8))
        body = box(4, 30, 22, (-14, -15, 0)) + box(30, 30, 2, (-14, -15, 20)) + needle
        made = Stilted(body, 0.05).made()
        (snipped,) = [s for s in made.supports if s.snip]
        self.assertAlmostEqual(snipped.touch_mm[2], 8.0, delta=0.1)
        # It comes from right below, so that its end lies in the needle.
        self.assertNotIn("not held", {fault.kind.value for fault in made.faults})
        np.testing.assert_allclose(snipped.circles[-1, :2], snipped.touch_mm[:2], atol=1e-6)

    def test_slopes_have_fewer_than_ceilings(self):
        def density(deg):
            """Tips for each cm2 under a broad plate that leans by so much from level."""
            plate = box(40, 40, 2, (-20, -20, 0)).rotate((0, deg, 0)).translate((0, 0, 30))
            # No load but what the slope asks for.
            made = Stilted(plate, 0.25, limit=30.0).made(replace(USUAL, tip_mm=3.0))
            return sum(s.reason.startswith("overhang") for s in made.supports) / 16

        flat, leaning = density(2.0), density(50.0)
        # Discs of 2.5 mm on a plane lie 0.7 to 0.8 of the densest packing apart: 9 to 13 a cm2, and more along edges.
        self.assertTrue(8.0 < flat < 16.0, flat)
        self.assertLess(leaning, 0.65 * flat)

    def painted(self, bench, mark, chosen):
        """The fine mesh with a mark where some middles of facets (m, 3) lie."""
        fine = refined(bench.mesh).mesh
        marks = np.zeros(len(fine.faces), np.uint8)
        marks[chosen(fine.vertices[fine.faces].mean(axis=1))] = mark
        return fine, marks

    def test_nothing_stands_on_what_is_kept_clear(self):
        bench = Stilted(tee())
        coat = self.painted(
            bench, Mark.KEEP_CLEAR, lambda at: (at[:, 0] < 5) & (np.abs(at[:, 2] - 20) < 1e-6)
        )
        xs = [s.touch_mm[0] for s in bench.made(painted=coat).supports]
        self.assertTrue(xs)
        self.assertGreater(min(xs), 5)

    def test_painted_places_are_held(self):
        # A bridge that needs nothing by itself.
        bench = Stilted(box(4, 20, 30) + box(4, 20, 30, (26, 0, 0)) + box(30, 20, 4, (0, 0, 26)), limit=90.0)
        coat = self.painted(bench, Mark.PROP, lambda at: np.abs(at[:, 2] - 26) < 1e-6)
        reasons = [s.reason for s in bench.made(painted=coat).supports]
        self.assertGreater(reasons.count("painted"), 20)


class HandTest(unittest.TestCase):
    """Tips put and taken out by hand."""

    @classmethod
    def setUpClass(cls):
        # A ceiling on a post, and a peg that hangs from it and begins in mid-air.
        cls.bench = Stilted(
            box(30, 20, 3, (0, 0, 20)) + box(4, 20, 23, (-4, 0, 0)) + box(3, 3, 8, (14, 8, 12))
        )
        cls.made = cls.bench.made()

    def tips(self, made):
        return np.array([one.touch_mm for one in made.supports])

    def test_a_tip_stands_where_it_is_put_and_others_keep_away(self):
        at = (25.3, 4.2, 20.0)
        self.assertGreater(np.linalg.norm(self.tips(self.made) - at, axis=1).min(), 0.3)
        made = self.bench.made(by_hand=ByHand(np.array([at]), np.zeros((0, 3))))
        mine = [one for one in made.supports if one.reason == "by hand"]
        self.assertEqual([one.touch_mm for one in mine], [at])
        self.assertEqual((made.faults, made.notes), ((), self.made.notes))
        self.assertLessEqual(len(made.supports), len(self.made.supports) + 1)

    def test_a_tip_that_is_taken_out_stays_out_and_its_island_is_told(self):
        island = np.array([15.5, 9.5, 12.0])
        there = self.tips(self.made)
        mine = there[np.linalg.norm(there - island, axis=1) < 3]
        self.assertGreaterEqual(len(mine), 1)
        self.assertEqual(self.made.unheld_islands, ())
        out = ByHand(np.zeros((0, 3)), np.array([island + (x, y, 0) for x in (-1, 0, 1) for y in (-1, 0, 1)]))
        made = self.bench.made(by_hand=out)
        self.assertGreater(np.linalg.norm(self.tips(made) - island, axis=1).min(), 2)
        self.assertEqual(len(made.unheld_islands), 1)
        self.assertTrue(made.faults)
        # Propped by hand right there it is held again.
        propped = self.bench.made(by_hand=ByHand(np.array([island]), out.out_mm))
        self.assertEqual((propped.unheld_islands, propped.faults), ((), ()))

    def test_where_it_cannot_stand_it_is_told(self):
        for at in ((10.0, 10.0, 23.0), (-2.0, 10.0, 0.0)):
            made = self.bench.made(by_hand=ByHand(np.array([at]), np.zeros((0, 3))))
            self.assertFalse([one for one in made.supports if one.reason == "by hand"])
            self.assertIn("put by hand that find no way", " ".join(made.notes))


class SoleTest(unittest.TestCase):
    """Rings of tips round soles."""

    def test_a_ring_stands_inside_the_edges_of_every_sole(self):
        # Two feet under a body, one with a hole in it, and a peg that is no sole; 5 mm over the plate.
        body = (
            box(30, 14, 10, (0, 0, 6)) + box(10, 10, 6, (0, 2, 0)) + box(12, 10, 6, (18, 2, 0)) - box(4, 4, 3, (22, 5, 0))
            + box(1, 1, 4, (14, 6, 2))
        )  # fmt: skip
        bench = Stilted(body, lift=5.0)
        places = ring_places(bench.stack, bench.tree, 2.0, 0.5)
        np.testing.assert_allclose(places[:, 2], 5.0, atol=1e-6)
        self.assertLess(bench.tree.distances(places).max(), 1e-6)
        first = places[places[:, 0] < 12]
        # 9 mm on each side, half a millimetre inside: 36 mm, and so 18 tips.
        self.assertEqual(len(first), 18)
        edge = np.minimum(np.abs(first[:, :2] - (0.5, 2.5)), np.abs(first[:, :2] - (9.5, 11.5))).min(axis=1)
        self.assertLess(edge.max(), 1e-6)
        gaps = np.linalg.norm(first - np.roll(first, -1, axis=0), axis=1)
        self.assertLessEqual(gaps.max(), 2.0 + 1e-9)
        # The other has 40 mm round it and, round its hole, 20 mm.
        self.assertEqual(len(places) - len(first), 20 + 10)
        made = bench.made(by_hand=ByHand(places, np.zeros((0, 3))))
        mine = [one for one in made.supports if one.reason == "by hand"]
        self.assertEqual(len(mine), len(places))
        self.assertEqual([f.words for f in made.faults], [])

    def test_what_lies_on_the_plate_has_none(self):
        bench = Stilted(box(20, 20, 5))
        self.assertEqual(len(ring_places(bench.stack, bench.tree, 2.0, 0.5)), 0)
        # Too narrow for the inset: nothing stands outside the part.
        slim = Stilted(box(20, 0.8, 5), lift=5.0)
        self.assertEqual(len(ring_places(slim.stack, slim.tree, 2.0, 0.5)), 0)


class LoadTest(unittest.TestCase):
    """Reactions of a rigid plate on springs, by hand."""

    def bar(self, tips, spare=(), most=np.inf, peel=Peel.USUAL):
        """A bar of 40 x 4 x 2 in mid-air from x = 0, with tips at places along its middle line."""
        stack = slice_solid(Solid(box(40, 4, 2, (0, -2, 5))), 0.5)
        found = pieces(stack)
        places = np.array([(x, 0.0) for x in tips]).reshape(-1, 2)
        more = np.array([(x, 0.0) for x in spare]).reshape(-1, 2)
        first = np.zeros(len(places), np.int64), np.zeros(len(more), np.int64)
        return walk_loads(
            found, links(found), pulls(found, peel), (places, first[0]), (more, first[1]), most, on_plate=False
        )  # fmt: skip

    # 0.008 N on each of 160 mm2 and 0.04 N on each of 88 mm of outline.
    PULL = 0.008 * 160 + 0.04 * 88

    def test_tips_alike_share_alike(self):
        borne = self.bar([10, 30])
        np.testing.assert_allclose(borne.load_n, self.PULL / 2, rtol=1e-9)

    def test_one_nearer_to_the_middle_bears_more(self):
        # Tips at 10 and 22, middle 16, the pull at 20: F (1/2 +- 6 * 4 / (2 * 36 + 4 * 2)).
        borne = self.bar([10, 22])
        np.testing.assert_allclose(borne.load_n, [self.PULL * 0.2, self.PULL * 0.8], rtol=1e-9)

    def test_one_tip_bears_all_and_none_is_told(self):
        np.testing.assert_allclose(self.bar([3]).load_n, [self.PULL])
        self.assertEqual(len(self.bar([]).bare), 1)
        self.assertEqual(len(self.bar([3]).bare), 0)

    def test_tips_are_added_until_none_bears_too_much(self):
        spare = np.linspace(0.5, 39.5, 79)
        borne = self.bar([20], spare, most=self.PULL / 4)
        self.assertLessEqual(borne.load_n.max(), self.PULL / 4 + 1e-9)
        self.assertGreaterEqual(len(borne.load_n), 5)
        self.assertLess(len(borne.load_n), 12)
        chosen = np.sort(np.concatenate([[20.0], spare[borne.added]]))
        self.assertGreaterEqual(np.diff(chosen).min(), 0.8 - 1e-9)

    def test_loads_come_from_what_is_joined_below(self):
        # Two legs in mid-air that come together: each bears its own until the beam lies on both.
        legs = box(4, 4, 10, (0, 0, 5)) + box(4, 4, 10, (30, 0, 5)) + box(34, 4, 2, (0, 0, 15))
        stack = slice_solid(Solid(legs), 0.5)
        found = pieces(stack)
        places = np.array([(2.0, 2.0), (32.0, 2.0)])
        at = piece_at(found, np.zeros(2, np.int64), places)
        self.assertEqual(sorted(at.tolist()), [0, 1])
        borne = walk_loads(
            found, links(found), pulls(found, Peel.USUAL), (places, at), NONE, np.inf, on_plate=False
        )
        beam = 0.008 * 34 * 4 + 0.04 * 76
        np.testing.assert_allclose(borne.load_n, beam / 2, rtol=1e-9)
        # On the plate nothing hangs.
        held = walk_loads(
            found, links(found), pulls(found, Peel.USUAL), (places, at), NONE, np.inf, on_plate=True
        )
        np.testing.assert_allclose(held.load_n, 0)

    def test_the_worst_layer_counts_not_the_last(self):
        # A wide plate with a small block on it: the plate pulls hardest.
        body = box(20, 20, 1, (0, 0, 5)) + box(4, 4, 5, (8, 8, 6))
        found = pieces(slice_solid(Solid(body), 0.5))
        tip = np.array([(10.0, 10.0)]), np.zeros(1, np.int64)
        borne = walk_loads(found, links(found), pulls(found, Peel.USUAL), tip, NONE, np.inf, on_plate=False)
        np.testing.assert_allclose(borne.load_n, 0.008 * 400 + 0.04 * 80)

    def test_the_pull_acts_between_the_middles_of_area_and_outline(self):
        # A right triangle of legs 6 and 8: middle of area (2, 8/3); of outline, side by side:
        # x (6 * 3 + 8 * 0 + 10 * 3) / 24, y (6 * 0 + 8 * 4 + 10 * 4) / 24.
        plate = CrossSection([np.array([(0, 0), (6, 0), (0, 8)])]).extrude(1)
        found = pieces(slice_solid(Solid(plate), 0.5))
        area, outline = 0.008 * 24, 0.04 * 24
        expected = (area * np.array([2, 8 / 3]) + outline * np.array([2.0, 3.0])) / (area + outline)
        np.testing.assert_allclose(pulls(found, Peel.USUAL)[1][0], expected, rtol=1e-9)

    def test_pulls_of_pieces_are_those_of_their_layers(self):
        stack = slice_solid(Solid(stalactites()), 0.5)
        found = pieces(stack)
        for peel in Peel:
            pull, _ = pulls(found, peel)
            np.testing.assert_allclose(
                np.bincount(found.layer, pull, len(stack)), peel_curve(stack, peel), atol=1e-9
            )
        cube = pieces(slice_solid(Solid(box(4, 4, 2, (7, 9, 0)) - box(2, 2, 2, (8, 10, 0))), 0.5))
        np.testing.assert_allclose(pulls(cube, Peel.USUAL)[1][0], [9, 11])

    def test_no_tip_of_a_ball_bears_more_than_it_can_and_harder_resins_take_more(self):
        bench = Stilted(on_plate(sphere(12)), lift=5.0)
        counts = {}
        for peel in Peel:
            made = bench.made(peel=peel)
            self.assertEqual([f.words for f in made.faults], [])
            self.assertTrue(all(0 < s.load_n <= s.bears_n for s in made.supports))
            counts[peel] = len(made.supports)
        self.assertLess(counts[Peel.USUAL], counts[Peel.HARD])

    def test_with_more_to_spare_the_weakest_are_stouter_or_have_others_beside_them(self):
        bench = Stilted(on_plate(sphere(12)), lift=5.0)
        usual, spared = bench.made(), bench.made(replace(USUAL, spare=2.0))
        shares = [max(s.load_n / s.bears_n for s in made.supports) for made in (usual, spared)]
        self.assertGreater(shares[0], 0.6)
        self.assertLessEqual(shares[1], 0.5 + 1e-9)
        self.assertGreater(len(spared.supports), len(usual.supports))
        self.assertEqual(spared.faults, ())

    def test_sizes_go_by_load(self):
        three = sizes(USUAL)
        bears = [size.bears_n(Peel.USUAL) for size in three]
        # 5 N on each mm2: a tip of 0.4 mm bears 0.63 N.
        self.assertAlmostEqual(bears[1], 5 * math.pi * 0.04)
        self.assertEqual(bears, sorted(bears))
        for load, name in (
            (0.0, "fine"),
            (bears[0] + 0.01, "medium"),
            (bears[1] + 0.01, "stout"),
            (99.0, "stout"),
        ):
            self.assertEqual(size_for(load, three, Peel.USUAL).name.value, name)
        self.assertEqual(SHARES[Stoutness.MEDIUM], (1.0, 1.0, 1.0, 1.0))


class WayTest(unittest.TestCase):
    def test_tips_touch_and_shafts_keep_clear(self):
        bench = Stilted(on_plate(stalactites()))
        made = bench.made()
        part = trimesh.Trimesh(np.array(bench.mesh.vertices), np.array(bench.mesh.faces), process=False)
        tips = np.array([s.touch_mm for s in made.supports])
        self.assertLess(trimesh.proximity.closest_point(part, tips)[1].max(), 0.02)
        for one in made.supports:
            low, high = one.upright
            shaft = np.linspace(low, high, 20) + [0.0, 0.0, 1e-6]
            away = trimesh.proximity.closest_point(part, shaft)[1]
            self.assertGreater(away[5:].min(), one.shaft_mm / 2 + 0.2)

    def test_a_shaft_leans_round_what_stands_in_its_way(self):
        # A ceiling over a block that reaches past it by 3 mm: straight down there is no room.
        body = box(6, 30, 40, (-6, 0, 0)) + box(20, 30, 3, (-6, 0, 37)) + box(17, 30, 6, (-6, 0, 10))
        made = Stilted(body).made(replace(USUAL, from_plate=True))
        self.assertTrue(made.supports)
        for one in made.supports:
            self.assertFalse(one.on_part)
            self.assertEqual(one.circles[0, 2] > 0.0, bool(one.stands_on))
            steps = np.diff(one.circles[:, :3], axis=0)
            lean = np.degrees(np.arctan2(np.hypot(steps[:, 0], steps[:, 1]), steps[:, 2]))
            self.assertLessEqual(lean.max(), 45.1)
        self.assertTrue(any(np.ptp(s.circles[:-2, 0]) > 1 for s in made.supports))

    def test_stilts_stay_on_a_plate_that_the_part_fits(self):
        # A cap over a block of the same width: stilts get down only beside it.
        body = box(40, 30, 6) + box(6, 6, 40, (17, 12, 0)) + box(40, 30, 3, (0, 0, 37))
        bench = Stilted(body)

        def reach(plate):
            made = bench.made(replace(USUAL, from_plate=True, plate_mm=plate))
            feet = np.array([(*s.circles[0, :2], s.circles[0, 3]) for s in made.stilts]).reshape(-1, 3)
            return float((np.abs(feet[:, 0] - 20) + feet[:, 2]).max(initial=0.0))

        self.assertGreater(reach(None), 21.0)
        self.assertLessEqual(reach((46.0, 60.0)), 23.0)

    def test_lands_on_the_part_only_where_it_may(self):
        body = box(40, 40, 5) + box(4, 4, 30) + box(40, 40, 4, (0, 0, 30))
        bench = Stilted(body)
        landed = [s for s in bench.made().supports if s.on_part]
        self.assertGreater(len(landed), 40)
        # The point of the foot reaches 0.2 mm into the part at z = 5.
        self.assertEqual({round(float(s.circles[0, 2]), 6) for s in landed}, {4.8})
        self.assertFalse([s for s in bench.made(replace(USUAL, from_plate=True)).supports if s.on_part])

    def test_in_a_hollow_only_where_they_may(self):
        # A box with a flat roof inside, and a shelf outside over its foot: both are held from the part.
        body = box(30, 30, 24) - box(24, 24, 18, (3, 3, 3)) + box(12, 30, 3, (30, 0, 0))
        body += box(12, 30, 3, (30, 0, 18))
        hole = Manifold.cylinder(8, 1.5, 1.5, 24).rotate((0, 90, 0)).translate((-2, 15, 4))
        bench = Stilted(body - hole, 0.2)

        def landed(settings):
            made = bench.made(settings)
            x = np.array([s.touch_mm[0] for s in made.stilts if s.on_part])
            return np.count_nonzero(x < 28), np.count_nonzero(x > 30), made.notes

        inside, outside, _ = landed(USUAL)
        self.assertGreater(inside, 30)
        self.assertGreater(outside, 5)
        none, still, notes = landed(replace(USUAL, inside=False))
        self.assertEqual((none, still), (0, outside))
        self.assertTrue(any("inside hollows" in said for said in notes))
        # On a plate that the part nearly fills too.
        none, still, _ = landed(replace(USUAL, inside=False, plate_mm=(43.0, 31.0)))
        self.assertEqual((none, still), (0, outside))

    def test_a_lifted_part_stands_on_stilts_only(self):
        bench = Stilted(box(20, 20, 5), lift=5.0)
        made = bench.made()
        self.assertGreaterEqual(len(made.supports), 16)
        self.assertEqual(len(made.layers), len(bench.stack) + 50)
        self.assertEqual(bench.in_mid_air(made), [])
        self.assertGreater(made.layers.area_mm2[0], made.layers.area_mm2[30])

    def test_mesh_layers_and_volume_agree(self):
        made = Stilted(tee(), 0.05).made()
        mesh = made.handoff_mesh()
        self.assertTrue(edges(mesh).closed)
        volume = facts(mesh).volume_mm3
        self.assertAlmostEqual(made.volume_mm3 / volume, 1, delta=0.01)
        for one in made.supports[:3]:
            self.assertAlmostEqual(facts(one.mesh()).volume_mm3, one.volume_mm3, delta=0.02 * one.volume_mm3)

    def test_frusta_that_are_drawn_are_the_stilts_and_braces(self):
        made = Stilted(tee(), 0.05).made()
        self.assertGreater(len(made.braces), 0)
        rows, at = made.frusta, 0
        for one, facets in zip(made.supports, made.drawn_facets(), strict=True):
            count = facets // 44
            own = rows[at : at + count]
            at += count
            np.testing.assert_array_equal(own[:, :4], one.circles[:-1])
            np.testing.assert_array_equal(own[:, 4:8], one.circles[1:])
            self.assertEqual(own[0, 8], 2 if count > 1 else 6)
            self.assertEqual(own[-1, 8], 4 if count > 1 else 6)
            self.assertFalse(own[1:-1, 8].any())
        for row, bar in zip(rows[at:], made.braces, strict=True):
            np.testing.assert_array_equal(row[[0, 1, 2, 4, 5, 6]], bar.ends_mm.ravel())
            self.assertEqual(row[[3, 7, 8]].tolist(), [bar.radius_mm, bar.radius_mm, 7.0])

    def test_frustum_volume(self):
        # Twelve-sided cone frustum, h/3 (A1 + A2 + sqrt(A1 A2)).
        circles = np.array([[0, 0, 0, 2.0], [0, 0, 3, 1.0]])
        expected = mesh_of(Manifold.cylinder(3, 2, 1, 12))
        self.assertAlmostEqual(stilt_volume_mm3(circles), facts(expected).volume_mm3, delta=1e-6)

    def test_none_stands_on_a_steep_slope_of_the_part(self):
        # A shelf over a roof that rises to one side, far past the shelf on all sides: a foot there would slip.
        def over(rise, settings=USUAL):
            roof = CrossSection([[(-40, 0), (40, 0), (40, 1 + rise), (-40, 1)]])
            body = roof.extrude(80).rotate((90, 0, 0)).translate((0, 40, 0))
            shelf = box(40, 8, 4, (-36, -4, rise + 20)) + box(4, 8, rise + 22, (-40, -4, 0))
            made = Stilted(body + shelf, 0.5, limit=45.0).made(replace(settings, spacing_mm=4.0))
            return [s for s in made.supports if s.on_part]

        self.assertGreater(len(over(8.0)), 3)
        # 74 degrees: a shaft would have the surface 2 mm higher on one side than on the other.
        self.assertEqual(len(over(140.0)), 0)
        # A slim one keeps clear of a slope of 50 degrees with its shaft, and would slip off it all the same.
        slim = replace(USUAL, shaft_mm=0.5)
        self.assertGreater(len(over(8.0, slim)), 3)
        self.assertEqual(len(over(95.0, slim)), 0)


class SeenTest(unittest.TestCase):
    """How much marks are seen."""

    def test_by_whoever_walks_round_the_part(self):
        tree = Tree.of(mesh_of(box(20, 20, 20) - box(4, 4, 10, (8, 8, 10))))
        places = np.array([[20.0, 10, 10], [10, 10, 0], [10, 10, 20], [8.0, 10, 11], [20, 20, 10]])
        outward = np.array([[1.0, 0, 0], [0, 0, -1], [0, 0, 1], [1, 0, 0], [1, 1, 0] / np.sqrt(2)])
        side, under, top, inside, corner = seen_shares(places, outward, tree, np.array([0.0, 0, 1]))
        # A wall is seen from half the sides; those that look right along it may see it or not.
        self.assertAlmostEqual(side, 7.5 / 16, delta=0.04)
        self.assertEqual((under, inside), (0, 0))
        # From above only by those who stand higher.
        self.assertAlmostEqual(top, 0.5)
        self.assertGreater(corner, side - 1e-9)
        # Hung upside down the same place is the underside of the part as it came.
        again = seen_shares(places, outward, tree, np.array([0.0, 0, -1]))
        np.testing.assert_allclose(again[1:3], [0.5, 0.0])

    def test_where_a_show_side_is_given_that_counts(self):
        bench = Stilted(box(30, 20, 3, (0, 0, 20)) + box(4, 20, 23, (-4, 0, 0)))
        self.assertEqual(bench.made().marks_seen, 0)
        middles = bench.mesh.vertices[bench.mesh.faces].mean(axis=1)
        down = facet_normals(bench.mesh)[0][:, 2] < -0.5
        shown = Shown(bench.tree, down & (middles[:, 2] > 10))
        ground = Ground(bench.mesh, bench.tree, bench.stack, bench.hanging, shown=shown)
        made = make_stilts(ground, bench.limit, USUAL)
        self.assertEqual(made.marks_seen, len(made.stilts))

    def test_a_show_side_is_spared_where_tips_beside_it_will_do(self):
        bench = Stilted(box(30, 20, 3, (0, 0, 20)) + box(4, 20, 23, (-4, 0, 0)))
        fine = refined(bench.mesh)
        # A strip of 3 mm across the ceiling: tips on both sides of it are 3 mm apart.
        strip = (fine.normals[:, 2] < -0.5) & (np.abs(fine.middles_mm[:, 0] - 15) < 1.5)
        shown = Shown(Tree.of(fine.mesh), strip)

        def on_strip(made):
            return sum(abs(one.touch_mm[0] - 15) < 1.3 for one in made.stilts)

        plain = make_stilts(Ground(bench.mesh, bench.tree, bench.stack, bench.hanging), bench.limit, USUAL)
        aside = make_stilts(
            Ground(bench.mesh, bench.tree, bench.stack, bench.hanging, shown=shown), bench.limit, USUAL
        )
        self.assertGreater(on_strip(plain), 4)
        self.assertLess(on_strip(aside), on_strip(plain) / 2)
        self.assertEqual(aside.faults, ())
        # Nothing is left hanging for it: about as many tips as before.
        self.assertGreater(len(aside.stilts), 0.8 * len(plain.stilts))

    def test_beside_points_and_for_loads_the_show_side_is_spared_too(self):
        body, points = spikes(1, 3)
        bench = Stilted(body)
        fine = refined(bench.mesh)
        # One half of each cone, all that looks along x.
        half = (fine.normals[:, 0] > 0.05) & (fine.normals[:, 2] < -0.05)
        shown = Shown(Tree.of(fine.mesh), half)

        def made(on_show, settings=USUAL):
            ground = Ground(
                bench.mesh, bench.tree, bench.stack, bench.hanging, shown=shown if on_show else None
            )
            return make_stilts(ground, bench.limit, settings)

        def on_half(made):
            # Beside the points, which themselves lie in the middle.
            return sum(
                min(one.touch_mm[0] - x for x in points[:, 0] if abs(one.touch_mm[0] - x) < 2.4) > 0.1
                for one in made.stilts
                if 16.1 < one.touch_mm[2] < 19.8
            )

        plain, aside = made(False), made(True)
        self.assertGreaterEqual(on_half(plain), 3)
        self.assertEqual(on_half(aside), 0)
        self.assertEqual((aside.faults, aside.unheld_islands), ((), ()))
        # Weak tips: many are added for their load, those on the show side last.
        weak = replace(USUAL, tip_mm=0.2)
        plain, aside = made(False, weak), made(True, weak)
        by_load = [one for one in plain.stilts if one.reason == "load"]
        self.assertGreater(len(by_load), 5)
        self.assertLess(aside.marks_seen, sum(shown.over(plain_tips(plain))))


def plain_tips(made):
    """Places (n, 3) of the tips of stilts."""
    return np.array([one.touch_mm for one in made.stilts])


class BraceTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        # A plate high above the bed.
        cls.bench = Stilted(box(30, 30, 3), 0.25, lift=60.0)
        cls.made = cls.bench.made()

    def test_tall_stilts_are_braced_and_short_ones_are_not(self):
        standing = [one for one in self.made.supports if not one.stands_on]
        self.assertGreater(len(self.made.braces), len(standing) / 2)
        self.assertEqual(self.made.faults, ())
        self.assertEqual(Stilted(box(20, 20, 3), lift=3.0).made().braces, ())

    def test_a_stilt_that_stands_alone_is_made_thicker(self):
        bench = Stilted(box(1.2, 1.2, 3), 0.25, lift=60.0)
        made = bench.made()
        self.assertEqual((made.braces, made.faults), ((), ()))
        self.assertGreater(min(s.shaft_mm for s in made.stilts), 60 / 40 - 0.05)

    def test_they_rise_at_45_degrees_and_end_in_their_stilts(self):
        named = {s.id: s for s in self.made.supports}
        self.assertEqual(len(named), len(self.made.supports))
        for bar in self.made.braces:
            way = bar.ends_mm[1] - bar.ends_mm[0]
            self.assertAlmostEqual(
                math.degrees(math.atan2(way[2], math.hypot(way[0], way[1]))), 45, delta=0.01
            )
            for end in bar.ends_mm:
                x, y, _ = min(
                    (named[name].circle_at(float(end[2])) for name in bar.between),
                    key=lambda c: math.hypot(c[0] - end[0], c[1] - end[1]),
                )
                self.assertLess(math.hypot(x - end[0], y - end[1]), 1e-6)

    def test_one_above_another_they_run_the_other_way(self):
        by_pair = {}
        for bar in sorted(self.made.braces, key=lambda bar: bar.ends_mm[0, 2]):
            # Those that steady a shaft begin between.
            if (bar.ends_mm[0, 2] - 3.0) % 25.0 < 1e-6:
                by_pair.setdefault(tuple(sorted(bar.between)), []).append(bar.ends_mm)
        several = [ends for ends in by_pair.values() if len(ends) > 1]
        self.assertTrue(several)
        for ends in several:
            for low, high in itertools.pairwise(ends):
                np.testing.assert_allclose(low[0, :2], high[1, :2])
                self.assertAlmostEqual(high[0, 2] - low[0, 2], 25.0)

    def test_they_keep_clear_of_the_part(self):
        # A fin hangs down between the stilts of both sides.
        bench = Stilted(box(30, 30, 3, (0, 0, 40)) + box(1, 30, 40, (14.5, 0, 0)), 0.25, lift=20.0)
        made = bench.made()
        self.assertTrue(made.braces)
        part = trimesh.Trimesh(np.array(bench.mesh.vertices), np.array(bench.mesh.faces), process=False)
        for bar in made.braces:
            axis = np.linspace(*bar.ends_mm, 30)
            away = trimesh.proximity.closest_point(part, axis)[1].min()
            self.assertGreater(away, bar.radius_mm + USUAL.clearance_mm - 0.01)
        self.assertEqual(made.faults, ())

    def test_a_bar_has_the_volume_of_its_axis_and_section(self):
        bar = Brace("b", ("a", "c"), np.array([[0.0, 0, 0], [6, 0, 6]]), 0.5)
        # A level cut is a dodecagon stretched by the slant: its area times the height.
        expected = 0.5 * 12 * math.sin(2 * math.pi / 12) * 0.25 * math.sqrt(2) * 6
        self.assertAlmostEqual(bar.volume_mm3, expected, places=9)
        self.assertAlmostEqual(facts(bar.mesh()).volume_mm3, expected, places=9)
        self.assertTrue(edges(bar.mesh()).closed)
        (ring,) = bar.rings(np.array([3.0]))
        np.testing.assert_allclose(ring.mean(axis=0), [3, 0], atol=1e-9)
        self.assertAlmostEqual(np.ptp(ring[:, 0]), math.sqrt(2), places=9)
        self.assertAlmostEqual(np.ptp(ring[:, 1]), 1.0, places=9)

    def test_what_meets_is_counted_once(self):
        def post(x):
            circles = np.array([[x, 0, 0, 1.0], [x, 0, 1, 1.0], [x, 0, 2, 1.0], [x, 0, 2.5, 1.0]])
            return Stilt(f"{x}", "", (x, 0, 2), False, 0.0, circles, 1)

        stack = self.bench.stack
        two = stilt_layers([post(0.0), post(1.0)], [], stack, lambda *_: None)
        section = CrossSection(list(circle_rings(np.array([[0.0, 0, 1.0], [1.0, 0, 1.0]]))))
        self.assertAlmostEqual(two.area_mm2[2], section.area(), places=6)
        self.assertEqual(len(two.rings(2)), 1)
        apart = stilt_layers([post(0.0), post(3.0)], [], stack, lambda *_: None)
        self.assertEqual(len(apart.rings(2)), 2)
        self.assertAlmostEqual(apart.area_mm2[2], 2 * CIRCLE_AREA, places=9)

    def test_they_print_with_the_stilts(self):
        plain = replace(self.made, braces=())
        more = facts(self.made.handoff_mesh()).volume_mm3 - facts(plain.handoff_mesh()).volume_mm3
        self.assertGreater(more, 10)
        self.assertAlmostEqual(
            self.made.volume_mm3 / facts(self.made.handoff_mesh()).volume_mm3, 1, delta=0.01
        )
        self.assertEqual(self.bench.in_mid_air(self.made, 0.15), [])


class CheckTest(unittest.TestCase):
    """Stilts broken on purpose: the check finds each."""

    @classmethod
    def setUpClass(cls):
        cls.bench = Stilted(on_plate(stalactites()))
        cls.made = cls.bench.made()

    def broken(self, **changes):
        """The first stilt to the plate changed."""
        first = next(s for s in self.made.supports if not s.on_part)
        rest = tuple(s for s in self.made.supports if s is not first)
        given = {k: v(first) for k, v in changes.items()}
        return self.bench.faults(replace(self.made, supports=(replace(first, **given), *rest)))

    def test_as_it_is_nothing_is_wrong(self):
        self.assertEqual(self.bench.faults(self.made), set())

    def test_what_nothing_holds(self):
        layers = self.made.layers
        rings = [[] if k < len(layers) // 2 else layers.rings(k) for k in range(len(layers))]
        low = replace(self.made, layers=pack(rings, [0.0] * len(layers), layers.layer_mm, 0.0))
        self.assertEqual(self.bench.faults(low), {"floats"})

    def test_what_lost_its_feet(self):
        layers = self.made.layers
        rings = [[] if k < 3 else layers.rings(k) for k in range(len(layers))]
        bare = pack(rings, [0.0] * len(layers), layers.layer_mm, 0.0)
        self.assertIn("floats", self.bench.faults(replace(self.made, layers=bare)))

    def test_a_lifted_part_without_stilts(self):
        bench = Stilted(box(10, 10, 5), 0.25, lift=5.0)
        made = bench.made()
        self.assertEqual(bench.faults(made), set())
        empty = pack([[] for _ in range(len(made.layers))], [0.0] * len(made.layers), 0.25, 0.0)
        self.assertEqual(bench.faults(replace(made, supports=(), braces=(), layers=empty)), {"floats"})

    def test_a_point_may_hang_free_a_little_and_nothing_else(self):
        def floats(wide, touches_at):
            """A bar that begins 5 mm up, and a post that leans on it from so high on."""
            bench = Stilted(box(wide, wide, 5), 0.1, lift=5.0)
            x = bench.mesh.bounds[0, 0]
            turn = 2 * np.pi * np.arange(24) / 24
            rings = []
            for level in range(100):
                away = 1.9 if (level + 0.5) * 0.1 > touches_at else 2.1
                middle = np.array([x - away, wide / 2])
                rings.append([middle + 2.0 * np.stack([np.cos(turn), np.sin(turn)], axis=1)])
            made = SupportSet((), pack(rings, [0.0] * 100, 0.1, 0.0), 0.0, ())
            return bench.faults(made) == {"floats"}

        self.assertFalse(floats(0.8, 5.3))
        self.assertTrue(floats(0.8, 6.0))
        self.assertTrue(floats(3.0, 5.3))

    def test_two_points_that_meet_in_mid_air_do_not_hold_each_other(self):
        # Both begin within half a millimetre of where they join, and nothing is below either.
        body = box(0.6, 0.6, 4) + box(0.6, 0.6, 3.8, (1.2, 0, 0.2)) + box(1.8, 0.6, 3.5, (0, 0, 0.5))
        bench = Stilted(body, 0.1, lift=5.0)
        made = bench.made()
        self.assertEqual(bench.faults(made), set())
        empty = pack([[] for _ in range(len(made.layers))], [0.0] * len(made.layers), 0.1, 0.0)
        alone = replace(made, supports=(), braces=(), layers=empty)
        told = [f for f in verify_stilts(alone, bench.stack, bench.tree) if f.kind.value == "floats"]
        self.assertEqual(len(told), 2)

    def test_a_tip_that_stops_short(self):
        self.assertIn("not held", self.broken(circles=lambda s: s.circles - [0, 0, 1.5, 0]))

    def test_in_figures_what_a_short_tip_was_for_is_not_held(self):
        first = self.made.supports[0]
        low = replace(first, circles=first.circles - [0, 0, 1.5, 0])
        made = replace(self.made, supports=(low, *self.made.supports[1:]))
        made = replace(made, faults=tuple(verify_stilts(made, self.bench.stack, self.bench.tree)))
        for given, held in ((self.made, True), (made, False)):
            told = in_figures(given, self.bench.tree, np.array([2.0, 3.0, 0.0]))
            self.assertEqual({p["id"]: p["held"] for p in told["patches"]}[first.reason], held)
            x, y, z = first.touch_mm
            self.assertEqual(told["tips"][0]["at_mm"], [x - 2.0, y - 3.0, z])
            self.assertEqual(len(told["braces"]), len(given.braces))

    def test_a_foot_on_nothing(self):
        self.assertIn("floats", self.broken(circles=lambda s: s.circles[1:]))

    def test_those_that_run_through_a_thin_plate_are_told_and_no_others(self):
        # Where each runs within the plate.
        heights = np.linspace(8.68, 8.02, 12)
        at = [[s.circle_at(z) for z in heights] for s in self.made.supports]
        under = [[one[1] for one in own if one] for own in at if any(own)]
        cut = sorted(own[0] for own in under)[len(under) // 2] + 0.01
        body = self.bench.solid.manifold + box(200, 200, 0.7, (-100, cut - 200, 8.0))
        told = verify_stilts(self.made, self.bench.stack, Tree.of(mesh_of(body)))
        places = [f.at_mm for f in told if f.kind.value == "crosses the part"]
        for at in places:
            self.assertTrue(8.0 <= at[2] <= 8.7 and at[1] < cut, at)
        expected = [own for own in under if min(own) < cut]
        self.assertTrue(1 < len(expected) < len(under))
        self.assertEqual(len(places), len(expected))

    def test_one_that_runs_through_the_part(self):
        self.assertIn("crosses the part", self.broken(circles=lambda s: s.circles + [0, 0, 12.0, 0]))

    def test_a_thin_and_an_overloaded_one(self):
        thin = self.broken(circles=lambda s: s.circles * [1, 1, 1, 0.1])
        self.assertIn("slender", thin)
        self.assertIn("overloaded", self.broken(load_n=lambda s: 2 * s.bears_n))

    def test_a_brace_beside_its_stilt(self):
        one, two = self.made.supports[:2]
        bar = Brace("b", (one.id, two.id), np.array([[90.0, 0, 3], [95, 0, 8]]), 0.3)
        self.assertIn("floats", self.bench.faults(replace(self.made, braces=(bar,))))


if __name__ == "__main__":
    unittest.main()

"""Filament supports: patches, lines, grids, posts and trees, and the check that finds what is broken."""

import itertools
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold, OpType

from tests.core.test_split import into_boxes
from tests.held import USUAL, Bench, hold_part, table
from tests.support import box, comb, on_plate, portal, sphere, stalactites, tee
from upright_heron.core.geometry.mesh import facts
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.marking.mark import Mark
from upright_heron.core.marking.marks import blank, painted
from upright_heron.core.split.grid import box_for
from upright_heron.core.stance.pose import place
from upright_heron.core.supports.checks.removal import Out, reach
from upright_heron.core.supports.demand.patches import Hold, Style, proposed_style
from upright_heron.core.supports.filament.finish import finished
from upright_heron.core.supports.filament.styles import chosen_styles, grow_supports
from upright_heron.core.supports.model import Branches, Column, Slab
from upright_heron.demo.shapes import SHAPES


class DemandTest(unittest.TestCase):
    def test_patches_say_why_and_are_one_for_each_finding(self):
        found = Bench(comb()).patches
        self.assertEqual(
            [p.reason for p in found], ["island 1, overhang 1", "island 2, overhang 2", "overhang 3"]
        )
        self.assertAlmostEqual(found[0].area_mm2, 25, delta=2)
        self.assertEqual([p.reason for p in Bench(stalactites()).patches][:2], ["island 1", "island 2"])

    def test_what_to_hold_is_one_choice(self):
        self.assertEqual(len(Bench(comb(), hold=Hold.ISLANDS).patches), 2)
        self.assertEqual(Bench(comb(), hold=Hold.PAINTED).patches, [])
        self.assertEqual(Bench(box(10, 10, 10)).patches, [])

    def test_what_the_technician_lets_be_is_left_and_nothing_else(self):
        every = Bench(tee()).patches
        some = Bench(tee(), let_be=frozenset([every[0].id])).patches
        self.assertEqual([p.id for p in some], [every[1].id])

    def test_bridges_that_carry_themselves_and_slopes_inside_the_limit(self):
        self.assertEqual(Bench(portal(), bridge_mm=20.0).patches, [])
        self.assertEqual(len(Bench(portal(), bridge_mm=10.0).patches), 1)
        ball = Bench(sphere(10, 64).translate((0, 0, 10)), limit=45.0).patches
        steeper = Bench(sphere(10, 64).translate((0, 0, 10)), limit=60.0).patches
        self.assertGreater(ball[0].area_mm2, steeper[0].area_mm2)

    def test_painted_undersides_are_held(self):
        def prop(fine):
            under = np.flatnonzero(np.abs(fine.middles_mm[:, 2] - 20) < 1e-6)
            return painted(blank(fine), under, Mark.PROP)

        (patch,) = Bench(portal(), bridge_mm=20.0, marks=prop).patches
        self.assertEqual(patch.reason, "painted")
        self.assertAlmostEqual(patch.area_mm2, 300, delta=1)

    def test_what_is_painted_adds_to_what_hangs_in_the_same_layer(self):
        def prop(fine):
            under = (np.abs(fine.middles_mm[:, 2] - 20) < 1e-6) & (fine.middles_mm[:, 0] < 40)
            return painted(blank(fine), np.flatnonzero(under), Mark.PROP)

        # Beside the doorway, whose lintel carries itself, a shelf hangs out as high.
        found = Bench(portal() + box(12, 15, 10, (40, 0, 20)), bridge_mm=20.0, marks=prop).patches
        self.assertEqual(sorted(round(p.area_mm2, -1) for p in found), [180, 300])
        self.assertEqual({p.reason for p in found}, {"painted", "overhang 2"})

    def test_what_is_painted_and_held_anyway_is_one_patch(self):
        def prop(fine):
            under = np.flatnonzero(fine.normals[:, 2] < -0.5)
            return painted(blank(fine), under, Mark.PROP)

        self.assertEqual(
            [p.reason for p in Bench(tee(), marks=prop).patches], [p.reason for p in Bench(tee()).patches]
        )

    def test_proposed_styles(self):
        styles = {p.reason: proposed_style(p)[0] for p in Bench(table()).patches}
        self.assertEqual(list(styles.values()), [Style.LINES])
        self.assertEqual(proposed_style(Bench(stalactites()).patches[0])[0], Style.PILLAR)

    def test_what_hangs_round_a_hole_is_held_all_round(self):
        # The lowest layers of a ball reach out in rings, whose holes have as many corners as their rims.
        (patch,) = Bench(on_plate(sphere(10, 256)), 0.1).patches
        # Plan area of what is steeper than 45 degrees, pi R2 sin2(45), less what is told late by the layers.
        self.assertGreater(patch.area_mm2, 0.94 * 50 * np.pi)
        self.assertLess(patch.area_mm2, 50 * np.pi)


class AreaTest(unittest.TestCase):
    def test_lines_and_grid_use_their_density(self):
        bench = Bench(table())
        under, h = 3600 - 4 * 16, 30 - 0.2
        for style, share in (
            (Style.LINES, 0.44 / 2.2),
            (Style.GRID, 1 - (1 - 0.44 / 2.2) ** 2),
        ):
            with self.subTest(style):
                made = bench.make(style)
                # Walls at their spacing, and two solid layers on top.
                expected = under * share * (h - 0.4) + under * 0.4
                self.assertAlmostEqual(made.volume_mm3 / expected, 1, delta=0.1)
                self.assertEqual(made.faults, ())

    def test_interface_slits_and_from_the_plate(self):
        bench = Bench(table())
        plain = bench.make(Style.LINES, given=replace(USUAL, interface_layers=0)).volume_mm3
        slit = bench.make(Style.LINES, given=replace(USUAL, interface_layers=0, slit_mm=10)).volume_mm3
        self.assertAlmostEqual(slit / plain, 1 - 0.66 / 10, delta=0.02)
        both = box(60, 20, 4, (0, 0, 20)) + box(4, 20, 20) + box(20, 20, 6, (30, 0, 0)) + box(30, 20, 1)
        over = Bench(both)
        only = over.make(Style.LINES, given=replace(USUAL, from_plate=True))
        self.assertFalse(any(s.on_part for s in only.supports))
        self.assertLess(only.volume_mm3, over.make(Style.LINES).volume_mm3)

    def test_single_patches_may_stand_on_the_plate_only_or_on_the_part_too(self):
        # A plate over a floor: both undersides of the T could stand on it.
        body = tee().translate((0, 0, 4)) + box(160, 120, 4, (-75, -55, 0))
        bench = Bench(body)
        one = bench.patches[0].id
        for style in (Style.LINES, Style.TREE):
            with self.subTest(style.value):
                every = {p.id: p.held for p in bench.make(style).patches}
                self.assertTrue(all(every.values()))
                some = bench.make(style, given=replace(USUAL, otherwise=frozenset([one])))
                self.assertEqual({p.id for p in some.patches if not p.held}, {one})
                given = replace(USUAL, from_plate=True, otherwise=frozenset([one]))
                others = {p.id for p in bench.make(style, given=given).patches if p.held}
                self.assertEqual(others, {one})

    def test_each_connected_body_is_a_support_of_its_own(self):
        # A wall that ends right below a plate parts what stands under it, not what hangs.
        bench = Bench(box(60, 20, 5, (0, 0, 20)) + box(3, 3, 20) + box(4, 22, 19.7, (28, -1, 0)))
        self.assertEqual(len(bench.patches), 1)
        made = bench.make(Style.LINES)
        self.assertEqual(len(made.supports), 2)
        left, right = sorted(made.supports, key=lambda s: s.touch_mm[0])
        self.assertLess(left.slabs[0].section.bounds()[2], 28)
        self.assertGreater(right.slabs[0].section.bounds()[0], 32)
        self.assertEqual(len({s.id for s in made.supports}), len(made.supports))
        self.assertEqual(made.faults, ())
        self.assertEqual([s.id for s in bench.make(Style.LINES).supports], [s.id for s in made.supports])

    def test_the_file_holds_what_is_shown(self):
        for style in (Style.LINES, Style.TREE):
            made = Bench(tee()).make(style)
            with self.subTest(style):
                self.assertAlmostEqual(facts(made.handoff_mesh()).volume_mm3 / made.volume_mm3, 1, delta=1e-4)


class TreeTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.bench = Bench(table())
        cls.made = cls.bench.make(Style.TREE)

    def test_every_tip_is_reached_and_nothing_is_wrong(self):
        self.assertEqual(self.made.faults, ())
        self.assertTrue(all(isinstance(s, Branches) and not s.on_part for s in self.made.supports))
        tips = sum(len(np.setdiff1d(np.arange(len(s.nodes)), s.down)) for s in self.made.supports)
        self.assertGreater(tips, 150)
        self.assertLess(len(self.made.supports), tips / 3, "branches come together")

    def test_branches_lean_no_more_than_they_may(self):
        for asked in (USUAL, replace(USUAL, branch_deg=20.0)):
            made = self.bench.make(Style.TREE, given=asked)
            self.assertLessEqual(max(s.lean_deg for s in made.supports), asked.branch_deg + 0.1)

    def test_trunks_are_filled_and_walled_as_asked(self):
        stout = replace(USUAL, trunk_mm=12.0, taper_mm=1.0)
        hollow = self.bench.make(Style.TREE, given=stout).volume_mm3
        walled = self.bench.make(Style.TREE, given=replace(stout, walls=4)).volume_mm3
        half = self.bench.make(Style.TREE, given=replace(stout, fill=0.5)).volume_mm3
        whole = self.bench.make(Style.TREE, given=replace(stout, fill=1.0)).volume_mm3
        self.assertLess(hollow, walled)
        self.assertLess(hollow, half)
        # Strips at twice their width fill half of what is hollow.
        self.assertAlmostEqual((half - hollow) / (whole - hollow), 0.5, delta=0.06)

    def test_branches_thicken_by_their_taper(self):
        # Points hang at 13.5 mm, posts stay by themselves: the taper is what they gain over 10 mm.
        bench = Bench(stalactites())
        for taper in (0.0, 0.6):
            made = bench.make(Style.PILLAR, given=replace(USUAL, taper_mm=taper))
            for post in (s for s in made.supports if "island" in s.reason):
                low = post.nodes[np.argsort(post.nodes[:, 2])[1]]
                self.assertAlmostEqual(2 * low[3], 1.2 + taper * (13.2 - low[2]) / 10, places=6)

    def test_no_branch_stands_thick_on_thin(self):
        for support in self.made.supports:
            runs = np.flatnonzero(support.down >= 0)
            grows = support.nodes[runs, 3] - support.nodes[support.down[runs], 3]
            self.assertLess((grows / np.ptp(support.nodes[:, 2])).max(), 0.2)

    def test_they_keep_clear_of_the_part(self):
        # Measured outside: distance of points on the shells from the part, tips aside.
        body = Bench(tee() + box(6, 10, 10, (0, 0, 0)))
        made = body.make(Style.TREE)
        part = trimesh.Trimesh(body.mesh.vertices, body.mesh.faces, process=False)
        near = []
        for support in made.supports:
            nodes = support.nodes[(support.nodes[:, 2] < 15) & (support.nodes[:, 2] > 1)]
            if len(nodes):
                away = -trimesh.proximity.signed_distance(part, nodes[:, :3]) - nodes[:, 3]
                near.append(away.min())
        self.assertGreaterEqual(min(near), 0.45 - 0.05)

    def test_they_use_less_than_a_third_of_a_grid(self):
        self.assertLess(self.made.volume_mm3, self.bench.make(Style.GRID).volume_mm3 / 3)

    def test_the_same_again(self):
        again = self.bench.make(Style.TREE)
        self.assertEqual([s.id for s in again.supports], [s.id for s in self.made.supports])
        self.assertEqual(len({s.id for s in again.supports}), len(again.supports))
        np.testing.assert_array_equal(again.layers.area_mm2, self.made.layers.area_mm2)

    def test_where_only_the_part_lies_below_they_stand_on_it_or_say_so(self):
        cave = box(40, 40, 30) - box(30, 30, 20, (5, 5, 5))
        bench = Bench(cave)
        self.assertTrue(all(s.on_part for s in bench.make(Style.TREE).supports))
        only = bench.make(Style.TREE, given=replace(USUAL, from_plate=True))
        self.assertTrue(any(f.kind == "not held" and "no way" in f.words for f in only.faults))

    def test_a_crevice_is_held_by_short_posts(self):
        # 1.6 mm between two slabs: less than a step of the branches, and no way out at its side.
        wall = box(30, 30, 1.6, (-15, -15, 10)) - box(24, 24, 1.6, (-12, -12, 10))
        slabs = [box(30, 30, 10, (-15, -15, 0)), box(30, 30, 4, (-15, -15, 11.6))]
        bench = Bench(Manifold.batch_boolean([*slabs, wall], OpType.Add))
        made = bench.make(Style.TREE)
        self.assertEqual((made.faults, [p.lost for p in made.patches]), ((), [""] * len(made.patches)))
        self.assertTrue(all(s.on_part and 0.8 < np.ptp(s.nodes[:, 2]) < 1.4 for s in made.supports))
        self.assertGreater(len(made.supports), 20)

    def test_a_crevice_too_low_for_one_layer_of_support_is_told(self):
        # Gaps of one layer above and below, and one layer between them: from 0.6 mm on something fits.
        for high, fits in ((0.4, False), (0.6, True)):
            wall = box(30, 30, high, (-15, -15, 10)) - box(24, 24, high, (-12, -12, 10))
            slabs = [box(30, 30, 10, (-15, -15, 0)), box(30, 30, 4, (-15, -15, 10 + high))]
            bench = Bench(Manifold.batch_boolean([*slabs, wall], OpType.Add))
            for style in (Style.TREE, Style.GRID):
                with self.subTest(high=high, style=style):
                    made = bench.make(style)
                    if fits:
                        self.assertEqual(made.faults, ())
                        self.assertTrue(made.supports)
                        continue
                    self.assertEqual(made.supports, ())
                    (fault,) = made.faults
                    self.assertIn("the part is 0.4 mm below it, too near for a layer", fault.words)

    def test_a_post_that_finds_no_way_stands_elsewhere(self):
        # Right under the middle of the slab a block leaves no way to the plate.
        slab, leg = box(50, 8, 3, (-25, -4, 20)), box(4, 8, 20, (-25, -4, 0))
        block = box(24, 30, 18, (-12, -15, 0))
        bench = Bench(Manifold.batch_boolean([slab, leg, block], OpType.Add))
        made = bench.make(Style.PILLAR, given=replace(USUAL, from_plate=True))
        self.assertFalse(any(post.on_part for post in made.supports))
        self.assertGreater(min(abs(post.touch_mm[0]) for post in made.supports), 10)
        # What hangs over the middle of the block stays bare, and is told.
        self.assertEqual([fault.kind for fault in made.faults], ["not held"])

    def test_thick_trunks_stay_thick_beside_what_stands_below(self):
        # Everything hangs over a block: each trunk has to get past its edge, and must not stand on a twig.
        roof, post = box(50, 50, 4, (-25, -25, 70)), box(4, 50, 70, (-25, -25, 0))
        bench = Bench(Manifold.batch_boolean([roof, post, box(60, 60, 8, (-21, -30, 0))], OpType.Add))
        made = bench.make(Style.TREE, given=replace(USUAL, from_plate=True))
        self.assertEqual(made.faults, ())
        for tree in made.supports:
            up = {}
            for node, below in enumerate(tree.down.tolist()):
                up.setdefault(below, []).append(node)
            at, thick = tree.foot, []
            while tree.nodes[at, 2] < 30:
                thick.append(tree.nodes[at, 3])
                at = max(up[at], key=lambda node: tree.nodes[node, 3])
            self.assertGreater(min(thick), 1.9)

    def test_what_begins_in_a_hole_is_held_from_within_it(self):
        # A counterbore of 10 mm that opens downwards: its shoulder is held from the plate, and comes off.
        bored = box(30, 30, 20) - Manifold.cylinder(8, 5, 5, 48).translate((15, 15, 0))
        bored -= Manifold.cylinder(30, 2.5, 2.5, 48).translate((15, 15, -1))
        # A hollow of 10 mm with no way out: held from its floor, and fast in it.
        hollow = box(30, 30, 24) - Manifold.cylinder(10, 5, 5, 48).translate((15, 15, 6))
        for body, on_part, out in ((bored, False, Out.FREE), (hollow, True, Out.TRAPPED)):
            with self.subTest(out):
                bench = Bench(body, bridge_mm=3.0)
                made = bench.make(Style.TREE)
                self.assertEqual((made.faults, [p.lost for p in made.patches if p.lost]), ((), []))
                self.assertEqual({s.on_part for s in made.supports}, {on_part})
                for tree in made.supports:
                    rim = np.hypot(*(tree.nodes[:, :2] - 15).T) + tree.nodes[:, 3]
                    self.assertLess(float(rim.max()), 5.0)
                    # Right below its tips a branch comes off the wall; its foot keeps clear too.
                    low = tree.nodes[:, 2] < tree.touch_mm[2] - 3.0
                    self.assertLess(float(rim[low].max()), 5.0 - USUAL.clearance_mm)
                self.assertEqual({a.out for a in reach(made.supports, bench.tree, 3.0)}, {out})

    def test_no_branch_goes_through_a_bore(self):
        # An arm over a block with a bore of 8 mm: the plate could be reached through it, and is not.
        block = box(30, 30, 10) - Manifold.cylinder(12, 4, 4, 32).translate((15, 15, -1))
        arm = block + box(30, 3, 40) + box(30, 30, 4, (0, 0, 40))
        made = Bench(arm).make(Style.TREE)
        for support in made.supports:
            low = support.nodes[support.nodes[:, 2] < 9.0]
            inside = np.linalg.norm(low[:, :2] - [15, 15], axis=1) < 4.5
            self.assertFalse(inside.any())
        self.assertEqual([f for f in made.faults if f.kind == "not held"], [])

    def test_posts_are_one_for_a_spot_with_a_neck(self):
        made = Bench(stalactites()).make(Style.PILLAR)
        self.assertEqual(len([s for s in made.supports if s.style == "pillar"]), len(made.supports))
        post = min(made.supports, key=lambda s: len(s.nodes))
        radii = post.nodes[np.argsort(-post.nodes[:, 2]), 3]
        self.assertLess(radii[1], radii[2], "thinner a little below the tip")


class OnPlateTest(unittest.TestCase):
    def test_branches_stay_on_a_plate_that_the_part_fits(self):
        """Out round a disc of 48 mm they lean to 28 and 29 mm from its middle where nothing limits them."""
        body = Manifold.cylinder(6, 24, 24, 48) + Manifold.cylinder(40, 6, 6, 32)
        bench = Bench(body + Manifold.cylinder(4, 22, 22, 48).translate((0, 0, 40)))
        held = chosen_styles(bench.patches, Style.TREE, {})

        def reach(plate):
            asked = replace(USUAL, plate_mm=plate, from_plate=True)
            made = grow_supports(bench.stack, held, asked, bench.tree)
            self.assertEqual(made.lost, {})
            nodes = np.concatenate([one.nodes for one in made.supports])
            return (np.abs(nodes[:, :2]) + nodes[:, 3:]).max(axis=0)

        self.assertGreater(reach(None).min(), 27.5)
        along, across = reach((54.0, 200.0))
        self.assertLessEqual(along, 27.0)
        self.assertGreater(across, 27.5)
        # One that the part itself does not fit sets no limit.
        np.testing.assert_allclose(reach((40.0, 200.0)), reach(None))


class PatchByPatchTest(unittest.TestCase):
    def test_one_patch_goes_without_touching_the_others(self):
        bench = Bench(comb())
        every = bench.make(Style.LINES)
        gone = bench.patches[0].id
        some = bench.make(Style.LINES, {gone: Style.NONE})
        left = {s.id: s.volume_mm3 for s in every.supports if isinstance(s, Column) and s.patch != gone}
        self.assertEqual(set(left), {s.id for s in some.supports})
        for support in some.supports:
            self.assertAlmostEqual(support.volume_mm3, left[support.id], delta=0.02 * left[support.id])
        self.assertEqual([p.held for p in some.patches], [False, True, True])

    def test_styles_mix(self):
        bench = Bench(comb())
        made = bench.make(None, {bench.patches[2].id: Style.GRID, bench.patches[0].id: Style.TREE})
        self.assertEqual([p.style for p in made.patches][0::2], ["tree", "grid"])
        self.assertEqual(made.faults, ())


class ClearTest(unittest.TestCase):
    @settings(max_examples=20, deadline=None)
    @given(
        st.floats(2, 38),
        st.floats(2, 8),
        st.floats(1, 19),
        st.floats(1.5, 5),
        st.sampled_from(["lines", "tree"]),
    )
    def test_nothing_touches_or_passes_what_is_kept_clear(self, x, y, z, radius, style):
        def clear(fine):
            near = np.linalg.norm(fine.middles_mm - [x, y, z], axis=1) < radius
            return painted(blank(fine), np.flatnonzero(near), Mark.KEEP_CLEAR)

        bench = Bench(tee(), marks=clear)
        made = bench.make(Style(style))
        self.assertEqual([f for f in made.faults if f.kind in ("too near", "crosses the part")], [])


class ChannelTest(unittest.TestCase):
    """The bracket of the demo, whose cable channel is kept clear from end to end."""

    AXIS = np.array(
        [(-60, 0, 22), (-14, 0, 22), (-4, 0, 25), (3, 0, 32.3), (8, 0, 42), (14, 0, 56), (22, 0, 76.0)]
    )

    def keep_clear(self, fine):
        away = np.full(len(fine.middles_mm), np.inf)
        for a, b in itertools.pairwise(self.AXIS):
            t = np.clip((fine.middles_mm - a) @ (b - a) / ((b - a) @ (b - a)), 0, 1)
            away = np.minimum(away, np.linalg.norm(fine.middles_mm - a - t[:, None] * (b - a), axis=1))
        return painted(blank(fine), np.flatnonzero(away < 4.2), Mark.KEEP_CLEAR)

    def test_the_bracket_is_held_without_one_support_in_its_cable_channel(self):
        body = Solid.from_mesh(SHAPES["telescope-bracket"]()).manifold
        bench = Bench(body, limit=52.0, marks=self.keep_clear)
        # What is hollow in the arm: spheres of the channel's radius along its axis, off both mouths.
        along = np.concatenate([np.linspace(a, b, 30) for a, b in itertools.pairwise(self.AXIS[1:-1])])
        hollow = Manifold.batch_boolean(
            [Manifold.sphere(4.0, 24).translate(tuple(place)) for place in along], OpType.Add
        )
        for style in (None, Style.TREE):
            with self.subTest(style):
                made = bench.make(style)
                supports = Solid.from_mesh(made.handoff_mesh()).manifold
                self.assertEqual((supports ^ hollow).volume(), 0)
                # Two slivers lie over the open end of the channel: they are named, all else is held.
                bare = {p.reason for p in made.patches if not p.held}
                self.assertEqual(bare, {"island 1", "island 2"})
                told = [f.words for f in made.faults if f.kind == "not held"]
                self.assertTrue(all("kept clear" in words for words in told), told)


class FigurineTest(unittest.TestCase):
    """The demo's figurine: a beak and a wing high over the plate, and a body beside most of what hangs."""

    @classmethod
    def setUpClass(cls):
        mesh = SHAPES["heron-figurine"]()
        mesh = place(mesh, np.eye(3)).apply(mesh)
        stack = slice_solid(Solid.from_mesh(mesh), 0.2)
        cls.trees, cls.lines, cls.grid = (
            hold_part(mesh, stack, 45.0, USUAL, style=style)
            for style in (Style.TREE, Style.LINES, Style.GRID)
        )

    def test_trees_reach_every_tip_with_less_than_a_third_of_a_grid(self):
        self.assertEqual([p.lost for p in self.trees.patches if p.lost], [])
        self.assertEqual(self.trees.faults, ())
        self.assertLess(self.trees.volume_mm3, self.grid.volume_mm3 / 3)

    def test_no_bit_of_a_column_begins_over_its_rounded_body(self):
        self.assertEqual((self.lines.faults, self.grid.faults), ((), ()))


class DragonflyTest(unittest.TestCase):
    """Pieces of the demo's large part, cut to its printer: thin wings, legs, and half of the body."""

    def test_trees_reach_every_tip_and_hold_every_patch_of_its_pieces(self):
        box_mm = box_for((300.0, 300.0, 340.0), 3.0)
        pieces = into_boxes(Solid.from_mesh(SHAPES["dragonfly"]()), box_mm).pieces
        for number in (2, 3, 5, 6):
            with self.subTest(number):
                mesh = pieces[number].mesh
                mesh = place(mesh, np.eye(3)).apply(mesh)
                stack = slice_solid(Solid.from_mesh(mesh), 0.4)
                made = hold_part(mesh, stack, 45.0, USUAL, style=Style.TREE)
                self.assertTrue(made.supports)
                self.assertEqual([p.lost for p in made.patches if p.lost], [])
                self.assertEqual(made.faults, ())
                self.assertLessEqual(max(s.lean_deg for s in made.supports), 40.1)


class LooseTest(unittest.TestCase):
    """Bits of a column that stand on nothing: small ones are left out, the others told."""

    def finished(self, side, levels, beside=70.0):
        bench = Bench(table())
        held = chosen_styles(bench.patches, Style.LINES, {})
        (column,) = grow_supports(bench.stack, held, USUAL, bench.tree).supports
        ring = np.array([[0, 0], [side, 0], [side, side], [0, side]]) + [beside, 20.0]
        bit = Slab(10.0, 10.0 + 0.2 * levels, (ring,))
        more = column.volume_mm3 + side**2 * 0.2 * levels
        broken = replace(column, slabs=(*column.slabs, bit), volume_mm3=more)
        return column, finished(bench.stack, held, [broken], USUAL)

    def test_small_ones_are_left_out(self):
        for side, levels in ((1.0, 3), (0.1, 20)):
            column, made = self.finished(side, levels)
            self.assertEqual(made.faults, ())
            (left,) = made.supports
            self.assertAlmostEqual(left.volume_mm3, column.volume_mm3, places=6)
            self.assertLess(made.layers.ring_boxes[1][:, 0].max(), 61)

    def test_large_and_long_ones_are_left_out_too(self):
        # Drawn into the air they would hold nothing.
        for side, levels in ((2.0, 1), (1.0, 7)):
            column, made = self.finished(side, levels)
            self.assertEqual(made.faults, ())
            self.assertAlmostEqual(made.supports[0].volume_mm3, column.volume_mm3, places=6)

    def test_what_stands_beside_a_wall_stays(self):
        # It touches the columns' walls: nothing floats.
        column, made = self.finished(3.0, 2, beside=30.0)
        self.assertEqual(made.faults, ())
        self.assertGreater(made.supports[0].volume_mm3, column.volume_mm3)

"""What one style leaves bare is held by another, and single posts find ways that no raster shows."""

import math
import unittest
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection

from tests import open_meshes
from tests.held import USUAL, Bench, table
from tests.support import box, stalactites, tee
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.supports.checks.verify import faults_of
from upright_heron.core.supports.demand.patches import UPRIGHT, Style
from upright_heron.core.supports.demand.side_contacts import steady_patches
from upright_heron.core.supports.filament.second_choice import held_tips, left_bare, posts_below
from upright_heron.core.supports.filament.single_posts import post_below
from upright_heron.core.supports.model import Branches


class LeftBareTest(unittest.TestCase):
    def test_it_agrees_with_the_check_of_the_finished_supports(self):
        for body in (table(), tee(), stalactites()):
            bench = Bench(body)
            self.assertEqual(left_bare(bench.stack, bench.patches, (), USUAL), bench.patches)
            for style in (Style.LINES, Style.TREE, Style.PILLAR):
                made = bench.make(style)
                self.assertEqual(left_bare(bench.stack, bench.patches, made.supports, USUAL), [])
                # Without those of one patch that one is bare, and no other.
                first = bench.patches[0]
                some = [s for s in made.supports if first.id not in s.patches]
                self.assertEqual(left_bare(bench.stack, bench.patches, some, USUAL), [first])

    def test_where_tips_are_lost_every_place_counts(self):
        bench = Bench(tee())
        first = bench.patches[0]
        own = [s for s in bench.make(Style.PILLAR).supports if first.id in s.patches]
        outermost = max(own, key=lambda s: abs(s.touch_mm[0] - 10))
        few = [s for s in own if math.dist(s.touch_mm[:2], outermost.touch_mm[:2]) > 5.0]
        self.assertTrue(0 < len(few) < len(own))
        self.assertEqual(left_bare(bench.stack, [first], few, USUAL), [])
        self.assertEqual(left_bare(bench.stack, [first], few, USUAL, {first.id: "2 tips"}), [first])
        self.assertEqual(left_bare(bench.stack, [first], own, USUAL, {first.id: "2 tips"}), [])

    def test_tips_are_held_where_columns_stand_and_nowhere_else(self):
        bench = Bench(table())
        every = bench.make(Style.LINES).supports
        tips = held_tips(bench.stack, bench.patches, every, USUAL, bench.tree)
        self.assertGreater(len(tips), 100)
        self.assertEqual(held_tips(bench.stack, bench.patches, (), USUAL, bench.tree).shape, (0, 3))

        def low_half(slab):
            return replace(slab, rings=tuple(ring for ring in slab.rings if ring[:, 1].max() < 30))

        half = [replace(s, slabs=tuple(map(low_half, s.slabs))) for s in every]
        some = held_tips(bench.stack, bench.patches, half, USUAL, bench.tree)
        self.assertGreater(len(some), len(tips) / 3)
        self.assertLess(some[:, 1].max(), 30 + 0.75 * USUAL.spacing_mm + 0.1)

    def test_single_posts_hold_a_spot_and_give_up_on_what_they_cannot_hold(self):
        bench = Bench(stalactites())
        spot = bench.patches[0]
        posts = posts_below(bench.stack, left_bare(bench.stack, [spot], (), USUAL), (), USUAL, bench.tree)
        self.assertEqual({post.patches for post in posts}, {(spot.id,)})
        self.assertEqual(left_bare(bench.stack, [spot], posts, USUAL), [])
        # Nothing may stand below the table: no post is left that holds nothing.
        roofed = Bench(table() + box(60, 60, 2, (0, 0, 27)))
        under = [p for p in roofed.patches if p.at_mm[2] > 29]
        asked = replace(USUAL, from_plate=True)
        self.assertEqual(left_bare(roofed.stack, under, (), asked), under)
        self.assertEqual(posts_below(roofed.stack, under, (), asked, roofed.tree), [])

    @open_meshes.wanted
    def test_what_lines_leave_bare_is_held_by_branches_and_told(self):
        # Between the blades of the rotor lines would begin on round tops as slivers in mid-air.
        mesh = open_meshes.load("geometry/rotor.off", 90)
        solid = Solid.from_mesh(Mesh(np.asarray(mesh.vertices), np.asarray(mesh.faces, np.int32)))
        bench = Bench(solid.manifold.translate((0, 0, -float(mesh.bounds[0, 2]))))
        made = bench.make(Style.LINES)
        self.assertEqual([f.words for f in made.faults], [])
        by = {s.style for s in made.supports}
        self.assertEqual(by, {"lines", "tree"})
        told = {line.why for line in made.patches if line.style in UPRIGHT}
        self.assertIn("lines leave some of it bare: branches hold that", told)


class SinglePostTest(unittest.TestCase):
    def setUp(self):
        self.bench = Bench(box(10, 12, 250))
        bench = self.bench
        (self.patch,) = steady_patches(bench.stack, bench.mesh, bench.tree, [240.0], USUAL)

    def test_a_post_comes_off_its_wall_and_is_as_stout_as_its_height_asks(self):
        for spot in self.patch.spots:
            post = post_below(self.patch, spot, self.bench.stack, USUAL)
            self.assertIsInstance(post, Branches)
            self.assertEqual(post.touch_mm, spot)
            self.assertEqual(faults_of(post, self.bench.stack, USUAL), [])
            self.assertFalse(post.on_part)
            # 240 mm high: 4 mm thick in its lower half at least.
            self.assertGreater(2 * post.nodes[post.nodes[:, 2] < 100, 3].min(), 4.0)
            self.assertLess(post.nodes[0, 3], 0.4)

    def test_it_stays_on_the_plate_and_out_of_what_is_kept_clear(self):
        spot = self.patch.spots[0]
        stack = self.bench.stack
        whole = CrossSection.square((60, 60), True)
        self.assertIsNone(post_below(self.patch, spot, stack, USUAL, clear=[whole] * 1250))
        for plate, there in (((300.0, 300.0), True), ((19.0, 21.0), False)):
            asked = replace(USUAL, plate_mm=plate)
            self.assertEqual(post_below(self.patch, spot, stack, asked) is not None, there)

    def test_a_low_post_is_no_wider_at_its_end_than_a_branch(self):
        bench = Bench(box(4, 20, 6) + box(16, 20, 3, (0, 0, 2.4)))
        made = bench.make(Style.PILLAR)
        self.assertEqual([f.words for f in made.faults], [])
        for post in made.supports:
            self.assertLessEqual(post.nodes[post.tips, 3].max(), USUAL.branch_mm / 2 + 1e-9)


if __name__ == "__main__":
    unittest.main()

"""Single supports: put in, moved, resized and taken out by hand, and whether they can be got out again."""

import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import CrossSection, Manifold

from tests.held import USUAL, Bench, table
from tests.support import box, comb, mesh_of, portal, sphere, stalactites, tee
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.marking.mark import Mark
from upright_heron.core.marking.marks import blank, painted
from upright_heron.core.supports.byhand.edits import handles, moved, placed_tip, post_at, resized, width_of
from upright_heron.core.supports.checks.removal import Out, directions, reach
from upright_heron.core.supports.checks.verify import faults_of
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.demand.side_contacts import (
    slenderness,
    steady_heights,
    steady_patches,
    wall_patches,
)
from upright_heron.core.supports.filament.finish import edited, finished
from upright_heron.core.supports.filament.styles import chosen_styles, grow_supports
from upright_heron.core.supports.model import Branches, Column
from upright_heron.core.supports.show_side import Shown

DOWN = (0.0, 0.0, -1.0)


def stack_of(body, layer=0.2):
    return slice_solid(Solid(body), layer)


def distances(body, points):
    """Signed distances of points from a body by trimesh: above 0 outside."""
    mesh = mesh_of(body)
    part = trimesh.Trimesh(mesh.vertices, mesh.faces)
    return -trimesh.proximity.signed_distance(part, points)


class PostTest(unittest.TestCase):
    def test_a_post_stands_straight_where_the_way_is_free(self):
        stack = stack_of(tee())
        low = min(z for z in stack.z_mm if stack.area_mm2[int(np.searchsorted(stack.z_mm, z))] > 200)
        post = post_at(stack, (-8.0, 5.0, float(low) - 0.1), DOWN, USUAL, 2.0)
        self.assertEqual((post.lean_deg, post.on_part, post.hand), (0.0, False, "made"))
        self.assertAlmostEqual(float(post.nodes[0, 2]), float(low) - 0.1 - 0.2, places=6)
        self.assertAlmostEqual(width_of(post), 2.0)
        # pi r^2 h, less the hollow inside two walls of 0.44 mm, the tip and with the foot: within a tenth.
        solid = np.pi * (1.0**2 - (1.0 - 0.88) ** 2) * post.nodes[0, 2]
        self.assertAlmostEqual(post.volume_mm3 / solid, 1.0, delta=0.1)

    def test_it_gives_way_to_the_part_and_keeps_its_clearance(self):
        body = box(20, 20, 3, (0, 0, 40)) + box(6, 20, 43) + sphere(6, 96).translate((14, 10, 20))
        stack = stack_of(body)
        post = post_at(stack, (14.0, 10.0, 40.0), DOWN, USUAL, 2.0)
        self.assertFalse(post.on_part)
        self.assertLessEqual(post.lean_deg, USUAL.branch_deg + 0.5)
        inner = post.nodes[post.nodes[:, 2] < 37]
        self.assertGreater(
            float((distances(body, inner[:, :3]) - inner[:, 3]).min()), 0.5 * USUAL.clearance_mm
        )
        self.assertEqual(faults_of(post, stack, USUAL), [])

    def test_it_stands_on_the_part_only_where_that_is_allowed(self):
        body = box(40, 40, 5) + box(40, 40, 5, (0, 0, 30)) + box(4, 40, 35)
        stack = stack_of(body)
        post = post_at(stack, (20.0, 20.0, 30.0), DOWN, USUAL, 2.0)
        self.assertTrue(post.on_part)
        # A contact gap above the floor.
        self.assertAlmostEqual(float(post.nodes[:, 2].min()), 5.2, places=6)
        self.assertEqual(faults_of(post, stack, USUAL), [])
        with self.assertRaisesRegex(BadValue, "No way leads to the plate"):
            post_at(stack, (20.0, 20.0, 30.0), DOWN, replace(USUAL, from_plate=True), 2.0)

    def test_it_touches_a_wall_from_the_side(self):
        body = box(20, 20, 50)
        post = post_at(stack_of(body), (20.0, 10.0, 35.0), (1.0, 0.0, 0.0), USUAL, 2.0)
        x, y, z, r = post.nodes[0]
        self.assertEqual((y, z), (10.0, 35.0))
        self.assertAlmostEqual(float(x - r), 20.0, places=6)
        below = post.nodes[post.nodes[:, 2] < 30]
        self.assertGreaterEqual(float((below[:, 0] - below[:, 3]).min()), 20.45 - 1e-6)

    def test_what_cannot_be_held_is_refused(self):
        stack = stack_of(box(20, 20, 20))
        for at, facing, width, words in (
            ((10.0, 10.0, 20.0), (0.0, 0.0, 1.0), 2.0, "looks up"),
            ((20.0, 10.0, 0.1), (1.0, 0.0, 0.0), 2.0, "too near to the plate"),
            ((20.0, 10.0, 10.0), (1.0, 0.0, 0.0), 0.1, "cannot be made"),
        ):
            with self.subTest(words), self.assertRaisesRegex(BadValue, words):
                post_at(stack, at, facing, USUAL, width)

    def test_it_keeps_out_of_what_is_kept_clear(self):
        stack = stack_of(table())
        clear = [CrossSection.square((20, 20)).translate((20, 20))] * 60 + [None] * 200
        post = post_at(stack, (30.0, 30.0, 30.0), DOWN, USUAL, 2.0, clear=clear)
        low = post.nodes[post.nodes[:, 2] < 11.5]
        aside = np.abs(low[:, :2] - 30.0).max(axis=1)
        self.assertGreaterEqual(float((aside - low[:, 3]).min()), 10.0)


class HandleTest(unittest.TestCase):
    def setUp(self):
        self.stack = stack_of(table())
        self.post = post_at(self.stack, (30.0, 30.0, 30.0), DOWN, USUAL, 2.0)

    def test_a_post_has_a_tip_a_joint_and_a_foot(self):
        self.assertEqual(sorted(handles(self.post).values()), ["foot", "joint", "tip"])

    def test_the_foot_is_moved_and_the_rest_follows(self):
        foot = self.post.foot
        there = moved(self.post, foot, (36.0, 30.0, 0.0), self.stack, USUAL)
        self.assertEqual(there.nodes[there.foot, :3].tolist(), [36.0, 30.0, 0.0])
        self.assertEqual(there.nodes[0].tolist(), self.post.nodes[0].tolist())
        self.assertEqual(there.hand, "made")
        self.assertGreater(there.lean_deg, 1.0)
        on = moved(self.post, foot, (30.0, 30.0, 5.0), self.stack, USUAL)
        self.assertTrue(on.on_part)
        with self.assertRaisesRegex(BadValue, "below what carries it"):
            moved(self.post, foot, (30.0, 30.0, 40.0), self.stack, USUAL)
        with self.assertRaisesRegex(BadValue, "nothing to take hold of"):
            moved(self.post, 99, (30.0, 30.0, 0.0), self.stack, USUAL)

    def test_the_tip_goes_where_it_is_put(self):
        at = placed_tip((40.0, 30.0, 30.0), DOWN, self.post, 0, self.stack, USUAL)
        there = moved(self.post, 0, at, self.stack, USUAL)
        self.assertEqual(there.touch_mm, at)
        self.assertAlmostEqual(at[2], 29.8)
        self.assertEqual(there.nodes[there.foot].tolist(), self.post.nodes[self.post.foot].tolist())
        with self.assertRaisesRegex(BadValue, "looks up"):
            placed_tip((40.0, 30.0, 34.0), (0.0, 0.0, 1.0), self.post, 0, self.stack, USUAL)

    def test_thicker_and_thinner(self):
        thick = resized(self.post, 4.0, USUAL)
        self.assertAlmostEqual(width_of(thick), 4.0)
        self.assertGreater(thick.volume_mm3, self.post.volume_mm3)
        with self.assertRaisesRegex(BadValue, "cannot be made"):
            resized(self.post, 0.1, USUAL)


class Together:
    """A part with its automatic supports, put together."""

    def __init__(self, body, style=None, **options):
        self.bench = Bench(body, **options)
        self.held = chosen_styles(self.bench.patches, style, {})
        self.grown = grow_supports(
            self.bench.stack, self.held, USUAL, self.bench.tree, clear=self.bench.clear
        )
        self.made = self.whole(self.grown.supports)

    def whole(self, supports):
        return finished(
            self.bench.stack, self.held, supports, USUAL, clear=self.bench.clear, lost=self.grown.lost
        )

    def edited(self, made, out, put):
        return edited(
            made, self.bench.stack, self.held, out, put, USUAL, clear=self.bench.clear, lost=self.grown.lost
        )


class EditTest(unittest.TestCase):
    def same(self, one, other):
        np.testing.assert_allclose(one.layers.area_mm2, other.layers.area_mm2, atol=1e-6)
        told = [sorted((f.kind, f.patch) for f in made.faults) for made in (one, other)]
        self.assertEqual(*told)
        self.assertEqual([p.held for p in one.patches], [p.held for p in other.patches])
        self.assertEqual({s.id for s in one.supports}, {s.id for s in other.supports})

    def test_one_taken_out_leaves_the_others_as_they_were(self):
        for name, job in (
            ("trees", Together(table(), Style.TREE)),
            ("posts", Together(stalactites())),
            ("lines", Together(comb(), Style.LINES)),
        ):
            for support in job.made.supports[:3]:
                with self.subTest(name, support=support.reason):
                    left = job.edited(job.made, {support.id}, [])
                    self.assertEqual(list(left.supports), [s for s in job.made.supports if s is not support])
                    self.same(left, job.whole(left.supports))
                    self.same(job.edited(left, set(), [support]), job.made)

    def test_what_is_held_no_longer_is_said_and_a_post_by_hand_mends_it(self):
        job = Together(tee(), Style.TREE)
        arm = (
            next(p for p, _ in job.held if p.at_mm[0] < 0)
            if any(p.at_mm[0] < 0 for p, _ in job.held)
            else job.held[0][0]
        )
        out = {s.id for s in job.made.supports if arm.id in s.patches}
        bare = job.edited(job.made, out, [])
        self.assertEqual([f.patch for f in bare.faults if f.kind == "not held"], [arm.id])
        x, y = (sum(v) / 2 for v in zip(*(arm.footprint.bounds()[k : k + 2] for k in (0, 2)), strict=True))
        posts = [
            post_at(job.bench.stack, (x + dx, y + dy, arm.at_mm[2]), DOWN, USUAL, 2.0)
            for dx in (-2.5, 2.5)
            for dy in (-2.5, 2.5)
        ]
        mended = job.edited(bare, set(), posts)
        self.assertEqual([f for f in mended.faults if f.kind == "not held"], [])
        self.same(mended, job.whole(mended.supports))

    @settings(max_examples=8, deadline=None)
    @given(st.data())
    def test_any_row_of_edits_gives_what_making_it_whole_gives(self, data):
        job = TABLE
        made = job.made
        for _ in range(data.draw(st.integers(1, 4))):
            kind = data.draw(st.sampled_from(["out", "post", "move"]))
            trees = [s for s in made.supports if isinstance(s, Branches)]
            if kind == "post":
                at = [data.draw(st.floats(8, 52)) for _ in range(2)]
                post = post_at(job.bench.stack, (*at, 30.0), DOWN, USUAL, 1.6)
                if post.id not in {s.id for s in made.supports}:
                    made = job.edited(made, set(), [post])
            elif trees:
                chosen = data.draw(st.sampled_from(trees))
                if kind == "out":
                    made = job.edited(made, {chosen.id}, [])
                else:
                    x, y, _ = chosen.nodes[chosen.foot, :3]
                    to = (x + data.draw(st.floats(-6, 6)), y + data.draw(st.floats(-6, 6)), 0.0)
                    put = moved(chosen, chosen.foot, to, job.bench.stack, USUAL)
                    made = job.edited(made, {chosen.id}, [put])
        self.same(made, job.whole(made.supports))

    def test_a_post_moved_into_the_part_is_told_at_once(self):
        body = box(60, 20, 4, (0, 0, 30)) + box(4, 20, 30) + box(12, 12, 20, (30, 4, 0))
        job = Together(body, Style.TREE)
        post = post_at(job.bench.stack, (20.0, 10.0, 30.0), DOWN, USUAL, 2.0)
        with_it = job.edited(job.made, set(), [post])
        bad = moved(post, post.foot, (38.0, 10.0, 0.0), job.bench.stack, USUAL)
        broken = job.edited(with_it, {post.id}, [bad])
        self.assertIn("crosses the part", [f.kind for f in broken.faults])
        self.same(broken, job.whole(broken.supports))
        self.same(job.edited(broken, {post.id}, [post]), with_it)

    def test_supports_grow_round_those_that_are_there(self):
        job = TABLE
        kept = [s for s in job.made.supports if isinstance(s, Branches)][:2]
        again = grow_supports(job.bench.stack, job.held, USUAL, job.bench.tree, around=kept)
        theirs = np.concatenate([s.nodes[s.tips, :2] for s in kept])
        ours = np.concatenate([s.nodes[s.tips, :2] for s in again.supports])
        nearest = np.linalg.norm(ours[:, None] - theirs[None], axis=2).min()
        self.assertGreater(float(nearest), 0.74 * USUAL.spacing_mm)
        columns = Together(comb(), Style.LINES)
        locked = columns.made.supports[0]
        assert isinstance(locked, Column)
        rest = grow_supports(columns.bench.stack, columns.held, USUAL, columns.bench.tree, around=[locked])
        self.assertNotIn(locked.patch, [s.patch for s in rest.supports])


TABLE = Together(table(), Style.TREE)


class ReachTest(unittest.TestCase):
    def ways(self, body, at, tool=3.0, settings=USUAL, width=1.2):
        stack, mesh = stack_of(body), mesh_of(body)
        post = post_at(stack, at, DOWN, settings, width)
        (found,) = reach([post], Tree.of(mesh), tool)
        return found

    def test_directions_are_even(self):
        ways = directions(500)
        np.testing.assert_allclose(np.linalg.norm(ways, axis=1), 1)
        self.assertLess(float(np.abs(ways.mean(axis=0)).max()), 0.01)

    def test_in_the_open_all_comes_off(self):
        found = self.ways(table(), (30.0, 30.0, 30.0))
        self.assertEqual((found.out, found.tool_share), (Out.FREE, 1.0))
        self.assertGreater(found.open_share, 0.2)

    def test_a_straight_hole_can_be_punched_through(self):
        bore = Manifold.cylinder(80, 5, 5, 48).rotate((0, 90, 0)).translate((-10, 15, 12))
        found = self.ways(box(60, 30, 30) - bore, (30.0, 15.0, 17.0))
        self.assertEqual(found.out, Out.PUNCH)

    def test_a_bent_channel_holds_it_fast(self):
        one, two = (
            Manifold.cylinder(45, 4, 4, 48).rotate((0, 90, 0)).translate((x, y, 12))
            for x, y in ((-15, 8), (30, 32))
        )
        across = Manifold.cylinder(24, 4, 4, 48).rotate((-90, 0, 0)).translate((30, 8, 12))
        found = self.ways(box(60, 40, 30) - one - two - across, (30.0, 20.0, 16.0))
        self.assertEqual(found.out, Out.TRAPPED)

    def test_a_blind_hole_narrower_than_the_tool(self):
        hole = box(60, 5, 8, (-20, 10, 8))
        deep = box(60, 25, 30) - hole
        self.assertEqual(self.ways(deep, (30.0, 12.5, 16.0), tool=7.0).out, Out.TRAPPED)
        wide = box(60, 25, 30) - box(60, 20, 16, (-20, 2.5, 8))
        self.assertEqual(self.ways(wide, (38.0, 12.5, 24.0), tool=3.0).out, Out.FREE)

    def test_lines_are_looked_at_too(self):
        made = Bench(portal()).make(Style.LINES)
        found = reach(made.supports, Tree.of(mesh_of(portal())), 3.0)
        self.assertEqual(len(found), len(made.supports))
        self.assertNotIn(Out.TRAPPED, [a.out for a in found])


class ShownTest(unittest.TestCase):
    def test_contacts_are_put_beside_the_show_side(self):
        bench = Bench(table())
        under = mesh_of(table())
        tree = Tree.of(refined(under).mesh)
        fine = refined(under).mesh
        middles = fine.vertices[fine.faces].mean(axis=1)
        # Half of the underside is to stay clean, in strips.
        clean = (np.abs(middles[:, 2] - 30) < 0.01) & (np.mod(middles[:, 0], 8) < 4)
        shown = Shown(tree, clean)
        held = chosen_styles(bench.patches, Style.TREE, {})
        plain = grow_supports(bench.stack, held, USUAL, bench.tree).supports
        aside = grow_supports(bench.stack, held, USUAL, bench.tree, shown=shown).supports
        on = [sum(a.show_mm2 for a in reach(s, tree, 3.0, shown)) for s in (plain, aside)]
        self.assertGreater(on[0], 1.0)
        self.assertLess(on[1], 0.1 * on[0])
        self.assertEqual(finished(bench.stack, held, aside, USUAL).faults, ())

    def test_where_all_of_it_shows_it_is_held_all_the_same(self):
        bench = Bench(stalactites())
        shown = Shown(bench.tree, np.ones(len(bench.mesh.faces), bool))
        held = chosen_styles(bench.patches, None, {})
        self.assertEqual(
            len(grow_supports(bench.stack, held, USUAL, bench.tree, shown=shown).supports),
            len(grow_supports(bench.stack, held, USUAL, bench.tree).supports),
        )


class SidesTest(unittest.TestCase):
    def test_a_painted_wall_is_held_from_the_side(self):
        body = box(20, 20, 60)
        bench = Bench(body)
        self.assertEqual(bench.patches, [])
        fine = refined(bench.mesh)
        wall = (fine.normals[:, 0] > 0.9) & (np.abs(fine.middles_mm - [20, 10, 40]).max(axis=1) < 5)
        marks = painted(blank(fine), np.flatnonzero(wall), Mark.PROP)
        found = wall_patches(bench.stack, fine.mesh, marks, USUAL)
        self.assertEqual([p.reason for p in found], ["painted wall"])
        self.assertGreaterEqual(len(found[0].spots), 4)
        self.assertAlmostEqual(found[0].area_mm2, float(fine.areas_mm2[wall].sum()), delta=5)
        for style in (Style.TREE, Style.PILLAR):
            with self.subTest(style):
                held = [(found[0], style)]
                made = finished(
                    bench.stack, held, grow_supports(bench.stack, held, USUAL, bench.tree).supports, USUAL
                )
                self.assertEqual(made.faults, ())
                tips = np.concatenate([s.nodes[s.tips] for s in made.supports])
                np.testing.assert_allclose(tips[:, 0] - tips[:, 3], 20.0, atol=0.02)
        self.assertEqual(wall_patches(bench.stack, fine.mesh, blank(fine), USUAL), [])

    def test_contacts_on_a_painted_wall_stand_where_a_way_leads_down(self):
        # A shelf right below half of what is painted leaves no way to the plate from there.
        bench = Bench(box(20, 40, 60) + box(60, 18, 2, (20, 0, 32)))
        fine = refined(bench.mesh)
        wall = (fine.normals[:, 0] > 0.9) & (np.abs(fine.middles_mm - [20, 20, 38]).max(axis=1) < 4)
        marks = painted(blank(fine), np.flatnonzero(wall), Mark.PROP)
        asked = replace(USUAL, from_plate=True)
        (patch,) = wall_patches(bench.stack, fine.mesh, marks, asked)
        grown = grow_supports(bench.stack, [(patch, Style.PILLAR)], asked, bench.tree)
        self.assertEqual((grown.lost, len(grown.supports)), ({}, len(patch.spots)))
        self.assertGreaterEqual(len(patch.spots), 3)
        # All of what is painted, so far below that no way can lead round: one contact tells it.
        under = (fine.normals[:, 0] > 0.9) & (np.abs(fine.middles_mm - [20, 6, 38]).max(axis=1) < 4)
        marks = painted(blank(fine), np.flatnonzero(under), Mark.PROP)
        (patch,) = wall_patches(bench.stack, fine.mesh, marks, asked)
        held = [(patch, Style.PILLAR)]
        grown = grow_supports(bench.stack, held, asked, bench.tree)
        made = finished(bench.stack, held, grown.supports, asked, lost=grown.lost)
        self.assertEqual([f.kind for f in made.faults], ["not held"])
        self.assertIn("contacts missing", made.faults[0].words)

    def test_slender_parts_are_steadied(self):
        tall = Bench(box(10, 12, 120))
        self.assertAlmostEqual(slenderness(tall.stack), 12.0, places=3)
        heights = steady_heights(tall.stack, None, 0.8)
        self.assertEqual([round(z) for z in heights], [48, 96])
        found = steady_patches(tall.stack, tall.mesh, tall.tree, heights, USUAL)
        self.assertEqual([p.reason for p in found], ["steadying at 48 mm", "steadying at 96 mm"])
        held = chosen_styles(found, None, {})
        self.assertEqual({style for _, style in held}, {Style.PILLAR})
        grown = grow_supports(tall.stack, held, USUAL, tall.tree).supports
        self.assertEqual(len(grown), sum(len(p.spots) for p in found))
        away = distances(box(10, 12, 120), np.array([s.touch_mm for s in grown]))
        # The edge of each tip touches the wall.
        np.testing.assert_allclose(away, 0.36, atol=0.02)
        # A shelf right below the contact leaves no way to the plate: the post stands a little further round.
        asked = replace(USUAL, from_plate=True)
        shelved = Bench(box(10, 12, 120) + box(60, 4, 1.5, (10, 4, 57)))
        found = steady_patches(shelved.stack, shelved.mesh, shelved.tree, [60.0], asked)
        grown = grow_supports(shelved.stack, chosen_styles(found, None, {}), asked, shelved.tree)
        self.assertEqual((grown.lost, len(grown.supports)), ({}, 3))
        cube = Bench(box(30, 30, 30))
        self.assertEqual(steady_heights(cube.stack, None, 0.8), [])
        self.assertEqual(len(steady_heights(cube.stack, 3, 0.9)), 3)


class MaterialTest(unittest.TestCase):
    def test_thick_walls_keep_one_outline_for_every_so_many_layers(self):
        bench = Bench(table())
        usual, thick = (bench.make(Style.LINES, given=replace(USUAL, every=n)) for n in (1, 3))
        self.assertEqual(thick.faults, ())
        self.assertAlmostEqual(thick.volume_mm3 / usual.volume_mm3, 1, delta=0.01)
        body = sphere(15, 96).translate((0, 0, 15)) + box(40, 40, 2, (-20, -20, 28))
        round_ = Bench(body).make(Style.LINES, given=replace(USUAL, every=3))
        self.assertGreater(round_.thick_mm3(3), 0.5 * round_.volume_mm3)
        for column in round_.supports:
            for slab in column.slabs:
                height = (slab.high_mm - slab.low_mm) / 0.2
                if not slab.solid and height >= 2.5:
                    self.assertAlmostEqual(slab.low_mm / 0.6 % 1, 0, delta=1e-3)
        self.assertEqual([f for f in round_.faults if f.kind == "crosses the part"], [])

    def test_a_rim_widens_what_stands_on_the_plate_and_keeps_away_from_the_part(self):
        for style in (Style.LINES, Style.TREE):
            with self.subTest(style):
                bench = Bench(table())
                plain, rim = (bench.make(style, given=replace(USUAL, brim_mm=w)) for w in (0.0, 3.0))
                area = [float(made.layers.area_mm2[0]) for made in (plain, rim)]
                self.assertGreater(area[1], 1.2 * area[0])
                self.assertAlmostEqual(
                    float(plain.layers.area_mm2[30]), float(rim.layers.area_mm2[30]), delta=1e-6
                )
                near = rim.layers.section(0) ^ bench.stack.section(0).offset(USUAL.clearance_mm - 0.02)
                self.assertLess(near.area(), 0.05)

    def test_interfaces_leave_apart_from_the_walls(self):
        made = Bench(table()).make(Style.LINES)
        walls, interface = made.parted_meshes()
        volumes = [trimesh.Trimesh(m.vertices, m.faces).volume for m in (walls, interface)]
        self.assertAlmostEqual(sum(volumes) / made.volume_mm3, 1, delta=1e-3)
        # Two layers under the top of 60 x 60, less the legs.
        self.assertAlmostEqual(volumes[1] / ((3600 - 64) * 0.4), 1, delta=0.05)
        self.assertAlmostEqual(made.interface_mm3, volumes[1], places=3)


if __name__ == "__main__":
    unittest.main()

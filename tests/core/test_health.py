"""Defects found, defects mended: made on purpose from sound parts, and as they come in packages."""

import unittest

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests import open_meshes
from tests.broken import sound, variants, volume
from tests.support import box, mesh_of, sphere, tee
from upright_heron.core.errors import BadValue, Cancelled
from upright_heron.core.formats.stl import read_stl
from upright_heron.core.geometry.mesh import Mesh, facet_normals, facts, weld
from upright_heron.core.geometry.solid import Solid, concatenated
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.health.defects import FLAT, EdgeTable, examine, flat_facets, loops, thickness_mm
from upright_heron.core.health.mend import STEP_FOR, STEPS, mend
from upright_heron.core.health.patching import fill_holes, separated
from upright_heron.core.health.report import report, thin_walls
from upright_heron.core.health.rewrap import rewrap
from upright_heron.core.stance.pose import from_quaternion
from upright_heron.demo.shapes import SHAPES


def as_trimesh(mesh):
    return trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces), process=False)


class EdgeTableTest(unittest.TestCase):
    def test_edges_are_those_of_a_dictionary_also_round_a_hub_of_many(self):
        rng = np.random.default_rng(3)
        rim = rng.permutation(np.arange(1, 120))
        fan = np.column_stack([np.zeros(len(rim), int), rim, np.roll(rim, 1)])
        some = rng.integers(0, 30, (200, 3))
        some = some[(some[:, 0] != some[:, 1]) & (some[:, 1] != some[:, 2]) & (some[:, 2] != some[:, 0])]
        for faces in (fan, some):
            known = {}
            for f, face in enumerate(faces.tolist()):
                for a, b in zip(face, face[1:] + face[:1], strict=True):
                    known.setdefault((min(a, b), max(a, b)), []).append((f, a < b))
            table = EdgeTable.of(faces.astype(np.int32))
            self.assertEqual([tuple(e) for e in table.ends.tolist()], sorted(known))
            for n, edge in enumerate(sorted(known)):
                own = table.facets[table.start[n] : table.start[n + 1]].tolist()
                self.assertEqual(sorted(own), sorted(f for f, _ in known[edge]))
                self.assertEqual(table.forward[n], sum(forward for _, forward in known[edge]))
                self.assertEqual(table.count[n], len(own))


class TreeTest(unittest.TestCase):
    """Against trimesh's proximity and ray queries, and closed forms."""

    def test_distances(self):
        mesh = mesh_of(sphere(10, 48))
        points = np.random.default_rng(3).uniform(-15, 15, (300, 3))
        expected = trimesh.proximity.closest_point(as_trimesh(mesh), points)[1]
        np.testing.assert_allclose(Tree.of(mesh).distances(points), expected, atol=1e-9)
        np.testing.assert_allclose(Tree.of(mesh).distances(points, 2.0), np.minimum(expected, 2.0), atol=1e-9)

    def test_winding(self):
        mesh = mesh_of(tee())
        points = np.random.default_rng(4).uniform(mesh.bounds[0] - 3, mesh.bounds[1] + 3, (500, 3))
        inside = as_trimesh(mesh).contains(points)
        found = Tree.of(mesh).winding(points)
        self.assertEqual(((found > 0.5) != inside).sum(), 0)
        np.testing.assert_allclose(found, inside, atol=0.05)

    def test_winding_at_the_edge_of_a_flat_disc(self):
        # A disc of radius r seen from height h fills (1 - h / sqrt(h^2 + r^2)) / 2 of the sphere.
        angles = np.linspace(0, 2 * np.pi, 721)[:-1]
        rim = np.column_stack([5 * np.cos(angles), 5 * np.sin(angles), np.zeros(720)])
        i = np.arange(720)
        disc = Mesh(np.vstack([rim, [[0, 0, 0]]]), np.column_stack([i, (i + 1) % 720, np.full(720, 720)]))
        for h in (0.5, 3.0, 40.0):
            expected = (1 - h / np.hypot(h, 5)) / 2
            self.assertAlmostEqual(
                abs(Tree.of(disc).winding(np.array([[0, 0, h]]))[0]), expected, delta=0.02 * expected
            )

    def test_rays_that_begin_on_no_facet_see_every_facet(self):
        mesh = mesh_of(box(10, 10, 10))
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        normals = facet_normals(mesh)[0]
        _, seen = Tree.of(mesh).first_hits(middles + normals, -normals, np.full(len(middles), -1))
        self.assertEqual(seen.tolist(), list(range(len(middles))))

    def test_first_hits(self):
        mesh = mesh_of(sphere(10, 48))
        rng = np.random.default_rng(5)
        origins, directions = rng.uniform(-20, 20, (200, 3)), rng.normal(size=(200, 3))
        length, facet = Tree.of(mesh).first_hits(origins, directions)
        at, rays, _ = as_trimesh(mesh).ray.intersects_location(origins, directions, multiple_hits=False)
        nearest = np.full(200, np.inf)
        np.minimum.at(
            nearest,
            rays,
            np.linalg.norm(at - origins[rays], axis=1) / np.linalg.norm(directions[rays], axis=1),
        )
        np.testing.assert_allclose(length, nearest, rtol=1e-6)
        self.assertTrue(((facet >= 0) == np.isfinite(length)).all())

    def test_crossings(self):
        self.assertEqual(len(Tree.of(mesh_of(sphere(10, 64))).crossings()), 0)
        self.assertEqual(len(Tree.of(mesh_of(tee())).crossings()), 0)
        pair = concatenated([mesh_of(box(10, 10, 10)), mesh_of(box(10, 10, 10, (5, 4, 3)))])
        self.assertGreater(len(Tree.of(pair).crossings()), 0)
        many = concatenated([mesh_of(sphere(10, 64)), mesh_of(sphere(10, 64).translate((1, 2, 3)))])
        self.assertEqual(len(Tree.of(many).crossings(20)), 20)

    def test_facets_that_lie_over_each_other_in_a_plane_do_not_cross(self):
        # A star of long facets, each over most of the others; then two of them stand upright through it.
        turns = np.arange(600) * 2.1
        rim = np.stack([np.cos(turns), np.sin(turns), np.zeros(600)], axis=1) * 10
        star = np.stack([rim, np.roll(rim, -1, 0), np.roll(rim, -2, 0)], axis=1)
        upright = np.array(
            [[[1, 1, -2], [3, 1, 4], [1.5, 2, 5]], [[-2, 0, 3], [-1, 0, -3], [-2, 1, -3]]], float
        )
        for name, turned in (("level", np.eye(3)), ("leaning", from_quaternion((0.9, 0.3, 0.2, 0.25)))):
            with self.subTest(name):
                for some, crosses in ((star, False), (np.concatenate([star, upright]), True)):
                    corners = (some.reshape(-1, 3) @ turned.T).astype(np.float32).astype(np.float64)
                    found = Tree.of(Mesh(corners, np.arange(len(corners), dtype=np.int32).reshape(-1, 3)))
                    pairs = np.sort(found.crossings(5000), axis=1)
                    self.assertEqual(len(pairs) > 0, crosses)
                    # Each pair has one that stands upright.
                    self.assertTrue((pairs[:, 1] >= 600).all())
                    if crosses:
                        self.assertEqual(set(pairs[:, 1].tolist()) - {600, 601}, set())
                        self.assertGreater(len(pairs), 300)

    @settings(max_examples=30, deadline=None)
    @given(st.tuples(*[st.floats(-14, 14)] * 3))
    def test_two_balls_cross_when_their_surfaces_meet(self, at):
        gap = np.linalg.norm(at)
        pair = concatenated([mesh_of(sphere(7, 24)), mesh_of(sphere(4, 24).translate(at))])
        if 3.6 < gap < 10.4:
            self.assertGreater(len(Tree.of(pair).crossings(5)), 0)
        elif gap < 2.7 or gap > 11.1:
            self.assertEqual(len(Tree.of(pair).crossings(5)), 0)


class FindTest(unittest.TestCase):
    def counts(self, mesh, **expected):
        found = examine(mesh)
        clean = dict.fromkeys(found.counts, 0) | {"bodies": 1} | expected
        self.assertEqual(found.counts, clean)
        return found

    def test_sound_parts_have_none(self):
        for name, mesh in sound().items():
            with self.subTest(name):
                self.assertTrue(self.counts(mesh).verdict.sound)

    def test_each_kind(self):
        mesh = mesh_of(box(10, 10, 10))
        v, f = mesh.vertices, mesh.faces
        turned = f.copy()
        turned[3] = turned[3][::-1]
        self.assertEqual(self.counts(Mesh(v, turned), flipped_facets=1).flipped.tolist(), [3])
        self.counts(Mesh(v, f[:, ::-1]), flipped_facets=12)
        found = self.counts(Mesh(v, f[1:]), open_edges=3)
        self.assertEqual([len(hole) for hole in found.holes], [3])
        self.assertEqual(set(found.holes[0].tolist()), set(f[0].tolist()))
        found = self.counts(Mesh(v, np.vstack([f, f[4:5]])), duplicate_facets=1, nonmanifold_edges=3)
        self.assertEqual(found.duplicates.tolist(), [12])
        flat = np.vstack([f, [[0, 1, 1]]]).astype(np.int32)
        self.assertEqual(examine(Mesh(v, flat)).counts["degenerate_facets"], 1)

    def test_a_facet_is_flat_by_its_height_over_its_longest_side_however_it_lies(self):
        for along in range(3):
            for first in range(3):
                for height, count in ((0.8 * FLAT, 1), (1.25 * FLAT, 0)):
                    corners = np.zeros((3, 3))
                    corners[1, along], corners[2, along] = 10.0, 4.0
                    corners[2, (along + 1) % 3] = 10.0 * height
                    found = flat_facets(
                        Mesh(np.roll(corners, first, axis=0), np.array([[0, 1, 2]], np.int32))
                    )
                    self.assertEqual(len(found), count, (along, first, height))

    def test_bodies_and_what_lies_inside(self):
        cube, seed = mesh_of(box(20, 20, 20)), mesh_of(sphere(4, 16).translate((10, 10, 10)))
        self.assertEqual(self.counts(concatenated([cube, seed]), bodies=2).inside, (1,))
        self.assertEqual(
            self.counts(mesh_of(box(20, 20, 20) - box(5, 5, 5, (7, 7, 7))), bodies=2).inside, (1,)
        )
        self.assertEqual(
            self.counts(concatenated([cube, mesh_of(box(1, 1, 1, (30, 0, 0)))]), bodies=2).inside, ()
        )

    def test_loops_that_touch_are_two(self):
        found = loops(np.array([[0, 1], [1, 2], [2, 0], [0, 3], [3, 4], [4, 0]]))
        self.assertEqual(sorted(sorted(loop.tolist()) for loop in found), [[0, 1, 2], [0, 3, 4]])

    def test_thickness(self):
        # Box of 40 x 30 x 20 with a wall of 2 all round: half of the facets look at 2 mm.
        shell = mesh_of(box(40, 30, 20) - box(36, 26, 16, (2, 2, 2)))
        self.assertTrue(np.allclose(thickness_mm(shell)[np.isfinite(thickness_mm(shell))].min(), 2.0))
        ball = mesh_of(sphere(20, 96) - sphere(18, 96))
        wall = thickness_mm(ball)
        self.assertAlmostEqual(np.median(wall), 2.0, delta=0.05)


class MendTest(unittest.TestCase):
    def test_every_broken_variant_comes_out_sound(self):
        count = 0
        for name, mesh, true in variants():
            if name.split(":")[0] in ("tee", "tube"):
                continue
            count += 1
            with self.subTest(name):
                found = mend(mesh)
                self.assertTrue(found.closed)
                self.assertEqual(found.after.defects, 0, found.after.counts)
                self.assertAlmostEqual(found.volume_after_mm3 / true, 1, delta=0.01)
                # What fills a hole lies where nothing was; else nothing moves.
                if all(done.step != "holes" for done in found.done):
                    self.assertLess(found.greatest_move_mm, 0.02)
                self.assertTrue(found.done or found.before.defects == 0)
        self.assertGreaterEqual(count, 27)

    def test_sound_parts_are_left_alone(self):
        for name, mesh in sound().items():
            with self.subTest(name):
                found = mend(mesh)
                self.assertIs(found.mesh, mesh)
                self.assertEqual((found.done, found.greatest_move_mm), ((), 0.0))

    def test_one_step_by_itself(self):
        mesh = mesh_of(tee())
        broken = Mesh(mesh.vertices, np.vstack([mesh.faces[1:, ::-1], mesh.faces[5:6]]))
        found = mend(broken, ("drop",))
        self.assertEqual([d.step for d in found.done], ["drop"])
        self.assertFalse(found.closed)
        self.assertEqual(found.after.counts["duplicate_facets"], 0)
        self.assertGreater(found.after.counts["flipped_facets"], 0)
        self.assertEqual(STEPS[-1], "rewrap")

    def test_unknown_steps_are_refused_and_every_defect_has_a_step(self):
        with self.assertRaises(BadValue):
            mend(mesh_of(tee()), ("pray",))
        self.assertEqual(set(STEP_FOR) | {"bodies"}, set(examine(mesh_of(tee())).counts))
        self.assertLessEqual(set(STEP_FOR.values()), set(STEPS))

    def test_what_a_wrap_is_too_coarse_for_shows_in_the_greatest_move(self):
        needle = box(20, 20, 2) + box(0.05, 0.05, 12, (10, 10, 2))
        found = mend(mesh_of(needle), ("rewrap",))
        self.assertTrue(found.closed)
        self.assertGreater(found.greatest_move_mm, 5)

    def test_mending_can_be_stopped(self):
        def stop(stage, done, total):
            if stage == "Mending" and done == 2:
                raise Cancelled

        with self.assertRaises(Cancelled):
            mend(mesh_of(tee()), progress=stop)

    def test_facets_without_area_are_taken_out_and_nothing_moves(self):
        for name in ("heron-figurine", "dragonfly"):
            with self.subTest(name):
                mesh = read_stl(write_stl(SHAPES[name]())).mesh
                found = mend(mesh, ("drop",))
                self.assertGreater(found.before.counts["degenerate_facets"], 0)
                self.assertEqual((found.after.defects, found.closed), (0, True))
                self.assertAlmostEqual(found.volume_after_mm3 / found.volume_before_mm3, 1, delta=1e-6)
                self.assertLess(found.greatest_move_mm, 1e-3)

    def test_a_corner_on_the_edge_of_its_own_facet(self):
        # A lid whose rim has a corner more than its neighbour: the facet between them is a line.
        cube = mesh_of(box(10, 10, 10))
        v = np.vstack([cube.vertices, [[5, 0, 10]]])
        a, b = (int(np.flatnonzero((cube.vertices == p).all(axis=1))[0]) for p in ((0, 0, 10), (10, 0, 10)))
        faces = cube.faces.tolist()
        rim = next(f for f in faces if {a, b} <= set(f) and (v[f][:, 2] == 10).all())
        c = next(x for x in rim if x not in (a, b))
        faces.remove(rim)
        ordered = [(a, b) if rim[(rim.index(a) + 1) % 3] == b else (b, a)][0]
        faces += [[ordered[0], 8, c], [8, ordered[1], c], [ordered[0], ordered[1], 8]]
        broken = Mesh(v, np.array(faces, np.int32))
        self.assertEqual(examine(broken).counts["degenerate_facets"], 1)
        found = mend(broken)
        self.assertEqual((found.after.defects, found.closed), (0, True))
        self.assertAlmostEqual(found.volume_after_mm3, 1000)

    def test_curved_holes(self):
        ball = mesh_of(sphere(10, 48))
        top = ball.vertices[ball.faces][:, :, 2].min(axis=1) > 7.0
        tilted = ball.vertices[ball.faces].mean(axis=1) @ np.array([0.8, 0, 0.6]) > 9.0
        for gone in (top, tilted):
            filled, words = fill_holes(Mesh(ball.vertices, ball.faces[~gone]))
            self.assertIn("filled", words)
            self.assertTrue((EdgeTable.of(filled.faces).count == 2).all())
            Solid.from_mesh(filled)

    def test_a_flat_hole_with_a_bay_is_filled_in_its_plane(self):
        mesh = mesh_of(tee())
        front = np.abs(mesh.vertices[mesh.faces][:, :, 1] - mesh.bounds[0, 1]).max(axis=1) < 1e-6
        filled, _ = fill_holes(Mesh(mesh.vertices, mesh.faces[~front]))
        self.assertAlmostEqual(volume(filled), volume(mesh), delta=1e-6)
        self.assertAlmostEqual(facts(filled).area_mm2, facts(mesh).area_mm2, delta=1e-6)

    def test_re_wrapping(self):
        # Torn beyond filling: a tenth of the facets gone, the rest crossed by a second body.
        mesh = mesh_of(sphere(10, 64))
        rng = np.random.default_rng(1)
        torn = Mesh(mesh.vertices, mesh.faces[rng.random(len(mesh.faces)) > 0.1])
        wrapped, words = rewrap(torn, 60)
        self.assertIn("re-wrapped", words)
        Solid.from_mesh(wrapped)
        self.assertAlmostEqual(volume(wrapped) / volume(mesh), 1, delta=0.01)
        apart = Tree.of(mesh).distances(wrapped.vertices).max()
        self.assertLess(apart, 20 / 60)

    def test_an_open_sheet_cannot_be_wrapped_and_stays(self):
        sheet = Mesh(np.array([[0, 0, 0], [9, 0, 0], [0, 9, 0.0]]), np.array([[0, 1, 2]], np.int32))
        found = mend(sheet)
        self.assertFalse(found.closed and found.volume_after_mm3 > 0)
        self.assertGreater(found.before.counts["open_edges"], 0)


class SeparateTest(unittest.TestCase):
    def test_cavities_stay_with_the_body_they_lie_in(self):
        shell = box(20, 20, 20) - box(10, 10, 10, (5, 5, 5))
        seed = box(4, 4, 4, (8, 8, 8))
        apart = box(6, 6, 6, (40, 0, 0))
        parts = separated(concatenated([mesh_of(b) for b in (apart, shell, seed)]))
        self.assertEqual([round(facts(p).volume_mm3) for p in parts], [7000, 216, 64])
        self.assertTrue(all(facts(p).closed for p in parts))
        self.assertEqual([len(p.vertices) for p in parts], [16, 8, 8])

    def test_what_touches_face_to_face_is_one_body(self):
        # An inlay in its plate, a block beside that touches along one edge, and one that is apart.
        inlay = box(6, 6, 4, (4, 4, 2))
        bodies = (box(20, 20, 6) - inlay, inlay, box(5, 20, 3, (20, 0, 6)), box(2, 2, 2, (40, 0, 0)))
        together = concatenated([mesh_of(one) for one in bodies])
        mesh = weld(together.vertices[together.faces].astype(np.float32))
        parts = separated(mesh)
        self.assertEqual([round(facts(p).volume_mm3) for p in parts], [2400, 300, 8])
        self.assertEqual(sum(len(p.faces) for p in parts), len(mesh.faces))

    def test_one_body_stays_as_it_is(self):
        mesh = mesh_of(tee())
        self.assertIs(separated(mesh)[0], mesh)


class PlacesTest(unittest.TestCase):
    def places(self, mesh, thin=0.1):
        return report(mesh, thin)

    def test_a_hole_a_flipped_facet_and_where_to_look_from(self):
        mesh = mesh_of(box(10, 20, 30))
        top = np.flatnonzero(mesh.vertices[mesh.faces][:, :, 2].min(axis=1) > 29)
        side = int(np.flatnonzero(mesh.vertices[mesh.faces][:, :, 0].min(axis=1) > 9)[0])
        faces = mesh.faces.copy()
        faces[side] = faces[side][::-1]
        found = self.places(Mesh(mesh.vertices, np.delete(faces, top, axis=0)))
        self.assertEqual([p.kind for p in found.places], ["open", "flipped"])
        hole, flipped = found.places
        self.assertEqual(
            (hole.words, hole.at_mm, hole.lines.shape), ("hole of 4 edges", (5, 10, 30), (4, 2, 3))
        )
        np.testing.assert_allclose(hole.facing, (0, 0, 1), atol=1e-6)
        np.testing.assert_allclose(flipped.facing, (1, 0, 0), atol=1e-6)
        self.assertEqual(flipped.words, "1 facet facing inwards")
        self.assertEqual((found.defects, found.sound, found.capped), (5, False, False))

    def test_facets_side_by_side_are_one_place(self):
        found = self.places(mesh_of(box(30, 30, 10) - box(10, 10, 9.95, (10, 10, 0))))
        thin = [p for p in found.places if p.kind == "thin"]
        self.assertEqual(len(thin), 2)  # the skin, seen from above and from below
        self.assertGreater(found.thin_facets, 2)
        self.assertEqual(found.defects, 0)

    def test_of_a_large_part_some_facets_are_measured_and_all_round_the_thin_ones(self):
        part = mesh_of((box(30, 30, 10) - box(10, 10, 9.95, (10, 10, 0))).refine_to_length(0.5))
        exact, once = thin_walls(part, 0.4)
        found, every = thin_walls(part, 0.4, most=len(part.faces) // 7)
        self.assertEqual((once, every), (1, 8))
        self.assertGreater(len(exact), 500)
        np.testing.assert_array_equal(found, exact)

    def test_crossings_are_shown_pair_by_pair(self):
        pair = concatenated([mesh_of(box(10, 10, 10)), mesh_of(box(10, 10, 10, (5, 4, 3)))])
        found = self.places(pair)
        crossing = [p for p in found.places if p.kind == "crossing"]
        self.assertTrue(crossing and all(p.facets.shape == (2, 3, 3) for p in crossing))


@open_meshes.wanted
class PackagesTest(unittest.TestCase):
    def test_flipped_in_the_file(self):
        # The package's own "shuffled" meshes: closed, with facets turned at random.
        for name in ("blobby-shuffled", "oblong-shuffled", "cube4-shuffled", "ellipe0.003"):
            with self.subTest(name):
                theirs = open_meshes.load(f"geometry/{name}.off", 50.0)
                found = mend(Mesh(theirs.vertices, theirs.faces))
                self.assertTrue(found.closed)
                self.assertGreater(found.before.counts["flipped_facets"], 0)
                theirs.fix_normals()
                self.assertAlmostEqual(found.volume_after_mm3 / abs(theirs.volume), 1, delta=1e-6)

    def test_torn_in_the_file(self):
        for path in ("geometry/elephant-with-holes.off", "geometry/mech-holes-shark.off", "geometry/pig.stl"):
            with self.subTest(path):
                theirs = open_meshes.load(path, 50.0)
                found = mend(Mesh(theirs.vertices, theirs.faces))
                self.assertGreater(found.before.counts["open_edges"], 100)
                self.assertTrue(found.closed or found.after.defects > 0)
                if found.closed:
                    self.assertGreater(found.volume_after_mm3, 0)


if __name__ == "__main__":
    unittest.main()

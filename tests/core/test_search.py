"""The search for stances: what it proposes is better than what there was, and stays what it is."""

import math
import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from manifold3d import Manifold
from scipy.stats import spearmanr

from tests.support import box, mesh_of, on_plate, portal, sphere, stalactites, tee
from upright_heron.core.errors import Cancelled
from upright_heron.core.geometry.mesh import Mesh, facts
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.machines.catalogue import limit_for, material, printer
from upright_heron.core.stance import large_parts
from upright_heron.core.stance.candidates import TWIN_DEG
from upright_heron.core.stance.figures import Setting, figures, holding
from upright_heron.core.stance.large_parts import slicer
from upright_heron.core.stance.pose import about_axis, standing_on
from upright_heron.core.stance.proposals import GOALS, Goals
from upright_heron.core.stance.resting import resting_faces
from upright_heron.core.stance.search import MIXES, Scale, even_directions, search
from upright_heron.core.stance.sweep import sweep
from upright_heron.demo.shapes import SHAPES
from upright_heron.sheet.item import StanceGoals
from upright_heron.work.alone import Alone


def setting(machine="Sedge 300", stuff="PLA", layer=0.4):
    p, m = printer(machine), material(stuff)
    return Setting(p, m, limit_for(p, m), layer)


def find(mesh, goals=None, given=None, **more):
    given = given or setting()
    solid = Solid.from_mesh(mesh)
    return search(mesh, slicer(mesh, solid is not None, given.layer_mm), given, goals or Goals(), **more)


class StandingTest(unittest.TestCase):
    """A filament part stands on something, or what holds it up is counted."""

    def test_no_proposal_balances_without_what_holds_it(self):
        table = box(60, 40, 4, (0, 0, 30))
        for x, y in ((0, 0), (56, 0), (0, 36), (56, 36)):
            table = table + box(4, 4, 30, (x, y, 0))
        shapes = {"ball": sphere(20, 48), "table": table, "bracket": SHAPES["telescope-bracket"]()}
        for name, body in shapes.items():
            with self.subTest(name):
                for proposal in find(body if isinstance(body, Mesh) else mesh_of(body)).proposals:
                    found = proposal.figures
                    self.assertTrue(found.contact_area_mm2 >= 1 or found.holding_mm3 > 0, proposal.letter)
                    self.assertEqual(found.holding_mm3 > 0, found.contact_area_mm2 < 20)

    def test_a_part_that_can_stand_is_not_balanced(self):
        # A cone: on its base, along a line of its side, or on its point.
        found = find(mesh_of(Manifold.cylinder(40, 15, 0.2, 64)))
        self.assertGreater(found.proposals[0].figures.contact_area_mm2, 600)

    def test_what_holds_it_takes_material_and_time(self):
        given = setting()
        ball = mesh_of(on_plate(sphere(20, 48)))
        cut = slicer(ball, True, given.layer_mm)
        found = figures(ball, np.eye(3), cut(np.eye(3)), given)
        # Three posts of 12 mm2 to the middle of the ball.
        self.assertAlmostEqual(found.holding_mm3, 3 * 12 * 20, delta=1)
        self.assertEqual(holding(given, 25.0, 20.0), (0.0, 0.0))
        self.assertEqual(holding(replace(given, lift_mm=5.0), 0.0, 20.0), (0.0, 0.0))
        self.assertEqual(holding(setting("Tarn 9", "Standard resin", 0.05), 0.0, 20.0), (0.0, 0.0))
        self.assertEqual(holding(given, 0.0, 1.0), (3 * 12 * 5, 3 * 4))


class ProposalsTest(unittest.TestCase):
    def beats_all(self, mesh, given, goals):
        """Hold the first proposal against every resting face and the stance the part came in, all by exact figures."""
        solid = Solid.from_mesh(mesh)
        cut = slicer(mesh, solid is not None, given.layer_mm)
        marks = []
        original = Scale.set

        def kept(self, candidates):
            original(self, candidates)
            marks.append(self)

        Scale.set = kept
        try:
            found = search(mesh, cut, given, goals, directions=250)
        finally:
            Scale.set = original
        scale, weights = marks[-1], goals.weights()

        def score(rotation):
            exact = figures(mesh, rotation, cut(rotation), given)
            # What rests on points alone is no rival on a filament machine: it has nothing to hold it.
            if not given.resin and exact.contact_area_mm2 < 1:
                return -math.inf
            points = 100 * (1 - scale.costs(scale.exact(exact)) @ weights)
            if not given.resin:
                return points
            raised = figures(mesh, rotation, cut(rotation), replace(given, lift_mm=5.0))
            lifted = 100 * (1 - scale.costs(scale.exact(raised)) @ weights)
            lies = exact.contact_area_mm2 >= 20 and exact.tip_angle_deg >= 10
            return max(points, lifted) if lies else lifted

        faces = resting_faces(mesh, facts(mesh), given.limit_deg)
        rivals = [score(np.eye(3)), *(score(face.rotation) for face in faces)]
        self.assertGreaterEqual(found.proposals[0].score, max(rivals) - 1e-6)
        return found

    def test_bracket(self):
        found = self.beats_all(SHAPES["telescope-bracket"](), setting(), MIXES["filament"])
        self.assertTrue(found.exact)

    def test_heron_on_filament_and_resin(self):
        mesh = SHAPES["heron-figurine"]()
        self.beats_all(mesh, setting(), MIXES["filament, fine surface"])
        self.beats_all(mesh, setting("Tarn 9", "Standard resin", 0.2), MIXES["resin"])

    def test_resin_parts_are_weighed_flat_and_lifted(self):
        # A block lies on any of its faces; a ball on none, whatever lift is typed.
        block, ball = mesh_of(box(30, 20, 12)), mesh_of(on_plate(sphere(10, 48)))
        given = setting("Tarn 9", "Standard resin", 0.2)
        for lift in (0.0, 5.0):
            with self.subTest(lift):
                asked = replace(given, lift_mm=lift)
                cut = slicer(block, True, 0.2)
                found = search(block, cut, asked, MIXES["resin"], directions=60)
                came = next(p for p in found.proposals if p.name == "as it came")
                self.assertEqual({came.lift_mm, came.other.lift_mm}, {0.0, 5.0})
                self.assertGreaterEqual(came.score, came.other.score)
                for way in (came.lift_mm, came.other.lift_mm):
                    exact = figures(block, np.eye(3), cut(np.eye(3)), replace(asked, lift_mm=way))
                    told = came if way == came.lift_mm else came.other
                    self.assertAlmostEqual(told.overhang_area_mm2, exact.overhang_area_mm2)
                    self.assertAlmostEqual(told.contact_area_mm2, 0.0 if way else 600.0, places=3)
                # Flat it has no overhang at all: it is proposed so.
                self.assertEqual((came.lift_mm, came.other.stands), (0.0, True))
                self.assertGreater(came.other.overhang_area_mm2, 590)
                round_ = search(ball, slicer(ball, True, 0.2), asked, MIXES["resin"], directions=60)
                self.assertEqual({p.lift_mm for p in round_.proposals}, {5.0})
                self.assertFalse(any(p.other.stands for p in round_.proposals))
        plain = search(block, slicer(block, True, 0.2), setting(), MIXES["filament"], directions=60)
        self.assertEqual({p.other for p in plain.proposals}, {None})

    def test_proposals_are_unlike_and_the_stance_it_came_in_is_among_them(self):
        found = find(mesh_of(portal()), directions=120)
        downs = np.array([p.down for p in found.proposals])
        angles = np.degrees(np.arccos(np.clip(downs @ downs.T, -1, 1)))
        self.assertGreaterEqual(angles[np.triu_indices(len(downs), 1)].min(), TWIN_DEG - 1e-6)
        self.assertIn("as it came", [p.name for p in found.proposals])
        self.assertEqual([p.letter for p in found.proposals], list("ABCDEF")[: len(downs)])
        scores = [p.score for p in found.proposals]
        self.assertEqual(scores, sorted(scores, reverse=True))

    def test_the_tee_is_turned_over(self):
        # Upside down or on its side nothing of it hangs, and 400 mm2 or more lie on the plate.
        best = find(mesh_of(tee()), directions=200).proposals[0]
        self.assertEqual((best.figures.overhang_area_mm2, best.figures.support_volume_mm3), (0, 0))
        self.assertGreaterEqual(best.contact_area_mm2, 400 - 1e-6)

    def test_the_same_input_gives_the_same(self):
        one, other = (find(mesh_of(stalactites()), directions=80) for _ in range(2))
        for a, b in zip(one.proposals, other.proposals, strict=True):
            np.testing.assert_array_equal(a.rotation, b.rotation)
            self.assertEqual((a.score, a.figures), (b.score, b.figures))

    def test_weights_mean_something(self):
        bar = mesh_of(box(12, 30, 90))
        low = find(bar, Goals(0, 5, 0, 0, 0, 0), directions=100).proposals[0]
        self.assertAlmostEqual(low.height_mm, 12, delta=0.5)
        small = find(bar, Goals(0, 0, 0, 0, 0, 5), directions=100).proposals[0]
        self.assertAlmostEqual(small.figures.largest_layer.value, 360, delta=20)

    def test_first_proposals_come_before_the_exact_ones(self):
        seen = []
        final = find(mesh_of(portal()), directions=400, firming=seen.append)
        self.assertEqual([s.exact for s in seen], [False, False])
        self.assertLess(seen[0].weighed, final.weighed / 2)
        self.assertTrue(all(p.figures is None for p in seen[0].proposals))
        self.assertTrue(all(p.figures is not None for p in final.proposals))

    def test_it_can_be_stopped(self):
        def progress(stage, done, total):
            if stage == "Weighing stances" and done > 40:
                raise Cancelled()

        with self.assertRaises(Cancelled):
            find(mesh_of(tee()), progress=progress)

    def test_a_resin_part_hides_its_front_from_the_tips(self):
        # A lens, the same from both sides and without a face to stand on: its front does not look down.
        ball = Manifold.sphere(40, 96)
        badge = mesh_of(ball.translate((0, 32, 0)) ^ ball.translate((0, -32, 0)))
        job = {"printer": "Tarn 9", "material": "Standard resin", "layer_mm": 0.2}
        for show, word in ((None, "front"), ((0.0, 1.0, 0.0), "back")):
            alone = Alone(badge, "Tarn 9", item={"goals": StanceGoals(clean_show=5), "show": show}, job=job)
            best = alone.make("search").proposals[0]
            up = best.rotation[2]
            self.assertLess(float(up[1]) * (1 if word == "front" else -1), -0.2, (word, up))

    def test_resin_leans(self):
        given = setting("Tarn 9", "Standard resin", 0.1)
        plate = mesh_of(box(60, 40, 3))
        best = find(plate, Goals(1, 0, 0, 0, 0, 5), given, directions=100).proposals[0]
        self.assertLess(best.figures.largest_layer.value, 2400)


class FitTest(unittest.TestCase):
    def test_a_part_that_fits_only_when_turned_is_found_to_fit(self):
        # Longer than the plate of the Sedge 300 but not than its diagonal, or than its height.
        found = find(mesh_of(box(20, 20, 400)), directions=60)
        self.assertFalse(next(p for p in found.proposals if p.name == "as it came").fits)
        self.assertTrue(found.proposals[0].fits)
        self.assertTrue(found.proposals[0].figures.fits)
        self.assertGreater(found.fitting, 0)

    def test_one_that_cannot_fit_is_told(self):
        found = find(mesh_of(box(500, 500, 500)), given=setting(layer=2.0), directions=60)
        self.assertEqual(found.fitting, 0)
        self.assertFalse(any(p.fits for p in found.proposals))


class WeighingTest(unittest.TestCase):
    def test_an_even_spread_has_no_gaps(self):
        spread = even_directions(500)
        np.testing.assert_allclose(np.linalg.norm(spread, axis=1), 1)
        rng = np.random.default_rng(1)
        probes = rng.normal(size=(2000, 3))
        probes /= np.linalg.norm(probes, axis=1)[:, None]
        nearest = np.degrees(np.arccos(np.clip((probes @ spread.T).max(axis=1), -1, 1)))
        self.assertLess(nearest.max(), 9)

    def test_weighed_support_volume_ranks_as_the_exact_one(self):
        # Organic, mechanical, thin, leggy, hollow.
        parts = {
            "organic": SHAPES["heron-figurine"](),
            "mechanical": SHAPES["telescope-bracket"](),
            "thin": mesh_of(bowl()),
            "leggy": mesh_of(stalactites()),
            "hollow": SHAPES["tide-gauge-housing"](),
        }
        for name, mesh in parts.items():
            with self.subTest(name):
                given = setting()
                scale = Scale(mesh, given, closed=True)
                scale.thin_out()
                rotations = [standing_on(d) for d in even_directions(30)]
                sums = sweep(
                    scale.thin, scale.thin_corners, np.array([-r[2] for r in rotations]), given.limit_deg
                )
                weighed = [scale.weigh(r, sums, k)[1][1] for k, r in enumerate(rotations)]
                from upright_heron.core.stance.figures import pixel_for
                from upright_heron.core.stance.vertical_rays import plumb

                exact = [
                    plumb(
                        scale.surface, r, given.limit_deg, layer_mm=1,
                        pixel_mm=pixel_for(np.ptp(mesh.vertices @ r.T, axis=0)),
                    ).support_mm3
                    for r in rotations
                ]  # fmt: skip
                self.assertGreaterEqual(spearmanr(weighed, exact).statistic, 0.99)

    def test_goals(self):
        self.assertEqual(len(GOALS), 6)
        np.testing.assert_allclose(Goals(0, 0, 0, 0, 0, 0).weights(), 1 / 6)
        np.testing.assert_allclose(Goals(5, 0, 0, 5, 0, 0).weights(), [0.5, 0, 0, 0.5, 0, 0])


def bowl():
    """A bowl with a wall of a millimetre."""
    ball = on_plate(sphere(30, 96)) - sphere(29, 96).translate((0, 0, 30))
    return ball ^ box(80, 80, 30, (-40, -40, 0))


class LargePartTest(unittest.TestCase):
    """Very large parts are spared a solid, and thinned through a copy that takes little room."""

    def test_layers_without_a_solid_are_the_same(self):
        mesh = mesh_of(sphere(20, 96))
        turn = about_axis("x", 31.0)
        exact = slicer(mesh, True, 0.5)(turn)
        with (
            mock.patch.object(large_parts, "LARGE", 100),
            mock.patch.object(large_parts.Solid, "from_mesh", side_effect=AssertionError("a solid was made")),
        ):
            spared = slicer(mesh, True, 0.5)(turn)
        np.testing.assert_allclose(spared.area_mm2, exact.area_mm2, rtol=1e-9)

    def test_two_bodies_still_get_their_solid(self):
        pair = mesh_of(box(10, 10, 10) + box(5, 5, 5, (20, 0, 0)))
        with mock.patch.object(large_parts, "LARGE", 4):
            stack = slicer(pair, True, 0.5)(np.eye(3))
        np.testing.assert_allclose(stack.area_mm2[:10], 125)
        np.testing.assert_allclose(stack.area_mm2[10:], 100)

    def test_the_copy_has_the_shape_and_a_fraction_of_the_facets(self):
        mesh = mesh_of(sphere(20, 512))
        with mock.patch.object(large_parts, "CELLS", 60):
            copy = large_parts.merged(mesh)
        self.assertLess(len(copy.faces), len(mesh.faces) / 4)
        np.testing.assert_allclose(np.linalg.norm(copy.vertices, axis=1), 20, atol=0.02)
        corners = copy.vertices[copy.faces]
        area = (
            0.5
            * np.linalg.norm(
                np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1
            ).sum()
        )
        self.assertAlmostEqual(area / (4 * np.pi * 400), 1, delta=0.02)


if __name__ == "__main__":
    unittest.main()

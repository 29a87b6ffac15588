"""What comes of plans: seams measured on the surface, supports and faces of pieces, pictures."""

import io
import math
import re
import unittest
from dataclasses import asdict, replace
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from tests.support import box, mesh_of, sphere
from upright_heron.core.geometry.mesh import facet_normals
from upright_heron.core.geometry.picture import WHEEL
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.cuts import cut, cut_tree
from upright_heron.core.split.plan_figures import PlanFigures, best_stand, plan_figures, seams
from upright_heron.core.split.plan_points import PlanGoals, plan_points
from upright_heron.core.split.planner import Plan

ROOT = Path(__file__).resolve().parents[2]


def plan(*cuts):
    return Plan("planned", cuts, 2, 0, 0, 0.0, 0.0, 1.0, 2.0)


def figures(body, *cuts, show=None, limit=45.0):
    mesh = mesh_of(body)
    facets = None if show is None else facet_normals(mesh)[0] @ np.asarray(show, float) > 0.5
    return plan_figures(Solid(body), mesh, [plan(*cuts)], limit, facets)[0]


class SeamTest(unittest.TestCase):
    def test_seams_of_a_bar_and_what_of_them_shows(self):
        told = figures(box(400, 100, 60), cut((1, 0, 0), 150, "1"), show=(0, 0, 1))
        self.assertAlmostEqual(told.seam_mm, 2 * (100 + 60), places=6)
        self.assertAlmostEqual(told.show_mm, 100, places=6)
        # Across the edges it is near to one at both ends, for a step at most.
        self.assertLess(told.crease_share, 0.03)

    def test_a_seam_in_an_inner_corner_runs_along_a_crease(self):
        step = box(200, 80, 30) + box(90, 80, 70)
        told = figures(step, cut((1, 0, 0), 90, "1"))
        # Three sides of the lower bar, and the corner itself.
        self.assertAlmostEqual(told.seam_mm, 2 * 80 + 2 * 30, places=6)
        self.assertAlmostEqual(told.crease_share, 80 / 220, delta=0.03)
        self.assertIsNone(told.show_mm)

    def test_a_cut_of_one_piece_leaves_its_seam_there_only(self):
        mesh = mesh_of(box(400, 100, 60))
        cuts = [cut((1, 0, 0), 150, "1"), cut((0, 1, 0), 40, "2", "1b")]
        lines, _ = seams(mesh, cut_tree(Solid(box(400, 100, 60)), cuts))
        # Above, below and at the end; the cut face itself is no surface of the part.
        self.assertAlmostEqual(
            float(np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1).sum()), 320 + 2 * 250 + 60, places=6
        )
        self.assertGreaterEqual(float(lines[..., 0].min()), 150)

    @settings(max_examples=25, deadline=None)
    @given(st.floats(-0.8, 0.8), st.tuples(*[st.floats(-1, 1)] * 3))
    def test_seams_round_a_ball_are_circles(self, share, normal):
        if np.linalg.norm(normal) < 0.1:
            return
        ball = sphere(50, 192)
        one = cut(normal, 50 * share, "1")
        tree = cut_tree(Solid(ball), [one])
        lines, _ = seams(mesh_of(ball), tree)
        length = float(np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1).sum())
        self.assertAlmostEqual(length / (2 * math.pi * 50 * math.sqrt(1 - share * share)), 1, delta=3e-3)
        np.testing.assert_allclose(lines @ np.asarray(one.normal), tree.cut.offset_mm, atol=1e-9)


class StandTest(unittest.TestCase):
    def test_half_a_ball_stands_on_its_cut_and_needs_nothing(self):
        told = figures(sphere(30, 128), cut((1, 2, 2), 0, "1"))
        self.assertLess(told.support_mm3, 30.0)
        self.assertEqual(told.standing, 2)

    def test_a_ball_needs_what_lies_below_it_outside_its_limit(self):
        # Columns under the cap past 45 degrees from vertical: z = r - sqrt(r2 - s2) over a disc of r / sqrt 2.
        r, rim = 30.0, 30.0 / math.sqrt(2)
        cap = math.pi * rim**2 * r - 2 * math.pi / 3 * (r**3 - (r * r - rim * rim) ** 1.5)
        volume, contact = best_stand(mesh_of(sphere(r, 256)), [], 45.0)
        self.assertAlmostEqual(volume / cap, 1, delta=0.02)
        self.assertLess(contact, 20)

    def test_a_table_stands_on_its_top_rather_than_its_legs(self):
        legs = [box(8, 8, 50, (x, y, 0)) for x in (0, 72) for y in (0, 52)]
        table = box(80, 60, 6, (0, 0, 50))
        for leg in legs:
            table = table + leg
        volume, contact = best_stand(mesh_of(table), [], 45.0)
        self.assertEqual(volume, 0)
        self.assertAlmostEqual(contact, 80 * 60, places=6)


class PointsTest(unittest.TestCase):
    def points(self, **goals):
        few = replace(plan(), name="few", score=3.0, balance=0.2)
        even = replace(plan(), name="even", score=8.0, balance=0.9)
        between = replace(plan(), name="between", score=4.0, balance=0.2)
        shown = {
            "few": PlanFigures("few", 100.0, 3, 900.0, 400.0, 0.0, b""),
            "even": PlanFigures("even", 300.0, 3, 900.0, 500.0, 0.5, b""),
            "between": PlanFigures("between", 200.0, 3, 100.0, None, 0.0, b""),
        }
        none = dict.fromkeys(asdict(PlanGoals()), 0.0)
        longest = {"few": 50.0, "even": 10.0, "between": 30.0}
        return plan_points([few, even, between], shown, longest, PlanGoals(**{**none, **goals}))

    def test_the_best_in_all_that_counts_has_100_and_the_worst_none(self):
        self.assertEqual(self.points(fewer_pieces=2), {"few": 100, "even": 0, "between": 80})
        self.assertEqual(self.points(less_support=1), {"few": 100, "even": 0, "between": 50})
        self.assertEqual(self.points(shorter_print=1), {"few": 0, "even": 100, "between": 50})
        self.assertEqual(self.points(even_pieces=5), {"few": 0, "even": 100, "between": 0})
        self.assertEqual(self.points(), {"few": 100, "even": 100, "between": 100})

    def test_a_seam_along_creases_does_not_show(self):
        # 400, half of 500, and 100 mm: without a show side all of it is seen.
        self.assertEqual(self.points(clean_show=1), {"few": 0, "even": 50, "between": 100})

    def test_weights_are_shares(self):
        told = self.points(fewer_pieces=3, shorter_print=1)
        self.assertAlmostEqual(told["few"], 75)
        self.assertAlmostEqual(told["even"], 25)

    def test_what_is_not_known_of_all_does_not_count(self):
        few, even = replace(plan(), name="few", score=3.0), replace(plan(), name="even", score=8.0)
        told = plan_points([few, even], {}, {"few": 9.0}, PlanGoals())
        self.assertEqual(told, {"few": 100, "even": 0})


class PictureTest(unittest.TestCase):
    def test_each_piece_has_a_colour_of_its_own_as_in_the_view(self):
        told = figures(box(300, 40, 40), cut((1, 0, 0), 100, "1"), cut((1, 0, 0), 200, "2"))
        seen = np.asarray(Image.open(io.BytesIO(told.png)).convert("RGBA"), float)
        solid = seen[seen[..., 3] > 250][:, :3]
        # By hue: shading changes how bright they are.
        hue = solid / solid.sum(axis=1, keepdims=True)
        wheel = WHEEL / WHEEL.sum(axis=1, keepdims=True)
        nearest = np.argmin(np.linalg.norm(hue[:, None] - wheel[None], axis=2), axis=1)
        counts = np.bincount(nearest, minlength=len(WHEEL)) / len(solid)
        self.assertTrue((counts[:3] > 0.15).all(), counts)
        self.assertGreater(counts[:3].sum(), 0.9)
        script = (ROOT / "src/upright_heron/web/static/js/pieces.js").read_text()
        wanted = re.findall(r"#([0-9a-f]{6})", script[script.index("WHEEL") : script.index("];")])
        self.assertEqual(["".join(f"{int(v):02x}" for v in one) for one in WHEEL], wanted)


if __name__ == "__main__":
    unittest.main()

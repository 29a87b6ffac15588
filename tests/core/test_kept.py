"""What is kept whole: no plane of boxes, of a plan or of one's own goes through it."""

import unittest

import numpy as np
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from tests.support import box
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.cuts import cut
from upright_heron.core.split.grid import grid_cuts
from upright_heron.core.split.kept import check_kept, corners_of, crossed
from upright_heron.core.split.pieces import split
from upright_heron.core.split.planner import plans


def sides(low, high, normal, offset):
    """Signs of the corners of a box: both where a plane goes through it."""
    corners = np.array(np.meshgrid(*zip(low, high, strict=True))).reshape(3, -1).T
    return {bool(v > 0) for v in corners @ np.asarray(normal) - offset if abs(v) > 1e-5}


vectors = st.tuples(*[st.floats(-50, 50)] * 3)


class CrossedTest(unittest.TestCase):
    @settings(max_examples=200, deadline=None)
    @given(vectors, st.tuples(*[st.floats(0.5, 40)] * 3), vectors, st.floats(-60, 60))
    def test_a_plane_goes_through_a_box_when_it_has_corners_on_both_sides(self, low, size, normal, offset):
        assume(np.linalg.norm(normal) > 1)
        one = cut(normal, offset, "1")
        high = tuple(a + b for a, b in zip(low, size, strict=True))
        wanted = 0 if len(sides(low, high, one.normal, offset)) == 2 else None
        self.assertEqual(crossed(one.normal, offset, [(low, high)]), wanted)

    def test_it_is_said_which_cut_and_which_box(self):
        kept = [((0, 0, 0), (1, 1, 1)), ((5, 5, 5), (9, 9, 9))]
        check_kept([cut((1, 0, 0), 1.0, "7")], kept)
        with self.assertRaisesRegex(BadValue, "Cut 7 would go through what is kept whole, number 2"):
            check_kept([cut((1, 0, 0), 6.0, "7")], kept)


class WithinTest(unittest.TestCase):
    def test_a_plane_of_one_piece_may_cross_what_is_kept_in_another(self):
        kept = [((60.0, 0.0, 0.0), (90.0, 10.0, 10.0))]
        first = cut((1, 0, 0), 50.0, "1")
        check_kept([first, cut((0, 1, 0), 5.0, "2", "1a")], kept)
        for within in ("1b", ""):
            with self.assertRaisesRegex(BadValue, "Cut 2 would go through"):
                check_kept([first, cut((0, 1, 0), 5.0, "2", within)], kept)
        # What lies on both sides of the first lies in both pieces.
        first = cut((0, 0, 1), 4.0, "1")
        with self.assertRaisesRegex(BadValue, "Cut 1 would go through"):
            check_kept([first, cut((0, 1, 0), 5.0, "2", "1a")], kept)


class PlacesTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10_000), vectors, st.floats(-1.5, 1.5))
    def test_a_plane_through_places_goes_through_what_is_kept_round_them(self, seed, normal, share):
        assume(np.linalg.norm(normal) > 1)
        places = np.random.default_rng(seed).normal(0, 20, (200, 3)) * [1, 0.5, 0.0]
        kept = [tuple(map(tuple, corners_of(places)))]
        along = places @ (np.asarray(normal) / np.linalg.norm(normal))
        offset = float(share * np.abs(along).max())
        one = cut(normal, offset, "1")
        if along.min() <= offset <= along.max():
            self.assertEqual(crossed(one.normal, offset, kept), 0)
        elif offset < along.min() - 1 or offset > along.max() + 1:
            self.assertIsNone(crossed(one.normal, offset, kept))

    def test_a_grid_gives_way_to_places_as_to_a_box(self):
        bounds = np.array([(0.0, 0.0, 0.0), (400.0, 10.0, 10.0)])
        places = np.array([(x, 5.0, 5.0) for x in np.linspace(190.0, 230.0, 9)])
        (only,) = grid_cuts(bounds, (250.0, 250.0, 250.0), kept=[tuple(map(tuple, corners_of(places)))])
        self.assertAlmostEqual(only.offset_mm, 189.5, delta=0.02)


class GridTest(unittest.TestCase):
    @settings(max_examples=100, deadline=None)
    @given(st.lists(st.tuples(st.floats(0, 900), st.floats(5, 180)), max_size=4), st.floats(-0.5, 0.5))
    def test_planes_give_way_and_no_box_gets_too_large(self, spans, shift):
        kept = [((a, 0.0, 0.0), (a + size, 10.0, 10.0)) for a, size in spans]
        bounds = np.array([(0.0, 0.0, 0.0), (1000.0, 10.0, 10.0)])
        try:
            cuts = grid_cuts(bounds, (200.0, 200.0, 200.0), (shift, 0.0, 0.0), kept=kept)
        except BadValue as told:
            self.assertIn("kept whole leaves no room", str(told))
            # It is so: somewhere the boxes that are kept lie over each other for longer than a piece.
            union, longest = [], 0.0
            for a, b in sorted((max(a, 0.0), min(a + s, 1000.0)) for a, s in spans):
                if union and a < union[-1][1]:
                    union[-1][1] = max(union[-1][1], b)
                else:
                    union.append([a, b])
                longest = max(longest, union[-1][1] - union[-1][0])
            self.assertGreater(longest, 100)
            return
        at = [0.0, *sorted(one.offset_mm for one in cuts), 1000.0]
        self.assertLessEqual(max(np.diff(at)), 200.0 + 1e-6)
        self.assertTrue((np.diff(at) > 0).all())
        for low, high in kept:
            self.assertFalse(any(low[0] + 1e-5 < v < high[0] - 1e-5 for v in at[1:-1]), (at, kept))

    def test_without_any_they_are_as_before(self):
        bounds = np.array([(0.0, 0.0, 0.0), (1000.0, 10.0, 10.0)])
        # The middle one first: each of the others has half as much to part.
        self.assertEqual([c.offset_mm for c in grid_cuts(bounds, (260.0,) * 3)], [500, 250, 750])


class PlanTest(unittest.TestCase):
    def test_plans_leave_it_whole(self):
        body = Solid(box(700, 40, 40))
        kept = [((330.0, -1.0, -1.0), (370.0, 41.0, 41.0)), ((150.0, 0.0, 0.0), (250.0, 40.0, 40.0))]
        found = plans(body, (294.0, 294.0, 295.0), kept=kept)
        self.assertGreaterEqual(len(found), 2)
        for plan in found:
            self.assertTrue(plan.cuts)
            check_kept(plan.cuts, kept)
            self.assertEqual(plan.too_big, 0)
            made = split(body, plan.cuts, (294.0, 294.0, 295.0))
            # A kept box lies in one piece.
            for low, high in kept:
                inside = [p for p in made.pieces if (p.mesh.bounds[0] <= np.maximum(low, 0) + 1e-6).all()
                          and (p.mesh.bounds[1] >= np.minimum(high, (700, 40, 40)) - 1e-6).all()]  # fmt: skip
                self.assertEqual(len(inside), 1, (plan.name, low))


if __name__ == "__main__":
    unittest.main()

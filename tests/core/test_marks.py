"""Marks: the fine mesh they lie on, fills, changes, channels, and carrying them to another mesh."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold

from tests.support import box, mesh_of, sphere, torus
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.mesh import Mesh, facts
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.marking import marks as m
from upright_heron.core.marking.channels import channel_at, find_channels, gaps_mm
from upright_heron.core.marking.mark import Mark

BLOCK = box(40, 30, 20)


def painted_area(fine, facets):
    return float(fine.areas_mm2[facets].sum())


class FineMeshTest(unittest.TestCase):
    def test_same_surface_in_short_edges(self):
        for name, body in (("box", BLOCK), ("ball", sphere(10, 32)), ("ring", torus(20, 5, 48))):
            with self.subTest(name):
                mesh = mesh_of(body)
                fine = refined(mesh)
                before, after = facts(mesh), facts(fine.mesh)
                self.assertTrue(after.closed)
                self.assertAlmostEqual(after.area_mm2 / before.area_mm2, 1, places=9)
                self.assertAlmostEqual(after.volume_mm3 / before.volume_mm3, 1, places=9)
                corners = fine.mesh.vertices[fine.mesh.faces]
                edges = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)
                self.assertLessEqual(edges.max(), 1.0 + 1e-6)
                # Every fine facet lies in its parent: they face the same way, and areas add up.
                shares = np.bincount(fine.parent, weights=fine.areas_mm2, minlength=len(mesh.faces))
                np.testing.assert_allclose(shares, facts_areas(mesh), rtol=1e-9)

    def test_never_more_than_asked_and_the_same_every_time(self):
        mesh = mesh_of(box(200, 200, 200))
        fine = refined(mesh, 20_000)
        self.assertLessEqual(len(fine.parent), 20_000)
        self.assertGreater(fine.edge_mm, 1.0)
        self.assertEqual(fine.mesh.digest, refined(mesh, 20_000).mesh.digest)
        self.assertEqual(len(refined(mesh, 10).parent), 12, "a part with more keeps its own facets")
        self.assertEqual(len(refined(Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32))).parent), 0)


def facts_areas(mesh):
    corners = mesh.vertices[mesh.faces]
    return 0.5 * np.linalg.norm(
        np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1
    )


class FillTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.fine = refined(mesh_of(BLOCK))

    def at(self, x, y, z):
        return int(np.argmin(((self.fine.middles_mm - [x, y, z]) ** 2).sum(axis=1)))

    def test_a_face_ends_at_its_creases_and_a_body_does_not(self):
        top = m.face(self.fine, self.at(20, 15, 20))
        self.assertAlmostEqual(painted_area(self.fine, top), 1200, places=6)
        self.assertAlmostEqual(painted_area(self.fine, m.face(self.fine, 0, 91.0)), 5200, places=6)
        self.assertAlmostEqual(painted_area(self.fine, m.body(self.fine, 0)), 5200, places=6)
        two = refined(mesh_of(Manifold.compose([BLOCK, box(5, 5, 5, (50, 0, 0))])))
        self.assertAlmostEqual(painted_area(two, m.body(two, len(two.parent) - 1)), 150, places=6)
        with self.assertRaises(BadValue):
            m.face(self.fine, 10**9)

    def test_band_and_parents(self):
        heights = self.fine.middles_mm[:, 2]
        facets = m.band(self.fine, heights, 15.0, 5.0)
        self.assertTrue(((heights[facets] >= 5) & (heights[facets] <= 15)).all())
        self.assertAlmostEqual(painted_area(self.fine, facets), 140 * 10, delta=140)
        self.assertAlmostEqual(
            painted_area(self.fine, m.of_parents(self.fine, np.arange(12))), 5200, places=6
        )


class ChangeTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.fine = refined(mesh_of(BLOCK))
        near = np.linalg.norm(cls.fine.middles_mm - [20, 15, 20], axis=1) < 5
        cls.spot = m.painted(m.blank(cls.fine), np.flatnonzero(near), Mark.PROP)

    def area(self, marks, mark=Mark.PROP):
        return m.areas_mm2(self.fine, marks)[mark]

    def test_growing_and_shrinking_move_the_edge_by_as_much(self):
        # A disc of 5 mm on a face that is wide enough: pi r2, to half an edge.
        self.assertAlmostEqual(self.area(self.spot) / (np.pi * 25), 1, delta=0.05)
        grown = m.grown(self.fine, self.spot, Mark.PROP, 3.0)
        self.assertTrue(np.pi * 7**2 < self.area(grown) < np.pi * 8.6**2)
        shrunk = m.shrunk(self.fine, self.spot, Mark.PROP, 2.0)
        self.assertTrue(np.pi * 2**2 < self.area(shrunk) < np.pi * 3.6**2)

    def test_growing_keeps_to_what_is_not_painted(self):
        ring = np.linalg.norm(self.fine.middles_mm - [20, 15, 20], axis=1)
        both = m.painted(self.spot, np.flatnonzero((ring >= 5) & (ring < 8)), Mark.KEEP_CLEAR)
        grown = m.grown(self.fine, both, Mark.PROP, 2.0)
        self.assertEqual(self.area(grown, Mark.KEEP_CLEAR), self.area(both, Mark.KEEP_CLEAR))

    def test_smoothing_drops_specks_and_fills_gaps(self):
        speckled = self.spot.copy()
        hole = int(np.argmin(np.linalg.norm(self.fine.middles_mm - [20, 15, 20], axis=1)))
        speck = int(np.argmin(np.linalg.norm(self.fine.middles_mm - [35, 25, 20], axis=1)))
        speckled[hole], speckled[speck] = Mark.NONE, Mark.PROP
        smooth = m.smoothed(self.fine, speckled, Mark.PROP, 1.5)
        self.assertEqual((smooth[hole], smooth[speck]), (Mark.PROP, Mark.NONE))
        self.assertAlmostEqual(self.area(smooth) / self.area(self.spot), 1, delta=0.15)

    def test_mirror(self):
        side = np.flatnonzero(self.fine.middles_mm[:, 0] < 1e-6)
        marks = m.painted(m.blank(self.fine), side, Mark.SHOW)
        both = m.mirrored(self.fine, marks, "x")
        self.assertAlmostEqual(self.area(both, Mark.SHOW), 2 * 600, delta=1e-6)
        with self.assertRaises(BadValue):
            m.mirrored(self.fine, marks, "w")

    def test_clearing_and_erasing(self):
        both = m.painted(self.spot, np.array([0, 1]), Mark.SHOW)
        self.assertEqual(self.area(m.cleared(both, Mark.PROP)), 0)
        self.assertGreater(self.area(m.cleared(both, Mark.PROP), Mark.SHOW), 0)
        self.assertFalse(m.cleared(both).any())
        self.assertFalse(m.painted(self.spot, np.arange(len(self.spot)), Mark.NONE).any())
        with self.assertRaises(BadValue):
            m.painted(self.spot, np.array([len(self.spot)]), Mark.PROP)

    def test_the_table_has_a_meaning_for_every_mark(self):
        self.assertEqual(set(m.MEANING), set(Mark) - {Mark.NONE})
        self.assertTrue(m.MEANING[Mark.PROP].adds_demand)
        clear = m.MEANING[Mark.KEEP_CLEAR]
        self.assertTrue(clear.removes_demand and clear.forbids_contact and clear.clearance_mm > 0)
        self.assertTrue(m.MEANING[Mark.SHOW].costs_contact)


class CarryTest(unittest.TestCase):
    def top(self, fine):
        high = fine.middles_mm[:, 2] > fine.mesh.bounds[1, 2] - 1e-6
        return m.painted(m.blank(fine), np.flatnonzero(high), Mark.SHOW)

    @settings(max_examples=6, deadline=None)
    @given(st.tuples(*[st.floats(0.3, 3.0)] * 3), st.tuples(*[st.booleans()] * 3))
    def test_through_sizing_and_mirroring(self, scale, flips):
        factors = tuple(-s if f else s for s, f in zip(scale, flips, strict=True))
        mesh = mesh_of(box(20, 14, 8))
        old, new = refined(mesh), refined(mesh.sized(factors))
        marks, lost = m.carried(old, self.top(old), new, factors)
        self.assertEqual(lost, 0)
        self.assertAlmostEqual(
            m.areas_mm2(new, marks)[Mark.SHOW] / abs(280 * factors[0] * factors[1]), 1, delta=0.12
        )
        facing = new.normals[marks == Mark.SHOW][:, 2]
        self.assertTrue((np.sign(factors[2]) * facing > 0.9).all())

    def test_to_a_piece_and_to_nothing_near(self):
        whole, half = refined(mesh_of(box(20, 14, 8))), refined(mesh_of(box(10, 14, 8)))
        marks, lost = m.carried(whole, self.top(whole), half)
        self.assertAlmostEqual(m.areas_mm2(half, marks)[Mark.SHOW], 140, delta=1e-6)
        # What lies near the cut has a facet within reach, so that only the rest is told as lost.
        self.assertAlmostEqual(lost, 140 - 14 * 2, delta=14 * 1.5)
        away = refined(mesh_of(box(20, 14, 8, (100, 0, 0))))
        marks, lost = m.carried(whole, self.top(whole), away)
        self.assertFalse(marks.any())
        self.assertAlmostEqual(lost, 280, places=6)


class ChannelTest(unittest.TestCase):
    def only(self, body, width=6.0):
        (found,) = find_channels(refined(mesh_of(body)), width)
        return found

    def test_straight_and_curved_round_and_square(self):
        drilled = self.only(BLOCK - Manifold.cylinder(50, 2.5, 2.5, 48).translate((20, 15, -5)))
        self.assertTrue(drilled.straight)
        self.assertAlmostEqual(drilled.width_mm, 5.0, delta=0.05)
        # The wall of a cylinder: pi d l = 314.
        self.assertAlmostEqual(drilled.area_mm2 / 314.16, 1, delta=0.01)
        square = self.only(BLOCK - box(4, 60, 10, (18, -5, 5)))
        self.assertTrue(square.straight)
        self.assertAlmostEqual(square.area_mm2, 30 * 28, delta=1e-3)
        bent = self.only(
            BLOCK.translate((-20, 0, 0)) - torus(10, 2, 64).rotate((90, 0, 0)).translate((0, 15, 20))
        )
        self.assertFalse(bent.straight)
        # Half a ring: pi R times 2 pi r.
        self.assertAlmostEqual(bent.area_mm2 / (np.pi * 10 * 2 * np.pi * 2), 1, delta=0.02)

    def test_an_open_slot_and_a_wide_hole_are_none(self):
        for name, body in (
            ("slot", BLOCK - box(3, 40, 15, (18, -5, 10))),
            ("wide", BLOCK - Manifold.cylinder(50, 10, 10, 48).translate((20, 15, -5))),
            ("plain", BLOCK),
        ):
            with self.subTest(name):
                self.assertEqual(find_channels(refined(mesh_of(body)), 6.0), [])

    def test_a_wide_one_is_found_by_pointing_into_it(self):
        fine = refined(mesh_of(BLOCK - Manifold.cylinder(50, 10, 10, 48).translate((20, 15, -5))))
        seen = gaps_mm(fine)
        wall = int(np.argmin(np.abs(np.linalg.norm(fine.middles_mm[:, :2] - [20, 15], axis=1) - 10)))
        found = channel_at(fine, wall, seen)
        self.assertAlmostEqual(found.area_mm2 / (np.pi * 20 * 20), 1, delta=0.02)
        outside = int(np.argmin(fine.middles_mm[:, 0]))
        self.assertIsNone(channel_at(fine, outside, seen))


if __name__ == "__main__":
    unittest.main()

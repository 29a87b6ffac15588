"""Rows of tips along edges: where they stand, by hand."""

import math
import unittest

import numpy as np
from manifold3d import CrossSection, Manifold

from tests.support import box, mesh_of
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.supports.resin.edge_rows import _chain, edge_row


class EdgeRowTest(unittest.TestCase):
    def test_along_the_lower_edge_of_a_block(self):
        block = mesh_of(box(20, 10, 6, (0, 0, 5)))
        found = edge_row(block, (7.0, -0.5, 5.5), 3.0, 1.0)
        # 18 mm from end to end: six gaps of 3.
        np.testing.assert_allclose(np.sort(found[:, 0]), 1 + 3 * np.arange(7), atol=1e-9)
        np.testing.assert_allclose(found[:, 1:], [[1.0, 5.0]] * 7, atol=1e-9)
        # The edge across, from its other side.
        found = edge_row(block, (20.0, 4.0, 5.0), 4.0, 0.5)
        np.testing.assert_allclose(np.sort(found[:, 1]), [0.5, 3.5, 6.5, 9.5], atol=1e-9)
        np.testing.assert_allclose(found[:, 0], 19.5)

    def test_round_a_rim_it_closes(self):
        disc = mesh_of(Manifold.cylinder(4, 8, 8, 48).translate((3, 2, 5)))
        found = edge_row(disc, (11.0, 2.0, 5.0), 2.0, 0.7)
        around = 48 * 2 * 8 * math.sin(math.pi / 48)
        self.assertEqual(len(found), math.ceil(around / 2))
        away = np.hypot(found[:, 0] - 3, found[:, 1] - 2)
        self.assertTrue(((away > 8 * math.cos(math.pi / 48) - 0.71) & (away < 7.31)).all())
        turn = np.sort(np.arctan2(found[:, 1] - 2, found[:, 0] - 3))
        self.assertLess(np.ptp(np.diff(turn)), 0.03)

    def test_it_ends_where_the_edge_bends_and_goes_round_gentle_bends(self):
        # A plate with one corner cut in two bends of 30 degrees each, and square ones elsewhere.
        outline = CrossSection([[(0, 0), (20, 0), (25, 2.887), (27.887, 7.887), (27.887, 15), (0, 15)]])
        plate = mesh_of(Manifold.extrude(outline, 3).translate((0, 0, 8)))
        found = edge_row(plate, (10.0, 0.0, 8.0), 1.0, 0.5)
        whole = 20 + 2 * math.hypot(5, 2.887) + 15 - 7.887
        self.assertEqual(len(found), math.ceil((whole - 1) / 1.0) + 1)
        self.assertGreater(found[:, 0].max(), 27.3)
        self.assertGreater(found[:, 1].max(), 14.3)
        # Not along the side at x = 0 or the one at y = 15.
        self.assertGreater(found[found[:, 1] > 3][:, 0].min(), 20)

    def test_the_face_that_looks_down_bears_it_whichever_side_of_the_edge_it_is(self):
        # Below a wedge the lower face leans by 30 degrees; the row lies in it, the inset along the slope.
        wedge = CrossSection([[(0, 0), (10, 10 * math.tan(math.radians(30))), (10, 12), (0, 12)]])
        body = mesh_of(Manifold.extrude(wedge, 16).rotate((90, 0, 0)).translate((0, 16, 5)))
        found = edge_row(body, (0.2, 8.0, 5.0), 4.0, 1.0)
        self.assertEqual(len(found), 5)
        np.testing.assert_allclose(found[:, 0], math.cos(math.radians(30)), atol=1e-6)
        np.testing.assert_allclose(found[:, 2], 5 + math.sin(math.radians(30)), atol=1e-6)

    def test_where_an_edge_branches_it_goes_straight_on(self):
        corners = np.array([(0.0, 0, 0), (10, 0, 0), (18, 4, 0), (20, 0, 0), (18, -6, 0)])
        for order in ((2, 3, 4), (3, 2, 4), (4, 2, 3)):
            ends = np.array([(0, 1), *((1, k) for k in order)])
            chain = _chain(ends, corners[ends], 0)
            self.assertEqual(chain.nodes.tolist(), [0, 1, 3])
            self.assertEqual(chain.bits.tolist(), [0, 1 + order.index(3)])
            # Wherever it is picked.
            self.assertEqual(_chain(ends, corners[ends], 1 + order.index(3)).nodes.tolist(), [0, 1, 3])

    def test_none_where_no_edge_is_near_or_its_faces_look_up(self):
        block = mesh_of(box(20, 20, 6, (0, 0, 5)))
        for at in ((10.0, 10.0, 5.0), (10.0, 0.0, 11.0), (10.0, -5.0, 5.0)):
            self.assertEqual(len(edge_row(block, at, 2.0, 0.5)), 0, at)
        ball = mesh_of(Manifold.sphere(9, 96))
        self.assertEqual(len(edge_row(ball, (0.0, 0.0, -9.0), 2.0, 0.5)), 0)
        nothing = Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
        self.assertEqual(len(edge_row(nothing, (0.0, 0.0, 0.0), 2.0, 0.5)), 0)

    def test_an_edge_shorter_than_two_insets_has_one_in_its_middle(self):
        found = edge_row(mesh_of(box(3, 30, 6)), (1.5, 0.0, 0.0), 2.0, 2.0)
        np.testing.assert_allclose(found, [[1.5, 2.0, 0.0]], atol=1e-9)


if __name__ == "__main__":
    unittest.main()

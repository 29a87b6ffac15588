"""Surfaces cut by planes facet by facet, against the solid's own cut of manifold3d."""

from __future__ import annotations

import unittest
from unittest.mock import patch

import numpy as np
from manifold3d import CrossSection, Manifold

from upright_heron.core.geometry.frames import frame
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.cuts import cut, cut_tree
from upright_heron.core.split.plane_cut import Shell


def ring(around=48):
    return CrossSection.circle(6, 24).translate((20, 0)).revolve(around)


def closed(body):
    """Whether each edge of what manifold3d wrote has two facets that run along it both ways."""
    facets = np.asarray(body.to_mesh64().tri_verts).astype(int)
    edges = np.concatenate([facets[:, [0, 1]], facets[:, [1, 2]], facets[:, [2, 0]]])
    there, back = set(map(tuple, edges)), set(map(tuple, edges[:, ::-1]))
    return len(there) == len(edges) and there == back


class HalvesTest(unittest.TestCase):
    def same(self, body, normal, offset):
        """Both halves by either way have the same volume, surface and sections, and are closed."""
        plane = cut(normal, offset, "1")
        halves = Shell.of(body).halves(frame(plane.normal), offset)
        self.assertIsNotNone(halves)
        beyond, before = body.split_by_plane(plane.normal, offset)
        for half, other in zip(halves, (before, beyond), strict=True):
            made = half.body()
            self.assertTrue(closed(made))
            self.assertAlmostEqual(made.volume(), other.volume(), delta=1e-9 * body.volume())
            self.assertAlmostEqual(
                made.surface_area(), other.surface_area(), delta=1e-9 * body.surface_area()
            )
            self.assertAlmostEqual((made - other).volume() + (other - made).volume(), 0.0, delta=1e-6)
        return halves

    def test_a_ring_is_cut_anywhere(self):
        rng = np.random.default_rng(4)
        for _ in range(12):
            self.same(ring(), rng.normal(size=3), rng.uniform(-9, 9))

    def test_faces_have_holes_and_several_loops(self):
        hollow = Manifold.sphere(20, 64) - Manifold.sphere(15, 64)
        self.same(hollow, (1, 2, 3), 1.7)
        self.same(ring(), (1, 0, 0), 0.5)  # two discs
        self.same(ring(), (0, 0, 1), 0.5)  # one with a hole

    def test_a_plane_goes_through_corners(self):
        # Through the middle of a ball run edges; through a tip of the octahedron nothing else.
        self.same(Manifold.sphere(10, 32), (0, 0, 1), 0.0)
        self.same(Manifold.sphere(10, 4), (1, 1, 0), 0.0)
        tip = Manifold.cylinder(10, 5, 0, 16) + Manifold.cube((30, 4, 4)).translate((-15, 8, -2))
        self.same(tip, (0, 1, 0.0), 0.0)

    def test_later_planes_cut_what_earlier_ones_left_open(self):
        shell = Shell.of(ring(200))
        body = ring(200)
        planes = [((1, 0, 0), 3.0), ((0, 1, 0), -2.0), ((1, 2, 4), 1.0), ((0, 0, 1), 0.7), ((3, -1, 1), 4.0)]
        for normal, offset in planes:
            plane = cut(normal, offset, "1")
            shell = shell.halves(frame(plane.normal), offset)[1]
            body = body.trim_by_plane(plane.normal, offset)
        made = shell.body()
        self.assertTrue(closed(made))
        self.assertAlmostEqual(made.volume(), body.volume(), delta=1e-8)
        self.assertAlmostEqual((made - body).volume(), 0.0, delta=1e-7)

    def test_a_face_stays_a_few_facets_however_often_it_is_cut(self):
        """Faces are closed at the end: of a block cut in 27 the piece in the middle has 12 facets."""
        block = Solid(Manifold.cube((30, 30, 30)))
        planes = [cut(np.eye(3)[axis], at, f"{axis}{at}") for axis in range(3) for at in (9.0, 21.5)]
        leaves = list(cut_tree(block, planes).leaves())
        self.assertEqual(len(leaves), 27)
        self.assertEqual(min(leaf.body.num_tri() for leaf in leaves), 12)
        self.assertLess(max(leaf.body.num_tri() for leaf in leaves), 30)

    def test_what_lies_in_the_plane_is_left_to_the_solid(self):
        step = Manifold.cube((10, 10, 5)) + Manifold.cube((5, 10, 10))
        self.assertIsNone(Shell.of(step).halves(np.eye(3), 5.0))
        low, high = cut_tree(Solid(step), [cut((0, 0, 1), 5.0, "1")]).leaves()
        self.assertAlmostEqual(low.body.volume(), 500.0)
        self.assertAlmostEqual(high.body.volume(), 250.0)
        self.assertEqual(low.path, "1a")

    def test_an_edge_that_touches_the_plane_is_left_to_the_solid(self):
        # An edge of the bore lies in the plane, the material on both sides of it.
        bored = CrossSection([[(14, -5), (24, -5), (24, 5), (14, 5)]]).revolve(48)
        for normal in ((0, 1, 0), (0, -1, 0)):
            self.assertIsNone(Shell.of(bored).halves(frame(normal), 14.0))
            leaves = list(cut_tree(Solid(bored), [cut(normal, 14.0, "1")]).leaves())
            beyond, before = bored.split_by_plane(normal, 14.0)
            for leaf, other in zip(leaves, (before, beyond), strict=True):
                self.assertAlmostEqual(leaf.body.volume(), other.volume(), places=6)

    def test_loops_that_meet_in_a_corner_are_left_to_the_solid(self):
        # Two cones stand on one tip in the plane.
        cones = Manifold.cylinder(10, 5, 0, 16) + Manifold.cylinder(10, 0, 5, 16).translate((0, 0, 10))
        low, high = cut_tree(Solid(cones), [cut((0, 0, 1), 10.0, "1")]).leaves()
        self.assertAlmostEqual(low.body.volume(), high.body.volume(), places=6)

    def test_what_does_not_close_is_cut_again_by_the_solid(self):
        real = Shell.halves

        def torn(self, frame, offset):
            before, beyond = real(self, frame, offset)
            return Shell(before.corners, before.facets[1:], before.faces), beyond

        with patch.object(Shell, "halves", torn):
            leaves = list(cut_tree(Solid(ring()), [cut((1, 2, 0), 1.0, "1")]).leaves())
        self.assertAlmostEqual(sum(leaf.body.volume() for leaf in leaves), ring().volume(), places=6)

    def test_volumes_that_do_not_balance_are_cut_again_by_the_solid(self):
        real = Shell.halves

        def twice(self, frame, offset):
            before, _ = real(self, frame, offset)
            return before, before

        with patch.object(Shell, "halves", twice):
            leaves = list(cut_tree(Solid(ring()), [cut((1, 2, 0), 1.0, "1")]).leaves())
        self.assertAlmostEqual(sum(leaf.body.volume() for leaf in leaves), ring().volume(), places=6)

    def test_an_edge_with_four_facets_is_left_to_the_solid(self):
        cube = Shell.of(Manifold.cube((1, 1, 1)))
        other = cube.corners + [1.0, 1.0, 0.0]
        both = np.concatenate([cube.corners, other])
        # Both cubes use the same corners where they touch along an edge.
        same = [int(np.flatnonzero((np.abs(both - c) < 1e-9).all(axis=1))[0]) for c in both]
        facets = np.array(same)[np.concatenate([cube.facets, cube.facets + len(cube.corners)])]
        self.assertIsNone(Shell(both, facets).halves(np.eye(3), 0.4))

    def test_no_cut_leaves_the_whole(self):
        body = ring()
        (leaf,) = cut_tree(Solid(body), []).leaves()
        self.assertIs(leaf.body, body)
        (leaf,) = cut_tree(Solid(body), [cut((0, 0, 1), 40.0, "1")]).leaves()
        self.assertEqual(leaf.sides, {"1": "a"})
        self.assertAlmostEqual(leaf.body.volume(), body.volume(), places=9)


if __name__ == "__main__":
    unittest.main()

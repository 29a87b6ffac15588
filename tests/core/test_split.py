"""Cutting: counts, volumes and nothing lost."""

import io
import math
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import box, portal, sphere
from upright_heron.core.errors import BadValue, Cancelled
from upright_heron.core.geometry.mesh import edges
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.split.fittings import JointKind, JointSetting
from upright_heron.core.split.grid import box_for, cell_counts, grid_cuts
from upright_heron.core.split.pieces import split


def into_boxes(body, size, **options):
    return split(body, grid_cuts(body.bounds, size), size, boxes=True, **options)


class CountTest(unittest.TestCase):
    def test_boxes_needed(self):
        # ceil per axis; an exact multiple is not one more.
        self.assertEqual(cell_counts((610, 300, 150), (220, 220, 250)), (3, 2, 1))
        self.assertEqual(cell_counts((640, 300, 150), (210, 210, 240)), (4, 2, 1))
        self.assertEqual(cell_counts((440, 1, 1), (220, 220, 250)), (2, 1, 1))

    def test_nonsense_is_refused(self):
        for size in ((0, 10, 10), (math.nan, 1, 1), (-5, 10, 10), (0.01, 0.01, 0.01)):
            with self.subTest(size), self.assertRaises(BadValue):
                cell_counts((100, 100, 100), size)
        for margin in (-1, 200, math.nan):
            with self.subTest(margin), self.assertRaises(BadValue):
                box_for((180, 180, 180), margin)
        self.assertEqual(box_for((300, 300, 340), 3), (294, 294, 337))
        self.assertEqual(box_for((300, 300, 340), 3, 12), (282, 282, 325))


class SplitTest(unittest.TestCase):
    def test_sphere_cut_in_eight(self):
        body = Solid(sphere(10, 128))
        found = into_boxes(body, (10, 10, 10))
        self.assertEqual((found.cells, len(found.pieces)), ((2, 2, 2), 8))
        self.assertAlmostEqual(
            sum(p.volume_mm3 for p in found.pieces), body.volume_mm3, delta=1e-6 * body.volume_mm3
        )
        self.assertEqual([p.number for p in found.pieces], list(range(1, 9)))
        self.assertEqual(found.pieces[1].cell, (1, 0, 0))

    def test_what_hangs_together_by_nothing_is_two_pieces(self):
        found = into_boxes(Solid(portal()), (50, 50, 20))
        # Below the lintel of the doorway stand two separate posts.
        self.assertEqual([p.cell for p in found.pieces], [(0, 0, 0), (0, 0, 0), (0, 0, 1)])

    def test_a_part_that_fits_stays_whole(self):
        found = into_boxes(Solid(box(10, 20, 30)), (10, 20, 30))
        self.assertEqual((found.cells, len(found.pieces)), ((1, 1, 1), 1))

    def test_pieces_fit_with_what_stands_out_of_them_and_no_further(self):
        setting = JointSetting(kind=JointKind.PEG, width_mm=8, sides=4).checked()
        room = box_for((250, 60, 60), 0, setting.stands_out_mm)
        self.assertEqual(room, (238, 48, 48))
        # Two boxes of 238 as full as they can be: one with its pegs takes 250 of the 250 mm.
        bar = Solid(box(476, 48, 48))
        made = split(bar, grid_cuts(bar.bounds, room), room, setting, boxes=True)
        self.assertAlmostEqual(max(p.size_mm[0] for p in made.pieces), 250.0, places=3)
        self.assertTrue(all(p.fits for p in made.pieces))
        # A plane 3 mm off leaves a piece of 241 that its pegs, where it bears them, make 253 mm long.
        (plane,) = grid_cuts(bar.bounds, room)
        moved = replace(plane, offset_mm=plane.offset_mm + 3.0)
        told = set()
        for swapped in ((), (moved.id,)):
            off = split(bar, [moved], room, replace(setting, swapped=swapped))
            longest = max(off.pieces, key=lambda p: p.volume_mm3)
            told.add((round(longest.size_mm[0]), longest.fits))
        self.assertEqual(told, {(241, True), (253, False)})

    def test_a_plane_a_hair_beside_a_face_leaves_no_film(self):
        # Steps of 10 mm, the cut at half the height: 3e-5 mm beside the top of the lower step.
        for hair in (3e-5, -3e-5, 1e-6, 0.004):
            with self.subTest(hair):
                body = box(30, 30, 10 + hair) + box(15, 30, 20)
                found = into_boxes(Solid(body), (100, 100, 10.001))
                self.assertEqual(found.cells, (1, 1, 2))
                self.assertEqual(len(found.pieces), 2)
                self.assertLess(found.lost_mm3, 1e-3)
                for piece in found.pieces:
                    back = trimesh.load(io.BytesIO(write_stl(piece.mesh)), file_type="stl")
                    self.assertTrue(back.is_watertight and back.is_winding_consistent)
                total = sum(p.volume_mm3 for p in found.pieces) + found.lost_mm3
                self.assertAlmostEqual(total / body.volume(), 1, delta=1e-6)

    def test_pieces_of_a_turned_part_are_closed_as_read_back(self):
        body = (sphere(40, 96) - sphere(37, 96)).rotate((13, 27, 41))
        for piece in into_boxes(Solid(body), (33, 29, 27)).pieces:
            back = trimesh.load(io.BytesIO(write_stl(piece.mesh)), file_type="stl")
            self.assertTrue(back.is_watertight and back.is_winding_consistent, piece.number)
            self.assertAlmostEqual(back.volume / piece.volume_mm3, 1, delta=1e-3)

    def test_cancelling(self):
        def stop(stage, done, total):
            raise Cancelled()

        with self.assertRaises(Cancelled):
            into_boxes(Solid(box(10, 10, 10)), (3, 3, 3), progress=stop)

    @settings(max_examples=15, deadline=None)
    @given(st.tuples(*[st.floats(4, 40)] * 3), st.tuples(*[st.floats(0, 90)] * 3))
    def test_pieces_make_up_the_part(self, size, turn):
        body = Solid((sphere(12, 24) + box(30, 6, 6)).rotate(turn))
        found = into_boxes(body, size)
        total = sum(p.volume_mm3 for p in found.pieces) + found.lost_mm3
        self.assertAlmostEqual(total / body.volume_mm3, 1, delta=1e-6)
        for piece in found.pieces:
            self.assertTrue((np.array(piece.size_mm) <= np.array(size) + 1e-6).all())
            self.assertTrue(edges(piece.mesh).closed)

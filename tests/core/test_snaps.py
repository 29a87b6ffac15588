"""Pegs that snap: their legs, lips and sockets, and whether they bear to be bent."""

import unittest
from dataclasses import replace

import numpy as np
from manifold3d import Manifold

from tests.support import box, mesh_of
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.assembly import verify
from upright_heron.core.split.cuts import cut
from upright_heron.core.split.fittings import (
    END_MM,
    PLAY_MM,
    JointKind,
    JointSetting,
    Peg,
    Snap,
    lip_of,
    peg_body,
    socket_body,
)
from upright_heron.core.split.pieces import split

BIG = (1000.0, 1000.0, 1000.0)
SNAPS = JointSetting(snap=True)


def peg(width=8.0, deep=17.6, clearance=0.15, sides=4, **setting):
    given = replace(SNAPS, clearance_mm=clearance, sides=sides, **setting)
    return Peg(
        (0, 0, 0), (0, 0, 1), width, deep, clearance, sides, (0, 1, 0), 0.0, lip_of(width, deep, given)
    )


class ShapeTest(unittest.TestCase):
    def test_legs_lip_and_slot_measured_on_sections(self):
        for sides in (4, 6, 0):
            with self.subTest(sides):
                one = peg(sides=sides)
                snap = Snap.of(one.width_mm, one.depth_mm, one.lip_mm, sides)
                body = peg_body(one)
                self.assertEqual(len(body.decompose()), 1)
                self.assertEqual(len(body.slice(0.2).decompose()), 1)
                low, high = sorted(body.slice(8.0).decompose(), key=lambda leg: leg.bounds()[1])
                self.assertAlmostEqual(high.bounds()[1] - low.bounds()[3], snap.slot, places=6)
                self.assertAlmostEqual(high.bounds()[3] - high.bounds()[1], snap.leg, delta=0.02)
                widest = body.slice(snap.low + one.lip_mm + 0.2).bounds()
                self.assertAlmostEqual(widest[3] - widest[1], one.width_mm + 2 * one.lip_mm, delta=0.03)
                self.assertAlmostEqual(body.bounding_box()[5], one.depth_mm, places=6)

    def test_the_lip_lies_in_its_groove_with_play_and_holds_there(self):
        one = peg()
        block = box(40, 40, 40, (-20, -20, 0)) - socket_body(one)
        held = peg_body(one).trim_by_plane((0, 0, 1), 0.0)
        self.assertLess((held ^ block).volume(), 1e-9)
        # Drawn out by its play it is free, a little further the lip stops it.
        self.assertLess((held.translate((0, 0, -0.9 * PLAY_MM)) ^ block).volume(), 1e-6)
        self.assertGreater((held.translate((0, 0, -0.15 - PLAY_MM - 0.2)) ^ block).volume(), 0.5)
        self.assertAlmostEqual(socket_body(one).bounding_box()[5], one.depth_mm + END_MM)

    def test_a_lip_is_as_high_as_the_material_bears(self):
        # 3 t y / (2 L^2) by hand, of a peg of 8 mm in which legs of 2.88 mm bend over their length.
        one = peg()
        snap = Snap.of(8.0, 17.6, one.lip_mm, 4)
        bent = one.lip_mm - 0.15
        self.assertAlmostEqual(snap.strain(bent), 1.5 * 2.88 * bent / snap.long**2, places=12)
        self.assertLessEqual(snap.strain(bent), 0.015)
        self.assertGreater(peg(deep=12.0, strain=0.04).lip_mm, peg(deep=12.0).lip_mm)
        self.assertEqual(peg(deep=7.0).lip_mm, 0)

    def test_what_cannot_snap_is_refused(self):
        for wrong in ({"taper_deg": 2.0}, {"sides": 3}):
            with self.assertRaisesRegex(BadValue, "snaps is straight"):
                replace(SNAPS, **wrong).checked()


class PiecesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.body = box(120, 60, 40, (-60, -30, -20))
        cls.made = split(Solid(cls.body), [cut((1, 0, 0), 0, "1")], BIG, SNAPS)

    def test_pieces_with_snaps_go_together_and_their_books_balance(self):
        (joint,) = self.made.joints
        self.assertEqual(len(joint.pegs), 2)
        self.assertTrue(all(one.lip_mm > 0.3 for one in joint.pegs))
        self.assertEqual(self.made.faults, ())
        self.assertLess(abs(self.made.volume_error_mm3), 1e-6)
        self.assertEqual(len(self.made.pieces), 2)

    def check(self, meshes, strain=0.015):
        joints = [
            replace(j, between=(j.between[0] - 1, j.between[1] - 1), labels=()) for j in self.made.joints
        ]
        found = verify(meshes, joints, wall_mm=2.0, strain=strain)
        return {fault.kind for fault in found}

    def test_a_lip_that_would_break_its_legs_or_has_none_is_found(self):
        meshes = [piece.mesh for piece in self.made.pieces]
        self.assertEqual(self.check(meshes), set())
        self.assertEqual(self.check(meshes, strain=0.004), {"strain"})
        joint = self.made.joints[0]
        one, bearer = joint.pegs[0], joint.between[0] - 1
        n = np.asarray(one.axis)
        # Its slot is filled, so that nothing bends.
        middle = np.asarray(one.at_mm) + n * (one.depth_mm / 2 + 0.5)
        lump = Manifold.cube((abs(n[0]) * (one.depth_mm - 5) + 0.1, 7.9, 7.9), True).translate(
            middle.tolist()
        )
        filled = list(meshes)
        filled[bearer] = mesh_of(Solid.from_mesh(meshes[bearer]).manifold + lump)
        self.assertIn("strain", self.check(filled))

    def test_what_is_no_lip_and_in_the_way_is_found_still(self):
        joint = self.made.joints[0]
        one, bearer = joint.pegs[0], joint.between[0] - 1
        n = np.asarray(one.axis)
        # A nose on the shaft, half way up: it passes no lip.
        at = np.asarray(one.at_mm) + n * one.depth_mm * 0.4
        nose = Manifold.cube((2, 9.6, 2), True).translate(at.tolist())
        meshes = [piece.mesh for piece in self.made.pieces]
        meshes[bearer] = mesh_of(Solid.from_mesh(meshes[bearer]).manifold + nose)
        self.assertTrue({"overlap", "sweep"} & self.check(meshes))

    def test_where_there_is_no_room_to_bend_the_reason_is_told(self):
        short = split(Solid(self.body), [cut((1, 0, 0), 0, "1")], BIG, replace(SNAPS, reach_mm=6.0))
        self.assertIn("stretched by more than 1.5 %", short.joints[0].refused)
        other = replace(SNAPS, kind=JointKind.DOWEL)
        dowels = split(Solid(self.body), [cut((1, 0, 0), 0, "1")], BIG, other)
        self.assertEqual([one.lip_mm for one in dowels.joints[0].pegs], [0, 0])


if __name__ == "__main__":
    unittest.main()

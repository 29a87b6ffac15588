"""Dovetails and half-laps, measured on what is written: sections, clearances, and the ways they go together."""

import math
import unittest
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection, Manifold, OpType

from tests.core.test_joints import halves, read_back
from tests.support import box, sphere
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.assembly import verify
from upright_heron.core.split.cuts import cut
from upright_heron.core.split.dovetails import FLANK_DEG
from upright_heron.core.split.faces import Face, Turned
from upright_heron.core.split.fittings import JointKind, JointSetting
from upright_heron.core.split.lettering import labels_for
from upright_heron.core.split.pieces import split

TAILS = JointSetting(kind=JointKind.DOVETAIL, clearance_mm=0.2)
LAPS = JointSetting(kind=JointKind.LAP, clearance_mm=0.2)


def solid(piece):
    """The piece by trimesh from its file, as a solid again."""
    back = read_back(piece.mesh)
    assert back.is_watertight
    assert back.is_winding_consistent
    return Solid.from_mesh(piece.mesh).manifold


def overlap(first, second, by=(0, 0, 0)):
    return float((first ^ second.translate(tuple(float(v) for v in by))).volume())


class DovetailTest(unittest.TestCase):
    def setUp(self):
        self.made = halves(box(100, 60, 40, (-50, -30, -20)), TAILS)
        self.joint = self.made.joints[0]
        first, second = self.joint.between
        self.first, self.second = (solid(self.made.pieces[n - 1]) for n in (first, second))

    def test_it_slides_along_the_face_and_cannot_be_drawn_off_square_to_it(self):
        self.assertEqual(self.made.faults, ())
        way = np.asarray(self.joint.way)
        self.assertAlmostEqual(abs(way[0]), 0, 9)
        self.assertGreater(self.joint.travel_mm, 39)
        for share in (0.0, 0.01, 0.3, 0.7, 1.0):
            for sign in (-1, 1):
                moved = sign * share * self.joint.travel_mm * way
                self.assertLess(overlap(self.first, self.second, moved), 0.01, (share, sign))
        # Off by a millimetre square to the face: its flanks hold it.
        self.assertGreater(overlap(self.first, self.second, np.asarray(self.joint.direction)), 5)
        self.assertEqual(self.made.steps[0].direction, self.joint.slides)

    def test_tail_and_slot_on_their_sections(self):
        tall, wide = self.joint.reach_mm, self.joint.width_mm
        self.assertAlmostEqual(wide, 16)
        self.assertAlmostEqual(tall, 8)
        along = int(np.argmax(np.abs(self.joint.way)))
        sign = self.joint.direction[0]
        for body, wider in ((self.first, 0.0), (self.second, 0.2 / math.cos(math.radians(FLANK_DEG)))):
            for depth in (1.0, 4.0, 7.5):
                flat = body.rotate((0, 90, 0)).slice(-sign * depth)  # x is -z of the turned body
                whole = CrossSection.square((40, 60), True)
                part = flat if body is self.first else whole - flat
                x0, y0, x1, y1 = part.bounds()
                measured = min(x1 - x0, y1 - y0)
                wanted = wide - 2 * (tall - depth) * math.tan(math.radians(FLANK_DEG)) + 2 * wider
                self.assertAlmostEqual(measured, wanted, 3, (depth, wider))
                # It runs right through the face.
                self.assertAlmostEqual(max(x1 - x0, y1 - y0), 60 if along == 1 else 40, 3)

    def test_books_balance_and_swapped_the_other_side_bears_it(self):
        self.assertLess(abs(self.made.volume_error_mm3), 1e-3)
        total = sum(p.volume_mm3 for p in self.made.pieces)
        # What is between tail and slot is gone: the slot is larger by its clearance all round.
        root, tall = 16 - 2 * 8 * math.tan(math.radians(FLANK_DEG)), 8.0
        tail = (16 + root) / 2 * tall * self.joint.travel_mm
        gap = 100 * 60 * 40 - total
        self.assertTrue(0 < gap < 0.12 * tail, (gap, tail))
        other = halves(
            box(100, 60, 40, (-50, -30, -20)), JointSetting(kind=JointKind.DOVETAIL, swapped=("1",))
        )
        self.assertEqual(other.joints[0].between, self.joint.between[::-1])

    def test_two_faces_of_one_cut_slide_the_same_way_and_not_into_each_other(self):
        # Two posts beside each other along y, cut through both: their tails slide across that line.
        body = box(30, 80, 10) + box(30, 30, 60) + box(30, 30, 60, (0, 50, 0))
        made = split(Solid(body), [cut((0, 0, 1), 35.0, "1")], (900, 900, 900), TAILS)
        self.assertEqual(len(made.pieces), 3)
        self.assertEqual(made.faults, ())
        self.assertEqual([joint.refused for joint in made.joints], ["", ""])
        for joint in made.joints:
            np.testing.assert_allclose(np.abs(joint.way), (1, 0, 0), atol=1e-9)
        bodies = {p.number: solid(p) for p in made.pieces}
        (step,) = made.steps
        whole = Manifold.batch_boolean([bodies[n] for n in step.second], OpType.Add)
        base = Manifold.batch_boolean([bodies[n] for n in step.first], OpType.Add)
        for far in (0, 1, 10, 30, 60):
            self.assertLess(overlap(base, whole, far * np.asarray(step.direction)), 0.02, far)

    def test_faces_in_line_both_ways_hold_no_more_than_what_can_slide(self):
        posts = [box(30, 30, 60, (x, y, 0)) for x in (0, 50) for y in (0, 50)]
        body = Manifold.batch_boolean([box(80, 80, 10), *posts], OpType.Add)
        made = split(Solid(body), [cut((0, 0, 1), 35.0, "1")], (900, 900, 900), TAILS)
        self.assertEqual(made.faults, ())
        self.assertTrue(all("slide into" in joint.refused for joint in made.joints), made.joints)

    def test_the_wall_that_was_asked_for_stays_beside_the_slot(self):
        setting = JointSetting(kind=JointKind.DOVETAIL, wall_mm=6, clearance_mm=0.2)
        made = halves(box(100, 20, 60, (-50, -10, -30)), setting)
        (joint,) = made.joints
        self.assertEqual(joint.refused, "")
        self.assertLessEqual(joint.width_mm / 2 + 0.2 + 6, 10.0)
        self.assertGreaterEqual(joint.width_mm, 3.0)

    def test_two_that_would_meet_in_one_piece(self):
        ring = CrossSection([[(14, -5), (24, -5), (24, 5), (14, 5)]]).revolve(48)
        cuts = [cut((0.75, -1.0, -0.5), 0, "1"), cut((0.125, -0.75, 0.5), 0, "2")]
        setting = JointSetting(kind=JointKind.DOVETAIL, wall_mm=1.2)
        made = split(Solid(ring), cuts, (900, 900, 900), setting)
        self.assertEqual(made.faults, ())
        self.assertEqual(sum("would meet the joint" in joint.refused for joint in made.joints), 1)

    def test_a_way_that_hooks_is_found(self):
        # As if it were drawn off square to its face: its flanks meet the slot.
        wrong = [
            replace(j, slides=None, between=(j.between[0] - 1, j.between[1] - 1)) for j in self.made.joints
        ]
        found = verify([p.mesh for p in self.made.pieces], wrong, wall_mm=2.0)
        self.assertEqual([fault.kind for fault in found], ["sweep"])

    def test_no_room(self):
        made = halves(box(100, 6, 6, (-50, -3, -3)), TAILS)
        self.assertIn("No room for a dovetail of 3 mm", made.joints[0].refused)
        self.assertEqual(made.refused, made.joints)


class TaperTest(unittest.TestCase):
    def test_a_tapered_peg_and_its_socket_lean_alike(self):
        made = halves(box(80, 40, 40, (-40, -20, -20)), JointSetting(taper_deg=5, width_mm=8, most=1))
        (joint,) = made.joints
        self.assertEqual(made.faults, ())
        (peg,) = joint.pegs
        first, second = (solid(made.pieces[n - 1]).rotate((0, 90, 0)) for n in joint.between)
        sign = peg.axis[0]
        widths = []
        for depth in (2.0, 6.0, 9.0):
            z = -(peg.at_mm[0] + sign * depth)
            x0, _, x1, _ = first.slice(z).bounds()
            self.assertAlmostEqual(x1 - x0, 8 - 2 * depth * math.tan(math.radians(5)), 3)
            hole = CrossSection.square((40, 40), True) - second.slice(z)
            x0, _, x1, _ = hole.bounds()
            widths.append(x1 - x0)
            self.assertAlmostEqual(x1 - x0, 8 - 2 * depth * math.tan(math.radians(5)) + 0.3, 3)
        self.assertLess(abs(made.volume_error_mm3), 1e-3)
        # Drawn off a little, it has room all round: it centres itself.
        self.assertGreater(widths[0] - widths[1], 0.5)

    def test_dowels_are_narrower_at_both_ends(self):
        setting = JointSetting(kind=JointKind.DOWEL, taper_deg=4, width_mm=8, most=1)
        made = halves(box(80, 40, 40, (-40, -20, -20)), setting)
        self.assertEqual(made.faults, ())
        (dowel,) = [p for p in made.pieces if p.loose]
        body = solid(dowel).rotate((0, 90, 0))
        for depth in (-9.0, 9.0):
            x0, _, x1, _ = body.slice(depth).bounds()
            self.assertAlmostEqual(x1 - x0, 8 - 18 * math.tan(math.radians(4)), 3)
        self.assertLess(abs(made.volume_error_mm3), 1e-3)

    def test_it_never_comes_to_a_point(self):
        made = halves(
            box(80, 40, 40, (-40, -20, -20)), JointSetting(taper_deg=9, width_mm=4, reach_mm=25, most=1)
        )
        (peg,) = made.joints[0].pegs
        self.assertAlmostEqual(peg.width_mm - peg.narrower(peg.depth_mm), 4 * 2 / 3)
        self.assertEqual(made.faults, ())
        with self.assertRaisesRegex(BadValue, "taper"):
            JointSetting(taper_deg=12).checked()


class PocketTest(unittest.TestCase):
    def test_both_faces_have_a_pocket_of_the_size_that_goes_into_it(self):
        setting = JointSetting(
            kind=JointKind.POCKET, sides=0, width_mm=6, reach_mm=3, clearance_mm=0.1, most=1
        )
        made = halves(box(80, 40, 40, (-40, -20, -20)), setting)
        self.assertEqual((len(made.pieces), made.faults), (2, ()))
        magnet = math.pi * 9 * 3
        for piece in made.pieces:
            body = solid(piece)
            gone = 40 * 40 * 40 - body.volume()
            self.assertTrue(magnet < gone < 1.35 * magnet, gone / magnet)
            self.assertAlmostEqual(piece.size_mm[0], 40, 6)
        # A magnet as thick as both pockets lies in them, and stands out of neither.
        at = made.joints[0].pegs[0].at_mm
        both = Manifold.cylinder(6.0, 3, 3, 64, True).rotate((0, 90, 0)).translate(at)
        for piece in made.pieces:
            self.assertLess(float((solid(piece) ^ both).volume()), 0.01)
        self.assertLess(abs(made.volume_error_mm3), 1e-3)

    def test_a_pocket_is_not_made_smaller_than_what_goes_into_it(self):
        setting = JointSetting(kind=JointKind.POCKET, sides=6, width_mm=10, reach_mm=4)
        made = halves(box(80, 12, 12, (-40, -6, -6)), setting)
        self.assertIn("No room for a pocket of 10 mm", made.joints[0].refused)
        usual = halves(box(80, 40, 40, (-40, -20, -20)), JointSetting(kind=JointKind.POCKET))
        self.assertEqual({(p.width_mm, p.depth_mm) for p in usual.joints[0].pegs}, {(5.0, 2.0)})


class LapTest(unittest.TestCase):
    def test_half_of_a_tube_stands_in_the_other_half(self):
        tube = Manifold.cylinder(100, 30, 30, 96) - Manifold.cylinder(120, 27, 27, 96).translate((0, 0, -5))
        made = split(Solid(tube), [cut((0, 0, 1), 50.0, "1")], (900, 900, 900), LAPS)
        (joint,) = made.joints
        self.assertEqual((joint.refused, made.faults), ("", ()))
        self.assertAlmostEqual(joint.width_mm, 1.5, 1)
        first, second = (solid(made.pieces[n - 1]) for n in joint.between)
        sign = joint.direction[2]
        z = 50 + sign * joint.reach_mm / 2
        # Inside half with half its thickness, outside the rest less the clearance.
        x0, _, x1, _ = first.slice(z).bounds()
        self.assertAlmostEqual((x1 - x0) / 2, 28.5, delta=0.06)
        inner = [ring for ring in second.slice(z).to_polygons() if np.hypot(*ring.T).max() < 29.5]
        self.assertAlmostEqual(np.hypot(*np.concatenate(inner).T).mean(), 28.7, delta=0.06)
        self.assertLess(overlap(first, second), 0.01)
        for far in (1, 3, 8):
            self.assertLess(overlap(first, second, far * np.asarray(joint.direction)), 0.01)
        # It holds: aside it meets the other.
        self.assertGreater(overlap(first, second, (1.0, 0, 0)), 20)
        self.assertLess(abs(made.volume_error_mm3), 1e-3)

    def test_an_open_wall_has_its_lap_along_its_length(self):
        made = halves(box(200, 120, 3, (-100, 0, 0)), LAPS)
        (joint,) = made.joints
        self.assertEqual((joint.refused, made.faults), ("", ()))
        first, second = (solid(made.pieces[n - 1]) for n in joint.between)
        lap = first.trim_by_plane(tuple(joint.direction), 0.02)
        x0, y0, z0, x1, y1, z1 = lap.bounding_box()
        self.assertAlmostEqual(y1 - y0, 120, delta=0.1)
        self.assertAlmostEqual(z1 - z0, joint.width_mm, delta=0.1)
        self.assertAlmostEqual(x1 - x0, joint.reach_mm, delta=0.1)
        self.assertLess(overlap(first, second), 0.01)

    def test_of_an_open_wall_the_inner_half_stands_out(self):
        tube = Manifold.cylinder(100, 30, 30, 96) - Manifold.cylinder(120, 27, 27, 96).translate((0, 0, -5))
        half = tube.trim_by_plane((0, 1, 0), 0)
        made = split(Solid(half), [cut((0, 0, 1), 50.0, "1")], (900, 900, 900), LAPS)
        (joint,) = made.joints
        self.assertEqual((joint.refused, made.faults), ("", ()))
        first = solid(made.pieces[joint.between[0] - 1])
        section = first.slice(50 + joint.direction[2] * joint.reach_mm / 2)
        self.assertLess(np.hypot(*np.concatenate(section.to_polygons()).T).max(), 28.6)

    def test_a_wall_that_leans_has_a_shorter_lap_so_that_its_other_half_stays(self):
        lean = 100 * math.tan(math.radians(9))
        outer, inner = (Manifold.cylinder(100, r + lean / 2, r - lean / 2, 96) for r in (40.0, 37.0))
        made = split(Solid(outer - inner), [cut((0, 0, 1), 50.0, "1")], (900, 900, 900), LAPS)
        (joint,) = made.joints
        self.assertEqual((joint.refused, made.faults), ("", ()))
        self.assertLess(joint.reach_mm, 4.0)
        # At its end the other half is still there all round.
        second = solid(made.pieces[joint.between[1] - 1])
        left = second.slice(50 + joint.direction[2] * (joint.reach_mm - 0.1))
        self.assertGreater(left.area(), 2 * math.pi * 39 * 0.5)

    def test_what_is_thick_too_thin_or_leans_is_refused_with_the_reason(self):
        thick = halves(box(100, 60, 40, (-50, -30, -20)), LAPS)
        self.assertIn("no thin wall", thick.joints[0].refused)
        thin = halves(box(100, 60, 1.6, (-50, -30, 0)), LAPS)
        self.assertIn("too thin for a lap", thin.joints[0].refused)
        bowl = sphere(60, 96) - sphere(57, 96)
        leaning = split(Solid(bowl), [cut((0, 0, 1), 40.0, "1")], (900, 900, 900), LAPS)
        self.assertIn("leans so much", leaning.joints[0].refused)
        self.assertEqual(len(leaning.pieces), 2)


TENONS = JointSetting(kind=JointKind.TENON)


class ApartTest(unittest.TestCase):
    def test_a_slot_that_would_cut_its_piece_in_two_is_refused(self):
        # Two slots that cross in the corner of a piece.
        body = sphere(14, 32) + box(8, 8, 30, (18, 0, -15))
        cuts = [cut((0, 0, 1), 0, "1"), cut((1, 0, 0), 0, "2")]
        made = split(Solid(body), cuts, (900, 900, 900), JointSetting(kind=JointKind.DOVETAIL, wall_mm=1.2))
        self.assertIn("It would cut the other piece in two.", [joint.refused for joint in made.joints])
        self.assertGreaterEqual(sum(joint.holds for joint in made.joints), 3)
        for piece in made.pieces:
            self.assertEqual(len(solid(piece).decompose()), 1, piece.path)

    def test_corners_a_hair_from_nought_are_one_in_the_file(self):
        body = sphere(22, 48) - sphere(14, 48)
        cuts = [cut((0, 1, 0), 0, "1"), cut((1, 0, 0), 0, "2")]
        made = split(Solid(body), cuts, (900, 900, 900), JointSetting(kind=JointKind.LAP, wall_mm=1.2))
        for piece in made.pieces:
            self.assertTrue(read_back(piece.mesh).is_watertight, piece.path)
            small = np.abs(piece.mesh.vertices)
            self.assertFalse(((small > 0) & (small < 1e-7)).any(), piece.path)


class TenonTest(unittest.TestCase):
    def test_it_is_the_outline_of_its_face_drawn_in(self):
        made = halves(box(100, 60, 40, (-50, -30, -20)), TENONS)
        (joint,) = made.joints
        self.assertEqual((made.faults, joint.refused, len(made.pieces)), ((), "", 2))
        self.assertLess(abs(made.volume_error_mm3), 1e-6)
        bearer, other = (solid(made.pieces[n - 1]) for n in joint.between)
        way = joint.direction[0]

        def areas(depth):
            turned = [one.rotate((0, -90, 0)) for one in (bearer, other)]
            return [float(one.slice(way * depth).area()) for one in turned]

        # Two and a clearance off on each side, its corners round by as much; the wall of the other round it.
        inset = 2.15
        wanted = (60 - 2 * inset) * (40 - 2 * inset)
        stands, left = areas(joint.reach_mm / 2)
        self.assertAlmostEqual(stands, wanted, delta=1.0)
        self.assertAlmostEqual(left, 60 * 40 - 56 * 36, delta=1.0)
        # Beyond it there is room for what is pushed ahead, and then all of the piece.
        self.assertEqual(areas(joint.reach_mm + 0.25)[0], 0)
        self.assertAlmostEqual(areas(joint.reach_mm + 0.6)[1], 60 * 40, delta=0.01)

    def test_it_keeps_its_wall_in_a_piece_that_leans_and_beside_the_joint_of_another_cut(self):
        cone = Manifold.cylinder(80, 30, 6, 96).rotate((0, 90, 0)).translate((-40, 0, 0))
        made = split(Solid(cone), [cut((1, 0, 0), 3, "1"), cut((0, 1, 0), 2, "2")], (900, 900, 900), TENONS)
        self.assertEqual((made.faults, made.refused), ((), ()))
        self.assertLess(abs(made.volume_error_mm3), 1e-6)
        for joint in made.joints:
            whole, bearer = cone, solid(made.pieces[joint.between[0] - 1])
            n = np.asarray(joint.direction)
            # What stands out, grown by most of the wall, lies in the part still, and over no other cut.
            out = bearer.trim_by_plane(n.tolist(), float(n @ joint.at_mm) + 0.05)
            reach = np.array(out.bounding_box()).reshape(2, 3)
            self.assertGreater(out.volume(), 50)
            corners = np.asarray(out.to_mesh64().vert_properties)[:, :3]
            round_it = Manifold.hull_points(corners).minkowski_sum(Manifold.sphere(1.7, 12))
            beyond = (round_it - whole).trim_by_plane(n.tolist(), float(n @ joint.at_mm) + 1.8)
            self.assertLess(beyond.volume(), 0.05, (joint.face, reach))

    def test_a_tube_gets_a_ring_and_a_thin_shell_none(self):
        tube = Manifold.cylinder(100, 30, 30, 96) - Manifold.cylinder(120, 18, 18, 96).translate((0, 0, -10))
        made = split(Solid(tube), [cut((0, 0, 1), 50, "1")], (900, 900, 900), TENONS)
        (joint,) = made.joints
        self.assertEqual(made.faults, ())
        ring = solid(made.pieces[joint.between[0] - 1]).slice(50 + joint.direction[2] * joint.reach_mm / 2)
        self.assertAlmostEqual(ring.area(), math.pi * (27.85**2 - 20.15**2), delta=12)
        bowl = split(
            Solid(sphere(60, 96) - sphere(57, 96)), [cut((1, 0, 0), 3, "1")], (900, 900, 900), TENONS
        )
        self.assertIn("No room for a tenon of 3 mm", bowl.joints[0].refused)
        deep = halves(box(30, 60, 40, (-15, -30, -20)), replace(TENONS, reach_mm=14.0))
        self.assertRegex(deep.joints[0].refused, "No room for 14 mm: 9.8 mm deep")


class LetteringTest(unittest.TestCase):
    def labels(self, second, sunk=()):
        """Labels in a face of 30 by 30 mm between a block and another piece."""
        low, high = (Turned(body, np.eye(3), 0.0) for body in (box(30, 30, 20, (0, 0, -20)), second))
        free = CrossSection.square((30, 30))
        return labels_for(Face("1", "1:a:b", np.eye(3), 0.0, free, 0, 1, low, high), free, ((), sunk))

    def test_there_has_to_be_material_behind_them(self):
        block = box(30, 30, 20)
        found = self.labels(block)
        self.assertEqual([label.text for label in found], ["1/2", "2/1"])
        # Half a millimetre behind the face it is hollow.
        self.assertEqual(self.labels(block - box(26, 26, 10, (2, 2, 0.5))), ())
        # A socket of another cut runs just below the strokes, or a little further off.
        x, y, _ = found[1].at_mm
        self.assertEqual(self.labels(block, [box(6, 6, 4, (x - 3, y - 3, 0.3))]), ())
        self.assertEqual(len(self.labels(block, [box(6, 6, 4, (x - 3, y - 3, 0.7))])), 2)


if __name__ == "__main__":
    unittest.main()

"""Joints: pegs where there is wall for them, pieces that go together, and faults that are found."""

import io
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import example, given, settings
from hypothesis import strategies as st
from manifold3d import CrossSection, Manifold

from tests.support import box, mesh_of, sphere
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.solid import Solid, bodies_of
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.split.assembly import verify
from upright_heron.core.split.cut_part import cut_part
from upright_heron.core.split.cuts import cut, cut_tree, snapped
from upright_heron.core.split.fittings import (
    END_MM,
    FITS,
    RELIEF_MM,
    JointKind,
    JointSetting,
    Peg,
    dowel_body,
    peg_body,
    socket_body,
)
from upright_heron.core.split.numbers import _font, outline
from upright_heron.core.split.pieces import join_pieces, pulled, split
from upright_heron.core.split.planner import _halves, _sample, plans
from upright_heron.demo.shapes import SHAPES

BIG = (1000.0, 1000.0, 1000.0)
PEGS = JointSetting()


def read_back(mesh):
    return trimesh.load(io.BytesIO(write_stl(mesh)), file_type="stl")


def halves(body, setting=PEGS, normal=(1, 0, 0), offset=0.0):
    return split(Solid(body), [cut(normal, offset, "1")], BIG, setting)


def marked(made):
    """What is told of all pieces and joints, to be compared."""
    return (
        [(p.path, p.mesh.digest, p.volume_mm3) for p in made.pieces],
        [(j.cut, j.between, j.kind, j.pegs, j.refused, j.labels, j.slides) for j in made.joints],
        [(f.kind, f.between) for f in made.faults],
        made.volume_error_mm3,
    )


class ChangedTest(unittest.TestCase):
    """A setting of joints that is changed: what it does not touch is the same, all else as if made anew."""

    @classmethod
    def setUpClass(cls):
        cls.solid = Solid(box(200, 120, 60) - box(40, 30, 80, (80, 45, -10)))
        cls.cuts = [cut((1, 0, 0), 70, "x"), cut((1, 0, 0), 140, "w"), cut((0, 1, 0), 60, "y")]

    def part(self, keep=True):
        return cut_part(self.solid, self.cuts, keep=keep)

    def test_whatever_was_made_before_the_result_is_that_of_a_part_just_cut(self):
        plain = JointSetting(numbers=True)
        settings_ = [
            plain,
            replace(plain, clearance_mm=0.3),
            replace(plain, swapped=("y",)),
            replace(plain, others=(("x", JointKind.DOWEL),)),
            replace(plain, kind=JointKind.DOVETAIL, numbers=False),
            replace(plain, wall_mm=8.0),
            plain,
        ]
        kept = self.part()
        for one in settings_:
            with self.subTest(one):
                again = join_pieces(kept, BIG, one)
                self.assertEqual(marked(again), marked(join_pieces(self.part(), BIG, one)))
                self.assertEqual(again.faults, ())

    def test_only_the_pieces_of_a_face_that_is_changed_are_made_again(self):
        kept = self.part(keep=False)
        before = join_pieces(kept, BIG, JointSetting(numbers=True))
        face = next(j for j in before.joints if j.cut == "w")
        other = JointSetting(numbers=True, others=((face.face, JointKind.DOWEL),))
        checks = len(kept.known.checks)
        after = join_pieces(kept, BIG, other)
        again = [p.number for p, q in zip(before.parts, after.parts, strict=True) if p.mesh is not q.mesh]
        self.assertEqual(again, sorted(face.between))
        changed = [
            j.face
            for j, k in zip(before.joints, after.joints, strict=True)
            if (j.kind, j.pegs, j.labels) != (k.kind, k.pegs, k.labels)
        ]
        self.assertEqual(changed, [face.face])
        self.assertLess(len(kept.known.checks) - checks, checks)
        self.assertEqual(sum(bool(p.loose) for p in after.pieces), len(face.pegs))

    def test_faces_of_a_cut_that_slides_cannot_have_pegs_and_the_other_way_round(self):
        part = self.part()
        made = join_pieces(part, BIG, PEGS)
        face = next(j.face for j in made.joints if j.cut == "y")
        for kind, of_face, words in (
            (JointKind.PEG, JointKind.DOVETAIL, "square to it"),
            (JointKind.DOVETAIL, JointKind.PEG, "slide along it"),
        ):
            asked = JointSetting(kind=JointKind.BUTT, others=(("y", kind), (face, of_face)))
            found = join_pieces(part, BIG, asked)
            one = next(j for j in found.joints if j.face == face)
            self.assertEqual((one.kind, one.holds), (of_face, False))
            self.assertIn(words, one.refused)
            self.assertIn(one.between, [j.between for j in found.refused])
            rest = [j for j in found.joints if j.cut == "y" and j.face != face]
            self.assertTrue(any(j.holds for j in rest))
            self.assertFalse(any(words in j.refused for j in rest))
            self.assertEqual(found.faults, ())


class ShapeTest(unittest.TestCase):
    def widths(self, body, z):
        x0, y0, x1, y1 = body.slice(z).bounds()
        return x1 - x0, y1 - y0

    def test_a_peg_and_its_socket_measured_on_their_sections(self):
        for sides, area in ((4, 36.0), (0, np.pi * 9)):
            peg = Peg((0, 0, 0), (0, 0, 1), 6.0, 9.0, 0.15, sides, (0, 1, 0))
            np.testing.assert_allclose(self.widths(peg_body(peg), 4.0), 6.0, rtol=3e-3)
            self.assertAlmostEqual(peg_body(peg).slice(4.0).area() / area, 1, delta=2e-3)
            np.testing.assert_allclose(self.widths(socket_body(peg), 4.0), 6.3, rtol=3e-3)
            np.testing.assert_allclose(self.widths(socket_body(peg), -0.1), 6.3 + 2 * RELIEF_MM, rtol=3e-3)
            # It narrows evenly from the face on.
            np.testing.assert_allclose(
                self.widths(socket_body(peg), RELIEF_MM / 2), 6.3 + RELIEF_MM, rtol=3e-3
            )
            self.assertAlmostEqual(peg_body(peg).bounding_box()[5], 9.0)
            self.assertAlmostEqual(socket_body(peg).bounding_box()[5], 9.0 + END_MM)
            # Lead-in: the end is narrower than the rest.
            self.assertLess(self.widths(peg_body(peg), 8.99)[0], 5.0)
            np.testing.assert_allclose(np.array(dowel_body(peg).bounding_box())[[2, 5]], (-9, 9))

    def test_across_the_flats_whatever_the_sides(self):
        for sides in (3, 5, 6, 8):
            peg = Peg((0, 0, 0), (0, 0, 1), 10.0, 9.0, 0.0, sides, (0, 1, 0))
            # The apothem of a regular polygon: half the width across opposite flats.
            area = sides * 25 * np.tan(np.pi / sides)
            self.assertAlmostEqual(peg_body(peg).slice(1.0).area(), area, 6)

    def test_what_no_joint_can_be_is_refused(self):
        for wrong in (
            {"clearance_mm": -0.1}, {"clearance_mm": float("nan")}, {"wall_mm": 0.1}, {"sides": 2}, {"sides": 40},
            {"width_mm": 1.0}, {"reach_mm": 0.2}, {"most": 99},
        ):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(BadValue):
                JointSetting(**wrong).checked()
        self.assertEqual(sorted(FITS.values()), list(FITS.values()))


class PegTest(unittest.TestCase):
    def test_two_in_a_broad_face_that_fit_one_way_only(self):
        made = halves(box(60, 40, 40, (-30, -20, -20)))
        (joint,) = made.joints
        self.assertEqual((len(joint.pegs), joint.refused, made.faults), (2, "", ()))
        self.assertAlmostEqual(joint.area_mm2, 1600, 1)
        # Turned half round about the middle of the face no peg stands where one stood.
        at = np.array([peg.at_mm for peg in joint.pegs])
        turned = at * [1, -1, -1]
        apart = np.linalg.norm(at[:, None] - turned[None], axis=2).min()
        self.assertGreater(apart, joint.pegs[0].width_mm / 4)
        for peg in joint.pegs:
            self.assertAlmostEqual(peg.depth_mm, 1.5 * peg.width_mm)
            self.assertLessEqual(np.abs(peg.at_mm).max() + peg.width_mm / 2 + 0.15 + 2.0, 20.0 + 1e-6)

    def test_sections_through_the_joint_have_the_clearance_that_was_asked_for(self):
        made = halves(box(60, 40, 40, (-30, -20, -20)), JointSetting(width_mm=6, clearance_mm=0.25, most=1))
        owner, other = (made.pieces[n - 1] for n in made.joints[0].between)
        peg = made.joints[0].pegs[0]
        x = 0.5 * peg.depth_mm * peg.axis[0]
        stands, hole = (Solid.from_mesh(p.mesh).manifold.rotate((0, 90, 0)).slice(-x) for p in (owner, other))
        self.assertAlmostEqual(stands.area(), 36.0, 3)
        self.assertAlmostEqual(1600 - hole.area(), 6.5**2, 3)

    def test_books_balance_to_the_cubic_millimetre(self):
        for setting in (PEGS, JointSetting(kind=JointKind.DOWEL), JointSetting(sides=0, clearance_mm=0.05)):
            body = sphere(40, 96).scale((1, 1, 0.7))
            made = halves(body, setting, (1, 0.3, 0.2), 4.0)
            self.assertEqual(made.faults, ())
            self.assertLess(abs(made.volume_error_mm3), 1e-3)
            written = sum(read_back(p.mesh).volume for p in made.parts)
            pegs = made.joints[0].pegs
            filled = sum(peg_body(p).trim_by_plane((0, 0, 1), 0).volume() for p in pegs)
            hollow = sum(socket_body(p).trim_by_plane((0, 0, 1), 0).volume() for p in pegs)
            twice = setting.kind is JointKind.DOWEL
            expected = body.volume() - hollow * (2 if twice else 1) + (0 if twice else filled)
            self.assertLess(abs(written - expected), 1.0)

    def test_pegs_point_up_and_can_be_swapped(self):
        body = box(40, 40, 60, (-20, -20, -30))
        made = halves(body, PEGS, (0, 0, 1))
        self.assertEqual(made.joints[0].pegs[0].axis, (0, 0, 1))
        low = made.joints[0].between[0]
        self.assertLess(made.pieces[low - 1].mesh.bounds[0, 2], -29)
        other = halves(body, replace(PEGS, swapped=("1",)), (0, 0, 1))
        self.assertEqual(other.joints[0].pegs[0].axis, (0, 0, -1))
        self.assertEqual(other.joints[0].between, made.joints[0].between[::-1])
        self.assertEqual(other.faults, ())

    def test_no_peg_where_no_wall_stays_round_it(self):
        shell = sphere(60, 128) - sphere(57, 128)
        made = halves(shell)
        self.assertTrue(all(not joint.pegs and "No room" in joint.refused for joint in made.joints))
        self.assertEqual(len(made.refused), len(made.joints))
        # A wall that is thick enough takes them, and they stay inside it.
        thick = halves(sphere(60, 128) - sphere(40, 128))
        self.assertTrue(thick.joints[0].pegs)
        self.assertEqual(thick.faults, ())

    def test_a_face_with_a_hollow_behind_it_takes_none_there(self):
        # The face is broad, and 4 mm behind it begins a hollow.
        body = box(80, 60, 60, (-40, -30, -30)) - box(30, 56, 56, (4, -28, -28))
        made = halves(body, JointSetting(swapped=()))
        for joint in made.joints:
            for peg in joint.pegs:
                inside = peg.axis[0] < 0
                self.assertTrue(inside or np.abs(np.array(peg.at_mm)[1:]).max() > 28)
        self.assertEqual(made.faults, ())

    def test_the_piece_that_bears_a_peg_has_the_wall_below_it_too(self):
        # A slit 0.5 to 1.5 mm below the face, between the depths that sections are taken at.
        body = box(60, 40, 40, (-30, -20, -20)) - box(1, 34, 34, (-1.5, -17, -17))
        made = halves(body, JointSetting(width_mm=6, most=2))
        self.assertTrue(all(not joint.pegs and joint.refused for joint in made.joints))

    def test_as_deep_as_the_wall_there_lets_them(self):
        # Square to x from x = 0: so much material stands behind the face, and three widths of 8 mm are most.
        for behind, deep in ((14, 10.0), (16.6, 14.0), (18.4, 14.0), (27, 24.0), (70, 24.0)):
            for kind in (JointKind.PEG, JointKind.DOWEL):
                body = box(80 + behind, 60, 60, (-80, -30, -30))
                setting = JointSetting(kind=kind, width_mm=8, to_wall=True, swapped=("1",))
                for made in (halves(body, setting), halves(body, replace(setting, swapped=()))):
                    (joint,) = made.joints
                    self.assertEqual(len(joint.pegs), 2)
                    into_thin = joint.pegs[0].axis[0] > 0 or kind is JointKind.DOWEL
                    for peg in joint.pegs:
                        self.assertAlmostEqual(peg.depth_mm, deep if into_thin else 24.0)
                    self.assertEqual(made.faults, ())
        # Behind a slope each goes by the wall where it stands.
        ramp = box(140, 60, 60, (-80, -30, -30)).trim_by_plane((-1, -0.5, 0), -24)
        (joint,) = halves(ramp, JointSetting(kind=JointKind.DOWEL, width_mm=6, to_wall=True)).joints
        deep = {round(peg.depth_mm, 2) for peg in joint.pegs}
        self.assertEqual(len(deep), len(joint.pegs), joint.pegs)
        self.assertLess(min(deep), 18)
        for peg in joint.pegs:
            # What stays behind its end, square to the slope, is the wall asked for and little more.
            end = np.array(peg.at_mm) + [peg.depth_mm + END_MM, 3 + 0.15, 0]
            left = 24 - (end[0] + 0.5 * end[1]) / np.hypot(1, 0.5)
            self.assertGreater(left, 2.0)
            self.assertLess(left, 4.0 if peg.depth_mm < 18 else 40.0)
        # A box has to leave them room, and a reach that is typed is one thing or the other.
        self.assertEqual(JointSetting(to_wall=True, width_mm=8).stands_out_mm, 24)
        for other in ({"reach_mm": 9.0}, {"snap": True}):
            with self.assertRaises(BadValue):
                JointSetting(to_wall=True, **other).checked()

    def test_a_hollow_that_is_shut_in_a_piece_stays_there(self):
        body = box(60, 30, 30, (-30, -15, -15)) - box(8, 8, 8, (10, -4, -4)) + box(2, 2, 2, (13, -1, -1))
        made = halves(body, JointSetting(kind=JointKind.BUTT))
        self.assertEqual(made.lost_mm3, 0)
        # The small body in the hollow is a piece of its own.
        self.assertEqual(sorted(round(p.volume_mm3) for p in made.pieces), [8, 26488, 27000])
        big = next(p for p in made.pieces if round(p.volume_mm3) == 26488)
        self.assertAlmostEqual(read_back(big.mesh).volume, 26488, 1)

    def test_dowels_are_pieces_of_their_own(self):
        made = halves(box(60, 40, 40, (-30, -20, -20)), JointSetting(kind=JointKind.DOWEL, sides=3))
        dowels = [p for p in made.pieces if p.loose]
        self.assertEqual((len(made.parts), len(dowels)), (2, len(made.joints[0].pegs)))
        self.assertEqual(made.faults, ())
        for dowel in dowels:
            for piece in made.parts:
                both = Solid.from_mesh(dowel.mesh).manifold ^ Solid.from_mesh(piece.mesh).manifold
                self.assertLess(both.volume(), 1e-3)
        # Half of each lies in either piece: they reach both ways.
        self.assertAlmostEqual(dowels[0].mesh.bounds[:, 0].sum(), 0, 4)

    def test_joints_of_crossing_cuts_do_not_meet(self):
        body = box(40, 40, 40, (-20, -20, -20))
        cuts = [cut((1, 0, 0), 0.0, "1"), cut((0, 1, 0), 0.0, "2"), cut((0, 0, 1), 0.0, "3")]
        made = split(Solid(body), cuts, BIG, JointSetting(width_mm=5, most=2))
        self.assertEqual((len(made.pieces), made.faults), (8, ()))
        self.assertTrue(all(len(bodies_of(Solid.from_mesh(p.mesh).manifold)) == 1 for p in made.pieces))
        self.assertEqual(len(made.steps), 7)
        self.assertEqual(made.steps[-1].cut, "1")


class FaultTest(unittest.TestCase):
    """Joints that are wrong on purpose."""

    def setUp(self):
        self.made = halves(box(60, 40, 40, (-30, -20, -20)), JointSetting(width_mm=6, most=2))
        self.joints = [replace(j, between=tuple(n - 1 for n in j.between)) for j in self.made.joints]
        self.meshes = [p.mesh for p in self.made.pieces]

    def faults(self, meshes=None, joints=None):
        found = verify(meshes or self.meshes, joints or self.joints, wall_mm=2.0)
        return {fault.kind for fault in found}

    def test_right_ones_have_none(self):
        self.assertEqual(self.faults(), set())

    def test_a_socket_that_breaks_through_a_wall(self):
        other = self.joints[0].between[1]
        _, y, z = self.joints[0].pegs[0].at_mm
        milled = Solid.from_mesh(self.meshes[other]).manifold - box(60, 60, 40, (-30, y + 3.5, z - 20))
        meshes = list(self.meshes)
        meshes[other] = mesh_of(milled)
        self.assertIn("wall", self.faults(meshes))

    def test_a_peg_at_odds_with_the_way_they_are_joined(self):
        owner = self.joints[0].between[0]
        peg = self.joints[0].pegs[0]
        hook = box(3, 3, 9, (-1.5 + 6, -1.5, 0)).translate(peg.at_mm)
        meshes = list(self.meshes)
        meshes[owner] = mesh_of(Solid.from_mesh(meshes[owner]).manifold + hook)
        self.assertTrue(self.faults(meshes) & {"sweep", "overlap"})

    def test_a_hook_that_rests_free_but_cannot_be_drawn_off(self):
        upper = box(20, 20, 10, (0, 0, 10.2)) + box(4, 20, 20, (0, 0, 0.2)) + box(10, 20, 3, (0, 0, 0.2))
        lower = box(14, 20, 6, (5, 0, 4)) - box(20, 20, 0.1, (0, 0, 0))
        joint = replace(self.joints[0], between=(0, 1), pegs=(), direction=(0, 0, 1), area_mm2=200)
        found = verify([mesh_of(lower), mesh_of(upper)], [joint], wall_mm=2.0)
        self.assertEqual({f.kind for f in found}, {"sweep"})

    def test_a_socket_too_narrow_for_its_peg(self):
        wide = halves(box(60, 40, 40, (-30, -20, -20)), JointSetting(width_mm=7, most=2))
        owner = self.joints[0].between[0]
        meshes = list(self.meshes)
        meshes[owner] = wide.pieces[owner].mesh
        self.assertTrue(self.faults(meshes) & {"overlap", "sweep"})


class NumberTest(unittest.TestCase):
    """Numbers in the faces: as the font draws them, read from outside, and the right ones."""

    def setUp(self):
        self.made = halves(box(60, 40, 40, (-30, -20, -20)), JointSetting(width_mm=5, most=2, numbers=True))
        (self.joint,) = self.made.joints
        self.meshes = [p.mesh for p in self.made.pieces]

    def zero_based(self, joint):
        return replace(joint, between=tuple(n - 1 for n in joint.between))

    def test_strokes_have_the_area_of_the_font(self):
        from fontTools.pens.areaPen import AreaPen

        font, glyphs, names = _font()
        for text in ("1/2", "08", "3645/7"):
            pen = AreaPen(glyphs)
            for letter in text:
                glyphs[names[ord(letter)]].draw(pen)
            expected = abs(pen.value) * (7.0 / font["OS/2"].sCapHeight) ** 2
            self.assertAlmostEqual(outline(text, 7.0).area() / expected, 1, delta=7e-3)
            # A figure is as high as it is asked to be, but for the overshoot of round ones.
            self.assertAlmostEqual(
                outline("1", 7.0).bounds()[3] - outline("1", 7.0).bounds()[1], 7.0, delta=0.2
            )

    def test_each_piece_says_its_own_number_first_and_is_read_from_outside(self):
        self.assertEqual(self.made.faults, ())
        texts = [label.text for label in self.joint.labels]
        self.assertEqual(texts, [f"{a}/{b}" for a, b in (self.joint.between, self.joint.between[::-1])])
        for number, label in zip(self.joint.between, self.joint.labels, strict=True):
            outward = np.cross(label.right, label.up)
            middle = self.meshes[number - 1].bounds.mean(axis=0)
            self.assertLess((middle - label.at_mm) @ outward, 0)
        # They stand the same way up, one right over the other.
        self.assertEqual(*[label.up for label in self.joint.labels])
        self.assertEqual(*[label.at_mm for label in self.joint.labels])

    def test_the_books_count_the_numbers(self):
        plain = halves(box(60, 40, 40, (-30, -20, -20)), JointSetting(width_mm=5, most=2))
        less = sum(p.volume_mm3 for p in plain.pieces) - sum(p.volume_mm3 for p in self.made.pieces)
        self.assertAlmostEqual(
            less, sum(outline(la.text, la.height_mm).area() * 0.6 for la in self.joint.labels), 3
        )
        self.assertLess(abs(self.made.volume_error_mm3), 1e-3)

    def test_swapped_numbers_are_found(self):
        right = self.zero_based(self.joint)
        self.assertEqual(verify(self.meshes, [right], wall_mm=2.0), [])
        # The pieces are what they were, but are told the other way round.
        other = replace(right, between=right.between[::-1])
        found = verify(self.meshes[::-1], [replace(other, labels=right.labels)], wall_mm=2.0)
        self.assertEqual({f.kind for f in found}, {"number"})

    def test_a_narrow_face_is_numbered_whichever_way_it_lies(self):
        heights = set()
        for wide, high in ((30, 9), (9, 30)):
            body = box(60, wide, high, (-30, -wide / 2, -high / 2))
            (joint,) = halves(body, JointSetting(kind=JointKind.BUTT, numbers=True)).joints
            self.assertFalse(joint.unnumbered)
            for label in joint.labels:
                # What is written runs along the longer side.
                self.assertEqual(int(np.argmax(np.abs(label.right))), 1 if wide > high else 2)
                heights.add(label.height_mm)
        self.assertEqual(len(heights), 1)

    def test_a_face_too_small_is_told(self):
        made = halves(box(30, 7, 7, (-15, -3.5, -3.5)), JointSetting(numbers=True, wall_mm=1))
        self.assertTrue(made.joints[0].unnumbered)
        self.assertEqual(made.joints[0].labels, ())


class TreeTest(unittest.TestCase):
    def test_a_plane_within_one_piece_parts_only_that(self):
        cuts = [cut((1, 0, 0), 0.0, "1"), cut((0, 1, 0), 0.0, "2", "1b")]
        made = split(Solid(box(40, 40, 40, (-20, -20, -20))), cuts, BIG)
        self.assertEqual([p.path for p in made.pieces], ["1a", "1b-2a", "1b-2b"])

    def test_a_plane_goes_through_corners_that_it_would_miss_by_a_hair(self):
        corners = np.array([(0.0, 0, 0), (10, 0, 0), (20, 0, 0)])
        for offset, expected in ((10.004, 10.0), (9.992, 10.0), (10.5, 10.5)):
            self.assertAlmostEqual(snapped(corners, cut((1, 0, 0), offset, "1")), expected, 12)
        # Corners a hair from each other: beside all of them.
        rough = np.array([(10 + 1e-4 * k, 0.0, 0) for k in range(20)] + [(0.0, 0, 0), (20, 0, 0)])
        moved = snapped(rough, cut((1, 0, 0), 10.001, "1"))
        self.assertGreater(np.abs(rough[:, 0] - moved).min(), 0.004)
        self.assertLess(abs(moved - 10.001), 0.02)

    def test_moving_a_plane_keeps_the_names_of_the_pieces(self):
        names = [
            [leaf.path for leaf in cut_tree(Solid(sphere(20, 48)), [cut((1, 0, 0), x, "1"), cut((0, 0, 1), 3, "2")]).leaves()]
            for x in (-5.0, 5.0)
        ]  # fmt: skip
        self.assertEqual(*names)

    def test_nonsense_is_refused(self):
        for normal, offset in (((0, 0, 0), 1), ((1, 0, float("nan")), 1), ((1, 0, 0), float("inf"))):
            with self.assertRaises(BadValue):
                cut(normal, offset, "1")

    def test_pulled_apart_the_way_they_go_together(self):
        made = halves(box(60, 40, 40, (-30, -20, -20)))
        away, side = pulled(made)
        np.testing.assert_allclose(away[0][1:], 0)
        self.assertGreater(away[0][0], 10)
        self.assertEqual(side.tolist(), [[-1, 1]])

    @settings(max_examples=20, deadline=None)
    @given(
        st.lists(st.tuples(*[st.floats(-1, 1)] * 3, st.floats(-14, 14)), min_size=1, max_size=4),
        st.sampled_from(["ring", "two", "hollow", "bar", "shell"]),
        st.sampled_from(["peg", "snap", "lap", "dovetail", "tenon"]),
    )
    @example([(0.0, 1.0, 0.0, 0.0), (1.0, 0.0, 0.0, 0.0)], "hollow", "lap")
    @example([(0.0, 0.0, 1.0, 0.0), (1.0, 0.0, 0.0, 0.0)], "two", "dovetail")
    @example([(0.0, 0.0, -1.0, -0.8125)], "shell", "lap")
    @example([(1.0, 1.0, 0.0, 0.0), (1.0, 1.0, 0.0, 0.0)], "ring", "peg")
    @example([(0.0, 1.0, 0.0, 14.0)], "ring", "peg")
    @example([(0.5, 0.5, 0.0, 0.5), (0.5, 0.5, 0.0, 0.0)], "ring", "dovetail")
    def test_any_tree_of_planes_keeps_what_is_promised(self, planes, shape, kind):
        body = {
            "ring": CrossSection([[(14, -5), (24, -5), (24, 5), (14, 5)]]).revolve(48),
            "two": sphere(14, 32) + box(8, 8, 30, (18, 0, -15)),
            "hollow": sphere(22, 48) - sphere(14, 48),
            "bar": box(50, 14, 12, (-25, -7, -6)),
            "shell": sphere(22, 48) - sphere(19, 48),
        }[shape]
        cuts = [
            cut((x, y, z), d, str(n))
            for n, (x, y, z, d) in enumerate(planes, 1)
            if abs(x) + abs(y) + abs(z) > 0.2
        ]
        snap = kind == "snap"
        setting = JointSetting(kind=JointKind("peg" if snap else kind), wall_mm=1.2, snap=snap)
        made = split(Solid(body), cuts, BIG, setting)
        self.assertEqual(made.faults, ())
        self.assertLess(abs(made.volume_error_mm3), 1e-3)
        whole = split(Solid(body), cuts, BIG)
        total = sum(p.volume_mm3 for p in whole.pieces) + whole.lost_mm3
        self.assertLess(whole.lost_mm3, 1.0 * (whole.slivers + 1e-9))
        self.assertGreaterEqual(whole.lost_mm3, -1e-9)
        self.assertAlmostEqual(total / body.volume(), 1, delta=1e-6)
        for piece in made.pieces:
            back = read_back(piece.mesh)
            self.assertTrue(back.is_watertight and back.is_winding_consistent)
            self.assertEqual(len(bodies_of(Solid.from_mesh(piece.mesh).manifold)), 1)
        self.assertEqual(len({p.path for p in made.pieces}), len(made.pieces))
        # In the last step everything comes together.
        if made.steps:
            together = sorted([*made.steps[-1].first, *made.steps[-1].second])
            self.assertEqual(together, [p.number for p in made.parts])


class PlannerTest(unittest.TestCase):
    def test_never_more_pieces_than_boxes_and_six_for_the_dragonfly(self):
        solid = Solid.from_mesh(SHAPES["dragonfly"]() if "dragonfly" in SHAPES else next(
            make for name, make in SHAPES.items() if "dragonfly" in name)())  # fmt: skip
        early = []
        # The build volume of the Sedge 300, 3 mm kept free on every side.
        found = plans(solid, (294, 294, 337), early=early.append)
        pieces = {plan.name: plan.pieces for plan in found}
        self.assertLessEqual(found[0].pieces, 6)
        self.assertEqual((found[0].too_big, found[0].slivers), (0, 0))
        self.assertLessEqual(found[0].pieces, pieces["boxes"])
        self.assertGreaterEqual(len(early), 3)
        made = split(solid, found[0].cuts, (294, 294, 337))
        self.assertEqual(len(made.pieces), found[0].pieces)
        self.assertTrue(all(piece.fits for piece in made.pieces))
        again = plans(solid, (294, 294, 337))
        self.assertEqual([p.cuts for p in again], [p.cuts for p in found])

    def test_halves_reach_to_the_plane_between_their_samples(self):
        sample = _sample(Solid(box(100, 30, 30)))
        before, beyond = _halves(sample, np.array([1.0, 0, 0]), 47.3, "1")
        self.assertAlmostEqual(before.points[:, 0].max(), 47.3)
        self.assertAlmostEqual(beyond.points[:, 0].min(), 47.3)
        for half in (before, beyond):
            np.testing.assert_allclose(np.ptp(half.points[:, 1:], axis=0), 30)
            self.assertLess(half.edges.max(), len(half.points))
            # What lies outermost reaches as far as all of them, whichever way.
            for way in np.random.default_rng(1).normal(size=(20, 3)):
                self.assertAlmostEqual(np.ptp(half.rim @ way), np.ptp(half.points @ way))

    def test_what_fits_is_left_whole(self):
        (plan,) = plans(Solid(box(10, 20, 30)), (10, 20, 30))
        self.assertEqual((plan.cuts, plan.pieces, plan.too_big), ((), 1, 0))

    def test_a_bar_is_cut_across(self):
        found = plans(Solid(Manifold.cube((500, 30, 30)).rotate((0, 0, 40))), (200, 200, 200))
        self.assertEqual((found[0].name, found[0].pieces, found[0].too_big), ("planned", 2, 0))


if __name__ == "__main__":
    unittest.main()

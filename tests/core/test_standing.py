"""Which way up pieces stand: on their joint faces, never on their pegs."""

import unittest
from dataclasses import replace

import numpy as np

from tests.support import box
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.cuts import cut
from upright_heron.core.split.fittings import JointKind, JointSetting
from upright_heron.core.split.pieces import split
from upright_heron.core.split.sizes import turn_that_fits
from upright_heron.core.split.standing import best_stance, outward, stance_of
from upright_heron.core.stance.pose import standing_on
from upright_heron.core.stance.proposals import Found, OtherLift, Proposal


def made(kind):
    body = Solid(box(100, 40, 40))
    return split(body, [cut((1, 0, 0), 50.0, "1")], (90, 90, 90), JointSetting(kind=kind))


def stance(letter, down, score, fits=True):
    rotation = standing_on(np.array(down, float))
    costs = (0.0,) * 6
    return Proposal(letter, letter, rotation, None, score, costs, fits, True, True, 0.0, 0.0, 0.0, 10.0)


def board(*proposals):
    return Found(proposals, len(proposals), len(proposals), True)


class OutwardTest(unittest.TestCase):
    def test_faces_point_out_of_each_piece_and_pegs_out_of_the_one_that_bears_them(self):
        whole = made(JointKind.PEG)
        joint = whole.joints[0]
        bearer, other = joint.between
        # By the pieces themselves: the one with pegs is longer than its half.
        sizes = {p.number: p.size_mm[0] for p in whole.pieces}
        self.assertGreater(sizes[bearer], 52.0)
        self.assertAlmostEqual(sizes[other], 50.0, 4)
        middle = {p.number: p.mesh.bounds.mean(axis=0)[0] for p in whole.pieces}
        for number in (bearer, other):
            sides = outward(whole, number)
            way = 1.0 if middle[number] < 50 else -1.0
            self.assertEqual(sides.faces, ((way, 0.0, 0.0),))
            self.assertEqual(sides.pegs, sides.faces if number == bearer else ())
            self.assertEqual(sides.sockets, () if number == bearer else sides.faces)

    def test_loose_dowels_and_plain_faces_stand_out_of_nothing(self):
        for kind in (JointKind.DOWEL, JointKind.BUTT):
            whole = made(kind)
            for number in (1, 2):
                sides = outward(whole, number)
                self.assertEqual((len(sides.faces), sides.pegs), (1, ()))
                self.assertEqual(sides.sockets, sides.faces)


class AslantTest(unittest.TestCase):
    """A bar of 135 x 193.6 x 25 fits a machine of 190 x 170 x 185 only aslant."""

    build = (190.0, 170.0, 185.0)

    def test_a_piece_that_fits_only_aslant_is_turned_so(self):
        bar = Solid(box(135, 193.6, 25)).mesh().vertices
        turn = turn_that_fits(bar, self.build)
        self.assertTrue((np.ptp(bar @ turn.T, axis=0) < self.build).all())
        np.testing.assert_allclose(turn @ turn.T, np.eye(3), atol=1e-9)
        self.assertGreater(np.linalg.det(turn), 0)
        self.assertIsNone(turn_that_fits(Solid(box(300, 10, 10)).mesh().vertices, self.build))

    def test_what_fits_flat_lies_flat(self):
        plate = Solid(box(20, 40, 50)).mesh().vertices
        turn = turn_that_fits(plate, self.build)
        self.assertAlmostEqual(np.ptp(plate @ turn.T, axis=0)[2], 20.0)

    def test_only_where_no_stance_of_the_board_fits(self):
        whole = split(Solid(box(270, 193.6, 25)), [cut((1, 0, 0), 135.0, "1")], self.build)
        for fits in (True, False):
            flat = stance("A", (0, 0, -1), 90, fits=fits)
            turn, name, lift = stance_of(board(flat), whole, 1, self.build)
            self.assertIsNone(lift)
            reach = np.ptp(whole.pieces[0].mesh.vertices @ turn.T, axis=0)
            self.assertEqual(bool((reach < self.build).all()), not fits)
            self.assertEqual(name == "A", fits)
        self.assertIsNone(stance_of(board(), whole, 1, self.build))
        # On a resin machine it is lifted, or lies flat, as its proposal was found best.
        for lift in (0.0, 5.0):
            other = OtherLift(5.0 - lift, 10.0, True, 1.0, 1.0, 1.0, 1.0)
            resin = replace(stance("A", (0, 0, -1), 90), lift_mm=lift, other=other)
            self.assertEqual(stance_of(board(resin), whole, 1, self.build)[2], lift)


class BestTest(unittest.TestCase):
    def setUp(self):
        whole = made(JointKind.PEG)
        bearer, other = whole.joints[0].between
        self.pegs, self.sockets = outward(whole, bearer), outward(whole, other)
        self.face = self.sockets.faces[0]

    def test_the_joint_face_goes_down_though_another_is_a_little_better(self):
        found = board(stance("a", (0, 0, -1), 80), stance("b", self.face, 66))
        self.assertEqual(best_stance(found, self.sockets).letter, "b")
        # Much better is better still.
        found = board(stance("a", (0, 0, -1), 99), stance("b", self.face, 66))
        self.assertEqual(best_stance(found, self.sockets).letter, "a")

    def test_never_on_pegs_nor_leaning_on_them(self):
        out = np.array(self.pegs.pegs[0])
        leaning = out + np.array([0, 0, 0.3])
        aside = (0, 1, 0)
        found = board(stance("a", out, 99), stance("b", leaning, 90), stance("c", aside, 20))
        self.assertEqual(best_stance(found, self.pegs).letter, "c")
        # Where there is no other way it is taken, and told elsewhere.
        self.assertEqual(best_stance(board(stance("a", out, 99)), self.pegs).letter, "a")

    def test_for_what_is_seen_the_goals_alone_decide_but_for_pegs(self):
        found = board(stance("a", (0, 0, -1), 80), stance("b", self.face, 79))
        self.assertEqual(best_stance(found, self.sockets, on_face=False).letter, "a")
        out = np.array(self.pegs.pegs[0])
        found = board(stance("a", out, 99), stance("b", (0, 1, 0), 20))
        self.assertEqual(best_stance(found, self.pegs, on_face=False).letter, "b")

    def test_what_fits_comes_first(self):
        found = board(stance("a", self.face, 99, fits=False), stance("b", (0, 0, -1), 10))
        self.assertEqual(best_stance(found, self.sockets).letter, "b")
        self.assertIsNone(best_stance(board(), self.sockets))

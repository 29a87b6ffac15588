"""Which way up pieces stand: on their joint faces, never on their pegs."""

import unittest

import numpy as np

from tests.support import box
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.cuts import cut
from upright_heron.core.split.fittings import JointKind, JointSetting
from upright_heron.core.split.pieces import split
from upright_heron.core.split.standing import best_stance, outward
from upright_heron.core.stance.pose import standing_on
from upright_heron.core.stance.proposals import Found, Proposal


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

    def test_what_fits_comes_first(self):
        found = board(stance("a", self.face, 99, fits=False), stance("b", (0, 0, -1), 10))
        self.assertEqual(best_stance(found, self.sockets).letter, "b")
        self.assertIsNone(best_stance(board(), self.sockets))

"""The shell cuts a part into pieces, with joints."""

import unittest

import trimesh

from tests.support import box, stl
from tests.test_cli import CliCase


class PiecesTest(CliCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        (cls.folder / "bar.stl").write_bytes(stl(box(250, 40, 40)))
        (cls.folder / "aslant.stl").write_bytes(stl(box(700, 20, 20).rotate((0, 0, 45))))

    def test_pieces_joints_and_assembly(self):
        told = self.answer("split", "bar.stl", "--printer", "Sedge 300", "--size", "x=500", "--joint", "peg",
                           "--may-turn", "--clearance", "0.2", "--numbers", "--out", str(self.folder))  # fmt: skip
        self.assertEqual([p["neighbours"] for p in told["pieces"]], [[2], [1]])
        self.assertTrue(all(p["closed"] and p["fits"] and p["bodies"] == 1 for p in told["pieces"]))
        (joint,) = told["joints"]
        self.assertEqual((joint["between"], joint["kind"], joint["refused"]), ([1, 2], "peg", ""))
        self.assertAlmostEqual(joint["area_mm2"], 6400, 0)
        self.assertEqual(joint["numbers"], ["1/2", "2/1"])
        self.assertEqual([p["clearance_mm"] for p in joint["pegs"]], [0.2, 0.2])
        self.assertEqual(told["assembly"], [[[1], [2], [1, 0, 0]]])
        self.assertEqual((told["faults"], told["overlap_mm3"], told["slivers"]), ([], 0, 0))
        self.assertLess(abs(told["volume_error"]), 1e-3)
        for piece in told["pieces"]:
            file = trimesh.load(self.folder / piece["file"])
            self.assertTrue(file.is_watertight)
            self.assertAlmostEqual(file.volume / piece["volume_mm3"], 1, 4)

    def test_planes_a_plan_and_what_is_refused(self):
        planned = self.answer("split", "aslant.stl", "--box", "294,294,337", "--plan")
        self.assertEqual(len(planned["pieces"]), 2)
        two = self.answer("split", "aslant.stl", "--box", "500,500,500", "--plane", "0,0,1,12")
        self.assertEqual([round(p["size_mm"][2], 3) for p in two["pieces"]], [12, 8])
        for wrong in (
            ("--box", "1,2"), ("--box", "9,9,9", "--printer", "Sedge 300"), (), ("--box", "0,1,1"),
            ("--box", "99,99,99", "--plane", "0,0,0,1"), ("--box", "99,99,99", "--size", "w=3"),
            ("--box", "99,99,99", "--plan", "--plane", "0,0,1,1"),
            ("--box", "99,99,99", "--joint", "peg", "--reach", "900"),
        ):  # fmt: skip
            with self.subTest(wrong):
                out, err = self.call("split", "aslant.stl", *wrong, status=2)
                self.assertEqual((out, err.count("\n")), ("", 1))


if __name__ == "__main__":
    unittest.main()

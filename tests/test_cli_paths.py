"""The shell's commands about paths of filament."""

import json
from pathlib import Path

from tests.test_cli import CliCase
from upright_heron.core.toolpaths.gcode_check import read

KEYS = {"seconds", "seconds_by_kind", "mass_g", "metres", "cost", "layers", "coverage"}


class PathsTest(CliCase):
    def estimate(self, *words):
        return self.answer("estimate", "cup.stl", *words)

    def test_estimate(self):
        told = self.estimate()
        self.assertEqual(set(told), KEYS)
        self.assertEqual(told["layers"], 100)
        self.assertAlmostEqual(sum(told["seconds_by_kind"].values()), told["seconds"], places=6)
        # PLA of 1.24 g/cm3 as 1.75 mm filament: 2.9825 g a metre; 22 a kilogram.
        self.assertAlmostEqual(told["mass_g"] / told["metres"], 2.98255, places=4)
        self.assertAlmostEqual(told["cost"], told["mass_g"] * 0.022, places=9)
        self.assertGreater(told["coverage"], 0.985)
        # Walls of 3 mm are 9.36 cm3 with their bottom: no more than that is printed, and most of it.
        whole = (30 * 30 * 20 - 24 * 24 * 17) * 1.24e-3
        self.assertTrue(0.7 * whole < told["mass_g"] < 1.01 * whole)
        solid = self.estimate("--infill", 100)
        self.assertAlmostEqual(solid["mass_g"] / whole, 1.0, delta=0.01)

    def test_settings_count(self):
        plain = self.estimate()
        for words in (("--walls", 5), ("--infill", 60), ("--layer", 0.1), ("--footing", "brim")):
            self.assertNotEqual(self.estimate(*words)["mass_g"], plain["mass_g"], words)
        self.assertLess(self.estimate("--speed", 200)["seconds"], plain["seconds"])
        self.assertIn("brim", self.estimate("--footing", "brim")["seconds_by_kind"])
        held = self.answer("estimate", "tee.stl", "--style", "grid")["seconds_by_kind"]
        self.assertTrue({"supports", "interface"} <= set(held), held)

    def test_gcode(self):
        out = self.folder / "cup.gcode"
        told = self.answer("gcode", "cup.stl", "--out", out, "--pattern", "gyroid", "--footing", "raft")
        self.assertEqual(set(told), KEYS | {"file", "bytes", "moves", "e_mm", "extents"})
        text = Path(out).read_text()
        self.assertEqual(told["bytes"], len(text.encode()))
        back = read(text.splitlines())
        self.assertEqual((told["moves"], told["e_mm"]), (back.moves, back.pushed_mm))
        self.assertAlmostEqual(told["e_mm"] / 1000 / told["metres"], 1.0, delta=1e-3)
        # On a raft of 1 mm and a gap of 0.25 mm, in the middle of the plate.
        low, high = told["extents"]["low_mm"], told["extents"]["high_mm"]
        self.assertAlmostEqual(high[2], 20 + 1.0 + 0.25, places=3)
        self.assertAlmostEqual(low[0] + high[0], 300, delta=0.5)
        self.assertEqual(told["layers"], 105)

    def test_what_if(self):
        told = self.answer("whatif", "cup.stl", "--vary", "walls=2,4", "--vary", "pattern=grid,gyroid")[
            "variants"
        ]
        self.assertEqual([one["changed"] for one in told], [
            {"walls": w, "pattern": p} for w in (2, 4) for p in ("grid", "gyroid")
        ])  # fmt: skip
        self.assertEqual(told[3]["seconds_more"], told[3]["seconds"] - told[0]["seconds"])
        self.assertNotIn("seconds_more", told[0])

    def test_what_cannot_be_is_refused(self):
        for words, said in (
            (("estimate", "cup.stl", "--printer", "Tarn 9"), "lays no filament"),
            (("estimate", "cup.stl", "--pattern", "waves"), "no pattern"),
            (("estimate", "cup.stl", "--material", "Tough resin"), "does not print"),
            (("estimate", "cup.stl", "--footing", "pads"), "no footing"),
            (("whatif", "cup.stl", "--vary", "colour=red"), "nothing to vary"),
            (("gcode", "hole.stl", "--out", self.folder / "no.gcode"), "not closed"),
        ):
            if words[1] == "hole.stl":
                data = (self.folder / "cube.stl").read_bytes()
                facets = int.from_bytes(data[80:84], "little")
                (self.folder / "hole.stl").write_bytes(
                    data[:80] + (facets - 1).to_bytes(4, "little") + data[84:-50]
                )
            self.assertIn(said, self.call(*words, status=2)[1], words)
        self.assertFalse((self.folder / "no.gcode").exists())

    def test_json_is_one_object(self):
        out, _ = self.call("estimate", "cup.stl", "--json")
        self.assertIsInstance(json.loads(out), dict)

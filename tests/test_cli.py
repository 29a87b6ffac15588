"""The shell command: exact keys, closed-form values, errors on standard error with exit status 2."""

import contextlib
import io
import itertools
import json
import math
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
from manifold3d import Manifold

from tests.core.test_slices import sliced
from tests.core.test_threemf import read, volume
from tests.support import box, comb, mesh_of, on_plate, portal, sphere, stl, tee
from upright_heron import cli
from upright_heron.core.geometry.mesh import Mesh, facts
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.handoff.threemf import FileObject, write_3mf
from upright_heron.core.marking.mark import Mark

DEFECTS = (
    "open_edges",
    "nonmanifold_edges",
    "flipped_facets",
    "duplicate_facets",
    "degenerate_facets",
    "bodies",
    "self_crossings",
)


class CliCase(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        bodies = {
            "cube": box(1, 1, 1, (5, 6, -7)),
            "sphere": on_plate(sphere(10, 512)),
            "tee": tee(),
            "comb": comb(),
            "portal": portal(),
            "cup": box(30, 30, 20) - box(24, 24, 20, (3, 3, 3)),
        }
        for name, body in bodies.items():
            (cls.folder / f"{name}.stl").write_bytes(stl(body))

    def call(self, *words, status=0):
        out, err = io.StringIO(), io.StringIO()
        arguments = [
            "upright-heron",
            *(str(self.folder / w) if str(w).endswith((".stl", ".3mf", ".heron")) else str(w) for w in words),
        ]
        with (
            mock.patch("sys.argv", arguments),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
        ):
            try:
                cli.main()
                found = 0
            except SystemExit as ended:
                found = ended.code or 0
        self.assertEqual(found, status, err.getvalue())
        return out.getvalue(), err.getvalue()

    def answer(self, *words):
        out, err = self.call(*words, "--json")
        self.assertEqual(err, "")
        return json.loads(out)

    def refused(self, *words):
        """What is said on standard error of what is refused."""
        out, err = self.call(*words, status=2)
        self.assertEqual(out, "")
        return err


class AnswersTest(CliCase):
    def test_units(self):
        mesh = mesh_of(box(2, 3, 4))
        (self.folder / "stated.3mf").write_bytes(write_3mf([FileObject("part", mesh)], "t"))
        found = self.answer("inspect", "stated.3mf")["units"]
        self.assertEqual((found["stated"], found["name"], found["question"]), (True, "millimeter", False))
        found = self.answer("inspect", "tee.stl")["units"]
        self.assertEqual((found["stated"], found["question"]), (False, False))

    def test_hollow(self):
        drained = self.answer("hollow", "sphere.stl", "--wall", "2", "--drain", "auto", "--out", "hollow.stl")
        self.assertEqual(
            list(drained)[:6],
            ["file", "wall_least_mm", "wall_mean_mm", "cavity_mm3", "drains", "sealed_mm3"],
        )
        self.assertAlmostEqual(drained["cavity_mm3"] / (4 / 3 * math.pi * 8**3), 1.0, delta=0.015)
        self.assertGreater(drained["wall_least_mm"], 1.95)
        self.assertAlmostEqual(drained["wall_mean_mm"], 2.0, delta=0.05)
        low, high = drained["drains"]
        np.testing.assert_allclose([low["at_mm"][2], high["at_mm"][2]], [0, 20], atol=0.01)
        self.assertEqual((low["diameter_mm"], low["vent"], high["vent"]), (3.0, False, True))
        self.assertEqual((drained["sealed_mm3"], drained["trapped_mm3"], drained["closed"]), (0, 0, True))
        # Told of the file: read back it is closed, one shell, and has the volume that is told.
        back = self.answer("inspect", "hollow.stl")
        self.assertAlmostEqual(back["volume_mm3"], drained["volume_mm3"], 3)
        self.assertEqual((back["closed"], back["shells"]), (True, 1))
        # A hole that is pointed at, in the side.
        side = self.answer(
            "hollow", "sphere.stl", "--wall", "2", "--drain", "10,0,10,2", "--out", "hollow.3mf"
        )
        self.assertEqual([one["diameter_mm"] for one in side["drains"]], [2.0])
        self.assertGreater(side["trapped_mm3"], 0.3 * side["cavity_mm3"])
        more = "--inside", "struts", "--apart", "12", "--thick", "2"
        held = self.answer("hollow", "sphere.stl", "--wall", "2", "--out", "held.stl", *more)
        self.assertLess(held["cavity_mm3"], 0.97 * drained["cavity_mm3"])
        self.assertTrue(held["closed"] and held["sound"])
        # Behind what a file has painted to keep solid there is no hollow.
        fine = refined(mesh_of(sphere(10, 48)))
        marks = np.where(fine.middles_mm[:, 2] > 0, Mark.SOLID, Mark.NONE).astype(np.uint8)
        painted = [FileObject("part", fine.mesh, marks=marks)]
        (self.folder / "painted.3mf").write_bytes(write_3mf(painted, "painted"))
        solid = self.answer("hollow", "painted.3mf", "--wall", "2", "--behind", "6", "--out", "solid.stl")
        self.assertLess(solid["cavity_mm3"], 0.8 * drained["cavity_mm3"])
        self.assertAlmostEqual(solid["wall_mean_mm"], 2.0, delta=0.1)
        sealed = self.answer("hollow", "sphere.stl", "--wall", "2", "--out", "hollow.stl")
        self.assertAlmostEqual(sealed["sealed_mm3"], sealed["cavity_mm3"], 3)
        for wrong in (
            ("--wall", "9.9"), ("--wall", "2", "--drain", "nowhere"), ("--wall", "2", "--drain", "0,0,50,3"),
            ("--wall", "2", "--detail", "1.5"),
        ):  # fmt: skip
            out, err = self.call("hollow", "sphere.stl", *wrong, "--out", "wrong.stl", status=2)
            self.assertEqual(out, "")
            self.assertTrue(err.startswith("upright-heron: "), err)
        self.assertFalse((self.folder / "wrong.stl").exists())

    def test_mend(self):
        mesh = mesh_of(tee())
        broken = Mesh(mesh.vertices, np.concatenate([mesh.faces[2:, ::-1], mesh.faces[5:6]]))
        (self.folder / "broken.stl").write_bytes(write_stl(broken))
        found = self.answer("mend", "broken.stl", "--out", "sound.stl")
        self.assertEqual(
            list(found),
            [
                "closed",
                "defects_before",
                "defects_after",
                "volume_before_mm3",
                "volume_after_mm3",
                "greatest_move_mm",
                "done",
                "sound",
                "left",
                "winding_volume_mm3",
                "moved_share_over_1_mm",
                "doubts",
                "ways",
            ],
        )
        self.assertEqual((found["closed"], found["sound"], found["left"]), (True, True, ""))
        self.assertEqual(
            [list(way) for way in found["ways"]], [["step", "kept", "why", "left"]] * len(found["ways"])
        )
        self.assertEqual(found["ways"][-1]["left"], "")
        self.assertEqual([way["why"] for way in found["ways"] if way["kept"]], found["done"])
        self.assertEqual(found["defects_before"]["duplicate_facets"], 1)
        self.assertGreater(found["defects_before"]["open_edges"], 0)
        self.assertEqual(found["defects_after"], dict.fromkeys(DEFECTS, 0) | {"bodies": 1})
        self.assertAlmostEqual(found["volume_after_mm3"], facts(mesh).volume_mm3, delta=0.01)
        self.assertTrue(self.answer("inspect", "sound.stl")["closed"])
        self.answer("mend", "broken.stl", "--out", "sound.3mf", "--step", "drop")
        self.call("mend", "broken.stl", "--out", "sound.stl", "--step", "pray", status=2)
        self.call("mend", "broken.stl", "--out", str(self.folder / "sound.txt"), status=2)

    def test_inspect(self):
        found = self.answer("inspect", "cube.stl")
        keys = ["facets", "vertices", "size_mm", "volume_mm3", "area_mm2", "closed", "shells"]
        self.assertEqual(list(found), [*keys, "units", "defects", "sound", "left"])
        units, defects = found.pop("units"), found.pop("defects")
        self.assertEqual((found.pop("sound"), found.pop("left")), (True, ""))
        self.assertEqual(list(units), ["stated", "name", "question", "sizes_mm"])
        # A cube of one: in millimetres it is odd, and 25.4 mm if inches were meant.
        self.assertEqual((units["stated"], units["name"], units["question"]), (False, "mm", True))
        self.assertEqual(units["sizes_mm"]["inch"], [25.4, 25.4, 25.4])
        self.assertEqual(list(units["sizes_mm"]), ["mm", "cm", "inch", "m"])
        self.assertEqual(defects, dict.fromkeys(DEFECTS, 0) | {"bodies": 1})
        self.assertEqual(
            found,
            {
                "facets": 12,
                "vertices": 8,
                "size_mm": [1, 1, 1],
                "volume_mm3": 1,
                "area_mm2": 6,
                "closed": True,
                "shells": 1,
            },
        )
        ball = self.answer("inspect", "sphere.stl")
        self.assertAlmostEqual(ball["volume_mm3"] / (4000 * math.pi / 3), 1, delta=2e-4)

    def test_overhangs(self):
        found = self.answer("overhangs", "tee.stl", "--limit", 45, "--layer", 0.2)
        self.assertEqual(
            " ".join(found),
            "overhang_area_mm2 contact_area_mm2 islands low_points layer_steps necks layer_count largest_layer"
            " regions bridges cups",
        )
        self.assertAlmostEqual(found["overhang_area_mm2"], 300)
        self.assertAlmostEqual(found["contact_area_mm2"], 100)
        self.assertEqual((found["islands"], found["layer_count"]), ([], 125))
        self.assertAlmostEqual(found["largest_layer"]["area_mm2"], 400)
        ball = self.answer("overhangs", "sphere.stl", "--limit", 60)
        self.assertAlmostEqual(ball["overhang_area_mm2"] / 84.17872, 1, delta=5e-3)
        islands = self.answer("overhangs", "comb.stl")["islands"]
        self.assertEqual(
            [list(i) for i in islands],
            [
                [
                    "number",
                    "z_mm",
                    "area_mm2",
                    "x_mm",
                    "y_mm",
                    "point",
                    "grown_mm2",
                    "joins_z_mm",
                    "hanging_mm3",
                ]
            ]
            * 2,
        )
        self.assertAlmostEqual(islands[1]["z_mm"], 10)
        # The lowest point of the cube is put at z = 0.
        self.assertAlmostEqual(self.answer("overhangs", "cube.stl")["contact_area_mm2"], 1)

    def test_layers(self):
        found = self.answer("layers", "tee.stl", "--layer", 5)
        self.assertEqual(list(found), ["z_mm", "area_mm2"])
        self.assertEqual(found["z_mm"], [2.5, 7.5, 12.5, 17.5, 22.5])
        for value, expected in zip(found["area_mm2"], [100] * 4 + [400], strict=True):
            self.assertAlmostEqual(value, expected)

    def test_regions_and_bridges(self):
        found = self.answer("overhangs", "portal.stl", "--limit", 45)
        (lintel,), (bridge,) = found["regions"], found["bridges"]
        self.assertEqual((lintel["number"], lintel["kind"]), (1, "ceiling"))
        self.assertAlmostEqual(lintel["area_mm2"], 300, places=3)
        self.assertAlmostEqual(lintel["gap_mm"], 20, places=3)
        self.assertAlmostEqual(bridge["span_mm"], 20, places=3)
        self.assertFalse(bridge["carries"])
        longer = self.answer("overhangs", "portal.stl", "--limit", 45, "--bridge", 25)
        self.assertTrue(longer["bridges"][0]["carries"])

    def test_stances(self):
        found = self.answer("stances", "tee.stl", "--limit", 45)["stances"]
        self.assertEqual(
            list(found[0]), ["letter", "down", "overhang_area_mm2", "contact_area_mm2", "height_mm"]
        )
        self.assertEqual(found[0]["letter"], "A")
        self.assertAlmostEqual(found[0]["contact_area_mm2"], 400)
        areas = [f["overhang_area_mm2"] for f in found]
        self.assertTrue(all(a <= b + 2.1 for a, b in itertools.pairwise(areas)), "best first")

    def test_stances_by_goals(self):
        words = (
            "stances",
            "tee.stl",
            "--printer",
            "Sedge 300",
            "--goal",
            "less-support=3",
            "--goal",
            "clean=1",
        )
        found = self.answer(*words, "--out", "turned.stl")["stances"]
        self.assertEqual(
            list(found[0]),
            [
                "letter", "name", "down", "rotation", "overhang_area_mm2", "support_volume_mm3",
                "contact_area_mm2", "height_mm", "layer_count", "largest_layer", "shadow_area_mm2",
                "tip_angle_deg", "cusp_mm", "islands", "cups", "fits", "score", "holding_mm3",
                "clear_overhang_mm2",
            ],
        )  # fmt: skip
        self.assertEqual([f["letter"] for f in found], list("ABCDEF")[: len(found)])
        self.assertEqual((found[0]["support_volume_mm3"], found[0]["fits"]), (0, True))
        scores = [f["score"] for f in found]
        self.assertEqual(scores, sorted(scores, reverse=True))
        # The part in its first stance is written: on the plate, and nothing of it hangs.
        again = self.answer("overhangs", "turned.stl", "--limit", 54)
        self.assertEqual((again["overhang_area_mm2"], again["islands"]), (0, []))
        self.assertAlmostEqual(again["contact_area_mm2"], found[0]["contact_area_mm2"], places=3)
        everything = self.answer(*words, "--exact")["stances"]
        self.assertGreaterEqual(len(everything), len(found))
        self.assertTrue(all(f["layer_count"] > 0 for f in everything))

    def test_masks(self):
        from PIL import Image

        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "comb.zip"
            words = ("masks", "comb.stl", "--layer", 0.5, "--out", out)
            told = self.answer(*words, "--printer", "Tarn 9", "--supports")
            self.assertEqual((told["width_px"], told["height_px"], told["pixel_mm"]), (4000, 2500, 0.046))
            areas = []
            with zipfile.ZipFile(out) as archive:
                for name in archive.namelist():
                    if name.endswith(".png"):
                        picture = Image.open(io.BytesIO(archive.read(name)))
                        areas.append(float(np.asarray(picture, float).sum()) / 255 * 0.046**2)
            self.assertEqual(told["layers"], len(areas))
            np.testing.assert_allclose(told["area_mm2"], areas, rtol=1e-9)
            self.assertAlmostEqual(told["volume_ml"], sum(areas) * 0.5 / 1000)
            self.assertLess(self.answer(*words)["volume_ml"], told["volume_ml"])
            # A table, outlines moved inwards, what it stands on, and the same layers as slices.
            table, slices = Path(folder) / "t.csv", Path(folder) / "comb.3mf"
            lines = (
                "stretch,layers,exposure_s,lift_mm,lift_mm_s,return_mm_s",
                "first,3,20,5,1,1",
                "body,,2,5,1,1",
            )
            table.write_text("\n".join(lines))
            less = self.answer(
                *words,
                "--supports",
                "--base",
                "raft",
                "--table",
                table,
                "--outline",
                -0.1,
                "--slices",
                slices,
            )
            count = less["layers"]
            self.assertGreater(count, told["layers"])
            self.assertAlmostEqual(less["seconds_rough"], 3 * 20 + (count - 3) * 2 + count * 10)
            _, _, ((_, _, sizes),) = sliced(slices.read_bytes())
            np.testing.assert_allclose(sizes, less["area_mm2"], atol=0.05)
            self.assertGreater(sizes[0], 2 * told["area_mm2"][0])
            for wrong in (("--base", "brim"), ("--table", Path(folder) / "none.csv"), ("--table", out)):
                self.assertTrue(self.call(*words, *wrong, status=2)[1])

    def test_stances_for_resin(self):
        words = ("stances", "cup.stl", "--printer", "Tarn 9", "--layer", 0.2, "--goal", "firm=5")
        found = self.answer(*words)["stances"]
        self.assertEqual(max(f["cups"] for f in found), 1)

    def test_supports(self):
        words = ("supports", "comb.stl", "--printer", "Sedge 300", "--layer", 0.2, "--limit", 45)
        found = self.answer(*words, "--out", "comb.3mf")
        self.assertEqual(
            " ".join(found),
            "count volume_mm3 mass_g held_area_mm2 unheld_islands contact_area_mm2 patches unheld faults"
            " trapped max_branch_deg min_clearance_mm seconds_rough",
        )
        self.assertGreaterEqual(found["count"], 3)
        self.assertEqual(found["unheld_islands"], 0)
        self.assertEqual([list(p) for p in found["patches"]], [["id", "reason", "style", "held"]] * 3)
        self.assertEqual((found["unheld"], found["faults"]), ([], []))
        _, objects = read((self.folder / "comb.3mf").read_bytes())
        self.assertEqual([o.GetName() for o in objects], ["part comb", "support of comb"])
        self.assertAlmostEqual(volume(objects[1]) / found["volume_mm3"], 1, delta=1e-4)
        tree = self.answer(*words, "--style", "tree", "--from", "plate")
        self.assertEqual({p["style"] for p in tree["patches"]}, {"tree"})
        self.assertTrue(0 < tree["max_branch_deg"] <= 40.1)
        self.assertGreater(tree["min_clearance_mm"], 0.3)
        self.assertLess(tree["volume_mm3"], found["volume_mm3"])
        (self.folder / "clear.json").write_text(
            json.dumps({"facets": list(range(len(comb().to_mesh().tri_verts)))})
        )
        clear = self.answer(*words, "--keep-clear", str(self.folder / "clear.json"))
        self.assertEqual(clear["volume_mm3"], 0)
        resin = self.answer("supports", "comb.stl", "--printer", "tarn 9", "--layer", 0.1)
        self.assertEqual(resin["unheld_islands"], 0)
        self.assertEqual((len(resin["tips"]), resin["unheld"], resin["faults"]), (resin["count"], [], []))
        # Stilts that stand on others name them; from the plate only none stands on the part.
        names = {one["id"] for one in resin["tips"]}
        self.assertLessEqual({one["stands_on"] for one in resin["tips"]} - {""}, names)
        shelf = box(20, 20, 3, (0, 0, 20)) + box(4, 20, 23, (-4, 0, 0)) + box(24, 20, 3, (-4, 0, 0))
        (self.folder / "shelf.stl").write_bytes(stl(shelf))
        told = [
            self.answer("supports", "shelf.stl", "--printer", "tarn 9", "--layer", 0.1, "--from", origin)
            for origin in ("any", "plate")
        ]
        landed = [sum(one["on_part"] for one in each["tips"]) for each in told]
        self.assertGreater(landed[0], 0)
        self.assertEqual(landed[1], 0)
        self.assertLessEqual(
            {"patches", "trapped", "braces", "base_mm3", "weakest", "contact_area_mm2"}, set(resin)
        )
        self.assertTrue(all(0 <= tip["load_n"] <= tip["bears_n"] for tip in resin["tips"]))
        self.assertEqual(resin["base_mm3"], 0.0)
        base = [
            self.answer("supports", "comb.stl", "--printer", "tarn 9", "--layer", 0.1, "--base", kind)[
                "base_mm3"
            ]
            for kind in ("raft", "pads", "ties", "none")
        ]
        self.assertTrue(base[0] > max(base[1:3]) and min(base[1:3]) > 0 and base[3] == 0, base)
        # What leaves has it too, from the plate up, and the stilts on it.
        written = self.folder / "based.3mf"
        self.answer(
            "supports",
            "comb.stl",
            "--printer",
            "tarn 9",
            "--layer",
            0.1,
            "--base",
            "pads",
            "--out",
            str(written),
        )
        _, objects = read(written.read_bytes())
        low = {one.GetName().split()[0]: min(v.Coordinates[2] for v in one.GetVertices()) for one in objects}
        self.assertAlmostEqual(low["footing"], 0.0, places=4)
        self.assertAlmostEqual(low["support"], 1.0, places=4)
        weakest = [one["bears_n"] / one["load_n"] for one in resin["weakest"]]
        self.assertEqual(weakest, sorted(weakest))
        self.assertGreater(resin["min_clearance_mm"], 0.2)

    def test_supports_in_holes(self):
        # A counterbore that opens downwards, a hollow that is closed, and a crevice of 0.4 mm.
        bored = box(30, 30, 20) - Manifold.cylinder(8, 6, 6, 48).translate((15, 15, 0))
        bored -= Manifold.cylinder(30, 2.5, 2.5, 48).translate((15, 15, -1))
        hollow = box(30, 30, 20) - box(20, 20, 8, (5, 5, 6))
        slabs = [box(30, 30, 10), box(30, 30, 4, (0, 0, 10.4)), box(3, 30, 0.4, (0, 0, 10))]
        crevice = slabs[0] + slabs[1] + slabs[2]
        told = {}
        for name, body in (("bored", bored), ("hollow", hollow), ("crevice", crevice)):
            (self.folder / f"{name}.stl").write_bytes(stl(body))
            told[name] = self.answer(
                "supports", f"{name}.stl", "--printer", "Sedge 300", "--layer", 0.2, "--limit", 45,
                "--style", "tree",
            )  # fmt: skip
        self.assertEqual((told["bored"]["unheld"], told["bored"]["trapped"]), ([], []))
        self.assertGreater(told["bored"]["count"], 0)
        self.assertEqual(told["hollow"]["unheld"], [])
        self.assertEqual(len(told["hollow"]["trapped"]), told["hollow"]["count"])
        self.assertEqual((told["crevice"]["count"], told["crevice"]["min_clearance_mm"]), (0, None))
        (fault,) = told["crevice"]["faults"]
        self.assertEqual(fault["kind"], "not held")
        self.assertIn("0.4 mm below it, too near for a layer of support", fault["words"])

    def test_split(self):
        found = self.answer("split", "comb.stl", "--box", "30,20,25", "--out", str(self.folder / "pieces"))[
            "pieces"
        ]
        self.assertEqual(list(found[0])[:4], ["number", "size_mm", "volume_mm3", "cell"])
        self.assertEqual([p["cell"] for p in found], [[0, 0, 0], [1, 0, 0]])
        self.assertAlmostEqual(sum(p["volume_mm3"] for p in found), 60 * 20 * 5 + 25 * 45)
        self.assertEqual(len(list((self.folder / "pieces").glob("*.stl"))), 2)

    def test_handoff(self):
        found = self.answer("handoff", "tee.stl", "--printer", "Sedge 300", "--out", "tee.3mf")
        self.assertEqual(found["objects"], ["part", "support"])
        self.assertEqual(len(read((self.folder / "tee.3mf").read_bytes())[1]), 2)

    def test_for_people(self):
        out, _ = self.call("inspect", "cube.stl")
        self.assertIn("volume mm3: 1", out)
        self.assertIn("letter A", self.call("stances", "tee.stl")[0])


class RefusalTest(CliCase):
    def test_bad_input_ends_with_status_2_and_words_on_standard_error(self):
        (self.folder / "letter.stl").write_bytes(b"Dear reader. " * 50)
        (self.folder / "empty.stl").write_bytes(b"")
        (self.folder / "short.stl").write_bytes(stl(tee())[:-99])
        for words in (
            ("inspect", "letter.stl"),
            ("inspect", "empty.stl"),
            ("layers", "short.stl"),
            ("inspect", "missing.stl"),
            ("supports", "tee.stl", "--printer", "Heath 1"),
            ("overhangs", "tee.stl", "--layer", "0"),
            ("overhangs", "tee.stl", "--limit", "120"),
            ("split", "tee.stl", "--box", "ten"),
            ("supports", "comb.stl", "--printer", "Tarn 9", "--base", "moat"),
            ("supports", "comb.stl", "--base", "raft"),
            ("split", "tee.stl", "--box", "0,1,1"),
            ("stances",),
            ("stances", "tee.stl", "--goal", "shiny=3"),
            ("stances", "tee.stl", "--goal", "firm=9"),
            ("stances", "tee.stl", "--printer", "Tarn 9", "--material", "PLA"),
            ("masks", "tee.stl", "--printer", "Sedge 300", "--out", "x.zip"),
        ):
            with self.subTest(words):
                out, err = self.call(*words, *(["--json"] if len(words) > 1 else []), status=2)
                self.assertEqual(out, "")
                self.assertTrue(err)

"""Paths on the page: figures, blocks, variants, G-code, and what is refused."""

import json
import re
import struct
import time
import unittest

import numpy as np

from tests.support import box, mesh_of, stl
from tests.web.test_app import AppCase, Page, flat
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.toolpaths.beads import Kind
from upright_heron.core.toolpaths.gcode_check import read


class PathsTest(AppCase):
    def job(self, data, name="part.stl"):
        """A job without the skirt that it begins with."""
        job_id = super().job(data, name)
        self.change(job_id, "footing", footing="none")
        return job_id

    def paths(self, job_id, open=8):
        """Section 8 once its paths are there."""
        until = time.monotonic() + 90
        while self.client.get(f"/api/jobs/{job_id}/task?open={open}").json()["task"] is not None:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.05)
        return self.section(job_id, open)

    def refuses(self, job_id, what, *words):
        answer = self.client.get(f"/jobs/{job_id}/{what}")
        self.assertEqual(answer.status_code, 422)
        for one in words:
            self.assertIn(one, answer.text)

    def test_time_by_kind_and_mass(self):
        job_id = self.job(stl(box(20, 15, 6)))
        self.settle(job_id)
        # Nobody opened the section: it is told roughly.
        self.assertIn("rough", self.client.get(f"/jobs/{job_id}/sheet?open=1").text)
        page = self.paths(job_id)
        times = page.text("times")
        for kind in (Kind.OUTER, Kind.WALL, Kind.TOP, Kind.BOTTOM, Kind.INFILL):
            self.assertIn(kind.words, times)
        self.assertEqual(page.text("layer-count"), "30")
        self.assertNotIn("rough-time", page.ids)
        before = page.text("true-mass")
        self.change(job_id, "process", open=8, infill_percent="50", walls="4")
        after = self.paths(job_id)
        grams = [float(re.match(r"[\d.]+", words)[0]) for words in (before, after.text("true-mass"))]
        self.assertGreater(grams[1], 1.2 * grams[0])

    def test_what_infill_comes_to_is_what_leaves(self):
        job_id = self.job(stl(box(30, 24, 6)))
        page = self.paths(job_id)
        walls = flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"])["process"]["walls"]
        lines = self.client.get(f"/jobs/{job_id}/print.gcode").text.splitlines()
        kind, pushed, layers = "", 0.0, set()
        for line in lines:
            if line.startswith("; layer "):
                layer = line
            elif line.startswith("; "):
                kind = line[2:]
            elif kind == "infill" and line.startswith("G1 X"):
                pushed += float(re.search(r" E([\d.]+)", line)[1])
                layers.add(layer)
        # A filament of 1.75 mm; inside of the walls all but the top and bottom layers.
        inside = len(layers) * 0.2 * (30 - 0.88 * walls) * (24 - 0.88 * walls)
        percent = 100 * pushed * np.pi * 1.75**2 / 4 / inside
        self.assertGreater(percent, 16)
        told = re.fullmatch(
            r"Infill takes up (\d+) % of the inside: its lines 15 %, the rest joins their ends along the walls\.",
            page.text("infill-told"),
        )
        self.assertAlmostEqual(float(told[1]), percent, delta=0.52)
        # The gyroid is not joined, and as dense as asked.
        self.change(job_id, "process", open=8, pattern="gyroid")
        told = re.fullmatch(
            r"Infill takes up (\d+) % of the inside\.", self.paths(job_id).text("infill-told")
        )
        self.assertAlmostEqual(float(told[1]), 15, delta=1)
        self.change(job_id, "process", open=8, infill_percent="0")
        self.assertNotIn("infill-told", self.paths(job_id).ids)

    def test_the_block_has_all_places_in_six_bytes(self):
        job_id = self.job(stl(box(20, 15, 2)))
        page = self.paths(job_id)
        key = re.search(r'"toolpaths": "(\w+)"', page.text("state"))[1]
        data = self.client.get(f"/api/blocks/paths/{key}").content
        word, layers, count, x, y, step, wide, high = struct.unpack_from("<4sIIfffff", data)
        self.assertEqual((word, layers), (b"UHB3", 10))
        self.assertAlmostEqual(high, 0.2, places=6)
        self.assertEqual(len(data), 32 + 4 * layers + 4 * (layers + 1) + 6 * count)
        tops = np.frombuffer(data, "<f4", layers, 32)
        np.testing.assert_allclose(tops, 0.2 * np.arange(1, 11), atol=1e-6)
        start = np.frombuffer(data, "<u4", layers + 1, 32 + 4 * layers)
        self.assertEqual((start[0], start[-1]), (0, count))
        places = np.frombuffer(data, "<u2", 2 * count, 32 + 8 * layers + 4).reshape(-1, 2) * step + (x, y)
        # The middle of the outer wall lies half a line inside; the part stands in the middle.
        np.testing.assert_allclose(places.max(axis=0), [10 - 0.22, 7.5 - 0.22], atol=0.01)
        beads = np.frombuffer(data, np.uint8, 2 * count, 32 + 8 * layers + 4 + 4 * count).reshape(-1, 2)
        self.assertTrue((beads[start[:-1], 1] >= 128).all())
        self.assertLessEqual(set((beads[:, 1] & 15).tolist()), {int(kind) for kind in Kind})
        outer = beads[(beads[:, 1] & 15) == int(Kind.OUTER), 0]
        np.testing.assert_allclose(outer * wide, 0.44, atol=1e-6)
        self.assertEqual(set((beads[:, 1] >> 4 & 7).tolist()), {0})

    def test_the_first_layers_are_told_of_before_the_rest(self):
        job_id = self.job(stl(box(20, 15, 20)))
        self.settle(job_id)
        blocks = {}
        until = time.monotonic() + 90
        while "toolpaths" not in blocks:
            self.assertLess(time.monotonic(), until)
            self.client.get(f"/api/jobs/{job_id}/task?open=8")
            state = json.loads(self.section(job_id, 8).text("state"))
            # Once all is there, that is what there is.
            self.assertTrue(state["firstPaths"] is None or state["toolpaths"] is None)
            for name in ("firstPaths", "toolpaths"):
                if state[name] is not None and name not in blocks:
                    blocks[name] = self.client.get(f"/api/blocks/paths/{state[name]}").content
                    key = state[name]
        first = blocks.get("firstPaths") or self.client.get(f"/api/blocks/paths/{key}-early").content
        heads = [struct.unpack_from("<4sIIfffff", data) for data in (first, blocks["toolpaths"])]
        self.assertEqual([head[1] for head in heads], [40, 100])
        self.assertEqual(heads[0][3:], heads[1][3:])
        starts, places = zip(
            *(
                (
                    np.frombuffer(data, "<u4", layers + 1, 32 + 4 * layers),
                    np.frombuffer(data, "<u2", 2 * count, 32 + 8 * layers + 4),
                )
                for data, (_, layers, count, *_) in zip((first, blocks["toolpaths"]), heads, strict=True)
            ),
            strict=True,
        )
        np.testing.assert_array_equal(starts[0], starts[1][:41])
        np.testing.assert_array_equal(places[0], places[1][: len(places[0])])

    def test_variants_fill_and_one_is_taken(self):
        job_id = self.job(stl(box(12, 10, 4)))
        self.paths(job_id)
        until = time.monotonic() + 90
        while "worked out" in (text := self.client.get(f"/jobs/{job_id}/what-if").text):
            self.assertLess(time.monotonic(), until)
            time.sleep(0.2)
        rows = re.findall(r'data-what="([^"]+)"', text)
        self.assertGreaterEqual(len(rows), 9)
        self.assertEqual(rows[0], "now")
        self.assertNotIn("…", text)
        self.assertIn("on Reed 190", rows)
        self.assertIn("Nothing here saves much", text)
        # A slower machine takes more, and is told so.
        slow = re.search(r'data-what="on Reed 190".*?</tr>', text, re.DOTALL)[0]
        self.assertIn('<span class="quiet">+', re.search(r"<td>.*?</td>", slow, re.DOTALL)[0])
        # Its button does what it says.
        form = re.search(r'data-what="4 walls".*?</form>', text, re.DOTALL)[0]
        self.assertIn('name="walls" value="4"', form)
        self.change(job_id, "process", open=8, walls="4")
        self.assertEqual(flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"])["process"]["walls"], 4)

    def test_a_price_is_kept_with_the_job_and_told_on_the_traveller(self):
        job_id = self.job(stl(box(20, 15, 3)))
        self.assertNotIn("price", self.paths(job_id).ids)
        self.change(job_id, "price", open=8, per_gram="2", least="1", round_to="0.5")
        page = self.paths(job_id)
        grams = float(page.text("true-mass").split()[0])
        price = float(page.text("price"))
        self.assertEqual(price % 0.5, 0)
        self.assertTrue(0 <= price - 2 * grams < 0.61, (price, grams))
        self.assertEqual(
            Page(self.client.get(f"/jobs/{job_id}/traveller").text).text("price"), f"{price:.2f}"
        )
        self.change(job_id, "price", open=8, setup="4")
        self.assertGreaterEqual(float(self.paths(job_id).text("price")), price + 3.5)

    def test_gcode_of_a_plate(self):
        job_id = self.job(stl(box(20, 15, 3)))
        answer = self.client.get(f"/jobs/{job_id}/print.gcode")
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        self.assertIn(".gcode", answer.headers["content-disposition"])
        back = read(answer.text.splitlines())
        self.assertEqual((back.machine, back.layers), ("Sedge 300", 15))
        np.testing.assert_allclose(back.low_mm[:2], [150 - 10 + 0.22, 150 - 7.5 + 0.22], atol=0.01)
        # Moved on the plate it is moved in the file.
        self.change(job_id, "place", open=9, x_mm="-100", y_mm="40", swing_deg="90")
        back = read(self.client.get(f"/jobs/{job_id}/print.gcode").text.splitlines())
        np.testing.assert_allclose(back.low_mm[:2], [50 - 7.5 + 0.22, 190 - 10 + 0.22], atol=0.01)

    def test_what_would_go_wrong_is_refused_and_nothing_is_lost(self):
        job_id = self.job(stl(box(20, 15, 3)))
        before = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]
        answer = self.client.post(
            f"/jobs/{job_id}/changes/process?open=8", data={"start_text": "G28\nM109 S{heat}"},
            headers={"HX-Request": "true"},
        )  # fmt: skip
        self.assertIn("line 2, column 7", answer.text)
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["sheet"], before)
        self.change(job_id, "process", open=8, nozzle_c="300")
        self.refuses(job_id, "print.gcode", "300 °C", "190 to 225")
        # The usual one again.
        self.change(job_id, "process", open=8, nozzle_c="usual")
        self.assertEqual(self.client.get(f"/jobs/{job_id}/print.gcode").status_code, 200)
        self.change(job_id, "place", open=9, x_mm="145", y_mm="0", swing_deg="0")
        self.refuses(job_id, "print.gcode", "past the volume in x")
        mesh = mesh_of(box(20, 15, 3))
        open_part = self.job(write_stl(type(mesh)(mesh.vertices, mesh.faces[:-1])))
        self.refuses(open_part, "print.gcode", "not closed")

    def test_texts_and_seams_are_kept_and_usual_ones_are_none(self):
        job_id = self.job(stl(box(20, 15, 3)))
        page = Page(self.client.get(f"/jobs/{job_id}/sheet?open=8").text)
        usual = page.ids["start-text"]["text"]
        self.assertIn("M109 S{nozzle_c}", usual)
        self.change(
            job_id, "process", open=8, start_text=usual.strip() + "\n", seam="corner", outer_first="true"
        )
        process = flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"])["process"]
        self.assertEqual(
            (process["start_text"], process["seam"], process["outer_first"]), ("", "corner", True)
        )
        self.change(job_id, "process", open=8, start_text="G28\r\nM109 S{nozzle_c}\r\n")
        gcode = self.client.get(f"/jobs/{job_id}/print.gcode").text
        self.assertIn("G28\nM109 S205\nM83", gcode)

    def test_resin_has_none_of_it(self):
        job_id = self.job(stl(box(20, 15, 3)))
        self.change(job_id, "printer", printer="Tarn 9")
        self.assertNotIn("show-paths", self.section(job_id, 8).ids)
        self.refuses(job_id, "print.gcode", "reads no G-code")
        self.refuses(job_id, "what-if", "lays no filament")


if __name__ == "__main__":
    unittest.main()

"""Settings of paths on the page, heights of their own, advice on footing, and the board of variants."""

import json
import re
import struct
import time
import unittest
from html import unescape

import numpy as np

from tests.support import box, mesh_of, obj, stl
from tests.web.test_app import AppCase
from upright_heron.core.geometry.solid import concatenated
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.toolpaths.beads import Kind
from upright_heron.core.toolpaths.gcode_check import read
from upright_heron.core.toolpaths.learned import Factor, factor
from upright_heron.sheet.shop import Finished


class SettingsCase(AppCase):
    def paths(self, job_id, open=8):
        """A section once its paths are there."""
        until = time.monotonic() + 90
        while self.client.get(f"/api/jobs/{job_id}/task?open={open}").json()["task"] is not None:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.05)
        return self.section(job_id, open)

    def sheet(self, job_id):
        return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]

    def item(self, job_id):
        return self.sheet(job_id)["items"][0]

    def gcode(self, job_id):
        answer = self.client.get(f"/jobs/{job_id}/print.gcode")
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        return answer.text


class SettingsTest(SettingsCase):
    def test_a_shop_chooses_what_it_sees(self):
        job_id = self.job(stl(box(20, 15, 3)))

        def shown():
            html = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
            rows = re.findall(
                r'class="setting" [^>]*data-shown="(yes|no)"([^>]*)>\s*<label for="([^"]+)"', html
            )
            for yes, rest, _ in rows:
                self.assertEqual("hidden" in rest, yes == "no")
            return {name: yes == "yes" for yes, _, name in rows}

        def toggle(name):
            path = f"/jobs/{job_id}/shown-setting?name={name}&open=8"
            return self.client.post(path, headers={"HX-Request": "true"})

        before = shown()
        self.assertEqual(sum(before.values()), 12)
        self.assertGreater(len(before), 20)
        self.assertTrue(before["walls"] and not before["smooth"])
        for name in ("smooth", "walls"):
            self.assertEqual(toggle(name).status_code, 200)
            # The shop is shared with the tests that follow.
            self.addCleanup(toggle, name)
        self.assertEqual({name for name, on in shown().items() if on != before[name]}, {"walls", "smooth"})
        # It holds for all jobs, and habits of the shop stay beside it.
        self.client.post("/machines/habits", data={"at_once": "true", "join_minutes": "7"})
        usual = {"at_once": "true", "join_minutes": "4"}
        self.addCleanup(self.client.post, "/machines/habits", data=usual)
        self.assertTrue(shown()["smooth"])
        self.assertEqual(self.client.post(f"/jobs/{job_id}/shown-setting?name=nothing").status_code, 422)

    def test_ranges_presets_and_what_was_measured_are_told(self):
        job_id = self.job(stl(box(20, 15, 3)))
        self.change(job_id, "keep-preset", name="Own")
        self.change(job_id, "process", open=8, walls="5")
        html = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
        self.assertIn("In the preset: 3", html)
        self.assertIn("190 to 225 °C", html)
        self.paths(job_id)
        until = time.monotonic() + 90
        while "worked out" in self.client.get(f"/jobs/{job_id}/what-if").text:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.2)
        html = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
        self.assertRegex(html, r"4 walls: [−+]\d+ min, −0\.\d g")
        self.assertRegex(html, r"6 walls: [−+]\d+ min, \+0\.\d g")

    def test_quality_pace_and_layers_to_a_millimetre(self):
        job_id = self.job(stl(box(20, 15, 3)))
        page = self.section(job_id, 8)
        self.assertIn("fine, 0.1 mm", page.text("quality"))
        self.change(job_id, "layer", open=8, layer_mm="8/mm")
        self.assertEqual(self.sheet(job_id)["layer_mm"], 0.125)
        self.assertIn("0.125 mm, as typed", self.section(job_id, 8).text("quality"))
        self.change(job_id, "process", open=8, speed_percent="140")
        self.assertIn('placeholder="215, as PLA"', self.client.get(f"/jobs/{job_id}/sheet?open=8").text)
        self.assertIn("M109 S215", self.gcode(job_id))

    def test_a_roof_over_nothing_is_told(self):
        job_id = self.job(stl(box(40, 40, 6)))
        self.assertNotIn("sparse-roof", self.paths(job_id).ids)
        self.change(job_id, "process", open=8, infill_percent="0")
        told = self.paths(job_id).text("sparse-roof")
        self.assertIn("at 5.2 mm lies on nothing", told)
        # Preflight tells the same, and leads there.
        listed = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
        self.assertIn("at 5.2 mm lies on nothing", listed[listed.index("Before it goes") :])
        self.assertIn("PLA spans 10 mm", told)


class HeightsTest(SettingsCase):
    def test_a_stretch_and_a_pause_reach_the_file_and_the_traveller(self):
        job_id = self.job(stl(box(20, 15, 6)))
        self.change(job_id, "zone", open=8, low_mm="2", high_mm="3", walls="5", nozzle_c="215")
        self.change(job_id, "pause", open=8, z_mm="4", why="set in the nut")
        page = self.paths(job_id)
        for words in ("2 to 3 mm", "5 walls", "pause at 4 mm", "set in the nut"):
            self.assertIn(words, page.text("heights"))
        self.assertIn("the machine waits", page.text("pauses"))
        text = self.gcode(job_id)
        layers = re.split(r"; layer \d+ of 30", text)
        self.assertIn("M104 S215", layers[11])
        self.assertIn("M104 S205", layers[16])
        self.assertEqual([k for k, layer in enumerate(layers) if "M0 set in the nut" in layer], [21])
        self.assertEqual(read(text.splitlines()).pauses, 1)
        traveller = self.client.get(f"/jobs/{job_id}/traveller").text
        self.assertIn("Pause at 4 mm", traveller)
        # Too hot for the material: refused, and nothing is lost.
        self.change(job_id, "zone", open=8, low_mm="1", high_mm="2", nozzle_c="290")
        answer = self.client.get(f"/jobs/{job_id}/print.gcode")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("290 °C", answer.text)
        self.change(job_id, "drop-by-height", open=8, of="zones", number="1")
        self.gcode(job_id)
        self.assertEqual(len(self.item(job_id)["by_height"]["zones"]), 1)

    def test_strands_go_to_the_second_nozzle_and_are_reckoned_apart(self):
        job_id = self.job(stl(box(60, 40, 4)))
        self.settle(job_id)
        html = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
        self.assertRegex(html, r'data-low="0.8" data-high="1.2">over the bottom')
        self.change(job_id, "strands", open=8, low_mm="1", high_mm="1.4", turns="2")
        page = self.paths(job_id)
        self.assertIn("strands", page.text("times"))
        self.assertIn("Glass strand", page.text("timed"))
        self.assertEqual(page.text("changes"), "2")
        text = self.gcode(job_id)
        back = read(text.splitlines())
        self.assertEqual((back.changes, back.second_c), (2, [255.0]))
        self.assertGreater(back.second_mm, 0)
        # A part that is too small for any is told so.
        small = self.job(stl(box(9, 9, 4)))
        self.change(small, "strands", open=8, low_mm="1", high_mm="1.4", turns="2")
        self.paths(small)
        self.assertIn("too small for a strand", self.client.get(f"/jobs/{small}/sheet?open=8").text)
        listed = self.client.get(f"/jobs/{small}/sheet?open=9").text
        self.assertIn("too small for a strand", listed[listed.index("Before it goes") :])

    def test_a_body_goes_to_the_second_nozzle_in_a_material_of_its_own(self):
        # An inlay with a little room all round.
        slab = box(20, 20, 4) - box(10.04, 10.04, 3, (4.98, 4.98, 1.98))
        job_id = self.job(stl(slab + box(10, 10, 2, (5, 5, 2))))
        self.settle(job_id)
        self.assertIn("pick-body", self.paths(job_id).ids)
        self.change(job_id, "process", open=8, second_material="ABS")
        self.change(job_id, "second-bodies", open=8, at_mm="[[10, 10, 4]]")
        page = self.paths(job_id)
        self.assertEqual(page.text("bodies-picked"), "1 picked")
        self.assertIn("of it ABS, second nozzle", page.text("timed"))
        back = read(self.gcode(job_id).splitlines())
        self.assertGreater(back.second_mm, 0)
        self.assertGreater(back.changes, 5)
        # Outer walls: those of the inlay by the second nozzle, the rest by the first.
        self.assertEqual(self.wide(job_id), [(19.56, 19.56), (9.56, 9.56)])
        self.change(job_id, "second-bodies", open=8)
        page = self.paths(job_id)
        self.assertNotIn("bodies-picked", page.ids)
        self.assertNotIn("ABS", page.text("timed"))
        # Nothing to pick from in a part of one body, nor for one nozzle.
        single = self.job(stl(box(9, 9, 4)))
        self.assertNotIn("pick-body", self.section(single, 8).ids)
        refused = self.change(single, "second-bodies", status=422, open=8, at_mm="[[1, 1, 1]]")
        self.assertIn("one body", refused.text)
        self.change(job_id, "second-bodies", open=8, at_mm="[[10, 10, 4]]")
        self.change(job_id, "printer", open=8, printer="Reed 190")
        self.assertIn("prints all bodies", self.client.get(f"/jobs/{job_id}/sheet?open=8").text)

    def wide(self, job_id):
        """Sizes in x and y of what both nozzles lay of outer walls."""
        tool, kind, seen = 0, "", {0: [], 1: []}
        kinds = {one.words for one in Kind}
        for line in self.gcode(job_id).splitlines():
            if line in ("T0", "T1"):
                tool = int(line[1])
            elif line[2:] in kinds:
                kind = line[2:]
            elif kind == "outer wall" and (found := re.match(r"G1 X([\d.]+) Y([\d.]+) E", line)):
                seen[tool].append((float(found[1]), float(found[2])))
        return [tuple(np.ptp(np.array(seen[k]), axis=0).round(2).tolist()) for k in (0, 1) if seen[k]]

    def named(self, job_id):
        """Buttons of bodies of the file, by name: what they send, and their words."""
        page = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
        line = page[page.index('id="bodies-by-name"') :]
        buttons = line[: line.index("</p>")].split("hx-vals='")[1:]
        return {re.search(r"'>(\w+)", one)[1]: one for one in buttons}

    def test_bodies_that_touch_stay_apart_where_the_file_tells_them_apart(self):
        # A plate 24 x 20 x 6 mm with an inlay 10 x 6 x 4 mm, without any room between.
        inlay = box(10, 6, 4, (4, 10, 2))
        job_id = self.job(obj(plate=box(24, 20, 6) - inlay, inlay=inlay), "sign.obj")
        self.settle(job_id)
        self.assertIn("in the file 2: plate, inlay", self.section(job_id, 1).text("part-bodies"))
        self.assertIn("pick-body", self.paths(job_id).ids)
        # Picked by its name, and taken back; or pointed at.
        for picked in (True, False):
            button = self.named(job_id)["inlay"]
            self.assertEqual("inlay ✓" in button, not picked)
            self.change(job_id, "second-bodies", open=8, **json.loads(unescape(button[: button.index("'>")])))
            self.assertEqual(len(self.item(job_id)["second_bodies"]), int(picked))
        self.change(job_id, "second-bodies", open=8, at_mm="[[9, 13, 6]]")
        # In the surface they touch: it is mended into one, and they still go to a nozzle each.
        refused = self.client.get(f"/jobs/{job_id}/print.gcode")
        self.assertIn("Mend it in section 1", refused.text)
        self.assertEqual(self.client.post(f"/api/jobs/{job_id}/mend").status_code, 200)
        self.assertEqual(self.item(job_id)["part"]["shells"], 1)
        self.paths(job_id)
        self.assertEqual(self.wide(job_id), [(23.56, 19.56), (9.56, 5.56)])
        self.assertNotIn("one body by now", self.client.get(f"/jobs/{job_id}/sheet?open=8").text)
        # By name it is another place on the same body; sized, mirrored and turned they come along.
        self.change(job_id, "second-bodies", open=8, at_mm="[]")
        button = self.named(job_id)["inlay"]
        self.change(job_id, "second-bodies", open=8, **json.loads(unescape(button[: button.index("'>")])))
        sized = {"scale": [2, 2, 1], "mirror": [True, False, False]}
        self.assertEqual(self.client.post(f"/api/jobs/{job_id}/size", json=sized).status_code, 200)
        self.change(job_id, "turn", z_deg="90")
        self.paths(job_id)
        self.assertEqual(self.wide(job_id), [(39.56, 47.56), (11.56, 19.56)])
        self.assertIn("inlay ✓", self.named(job_id)["inlay"])
        self.assertNotIn("✓", self.named(job_id)["plate"])

    def test_pieces_of_a_cut_keep_their_bodies(self):
        # An inlay from end to end of a beam that is cut in two: a bar in each piece.
        bar = box(500, 6, 4, (0, 10, 6))
        job_id = self.job(obj(beam=box(500, 30, 10) - bar, bar=bar), "beam.obj")
        self.change(job_id, "second-bodies", open=8, at_mm="[[100, 13, 10]]")
        self.assertEqual(self.client.post(f"/api/jobs/{job_id}/mend").status_code, 200)
        self.change(job_id, "cut", margin_mm="3")
        self.settle(job_id)
        self.client.post(f"/jobs/{job_id}/pieces/items", headers={"HX-Request": "true"})
        whole, *pieces = self.sheet(job_id)["items"]
        self.assertEqual(len(pieces), 2)
        beads = []
        for one in pieces:
            self.client.headers["Heron-Item"] = one["id"]
            self.paths(job_id)
            beads.append(self.section(job_id, 8).text("timed"))
        # A piece is a bit of these bodies only: it does not come apart into them.
        self.assertNotIn("separate-items", self.section(job_id, 1).ids)
        refused = self.client.post(f"/jobs/{job_id}/items/separate", headers={"HX-Request": "true"})
        self.assertIn("The part has 1 body", refused.text)
        self.client.headers.pop("Heron-Item")
        self.assertIn("separate-items", self.section(job_id, 1).ids)
        self.assertEqual([one["second_bodies"] for one in pieces], [whole["second_bodies"]] * 2)
        for told in beads:
            self.assertIn("Changes of nozzle20", told)
            # Half of the beam each.
            self.assertIn("Largest layer75.0 cm²", told)

    def test_separate_items_are_the_bodies_of_the_file(self):
        inlay = box(10, 6, 4, (4, 10, 2))
        job_id = self.job(obj(plate=box(24, 20, 6) - inlay, inlay=inlay), "sign.obj")
        self.settle(job_id)
        known = self.item(job_id)["part"]["bodies"]
        self.assertEqual((known["names"], len(known["ends"])), (["plate", "inlay"], 2))
        form = self.client.post(f"/jobs/{job_id}/items/separate", headers={"HX-Request": "true"})
        self.assertEqual(form.status_code, 200)
        items = self.sheet(job_id)["items"]
        np.testing.assert_allclose(
            sorted(i["part"]["volume_mm3"] for i in items), [240, 24 * 20 * 6 - 240], rtol=1e-5
        )
        self.assertEqual([i["part"]["bodies"] for i in items], [None, None])

    def test_what_was_mended_into_one_body_goes_to_the_first_nozzle(self):
        bodies = [mesh_of(box(20, 20, 4)), mesh_of(box(8, 8, 5, (6, 6, 2)))]
        job_id = self.job(write_stl(concatenated(bodies)))
        self.change(job_id, "second-bodies", open=8, at_mm="[[10, 10, 7]]")
        self.settle(job_id)
        self.assertEqual(self.client.post(f"/api/jobs/{job_id}/mend").status_code, 200)
        self.paths(job_id)
        html = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
        self.assertIn("one body by now: the first nozzle prints all of it", html)
        back = read(self.gcode(job_id).splitlines())
        self.assertEqual((back.changes, back.second_mm), (0, 0))

    def test_a_pause_keeps_its_cavity_free_of_supports(self):
        # A roof over a bay, closed all round but for the front.
        body = box(30, 30, 12) - box(20, 25, 6, (5, -1, 3))
        job_id = self.job(stl(body))
        self.change(job_id, "supports")
        self.settle(job_id)
        html = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
        roof, z = re.search(r'<option value="([^"]+)" data-z="([\d.]+)"', html).groups()
        self.assertAlmostEqual(float(z), 9, delta=0.3)
        self.change(job_id, "pause", open=8, z_mm=z, why="set in the plate", roof=roof)
        self.assertIn(roof, self.item(job_id)["accepted"])
        self.settle(job_id)
        page = self.section(job_id, 6)
        self.assertNotRegex(page.text("section-6"), r"[1-9]\d* supports? ·")

    def test_a_seam_is_picked_on_the_part(self):
        job_id = self.job(stl(box(20, 15, 3)))
        self.change(job_id, "footing", footing="none")
        self.change(job_id, "seam-line", open=8, at_mm="[[20, 0, 0]]")
        self.assertEqual(self.sheet(job_id)["process"]["seam"], "picked")
        text = self.gcode(job_id)
        for layer in re.split(r"; layer \d+ of 15", text)[2:]:
            x, y = map(float, re.search(r"X([\d.]+) Y([\d.]+)[^XY]*; outer wall", layer).groups())
            np.testing.assert_allclose((x, y), (150 + 10 - 0.22, 150 - 7.5 + 0.22), atol=0.01)


class FootingTest(SettingsCase):
    def test_filament_begins_with_a_skirt_and_advice_is_taken_in_one_press(self):
        job_id = self.job(stl(box(6, 6, 40)))
        self.assertEqual(self.item(job_id)["footing"]["kind"], "skirt")
        page = self.paths(job_id, 7)
        told = page.text("footing-advice")
        self.assertIn("A brim is advised", told)
        self.assertIn("36 mm²", told)
        self.change(job_id, "footing", open=7, footing="brim")
        told = self.paths(job_id, 7).text("footing-advice")
        self.assertIn("A brim will do", told)
        flat = self.job(stl(box(60, 60, 5)))
        self.assertIn("A skirt will do", self.paths(flat, 7).text("footing-advice"))

    def test_a_habit_is_kept_by_machine(self):
        job_id = self.job(stl(box(20, 15, 3)))
        self.client.post("/machines/printers/copy", data={"name": "Reed 190"})
        self.client.post(
            "/machines/printers/edit",
            data={"old": "Reed 190 copy", "habit": "brim", **{f"build_{a}": "190" for a in "xyz"}},
        )
        self.change(job_id, "printer", printer="Reed 190 copy")
        self.assertEqual(self.item(job_id)["footing"]["kind"], "brim")

    def test_a_brim_on_the_show_side_is_told(self):
        job_id = self.job(stl(box(20, 15, 30)))
        self.change(job_id, "footing", open=7, footing="brim")
        self.assertNotIn("brim-edge", self.section(job_id, 7).ids)
        self.change(job_id, "show", normal="[1, 0, 0]")
        self.assertIn("edge along the foot", self.section(job_id, 7).text("brim-edge"))
        self.change(job_id, "footing", open=7, footing="brim", brim_gap_mm="0.1")
        self.assertNotIn("brim-edge", self.section(job_id, 7).ids)
        self.change(job_id, "show", normal="[0, 0, 1]")
        self.change(job_id, "footing", open=7, footing="brim", brim_gap_mm="0")
        self.assertNotIn("brim-edge", self.section(job_id, 7).ids)

    def test_all_of_it_as_paths(self):
        job_id = self.job(stl(box(30, 20, 4)))
        for footing, words in (
            ("skirt", "; skirt"),
            ("brim", "; brim"),
            ("corners", "; brim"),
            ("raft", "; raft"),
        ):
            self.change(job_id, "footing", open=7, footing=footing)
            text = self.gcode(job_id)
            self.assertIn(words, text.split("; layer 2 of")[0])
        # What has no room on the plate is left out, and the part is printed.
        self.change(job_id, "footing", open=7, footing="skirt")
        self.change(job_id, "place", open=9, x_mm="-134", y_mm="0", swing_deg="0")
        self.assertNotIn("; skirt", self.gcode(job_id))


class BoardTest(SettingsCase):
    def board(self, job_id, query=""):
        until = time.monotonic() + 120
        while "worked out" in (text := self.client.get(f"/jobs/{job_id}/what-if?{query}").text):
            self.assertLess(time.monotonic(), until)
            time.sleep(0.2)
        return text

    def rows(self, text):
        return re.findall(r'data-what="([^"]+)"', text)

    def test_variants_of_supports_and_footing(self):
        # A table that islands hang from.
        job_id = self.job(stl(box(4, 4, 12) + box(20, 4, 3, (0, 0, 12)) + box(3, 3, 5, (15, 0, 7))))
        self.change(job_id, "supports")
        self.settle(job_id)
        self.paths(job_id)
        text = self.board(job_id, "about=supports&about=styles&about=footing")
        for words in ("without supports", "supports: tree", "supports: pillars", "no footing", "on a raft"):
            self.assertIn(words, self.rows(text))
        self.assertNotIn("4 walls", self.rows(text))
        self.assertIn("but 1 island falls", text)
        form = re.search(r'data-what="on a raft".*?</form>', text, re.DOTALL)[0]
        self.assertIn('name="footing" value="raft"', form)

    def test_sorted_and_aimed_at(self):
        job_id = self.job(stl(box(24, 20, 6)))
        self.paths(job_id)
        text = self.board(job_id, "about=layers&about=infill&sort=mass")
        grams = [float(g) for g in re.findall(r"<td>([\d.]+) g ·", text)][1:]
        self.assertGreater(len(grams), 5)
        self.assertEqual(grams, sorted(grams))
        self.assertIn(" MB", text)
        text = self.board(job_id, "about=layers&hours=0.001")
        self.assertIn("othing here comes under", text)
        text = self.board(job_id, "about=infill&grams=2.0")
        self.assertIn("nder 2 g: ", text)
        self.assertIn("meets", text)
        self.assertEqual(self.client.get(f"/jobs/{job_id}/what-if?hours=soon").status_code, 422)

    def test_over_the_whole_set(self):
        job_id = self.job(stl(box(10, 10, 2)))
        answer = self.client.post(
            f"/api/jobs/{job_id}/items", params={"name": "b.stl"}, content=stl(box(14, 10, 2))
        )
        self.assertLess(answer.status_code, 400, answer.text[:300])
        items = [one["id"] for one in self.sheet(job_id)["items"]]
        self.assertEqual(len(items), 2)

        def grams(query):
            text = self.board(job_id, query)
            return float(re.search(r'data-what="now".*?<td>.*?<td>([\d.]+) g', text, re.DOTALL)[1])

        each = [grams(f"about=layers&item={item}") for item in items]
        self.assertAlmostEqual(grams("about=layers&whole=true"), sum(each), delta=0.11)


class LearnedTest(SettingsCase):
    def test_times_are_learned_from_finished_prints(self):
        job_id = self.job(stl(box(20, 15, 6)))
        html = self.paths(job_id)
        self.assertNotIn("learned", html.ids)
        self.assertIn("Not yet compared", self.client.get(f"/jobs/{job_id}/sheet?open=8").text)
        page = self.client.get(f"/api/jobs/{job_id}").json()
        seconds = float(re.search(r"^; seconds: (\d+)", self.gcode(job_id), re.MULTILINE)[1])

        def took(hours):
            return self.client.post(
                f"/jobs/{job_id}/took?open=8", data={"hours": hours}, headers={"HX-Request": "true"}
            )

        for times in (1.1, 1.3, 1.2):
            self.assertEqual(took(f"{times * seconds / 3600:.6f}").status_code, 200)
        told = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
        self.assertIn("Learned from 3 prints on the Sedge 300: × 1.20", told)
        self.assertIn("± 10 %", self.section(job_id, 8).text("learned"))
        # What nobody can have meant is refused.
        for hours, words in (("100", "another print"), ("soon", "soon")):
            answer = took(hours)
            self.assertIn(words, answer.text)
        self.assertIn("from 3 prints", self.client.get(f"/jobs/{job_id}/sheet?open=8").text)
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json(), page)

    def test_the_median_counts_and_the_spread_is_told(self):
        self.assertIsNone(factor(()))
        self.assertEqual(factor((1.5,)), Factor(1.5, 0.0, 1))
        self.assertEqual(factor((1.0, 1.1, 4.0)).value, 1.1)
        self.assertAlmostEqual(factor((1.0, 1.2)).spread, 0.1 * 2**0.5)
        kept = Finished(name="A", ratios=(1.0,) * 200).with_one(2.0)
        self.assertEqual((len(kept.ratios), kept.ratios[-1]), (200, 2.0))


class SpeedsTest(SettingsCase):
    def test_a_byte_a_place(self):
        job_id = self.job(stl(box(20, 15, 2)))
        page = self.paths(job_id)
        keys = dict(re.findall(r'"(toolpaths|speeds)": "(\w+)"', page.text("state")))
        data = self.client.get(f"/api/blocks/speeds/{keys['speeds']}").content
        word, count, step = struct.unpack_from("<4sIf", data)
        paths = self.client.get(f"/api/blocks/paths/{keys['toolpaths']}").content
        self.assertEqual((word, count), (b"UHS1", struct.unpack_from("<4sII", paths)[2]))
        speeds = np.frombuffer(data, np.uint8, count, 12) * step
        self.assertLess(speeds.max(), 151)
        self.assertGreater(np.percentile(speeds, 90), 20)


if __name__ == "__main__":
    unittest.main()

"""Plates over HTTP: copies, arranging, locks, moving to another plate, and what leaves with copies."""

import io
import re
import time
import zipfile

import numpy as np

from tests.core.test_threemf import built, read, volume
from tests.support import box, stl, tee
from tests.web.test_app import AppCase, Page
from upright_heron.core.toolpaths.gcode_check import read as read_gcode
from upright_heron.sheet.shop import RunNotes

HTMX = {"HX-Request": "true"}


class PlatesTest(AppCase):
    def sheet(self, job_id):
        return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]

    def plates(self, job_id):
        return [plate["instances"] for plate in self.sheet(job_id)["plates"]]

    def arrange(self, job_id, tighter=False):
        asked = "&tighter=true" if tighter else ""
        answer = self.client.post(f"/jobs/{job_id}/plates/arrange?open=9{asked}", headers=HTMX)
        self.assertEqual(answer.status_code, 200, answer.text[:500])

    def plan(self, job_id, plate=1):
        answer = self.client.get(f"/jobs/{job_id}/plates/{plate}/plan.json")
        self.assertEqual(answer.status_code, 200, answer.text[:500])
        return answer.json()

    def test_the_height_profile_of_a_plate_is_of_what_leaves(self):
        job_id = self.job(stl(tee()))
        self.change(job_id, "supports")
        self.change(job_id, "footing", open=7, footing="raft")
        self.change(job_id, "copies", open=9, count="2")
        post = stl(box(20, 20, 50))
        answer = self.client.post(f"/api/jobs/{job_id}/items?name=post.stl", content=post)
        self.assertEqual(answer.status_code, 201, answer.text)
        self.settle(job_id)
        plan = self.plan(job_id)
        areas, layer = np.array(plan["areas"]), 0.2
        tall = next(one for one in plan["outlines"].values() if one["high"] > 40)
        self.assertEqual(len(areas), round((50 + tall["raise"]) / layer))
        # The highest alone, and the bars of two that stand on rafts.
        raised = plan["outlines"][plan["instances"][0]["item"]]["raise"]
        self.assertGreater(raised, 0.5)
        bar = int((raised + 22.5) / layer)
        self.assertAlmostEqual(areas[-1], 400, delta=1)
        self.assertAlmostEqual(areas[bar], 400 + 2 * 400, delta=2)
        # To the layer: it begins and ends as high as the raft lifts it.
        self.assertAlmostEqual(areas[int((raised + 24.7) / layer)], 400 + 2 * 400, delta=2)
        self.assertAlmostEqual(areas[int((raised + 25.2) / layer)], 400, delta=1)
        # All of it is as much as the file holds, read back by the reference library.
        answer = self.client.get(f"/jobs/{job_id}/handoff.3mf")
        _, objects = read(answer.content)
        self.assertTrue({"support", "footing"} <= {one.GetName().split()[0] for one in objects})
        every = {one.GetName(): volume(one) for one in objects}
        self.assertEqual(len(every), 4)
        whole = sum(every[name] for name, _ in built(answer.content))
        self.assertAlmostEqual(float(areas.sum()) * layer, whole, delta=0.01 * whole)

    def test_the_file_of_a_plate_is_verified_before_it_goes(self):
        # Of a size that no other test has: what was written for another would do here, too.
        job_id = self.job(stl(box(21.3, 18.7, 2.1)))
        self.change(job_id, "keep-machine")

        def states():
            page = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
            return re.findall(r'data-verified="([a-z ]+)"', page), page

        def verify(plate=1):
            answer = self.client.post(f"/jobs/{job_id}/plates/{plate}/verify?open=9")
            self.assertEqual(answer.status_code, 200, answer.text[:200])
            end = time.monotonic() + 60
            while states()[0][plate - 1] == "not yet":
                self.assertLess(time.monotonic(), end)
                time.sleep(0.05)

        self.settle(job_id)
        self.assertEqual(states()[0], ["not yet"])
        verify()
        found, page = states()
        self.assertEqual(found, ["good"])
        self.assertIn("G-code written, read back and verified", page)
        # Of what was changed since then it says nothing.
        self.change(job_id, "process", walls="2")
        self.settle(job_id)
        self.assertEqual(states()[0], ["not yet"])
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(states()[0], ["good"])
        # Past the edge it is refused: that is wrong in the list, of the plate that it is about.
        self.change(job_id, "copies", open=9, count="2")
        self.change(job_id, "place", open=9, copy_number="2", plate="2")
        self.change(job_id, "place", open=9, copy_number="2", x_mm="149", y_mm="0")
        self.settle(job_id)
        self.assertEqual(states()[0], ["good", "not yet"])
        verify(2)
        found, page = states()
        self.assertEqual(found, ["good", "refused"])
        wrong = re.findall(r"preflight-line wrong.*?</button>", page, re.S)
        self.assertTrue(any("Plate 2" in one and "G-code refused" in one for one in wrong), wrong)
        self.assertEqual(self.client.post(f"/jobs/{job_id}/plates/3/verify").status_code, 422)

    def test_copies_come_and_go_and_count_in_time_and_mass(self):
        job_id = self.job(stl(box(30, 20, 4)))
        self.settle(job_id)
        one = self.section(job_id, 9).text("all-plates")
        self.change(job_id, "copies", open=9, count="3")
        (plate,) = self.plates(job_id)
        self.assertEqual([i["copy_number"] for i in plate], [1, 2, 3])
        self.settle(job_id)
        three = self.section(job_id, 9)
        self.assertIn("× 3", three.text("all-plates"))

        def mass(words):
            return float(re.search(r"([\d.]+) g", words)[1])

        self.assertAlmostEqual(mass(three.text("whole")), 3 * mass(one), delta=0.15)
        self.change(job_id, "place", open=9, x_mm="50", y_mm="0", swing_deg="90", copy_number="2")
        self.change(job_id, "copies", open=9, count="2")
        (plate,) = self.plates(job_id)
        self.assertEqual(
            [(i["copy_number"], i["x_mm"], i["swing_deg"]) for i in plate], [(1, None, 0), (2, 50, 90)]
        )
        for count, status in (("0", 422), ("201", 422), ("many", 422)):
            answer = self.client.post(
                f"/jobs/{job_id}/changes/copies?open=9", data={"count": count}, headers=HTMX
            )
            self.assertEqual(answer.status_code, status)
        answer = self.client.post(
            f"/jobs/{job_id}/changes/place?open=9",
            data={"x_mm": "1", "y_mm": "1", "copy_number": "7"},
            headers=HTMX,
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("There is no copy 7", answer.text)

    def test_all_are_arranged_locks_stay_and_what_is_too_large_is_apart(self):
        job_id = self.job(stl(box(60, 10, 4) + box(10, 60, 4)))
        self.change(job_id, "copies", open=9, count="5")
        self.change(job_id, "place", open=9, x_mm="-81.3", y_mm="17", swing_deg="33", copy_number="4",
                    lock_x="true", lock_y="true", lock_swing="true")  # fmt: skip
        self.change(job_id, "plating", open=9, gap_mm="4.5", edge_mm="2", turning="freely")
        self.arrange(job_id)
        (plate,) = self.plates(job_id)
        self.assertEqual(len(plate), 5)
        kept = next(one for one in plate if one["copy_number"] == 4)
        self.assertEqual(
            (kept["x_mm"], kept["y_mm"], kept["swing_deg"], kept["lock_x"]), (-81.3, 17, 33, True)
        )
        self.settle(job_id)
        page = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
        for words in ("crosses", "less than the gap", "past the edge"):
            self.assertNotIn(words, page)
        plan = self.plan(job_id)
        self.assertEqual((plan["gap"], plan["edge"], len(plan["instances"])), (4.5, 2, 5))
        (outline,) = plan["outlines"].values()
        ring = np.reshape(outline["rings"][0], (-1, 2))
        area = abs(np.sum(ring[:, 0] * np.roll(ring[:, 1], -1) - ring[:, 1] * np.roll(ring[:, 0], -1))) / 2
        self.assertAlmostEqual(area, 60 * 10 + 50 * 10, delta=3)
        # A gap that was typed larger is told of what lies nearer, with its copy.
        self.change(job_id, "plating", open=9, gap_mm="60")
        page = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
        self.assertIn("less than the gap of 60 mm", page)
        self.assertRegex(page, r"Copy \d: it stands \d+\.\d mm from another")

    def test_printed_in_turn_there_is_room_for_the_head(self):
        job_id = self.job(stl(box(20, 20, 4)))
        self.change(job_id, "copies", open=9, count="3")
        self.arrange(job_id)
        self.settle(job_id)
        self.change(job_id, "plating", open=9, gap_mm="3", in_turn="true")
        self.settle(job_id)
        page = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
        self.assertIn("3 stand as near as 3.0 mm to each other; printed in turn, the head needs 35 mm.", page)
        self.assertIn("only the last may be higher than 40 mm", page)
        self.assertEqual(self.plan(job_id)["gap"], 35)
        self.arrange(job_id)
        self.settle(job_id)
        page = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
        self.assertNotIn("the head needs", page.replace("The head of the", ""))
        (plate,) = self.plates(job_id)
        apart = min(
            max(abs(a["x_mm"] - b["x_mm"]), abs(a["y_mm"] - b["y_mm"])) - 20
            for k, a in enumerate(plate)
            for b in plate[:k]
        )
        self.assertGreaterEqual(round(apart, 3), 35)
        text = self.client.get(f"/jobs/{job_id}/print.gcode?plate=1")
        self.assertEqual(text.status_code, 200, text.text[:300])
        self.assertEqual(len(re.findall(r"^; layer \d+ of 60 at 0\.200 mm$", text.text, re.MULTILINE)), 3)
        # Of what is higher than the rail a plate bears one.
        for name in ("one", "two"):
            more = self.client.post(f"/api/jobs/{job_id}/items?name={name}.stl", content=stl(box(10, 10, 45)))
            self.assertEqual(more.status_code, 201, more.text)
        self.arrange(job_id)
        high = [item["id"] for item in self.sheet(job_id)["items"]][1:]
        stood = [{one["item"] for one in plate} & set(high) for plate in self.plates(job_id)]
        self.assertEqual([len(some) for some in stood], [1, 1])
        self.settle(job_id)
        self.assertNotIn("the rail would hit it", self.client.get(f"/jobs/{job_id}/sheet?open=9").text)
        # A resin plate is made in one go whatever was asked.
        self.change(job_id, "printer", open=2, printer="Tarn 9")
        self.assertEqual(self.plan(job_id)["gap"], 3)

    def test_a_plate_is_filled_with_copies(self):
        job_id = self.job(stl(box(60, 60, 4)), "tile.stl")
        self.change(job_id, "printer", printer="Reed 190")
        self.change(job_id, "plating", gap_mm="3", turning="none")

        def fill():
            return self.client.post(f"/jobs/{job_id}/plates/fill?open=9", headers=HTMX)

        def places():
            return [[(i["x_mm"], i["y_mm"]) for i in plate] for plate in self.plates(job_id)]

        # 190 by 170: three beside each other, two behind each other; nothing had been put anywhere yet.
        self.assertEqual(fill().status_code, 200)
        (plate,) = places()
        self.assertEqual((len(plate), len(set(plate))), (6, 6))
        for k, (x, y) in enumerate(plate):
            self.assertLessEqual((abs(x) + 30, abs(y) + 30), (95, 85))
            for a, b in plate[:k]:
                self.assertGreaterEqual(round(max(abs(x - a), abs(y - b)) - 60, 3), 3)
        answer = fill()
        self.assertEqual(answer.status_code, 422)
        self.assertIn("No more of it have room", answer.text)
        # One step back it is as it was; what was put in the middle stays there, with its locks as they were.
        self.client.post(f"/jobs/{job_id}/undo", headers=HTMX)
        self.assertEqual(places(), [[(None, None)]])
        self.change(job_id, "place", open=9, x_mm="0", y_mm="0", lock_x="true")
        fill()
        (plate,) = self.plates(job_id)
        self.assertEqual(
            [(i["lock_x"], i["lock_y"]) for i in plate if i["x_mm"] == i["y_mm"] == 0], [(True, False)]
        )
        self.assertFalse(any(i["lock_x"] for i in plate[1:]))
        # Copies on another plate keep their numbers.
        self.client.post(f"/jobs/{job_id}/undo", headers=HTMX)
        self.change(job_id, "copies", open=9, count="2")
        self.change(job_id, "place", open=9, copy_number="2", plate="2")
        fill()
        numbers = [[i["copy_number"] for i in plate] for plate in self.plates(job_id)]
        self.assertEqual(
            (numbers[1], 2 in numbers[0], len(numbers[0]) == len(set(numbers[0]))), ([2], False, True)
        )

    def test_the_time_of_a_plate_is_that_of_one_print(self):
        def minutes(text):
            found = re.search(r"(?:(\d+) h )?(\d+) min", text)
            return 60 * int(found[1] or 0) + int(found[2])

        for printer, times in (("Tarn 9", 1), ("Sedge 300", 4)):
            job_id = self.job(stl(box(20, 20, 4)))
            self.change(job_id, "printer", printer=printer)
            self.change(job_id, "copies", open=9, count="4")
            self.settle(job_id)
            page = Page(self.client.get(f"/jobs/{job_id}/sheet?open=9").text)
            one, whole = (minutes(page.text("all-plates").split(cut)[1]) for cut in ("each", "The plate"))
            self.assertIn("each", page.text("all-plates"))
            # Filament gets hot once: ten minutes, roughly.
            self.assertAlmostEqual(whole, times * one - 10 * (times - 1), delta=times)

    def test_what_was_swung_by_hand_stays_swung(self):
        job_id = self.job(stl(box(60, 10, 4)))
        self.change(job_id, "copies", open=9, count="2")
        self.change(job_id, "place", open=9, x_mm="0", y_mm="0", swing_deg="30", copy_number="2")
        for turning, swings in (("none", {0, 30}), ("quarters", {0, 30})):
            self.change(job_id, "plating", open=9, turning=turning)
            self.arrange(job_id)
            (plate,) = self.plates(job_id)
            seen = [one["swing_deg"] for one in plate]
            self.assertEqual({round(swing % 90) for swing in seen}, swings)
            if turning == "none":
                self.assertEqual(seen, [0, 30])

    def test_an_item_goes_to_another_plate_and_a_bare_one_is_gone(self):
        job_id = self.job(stl(box(20, 20, 4)))
        self.change(job_id, "copies", open=9, count="2")
        self.change(job_id, "place", open=9, copy_number="2", plate="2")
        self.assertEqual([[i["copy_number"] for i in p] for p in self.plates(job_id)], [[1], [2]])
        self.change(job_id, "place", open=9, copy_number="1", plate="2")
        self.assertEqual([sorted(i["copy_number"] for i in p) for p in self.plates(job_id)], [[1, 2]])
        answer = self.client.post(
            f"/jobs/{job_id}/changes/place?open=9", data={"copy_number": "1", "plate": "9"}, headers=HTMX
        )
        self.assertIn("There is no plate 9", answer.text)
        self.assertEqual(self.client.get(f"/jobs/{job_id}/plates/3/plan.json").status_code, 422)

    def test_copies_leave_in_every_file(self):
        job_id = self.job(stl(box(20, 20, 2)))
        self.change(job_id, "copies", open=9, count="3")
        self.arrange(job_id)
        places = {(i["x_mm"], i["y_mm"]) for i in self.plates(job_id)[0]}
        self.assertEqual(len(places), 3)
        data = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
        middles = []
        for _, every in built(data):
            middle = (every.min(axis=0) + every.max(axis=0))[:2] / 2
            middles.append(middle.tolist())
        np.testing.assert_allclose(sorted(middles), sorted(places), atol=1e-3)
        back = read_gcode(self.client.get(f"/jobs/{job_id}/print.gcode").text.splitlines())
        low, high = np.array(sorted(places))[:, 0].min(), np.array(sorted(places))[:, 0].max()
        self.assertLess(back.low_mm[0], 150 + low - 9.5)
        self.assertGreater(back.high_mm[0], 150 + high + 9.5)

    def test_a_tighter_way_is_a_step_like_any_other(self):
        job_id = self.job(stl(box(40, 25, 4)))
        self.change(job_id, "copies", open=9, count="4")
        begin = time.monotonic()
        self.arrange(job_id, tighter=True)
        self.assertLess(time.monotonic() - begin, 120)
        (plate,) = self.plates(job_id)
        self.assertTrue(all(one["x_mm"] is not None for one in plate))
        self.client.post(f"/jobs/{job_id}/undo?open=9", headers=HTMX)
        (plate,) = self.plates(job_id)
        self.assertTrue(all(one["x_mm"] is None for one in plate))

    def test_plates_of_a_cut_are_a_folder(self):
        job_id = self.job(stl(box(20, 20, 4)))
        self.change(job_id, "copies", open=9, count="2")
        self.change(job_id, "place", open=9, copy_number="2", plate="2")
        data = self.client.get(f"/jobs/{job_id}/plates.zip").content
        self.assertEqual(len(zipfile.ZipFile(io.BytesIO(data)).namelist()), 2)


class PrintersTest(AppCase):
    """Plates of one job that go to two printers."""

    def two(self, body):
        job_id = self.job(stl(body))
        self.change(job_id, "copies", open=9, count="3")
        self.change(job_id, "place", open=9, copy_number="3", plate="2")
        self.change(job_id, "print-on", open=9, plate="2", printer="Reed 190")
        return job_id

    def gcode(self, job_id, plate):
        answer = self.client.get(f"/jobs/{job_id}/print.gcode?plate={plate}")
        self.assertEqual(answer.status_code, 200, answer.text[:500])
        return answer

    def test_each_plate_is_arranged_and_written_for_its_printer(self):
        job_id = self.two(box(60, 20, 4))
        self.client.post(f"/jobs/{job_id}/plates/arrange?open=9", headers=HTMX)
        plans = [self.client.get(f"/jobs/{job_id}/plates/{k}/plan.json").json() for k in (1, 2)]
        self.assertEqual([plan["build"] for plan in plans], [[300, 300, 340], [190, 170, 185]])
        self.assertEqual([len(plan["instances"]) for plan in plans], [2, 1])
        for plate, name, build in ((1, "Sedge 300", (300, 300)), (2, "Reed 190", (190, 170))):
            answer = self.gcode(job_id, plate)
            self.assertIn(name, answer.text[:600])
            self.assertIn(name.replace(" ", "-"), answer.headers["content-disposition"].replace("%20", "-"))
            back = read_gcode(answer.text.splitlines())
            self.assertEqual(back.machine, name)
            # What is laid lies about the middle of its own plate.
            for axis in (0, 1):
                middle = (back.low_mm[axis] + back.high_mm[axis]) / 2
                self.assertAlmostEqual(middle, build[axis] / 2, delta=20)
                self.assertLessEqual(back.high_mm[axis], build[axis])

    def test_one_plate_in_two_materials_becomes_two_files(self):
        job_id = self.job(stl(box(20, 20, 4)))
        other = self.client.post(f"/api/jobs/{job_id}/items?name=post.stl", content=stl(box(10, 10, 10)))
        self.assertEqual(other.status_code, 201, other.text)

        def sheet():
            return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]

        first, second = (item["id"] for item in sheet()["items"])
        self.client.post(f"/jobs/{job_id}/plates/arrange?open=9", headers=HTMX)
        laid = {one["item"]: (one["x_mm"], one["y_mm"]) for one in sheet()["plates"][0]["instances"]}
        answer = self.client.post(
            f"/jobs/{job_id}/changes/print-in?open=9",
            data={"material": "PETG"},
            headers=HTMX | {"Heron-Item": second},
        )
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        plates = [plate["instances"] for plate in sheet()["plates"]]
        self.assertEqual([[one["item"] for one in plate] for plate in plates], [[first], [second]])
        self.assertEqual({one["item"]: (one["x_mm"], one["y_mm"]) for plate in plates for one in plate}, laid)
        files = [self.gcode(job_id, k) for k in (1, 2)]
        for answer, name, nozzle in zip(files, ("PLA", "PETG"), (205, 240), strict=True):
            self.assertIn(name, answer.headers["content-disposition"])
            self.assertIn(f"; material: {name}\n", answer.text)
            heated = {float(t) for t in re.findall(r"^M10[49] S([\d.]+)", answer.text, re.MULTILINE)} - {0}
            self.assertEqual(heated, {nozzle})
        page = self.section(job_id, 9)
        self.assertIn("Plate 2", page.text("all-plates"))
        self.assertRegex(page.text("all-plates"), r"Plate 2\s+PETG")
        self.assertIn("of one material", page.text("print-in"))
        # What the shop approves of is the material of the plate.
        self.client.app.state.services.store.shelve(RunNotes(name="Sedge 300|PLA", approved=True))
        self.addCleanup(self.client.app.state.services.store.unshelve, RunNotes, "Sedge 300|PLA")
        told = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
        self.assertIn("has not approved PETG on the Sedge 300", told)
        self.assertNotIn("has not approved PLA", told)

    def test_the_board_says_what_each_machine_makes_of_the_plate(self):
        job_id = self.job(stl(box(250, 20, 4)))
        self.settle(job_id)
        until = time.monotonic() + 60
        while "worked out" in (page := self.client.get(f"/jobs/{job_id}/plates/1/machines").text):
            self.assertLess(time.monotonic(), until)
            time.sleep(0.1)
        reed = page[page.index('data-printer="Reed 190"') :]
        self.assertIn("Does not fit: 60 mm too long along x", reed)
        self.assertIn("none of the shop is known", reed)
        self.assertNotIn("Tarn 9", page)
        self.assertEqual(page.count("goes there"), 1)
        self.assertEqual(self.client.get(f"/jobs/{job_id}/plates/2/machines").status_code, 422)
        self.assertEqual(self.client.get(f"/jobs/{job_id}/plates/0/plan.json").status_code, 422)

    def test_what_waits_at_a_machine_and_what_it_has_loaded_is_told(self):
        job_id = self.two(box(30, 20, 4))
        own = {"name": "Willow", "model": "Reed 190", "url": "http://127.0.0.1:9"}
        self.assertEqual(
            self.client.post("/floor/machines", data=own, follow_redirects=False).status_code, 303
        )
        page = self.client.get(f"/jobs/{job_id}/plates/2/machines").text
        self.assertIn("Willow", page[page.index('data-printer="Reed 190"') :])
        sheet = self.section(job_id, 9)
        self.assertIn("Reed 190", sheet.text("all-plates"))
        # A machine of another kind takes it only once the plate is for that.
        sent = self.client.post(
            f"/jobs/{job_id}/plates/1/print?open=9", data={"station": "Willow"}, headers=HTMX
        )
        self.assertEqual(sent.status_code, 422)
        self.assertIn("plate 1 is for a Sedge 300", sent.text)

    def test_files_of_plates_are_named_by_the_pattern_of_the_shop(self):
        job_id = self.two(box(30, 20, 4))
        self.change(job_id, "order", open=1, customer="Ärni Alder")

        def kept(path):
            answer = self.client.get(f"/jobs/{job_id}/{path}")
            self.assertEqual(answer.status_code, 200, answer.text[:300])
            return answer.headers["content-disposition"].partition("''")[2]

        def pattern(text, status=200):
            sent = {"pattern": text}
            answer = self.client.post(f"/jobs/{job_id}/plates/names?open=9", data=sent, headers=HTMX)
            self.assertEqual(answer.status_code, status)
            return answer.text

        self.addCleanup(pattern, "")
        usual = kept("handoff.3mf?plate=2")
        pattern("{customer}_{machine} {plate}of{plates} {layer}-{walls}w-{infill} {percent}%")
        self.assertEqual(kept("handoff.3mf?plate=1"), "Arni-Alder-Sedge-300-1of2-0.2mm-3w-15-100.3mf")
        self.assertEqual(kept("print.gcode?plate=2"), "Arni-Alder-Reed-190-2of2-0.2mm-3w-15-100.gcode")
        # All of one name are told apart.
        pattern("{job}")
        folder = self.client.get(f"/jobs/{job_id}/plates.zip").content
        with zipfile.ZipFile(io.BytesIO(folder)) as package:
            self.assertEqual(package.namelist(), ["Part.3mf", "Part-2.3mf"])
        self.assertIn("{colour} is nothing that a name can hold", pattern("{colour}", 422))
        pattern("")
        self.assertEqual(kept("handoff.3mf?plate=2"), usual)

    def test_files_of_single_items_are_named_by_the_pattern_of_the_shop(self):
        job_id = self.two(box(30, 20, 4))
        self.change(job_id, "order", open=1, customer="Ärni Alder")
        first, second = (
            item["id"] for item in self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"]
        )
        sized = self.client.post(
            f"/jobs/{job_id}/size?open=1", data={"percent": "150"},
            headers=HTMX | {"Heron-Item": second},
        )  # fmt: skip
        self.assertEqual(sized.status_code, 200, sized.text[:300])

        def kept(item, what="part"):
            answer = self.client.get(f"/jobs/{job_id}/{what}.stl?item={item}")
            self.assertEqual(answer.status_code, 200, answer.text[:300])
            return answer.headers["content-disposition"].partition("''")[2]

        def pattern(text, status=200):
            sent = {"pattern": text}
            answer = self.client.post(f"/jobs/{job_id}/items/names?open=9", data=sent, headers=HTMX)
            self.assertEqual(answer.status_code, status)
            return answer.text

        self.addCleanup(pattern, "")
        usual = kept(first)
        pattern("{customer} {machine} p{plate} {layer} {walls}w {infill} {percent}pc")
        self.assertEqual(kept(first), "Arni-Alder-Sedge-300-p1-0.2mm-3w-15-100pc-part.stl")
        self.assertEqual(kept(second), "Arni-Alder-Reed-190-p2-0.2mm-3w-15-150pc-part.stl")
        # A folder of them is named so too, where no other pattern is typed.
        folder = self.client.get(f"/jobs/{job_id}/items.zip?kind=stl").content
        with zipfile.ZipFile(io.BytesIO(folder)) as package:
            self.assertEqual(
                package.namelist(),
                [
                    "Arni-Alder-Sedge-300-p1-0.2mm-3w-15-100pc.stl",
                    "Arni-Alder-Reed-190-p2-0.2mm-3w-15-150pc.stl",
                ],
            )
        self.assertIn("{plates} is nothing that a name can hold", pattern("{plates}", 422))
        pattern("")
        self.assertEqual(kept(first), usual)

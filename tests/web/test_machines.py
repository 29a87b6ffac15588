"""The shop's own printers, materials and measurements: kept, used, and never lost by a job."""

import io
import json
import time
import unittest
import zipfile

import numpy as np

from tests.support import box, comb, stl, tee
from tests.web.test_app import AppCase, Page, flat
from upright_heron.core.formats.read import read
from upright_heron.core.formats.reading import finish
from upright_heron.core.formats.stl import read_stl


class ShopCase(AppCase):
    alone = True

    def post(self, path, status=303, **fields):
        answer = self.client.post(f"/machines/{path}", data=fields, follow_redirects=False)
        self.assertEqual(answer.status_code, status, answer.text[:300])
        return answer

    def sheet(self, job_id):
        return flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"])

    def own_printer(self, name, **changed):
        self.post("printers/copy", name="Sedge 300")
        fields = {
            "old": "Sedge 300 copy", "name": name, "build_x": "400", "build_y": "400", "build_z": "20 in",
            "finest_mm": "0.6", "layer_mm": "0.3", "speed_mm_s": "90", "limit_bonus_deg": "0",
        }  # fmt: skip
        self.post("printers/edit", **(fields | changed))


class MachinesTest(ShopCase):
    def test_a_copy_is_edited_used_and_deleted_while_the_job_stays_whole(self):
        self.own_printer("Willow 400")
        page = self.client.get("/machines").text
        self.assertIn('data-own="Willow 400"', page)
        self.assertIn('value="508"', page)
        job_id = self.job(stl(tee()))
        self.assertIn("Willow 400", self.section(job_id, 2).text("printer"))
        self.change(job_id, "printer", printer="Willow 400")
        self.settle(job_id)
        self.assertEqual(self.sheet(job_id)["own_printer"]["build_mm"], [400, 400, 508])
        # 500 mm do not fit the Sedge 300, nor 0.66 mm of bead its nozzle: the job reckons with its own machine.
        self.assertIn("Willow 400", self.client.get(f"/jobs/{job_id}/traveller").text)
        self.post("printers/edit", old="Willow 400", delete="yes")
        self.assertNotIn('data-own="Willow 400"', self.client.get("/machines").text)
        self.change(job_id, "layer", layer_mm="0.25")
        self.settle(job_id)
        self.assertEqual(self.sheet(job_id)["own_printer"]["name"], "Willow 400")
        self.assertEqual(self.section(job_id, 2).ids["layer"]["value"], "0.25")

    def test_own_material(self):
        self.post("materials/copy", name="PETG")
        fields = {
            "old": "PETG copy",
            "name": "Reed green",
            "density_g_cm3": "1.3",
            "price_per_kg": "40",
            "limit_deg": "61",
        }
        self.post("materials/edit", **fields)
        job_id = self.job(stl(tee()))
        answer = self.client.post(
            f"/api/jobs/{job_id}/changes", json={"kind": "material", "material": "Reed green"}
        )
        self.assertEqual(answer.json()["sheet"]["own_material"]["density_g_cm3"], 1.3)
        self.assertIn(
            "61° to begin with, not measured on Sedge 300 with Reed green",
            self.section(job_id, 2).text("limit-from"),
        )
        self.change(job_id, "printer", printer="Tarn 9")
        self.assertIsNone(self.sheet(job_id)["own_material"])

    def test_names_are_not_taken_twice_and_nonsense_is_refused(self):
        self.own_printer("Alder 1")
        self.post("printers/copy", name="Alder 1")
        for fields in (
            {"name": "Sedge 300"},
            {"name": "<b>"},
            {"build_x": "-4"},
            {"build_x": "wide"},
            {"speed_mm_s": "0"},
            {"technology": "steam"},
        ):
            whole = {"old": "Alder 1 copy", "build_x": "300", "build_y": "300", "build_z": "300"} | fields
            self.assertEqual(self.client.post("/machines/printers/edit", data=whole).status_code, 422, fields)
        self.assertEqual(
            self.client.post("/machines/printers/edit", data={"old": "Sedge 300"}).status_code, 422
        )
        self.assertEqual(
            self.client.post("/machines/printers/copy", data={"name": "Nobody 9"}).status_code, 422
        )

    def test_a_measured_limit_is_used_from_then_on_and_jobs_say_so(self):
        before = self.job(stl(tee()))
        self.post(
            "measured", printer="Sedge 300", material="PLA", limit_deg="61", bridge_mm="32", date="2026-11-20",
            note="fan at 60 %",
        )  # fmt: skip
        after = self.job(stl(tee()))
        self.assertIn("usual", self.section(before, 2).text("limit-from"))
        words = self.section(after, 2).text("limit-from")
        self.assertIn("61° measured on Sedge 300 with PLA, 2026-11-20", words)
        self.assertIn("bridges to 32 mm", words)
        self.settle(after)
        # Another material was not measured; back again it was.
        self.change(after, "material", material="PETG")
        self.assertIn("usual", self.section(after, 2).text("limit-from"))
        self.change(after, "material", material="PLA")
        self.assertIn("measured", self.section(after, 2).text("limit-from"))
        self.assertIn("fan at 60 %", self.client.get("/machines").text)
        self.post("measured", name="Sedge 300|PLA", delete="yes")
        self.assertIn("usual", self.section(self.job(stl(tee())), 2).text("limit-from"))
        self.assertIn("measured", self.section(after, 2).text("limit-from"))
        for fields in ({"limit_deg": "120"}, {"date": "soon"}, {"printer": "Nobody 9"}):
            whole = {
                "printer": "Sedge 300",
                "material": "PLA",
                "limit_deg": "50",
                "date": "2026-11-20",
            } | fields
            self.assertEqual(self.client.post("/machines/measured", data=whole).status_code, 422, fields)

    def test_coupons_become_jobs(self):
        for kind, name in (("slopes", "Slope coupon"), ("bridges", "Bridge coupon")):
            answer = self.post(f"coupons/{kind}", printer="Reed 190", material="ASA")
            job_id = answer.headers["location"].rsplit("/", 1)[1]
            sheet = self.sheet(job_id)
            self.assertEqual((sheet["printer"], sheet["material"]), ("Reed 190", "ASA"))
            self.assertTrue(sheet["name"].startswith(name))
            self.assertTrue(sheet["part"]["closed"])
        self.assertEqual(
            self.client.post(
                "/machines/coupons/spoons", data={"printer": "Reed 190", "material": "PLA"}
            ).status_code,
            422,
        )
        self.assertEqual(
            self.client.post(
                "/machines/coupons/slopes", data={"printer": "Tarn 9", "material": "PLA"}
            ).status_code,
            422,
        )

    def test_the_page_is_sound_html(self):
        page = Page(self.client.get("/machines").text)
        self.assertIn("coupons", page.ids)


if __name__ == "__main__":
    unittest.main()


class FieldsTest(ShopCase):
    """What the further fields of printers and materials are good for."""

    def test_a_favourite_spot_moves_what_leaves_as_far_as_the_plate_has_room_and_makes_nothing_again(self):
        self.own_printer("Willow", spot_x="150", spot_y="-40", habit="raft", heated="false")
        job_id = self.job(stl(tee()))
        self.change(job_id, "printer", printer="Willow")
        self.change(job_id, "footing", footing="none")
        self.settle(job_id)
        before = json.loads(self.section(job_id, 1).text("state"))["layers"]
        size = self.sheet(job_id)["part"]["size_mm"]
        # 400 mm of plate leave (400 - size) / 2 to each side.
        at = [min(150.0, (400 - size[0]) / 2), -40.0]
        package = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
        corners = finish(read(package, "a.3mf").bodies[0].corners).mesh.bounds
        for axis in range(2):
            self.assertAlmostEqual(corners[:, axis].mean(), at[axis], places=4)
        alone = read_stl(self.client.get(f"/jobs/{job_id}/part.stl").content).mesh.bounds
        np.testing.assert_allclose(alone.mean(axis=0)[:2], 0, atol=1e-4)
        self.change(job_id, "place", x_mm="10", y_mm="20")
        self.assertEqual(json.loads(self.section(job_id, 1).text("state"))["layers"], before)
        self.assertIn("not heated", self.client.get(f"/jobs/{job_id}/sheet?open=7").text)

    def test_worn_places_are_kept_free_and_told(self):
        self.own_printer("Willow worn", worn="0 0 25; 60, 60, 10")
        job_id = self.job(stl(box(30, 20, 4)))
        self.change(job_id, "printer", printer="Willow worn")
        self.change(job_id, "copies", open=9, count="6")
        self.settle(job_id)
        self.assertIn("on a worn place", self.client.get(f"/jobs/{job_id}/sheet?open=9").text)
        answer = self.client.post(f"/jobs/{job_id}/plates/arrange?open=9", headers={"HX-Request": "true"})
        self.assertNotIn("on a worn place", answer.text)
        plan = self.client.get(f"/jobs/{job_id}/plates/1/plan.json").json()
        self.assertEqual(plan["worn"], [[0, 0, 25], [60, 60, 10]])
        for one in plan["instances"]:
            turned = one["swing"] % 180 == 90
            half = (10, 15) if turned else (15, 10)
            away = np.maximum(np.abs([one["x"], one["y"]]) - half, 0)
            self.assertGreaterEqual(float(np.hypot(*away)), 25 - 1e-6)
        old = self.client.get("/machines").text
        self.assertIn('value="0 0 25; 60 60 10"', old)
        answer = self.client.post(
            "/machines/printers/edit", data={"old": "Willow worn", "name": "Willow worn", "worn": "here"}
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("is no worn place", answer.text)

    def test_a_raft_by_habit_comes_with_the_machine_unless_a_footing_was_chosen(self):
        self.own_printer("Willow raft", habit="raft")
        job_id = self.job(stl(tee()))
        kind = lambda: self.sheet(job_id)["footing"]["kind"]  # noqa: E731
        self.change(job_id, "printer", printer="Willow raft")
        self.assertEqual(kind(), "raft")
        self.change(job_id, "printer", printer="Reed 190")
        self.assertEqual(kind(), "skirt")
        self.change(job_id, "footing", footing="brim")
        self.change(job_id, "printer", printer="Willow raft")
        self.assertEqual(kind(), "brim")
        # Another kind of machine starts with its own habit, and so does the way back.
        self.change(job_id, "printer", printer="Tarn 9")
        self.assertEqual(kind(), "none")
        self.change(job_id, "printer", printer="Willow raft")
        self.assertEqual(kind(), "raft")

    def test_shrinkage_is_proposed_and_taken_in_one_press(self):
        job_id = self.job(stl(tee()))
        page = self.section(job_id, 1)
        self.assertIn("Correct by +0.2 %", page.text("correct-shrinkage"))
        sides = self.sheet(job_id)["part"]["size_mm"]
        self.client.post(
            f"/jobs/{job_id}/size", data={"shrink_x": "0.2", "shrink_y": "0.2", "shrink_z": "0.2"}
        )
        for before, after in zip(sides, self.sheet(job_id)["part"]["size_mm"], strict=True):
            self.assertAlmostEqual(after, before * 1.002, places=4)
        self.assertNotIn("correct-shrinkage", self.section(job_id, 1).ids)

    def test_a_thicker_filament_is_shorter(self):
        self.post("materials/copy", name="PLA")
        fields = {"old": "PLA copy", "name": "Thick PLA", "diameter_mm": "2.85", "bridge_mm": "1/2 in"}
        self.post("materials/edit", **fields)
        job_id = self.job(stl(tee()))
        self.settle(job_id)

        def mass():
            """Told once the paths are there."""
            until = time.monotonic() + 90
            while "true-mass" not in (page := self.section(job_id, 8)).ids:
                self.client.get(f"/api/jobs/{job_id}/task?open=8")
                self.assertLess(time.monotonic(), until)
                time.sleep(0.1)
            return page.text("true-mass")

        thin = mass()
        self.change(job_id, "material", material="Thick PLA")
        self.settle(job_id)
        thick = mass()
        metres = [float(text.split("·")[1].split()[0]) for text in (thin, thick)]
        self.assertAlmostEqual(metres[0] / metres[1], (2.85 / 1.75) ** 2, delta=0.2)
        self.assertIn("bridges usually to 12.7 mm", self.section(job_id, 2).text("limit-from"))


class PresetTest(ShopCase):
    def test_a_preset_is_named_kept_taken_and_compared(self):
        first = self.job(stl(tee()))
        self.change(first, "layer", layer_mm="0.3")
        self.change(first, "process", walls="4", infill_percent="20")
        self.change(first, "supports", gap_mm="0.25")
        self.change(first, "footing", footing="brim")
        name = self.section(first, 2).ids["preset-name"]["value"]
        self.assertEqual(name, "0.3 mm, 4 walls, 20 %, columns, brim")
        self.change(first, "keep-preset", name=name)
        self.assertIn("As in", self.section(first, 2).text("unlike"))
        # Nothing leaks: a new job knows the preset and takes nothing of it until it is told to.
        second = self.job(stl(tee()))
        self.assertEqual(self.sheet(second)["layer_mm"], 0.2)
        self.assertIsNone(self.sheet(second)["preset"])
        self.change(second, "preset", preset=name)
        for field in ("layer_mm", "process", "supports", "footing"):
            self.assertEqual(self.sheet(second)[field], self.sheet(first)[field])
        self.change(second, "process", walls="2", infill_percent="20")
        self.change(second, "supports", gap_mm="0.3")
        told = self.section(second, 2).text("unlike")
        self.assertIn("walls: 2 walls instead of 4 walls", told)
        self.assertIn("gap 0.3 instead of 0.25", told)
        self.change(second, "preset", preset=name)
        self.assertIn("As in", self.section(second, 2).text("unlike"))
        self.post("presets/forget", name=name)
        self.assertNotIn(name, self.client.get("/machines").text)
        self.assertEqual(self.sheet(second)["preset"]["name"], name)

    def test_a_preset_of_the_other_kind_of_machine_is_refused(self):
        first = self.job(stl(tee()))
        self.change(first, "keep-preset", name="Usual")
        self.change(first, "printer", printer="Tarn 9")
        self.assertIsNone(self.sheet(first)["preset"])
        answer = self.client.post(f"/jobs/{first}/changes/preset", data={"preset": "Usual"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("filament machines", answer.text)


class OverTheApiTest(ShopCase):
    def post_change(self, job_id, status=200, **body):
        answer = self.client.post(f"/api/jobs/{job_id}/changes", json=body)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def test_the_shops_own_printers_are_listed_and_used_by_name(self):
        self.own_printer("Sallow")
        listed = {p["name"]: p for p in self.client.get("/api/printers").json()}
        self.assertEqual(listed["Sallow"]["build_mm"], [400, 400, 508])
        self.assertIn("Sedge 300", listed)
        job_id = self.job(stl(tee()))
        self.post_change(job_id, kind="printer", printer="Sallow")
        self.assertEqual(self.sheet(job_id)["own_printer"]["name"], "Sallow")

    def test_a_preset_that_is_kept_can_be_taken_by_another_job(self):
        first, second = self.job(stl(tee())), self.job(stl(tee()))
        self.post_change(first, kind="layer", layer_mm=0.28)
        self.post_change(first, kind="keep-preset", name="Kept over the wire")
        self.change(second, "preset", preset="Kept over the wire")
        self.assertEqual(self.sheet(second)["layer_mm"], 0.28)

    def test_a_printer_with_two_nozzles_is_not_handed_the_file_of_one_with_one(self):
        files = {}
        for nozzles in ("one", "two"):
            self.own_printer(f"Reedmace {nozzles}", nozzles={"one": "1", "two": "2"}[nozzles])
            job_id = self.job(stl(comb()), "comb.stl")
            self.post_change(job_id, kind="printer", printer=f"Reedmace {nozzles}")
            self.post_change(job_id, kind="limit", limit_deg=45)
            # Two nozzles print interfaces with another material, one cannot.
            self.post_change(
                job_id, kind="supports", style="grid", second="interface", second_material="PETG"
            )
            self.settle(job_id)
            package = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
            with zipfile.ZipFile(io.BytesIO(package)) as archive:
                model = next(n for n in archive.namelist() if n.endswith(".model"))
                files[nozzles] = archive.read(model).decode()
        self.assertNotEqual(files["one"], files["two"])
        self.assertIn("PETG", files["two"])
        self.assertNotIn("PETG", files["one"])


class CountedTest(ShopCase):
    alone = True

    def test_moving_an_item_makes_nothing_below_the_plate_again(self):
        job_id = self.job(stl(tee()))
        self.change(job_id, "supports", style="tree")
        self.settle(job_id)
        self.assertEqual(self.client.get(f"/jobs/{job_id}/handoff.3mf").status_code, 200)
        # Paths too, which are laid once their section is opened.
        until = time.monotonic() + 90
        while self.client.get(f"/api/jobs/{job_id}/task?open=8").json()["task"] is not None:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.05)
        made = []
        work = self.app.state.services.work
        work.made = lambda name, key: made.append(name)
        self.change(job_id, "place", open=9, x_mm="12", y_mm="-7", swing_deg="30")
        self.settle(job_id)
        self.client.get(f"/jobs/{job_id}/sheet?open=8")
        self.settle(job_id)
        self.assertEqual(self.client.get(f"/jobs/{job_id}/handoff.3mf").status_code, 200)
        self.assertEqual(set(made), {"package", "plate_picture"})
        # And what is counted is counted: a turn makes much anew.
        self.change(job_id, "turn", x_deg="90")
        self.settle(job_id)
        self.assertIn("layers", made)

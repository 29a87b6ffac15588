"""What a new job begins with: it asks for the printer and the material, and for a limit that was measured."""

import unittest

from tests.support import stl, tee
from tests.web.test_app import AppCase, Page


class MachineTest(AppCase):
    alone = True

    def setUp(self):
        self.client.cookies.clear()

    def sheet(self, job_id):
        return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]

    def begun(self, printer="", material=""):
        answer = self.upload(stl(tee()), "tee.stl", printer, material)
        self.assertEqual(answer.status_code, 201, answer.text)
        return answer.json()["id"]

    def chosen(self):
        page = self.client.get("/").text.partition('id="for-printer"')[2]
        picks = [line for line in page.split("<option") if "selected" in line.split(">")[0]]
        return [pick.split('value="')[1].split('"')[0] for pick in picks if 'value="' in pick.split(">")[0]]

    def test_where_nobody_says_the_job_asks_and_preflight_tells(self):
        job_id = self.begun()
        self.assertEqual(self.sheet(job_id)["asked"], ["printer", "material"])
        page = self.section(job_id, 2)
        self.assertIn("Which printer and which material?", page.text("machine-asked"))
        self.assertIn("Nobody chose Sedge 300 and PLA", page.text("preflight"))
        # Nothing is remembered of a job that nobody decided.
        self.assertEqual(self.chosen(), [])
        self.change(job_id, "printer", printer="Reed 190")
        self.assertEqual(self.sheet(job_id)["asked"], ["material"])
        self.assertIn("Nobody chose PLA: it stands in", self.section(job_id, 2).text("preflight"))
        self.change(job_id, "material", material="PETG")
        self.assertEqual(self.sheet(job_id)["asked"], [])
        self.assertNotIn("machine-asked", self.section(job_id, 2).ids)
        self.assertEqual(self.chosen(), ["Reed 190", "PETG"])
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.sheet(job_id)["asked"], ["material"])

    def test_what_stands_in_can_be_meant(self):
        job_id = self.begun()
        self.change(job_id, "keep-machine")
        self.assertEqual(self.sheet(job_id)["asked"], [])
        self.assertEqual(self.chosen(), ["Sedge 300", "PLA"])

    def test_another_kind_of_machine_asks_for_its_material_again(self):
        job_id = self.begun("Sedge 300", "PETG")
        self.change(job_id, "printer", printer="Tarn 9")
        self.assertEqual(self.sheet(job_id)["asked"], ["material"])

    def test_the_machine_of_the_upload_is_taken_with_its_layers_and_offered_first_from_then_on(self):
        job_id = self.begun("Tarn 9", "Tough resin")
        sheet = self.sheet(job_id)
        self.assertEqual(
            (sheet["printer"], sheet["material"], sheet["layer_mm"]), ("Tarn 9", "Tough resin", 0.05)
        )
        self.assertEqual((sheet["asked"], self.chosen()), ([], ["Tarn 9", "Tough resin"]))
        # Another person at another browser is asked.
        self.client.cookies.clear()
        self.assertEqual(self.chosen(), [])

    def test_a_printer_without_a_material_asks_for_the_material(self):
        self.assertEqual(self.sheet(self.begun("Reed 190"))["asked"], ["material"])

    def test_what_does_not_go_together_or_is_not_there_is_refused(self):
        before = len(self.client.get("/api/jobs").json())
        self.refused(self.upload(stl(tee()), "a.stl", "Tarn 9", "PLA"), 422, "cannot use PLA")
        self.refused(self.upload(stl(tee()), "a.stl", "Willow 5", "PLA"), 422, "no printer")
        self.assertEqual(len(self.client.get("/api/jobs").json()), before)
        # A machine that the shop no longer has is not offered.
        self.client.cookies.set("heron-machine", "Willow%205%7CPLA")
        self.assertEqual(self.chosen(), [])

    def test_a_copy_and_bodies_keep_asking(self):
        job_id = self.begun()
        self.client.post(f"/jobs/{job_id}/duplicate")
        self.assertTrue(all(job["sheet"]["asked"] for job in self.client.get("/api/jobs").json()
                            if job["sheet"]["name"] == "Tee" and job["id"] == job_id))  # fmt: skip


class LimitTest(AppCase):
    alone = True

    def test_a_limit_nobody_measured_starts_at_45_and_says_so(self):
        for printer, material in (("Sedge 300", "PLA"), ("Sedge 300", "PETG"), ("Tarn 9", "Standard resin")):
            with self.subTest(material):
                job_id = self.upload(stl(tee()), "tee.stl", printer, material).json()["id"]
                page = Page(self.client.get(f"/jobs/{job_id}/sheet?open=2").text)
                self.assertEqual(page.ids["limit"]["value"], "45")
                self.assertIn("not measured", page.text("limit-from"))
                self.assertIn("measure it with a coupon", page.text("limit-from"))
                self.assertIn("limit 45°, measure it", self.client.get(f"/jobs/{job_id}/sheet?open=1").text)

    def test_what_was_measured_counts_for_its_own_machine_and_material_only(self):
        measured = {"printer": "Sedge 300", "material": "PLA", "limit_deg": "57", "date": "2026-11-02"}
        answer = self.client.post("/machines/measured", data=measured, follow_redirects=False)
        self.assertLess(answer.status_code, 400, answer.text)
        job_id = self.upload(stl(tee()), "tee.stl").json()["id"]
        limit = lambda: Page(self.client.get(f"/jobs/{job_id}/sheet?open=2").text).ids["limit"]["value"]  # noqa: E731
        self.assertEqual(limit(), "57")
        self.assertNotIn("measure it", self.section(job_id, 2).text("limit-from"))
        self.change(job_id, "material", material="PETG")
        self.assertEqual(limit(), "45")
        self.change(job_id, "material", material="PLA")
        self.assertEqual(limit(), "57")
        self.change(job_id, "printer", printer="Reed 190")
        self.assertEqual(limit(), "45")


if __name__ == "__main__":
    unittest.main()

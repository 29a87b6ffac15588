"""What a job is printed on, in the real interface: chosen in the Yard, asked in the job, and kept on the plate."""

from selenium.webdriver.support.ui import Select

from tests.browser.case import BrowserCase, start
from tests.support import box, stl, tee
from tests.web.test_brought import package

setUpModule = start


class MachineTest(BrowserCase):
    def test_what_the_yard_says_is_taken_and_offered_again(self):
        b = self.browser
        b.driver.delete_all_cookies()
        b.open(self.server.url)
        (self.folder / "wedge.stl").write_bytes(stl(tee()))
        Select(b.find("#for-printer")).select_by_visible_text("Tarn 9")
        materials = [option for option in Select(b.find("#for-material")).options if option.is_enabled()]
        self.assertEqual(
            [option.get_attribute("value") for option in materials],
            ["", "Standard resin", "Tough resin", "Castable resin"],
        )
        Select(b.find("#for-material")).select_by_visible_text("Tough resin")
        b.find("#files").send_keys(str(self.folder / "wedge.stl"))
        b.ready()
        self.assertIn("Tarn 9 · Tough resin", b.text(".chip"))
        b.open(self.server.url)
        chosen = [
            Select(b.find(f"#for-{what}")).first_selected_option.text for what in ("printer", "material")
        ]
        self.assertEqual(chosen, ["Tarn 9", "Tough resin"])
        # Another kind of machine: its materials only, and none of them in silence.
        Select(b.find("#for-printer")).select_by_visible_text("Reed 190")
        self.assertEqual(b.find("#for-material").get_attribute("value"), "")
        self.assertEqual(b.problems(), [])

    def test_a_job_that_nobody_decided_asks(self):
        b = self.browser
        job_id = self.server.upload("tee.stl", stl(tee()))
        b.open(f"{self.server.url}/jobs/{job_id}?open=2")
        b.ready()
        self.assertIn("Which printer and which material?", b.text("#machine-asked"))
        b.click("#keep-machine")
        b.wait(lambda: not b.all("#machine-asked"))
        self.assertEqual(b.problems(), [])


class EdgeTest(BrowserCase):
    def test_a_brim_past_the_edge_is_brought_back_by_a_press(self):
        b = self.browser
        job_id = self.server.upload("bar.stl", stl(box(250, 20, 8)))
        for kind, fields in (
            ("footing", {"footing": "brim", "lines": 8}),
            ("place", {"x_mm": 26, "y_mm": 0}),
        ):
            self.server.post(f"/api/jobs/{job_id}/changes", {"kind": kind, **fields})
        b.open(f"{self.server.url}/jobs/{job_id}?open=9")
        b.ready()
        b.wait(lambda: b.all("[data-put]"))
        self.assertIn("reach 4.5 mm past the edge of the plate", b.text("#sheet"))
        # The view shows it: the plate lies so far aside below the item.
        self.assertEqual(b.run("return window.heron.view.plate.position.toArray()"), [-26, 0, 0])
        b.click("[data-put]")
        b.wait(lambda: not b.all("[data-put]"))
        self.assertAlmostEqual(float(b.attribute("#place-x", "value")), 21.48, places=4)
        self.assertAlmostEqual(b.run("return window.heron.view.plate.position.x"), -21.48, places=4)
        self.assertEqual(b.problems(), [])


class TogetherTest(BrowserCase):
    def names(self):
        return [row.text.split("\n")[0] for row in self.browser.all("#all-plates td.break")]

    def test_items_of_another_job_come_and_go_in_another_material(self):
        b = self.browser
        guest = self.server.upload("guest.stl", stl(box(10, 12, 4)))
        self.server.post(f"/api/jobs/{guest}/changes", {"kind": "rename", "name": "Otter clips"})
        for job_id in (guest, host := self.server.upload("host.stl", stl(box(30, 20, 4)))):
            self.server.post(f"/api/jobs/{job_id}/changes", {"kind": "keep-machine"})
        b.open(f"{self.server.url}/jobs/{host}?open=9")
        b.ready()
        b.click("#other-jobs")
        b.wait(lambda: b.all("#bring-source"))
        Select(b.find("#bring-source")).select_by_value(guest)
        b.click("#bring-form button")
        b.wait(lambda: len(self.names()) == 2)
        self.assertIn("guest.stl of Otter clips", self.names()[1])
        # It is the one to be looked at next, and goes in a material of its own: to a plate, and a file, apart.
        item = self.server.get(f"/api/jobs/{host}")["sheet"]["items"][1]["id"]
        b.open(f"{self.server.url}/jobs/{host}?open=9&item={item}")
        b.ready()
        Select(b.find("#print-in-material")).select_by_visible_text("PETG")
        b.wait(lambda: b.attribute("#all-plates", "data-plates") == "2")
        self.assertIn("A plate, and its file, are of one material", b.text("#print-in"))
        rows = [row.text for row in b.all("#all-plates tr.group")]
        self.assertTrue("PLA" in rows[0] and "PETG" in rows[1], rows)
        # Both files are written and read back where somebody asks, and are told apart.
        for plate in (1, 2):
            b.click(f"[data-verify='{plate}']")
            b.wait(lambda plate=plate: not b.all(f"[data-verify='{plate}']"))
        told = [one.text for one in b.all("#verified li")]
        self.assertEqual(told, [f"Plate {k}: G-code written, read back and verified" for k in (1, 2)])
        # Back in the material of the job, it may stand with the other again.
        Select(b.find("#print-in-material")).select_by_visible_text("PLA")
        b.wait(lambda: "PETG" not in b.text("#all-plates"))
        b.click("#arrange-all")
        b.wait(lambda: b.attribute("#all-plates", "data-plates") == "1")
        self.assertEqual(b.problems(), [])


class BroughtTest(BrowserCase):
    def test_supports_of_the_file_are_kept_by_a_press(self):
        b = self.browser
        job_id = self.server.upload("shelf.3mf", package())
        b.open(f"{self.server.url}/jobs/{job_id}?open=1")
        b.ready()
        b.click("#keep-brought")
        b.wait(lambda: "kept in the stance it came in" in (b.text("#brought") if b.all("#brought") else ""))
        b.ready(supports=True)
        # The part stands on them, so high above the plate.
        self.assertAlmostEqual(b.run("return window.heron.store.now.lift"), 20)
        self.assertEqual(b.problems(), [])

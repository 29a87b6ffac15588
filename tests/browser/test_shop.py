"""A day in the shop: a model in pieces on plates for two printers, copies, and a tray of figures, until they ran."""

import unittest
from pathlib import Path

from selenium.webdriver import ActionChains
from selenium.webdriver.support.ui import Select

from tests.browser.driver import Browser, Server
from tests.floor.rack import Rack
from upright_heron.stand_in.protocol import State, Trouble

# Preflight finds something wrong.
WRONG = "#send-excuse:not([data-wrong='0'])"


class ShopTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.server = Server(demo=True)
        cls.addClassCleanup(cls.server.close)
        # Large parts, on a machine that may have other work.
        cls.browser = Browser(wait_s=300)
        cls.addClassCleanup(cls.browser.close)
        cls.rack = Rack(Path(cls.server.folder) / "machines")
        cls.addClassCleanup(cls.rack.close)

    def add_machine(self, model, name, **options):
        machine, url = self.rack.add(model, name, **options)
        b = self.browser
        b.open(f"{self.server.url}/floor")
        b.fill("#add-machine input[name=name]", name)
        Select(b.find("#add-machine select")).select_by_visible_text(model)
        b.fill("#add-machine input[name=url]", url)
        b.click("#add-machine button")
        b.wait(lambda: "free" in b.text(f"[data-station='{name}']"))
        return machine

    def at(self, job_id, section, item=""):
        self.browser.open(
            f"{self.server.url}/jobs/{job_id}?open={section}" + (f"&item={item}" if item else "")
        )
        self.browser.ready()

    def change(self, job_id, kind, item="", **fields):
        self.server.post(f"/api/jobs/{job_id}/changes", {"kind": kind, **fields}, item)

    def plates(self, job_id):
        """Printer and items of each plate, as the page shows them."""
        return self.browser.run(
            """return [...document.querySelectorAll('#all-plates tbody')].map((body) => [
                 body.querySelector('.group .quiet')?.textContent ?? '',
                 [...body.querySelectorAll('tr:not(.group):not(#whole) td:first-child')].map((e) => e.textContent.trim())])"""
        )

    def arrange(self):
        b = self.browser
        step = b.run("return window.heron.state.step")
        b.click("#arrange-all")
        b.wait(lambda: b.run("return window.heron.state.step") != step, "nothing was arranged")
        b.plan_ready()

    def send(self, station, who="Wren"):
        """Send the plate that is looked at, with a reason: it is kept where something is wrong."""
        b = self.browser
        before = len(b.all("#sent li"))
        Select(b.find("#send-station")).select_by_visible_text(station)
        b.fill("#send-who", who)
        b.fill("#send-excuse", "a trial without supports, spool at hand")
        b.click("#send")
        # The file is written and read back first.
        b.wait(lambda: len(b.all("#sent li")) > before or b.all("#notice .notice"), "it was not sent")
        self.assertEqual(len(b.all("#sent li")), before + 1, [one.text for one in b.all("#notice")])

    def card(self, name):
        return self.browser.text(f"[data-station='{name}']")

    def test_from_pieces_copies_and_figures_to_prints_that_ran(self):
        b = self.browser

        wide = self.add_machine("Sedge 300", "Long bench", speed_up=40_000, slower=1.25)
        small = self.add_machine("Reed 190", "Window", speed_up=40_000, grams=1.5)
        resin = self.add_machine("Tarn 9", "Sink", speed_up=0.5)
        job = "demo-dragonfly"
        self.change(job, "keep-machine")
        self.change(job, "layer", layer_mm=0.3)
        self.change(job, "process", walls=1, infill_percent=3)
        self.at(job, 3)
        # Without supports: preflight will find that wrong, and want to know why they go all the same.
        b.click("#set-supports")
        b.click("#stand-pieces")
        b.wait(lambda: b.all("#set tr[data-state]") and not b.all('#set tr[data-state="to stand"]'))
        self.at(job, 9)
        self.arrange()
        # The two smallest pieces go to the other printer, on a plate of their own.
        pieces = {
            one["part"]["file_name"]: one["id"]
            for one in self.server.get(f"/api/jobs/{job}")["sheet"]["items"]
        }
        small_ones = [pieces[f"dragonfly piece {k}.stl"] for k in (2, 3)]
        last = len(self.plates(job))
        for item in small_ones:
            self.at(job, 9, item)
            Select(b.find("#place-plate")).select_by_value(str(last + 1))
            b.wait(lambda: b.attribute("#all-plates", "data-here") == str(last + 1))
        b.click("#which-machine, .machine-choice button")
        b.wait(lambda: b.all("[data-printer='Reed 190'] button"))
        b.click("[data-printer='Reed 190'] button")
        b.wait(lambda: b.all("#send-station") and "Window" in b.text("#send-station"))
        self.arrange()
        plates = self.plates(job)
        self.assertEqual([one[0] for one in plates], ["Sedge 300", "Sedge 300", "Reed 190"])
        self.assertEqual(plates[2][1], ["3 dragonfly piece 2.stl", "4 dragonfly piece 3.stl"])
        self.send("Window")
        for name in ("dragonfly piece 5.stl", "dragonfly piece 1.stl"):
            self.at(job, 9, pieces[name])
            self.send("Long bench")
        # Copies of the bracket: one is dragged over another, which preflight tells at once; taken back.
        job = "demo-telescope-bracket"
        self.change(job, "keep-machine")
        self.at(job, 9)
        b.fill("#copies", "4")
        b.wait(lambda: len(b.all("#plate-plan .lying")) == 4)
        self.arrange()
        one, other = b.all("#plate-plan .lying .silhouette")[:2]
        ActionChains(b.driver).drag_and_drop(one, other).perform()
        b.wait(lambda: b.all(WRONG))
        self.assertIn("crosses another", b.text("#sheet"))
        b.click("#undo")
        b.wait(lambda: not b.all(WRONG))
        self.send("Long bench")
        # A tray of six figures, close together.
        job = "demo-heron-figurine"
        self.change(job, "keep-machine")
        self.change(job, "layer", layer_mm=0.1)
        self.change(job, "plating", gap_mm=2, turning="freely")
        self.at(job, 9)
        b.fill("#copies", "6")
        b.wait(lambda: len(b.all("#plate-plan .lying")) == 6)
        self.arrange()
        self.assertEqual(self.plates(job), [["", ["1 heron-figurine.stl × 6, each"]]])
        self.send("Sink")
        b.wait(lambda: resin.status().state is State.PRINTING)
        resin.trouble(Trouble(layer=40, reason="an island floated"))
        resin.speed_up = 8000
        # The machines: one waits for material, one fails, one does both of its plates once it is cleared.
        b.open(f"{self.server.url}/floor")
        b.wait(lambda: "waits for material" in self.card("Window"))
        b.wait(
            lambda: (
                "failed: clear the plate" in self.card("Sink") and "an island floated" in self.card("Sink")
            )
        )
        b.fill("[data-station='Window'] input[name=grams]", "750")
        b.click("[data-station='Window'] .spool button")
        b.wait(lambda: small.status().left_g == 750)
        b.click("[data-station='Window'] [data-act=resume]")
        b.wait(lambda: "done: clear the plate" in self.card("Window"))
        for _ in range(3):
            b.wait(lambda: "done: clear the plate" in self.card("Long bench"))
            b.click("[data-station='Long bench'] [data-act=cleared]")
            # Its next print begins by itself, or it is free.
            b.wait(lambda: "done: clear the plate" not in self.card("Long bench"))
        self.assertEqual(len(wide.begun), 3)
        self.assertEqual(resin.status().state, State.FAILED)
        # The record, where what failed is judged; and a job is begun from it.
        b.open(f"{self.server.url}/record")
        rows = [(one.get_attribute("data-outcome"), one.text) for one in b.all("#prints tbody tr")]
        self.assertEqual(sorted(outcome for outcome, _ in rows), ["done", "done", "done", "done", "failed"])
        failed = next(text for outcome, text in rows if outcome == "failed")
        for words in ("Heron figurine", "× 6", "an island floated", "at layer 40"):
            self.assertIn(words, failed)
        self.assertTrue(any("a trial without supports" in text for _, text in rows))
        # The next estimate is what these took: a quarter longer on that kind of machine.
        self.at("demo-telescope-bracket", 8)
        b.wait(lambda: b.all("#learned"))
        self.assertIn("Learned from 3 prints on the Sedge 300", b.text("#sheet"))
        self.assertEqual(b.problems(), [])


if __name__ == "__main__":
    unittest.main()

"""From finished items to prints that ran, in the real interface: arranged, moved, checked, sent, printed, recorded."""

import shutil
import tempfile
import time
import unittest
from pathlib import Path

from selenium.webdriver import ActionChains
from selenium.webdriver.support.ui import Select

from tests.browser.case import BrowserCase
from tests.browser.driver import Browser, Server
from tests.floor.rack import Rack
from tests.support import box, stl
from upright_heron.stand_in.protocol import State, Trouble

# Preflight finds something wrong.
WRONG = "#send-excuse:not([data-wrong='0'])"


class FloorTest(BrowserCase):
    @classmethod
    def setUpClass(cls):
        # Machines that are added here would be there for the tests of others; and one kills its server.
        cls.folder = Path(tempfile.mkdtemp(prefix="heron-downloads-"))
        cls.addClassCleanup(shutil.rmtree, cls.folder)
        cls.server = Server(upload_mb=20)
        cls.addClassCleanup(cls.server.close)
        cls.browser = Browser(cls.folder)
        cls.addClassCleanup(cls.browser.close)

    def setUp(self):
        self.rack = Rack(Path(self.folder) / "machines")
        self.addCleanup(self.rack.close)

    def add_machine(self, name, **options):
        machine, url = self.rack.add("Sedge 300", name, **options)
        b = self.browser
        b.open(f"{self.server.url}/floor")
        b.fill("#add-machine input[name=name]", name)
        Select(b.find("#add-machine select")).select_by_visible_text("Sedge 300")
        b.fill("#add-machine input[name=url]", url)
        b.click("#add-machine button")
        b.wait(lambda: "free" in b.text(f"[data-station='{name}']"))
        return machine

    def card(self, name):
        return self.browser.text(f"[data-station='{name}']")

    def press(self, name, what):
        self.browser.click(f"[data-station='{name}'] [data-act={what}]")

    def send(self, station, **fields):
        b = self.browser
        before = len(b.all("#sent li"))
        Select(b.find("#send-station")).select_by_visible_text(station)
        for name, value in fields.items():
            b.fill(f"#send-{name}", value)
        b.click("#send")
        b.wait(lambda: len(b.all("#sent li")) == before + 1)

    def test_two_machines_one_failure_and_one_empty_spool(self):
        b = self.browser
        good = self.add_machine("Left", speed_up=4000, slower=1.25, grams=3.0)
        worn = self.add_machine("Right", speed_up=0.5)
        job_id = self.server.upload("trio.stl", stl(box(20, 20, 4)))
        self.server.post(f"/api/jobs/{job_id}/changes", {"kind": "keep-machine"})
        b.open(f"{self.server.url}/jobs/{job_id}?open=9")
        b.ready()
        b.fill("#copies", "3")
        b.wait(lambda: len(b.all("#plate-plan .lying")) == 3)
        b.click("#arrange-all")
        b.wait(lambda: b.all("#arrange"))
        b.plan_ready()
        # One is dragged into another: preflight says so, and it does not go without a reason.
        one, other = b.all("#plate-plan .lying .silhouette")[:2]
        ActionChains(b.driver).drag_and_drop(one, other).perform()
        b.wait(lambda: b.all(WRONG))
        self.assertIn("crosses another", b.text("#sheet"))
        b.click("#send")
        b.wait(lambda: "say why it goes all the same" in b.text("#notice"))
        b.click("#undo")
        b.wait(lambda: not b.all(WRONG))
        b.ready()
        # Less is left than the plate takes: that wants a reason too.
        b.click("#send")
        b.wait(lambda: "g left; plate 1 takes about" in b.text("#notice"))
        self.send("Left", who="Wren", excuse="another spool is at hand")
        self.send("Right", who="Wren")
        b.open(f"{self.server.url}/floor")
        # The page follows without being loaded again: the spool of one runs out.
        b.wait(lambda: "waits for material" in self.card("Left"))
        worn.trouble(Trouble(layer=2, reason="warped"))
        worn.speed_up = 4000
        b.wait(lambda: "failed: clear the plate" in self.card("Right") and "warped" in self.card("Right"))
        b.fill("[data-station='Left'] input[name=grams]", "750")
        b.click("[data-station='Left'] .spool button")
        b.wait(lambda: good.status().left_g == 750)
        self.press("Left", "resume")
        b.wait(lambda: "done: clear the plate" in self.card("Left"))
        self.assertEqual(good.status().state, State.DONE)
        for name in ("Left", "Right"):
            self.press(name, "cleared")
            b.wait(lambda name=name: "free" in self.card(name))
        b.open(f"{self.server.url}/record?q=trio")
        rows = {row.get_attribute("data-outcome"): row.text for row in b.all("#prints tbody tr")}
        self.assertIn("Left", rows["done"])
        self.assertIn("warped", rows["failed"])
        self.assertIn("at layer 2 of 20", rows["failed"])
        row = b.find("#prints tr[data-outcome=failed]")
        row.find_element("css selector", "summary").click()
        row.find_element("css selector", "textarea").send_keys("a brim next time")
        row.find_element("css selector", ".judge button").click()
        b.wait(lambda: "a brim next time" in b.text("#prints"))
        self.assertIn("warped", b.text("#months"))
        # What the next one takes is told as it was printed here: a quarter longer.
        b.open(f"{self.server.url}/jobs/{job_id}?open=8")
        b.ready()
        b.wait(lambda: b.all("#learned"))
        self.assertRegex(b.text("#sheet"), r"Learned from \d prints? on the Sedge 300")
        b.problems()

    def test_a_server_that_starts_again_goes_on(self):
        b = self.browser
        machine = self.add_machine("Long", speed_up=20)
        job_id = self.server.upload("block.stl", stl(box(20, 20, 4)))
        self.server.post(f"/api/jobs/{job_id}/changes", {"kind": "keep-machine"})
        b.open(f"{self.server.url}/jobs/{job_id}?open=9")
        b.ready()
        self.send("Long")
        until = time.monotonic() + 60
        while machine.status().state is not State.PRINTING:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.1)
        self.server.kill()
        self.server.start()
        b.open(f"{self.server.url}/floor")
        b.wait(lambda: "printing" in self.card("Long"))
        machine.speed_up = 4000
        b.wait(lambda: "done: clear the plate" in self.card("Long"))
        self.assertEqual(len(machine.begun), 1)
        b.problems()


if __name__ == "__main__":
    unittest.main()

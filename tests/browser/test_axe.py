"""The pages hold what axe-core checks of them (Deque, MPL 2.0, for tests only): names, roles, contrast, order."""

from pathlib import Path

from tests.browser.case import BrowserCase, start
from tests.support import box, stl, tee

setUpModule = start

AXE = Path(__file__).resolve().parents[2] / "node_modules/axe-core/axe.min.js"
RUN = """const done = arguments[arguments.length - 1];
axe.run(document, {resultTypes: ['violations']}).then(
  (found) => done(found.violations.map((one) => [one.id, one.nodes[0].html, one.nodes[0].failureSummary])),
  (error) => done([['axe', String(error), '']]))"""


class AxeTest(BrowserCase):
    @classmethod
    def setUpClass(cls):
        cls.script = AXE.read_text()
        cls.filament = cls.server.upload("tee.stl", stl(tee()))
        cls.resin = cls.server.upload("block.stl", stl(box(20, 20, 20)))
        for name, changes in (
            (cls.filament, [{"kind": "keep-machine"}, {"kind": "supports"}, {"kind": "copies", "count": 2}]),
            (cls.resin, [{"kind": "printer", "printer": "Tarn 9"}, {"kind": "supports"}]),
        ):
            for change in changes:
                cls.server.post(f"/api/jobs/{name}/changes", change)
            cls.server.settle(name)

    def found(self):
        self.browser.driver.set_script_timeout(120)
        self.browser.run(self.script)
        return self.browser.driver.execute_async_script(RUN)

    def check(self, path):
        self.browser.open(self.server.url + path)
        if "open=" in path:
            self.browser.ready()
        self.assertEqual(self.found(), [])

    def test_what_it_would_find_is_found(self):
        self.browser.open(self.server.url + "/machines")
        self.browser.run("document.querySelector('main').innerHTML += '<button></button><input>'")
        self.assertTrue({"button-name", "label"} <= {one[0] for one in self.found()})

    def test_pages_of_the_shop(self):
        for path in ("/", "/?q=nothing", "/machines", "/floor", "/spools", "/record"):
            with self.subTest(path):
                self.check(path)

    def test_every_section_of_both_technologies(self):
        for name in (self.filament, self.resin):
            for number in range(10):
                with self.subTest(job=name, section=number):
                    self.check(f"/jobs/{name}?open={number}")

    def test_what_opens_over_a_page(self):
        b = self.browser
        b.open(f"{self.server.url}/jobs/{self.filament}?open=9")
        b.ready()
        b.run("document.querySelector('#preflight').open = true")
        self.assertEqual(self.found(), [])
        b.run("document.querySelector('#preflight').open = false")
        b.click("#show-plan")
        b.plan_ready()
        b.click("#help")
        self.assertEqual(self.found(), [])
        b.open(f"{self.server.url}/jobs/{self.filament}/traveller")
        self.assertEqual(self.found(), [])

    def test_what_is_told_of_what_is_not_there(self):
        self.browser.open(f"{self.server.url}/jobs/nothing")
        self.assertEqual(self.found(), [])
        # The page itself came with this status; that is no fault of it.
        self.assertTrue(all("404" in one for one in self.browser.problems()))

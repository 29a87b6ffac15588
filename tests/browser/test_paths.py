"""Paths with a real browser: looked at layer by layer, played, variants compared, taken and undone, G-code."""

import urllib.request

from selenium.webdriver.common.keys import Keys

from tests.browser.case import BrowserCase, start, stop
from tests.support import box
from upright_heron.core.toolpaths.gcode_check import read

setUpModule = start
tearDownModule = stop


class PathsTest(BrowserCase):
    def open_laid(self):
        # A box with a thin fin on top.
        job_id = self.open_job(box(24, 18, 5) + box(20, 0.6, 8, (2, 8, 0)), section=8)
        self.browser.wait(lambda: self.browser.find("#timed"))
        return job_id

    def drawn(self):
        """Layer whose beads are drawn, and how many stretches they have."""
        told = self.browser.run("return document.body.dataset.paths")
        return tuple(int(n) for n in told.split()) if told else None

    def choose(self, selector, value):
        self.browser.run(
            """const s = document.querySelector(arguments[0]); s.value = arguments[1];
            s.dispatchEvent(new Event('change', {bubbles: true}))""",
            selector, value,
        )  # fmt: skip

    def colours(self):
        """How many pixels of the view are pink, as thin places are."""
        return self.browser.run(
            """const {view} = window.heron; view.renderer.render(view.scene, view.camera);
            const gl = view.renderer.getContext(), w = gl.drawingBufferWidth, h = gl.drawingBufferHeight;
            const px = new Uint8Array(4 * w * h); gl.readPixels(0, 0, w, h, gl.RGBA, gl.UNSIGNED_BYTE, px);
            let n = 0;
            for (let i = 0; i < px.length; i += 4)
              if (px[i] > 110 && px[i + 1] < 0.45 * px[i] && px[i + 2] > px[i + 1] + 25) n++;
            return n"""
        )

    def test_beads_are_looked_at_layer_by_layer(self):
        self.open_laid()
        self.browser.click("#show-paths")
        self.browser.wait(lambda: self.drawn())
        self.browser.fill("#layer-number", "10")
        self.browser.wait(lambda: self.drawn()[0] == 9)
        self.assertIn("layer 10 of 40 at 2.00 mm", self.browser.text("#paths-told"))
        for kind in ("outer wall", "infill", "top", "bottom", "thin places"):
            self.assertIn(kind, self.browser.text("#paths-kinds"))
        # In the fin there is one bead, in the colour of thin places, till these are hidden.
        self.browser.fill("#layer-number", "35")
        self.browser.wait(lambda: self.drawn()[0] == 34)
        self.assertLess(self.drawn()[1], 12)
        self.browser.click('[data-view="above"]')
        self.browser.wait(lambda: self.colours() > 100)
        self.browser.click('#paths-kinds [data-kind="2"]')
        self.browser.wait(lambda: self.colours() < 20)
        # Played to its end, and by width.
        self.browser.click("#paths-play")
        self.browser.wait(lambda: self.browser.attribute("#paths-play", "aria-pressed") == "false")
        self.assertEqual(self.browser.run("return window.heron.view.beads.uniforms.upto.value"), 1)
        self.choose("#paths-by", "1")
        self.assertTrue(self.browser.find("#paths-widths").is_displayed())
        self.browser.click("#show-paths")
        self.browser.wait(lambda: not self.browser.find("#paths-legend").is_displayed())
        self.assertEqual(self.browser.problems(), [])

    def test_variants_fill_while_one_looks_on_and_one_is_taken_and_undone(self):
        job_id = self.open_laid()
        now = self.browser.text("#true-time")
        self.browser.click("#what-if")
        self.browser.wait(lambda: "worked out" not in self.browser.text("#what-if-told"))
        rows = self.browser.run("return document.querySelectorAll('[data-what]').length")
        self.assertGreaterEqual(rows, 9)
        self.assertNotIn("…", self.browser.text("#what-if-table"))
        self.browser.click('[data-what="layers of 0.3 mm"] button')
        self.browser.wait(lambda: self.sheet(job_id)["layer_mm"] == 0.3)
        self.browser.wait(lambda: self.browser.find("#timed") and self.browser.text("#true-time") != now)
        self.browser.click("#undo")
        self.browser.wait(lambda: self.sheet(job_id)["layer_mm"] == 0.2)
        self.browser.wait(lambda: self.browser.find("#timed") and self.browser.text("#true-time") == now)
        self.assertEqual(self.browser.problems(), [])

    def test_settings_are_found_and_heights_come_from_the_profile(self):
        job_id = self.open_laid()
        shown = "return [...document.querySelectorAll('.setting:not([hidden]) label')].map(l => l.htmlFor)"
        usual = self.browser.run(shown)
        self.assertEqual(len(usual), 12)
        self.browser.fill("#find-setting", "holes")
        self.browser.wait(lambda: self.browser.run(shown) == ["hole-aside"])
        self.browser.fill("#find-setting", "no such thing")
        self.browser.wait(lambda: self.browser.find("#no-setting").is_displayed())
        self.browser.fill("#find-setting", Keys.DELETE)
        self.browser.wait(lambda: self.browser.run(shown) == usual)
        # A stretch from layer 6 to layer 10: 1.0 to 2.0 mm over the plate.
        self.browser.click("#by-height summary")
        for layer, field in (("6", "zone-low"), ("10", "zone-high")):
            self.browser.fill("#layer-number", layer)
            self.browser.click(f'[data-height="{field}"]')
        self.browser.fill("#zone-walls", "5")
        self.browser.click("#zone-form > button")
        self.browser.wait(lambda: self.sheet(job_id)["items"][0]["by_height"]["zones"])
        (zone,) = self.sheet(job_id)["items"][0]["by_height"]["zones"]
        self.assertEqual((zone["low_mm"], zone["high_mm"], zone["walls"]), (1.0, 2.0, 5))
        # Seen by how fast it goes, with the seams.
        self.browser.wait(lambda: self.browser.find("#timed"))
        self.browser.click("#show-paths")
        self.browser.wait(lambda: self.drawn())
        self.choose("#paths-by", "2")
        self.browser.wait(lambda: self.browser.run("return window.heron.view.beads.speeds !== null"))
        self.assertRegex(self.browser.text("#speed-high"), r"^[3-9]\d$")
        self.browser.click("#paths-seams")
        self.browser.wait(lambda: self.browser.run("return window.heron.view.beads.seams.visible"))
        self.assertEqual(self.browser.problems(), [])

    def test_from_the_settings_to_gcode(self):
        job_id = self.open_laid()
        before = self.browser.text("#true-mass")
        self.choose("#pattern", "gyroid")
        self.browser.wait(lambda: self.sheet(job_id)["process"]["pattern"] == "gyroid")
        self.browser.wait(lambda: self.browser.find("#timed") and self.browser.text("#true-mass") != before)
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=9")
        address = self.browser.attribute(".get-gcode", "href")
        back = read(urllib.request.urlopen(address).read().decode().splitlines())
        self.assertEqual((back.machine, back.layers), ("Sedge 300", 40))
        self.assertEqual(self.browser.problems(), [])

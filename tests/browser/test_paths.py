"""Paths with a real browser: looked at layer by layer, played, variants compared, taken and undone, G-code."""

import re
import time
import urllib.request

from selenium.webdriver import ActionChains
from selenium.webdriver.common.keys import Keys
from shapely import LineString, unary_union

from tests.browser.case import BrowserCase, start
from tests.support import box
from upright_heron.core.toolpaths.beads import Kind
from upright_heron.core.toolpaths.gcode_check import read

setUpModule = start


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

    def ends(self, layer):
        """Stretches of a layer where it is cut open: low, high, bottom, top (mm), and what they are."""
        return self.browser.run(
            """const {beads} = window.heron.view, {upTo, mesh} = beads.section, k = arguments[0];
            const [lies, what] = ['lies', 'bead'].map(name => mesh.geometry.getAttribute(name).array);
            const found = [];
            for (let i = k ? upTo[k - 1] : 0; i < upTo[k]; i++)
              found.push([...lies.slice(4 * i, 4 * i + 4), what[2 * i + 1] & 127]);
            return found""",
            layer,
        )

    def test_what_is_printed_is_cut_open_from_a_side(self):
        job_id = self.open_laid()
        self.browser.click("#show-paths")
        self.browser.wait(lambda: self.drawn())
        self.browser.fill("#layer-number", "20")
        self.browser.wait(lambda: self.drawn()[0] == 19)
        self.browser.click('[data-view="front"]')
        self.browser.click("#paths-open")
        self.assertIn("9.0 mm deep, seen from the front", self.browser.text("#open-told"))
        # Along the middle of a box of 24 by 18: the part, an outer wall at each end of it, and a full floor.
        for low, high, bottom, top in [one[:4] for one in self.ends(9) if one[4] == 127]:
            self.assertAlmostEqual(low, -12, places=3)
            self.assertAlmostEqual(high, 12, places=3)
            self.assertAlmostEqual(top - bottom, 0.22, places=5)
        walls = sorted(one for one in self.ends(9) if one[4] == int(Kind.OUTER))
        self.assertEqual(len(walls), 2)
        for (low, high, bottom, top, _), middle in zip(walls, (-11.78, 11.78), strict=True):
            self.assertAlmostEqual((low + high) / 2, middle, delta=0.02)
            self.assertAlmostEqual(high - low, 0.44, delta=0.02)
            self.assertAlmostEqual(bottom, 1.8, places=5)
            self.assertAlmostEqual(top, 2.0, places=5)
        aside = (127, int(Kind.SKIRT))
        floor = unary_union(
            [LineString([(a, 0), (b, 0)]) for a, b, *_, what in self.ends(0) if what not in aside]
        )
        self.assertGreater(floor.length, 0.96 * 24)
        self.assertLess(floor.length, 24.05)
        # Only what is printed by then is drawn; deeper and from another side what was cut follows.
        drawn = "return window.heron.view.beads.section.mesh.geometry.instanceCount"
        up_to = "return window.heron.view.beads.section.upTo[19]"
        self.assertEqual(self.browser.run(drawn), self.browser.run(up_to))
        self.browser.click('[data-view="side"]')
        self.browser.click("#open-here")
        self.assertIn("12.0 mm deep, seen from the right", self.browser.text("#open-told"))
        self.assertEqual([round(one[1] - one[0]) for one in self.ends(9) if one[4] == 127], [18])
        for deep, told in ((0, "0.0 mm deep"), (250, "6.0 mm deep")):
            self.browser.run(
                """const s = document.querySelector('#paths-deep'); s.value = arguments[0];
                s.dispatchEvent(new Event('input', {bubbles: true}))""",
                deep,
            )
            self.assertIn(told, self.browser.text("#open-told"))
        self.browser.click("#paths-open")
        self.assertFalse(self.browser.run("return window.heron.view.beads.section.mesh.visible"))
        self.assertFalse(self.browser.find("#open-fields").is_displayed())
        # Infill of every second layer is as high as two, where the nozzle can do that.
        self.browser.click("#show-paths")
        self.choose("#quality", "0.1")
        self.browser.wait(lambda: self.sheet(job_id)["layer_mm"] == 0.1)
        self.browser.wait(lambda: self.browser.find("#timed") and self.browser.find("#infill-every"))
        self.choose("#infill-every", "2")
        self.browser.wait(lambda: self.sheet(job_id)["process"]["infill_every"] == 2)
        self.browser.click("#show-paths")
        self.browser.wait(lambda: self.drawn())
        self.browser.click("#paths-open")
        twice = 16 + int(Kind.INFILL)
        self.browser.wait(lambda: any(one[4] == twice for one in self.ends(20) + self.ends(21)))
        for one in self.ends(20) + self.ends(21):
            high = 0.2 if one[4] == twice else 0.12 if one[4] == 127 else 0.1
            self.assertAlmostEqual(one[3] - one[2], high, places=5)
        self.assertEqual([round(one[3] - one[2], 5) for one in self.ends(20) if one[4] == 127], [0.12])
        self.assertEqual(self.browser.problems(), [])

    def test_paths_that_come_late_or_never_are_told_of(self):
        self.open_laid()
        self.browser.click("#show-paths")
        self.browser.wait(lambda: self.drawn())
        # Their block is held back, and the sheet is told of again meanwhile.
        self.browser.run(
            """window.real = window.fetch; window.held = [];
            window.fetch = (url, ...rest) => window.real(url, ...rest).then(
              (answer) => !String(url).includes('/blocks/paths/')
                ? answer : new Promise((go) => window.held.push(() => go(answer))))"""
        )
        self.choose("#quality", "0.1")
        self.browser.wait(lambda: self.browser.run("return window.held.length") == 1)
        self.browser.run("window.heron.section.update()")
        self.assertEqual(self.browser.text("#paths-told"), "Laying paths…")
        self.assertEqual(self.drawn(), None)
        self.browser.run("window.held[0](); window.fetch = window.real")
        self.browser.wait(lambda: " of 80 at " in self.browser.text("#paths-told"))
        self.assertTrue(self.browser.run("return window.heron.view.beads.mesh.visible"))
        # Speeds are those of the paths that are shown, also after others came: one for each place.
        fast = "return window.heron.view.beads.speeds?.length ?? null"
        places = "return window.heron.view.beads.data.places.length / 2"
        self.choose("#paths-by", "2")
        self.browser.wait(lambda: self.browser.run(fast) == self.browser.run(places))
        self.choose("#quality", "0.2")
        self.browser.wait(lambda: " of 40 at " in self.browser.text("#paths-told"))
        self.browser.wait(lambda: self.browser.run(fast) == self.browser.run(places))
        # A block that does not come is told of, and asked for once more.
        self.browser.run(
            """window.fetch = (url, ...rest) => String(url).includes('/blocks/paths/')
              ? Promise.reject(new TypeError('away')) : window.real(url, ...rest)"""
        )
        self.choose("#quality", "0.1")
        self.browser.wait(lambda: "could not be loaded" in self.browser.text("#paths-told"))
        self.browser.run("window.fetch = window.real")
        for _ in range(2):
            self.browser.click("#show-paths")
        self.browser.wait(lambda: " of 80 at " in self.browser.text("#paths-told"))
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

    def test_a_body_is_pointed_at_for_the_second_nozzle(self):
        slab = box(20, 20, 4) - box(10.04, 10.04, 3, (4.98, 4.98, 1.98))
        self.open_job(slab + box(10, 10, 2, (5, 5, 2)), section=8)
        self.browser.wait(lambda: self.browser.find("#timed"))
        self.browser.click('[data-view="above"]')
        self.browser.click("#pick-body")
        self.assertIn("the second nozzle is to print", self.browser.text("#pick-words"))
        ActionChains(self.browser.driver).move_to_element(self.browser.find("#canvas")).click().perform()
        self.browser.wait(lambda: self.browser.all("#bodies-picked"))
        self.assertFalse(self.browser.find("#pick-slip").is_displayed())
        self.browser.click("#show-paths")
        self.browser.wait(lambda: self.drawn())
        self.browser.fill("#layer-number", "15")
        self.browser.wait(lambda: self.drawn()[0] == 14)
        self.choose("#paths-by", "4")
        self.assertTrue(self.browser.find("#paths-nozzles").is_displayed())
        # The outer walls of the inlay are its own; the stand is of both.
        spans = self.browser.run(
            """const {data} = window.heron.view.beads, found = [[1e9, -1e9], [1e9, -1e9]];
            for (let i = data.start[14]; i < data.start[15]; i++) {
              const bits = data.beads[2 * i + 1], x = data.low[0] + data.places[2 * i] * data.step;
              if (bits & 15) continue;
              const one = found[bits & 64 ? 1 : 0];
              one[0] = Math.min(one[0], x);
              one[1] = Math.max(one[1], x);
            }
            return found.map(([low, high]) => high - low)"""
        )
        for span, asked in zip(spans, (19.56, 9.56), strict=True):
            self.assertAlmostEqual(span, asked, delta=0.05)
        self.browser.click("#no-bodies")
        self.browser.wait(lambda: not self.browser.all("#bodies-picked"))

    def halfway(self, job_id, pattern):
        """Have a pattern laid that is another in each layer, and halt the workers when the first layers are there."""
        self.choose("#pattern", pattern)
        self.browser.wait(lambda: self.sheet(job_id)["process"]["pattern"] == pattern)
        address = f"{self.server.url}/jobs/{job_id}/sheet?open=8"
        for _ in range(3000):
            with urllib.request.urlopen(address, timeout=60) as answer:
                keys = re.search(rb'"toolpaths": (null|"\w+"), "firstPaths": (null|"[\w-]+")', answer.read())
            if keys[1] != b"null":
                return None
            if keys[2] != b"null":
                return self.server.paused()
            time.sleep(0.02)
        return None

    def test_first_layers_are_seen_while_the_rest_is_laid(self):
        job_id = self.open_job(box(60, 60, 40), section=8)
        self.browser.wait(lambda: self.browser.find("#timed"))
        self.browser.click("#show-paths")
        self.browser.wait(lambda: self.drawn())
        self.browser.fill("#layer-number", "10")
        self.browser.wait(lambda: self.drawn()[0] == 9)
        seen = """const {beads} = window.heron.view;
            return [document.querySelector('#paths-told').textContent, beads.mesh.visible, beads.data.count,
                    beads.uniforms.count.value]"""
        first = []
        # Where all is laid before anybody looks, another is tried.
        for pattern in ("gyroid", "cubic") * 4:
            if (halted := self.halfway(job_id, pattern)) is None:
                continue
            with halted:
                self.browser.wait(lambda: "of the first 40" in self.browser.text("#paths-told"))
                first = self.browser.run(seen)
                # Higher up nothing of it is there yet.
                self.browser.fill("#layer-number", "150")
                self.browser.wait(lambda: "The first 40 layers are there" in self.browser.text("#paths-told"))
                self.browser.fill("#layer-number", "10")
            break
        self.assertEqual(first[:3], ["layer 10 of the first 40 at 2.00 mm; the rest is being laid", True, 40])
        self.browser.wait(lambda: self.drawn())
        self.assertEqual(self.browser.run(seen), ["layer 10 of 200 at 2.00 mm", True, 200, first[3]])
        # Who looks higher up keeps what was drawn till all is there.
        self.browser.fill("#layer-number", "150")
        self.browser.wait(lambda: self.drawn()[0] == 149)
        for pattern in ("gyroid", "cubic") * 4:
            if (halted := self.halfway(job_id, pattern)) is None:
                continue
            with halted:
                self.browser.run("return window.heron.section.update()")
                self.browser.wait(lambda: self.browser.run("return Boolean(window.heron.state.firstPaths)"))
                self.assertEqual(self.browser.run(seen)[:3], ["Laying paths…", True, 200])
            break
        else:
            self.fail("it was laid before anybody looked, each time")
        self.browser.wait(lambda: self.drawn())
        self.assertEqual(self.drawn()[0], 149)

    def test_what_is_chosen_as_soon_as_a_sheet_came_is_heard(self):
        job_id = self.open_laid()
        # At the first moment that a hand could be there: before anything else runs that was put off.
        self.browser.run(
            """new MutationObserver((_, seen) => {
                 seen.disconnect();
                 const s = document.querySelector('#infill-every'); s.value = '2';
                 s.dispatchEvent(new Event('change', {bubbles: true}));
               }).observe(document.querySelector('#sheet'), {childList: true})"""
        )
        self.choose("#quality", "0.1")
        self.browser.wait(lambda: self.sheet(job_id)["process"]["infill_every"] == 2)
        self.assertEqual(self.sheet(job_id)["layer_mm"], 0.1)

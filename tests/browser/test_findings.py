"""Findings, the walk through the layers, and painting with real pointer moves."""

import unittest

from selenium.webdriver.common.action_chains import ActionChains

from tests.browser.driver import Browser, Server
from tests.support import box, comb, stl, tee


def setUpModule():
    global server, browser
    server = Server()
    browser = Browser()


def tearDownModule():
    browser.close()
    server.close()


class Case(unittest.TestCase):
    def setUp(self):
        browser.problems()

    def tearDown(self):
        self.assertEqual(browser.problems(), [])

    def open_job(self, body, section=5):
        job_id = server.upload("part.stl", stl(body))
        server.settle(job_id)
        browser.open(f"{server.url}/jobs/{job_id}?open={section}")
        browser.ready()
        return job_id

    def sheet(self, job_id):
        return server.get(f"/api/jobs/{job_id}")["sheet"]

    def key(self, key):
        ActionChains(browser.driver).send_keys(key).perform()

    def finding(self, name):
        browser.wait(lambda: browser.run("return document.body.dataset.finding") == name, f"no {name}")


class FindingsTest(Case):
    def test_step_filter_sort_and_fly(self):
        self.open_job(tee())
        self.assertIn("to do", browser.text("#tally"))
        browser.click('tr[data-name="overhang 2"] .dot')
        self.finding("overhang 2")
        self.assertTrue(browser.run("return Boolean(window.heron.view.place)"))
        self.assertIn("ceiling", browser.text("#finding-words"))
        browser.find("#canvas").click()
        order = browser.run("return window.heron.findings.rows.map(r => r.dataset.name)")
        at = order.index("overhang 2")
        self.key("p")
        self.finding(order[at - 1])
        self.key("n")
        self.finding("overhang 2")
        browser.run("document.querySelector('#show-family').value = 'overhang'")
        browser.run(
            "document.querySelector('#show-family').dispatchEvent(new Event('change', {bubbles: true}))"
        )
        self.assertEqual(
            browser.run("return window.heron.findings.rows.map(r => r.dataset.family)"), ["overhang"] * 2
        )
        self.key("n")
        self.finding("overhang 1")
        browser.click("#open-6")
        browser.wait(lambda: not browser.run("return Boolean(window.heron.view.place)"))

    def test_letting_one_be_with_a_note(self):
        job_id = self.open_job(tee())
        browser.click('tr[data-name="overhang 1"] .dot')
        self.finding("overhang 1")
        browser.fill("#accept-note", "sawn off later", "")
        browser.click("#accept")
        browser.wait(lambda: list(self.sheet(job_id)["accepted"].values()) == ["sawn off later"])
        browser.wait(lambda: "sawn off later" in browser.text("#finding-words"))
        browser.click("#look-again")
        browser.wait(lambda: self.sheet(job_id)["accepted"] == {})


class WalkTest(Case):
    def index(self):
        return browser.run("return window.heron.profile.index")

    def test_height_play_and_next_finding(self):
        self.open_job(comb(), 8)
        browser.fill("#layer-z", "7.05")
        browser.wait(lambda: self.index() == 35)
        self.assertEqual(browser.attribute("#layer-number", "value"), "36")
        browser.click("#play")
        browser.wait(lambda: self.index() and self.index() > 40)
        browser.click("#play")
        stopped = self.index()
        self.assertEqual(browser.text("#play"), "Play")
        browser.fill("#layer-z", "4")
        browser.click("#next-finding")
        self.finding("island 1")
        browser.wait(lambda: self.index() == 25)
        browser.click("#next-finding")
        self.finding("island 2")
        self.assertEqual(self.index(), 50)
        self.assertGreater(stopped, 40)

    def test_the_plan_shows_what_is_new_in_plum_and_islands_in_magenta(self):
        self.open_job(comb())

        def colours(layer):
            browser.run("window.heron.profile.set(arguments[0])", layer)
            return browser.run(
                """
                const c = document.querySelector('#plan');
                const copy = Object.assign(document.createElement('canvas'), {width: c.width, height: c.height});
                const seen = copy.getContext('2d', {willReadFrequently: true});
                seen.drawImage(c, 0, 0);
                const p = seen.getImageData(0, 0, c.width, c.height).data;
                let plum = 0, magenta = 0, pale = 0;
                for (let i = 0; i < p.length; i += 4) {
                  if (p[i] === 162 && p[i + 1] === 100) plum++;
                  if (p[i] === 200 && p[i + 1] === 36) magenta++;
                  if (p[i] === 207 && p[i + 1] === 221) pale++;
                }
                return {plum, magenta, pale};
                """
            )

        calm, island, roof = colours(10), colours(25), colours(100)
        self.assertEqual((calm["plum"], calm["magenta"]), (0, 0))
        self.assertGreater(calm["pale"], 50)
        self.assertGreater(island["magenta"], 50)
        self.assertGreater(roof["plum"], 5 * roof["pale"], "the roof is new but for three legs")

    def test_moving_a_layer_stays_within_a_frame(self):
        self.open_job(comb())
        worst = browser.run(
            """
            const p = window.heron.profile; let worst = 0;
            for (let i = 0; i < p.levels.length; i++) {
              const t = performance.now(); p.set(i); worst = Math.max(worst, performance.now() - t);
            }
            return worst;
            """
        )
        # Script only, drawing aside; a frame of 60 a second with room for a shared machine.
        self.assertLess(worst, 60)


class PaintTest(Case):
    def paint(self, body):
        job_id = self.open_job(body)
        browser.click("#tab-marks")
        browser.wait(lambda: (browser.run("return window.heron.keys.mesh") or "").startswith("fine/"))
        browser.click('[data-view="front"]')
        return job_id

    def count(self, byte):
        return browser.run("return window.heron.view.part.count(arguments[0])", byte)

    def drag(self, start, moves):
        chain = ActionChains(browser.driver, duration=30)
        chain.move_to_element_with_offset(browser.find("#canvas"), *start).click_and_hold()
        for move in moves:
            chain.move_by_offset(*move)
        chain.release().perform()
        browser.wait(
            lambda: browser.run("return window.heron.marks.flying === 0 && !window.heron.view.pending")
        )

    def marked(self, job_id, name):
        marks = self.sheet(job_id)["marks"]
        return marks[name] if marks else 0.0

    def test_strokes_fill_and_undo(self):
        job_id = self.paint(box(60, 40, 50))
        camera = "return window.heron.view.camera.position.toArray().map(v => Math.round(v))"
        before = browser.run(camera)
        browser.click('[data-brush="prop"]')
        self.drag((-40, 0), [(20, 0), (20, 5), (20, -5)])
        propped = self.count(1)
        self.assertGreater(propped, 20)
        browser.wait(lambda: self.marked(job_id, "prop_mm2") > 0)
        self.assertEqual(browser.run(camera), before, "a stroke does not turn the view")
        # Only the side that is seen: the back keeps clean.
        self.assertTrue(
            browser.run(
                """
                const p = window.heron.view.part, m = p.geometry.getAttribute('mark').array;
                for (let f = 0; f < p.areas.length; f++) if (m[3 * f] && p.normals[3 * f + 1] > -0.9) return false;
                return true;
                """
            )
        )
        browser.click('[data-brush="clear"]')
        self.drag((-40, 60), [(30, 0), (30, 0)])
        cleared = self.count(2)
        self.assertGreater(cleared, 10)
        browser.click('[data-brush="erase"]')
        self.drag((-40, 0), [(30, 0), (40, 0)])
        self.assertLess(self.count(1), propped)
        browser.wait(lambda: not browser.attribute("#undo", "disabled"))
        self.assertEqual(server.get(f"/api/jobs/{job_id}")["step"], 4)
        browser.click("#undo")
        browser.wait(lambda: self.count(1) == propped)
        browser.ready()
        browser.click("#undo")
        browser.wait(lambda: self.count(2) == 0)
        self.assertEqual(self.count(1), propped)
        # Figures that come in swap the buttons too: a click in that moment would be lost.
        browser.ready()
        browser.click("#redo")
        browser.wait(lambda: self.count(2) == cleared)

    def test_right_through_sizes_and_fill_by_clicking(self):
        job_id = self.paint(box(60, 40, 50))
        browser.click('[data-brush="show"]')
        browser.click("#brush-through")
        browser.fill("#brush-mm", "12")
        self.drag((0, 0), [(2, 0)])
        self.assertTrue(
            browser.run(
                """
                const p = window.heron.view.part, m = p.geometry.getAttribute('mark').array;
                let back = false;
                for (let f = 0; f < p.areas.length; f++) back ||= m[3 * f] === 3 && p.normals[3 * f + 1] > 0.9;
                return back;
                """
            ),
            "right through reaches the back",
        )
        self.key("+")
        self.assertAlmostEqual(browser.run("return window.heron.view.brush.size"), 13.8, places=5)
        browser.run(
            "const s = document.querySelector('#fill-what'); s.value = 'face'; s.dispatchEvent(new Event('change', {bubbles: true}))"
        )
        browser.click('[data-brush="clear"]')
        ActionChains(browser.driver).move_to_element_with_offset(
            browser.find("#canvas"), 0, 0
        ).click().perform()
        browser.wait(lambda: abs(self.marked(job_id, "clear_mm2") - 3000) < 1e-3)
        browser.wait(
            lambda: "30 cm²" in browser.text("#area-clear") or "30.0 cm²" in browser.text("#area-clear")
        )
        self.key("\ue00c")
        self.assertIsNone(browser.run("return window.heron.view.brush.kind"))

    def test_a_drag_beside_the_part_turns_the_view(self):
        job_id = self.paint(box(30, 20, 25))
        before = browser.run("return window.heron.view.camera.position.toArray()")
        browser.click('[data-brush="prop"]')
        self.drag((-300, -220), [(60, 0), (60, 20)])
        self.assertNotEqual(browser.run("return window.heron.view.camera.position.toArray()"), before)
        self.assertIsNone(self.sheet(job_id)["marks"])

    def test_a_dab_takes_few_milliseconds(self):
        # 60 a second leave 16 ms a frame; what is measured is the work of the brush, without drawing.
        self.paint(box(200, 150, 120))
        browser.click('[data-brush="prop"]')
        self.drag((-80, 0), [(40, 10)] * 5)
        dabs, ms, facets = browser.run(
            "const b = window.heron.view.brush; return [b.dabs, b.ms / b.dabs, window.heron.view.part.areas.length]"
        )
        self.assertGreater(dabs, 15)
        self.assertGreater(facets, 100_000)
        self.assertLess(ms, 50, "many times what a quiet machine needs: a guard against quadratic work")


if __name__ == "__main__":
    unittest.main()

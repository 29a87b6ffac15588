"""Findings, the walk through the layers, and painting with real pointer moves."""

import math
import unittest

from selenium.webdriver.common.action_chains import ActionChains

from tests.browser.case import shared
from tests.support import box, comb, stalactites, stl, tee


def setUpModule():
    global server, browser
    server, browser, _ = shared()


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
        sheet = server.get(f"/api/jobs/{job_id}")["sheet"]
        return {**sheet, **sheet["items"][0]}

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
        order = browser.run(
            "return window.heron.controllers.get('overhangs').findings.rows.map(r => r.dataset.name)"
        )
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
            browser.run(
                "return window.heron.controllers.get('overhangs').findings.rows.map(r => r.dataset.family)"
            ),
            ["overhang"] * 2,
        )
        self.key("n")
        self.finding("overhang 1")
        browser.open_section(6)
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

    def test_no_label_lies_over_another_from_any_side(self):
        self.open_job(stalactites())
        for side in ("front", "side", "corner", "below"):
            browser.click(f'[data-view="{side}"]')
            browser.wait(lambda: not browser.run("return window.heron.view.pending"))
            with self.subTest(side):
                boxes = browser.run(
                    """
                    return [...document.querySelectorAll('#tags span')].filter(s => !s.hidden).map(s => {
                      const r = s.getBoundingClientRect(); return [s.textContent, r.left, r.top, r.right, r.bottom];
                    });
                    """
                )
                self.assertEqual(len(boxes), 16)
                for k, (name, left, top, right, bottom) in enumerate(boxes):
                    for other, a, b, c, d in boxes[:k]:
                        apart = left >= c or a >= right or top >= d or b >= bottom
                        self.assertTrue(apart, f"{name} lies over {other}")

    def test_walking_all_layers_asks_nothing_of_the_server(self):
        self.open_job(comb())
        asked, areas = browser.run(
            """
            performance.clearResourceTimings();
            const p = window.heron.profile, areas = [];
            for (let i = 0; i < p.levels.length; i++) { p.set(i); areas.push(p.layers.part.area[p.index]); }
            return [performance.getEntriesByType('resource').length, areas];
            """
        )
        self.assertEqual((asked, len(areas)), (0, 125))
        # One leg of 5 x 5 mm, from z = 5 on two, from 10 on three, and the roof of 60 x 20 from 20 on.
        for layer, area in ((0, 25), (24, 25), (25, 50), (50, 75), (99, 75), (100, 1200), (124, 1200)):
            self.assertAlmostEqual(areas[layer], area, delta=0.01)


class PaintTest(Case):
    def paint(self, body):
        job_id = self.open_job(body)
        browser.click("#tab-marks")
        browser.wait(lambda: (browser.run("return window.heron.keys.mesh") or "").startswith("fine/"))
        browser.click('[data-view="front"]')
        # Where the camera looks from is known once it has drawn.
        browser.wait(lambda: not browser.run("return window.heron.view.pending"))
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
            lambda: browser.run(
                "return window.heron.controllers.get('overhangs').marks.flying === 0 && !window.heron.view.pending"
            )
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
        # What the stroke has set going is done: a sheet that came late would take the choice back.
        browser.wait(lambda: not browser.all("#work"))
        browser.ready()
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

    def test_a_straight_stroke_paints_a_band_with_round_ends(self):
        job_id = self.paint(box(200, 150, 120))
        self.assertGreater(browser.run("return window.heron.view.part.areas.length"), 100_000)
        browser.click('[data-brush="prop"]')
        browser.fill("#brush-mm", "12")
        # Where the pointer goes down and up, on the part; aslant, or whole rows of facets are in or out.
        start, end = browser.run(
            """
            const v = window.heron.view, r = v.canvas.getBoundingClientRect();
            const at = (x, y) => v.part.hit(
              v.ray({clientX: r.left + r.width / 2 + x, clientY: r.top + r.height / 2 + y})
            ).point.toArray();
            return [at(-100, -35), at(100, 35)];
            """
        )
        self.drag((-100, -35), [(40, 14)] * 5)
        browser.wait(lambda: self.marked(job_id, "prop_mm2") > 0)
        # Facets of about a millimetre are taken by their middles.
        band = 12 * math.dist(start, end) + math.pi * 6**2
        self.assertAlmostEqual(self.marked(job_id, "prop_mm2") / band, 1, delta=0.04)


if __name__ == "__main__":
    unittest.main()

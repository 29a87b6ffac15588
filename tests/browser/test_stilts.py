"""Stilts with real pointer moves: an island propped while layers are walked, tips by clicking, stronger ones."""

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.case import BrowserCase, start, stop
from tests.support import box

setUpModule = start
tearDownModule = stop


class StiltsTest(BrowserCase):
    def open_held(self):
        # A ceiling on a post, and a peg that begins in mid-air.
        body = box(30, 20, 3, (0, 0, 20)) + box(4, 20, 23, (-4, 0, 0)) + box(1.2, 1.2, 8, (14, 8, 12))
        job_id = self.open_job(body)
        for change in ({"kind": "printer", "printer": "Tarn 9"}, {"kind": "supports"}):
            self.server.post(f"/api/jobs/{job_id}/changes", change)
        self.server.settle(job_id)
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=6")
        self.browser.ready(supports=True)
        return job_id

    def settled(self, job_id):
        self.server.settle(job_id)
        self.browser.ready(supports=True)

    def supports(self, job_id):
        return self.sheet(job_id)["supports"]

    def test_an_island_is_propped_while_the_layers_are_walked(self):
        job_id = self.open_held()
        # Nothing is offered where everything is held.
        self.walk_to(12.0)
        self.assertFalse(self.browser.find("#prop-island").is_displayed())
        place = self.browser.run("return window.heron.state.islands[0]")
        # Its tip is taken out in the view from below, where it stands on the tip of the peg.
        self.browser.click('[data-view="below"]')
        self.browser.click('[data-tab="tips"]')
        self.browser.fill("#layer-number", "9999")
        self.browser.click("#tip-out")
        self.assertIn("where the tip stands", self.browser.text("#pick-words"))
        self.click_on([place["x"], place["y"], place["z"]])
        self.browser.wait(lambda: self.supports(job_id)["out_mm"])
        self.settled(job_id)
        self.browser.wait(lambda: not self.browser.run("return window.heron.state.islands[0].held"))
        # Walking up by keys: in the layer in which it begins the island is offered, and above it no more.
        self.walk_to(11.9)
        self.browser.find("#canvas").click()
        offered = []
        for _ in range(6):
            ActionChains(self.browser.driver).send_keys("]").perform()
            offered.append(self.browser.find("#prop-island").is_displayed())
            if offered[-1]:
                break
        self.assertTrue(offered[-1], offered)
        self.browser.click("#prop-island")
        self.browser.wait(lambda: len(self.supports(job_id)["put_mm"]) == 1)
        self.settled(job_id)
        self.browser.wait(lambda: self.browser.run("return window.heron.state.islands[0].held"))
        self.browser.wait(lambda: not self.browser.find("#prop-island").is_displayed())
        put = self.supports(job_id)["put_mm"][0]
        self.assertLess(max(abs(a - b) for a, b in zip(put, (14.6, 8.6, 12.0), strict=True)), 0.6)
        self.browser.click("#undo")
        self.browser.wait(lambda: not self.supports(job_id)["put_mm"])
        self.assertEqual(self.browser.problems(), [])

    def test_the_weakest_are_made_stronger_and_a_tip_is_put_by_clicking(self):
        job_id = self.open_held()
        self.assertIn("island", self.browser.text("#weakest"))
        self.browser.click("#strengthen")
        self.browser.wait(lambda: self.supports(job_id)["spare"] > 1.4)
        self.settled(job_id)
        stronger = f"{self.supports(job_id)['spare']:g}"
        self.assertEqual(self.browser.attribute("#spare", "value"), stronger)
        self.browser.click('[data-view="below"]')
        self.browser.click('[data-tab="tips"]')
        self.browser.click("#tip-put")
        # Escape leaves picking.
        ActionChains(self.browser.driver).send_keys(Keys.ESCAPE).perform()
        self.assertFalse(self.browser.find("#pick-slip").is_displayed())
        self.browser.click("#tip-put")
        self.click_on([8.0, 2.0, 20.0])
        self.browser.wait(lambda: self.supports(job_id)["put_mm"])
        self.settled(job_id)
        self.browser.wait(lambda: "1 tip put by hand" in self.browser.text("#tips-tally"))
        x, y, z = self.supports(job_id)["put_mm"][0]
        self.assertLess(max(abs(x - 21), abs(y - 12), abs(z - 20)), 0.5)
        self.assertEqual(self.browser.problems(), [])

    def test_a_ring_round_soles_in_one_press(self):
        job_id = self.open_held()
        self.browser.click('[data-tab="tips"]')
        self.browser.click("#ring-soles")
        self.browser.wait(lambda: "No sole hangs over the plate" in self.browser.text("#notice"))
        self.browser.problems()
        self.server.post(f"/api/jobs/{job_id}/changes", {"kind": "lift", "lift_mm": 5})
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=6")
        self.settled(job_id)
        self.browser.click('[data-tab="tips"]')
        self.browser.fill("#ring-spacing", "3")
        self.browser.click("#ring-soles")
        self.browser.wait(lambda: self.supports(job_id)["put_mm"])
        self.settled(job_id)
        put = self.supports(job_id)["put_mm"]
        # The foot of the post, 4 by 20 mm, 0.6 mm inside: 43.2 mm round.
        self.assertEqual(len(put), 15)
        self.assertTrue(all(-4 < x < 0 and 0 < y < 20 and abs(z) < 1e-6 for x, y, z in put))
        self.assertIn("15 tips put by hand", self.browser.text("#tips-tally"))
        self.assertEqual(self.browser.problems(), [])

    def walk_to(self, height):
        self.browser.fill("#layer-z", f"{height:g}")

    def click_on(self, place):
        """Click on a place of the plate in the view."""
        x, y = self.browser.run(
            """window.heron.view.camera.updateMatrixWorld();
            const c = window.heron.view.canvas, p = window.heron.view.controls.target.clone();
            p.set(...arguments[0]).project(window.heron.view.camera);
            return [Math.round(p.x * c.clientWidth / 2), Math.round(-p.y * c.clientHeight / 2)]""",
            place,
        )
        canvas = self.browser.find("#canvas")
        ActionChains(self.browser.driver).move_to_element_with_offset(canvas, x, y).click().perform()

"""Stilts with real pointer moves: an island propped while layers are walked, tips by clicking, stronger ones."""

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.case import BrowserCase, start
from tests.support import box

setUpModule = start


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

    def test_stilts_are_drawn_as_one_shape_many_times_and_told_apart_from_others(self):
        job_id = self.open_held()

        def drawn():
            """Rows of frusta, and how many corners and facets their shape has."""
            return self.browser.run(
                """const {supports, shells} = window.heron.view, g = supports.geometry;
                return [shells.supports.frusta.length / 9, g.instanceCount, g.index.count / 3,
                        supports.visible, g.boundingSphere.radius]"""
            )

        rows, count, facets, visible, radius = drawn()
        self.assertEqual((rows, facets, visible), (count, 44, True))
        self.assertGreater(rows, 30)
        self.assertGreater(radius, 10)
        # Copper pixels between plate and ceiling, in the view from the front.
        self.browser.click('[data-view="front"]')
        self.assertGreater(self.copper(), 300)
        self.browser.click('[data-tab="side"]')
        self.browser.click("#keep-variant")
        self.browser.wait(lambda: self.sheet(job_id)["variants"])
        self.server.post(f"/api/jobs/{job_id}/changes", {"kind": "supports", "spare": 4, "spacing_mm": 1.5})
        self.settled(job_id)
        self.browser.wait(lambda: drawn()[0] != rows)
        self.browser.click("[data-difference]")
        self.browser.wait(lambda: self.browser.run("return document.body.dataset.differs"))
        now, other, both = (int(n) for n in self.browser.run("return document.body.dataset.differs").split())
        self.assertGreater(now, 0)
        self.assertGreater(other + both, 0)
        # Both with their figures, and what sets them apart.
        self.assertEqual(len(self.browser.text("#variants-count").split()), 1 + 3)
        self.assertNotIn("…", self.browser.text("#variants"))
        self.assertIn("bear × 4", self.browser.text("#side"))
        self.assertEqual(self.browser.problems(), [])

    def copper(self):
        """How many pixels of the view have the colour of supports."""
        return self.browser.run(
            """const {view} = window.heron; view.renderer.render(view.scene, view.camera);
            const gl = view.renderer.getContext(), w = gl.drawingBufferWidth, h = gl.drawingBufferHeight;
            const px = new Uint8Array(4 * w * h); gl.readPixels(0, 0, w, h, gl.RGBA, gl.UNSIGNED_BYTE, px);
            let n = 0;
            for (let i = 0; i < px.length; i += 4) if (px[i] > 1.5 * px[i + 2] + 20) n++;
            return n"""
        )

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
        # The place is marked at once, until the stilts have come.
        self.assertEqual(self.browser.run("return document.body.dataset.coming"), "1")
        self.browser.wait(lambda: self.supports(job_id)["put_mm"])
        self.settled(job_id)
        self.browser.wait(lambda: "1 tip put by hand" in self.browser.text("#tips-tally"))
        x, y, z = self.supports(job_id)["put_mm"][0]
        self.assertLess(max(abs(x - 21), abs(y - 12), abs(z - 20)), 0.5)
        self.browser.wait(lambda: self.browser.run("return document.body.dataset.coming") == "0")
        # Whatever it bears, it gets the size that is chosen.
        self.browser.click("#tip-size")
        self.click_on([8.0, 2.0, 20.0])
        self.browser.wait(lambda: self.supports(job_id)["tip_sizes"])
        self.assertEqual(self.supports(job_id)["tip_sizes"][0]["size"], "stout")
        self.settled(job_id)
        self.browser.wait(lambda: "1 sized" in self.browser.text("#tips-tally"))
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

    def mask(self):
        """Layer that the mask shows, and how many pixels of its picture are white, plum and dark."""
        return self.browser.run(
            """
            const canvas = document.querySelector('#mask'), mask = window.heron.controllers.get('layers').mask;
            if (!mask.shown) return null;
            const {fresh, width, height} = mask.shown;
            const p = fresh.getContext('2d').getImageData(0, 0, width, height).data;
            let white = 0, plum = 0, dark = 0;
            for (let i = 0; i < p.length; i += 4) {
              if (p[i] > 150 && p[i + 1] < 160) plum++;
              else if (p[i + 1] > 200) white++;
              else if (p[i] < 60) dark++;
            }
            return {layer: Number(canvas.dataset.layer), white, plum, dark, width, height, scale: mask.scale,
                    islands: mask.shown.islands};
            """
        )

    def shows(self, layer):
        self.browser.wait(lambda: (self.mask() or {}).get("layer") == layer)
        return self.mask()

    def test_the_mask_of_each_layer_as_the_screen_gets_it(self):
        # A plate of 20 x 10 mm with a roof of 30 x 10 over it from 3 mm up, flat on the plate.
        job_id = self.open_job(box(20, 10, 5) + box(10, 10, 2, (20, 0, 3)))
        for change in ({"kind": "printer", "printer": "Tarn 9"}, {"kind": "lift", "lift_mm": 0}):
            self.server.post(f"/api/jobs/{job_id}/changes", change)
        self.server.settle(job_id)
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=8")
        self.browser.ready()
        self.assertFalse(self.browser.find("#mask-panel").is_displayed())
        self.browser.click("#show-mask")
        first = self.shows(0)
        pixels = 10 / 0.046
        self.assertAlmostEqual(first["white"], 2 * pixels**2, delta=4 * 3 * pixels)
        self.assertEqual(first["plum"], 0)
        # It may be drawn once more as its place in the page settles.
        self.browser.wait(lambda: "of 4000 × 2500" in self.browser.text("#mask-words"))
        # Where the roof begins all of it is new.
        self.walk_to(3.01)
        layer = self.browser.run("return window.heron.profile.index")
        roof = self.shows(layer)
        self.assertAlmostEqual(roof["plum"], pixels**2, delta=4 * pixels)
        self.assertAlmostEqual(roof["white"], 2 * pixels**2, delta=4 * 3 * pixels)
        self.browser.find("#canvas").send_keys("]")
        self.assertEqual(self.shows(layer + 1)["plum"], 0)
        # The wheel comes closer, a drag moves; playing goes on to layers above.
        self.browser.run(
            "document.querySelector('#mask').dispatchEvent(new WheelEvent('wheel', {deltaY: -400, cancelable: true}))"
        )
        self.assertAlmostEqual(self.mask()["scale"] / roof["scale"], 2.718, places=2)
        middle = self.browser.run("return window.heron.controllers.get('layers').mask.middle")
        self.drag("#mask", (0, 0), (60, 0))
        after = self.browser.run("return window.heron.controllers.get('layers').mask.middle")
        self.assertAlmostEqual((middle[0] - after[0]) * self.mask()["scale"], 60, delta=2)
        self.browser.click("#play")
        self.browser.wait(lambda: self.mask()["layer"] > layer + 10)
        self.browser.click("#play")
        # Another stance, other pictures; Escape shows the part again.
        self.server.post(f"/api/jobs/{job_id}/changes", {"kind": "outlines", "outline_mm": -1.0})
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=8")
        self.browser.ready()
        self.browser.click("#show-mask")
        # First layers have a move of their own, and it is none.
        self.assertAlmostEqual(self.shows(0)["white"], first["white"], delta=10)
        self.walk_to(1.0)
        inner = self.shows(self.browser.run("return window.heron.profile.index"))
        self.assertAlmostEqual(inner["white"], 1.8 * 0.8 * pixels**2, delta=3000)
        self.browser.find("#canvas").send_keys(Keys.ESCAPE)
        self.browser.wait(lambda: not self.browser.find("#mask-panel").is_displayed())

    def test_exposures_are_typed_and_read_from_a_file(self):
        job_id = self.open_job(box(20, 10, 5))
        self.server.post(f"/api/jobs/{job_id}/changes", {"kind": "printer", "printer": "Tarn 9"})
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=8")
        self.browser.ready()
        before = self.browser.text("#rough-time")
        self.browser.fill("#cell-exposure_s-2", "9")
        self.browser.wait(lambda: "From a table" in self.browser.text("#table-told"))
        self.browser.wait(lambda: self.browser.text("#rough-time") != before)
        self.assertEqual(self.sheet(job_id)["process"]["table"][1]["exposure_s"], 9.0)
        self.server.settle(job_id)
        self.browser.ready()
        # What makes no sense is said, and what was there stays.
        file = self.folder / "bad.csv"
        file.write_text("stretch,layers\nbody,\n")
        self.browser.find("#read-table").send_keys(str(file))
        self.browser.wait(lambda: "no column exposure_s" in self.browser.text("#notice"))
        self.browser.problems()
        self.assertEqual(self.sheet(job_id)["process"]["table"][1]["exposure_s"], 9.0)
        file.write_text("stretch,layers,exposure_s,lift_mm,lift_mm_s,return_mm_s\nbody,,4,6,2,2\n")
        self.browser.find("#read-table").send_keys(str(file))
        self.browser.wait(lambda: self.browser.attribute("#cell-exposure_s-2", "value") == "4")
        self.browser.click("#usual-table")
        self.browser.wait(lambda: "As usual" in self.browser.text("#table-told"))

    def test_a_row_along_an_edge_that_is_clicked(self):
        job_id = self.open_held()
        self.browser.click('[data-view="below"]')
        self.browser.click('[data-tab="tips"]')
        self.browser.fill("#ring-spacing", "4")
        self.browser.fill("#ring-inset", "1")
        self.browser.click("#tip-row")
        self.assertIn("edge that the row goes along", self.browser.text("#pick-words"))
        # The far edge of the ceiling, at x = 30: 17 from the middle of the part.
        self.click_on([16.7, 1.0, 20.0])
        self.browser.wait(lambda: self.supports(job_id)["put_mm"])
        self.settled(job_id)
        put = self.supports(job_id)["put_mm"]
        self.assertEqual(len(put), 6)
        for (x, y, z), want in zip(
            sorted(put, key=lambda p: p[1]), (1, 4.6, 8.2, 11.8, 15.4, 19), strict=True
        ):
            self.assertLess(max(abs(x - 29), abs(y - want), abs(z - 20)), 1e-3)
        self.assertIn("6 tips put by hand", self.browser.text("#tips-tally"))

"""Stances and the limit in the real interface: pointed at, typed, dragged and compared."""

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.support.ui import Select

from tests.browser.case import BrowserCase, start
from tests.support import box, stl, tee

setUpModule = start


class StanceTest(BrowserCase):
    def test_stand_on_a_face_by_pointing_at_it(self):
        job_id = self.open_job(tee(), 4)
        self.browser.click('[data-view="above"]')
        self.browser.click("#stand")
        # Seen from above, the middle of the view is the top of the bar.
        canvas = self.browser.find("#canvas")
        ActionChains(self.browser.driver).move_to_element(canvas).pause(0.05).move_by_offset(
            2, 2
        ).click().perform()
        self.browser.wait(lambda: self.sheet(job_id)["stance"]["name"] == "upside down")
        self.browser.ready()
        self.assertEqual(self.browser.text("#fit") if self.browser.all("#fit") else "", "")
        q = self.sheet(job_id)["stance"]["quaternion"]
        self.assertAlmostEqual(abs(q[1]), 1, places=5)
        self.browser.open_section(5)
        self.browser.ready()
        self.assertEqual(self.browser.text("#contact-area"), "400 mm²")
        self.assertEqual(self.browser.text("#overhang-area"), "0 mm²")

    def test_turn_by_degrees_and_choose_from_the_board(self):
        job_id = self.open_job(tee(), 4)
        self.browser.fill("#turn-x", "90")
        self.browser.click("#turn")
        self.browser.wait(lambda: self.browser.text("#stance-size") == "40 × 25 × 10 mm")
        self.browser.ready()
        self.browser.click("#as-it-came")
        self.browser.wait(lambda: self.browser.text("#stance-size") == "40 × 10 × 25 mm")
        self.browser.ready()
        self.browser.hover("#stance-A")
        self.browser.wait(lambda: self.browser.run("return window.heron.view.ghost.visible"))
        self.browser.click("#stance-A")
        self.browser.wait(lambda: self.browser.attribute("#stance-A", "aria-pressed") == "true")
        chosen = self.browser.text("#stance-A").splitlines()[0]
        self.browser.wait(lambda: self.sheet(job_id)["stance"]["name"] in chosen)
        self.assertNotEqual(self.sheet(job_id)["stance"]["name"], "as it came")

    def test_a_mix_fills_the_sliders_until_it_is_sent_and_goes_with_undo(self):
        job_id = self.open_job(tee(), 4)
        b = self.browser
        shown = "return [...document.querySelectorAll('#goals input[type=range]')].map(e => Number(e.value))"
        before = b.run(shown)
        Select(b.find("#mix")).select_by_visible_text("filament, quick")
        b.wait(lambda: b.run(shown) == [2, 5, 0, 0, 1, 0])
        b.click("#find")
        b.wait(lambda: (self.sheet(job_id)["goals"] or {}).get("shorter_print") == 5)
        b.ready()
        self.assertEqual(b.run(shown), [2, 5, 0, 0, 1, 0])
        b.click("#undo")
        b.wait(lambda: self.sheet(job_id)["goals"] is None)
        b.ready()
        self.assertEqual(b.run(shown), before)

    def test_pointing_at_a_face_tells_what_it_would_give(self):
        self.open_job(tee(), 4)
        self.browser.click('[data-view="above"]')
        self.browser.click("#stand")
        ActionChains(self.browser.driver).move_to_element(self.browser.find("#canvas")).move_by_offset(
            3, 3
        ).perform()
        self.browser.wait(lambda: self.browser.text("#pick-gives") == "400 mm² on the plate, 0 mm² overhang")

    def test_pointing_at_a_figure_shows_the_facets_or_the_layer_it_speaks_of(self):
        self.open_job(tee(), 4)
        self.browser.find("#figure-overhang_area_mm2")
        lit = "return window.heron.view.part.litArea"

        def point(figure):
            self.browser.hover(f"#figure-{figure}")

        # Areas of what is lit, worked out by hand: bar 40 x 10 on a stem 10 x 10 x 20.
        point("overhang_area_mm2")
        self.browser.wait(lambda: abs(self.browser.run(lit) - 300) < 0.01)
        self.assertIn("past the limit", self.browser.text("#figure-meaning"))
        point("contact_area_mm2")
        self.browser.wait(lambda: abs(self.browser.run(lit) - 100) < 0.01)
        point("shadow_area_mm2")
        self.browser.wait(lambda: self.browser.run("return Boolean(window.heron.view.shadow)"))
        self.assertEqual(self.browser.run(lit), 0)
        point("largest_layer")
        self.browser.wait(lambda: self.browser.run("return window.heron.profile.index") == 100)
        self.assertAlmostEqual(self.browser.run("return window.heron.view.cut.constant"), 20.1, places=3)
        point("tip_angle_deg")
        self.browser.wait(lambda: self.browser.run("return Boolean(window.heron.view.centre)"))
        # The layer that was shown before comes back.
        self.assertIsNone(self.browser.run("return window.heron.profile.index"))

    def test_figures_of_resin_and_of_the_show_side_point_at_theirs(self):
        cup = box(30, 30, 20) - box(24, 24, 20, (3, 3, 3)) + box(40, 6, 4, (-5, 12, 16))
        job_id = self.server.upload("cup.stl", stl(cup))
        for change in (
            {"kind": "printer", "printer": "Tarn 9"},
            {"kind": "show", "normal": [0, 0, -1]},
            {"kind": "load", "normal": [0, 0, -1]},
        ):
            self.server.post(f"/api/jobs/{job_id}/changes", change)
        self.server.settle(job_id)
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=4")
        self.browser.ready()
        lit = "return window.heron.view.part.litArea"
        self.assertTrue(self.browser.run("return Boolean(window.heron.view.loadArrow)"))
        # Two ears of 5 x 6 mm stick out of the cup, and a bar of 24 x 6 mm runs over its mouth.
        for figure, area in (
            ("overhang_area_mm2", 204),
            ("contact_area_mm2", 900),
            ("flat_area_mm2", 204),
            ("touch_show_mm2", 1104),
            ("cusp_mm", 0),
        ):
            self.browser.hover(f"#figure-{figure}")
            self.browser.wait(
                lambda area=area: abs(self.browser.run(lit) - area) < 0.05, f"{figure}: {area} mm2"
            )
        self.browser.hover("#figure-cups")
        self.browser.wait(lambda: "cup 1" in self.browser.text("#tags"))
        for figure in ("peel_most", "largest_layer", "largest_growth", "height_mm"):
            self.browser.hover(f"#figure-{figure}")
            z = float(self.browser.attribute(f"#figure-{figure}", "data-z"))
            self.browser.wait(
                lambda z=z: abs(self.browser.run("return window.heron.view.cut.constant") - z) < 0.026, figure
            )

    def test_the_pad_turns_the_part_live_and_keeps_it_when_the_hand_lets_go(self):
        job_id = self.open_job(tee(), 4)
        step = self.server.get(f"/api/jobs/{job_id}")["step"]
        pad = self.browser.find("#tilt-pad")
        chain = ActionChains(self.browser.driver, duration=30).move_to_element(pad).click_and_hold()
        chain.move_by_offset(-14, 0).move_by_offset(-7, 0).perform()
        leaning = self.browser.run("return window.heron.view.part.uniforms.uDown.value.toArray()")
        self.assertGreater(abs(leaning[0]), 0.3)
        self.assertEqual(self.server.get(f"/api/jobs/{job_id}")["step"], step)
        ActionChains(self.browser.driver).release().perform()
        self.browser.wait(lambda: "leaning" in self.sheet(job_id)["stance"]["name"])
        self.assertIn("left", self.sheet(job_id)["stance"]["name"])
        self.browser.ready()

    def test_two_stances_side_by_side_are_walked_in_step(self):
        job_id = self.open_job(tee(), 4)
        self.browser.click("#find")
        self.browser.wait(lambda: "exact figures below" in self.browser.text("#board"))
        cards = self.browser.run(
            "return [...document.querySelectorAll('[data-compare]')].map(b => [b.dataset.compare, b.dataset.name])"
        )
        came = next(letter for letter, name in cards if name == "as it came")
        other = next(letter for letter, name in cards if name == "upside down")
        self.browser.click(f'[data-compare="{came}"]')
        self.browser.click(f'[data-compare="{other}"]')
        # Figures that come in draw the cards anew: what was picked stays so.
        self.browser.run(
            "document.body.addEventListener('htmx:after:swap', () => { window.drawn = true; }, {once: true});"
            "window.heron.refreshSoon()"
        )
        self.browser.wait(lambda: self.browser.run("return window.drawn"), "the cards are not drawn anew")
        picked = "return [...document.querySelectorAll('[data-compare]:checked')].map(b => b.dataset.compare)"
        self.browser.wait(lambda: sorted(self.browser.run(picked)) == sorted([came, other]), "not picked")
        self.browser.click("#compare")
        self.browser.wait(lambda: self.browser.run("return document.body.dataset.pair"))
        pair = sorted([came, other])
        sides = self.browser.run(
            "return window.heron.view.pair.sides.map(s => [s.standing.letter, s.standing.layers.count, s.body.visible])"
        )
        self.assertEqual(sides, [[pair[0], 125, True], [pair[1], 125, True]])
        # Of one height: in step by layer, each cut at its own area.
        self.browser.run("window.heron.profile.set(10)")
        self.assertEqual(self.browser.run("return window.heron.view.pair.shown"), [10, 10])
        areas = self.browser.run("return window.heron.pair.map(s => [s.letter, s.layers.area[10]])")
        self.assertEqual({k: round(v) for k, v in areas}, {came: 100, other: 400})
        # Both profiles are drawn over each other.
        self.assertEqual(len(self.browser.run("return window.heron.profile.other.area")), 125)
        ActionChains(self.browser.driver).send_keys("]").perform()
        self.assertEqual(self.browser.run("return window.heron.view.pair.shown"), [11, 11])
        self.browser.click('[name="step-by"][value="share"]')
        self.browser.run("window.heron.profile.set(124)")
        self.assertEqual(self.browser.run("return window.heron.view.pair.shown"), [124, 124])
        self.browser.click("#pair-leave")
        self.assertTrue(
            self.browser.run("return window.heron.view.part.mesh.visible && !window.heron.view.pair")
        )
        self.assertEqual(self.sheet(job_id)["stance"]["name"], "as it came")


class LimitTest(BrowserCase):
    def test_dragging_the_limit_asks_nothing_of_the_server(self):
        job_id = self.open_job(tee(), 5)
        self.browser.click('[data-view="below"]')
        self.browser.run("performance.clearResourceTimings()")
        self.assertGreater(self.colours()["plum"], 500)
        self.assertEqual(self.browser.text("#live-area"), "300 mm²")
        self.browser.run(
            """
            const s = document.querySelector('#limit-slider');
            for (let v = 54; v <= 90; v++) { s.value = v; s.dispatchEvent(new Event('input', {bubbles: true})); }
            """
        )
        self.assertEqual(self.browser.text("#live-area"), "0 mm²")
        self.assertEqual(self.colours()["plum"], 0)
        self.assertEqual(self.browser.run("return performance.getEntriesByType('resource').length"), 0)
        self.assertIsNone(self.sheet(job_id)["limit_deg"])
        # Letting go keeps it as a step.
        self.browser.run(
            "document.querySelector('#limit-slider').dispatchEvent(new Event('change', {bubbles: true}))"
        )
        self.browser.wait(lambda: "step 2" in self.browser.text("#kept"))
        # The slider is not a field of the form: the typed field beside it carries the value.
        self.assertEqual(self.sheet(job_id)["limit_deg"], 90)

    def test_dragging_with_the_pointer(self):
        job_id = self.open_job(tee(), 5)
        self.drag("#limit-slider", (20, 0), (-60, 0))
        self.browser.wait(lambda: (self.sheet(job_id)["limit_deg"] or 99) < 40)
        self.browser.ready()
        self.assertEqual(self.browser.text("#overhang-area"), "300 mm²")

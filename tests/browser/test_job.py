"""The real interface in headless Chromium: real pointer moves, real files, and the file that comes out."""

import tempfile
import time
import unittest
from pathlib import Path

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.driver import Browser, Server
from tests.core.test_threemf import read
from tests.support import box, comb, mesh_of, stl, tee
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.handoff.stl import write_stl


def setUpModule():
    global server, browser, folder
    folder = Path(tempfile.mkdtemp(prefix="heron-downloads-"))
    server = Server(upload_mb=20)
    browser = Browser(folder)


def tearDownModule():
    browser.close()
    server.close()


class BrowserCase(unittest.TestCase):
    def setUp(self):
        browser.problems()

    def tearDown(self):
        self.assertEqual(browser.problems(), [])

    def open_job(self, body, section=1):
        job_id = server.upload("part.stl", stl(body))
        browser.open(f"{server.url}/jobs/{job_id}?open={section}")
        browser.ready()
        return job_id

    def sheet(self, job_id):
        sheet = server.get(f"/api/jobs/{job_id}")["sheet"]
        return {**sheet, **sheet["items"][0]}

    def colours(self):
        """Count the plum, copper and all pixels of the view."""
        return browser.run(
            """
            const view = window.heron.view; view.snapshot();
            const gl = view.renderer.getContext(), w = gl.drawingBufferWidth, h = gl.drawingBufferHeight;
            const p = new Uint8Array(4 * w * h); gl.readPixels(0, 0, w, h, gl.RGBA, gl.UNSIGNED_BYTE, p);
            let plum = 0, copper = 0;
            for (let i = 0; i < p.length; i += 4) {
              if (p[i + 2] > p[i + 1] + 30 && p[i] > p[i + 1] + 8) plum++;
              if (p[i] > p[i + 2] + 50) copper++;
            }
            return {plum, copper, all: p.length / 4};
            """
        )

    def drag(self, selector, start, end):
        """Press, move and let go inside an element; offsets from its middle."""
        chain = ActionChains(browser.driver, duration=30)
        chain.move_to_element_with_offset(browser.find(selector), *start).click_and_hold()
        for k in range(1, 6):
            chain.move_to_element_with_offset(
                browser.find(selector), *(int(a + (b - a) * k / 5) for a, b in zip(start, end, strict=True))
            )
        chain.release().perform()


class YardTest(BrowserCase):
    def test_a_file_becomes_a_job_and_a_bad_one_says_why(self):
        browser.open(server.url)
        (folder / "wedge_v2.stl").write_bytes(stl(tee()))
        (folder / "letter.stl").write_bytes(b"Not a mesh at all. " * 20)
        browser.find("#files").send_keys(f"{folder / 'letter.stl'}\n{folder / 'wedge_v2.stl'}")
        browser.click("#jobs-each")
        browser.find(".upload.done a")
        self.assertIn("not a mesh file", browser.text(".upload.failed"))
        # The refusal is logged by the browser as a failed request; that is all there is.
        self.assertTrue(all("422" in p for p in browser.problems()))
        browser.click(".upload.done a")
        browser.ready()
        self.assertEqual(browser.text(".job-name"), "Wedge v2")
        self.assertEqual(browser.text("#part-facets"), "28 facets")

    def test_drop_takes_a_file_in(self):
        browser.open(server.url)
        browser.run(
            """
            const bytes = Uint8Array.from(atob(arguments[0]), c => c.charCodeAt(0));
            const transfer = new DataTransfer();
            transfer.items.add(new File([bytes], 'dropped.stl'));
            document.dispatchEvent(new DragEvent('drop', {dataTransfer: transfer, bubbles: true, cancelable: true}));
            """,
            __import__("base64").b64encode(stl(box(10, 10, 10))).decode(),
        )
        browser.wait(lambda: "/jobs/" in browser.driver.current_url)
        browser.ready()
        self.assertEqual(browser.text("#part-size"), "10 × 10 × 10 mm")

    def test_several_files_become_parts_of_one_job_and_one_more_is_added_there(self):
        browser.open(server.url)
        names = ("first.stl", "second.stl", "third.stl")
        for name, part in zip(names, (tee(), box(10, 20, 30), box(8, 8, 8)), strict=True):
            (folder / name).write_bytes(stl(part))
        browser.find("#files").send_keys(f"{folder / names[0]}\n{folder / names[1]}")
        self.assertIn("2 files", browser.text("#choice"))
        browser.click("#one-job")
        browser.wait(lambda: "/jobs/" in browser.driver.current_url)
        browser.ready()
        browser.send("#more-files", str(folder / names[2]))
        browser.wait(lambda: browser.all("#part-3"))
        browser.wait(lambda: browser.text("#part-size") == "8 × 8 × 8 mm")
        # Figures that come in swap the buttons too: a click in that moment would be lost.
        browser.ready()
        browser.click("#part-2")
        browser.wait(lambda: browser.text("#part-size") == "10 × 20 × 30 mm")
        browser.ready()
        size = browser.run("return window.heron.view.size")
        for found, side in zip(size, (10, 20, 30), strict=True):
            self.assertAlmostEqual(found, side, places=4)
        (folder / "letter.stl").write_bytes(b"Not a mesh at all. " * 20)
        browser.send("#more-files", str(folder / "letter.stl"))
        self.assertIn("not a mesh file", browser.text(".upload.failed"))
        self.assertEqual([p for p in browser.problems() if "422" not in p], [])

    def test_a_length_with_a_unit_shows_what_was_understood(self):
        self.open_job(tee(), 3)
        browser.fill("#margin", "1/4 in", "")
        browser.wait(lambda: browser.all("#understood") and browser.text("#understood") == "= 6.35 mm")
        browser.send("#margin", "x")
        browser.wait(lambda: "not a length" in browser.text("#understood"))

    def test_a_file_over_the_limit_is_not_even_sent(self):
        browser.open(server.url)
        (folder / "huge.stl").write_bytes(b"\0" * 20_500_000)
        browser.find("#files").send_keys(str(folder / "huge.stl"))
        self.assertIn("20 MB", browser.text(".upload.failed"))


class StanceTest(BrowserCase):
    def test_stand_on_a_face_by_pointing_at_it(self):
        job_id = self.open_job(tee(), 4)
        browser.click('[data-view="above"]')
        browser.click("#stand")
        # Seen from above, the middle of the view is the top of the bar.
        canvas = browser.find("#canvas")
        ActionChains(browser.driver).move_to_element(canvas).pause(0.05).move_by_offset(
            2, 2
        ).click().perform()
        browser.wait(lambda: self.sheet(job_id)["stance"]["name"] == "upside down")
        browser.ready()
        self.assertEqual(browser.text("#fit") if browser.all("#fit") else "", "")
        q = self.sheet(job_id)["stance"]["quaternion"]
        self.assertAlmostEqual(abs(q[1]), 1, places=5)
        browser.click("#open-5")
        browser.ready()
        self.assertEqual(browser.text("#contact-area"), "400 mm²")
        self.assertEqual(browser.text("#overhang-area"), "0 mm²")

    def test_turn_by_degrees_and_choose_from_the_board(self):
        job_id = self.open_job(tee(), 4)
        browser.fill("#turn-x", "90")
        browser.click("#turn")
        browser.wait(lambda: browser.text("#stance-size") == "40 × 25 × 10 mm")
        browser.ready()
        browser.click("#as-it-came")
        browser.wait(lambda: browser.text("#stance-size") == "40 × 10 × 25 mm")
        browser.ready()
        browser.hover("#stance-A")
        browser.wait(lambda: browser.run("return window.heron.view.ghost.visible"))
        browser.click("#stance-A")
        browser.wait(lambda: browser.attribute("#stance-A", "aria-pressed") == "true")
        chosen = browser.text("#stance-A").splitlines()[0]
        browser.wait(lambda: self.sheet(job_id)["stance"]["name"] in chosen)
        self.assertNotEqual(self.sheet(job_id)["stance"]["name"], "as it came")

    def test_pointing_at_a_face_tells_what_it_would_give(self):
        self.open_job(tee(), 4)
        browser.click('[data-view="above"]')
        browser.click("#stand")
        ActionChains(browser.driver).move_to_element(browser.find("#canvas")).move_by_offset(3, 3).perform()
        browser.wait(lambda: browser.text("#pick-gives") == "400 mm² on the plate, 0 mm² overhang")

    def test_pointing_at_a_figure_shows_the_facets_or_the_layer_it_speaks_of(self):
        self.open_job(tee(), 4)
        browser.find("#figure-overhang_area_mm2")
        lit = "return window.heron.view.part.litArea"

        def point(figure):
            browser.hover(f"#figure-{figure}")

        # Areas of what is lit, worked out by hand: bar 40 x 10 on a stem 10 x 10 x 20.
        point("overhang_area_mm2")
        browser.wait(lambda: abs(browser.run(lit) - 300) < 0.01)
        self.assertIn("past the limit", browser.text("#figure-meaning"))
        point("contact_area_mm2")
        browser.wait(lambda: abs(browser.run(lit) - 100) < 0.01)
        point("shadow_area_mm2")
        browser.wait(lambda: browser.run("return Boolean(window.heron.view.shadow)"))
        self.assertEqual(browser.run(lit), 0)
        point("largest_layer")
        browser.wait(lambda: browser.run("return window.heron.profile.index") == 100)
        self.assertAlmostEqual(browser.run("return window.heron.view.cut.constant"), 20.1, places=3)
        point("tip_angle_deg")
        browser.wait(lambda: browser.run("return Boolean(window.heron.view.centre)"))
        # The layer that was shown before comes back.
        self.assertIsNone(browser.run("return window.heron.profile.index"))

    def test_figures_of_resin_and_of_the_show_side_point_at_theirs(self):
        cup = box(30, 30, 20) - box(24, 24, 20, (3, 3, 3)) + box(40, 6, 4, (-5, 12, 16))
        job_id = server.upload("cup.stl", stl(cup))
        for change in (
            {"kind": "printer", "printer": "Tarn 9"},
            {"kind": "show", "normal": [0, 0, -1]},
            {"kind": "load", "normal": [0, 0, -1]},
        ):
            server.post(f"/api/jobs/{job_id}/changes", change)
        server.settle(job_id)
        browser.open(f"{server.url}/jobs/{job_id}?open=4")
        browser.ready()
        lit = "return window.heron.view.part.litArea"
        self.assertTrue(browser.run("return Boolean(window.heron.view.loadArrow)"))
        # Two ears of 5 x 6 mm stick out of the cup, and a bar of 24 x 6 mm runs over its mouth.
        for figure, area in (
            ("overhang_area_mm2", 204),
            ("contact_area_mm2", 900),
            ("flat_area_mm2", 204),
            ("touch_show_mm2", 1104),
            ("cusp_mm", 0),
        ):
            browser.hover(f"#figure-{figure}")
            browser.wait(lambda area=area: abs(browser.run(lit) - area) < 0.05, f"{figure}: {area} mm2")
        browser.hover("#figure-cups")
        browser.wait(lambda: "cup 1" in browser.text("#tags"))
        for figure in ("peel_most", "largest_layer", "largest_growth", "height_mm"):
            browser.hover(f"#figure-{figure}")
            z = float(browser.attribute(f"#figure-{figure}", "data-z"))
            browser.wait(
                lambda z=z: abs(browser.run("return window.heron.view.cut.constant") - z) < 0.026, figure
            )

    def test_the_pad_turns_the_part_live_and_keeps_it_when_the_hand_lets_go(self):
        job_id = self.open_job(tee(), 4)
        step = server.get(f"/api/jobs/{job_id}")["step"]
        pad = browser.find("#tilt-pad")
        chain = ActionChains(browser.driver, duration=30).move_to_element(pad).click_and_hold()
        chain.move_by_offset(-14, 0).move_by_offset(-7, 0).perform()
        leaning = browser.run("return window.heron.view.part.uniforms.uDown.value.toArray()")
        self.assertGreater(abs(leaning[0]), 0.3)
        self.assertEqual(server.get(f"/api/jobs/{job_id}")["step"], step)
        ActionChains(browser.driver).release().perform()
        browser.wait(lambda: "leaning" in self.sheet(job_id)["stance"]["name"])
        self.assertIn("left", self.sheet(job_id)["stance"]["name"])
        browser.ready()

    def test_two_stances_side_by_side_are_walked_in_step(self):
        job_id = self.open_job(tee(), 4)
        browser.click("#find")
        browser.wait(lambda: "exact figures below" in browser.text("#board"))
        cards = browser.run(
            "return [...document.querySelectorAll('[data-compare]')].map(b => [b.dataset.compare, b.dataset.name])"
        )
        came = next(letter for letter, name in cards if name == "as it came")
        other = next(letter for letter, name in cards if name == "upside down")
        browser.click(f'[data-compare="{came}"]')
        browser.click(f'[data-compare="{other}"]')
        browser.click("#compare")
        browser.wait(lambda: browser.run("return document.body.dataset.pair"))
        pair = sorted([came, other])
        sides = browser.run(
            "return window.heron.view.pair.sides.map(s => [s.standing.letter, s.standing.layers.count, s.body.visible])"
        )
        self.assertEqual(sides, [[pair[0], 125, True], [pair[1], 125, True]])
        # Of one height: in step by layer, each cut at its own area.
        browser.run("window.heron.profile.set(10)")
        self.assertEqual(browser.run("return window.heron.view.pair.shown"), [10, 10])
        areas = browser.run("return window.heron.pair.map(s => [s.letter, s.layers.area[10]])")
        self.assertEqual({k: round(v) for k, v in areas}, {came: 100, other: 400})
        # Both profiles are drawn over each other.
        self.assertEqual(len(browser.run("return window.heron.profile.other.area")), 125)
        ActionChains(browser.driver).send_keys("]").perform()
        self.assertEqual(browser.run("return window.heron.view.pair.shown"), [11, 11])
        browser.click('[name="step-by"][value="share"]')
        browser.run("window.heron.profile.set(124)")
        self.assertEqual(browser.run("return window.heron.view.pair.shown"), [124, 124])
        browser.click("#pair-leave")
        self.assertTrue(browser.run("return window.heron.view.part.mesh.visible && !window.heron.view.pair"))
        self.assertEqual(self.sheet(job_id)["stance"]["name"], "as it came")


class LimitTest(BrowserCase):
    def test_dragging_the_limit_asks_nothing_of_the_server(self):
        job_id = self.open_job(tee(), 5)
        browser.click('[data-view="below"]')
        browser.run("performance.clearResourceTimings()")
        self.assertGreater(self.colours()["plum"], 500)
        self.assertEqual(browser.text("#live-area"), "300 mm²")
        browser.run(
            """
            const s = document.querySelector('#limit-slider');
            for (let v = 54; v <= 90; v++) { s.value = v; s.dispatchEvent(new Event('input', {bubbles: true})); }
            """
        )
        self.assertEqual(browser.text("#live-area"), "0 mm²")
        self.assertEqual(self.colours()["plum"], 0)
        self.assertEqual(browser.run("return performance.getEntriesByType('resource').length"), 0)
        self.assertIsNone(self.sheet(job_id)["limit_deg"])
        # Letting go keeps it as a step.
        browser.run(
            "document.querySelector('#limit-slider').dispatchEvent(new Event('change', {bubbles: true}))"
        )
        browser.wait(lambda: "step 2" in browser.text("#kept"))
        # The slider is not a field of the form: the typed field beside it carries the value.
        self.assertEqual(self.sheet(job_id)["limit_deg"], 90)

    def test_dragging_with_the_pointer(self):
        job_id = self.open_job(tee(), 5)
        self.drag("#limit-slider", (20, 0), (-60, 0))
        browser.wait(lambda: (self.sheet(job_id)["limit_deg"] or 99) < 40)
        browser.ready()
        self.assertEqual(browser.text("#overhang-area"), "300 mm²")


class SupportTest(BrowserCase):
    def test_make_walk_and_remove(self):
        job_id = self.open_job(comb(), 6)
        before = self.colours()["copper"]
        browser.click("#make-supports")
        browser.ready(supports=True)
        self.assertEqual(browser.text("#support-count"), "3")
        self.assertGreater(self.colours()["copper"], before + 2000)
        browser.click("#open-5")
        browser.click('tr[data-name="island 2"] .dot')
        level = browser.run("return window.heron.profile.levels[window.heron.profile.index]")
        self.assertAlmostEqual(level["z"], 10.1, places=5)
        self.assertAlmostEqual(browser.run("return window.heron.view.cut.constant"), 10.1, places=5)
        # The cap of that layer shows what is printed there: three legs of the part, and the columns.
        corners = browser.run(
            "return window.heron.view.caps.part.outline.geometry.getAttribute('position').count"
        )
        self.assertEqual(corners, 2 * 4 * 3)
        self.assertTrue(browser.run("return window.heron.view.caps.support.group.visible"))
        browser.click("#open-6")
        browser.click("#remove-supports")
        browser.ready(supports=False)
        self.assertIsNone(self.sheet(job_id)["supports"])
        self.assertFalse(browser.run("return window.heron.view.supports.visible"))


class LayersTest(BrowserCase):
    def test_walking_the_layers(self):
        self.open_job(tee(), 8)
        profile = browser.find("#profile")
        self.drag("#profile", (0, -200), (0, 100))
        index = browser.run("return window.heron.profile.index")
        self.assertTrue(10 < index < 60, index)
        profile.send_keys(Keys.ARROW_UP)
        self.assertEqual(browser.run("return window.heron.profile.index"), index + 1)
        profile.send_keys(Keys.HOME)
        self.assertEqual(profile.get_attribute("aria-valuetext"), "layer 1 of 125, 0.10 mm")
        ActionChains(browser.driver).send_keys("]]").perform()
        self.assertEqual(browser.run("return window.heron.profile.index"), 2)
        browser.fill("#layer-number", "110", Keys.ENTER)
        browser.wait(lambda: browser.run("return window.heron.profile.index") == 109)
        self.assertEqual(browser.text("#layer-count"), "125")


class ShelfTest(BrowserCase):
    def test_search_sort_delete_and_undo(self):
        for name in ("lantern.stl", "gate.stl", "lantern_lid.stl"):
            server.upload(name, stl(tee()))
        browser.open(server.url)

        def titles():
            return [c.get_attribute("data-title") for c in browser.all("#jobs > li") if c.is_displayed()]

        browser.fill("#search", "lantern stl")
        browser.wait(lambda: sorted(titles()) == ["lantern", "lantern lid"])
        browser.click('[aria-label="Delete Lantern"]')
        browser.wait(lambda: browser.all("#put-back"))
        browser.wait(lambda: titles() == ["lantern lid"])
        browser.click("#put-back")
        browser.wait(lambda: sorted(titles()) == ["lantern", "lantern lid"])
        browser.fill("#search", Keys.DELETE)
        browser.run(
            "const s = document.querySelector('#sort'); s.value = 'title'; s.dispatchEvent(new Event('change'))"
        )
        browser.wait(lambda: titles() == sorted(titles()) and len(titles()) >= 3)


class PartTest(BrowserCase):
    def test_unit_size_and_stance_kept(self):
        job_id = self.open_job(box(1, 0.6, 0.4))
        self.assertIn("Which unit", browser.text("#unit-question"))
        browser.click('#unit-question [data-unit="inch"]')
        browser.wait(lambda: "25.4 × 15.2 × 10.2" in browser.text("#part-size"))
        browser.wait(lambda: not browser.all("#unit-question"))
        browser.ready()
        browser.fill("#size-x", "2 in")
        browser.wait(lambda: "50.8 × 30.5 × 20.3" in browser.text("#part-size"))
        self.assertEqual(browser.attribute("#size-percent", "value"), "200")
        browser.ready()
        self.assertAlmostEqual(self.sheet(job_id)["part"]["volume_mm3"], 50.8 * 30.48 * 20.32, delta=0.1)
        browser.click("#size-reset")
        browser.wait(lambda: "25.4 × 15.2" in browser.text("#part-size"))
        browser.click("#undo")
        browser.wait(lambda: "50.8" in browser.text("#part-size"))

    def test_stepping_through_defects_and_mending(self):
        mesh = mesh_of(tee())
        faces = mesh.faces[2:].copy()
        faces[4] = faces[4][::-1]
        job_id = server.upload("torn.stl", write_stl(Mesh(mesh.vertices, faces)))
        server.settle(job_id)
        browser.open(f"{server.url}/jobs/{job_id}?open=1")
        browser.ready()
        self.assertIn("open edges", browser.text("#defects"))
        self.assertIn("1 facet facing inwards", browser.text("#defects"))
        browser.click('[data-place-step="1"]')
        browser.wait(lambda: browser.run("return document.body.dataset.place") == "0")
        self.assertIn("1 of 2: hole", browser.text("#place-words"))
        self.assertTrue(browser.run("return Boolean(window.heron.view.place)"))
        browser.find("#canvas").click()
        ActionChains(browser.driver).send_keys("n").perform()
        browser.wait(lambda: "2 of 2" in browser.text("#place-words"))
        browser.click("#mend-all")
        browser.wait(lambda: browser.all("#sound"))
        self.assertEqual(browser.text("#part-closed"), "yes")
        self.assertFalse(browser.run("return Boolean(window.heron.view.place)"))
        self.assertIn("filled", browser.text("#mending"))
        browser.ready()
        self.assertIn("Open edges", browser.text("#before-after"))
        shown = "const v = window.heron.view; return [v.before.visible, v.part.mesh.visible]"
        self.assertEqual(browser.run(shown), [False, True])
        browser.click('[data-mended="both"]')
        self.assertEqual(browser.run(shown), [True, True])
        # The part before mending stands beside the other, and its missing facets are missing.
        self.assertEqual(browser.run("return window.heron.view.before.geometry.index.count / 3"), 26)
        browser.find("#canvas").click()
        ActionChains(browser.driver).send_keys("b").perform()
        self.assertEqual(browser.run(shown), [True, False])
        browser.click("#undo")
        browser.wait(lambda: browser.all("#defects"))


class StepsTest(BrowserCase):
    def test_undo_redo_reload_and_restart(self):
        job_id = self.open_job(tee(), 7)
        browser.click("#footing-brim")
        browser.wait(lambda: "step 2" in browser.text("#kept"))
        browser.ready()
        browser.find("#footing-area")
        browser.click("#undo")
        browser.wait(lambda: "step 1" in browser.text("#kept"))
        browser.driver.refresh()
        browser.ready()
        self.assertIsNone(browser.attribute("#redo", "disabled"))
        browser.click("#redo")
        browser.wait(lambda: "step 2" in browser.text("#kept"))
        browser.ready()
        ActionChains(browser.driver).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
        browser.wait(lambda: "step 1" in browser.text("#kept"))
        self.assertEqual(self.sheet(job_id)["footing"]["kind"], "none")

    def test_a_sheet_that_comes_late_does_not_stay(self):
        job_id = self.open_job(tee(), 2)
        browser.run(
            """
            window.onTheWay = 0; window.came = 0;
            const plain = window.fetch;
            window.fetch = async (url, options) => {
              const late = String(url?.url ?? url).includes('/sheet?');
              if (!late) return plain(url, options);
              window.onTheWay += 1;
              const answer = await plain(url, options);
              await new Promise(done => setTimeout(done, 1200));
              window.onTheWay -= 1; window.came += 1;
              return answer;
            };
            """
        )
        browser.fill("#layer", "0.1")
        browser.wait(lambda: "step 2" in browser.text("#kept"))
        browser.wait(lambda: browser.run("return window.onTheWay > 0"))
        browser.click("#undo")
        browser.wait(lambda: browser.run("return window.onTheWay === 0 && window.came > 1"))
        browser.wait(lambda: "step 1" in browser.text("#kept"))
        browser.wait(lambda: browser.run("return window.onTheWay === 0"))
        self.assertIn("step 1", browser.text("#kept"))
        self.assertEqual(self.sheet(job_id)["layer_mm"], 0.2)

    def test_killing_the_server_in_the_middle_of_work_loses_no_step(self):
        # A server of its own: its workers are halted with nothing else under way.
        own = Server()
        self.addCleanup(own.close)
        job_id = own.upload("part.stl", stl(tee()))
        own.settle(job_id)
        browser.open(f"{own.url}/jobs/{job_id}?open=2")
        browser.ready()
        with own.paused():
            browser.fill("#layer", "0.1")
            browser.find("#work")
            own.kill()
        own.start()
        answer = own.get(f"/api/jobs/{job_id}")
        self.assertEqual((answer["step"], answer["sheet"]["layer_mm"]), (2, 0.1))
        with own.paused():
            browser.open(f"{own.url}/jobs/{job_id}?open=8")
            browser.click("#stop")
            browser.find("#again")
        browser.click("#again")
        browser.ready()
        browser.click("#undo")
        browser.wait(lambda: "step 1" in browser.text("#kept"))
        browser.ready()
        self.assertEqual(own.get(f"/api/jobs/{job_id}")["sheet"]["layer_mm"], 0.2)
        # While the server was away the browser logged the broken stream.
        browser.problems()


class SplitTest(BrowserCase):
    def test_cut_and_pull_apart(self):
        self.open_job(box(500, 40, 30), 3)
        self.assertIn("Does not fit", browser.text("#fit"))
        browser.click("#cut")
        browser.wait(lambda: browser.all("#piece-count"))
        browser.ready()
        browser.wait(lambda: browser.run("return window.heron.view.pieces.children.length") == 2)
        at = "return window.heron.view.pieces.children.map(b => b.position.x)"
        near = browser.run(at)
        browser.find("#pull").send_keys(Keys.END)
        browser.wait(lambda: browser.run(at)[1] - browser.run(at)[0] > near[1] - near[0] + 50)
        self.assertEqual(len(browser.all("#pieces tbody tr")), 2)


class HandOffTest(BrowserCase):
    def test_the_file_that_comes_out(self):
        self.open_job(comb(), 6)
        browser.click("#make-supports")
        browser.ready(supports=True)
        browser.click("#open-7")
        browser.click("#footing-raft")
        browser.find("#footing-area")
        browser.ready()
        browser.click("#open-9")
        browser.click("#get-3mf")
        until = time.monotonic() + 30
        while not (found := list(folder.glob("Part-*.3mf"))):
            self.assertLess(time.monotonic(), until, "no file came")
            browser.run("return new Promise(done => requestAnimationFrame(done))")
        _, objects = read(found[0].read_bytes())
        self.assertEqual([o.GetName().split()[0] for o in objects], ["part", "support", "footing"])
        self.assertTrue(all(o.IsManifoldAndOriented() for o in objects))
        browser.open(browser.attribute("#get-traveller", "href"))
        self.assertIn("raft", browser.text(".traveller"))

    def test_keys_open_sections_and_the_list_of_keys(self):
        self.open_job(tee(), 1)
        browser.find("#canvas").click()
        ActionChains(browser.driver).send_keys("8").perform()
        browser.wait(lambda: browser.attribute("#open-8", "aria-expanded") == "true")
        ActionChains(browser.driver).send_keys("?").perform()
        browser.wait(lambda: browser.find("#keys").is_displayed())
        browser.click("#keys-close")
        browser.ready()

    def test_a_refused_number_says_why_and_keeps_the_job(self):
        job_id = self.open_job(tee(), 2)
        browser.fill("#layer", "thick")
        self.assertIn("is not a length", browser.text(".notice"))
        self.assertEqual(self.sheet(job_id)["layer_mm"], 0.2)
        self.assertTrue(all("422" in p for p in browser.problems()))

    def test_nothing_scrolls_sideways_at_1024(self):
        self.open_job(tee(), 4)
        browser.size(1024, 700)
        try:
            wide = browser.run(
                "return [document.documentElement.scrollWidth, document.documentElement.scrollHeight]"
            )
            self.assertEqual(wide, [1024, 700])
        finally:
            browser.size(1280, 800)

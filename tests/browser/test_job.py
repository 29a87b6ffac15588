"""The real interface in headless Chromium: real pointer moves, real files, and the file that comes out."""

import time

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.case import BrowserCase, start
from tests.browser.driver import Server
from tests.core.test_threemf import read
from tests.support import box, comb, mesh_of, stl, tee
from upright_heron.core import quantities
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.handoff.stl import write_stl

setUpModule = start


class YardTest(BrowserCase):
    def test_a_file_becomes_a_job_and_a_bad_one_says_why(self):
        self.browser.open(self.server.url)
        (self.folder / "wedge_v2.stl").write_bytes(stl(tee()))
        (self.folder / "letter.stl").write_bytes(b"Not a mesh at all. " * 20)
        self.browser.find("#files").send_keys(f"{self.folder / 'letter.stl'}\n{self.folder / 'wedge_v2.stl'}")
        self.browser.click("#jobs-each")
        self.browser.find(".upload.done a")
        self.assertIn("not a mesh file", self.browser.text(".upload.failed"))
        # The refusal is logged by the browser as a failed request; that is all there is.
        self.assertTrue(all("422" in p for p in self.browser.problems()))
        self.browser.click(".upload.done a")
        self.browser.ready()
        self.assertEqual(self.browser.text(".job-name"), "Wedge v2")
        self.assertEqual(self.browser.text("#part-facets"), "28 facets")

    def test_drop_takes_a_file_in(self):
        self.browser.open(self.server.url)
        self.browser.run(
            """
            const bytes = Uint8Array.from(atob(arguments[0]), c => c.charCodeAt(0));
            const transfer = new DataTransfer();
            transfer.items.add(new File([bytes], 'dropped.stl'));
            document.dispatchEvent(new DragEvent('drop', {dataTransfer: transfer, bubbles: true, cancelable: true}));
            """,
            __import__("base64").b64encode(stl(box(10, 10, 10))).decode(),
        )
        self.browser.wait(lambda: "/jobs/" in self.browser.driver.current_url)
        self.browser.ready()
        self.assertEqual(self.browser.text("#part-size"), "10 × 10 × 10 mm")

    def test_several_files_become_parts_of_one_job_and_one_more_is_added_there(self):
        self.browser.open(self.server.url)
        names = ("first.stl", "second.stl", "third.stl")
        for name, part in zip(names, (tee(), box(10, 20, 30), box(8, 8, 8)), strict=True):
            (self.folder / name).write_bytes(stl(part))
        self.browser.find("#files").send_keys(f"{self.folder / names[0]}\n{self.folder / names[1]}")
        self.assertIn("2 files", self.browser.text("#choice"))
        self.browser.click("#one-job")
        self.browser.wait(lambda: "/jobs/" in self.browser.driver.current_url)
        self.browser.ready()
        self.browser.send("#more-files", str(self.folder / names[2]))
        self.browser.wait(lambda: self.browser.all("#part-3"))
        self.browser.wait(lambda: self.browser.text("#part-size") == "8 × 8 × 8 mm")
        # Figures that come in swap the buttons too: a click in that moment would be lost.
        self.browser.ready()
        self.browser.click("#part-2")
        self.browser.wait(lambda: self.browser.text("#part-size") == "10 × 20 × 30 mm")
        self.browser.ready()
        # The sheet takes the place of the sheet, with the section that was open.
        pressed = [one.get_attribute("aria-pressed") for one in self.browser.all(".part-tab")]
        self.assertEqual(pressed, ["false", "true", "false"])
        whole = [
            len(self.browser.all(one)) for one in ("#sheet > .sheet-body", ".sheet-body", ".section.open")
        ]
        self.assertEqual(whole, [1, 1, 1])
        self.assertEqual(self.browser.attribute("#open-1", "aria-expanded"), "true")
        # The view follows once the surface of the other part has come.
        sides = "return window.heron.view.size.map((side) => Number(side.toFixed(4)))"
        self.browser.wait(lambda: self.browser.run(sides) == [10, 20, 30], "another part is in the view")
        (self.folder / "letter.stl").write_bytes(b"Not a mesh at all. " * 20)
        self.browser.send("#more-files", str(self.folder / "letter.stl"))
        self.assertIn("not a mesh file", self.browser.text(".upload.failed"))
        self.assertEqual([p for p in self.browser.problems() if "422" not in p], [])

    def test_a_length_with_a_unit_shows_what_was_understood(self):
        self.open_job(tee(), 3)
        self.browser.fill("#margin", "1/4 in", "")
        self.browser.wait(
            lambda: self.browser.all("#understood") and self.browser.text("#understood") == "= 6.35 mm"
        )
        self.browser.send("#margin", "x")
        self.browser.wait(lambda: "not a length" in self.browser.text("#understood"))

    def test_a_file_over_the_limit_is_not_even_sent(self):
        self.browser.open(self.server.url)
        (self.folder / "huge.stl").write_bytes(b"\0" * 20_500_000)
        self.browser.find("#files").send_keys(str(self.folder / "huge.stl"))
        self.assertIn("20 MB", self.browser.text(".upload.failed"))


class SupportTest(BrowserCase):
    def test_make_walk_and_remove(self):
        job_id = self.open_job(comb(), 6)
        before = self.colours()["copper"]
        self.browser.click("#make-supports")
        self.browser.ready(supports=True)
        self.assertEqual(self.browser.text("#support-count"), "3")
        self.assertGreater(self.colours()["copper"], before + 2000)
        self.browser.open_section(5)
        self.browser.click('tr[data-name="island 2"] .dot')
        level = self.browser.run("return window.heron.profile.levels[window.heron.profile.index]")
        self.assertAlmostEqual(level["z"], 10.1, places=5)
        self.assertAlmostEqual(self.browser.run("return window.heron.view.cut.constant"), 10.1, places=5)
        # The cap of that layer shows what is printed there: three legs of the part, and the columns.
        corners = self.browser.run(
            "return window.heron.view.caps.part.outline.geometry.getAttribute('position').count"
        )
        self.assertEqual(corners, 2 * 4 * 3)
        self.assertTrue(self.browser.run("return window.heron.view.caps.support.group.visible"))
        self.browser.open_section(6)
        self.browser.click("#remove-supports")
        self.browser.ready(supports=False)
        self.assertIsNone(self.sheet(job_id)["supports"])
        self.assertFalse(self.browser.run("return window.heron.view.supports.visible"))


class LayersTest(BrowserCase):
    def test_walking_the_layers(self):
        self.open_job(tee(), 8)
        profile = self.browser.find("#profile")
        self.drag("#profile", (0, -200), (0, 100))
        index = self.browser.run("return window.heron.profile.index")
        self.assertTrue(10 < index < 60, index)
        profile.send_keys(Keys.ARROW_UP)
        self.assertEqual(self.browser.run("return window.heron.profile.index"), index + 1)
        profile.send_keys(Keys.HOME)
        self.assertEqual(profile.get_attribute("aria-valuetext"), "layer 1 of 125, 0.10 mm")
        ActionChains(self.browser.driver).send_keys("]]").perform()
        self.assertEqual(self.browser.run("return window.heron.profile.index"), 2)
        self.browser.fill("#layer-number", "110", Keys.ENTER)
        self.browser.wait(lambda: self.browser.run("return window.heron.profile.index") == 109)
        self.assertEqual(self.browser.text("#layer-count"), "125")


class ShelfTest(BrowserCase):
    def test_search_sort_delete_and_undo(self):
        for name in ("lantern.stl", "gate.stl", "lantern_lid.stl"):
            self.server.upload(name, stl(tee()))
        self.browser.open(self.server.url)

        def titles():
            return [c.get_attribute("data-title") for c in self.browser.all("#jobs > li") if c.is_displayed()]

        self.browser.fill("#search", "lantern stl")
        self.browser.wait(lambda: sorted(titles()) == ["lantern", "lantern lid"])
        self.browser.click('[aria-label="Delete Lantern"]')
        self.browser.wait(lambda: self.browser.all("#put-back"))
        self.browser.wait(lambda: titles() == ["lantern lid"])
        self.browser.click("#put-back")
        self.browser.wait(lambda: sorted(titles()) == ["lantern", "lantern lid"])
        self.browser.fill("#search", Keys.DELETE)
        Select(self.browser.find("#sort")).select_by_value("title")
        self.browser.wait(lambda: titles() == sorted(titles()) and len(titles()) >= 3)


class PartTest(BrowserCase):
    def test_unit_size_and_stance_kept(self):
        job_id = self.open_job(box(1, 0.6, 0.4))
        self.assertIn("Which unit", self.browser.text("#unit-question"))
        self.browser.click('#unit-question [data-unit="inch"]')
        self.browser.wait(lambda: "25.4 × 15.2 × 10.2" in self.browser.text("#part-size"))
        self.browser.wait(lambda: not self.browser.all("#unit-question"))
        self.browser.ready()
        self.browser.fill("#size-x", "2 in")
        self.browser.wait(lambda: "50.8 × 30.5 × 20.3" in self.browser.text("#part-size"))
        self.assertEqual(self.browser.attribute("#size-percent", "value"), "200")
        self.browser.ready()
        self.assertAlmostEqual(self.sheet(job_id)["part"]["volume_mm3"], 50.8 * 30.48 * 20.32, delta=0.1)
        self.browser.click("#size-reset")
        self.browser.wait(lambda: "25.4 × 15.2" in self.browser.text("#part-size"))
        self.browser.click("#undo")
        self.browser.wait(lambda: "50.8" in self.browser.text("#part-size"))

    def test_stepping_through_defects_and_mending(self):
        mesh = mesh_of(tee())
        faces = mesh.faces[2:].copy()
        faces[4] = faces[4][::-1]
        job_id = self.server.upload("torn.stl", write_stl(Mesh(mesh.vertices, faces)))
        self.server.settle(job_id)
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=1")
        self.browser.ready()
        self.assertIn("open edges", self.browser.text("#defects"))
        self.assertIn("1 facet facing inwards", self.browser.text("#defects"))
        self.browser.click('[data-place-step="1"]')
        self.browser.wait(lambda: self.browser.run("return document.body.dataset.place") == "0")
        self.assertIn("1 of 2: hole", self.browser.text("#place-words"))
        self.assertTrue(self.browser.run("return Boolean(window.heron.view.place)"))
        self.browser.find("#canvas").click()
        ActionChains(self.browser.driver).send_keys("n").perform()
        self.browser.wait(lambda: "2 of 2" in self.browser.text("#place-words"))
        self.browser.click("#mend-all")
        self.browser.wait(lambda: self.browser.all("#sound"))
        self.assertEqual(self.browser.text("#part-closed"), "yes")
        self.assertFalse(self.browser.run("return Boolean(window.heron.view.place)"))
        self.assertIn("filled", self.browser.text("#mending"))
        self.browser.ready()
        self.assertIn("Open edges", self.browser.text("#before-after"))
        shown = "const v = window.heron.view; return [v.before.body.visible, v.part.mesh.visible]"
        self.assertEqual(self.browser.run(shown), [False, True])
        self.browser.click('[data-mended="both"]')
        self.assertEqual(self.browser.run(shown), [True, True])
        # The part before mending stands beside the other, and its missing facets are missing.
        self.assertEqual(
            self.browser.run("return window.heron.view.before.body.geometry.index.count / 3"), 26
        )
        self.browser.click('[data-mended="moved"]')
        self.browser.wait(lambda: self.browser.run("return Boolean(window.heron.view.before.colours)"))
        self.assertIn("over 1 mm", self.browser.text("#moved-key"))
        self.assertEqual(self.browser.run(shown), [False, False])
        self.browser.find("#canvas").click()
        ActionChains(self.browser.driver).send_keys("b").perform()
        self.assertEqual(self.browser.run(shown), [True, False])
        self.assertFalse(self.browser.run("return Boolean(window.heron.view.before.colours)"))
        self.browser.click("#undo")
        self.browser.wait(lambda: self.browser.all("#defects"))


class HollowTest(BrowserCase):
    def test_a_hole_is_pointed_at_in_the_view(self):
        job_id = self.open_job(box(30, 30, 20))
        self.server.post(f"/api/jobs/{job_id}/changes", {"kind": "printer", "printer": "Tarn 9"})
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=1")
        self.browser.ready()
        self.browser.fill("#hollow-wall", "3")
        self.browser.click("#hollow-proposed")
        self.browser.click('[data-view="above"]')
        self.browser.click("#hole-pick")
        self.assertIn("where the hole goes in", self.browser.text("#pick-words"))
        ActionChains(self.browser.driver).move_to_element(self.browser.find("#canvas")).move_by_offset(
            3, 3
        ).click().perform()
        self.browser.wait(lambda: self.browser.all("#holes"))
        self.assertFalse(self.browser.find("#pick-slip").is_displayed())
        self.browser.ready()
        (hole,) = self.sheet(job_id)["hollow"]["drilled"]
        # Straight down from the top of the part as it came, near its middle.
        self.assertAlmostEqual(hole["at_mm"][2], 20, 3)
        self.assertAlmostEqual(hole["inner_mm"][2], 17, delta=0.1)
        for k in (0, 1):
            self.assertLess(abs(hole["at_mm"][k] - 15), 5)
        self.assertIn("stays in", self.browser.text("#hollow-told"))
        self.browser.click("#solid-again")
        self.browser.wait(lambda: not self.browser.all("#hollow-told"))
        self.assertEqual(self.browser.problems(), [])


class WordsTest(BrowserCase):
    def test_scripts_write_areas_as_the_server_does(self):
        self.browser.open(self.server.url)
        areas = [
            0,
            0.001,
            0.004,
            0.006,
            0.5,
            0.999,
            1,
            9.94,
            42.26,
            99.9,
            100,
            998.7,
            1000,
            12340,
            99990,
            1e5,
            2.5e6,
        ]
        written = self.browser.driver.execute_async_script(
            """
            const [areas, done] = arguments;
            import('/static/js/section.js').then((m) => done(areas.map(m.area)), (e) => done(String(e)));
            """,
            areas,
        )
        self.assertEqual(written, [quantities.area(mm2) for mm2 in areas])


class GraphicsTest(BrowserCase):
    def smooth(self):
        self.open_job(tee(), 5)
        return self.browser.run(
            "return window.heron.view.renderer.getContext().getContextAttributes().antialias"
        )

    def test_edges_are_smooth_where_a_card_draws_and_nothing_is_slow_without_one(self):
        self.assertFalse(self.smooth())
        # UNMASKED_RENDERER_WEBGL of the registered extension WEBGL_debug_renderer_info.
        named = """const real = WebGL2RenderingContext.prototype.getParameter;
            WebGL2RenderingContext.prototype.getParameter = function (name) {
              return name === 37446 ? 'ANGLE (a card of some make)' : real.call(this, name);
            };"""
        page = self.browser.driver.execute_cdp_cmd("Page.addScriptToEvaluateOnNewDocument", {"source": named})
        self.addCleanup(self.browser.driver.execute_cdp_cmd, "Page.removeScriptToEvaluateOnNewDocument", page)
        self.assertTrue(self.smooth())


class StepsTest(BrowserCase):
    def test_undo_redo_reload_and_restart(self):
        job_id = self.open_job(tee(), 7)
        self.browser.click("#footing-brim")
        self.browser.wait(lambda: "step 2" in self.browser.text("#kept"))
        self.browser.ready()
        self.browser.find("#footing-area")
        self.browser.click("#undo")
        self.browser.wait(lambda: "step 1" in self.browser.text("#kept"))
        self.browser.driver.refresh()
        self.browser.ready()
        self.assertIsNone(self.browser.attribute("#redo", "disabled"))
        self.browser.click("#redo")
        self.browser.wait(lambda: "step 2" in self.browser.text("#kept"))
        self.browser.ready()
        ActionChains(self.browser.driver).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
        self.browser.wait(lambda: "step 1" in self.browser.text("#kept"))
        self.assertEqual(self.sheet(job_id)["footing"]["kind"], "skirt")

    def test_a_sheet_that_comes_late_does_not_stay(self):
        job_id = self.open_job(tee(), 2)
        self.browser.run(
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
        self.browser.fill("#layer", "0.1")
        self.browser.wait(lambda: "step 2" in self.browser.text("#kept"))
        # Figures may be there already: then nothing else would ask for them.
        self.browser.run("window.heron.refreshSoon()")
        self.browser.wait(lambda: self.browser.run("return window.onTheWay > 0"))
        self.browser.click("#undo")
        self.browser.wait(lambda: self.browser.run("return window.onTheWay === 0 && window.came > 1"))
        self.browser.wait(lambda: "step 1" in self.browser.text("#kept"))
        self.browser.wait(lambda: self.browser.run("return window.onTheWay === 0"))
        self.assertIn("step 1", self.browser.text("#kept"))
        self.assertEqual(self.sheet(job_id)["layer_mm"], 0.2)

    def test_killing_the_server_in_the_middle_of_work_loses_no_step(self):
        # A server of its own: its workers are halted with nothing else under way.
        own = Server()
        self.addCleanup(own.close)
        job_id = own.upload("part.stl", stl(tee()))
        own.settle(job_id)
        self.browser.open(f"{own.url}/jobs/{job_id}?open=2")
        self.browser.ready()
        with own.paused():
            self.browser.fill("#layer", "0.1")
            self.browser.find("#work")
            own.kill()
        own.start()
        answer = own.get(f"/api/jobs/{job_id}")
        self.assertEqual((answer["step"], answer["sheet"]["layer_mm"]), (2, 0.1))
        with own.paused():
            self.browser.open(f"{own.url}/jobs/{job_id}?open=8")
            self.browser.click("#stop")
            self.browser.find("#again")
        self.browser.click("#again")
        self.browser.ready()
        self.browser.click("#undo")
        self.browser.wait(lambda: "step 1" in self.browser.text("#kept"))
        self.browser.ready()
        self.assertEqual(own.get(f"/api/jobs/{job_id}")["sheet"]["layer_mm"], 0.2)
        # While the server was away the browser logged the broken stream.
        self.browser.problems()


class SplitTest(BrowserCase):
    def test_cut_and_pull_apart(self):
        self.open_job(box(500, 40, 30), 3)
        self.assertIn("Does not fit", self.browser.text("#fit"))
        self.browser.click("#cut")
        self.browser.wait(lambda: self.browser.all("#piece-count"))
        self.browser.ready()
        self.browser.wait(lambda: self.browser.run("return window.heron.view.pieces.children.length") == 2)
        at = "return window.heron.view.pieces.children.map(b => b.position.x)"
        near = self.browser.run(at)
        self.browser.find("#pull").send_keys(Keys.END)
        self.browser.wait(lambda: self.browser.run(at)[1] - self.browser.run(at)[0] > near[1] - near[0] + 50)
        self.assertEqual(len(self.browser.all("#pieces tbody tr")), 2)


class HandOffTest(BrowserCase):
    def test_the_file_that_comes_out(self):
        self.open_job(comb(), 6)
        self.browser.click("#make-supports")
        self.browser.ready(supports=True)
        self.browser.open_section(7)
        self.browser.click("#footing-raft")
        self.browser.find("#footing-area")
        self.browser.ready()
        self.browser.open_section(9)
        self.browser.click("#get-3mf")
        until = time.monotonic() + 30
        while not (found := list(self.folder.glob("Part-*.3mf"))):
            self.assertLess(time.monotonic(), until, "no file came")
            self.browser.run("return new Promise(done => requestAnimationFrame(done))")
        _, objects = read(found[0].read_bytes())
        self.assertEqual([o.GetName().split()[0] for o in objects], ["part", "support", "footing"])
        self.assertTrue(all(o.IsManifoldAndOriented() for o in objects))
        self.browser.open(self.browser.attribute("#get-traveller", "href"))
        self.assertIn("raft", self.browser.text(".traveller"))

    def test_keys_open_sections_and_the_list_of_keys(self):
        self.open_job(tee(), 1)
        self.browser.find("#canvas").click()
        ActionChains(self.browser.driver).send_keys("8").perform()
        self.browser.wait(lambda: self.browser.attribute("#open-8", "aria-expanded") == "true")
        ActionChains(self.browser.driver).send_keys("?").perform()
        self.browser.wait(lambda: self.browser.find("#keys").is_displayed())
        self.browser.click("#keys-close")
        self.browser.ready()

    def test_what_was_pressed_stays_though_older_figures_come_later(self):
        job_id = self.open_job(tee(), 1)
        self.server.settle(job_id)
        self.browser.ready()
        # Figures of section 1 that are on their way until another section has been opened.
        self.browser.run(
            """const real = window.fetch;
            window.late = 0;
            const go = new Promise((done) => { window.letGo = done; });
            window.fetch = (url, ...rest) => String(url).includes('open=1')
              ? go.then(() => { window.late += 1; return real(url, ...rest); })
              : real(url, ...rest);
            window.heron.refreshSoon();"""
        )
        self.browser.wait(lambda: self.browser.run("return Boolean(window.heron.refreshing)"))
        self.browser.driver.find_element(By.CSS_SELECTOR, "#open-8").click()
        self.browser.wait(lambda: self.browser.attribute("#open-8", "aria-expanded") == "true")
        self.assertEqual(self.browser.run("return window.late"), 0)
        self.browser.run("window.letGo()")
        self.browser.wait(lambda: self.browser.run("return window.late && !window.heron.refreshing"))
        self.assertEqual(self.browser.attribute("#open-8", "aria-expanded"), "true")

    def test_a_press_counts_though_a_new_sheet_comes_before_the_pointer_is_let_go(self):
        job_id = self.open_job(tee(), 1)
        self.server.settle(job_id)
        self.browser.ready()
        line = self.browser.find("#open-8")
        ActionChains(self.browser.driver).click_and_hold(line).perform()
        self.browser.run(
            """window.held = document.querySelector('#open-8');
            // The sheet that comes says another figure in that line.
            window.held.append(' 12 g');
            htmx.ajax('GET', `${window.heron.root.dataset.sheetUrl}?open=1`, { target: '#sheet' });"""
        )
        self.browser.wait(lambda: not self.browser.run("return window.held.isConnected"))
        self.assertEqual(self.browser.attribute("#open-8", "aria-expanded"), "false")
        ActionChains(self.browser.driver).release().perform()
        self.browser.wait(lambda: self.browser.attribute("#open-8", "aria-expanded") == "true")
        # Let go beside it, nothing is pressed.
        self.browser.open_section(1)
        line = self.browser.find("#open-8")
        ActionChains(self.browser.driver).click_and_hold(line).perform()
        self.browser.run(
            """window.held = document.querySelector('#open-8');
            htmx.ajax('GET', `${window.heron.root.dataset.sheetUrl}?open=1`, { target: '#sheet' });"""
        )
        self.browser.wait(lambda: not self.browser.run("return window.held.isConnected"))
        ActionChains(self.browser.driver).move_to_element(self.browser.find("#canvas")).release().perform()
        self.browser.click("#open-2")
        self.browser.wait(lambda: self.browser.attribute("#open-2", "aria-expanded") == "true")
        self.assertEqual(self.browser.attribute("#open-8", "aria-expanded"), "false")

    def test_none_of_several_changes_sent_at_once_is_dropped(self):
        job_id = self.open_job(tee(), 2)
        self.server.settle(job_id)
        self.browser.ready()
        self.browser.run(
            """const field = document.querySelector('#layer');
            const url = field.closest('form').getAttribute('hx-post');
            for (const layer of ['0.1', '0.15', '0.25', '0.3']) window.heron.send(url, { layer_mm: layer });"""
        )
        self.browser.wait(lambda: self.sheet(job_id)["layer_mm"] == 0.3, "the last was not kept")

    def test_a_refused_number_says_why_and_keeps_the_job(self):
        job_id = self.open_job(tee(), 2)
        self.browser.fill("#layer", "thick")
        self.assertIn("is not a length", self.browser.text(".notice"))
        self.assertEqual(self.sheet(job_id)["layer_mm"], 0.2)
        self.assertTrue(all("422" in p for p in self.browser.problems()))

    def test_nothing_scrolls_sideways_at_1024(self):
        self.open_job(tee(), 4)
        self.browser.size(1024, 700)
        try:
            wide = self.browser.run(
                "return [document.documentElement.scrollWidth, document.documentElement.scrollHeight]"
            )
            self.assertEqual(wide, [1024, 700])
        finally:
            self.browser.size(1280, 800)

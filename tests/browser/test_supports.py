"""Supports by hand with real pointer moves: put in, dragged, picked, selected, taken out, compared."""

import unittest

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.case import shared
from tests.core.test_filament import table
from tests.support import comb, stl


def setUpModule():
    global server, browser
    server, browser, _ = shared()


class HandTest(unittest.TestCase):
    def setUp(self):
        browser.problems()

    def tearDown(self):
        self.assertEqual(browser.problems(), [])

    def open_job(self, body, style="tree"):
        job_id = server.upload("part.stl", stl(body))
        server.settle(job_id)
        browser.open(f"{server.url}/jobs/{job_id}?open=6")
        browser.ready()
        browser.run("document.querySelector('#style').value = arguments[0]", style)
        browser.click("#make-supports")
        server.settle(job_id)
        browser.ready(supports=True)
        return job_id

    def count(self):
        return browser.run("return window.heron.controllers.get('supports').hand.list.length")

    def wait_for(self, count):
        browser.wait(lambda: self.count() == count, f"not {count} supports")
        browser.ready()

    def page_place(self, place):
        """Where a place of the plate is on the canvas, from its middle."""
        return browser.run(
            """window.heron.view.camera.updateMatrixWorld();
            const c = window.heron.view.canvas, p = window.heron.view.controls.target.clone();
            p.set(...arguments[0]).project(window.heron.view.camera);
            return [Math.round(p.x * c.clientWidth / 2), Math.round(-p.y * c.clientHeight / 2)]""",
            place,
        )

    def go_to(self, place):
        x, y = self.page_place(place)
        return ActionChains(browser.driver).move_to_element_with_offset(browser.find("#canvas"), x, y)

    def picked(self):
        return browser.run("return document.body.dataset.picked").split()

    def test_put_in_dragged_undone_and_taken_out(self):
        job_id = self.open_job(table())
        before = self.count()
        browser.click("#tab-hand")
        browser.click("[data-view=below]")
        browser.click("#hand-add")
        # The size is shown before the click: the top lies at 30 mm, and the post ends at the plate.
        self.go_to([-26, -26 + 8, 30]).perform()
        browser.wait(lambda: "2 mm thick, 30.0 mm high" in browser.text("#hand-words"), "no size")
        self.assertTrue(browser.run("return window.heron.controllers.get('supports').hand.post.visible"))
        ActionChains(browser.driver).click().perform()
        self.wait_for(before + 1)
        browser.wait(lambda: browser.all("#picked-one"), "the new one is not picked")
        self.assertIn("made by hand", browser.text("#picked"))
        server.settle(job_id)
        browser.ready()
        # Its foot is dragged: the tip stays where it is.
        tip = browser.run(
            "return window.heron.controllers.get('supports').hand.handles.find(h => h.kind === 'tip').at"
        )
        foot = browser.run(
            "return window.heron.controllers.get('supports').hand.handles.find(h => h.kind === 'foot').at"
        )

        def drag():
            grip = browser.find(".grip.foot")
            pull = ActionChains(browser.driver).click_and_hold(grip).move_by_offset(12, 6)
            pull.move_by_offset(8, 4).release().perform()
            return True

        # Grips are drawn anew with every sheet: one may go between being found and being held.
        browser.wait(drag)
        browser.wait(
            lambda: browser.run(
                "const h = (window.heron.controllers.get('supports').hand.handles ?? []).find(h => h.kind === 'foot');"
                "return Boolean(h) && Math.hypot(h.at[0] - arguments[0], h.at[1] - arguments[1]) > 0.5",
                *foot[:2],
            ),
            "the foot did not move",
        )
        self.assertEqual(
            browser.run(
                "return window.heron.controllers.get('supports').hand.handles.find(h => h.kind === 'tip').at"
            ),
            tip,
        )
        self.assertEqual(server.get(f"/api/jobs/{job_id}")["sheet"]["items"][0]["hand"]["count"], 1)
        server.settle(job_id)
        browser.ready()
        browser.click("#undo")
        server.settle(job_id)
        browser.ready()
        browser.click("#undo")
        self.wait_for(before)

    def test_picked_in_the_view_locked_and_deleted_with_the_key(self):
        job_id = self.open_job(comb(), "lines")
        browser.click("[data-view=front]")
        at = browser.run("return window.heron.controllers.get('supports').hand.list[0].at")
        self.go_to([at[0], at[1], at[2] / 2]).click().perform()
        browser.wait(lambda: len(self.picked()) == 1, "none is picked")
        browser.wait(lambda: browser.all("#picked-one"), "nothing is told of it")
        self.assertIn("lines", browser.text("#picked"))
        self.assertIn("comes off", browser.text("#picked-reach"))
        browser.click("[data-hand=lock]")
        browser.wait(lambda: "locked" in browser.text("#picked"), "not locked")
        server.settle(job_id)
        browser.ready()
        before = self.count()
        browser.find("#canvas").send_keys(Keys.DELETE)
        self.wait_for(before - 1)
        browser.wait(lambda: browser.all("#hand-said"), "nothing is said")
        self.assertIn("has no support below", browser.text("#hand-said"))
        server.settle(job_id)
        browser.ready()
        browser.click("#undo")
        self.wait_for(before)

    def test_a_rectangle_and_a_reason_select(self):
        job_id = self.open_job(comb(), "lines")
        every = self.count()
        browser.click("#tab-hand")
        browser.click("#hand-select")
        canvas = browser.find("#canvas")
        wide, high = canvas.size["width"] // 2 - 8, canvas.size["height"] // 2 - 60
        (
            ActionChains(browser.driver)
            .move_to_element_with_offset(canvas, -wide, -high + 80)
            .click_and_hold()
            .move_to_element_with_offset(canvas, wide, high)
            .release()
            .perform()
        )
        browser.wait(lambda: len(self.picked()) == every, "not all are selected")
        browser.wait(lambda: browser.all("#picked-many"), "nothing is told of them")
        self.assertIn(f"{every} supports picked", browser.text("#picked"))
        ActionChains(browser.driver).send_keys(Keys.ESCAPE).perform()
        browser.wait(lambda: not self.picked(), "they are picked still")
        reason = browser.run(
            "const f = document.querySelector('#hand-reason'); f.selectedIndex = 2;"
            "f.dispatchEvent(new Event('change', { bubbles: true })); return window.heron.controllers.get('supports').hand.ids.size"
        )
        self.assertEqual(reason, 1)
        server.settle(job_id)

    def test_ticked_patches_are_set_together_and_gaps_typed_in_layers(self):
        job_id = self.open_job(comb(), "")
        browser.click("#tab-check")
        browser.click("#tick-all")
        self.assertEqual(len(browser.all('#patches [name="patches[]"]:checked')), 3)
        browser.all('#patches [name="patches[]"]')[2].click()
        for field, value in (("style", "grid"), ("origin", "plate")):
            browser.run(
                "document.querySelector(`#ticked-${arguments[0]}`).value = arguments[1]", field, value
            )
        browser.click("#ticked-set")
        browser.wait(
            lambda: browser.text("#patches").count("plate only") == 2, "not two patches on the plate only"
        )
        held = server.get(f"/api/jobs/{job_id}")["sheet"]["items"][0]["supports"]
        self.assertEqual(sorted(held["by_patch"].values()), ["grid", "grid"])
        self.assertEqual(browser.attribute("#tab-check", "aria-selected"), "true", "the tab stays open")
        server.settle(job_id)
        browser.ready(supports=True)
        browser.click("#tab-make")
        browser.fill("#gap", "3 layers")
        browser.click("#make-supports")
        server.settle(job_id)
        browser.ready(supports=True)
        self.assertEqual(browser.attribute("#gap", "value"), "3 layers")
        self.assertEqual(server.get(f"/api/jobs/{job_id}")["sheet"]["items"][0]["supports"]["gap_layers"], 3)
        self.assertEqual(
            server.get(f"/api/jobs/{job_id}")["sheet"]["items"][0]["supports"]["by_patch"], held["by_patch"]
        )

    def test_the_difference_between_two_is_drawn(self):
        job_id = self.open_job(comb(), "lines")
        browser.click("#tab-side")
        browser.click("#keep-variant")
        browser.wait(lambda: browser.all("[data-difference]"), "the variant is not listed")
        server.settle(job_id)
        browser.ready()
        browser.run(
            "const h = window.heron.controllers.get('supports').hand; h.ids = new Set([h.list[0].id]); h.send('delete')"
        )
        self.wait_for(2)
        server.settle(job_id)
        browser.ready()
        browser.click("[data-difference]")
        browser.wait(lambda: browser.run("return document.body.dataset.differs"), "no difference")
        self.assertEqual(browser.run("return document.body.dataset.differs"), "0 1 2")
        self.assertFalse(browser.run("return window.heron.view.supports.visible"))
        self.assertFalse(browser.run("return document.querySelector('#difference-words').hidden"))
        browser.click("#tab-make")
        browser.wait(
            lambda: browser.run("return window.heron.view.supports.visible"), "the supports did not come back"
        )


if __name__ == "__main__":
    unittest.main()

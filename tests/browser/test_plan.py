"""The plan of a plate in the real interface: copies, arranging, dragging, swinging, nudging, locks."""

import unittest

import numpy as np
import shapely
import shapely.affinity
from selenium.webdriver import ActionChains
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.case import BrowserCase, start
from tests.support import box, stl

setUpModule = start


class PlanTest(BrowserCase):
    def setUp(self):
        self.job_id = self.server.upload("bar.stl", stl(box(40, 16, 5)))
        self.server.post(f"/api/jobs/{self.job_id}/changes", {"kind": "keep-machine"})
        self.browser.open(f"{self.server.url}/jobs/{self.job_id}?open=9")
        self.browser.ready()

    def lying(self):
        return self.browser.all("#plate-plan .lying")

    def states(self):
        return [one.get_attribute("data-state") for one in self.lying()]

    def copies(self, count):
        b = self.browser
        b.fill("#copies", str(count))
        b.wait(lambda: len(self.lying()) == count)

    def arrange(self):
        b = self.browser
        b.click("#arrange-all")
        b.wait(lambda: b.all("#arrange") and set(self.states()) == {"good"})

    def instances(self):
        plates = self.server.get(f"/api/jobs/{self.job_id}")["sheet"]["plates"]
        return {one["copy_number"]: one for plate in plates for one in plate["instances"]}

    def drag(self, selector, dx, dy, *, off=(0, 0)):
        self.browser.plan_ready()
        element = self.browser.find(selector)
        grip = ActionChains(self.browser.driver)
        grip.move_to_element_with_offset(element, *off).click_and_hold().move_by_offset(dx, dy).perform()

    def drop(self):
        ActionChains(self.browser.driver).release().perform()

    def scale(self):
        return self.browser.run("return document.querySelector('#plate-plan').getScreenCTM().a")

    def test_copies_are_arranged_dragged_and_told_at_once(self):
        b = self.browser
        self.copies(4)
        self.arrange()
        before = self.instances()
        self.assertEqual(sorted(before), [1, 2, 3, 4])
        self.assertTrue(all(one["x_mm"] is not None for one in before.values()))
        # Dragged onto its neighbour: told while it is still held, and then by the server too.
        other = before[2]
        dx, dy = other["x_mm"] - before[1]["x_mm"], other["y_mm"] - before[1]["y_mm"]
        scale = self.scale()
        self.drag("#plate-plan .lying[data-key$=' 1'] .silhouette", round(dx * scale), round(-dy * scale))
        b.wait(lambda: self.states().count("near") >= 2)
        self.assertIn("crosses another", b.text("#plan-words"))
        self.drop()
        b.wait(lambda: "Copy 1: it crosses" in b.text("#sheet"))
        moved = self.instances()[1]
        self.assertAlmostEqual(moved["x_mm"], before[1]["x_mm"] + round(dx * scale) / scale, delta=0.6)
        b.click("#undo")
        b.wait(lambda: set(self.states()) == {"good"})
        self.assertEqual(self.instances()[1]["x_mm"], before[1]["x_mm"])
        # Far past the edge.
        self.drag("#plate-plan .lying[data-key$=' 3'] .silhouette", round(200 * scale), 0)
        b.wait(lambda: "off" in self.states())
        self.assertIn("mm past the edge", b.text("#plan-words"))
        self.drop()
        b.wait(lambda: "past the edge of the plate" in b.text("#sheet"))
        self.assertEqual(b.problems(), [])

    def test_a_drag_snaps_to_the_gap(self):
        b = self.browser
        self.copies(2)
        for copy, x in ((1, -60), (2, 40)):
            self.server.post(
                f"/api/jobs/{self.job_id}/changes",
                {"kind": "place", "x_mm": x, "y_mm": 0, "copy_number": copy},
            )
        b.open(f"{self.server.url}/jobs/{self.job_id}?open=9")
        b.ready()
        b.wait(lambda: len(self.lying()) == 2)
        # 60 mm of air between their boxes; all but 4.2 mm of it are dragged away, a gap of 3 is asked.
        self.drag("#plate-plan .lying[data-key$=' 2'] .silhouette", round(-55.8 * self.scale()), 0)
        b.wait(lambda: "3.0 mm to the nearest" in b.text("#plan-words"))
        self.drop()
        b.wait(lambda: self.instances()[2]["x_mm"] != 40)
        self.assertAlmostEqual(self.instances()[2]["x_mm"], -60 + 40 + 3, delta=0.06)

    def test_keys_nudge_the_handle_swings_and_locks_hold(self):
        b = self.browser
        self.copies(2)
        self.arrange()
        before = self.instances()[2]
        b.plan_ready()
        ActionChains(b.driver).click(b.find("#plate-plan .lying[data-key$=' 2'] .silhouette")).perform()
        b.wait(
            lambda: b.all("#place-copy") and Select(b.find("#place-copy")).first_selected_option.text == "2"
        )
        for keys, x, y in ((Keys.ARROW_RIGHT, 1, 0), (Keys.SHIFT + Keys.ARROW_UP + Keys.SHIFT, 0, 10)):
            was = self.instances()[2]
            b.find("body").send_keys(keys)
            b.wait(lambda was=was: self.instances()[2] != was)
            now = self.instances()[2]
            self.assertAlmostEqual(now["x_mm"] - was["x_mm"], x, places=3)
            self.assertAlmostEqual(now["y_mm"] - was["y_mm"], y, places=3)
            b.ready()
        b.wait(lambda: b.all("#plate-plan .swing.chosen circle"))
        self.drag("#plate-plan .swing.chosen circle", 0, -round(60 * self.scale()))
        self.drop()
        b.wait(lambda: self.instances()[2]["swing_deg"] != before["swing_deg"])
        swing = self.instances()[2]["swing_deg"] - before["swing_deg"]
        self.assertEqual(swing % 5, 0)
        self.assertTrue(20 < swing < 90, swing)
        b.ready()
        # What is locked stays when all is arranged again.
        for name in ("lock_x", "lock_y", "lock_swing"):
            b.click(f"#place-form input[type=checkbox][name={name}]")
            b.wait(lambda name=name: self.instances()[2][name])
            b.ready()
        kept = self.instances()[2]
        self.drag("#plate-plan .lying[data-key$=' 2'] .silhouette", 40, 0)
        self.drop()
        b.fill("#copies", "5")
        b.wait(lambda: len(self.lying()) == 5)
        self.arrange()
        self.assertEqual(self.instances()[2], kept)
        b.click("#place-form input[type=checkbox][name=lock_x]")
        b.wait(lambda: not self.instances()[2]["lock_x"])
        self.assertEqual(b.problems(), [])

    def test_the_plan_follows_an_item_to_its_plate(self):
        b = self.browser
        other = self.server.upload("post.stl", stl(box(10, 10, 30)), self.job_id)
        items = [one["id"] for one in self.server.get(f"/api/jobs/{other}")["sheet"]["items"]]
        move = {"kind": "place", "plate": 2}
        self.server.post(f"/api/jobs/{other}/changes", move, items[1])
        b.open(f"{self.server.url}/jobs/{other}?open=9&item={items[0]}")
        b.plan_ready()
        shown = "return document.querySelector('#plan-panel').dataset.shown.split(' ')[1]"
        self.assertEqual(b.run(shown), "1")
        b.click("#part-2")
        b.wait(lambda: b.run(shown) == "2", "the plan does not follow")
        b.plan_ready()
        # Turned to another plate it stays there, whatever figures come in.
        b.click("#plan-plates button[data-plate='1']")
        b.wait(lambda: b.run(shown) == "1")
        b.run("window.heron.refreshSoon()")
        b.wait(lambda: b.run("return Boolean(window.heron.refreshing)"))
        b.wait(lambda: not b.run("return Boolean(window.heron.refreshing)"))
        b.plan_ready()
        self.assertEqual(b.run(shown), "1")
        self.assertEqual(b.problems(), [])

    def test_all_of_the_plate_is_seen_in_3d(self):
        b = self.browser
        self.copies(4)
        self.arrange()
        other = self.server.upload("post.stl", stl(box(10, 10, 30)), self.job_id)
        b.open(f"{self.server.url}/jobs/{other}?open=9")
        b.plan_ready()
        b.click("#show-plan")
        b.wait(lambda: b.run("return window.heron.root.dataset.around") == "4")
        # Middles and heights of what is drawn, on the plate; what is looked at is drawn by itself.
        drawn = b.run("""
            const { neighbours } = window.heron.view, found = [];
            for (const many of neighbours.group.children) {
              if (many.material !== neighbours.materials.part) continue;
              many.geometry.computeBoundingBox();
              for (let k = 0; k < many.count; k++) {
                const at = many.matrix.clone();
                many.getMatrixAt(k, at);
                const box = many.geometry.boundingBox.clone().applyMatrix4(at);
                found.push([...box.min.toArray(), ...box.max.toArray()].map((v) => Math.round(1000 * v) / 1000));
              }
            }
            return found;""")
        stands = {
            (round(one["x"], 2), round(one["y"], 2))
            for one in self.server.get(f"/jobs/{other}/plates/1/plan.json")["instances"]
        }
        middles = {(round((one[0] + one[3]) / 2, 2), round((one[1] + one[4]) / 2, 2)) for one in drawn}
        self.assertEqual((len(drawn), len(middles), len(stands - middles)), (4, 4, 1))
        self.assertLessEqual(middles, stands)
        self.assertEqual({(one[2], one[5] in (5.0, 30.0)) for one in drawn}, {(0, True)})
        # The height profile is of all of it: four bars up to 5 mm, and a post up to 30.
        whole = b.run("return window.heron.profile.whole")
        self.assertAlmostEqual(whole["z"][-1], 29.9, places=6)
        self.assertAlmostEqual(whole["area"][10], 4 * 40 * 16 + 100, delta=1)
        self.assertAlmostEqual(whole["area"][100], 100, delta=0.1)
        # Left, there is only the part.
        b.open_section(4)
        b.wait(lambda: not b.run("return window.heron.view.neighbours.group.visible"))
        self.assertEqual(b.run("return window.heron.view.neighbours.group.children.length"), 0)
        self.assertIsNone(b.run("return window.heron.profile.whole"))
        self.assertEqual(b.problems(), [])

    def test_outlines_are_tied_together_and_move_as_one(self):
        b = self.browser
        self.copies(3)
        self.arrange()
        before = self.instances()
        self.assertFalse(b.find("#tie").is_displayed())
        b.plan_ready()
        shape = "#plate-plan .lying[data-key$=' {}'] .silhouette"
        b.click(shape.format(1))
        b.plan_ready()
        second = b.find(shape.format(2))
        ActionChains(b.driver).key_down(Keys.SHIFT).click(second).key_up(Keys.SHIFT).perform()
        b.wait(lambda: b.find("#tie").is_displayed())
        self.assertFalse(b.find("#untie").is_displayed())
        b.click("#tie")
        b.wait(lambda: [one["tie"] > 0 for one in self.instances().values()] == [True, True, False])
        b.wait(
            lambda: (
                "Tie 2 together" in b.text("#undo") or "Tie 2 together" in str(b.attribute("#undo", "title"))
            )
        )
        # One is dragged: the other goes along while it is held, and is kept where it went.
        scale = self.scale()
        self.drag(shape.format(1), round(-35 * scale), round(-20 * scale))
        held = b.run("return window.heron.controllers.get('handoff').plan.plan.instances.map((one) => one.x)")
        self.drop()
        b.wait(lambda: self.instances()[1]["x_mm"] != before[1]["x_mm"])
        after = self.instances()
        for axis in ("x_mm", "y_mm"):
            moved = [after[n][axis] - before[n][axis] for n in (1, 2, 3)]
            self.assertGreater(abs(moved[0]), 10)
            self.assertAlmostEqual(moved[0], moved[1], places=2)
            self.assertEqual(moved[2], 0)
        np.testing.assert_allclose(held[:2], [after[1]["x_mm"], after[2]["x_mm"]], atol=0.01)
        b.plan_ready()
        b.wait(lambda: b.find("#untie").is_displayed())
        b.click("#untie")
        b.wait(lambda: not any(one["tie"] for one in self.instances().values()))
        # By keys alone: Enter picks, Shift and Enter picks more.
        b.plan_ready()
        for key, more in (("3", False), ("1", True)):
            b.run(f"document.querySelector(\"#plate-plan .lying[data-key$=' {key}']\").focus()")
            keys = ActionChains(b.driver)
            (
                keys.key_down(Keys.SHIFT).send_keys(Keys.ENTER).key_up(Keys.SHIFT)
                if more
                else keys.send_keys(Keys.ENTER)
            ).perform()
            b.plan_ready()
        b.wait(lambda: b.find("#tie").is_displayed())

    def test_what_cannot_be_fetched_of_the_plate_is_told_and_tried_again(self):
        b = self.browser
        b.plan_ready()
        other = self.server.upload("post.stl", stl(box(10, 10, 30)), self.job_id)
        b.open(f"{self.server.url}/jobs/{other}?open=1")
        self.server.settle(self.job_id)
        b.ready()
        mine = b.run("return window.heron.state.mesh")
        b.run(
            """window.real = window.fetch;
            window.fetch = (url, ...rest) => String(url).includes('/blocks/meshes/')
              && !String(url).includes(arguments[0])
              ? Promise.reject(new TypeError('away')) : window.real(url, ...rest);""",
            mine,
        )
        b.open_section(9)
        b.plan_ready()
        b.click("#show-plan")
        b.wait(lambda: b.find("#around-failed").is_displayed())
        self.assertIn("could not be loaded", b.text("#around-failed"))
        self.assertIn("away", str(b.problems()))
        b.run("window.fetch = window.real; window.heron.refreshSoon()")
        b.wait(lambda: b.run("return window.heron.root.dataset.around") == "1")
        self.assertFalse(b.find("#around-failed").is_displayed())

    def test_what_is_typed_while_an_answer_is_on_its_way_counts(self):
        b = self.browser
        b.run("""
            const real = window.fetch;
            window.held = [];
            window.fetch = (url, ...rest) => real(url, ...rest).then((answer) => !String(url).includes('/changes/')
              ? answer : new Promise((go) => window.held.push(() => { window.fetch = real; go(answer); })));
            """)
        step = b.run("return window.heron.state.step")
        b.fill("#plating-gap", "7")
        b.wait(lambda: b.run("return window.held.length") == 1)
        b.fill("#copies", "3", "")
        b.run("window.held[0]()")
        b.wait(lambda: b.run("return window.heron.state.step") == step + 1)
        shown = "const field = document.activeElement; return [field.id, field.value]"
        self.assertEqual(b.run(shown), ["copies", "3"])
        self.assertEqual(b.attribute("#plating-gap", "value"), "7")
        b.run("document.activeElement.blur()")
        b.wait(lambda: len(self.lying()) == 3)
        sheet = self.server.get(f"/api/jobs/{self.job_id}")["sheet"]
        self.assertEqual((sheet["plating"]["gap_mm"], len(self.instances())), (7, 3))

    def test_more_than_a_plate_holds_goes_to_the_next(self):
        b = self.browser
        b.fill("#plating-gap", "60")
        b.wait(lambda: self.server.get(f"/api/jobs/{self.job_id}")["sheet"]["plating"]["gap_mm"] == 60)
        b.ready()
        self.copies(24)
        b.click("#arrange-all")
        b.wait(lambda: len(b.all("#plan-plates button")) > 1)
        b.wait(lambda: self.states() and set(self.states()) == {"good"})
        here = len(self.lying())
        b.click("#plan-plates button[data-plate='2']")
        b.wait(lambda: len(self.lying()) == 24 - here)
        b.click("#show-plan")
        b.wait(lambda: not b.find("#plan-panel").is_displayed())
        self.assertEqual(b.problems(), [])


class OutlinesTest(BrowserCase):
    def test_distances_are_those_of_another_library(self):
        """Pure functions of the plan, tried in the browser that is there anyway."""
        rng = np.random.default_rng(11)
        self.browser.open(self.server.url)
        cases = []
        for _ in range(60):
            pair = []
            for k in range(2):
                n = int(rng.integers(3, 9))
                angle = (np.arange(n) + rng.uniform(0, 0.8, n)) * 2 * np.pi / n
                ring = (np.stack([np.cos(angle), np.sin(angle)], 1) * rng.uniform(4, 12, (n, 1))).ravel()
                place = {
                    "x": float(rng.uniform(8, 30)) * k,
                    "y": float(rng.uniform(-9, 9)),
                    "swing": float(rng.uniform(-180, 180)),
                }
                pair.append({"rings": [ring.tolist()], "place": place})
            cases.append(pair)
        hole = [[-20, -20, 20, -20, 20, 20, -20, 20], [-15, -15, -15, 15, 15, 15, 15, -15]]
        still = {"x": 0, "y": 0, "swing": 0}
        cases += [
            [{"rings": hole, "place": still}, {"rings": [[-5, -5, 5, -5, 5, 5, -5, 5]], "place": still}]
        ]
        found = self.browser.driver.execute_async_script(
            """const [cases, done] = arguments;
            import('/static/js/outlines.js').then(({ apart, placed }) => done(cases.map(([a, b]) =>
              apart(placed(a.rings, a.place), placed(b.rings, b.place)).gap)));""",
            cases,
        )
        crossing = 0
        for pair, gap in zip(cases, found, strict=True):
            shapes = []
            for one in pair:
                rings = [np.reshape(ring, (-1, 2)) for ring in one["rings"]]
                shape = shapely.Polygon(rings[0], rings[1:]).buffer(0)
                shape = shapely.affinity.rotate(shape, one["place"]["swing"], origin=(0, 0))
                shapes.append(shapely.affinity.translate(shape, one["place"]["x"], one["place"]["y"]))
            crossing += shapes[0].distance(shapes[1]) == 0
            self.assertAlmostEqual(gap, shapes[0].distance(shapes[1]), places=6)
        self.assertAlmostEqual(found[-1], 10.0)
        self.assertTrue(5 < crossing < 50, crossing)


if __name__ == "__main__":
    unittest.main()

"""Section 3 in the real interface: a size typed, joints made, pieces pulled apart and lit."""

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.case import BrowserCase, start
from tests.support import box, stl

setUpModule = start

PLACES = "return window.heron.view.pieces.children.map((b) => b.position.toArray())"


class SplitTest(BrowserCase):
    def opened(self, body):
        """The browser with section 3 of a job of a part."""
        job_id = self.server.upload("bar.stl", stl(body))
        self.browser.open(f"{self.server.url}/jobs/{job_id}?open=3")
        self.browser.ready()
        return self.browser

    def test_boxes_are_counted_and_drawn_while_a_size_is_typed_without_the_server(self):
        b = self.opened(box(500, 40, 40))
        b.wait(lambda: b.text("#live-cells") == "2 × 1 × 1 boxes; 2 of 2 hold something.")
        self.assertTrue(b.run("return window.heron.view.cells.visible"))
        # From here on the server is not asked for anything.
        b.run("window.asked = 0; const f = window.fetch; window.fetch = (...a) => { window.asked++; return f(...a); };"
              "const o = XMLHttpRequest.prototype.send; XMLHttpRequest.prototype.send = function (...a) { window.asked++; return o.apply(this, a); };")  # fmt: skip
        field = b.find("#live-size")
        for typed, told in (
            ("1219", "5 × 1 × 1 boxes; 5 of 5 hold something."),
            ("200 %", "4 × 1 × 1 boxes; 4 of 4 hold something."),
            ("1:2", "Fits in one box: 250.0 × 20.0 × 20.0 mm."),
            ("60 in", "6 × 1 × 1 boxes; 6 of 6 hold something."),
            ("long", "Type a length such as 1219 mm or 48 in, a percentage, or a ratio."),
        ):
            field.send_keys(Keys.CONTROL, "a")
            field.send_keys(typed)
            b.wait(lambda told=told: b.text("#live-cells") == told, typed)
        b.click("#largest-whole")
        b.wait(lambda: b.find("#live-size").get_attribute("value") == "294")
        # Five boxes of 294 mm in a row; one more hair would take a sixth.
        boxes = b.find("#largest-boxes")
        boxes.send_keys(Keys.CONTROL, "a")
        boxes.send_keys("5")
        b.click("#largest-in")
        b.wait(lambda: b.find("#live-size").get_attribute("value") == "1470")
        self.assertEqual(b.text("#live-cells"), "5 × 1 × 1 boxes; 5 of 5 hold something.")
        b.click("#largest-whole")
        b.wait(lambda: b.find("#live-size").get_attribute("value") == "294")
        self.assertEqual(b.run("return window.asked"), 0)
        # Then it is sized so, and cut into nothing.
        b.click("#size-so")
        b.wait(lambda: "Fits Sedge 300 as it stands" in b.text("#fit"))
        self.assertEqual(b.problems(), [])

    def test_cut_joined_pulled_apart_and_lit(self):
        b = self.opened(box(500, 40, 40))
        b.click("#cut")
        b.wait(lambda: b.all("#piece-count") and b.text("#piece-count") == "2 pieces")
        Select(b.find("#joint")).select_by_value("peg")
        b.click("#set-joints")
        b.wait(lambda: "2 pegs in 1 joint" in b.text("#sheet"))
        self.assertEqual(b.text("#goes-together"), "2 pieces that go together in 1 step.")
        b.wait(lambda: len(b.run(PLACES)) == 2)
        # Pulled apart along the way they go together, by keys.
        slider = b.find("#pull")
        slider.send_keys(Keys.HOME)
        b.wait(lambda: b.text("#pull-out") == "0 %")
        together = b.run(PLACES)
        self.assertEqual(together[0], together[1])
        slider.send_keys(Keys.END)
        b.wait(lambda: b.text("#pull-out") == "100 %")
        apart = b.run(PLACES)
        self.assertGreater(apart[1][0] - apart[0][0], 100)
        self.assertEqual(apart[0][1:], apart[1][1:])
        # The row of a piece lights it up, and its neighbour a little.
        b.hover("#pieces tr[data-piece='2'] td")
        glow = "return window.heron.view.pieces.children.map((b) => b.material.emissive.getHex())"
        b.wait(lambda: b.run(glow)[1] > b.run(glow)[0] > 0)
        b.click("#make-pieces")
        b.wait(lambda: b.all("#pieces-are-items"))
        self.assertEqual(b.problems(), [])

    def test_one_joint_alone_and_what_counts_in_a_plan(self):
        b = self.opened(box(500, 400, 40))
        b.click("#cut")
        b.wait(lambda: b.all("#piece-count") and b.text("#piece-count") == "4 pieces")
        # Plans are drawn, and their points follow the sliders.
        b.wait(lambda: b.all("#plans img.plan-picture"))
        drawn = "return [...document.querySelectorAll('#plans img')].every((i) => i.complete && i.naturalWidth > 0)"
        b.find("#plans img.plan-picture").location_once_scrolled_into_view  # noqa: B018
        b.wait(lambda: b.run(drawn))
        points = lambda: [one.text for one in b.all("#plans .plan-points")]  # noqa: E731
        before = points()
        b.click("#plan-goals summary")
        for goal in ("fewer_pieces", "less_support", "clean_show", "shorter_print"):
            # The sheet may come anew meanwhile.
            b.wait(lambda goal=goal: b.find(f"#cut-{goal}").send_keys(Keys.HOME) is None, goal)
            b.wait(lambda goal=goal: b.find(f"#cut-{goal} + output").text == "0", goal)
            # One after the other: the answer to one would put the next back where it was.
            b.wait(lambda: not b.all(".htmx-request"), "answer")
        # Nothing counts any more: all are as good, and the sliders are still at hand.
        b.wait(lambda: set(points()) == {"100"}, "points")
        self.assertNotEqual(before, points())
        self.assertTrue(b.find("#cut-even_pieces").is_displayed())
        # One joint alone gets dowels.
        Select(b.find("#joint")).select_by_value("peg")
        b.click("#set-joints")
        b.wait(lambda: "8 pegs in 4 joints" in b.text("#sheet"))
        b.click("#joints summary")
        Select(b.find("#joint-of-face [name=joint]")).select_by_value("dowel")
        b.click("#hold-face")
        b.wait(lambda: b.text("#pieces").count("dowel") == 2)
        self.assertEqual(b.text("#goes-together"), "4 pieces that go together in 3 steps.")
        self.assertEqual(b.problems(), [])

    def test_a_plane_is_dragged_and_picked_and_cuts_there(self):
        b = self.opened(box(120, 40, 40))
        slider = b.find("#plane-slide")
        b.wait(lambda: float(slider.get_attribute("max")) > 50)
        # Dragged by the pointer: drawn where the figure says, in the frame of the part.
        ActionChains(b.driver).drag_and_drop_by_offset(slider, 60, 0).perform()
        at = float(b.find("#plane-at").get_attribute("value"))
        low, high = (float(slider.get_attribute(end)) for end in ("min", "max"))
        self.assertTrue(0.5 * (low + high) < at < high)
        drawn = "const p = window.heron.view.cutPlane; return [p.visible, ...p.position.toArray()]"
        self.assertEqual(b.run(drawn)[0], True)
        self.assertAlmostEqual(b.run(drawn)[1], at, 3)
        Select(b.find("#plane-axis")).select_by_value("z")
        b.wait(lambda: abs(b.run(drawn)[3] - 20) < 1e-6)
        # Along a face that is picked: straight above the middle of the part.
        b.click("[data-plane=face]")
        b.wait(lambda: b.find("#pick-slip").is_displayed())
        b.run("window.heron.view.look('above')")
        canvas = b.find("#canvas")
        ActionChains(b.driver).move_to_element(canvas).click().perform()
        b.wait(lambda: not b.find("#pick-slip").is_displayed())
        self.assertEqual(b.find("#plane-at").get_attribute("value"), "40")
        field = b.find("#plane-at")
        field.send_keys(Keys.CONTROL, "a")
        field.send_keys("15")
        b.wait(lambda: abs(b.run(drawn)[3] - 15) < 1e-6)
        b.click("#add-plane")
        b.wait(lambda: b.all("#piece-count") and b.text("#piece-count") == "2 pieces")
        self.assertIn("120 × 40 × 15", b.text("#pieces"))
        self.assertFalse(b.run(drawn)[0])
        self.assertEqual(b.problems(), [])

    def test_all_pieces_are_stood_sorted_and_filtered_and_one_is_looked_at(self):
        b = self.opened(box(700, 60, 40))
        b.click("#cut")
        b.wait(lambda: b.all("#make-pieces"))
        b.click("#make-pieces")
        b.wait(lambda: len(b.all("#set tbody tr")) == 3)
        self.assertIn("to stand", b.text("#set"))
        # Only one is ticked: only that one is stood.
        b.click("#set tbody tr:nth-child(2) input")
        b.click("#stand-pieces")
        states = "return [...document.querySelectorAll('#set tbody tr')].map((r) => r.dataset.state)"
        b.wait(lambda: b.run(states).count("to stand") == 2)
        b.click("#stand-pieces")
        b.wait(lambda: b.run(states) == ["ready"] * 3, "all are made")
        b.wait(lambda: "known" not in b.text("#takes"))
        # The middle piece is the shortest, or the longest: sorted both ways.
        order = "return [...document.querySelectorAll('#set tbody tr')].map((r) => Number(r.dataset.piece))"
        seconds = "return [...document.querySelectorAll('#set tbody tr')].map((r) => Number(r.cells[3].dataset.sort))"
        b.click("#set th:nth-child(4) button")
        times = b.run(seconds)
        self.assertEqual(times, sorted(times))
        b.click("#set th:nth-child(4) button")
        self.assertEqual(b.run(seconds), sorted(times, reverse=True))
        self.assertEqual(b.find("#set th:nth-child(4)").get_attribute("aria-sort"), "descending")
        self.assertEqual(sorted(b.run(order)), [1, 2, 3])
        # What is left out is not ticked any more.
        b.click("#tick-set")
        self.assertEqual(len(b.all("#set tbody input:checked")), 3)
        Select(b.find("#set-state")).select_by_value("ready")
        self.assertEqual(len(b.all("#set tbody tr:not([hidden])")), 3)
        # Its number leads to the piece, in its stance.
        b.click("#set a[aria-label='Look at piece 2']")
        b.wait(lambda: "piece 2" in b.text(".part-tab[aria-pressed=true]"))
        self.assertEqual(b.problems(), [])

    def test_a_plane_by_a_drawn_line_three_points_angles_and_in_one_piece_only(self):
        b = self.opened(box(120, 40, 40))
        b.run("window.heron.view.look('above')")
        canvas = b.find("#canvas")
        normal = "return ['x', 'y', 'z'].map((n) => Number(document.querySelector(`#new-plane [name=n${n}]`).value))"
        eye = "return window.heron.view.camera.position.toArray()"
        before = b.run(eye)
        # Seen from above, a line drawn up the view parts the bar across; the view stays where it is.
        b.click("[data-plane=line]")
        b.wait(lambda: b.find("#pick-slip").is_displayed())
        ActionChains(b.driver).move_to_element_with_offset(canvas, 20, 90).click_and_hold().move_by_offset(
            0, -90
        ).move_by_offset(0, -90).release().perform()
        b.wait(lambda: not b.find("#pick-slip").is_displayed())
        x, _, z = b.run(normal)
        self.assertGreater(abs(x), 0.99)
        self.assertLess(abs(z), 0.1)
        self.assertEqual(b.run(eye), before)
        at = abs(float(b.find("#plane-at").get_attribute("value")))
        self.assertTrue(60 < at < 110, at)
        # Three points on the top face: the plane lies in it.
        b.click("[data-plane=three]")
        for dx, dy in ((-30, -10), (30, -10), (0, 15)):
            ActionChains(b.driver).move_to_element_with_offset(canvas, dx, dy).click().perform()
        b.wait(lambda: not b.find("#pick-slip").is_displayed())
        self.assertGreater(abs(b.run(normal)[2]), 0.999999)
        self.assertAlmostEqual(abs(float(b.find("#plane-at").get_attribute("value"))), 40, 2)
        # Typed as angles.
        for name, typed in (("#plane-heading", "90"), ("#plane-tilt", "30")):
            field = b.find(name)
            field.send_keys(Keys.CONTROL, "a")
            field.send_keys(typed)
        x, _y, z = b.run(normal)
        self.assertAlmostEqual(x, 0, 6)
        self.assertAlmostEqual(z, 0.5, 6)
        Select(b.find("#plane-axis")).select_by_value("x")
        b.wait(lambda: b.run(normal) == [1, 0, 0])
        b.click("#add-plane")
        b.wait(lambda: b.all("#piece-count") and b.text("#piece-count") == "2 pieces")
        # The next one cuts the second piece only.
        Select(b.find("#plane-axis")).select_by_value("z")
        Select(b.find("#plane-within")).select_by_value("1b")
        b.click("#add-plane")
        b.wait(lambda: b.text("#piece-count") == "3 pieces")
        self.assertIn("in piece 1b", b.text("#planes"))
        self.assertEqual(b.problems(), [])

    def test_a_piece_is_picked_in_the_view_hidden_and_shown_again(self):
        b = self.opened(box(500, 40, 40))
        b.click("#cut")
        b.wait(lambda: b.all("#piece-count") and b.text("#piece-count") == "2 pieces")
        b.wait(lambda: len(b.run(PLACES)) == 2)
        b.run("window.heron.view.look('front')")
        canvas = b.find("#canvas")
        # Each half of the view has one of the two; the empty corner has none.
        told = []
        for dx in (-60, 60):
            ActionChains(b.driver).move_to_element_with_offset(canvas, dx, 0).click().perform()
            b.wait(lambda: b.find("#piece-slip").is_displayed())
            told.append(b.text("#piece-told"))
        self.assertEqual([t.split(" · ")[0] for t in told], ["Piece 1", "Piece 2"])
        self.assertIn("250 × 40 × 40 mm · 400.0 cm³ · beside 1", told[1])
        shown = "return window.heron.view.pieces.children.map((p) => p.visible)"
        ActionChains(b.driver).send_keys("h").perform()
        self.assertEqual(b.run(shown), [True, False])
        self.assertEqual(b.text("#piece-hide"), "Show")
        # What is hidden is not picked.
        ActionChains(b.driver).move_to_element_with_offset(canvas, 60, 0).click().perform()
        b.wait(lambda: not b.find("#piece-slip").is_displayed())
        b.click("#pieces-all")
        self.assertEqual(b.run(shown), [True, True])
        self.assertFalse(b.find("#pieces-all").is_displayed())
        self.assertEqual(b.problems(), [])

    def test_boxes_are_moved_by_dragging_and_cut_where_they_are_drawn(self):
        b = self.opened(box(560, 40, 40))
        b.wait(lambda: b.text("#live-cells") == "2 × 1 × 1 boxes; 2 of 2 hold something.")
        ActionChains(b.driver).drag_and_drop_by_offset(b.find("#shift-x"), 10, 0).perform()
        share = float(b.find("#shift-x").get_attribute("value"))
        self.assertTrue(0.1 < share < 0.4, share)
        b.wait(lambda: b.text("#live-cells").startswith("3 × 1 × 1 boxes; 3 of 3"))
        # The planes between the boxes as they are drawn, in the frame of the part.
        drawn = b.run(
            "const p = window.heron.view.cells.geometry.getAttribute('position');"
            "return [...new Set([...Array(p.count).keys()].map((n) => p.getX(n).toFixed(1)))].map(Number)"
        )
        between = sorted(drawn)[1:-1]
        self.assertAlmostEqual(between[1] - between[0], 294, 1)
        b.click("#cut")
        b.wait(lambda: b.all("#piece-count") and b.text("#piece-count") == "3 pieces")
        sizes = [int(row.text.split()[1]) for row in b.all("#pieces tbody tr")]
        self.assertEqual(sizes, [round(between[0]), 294, round(560 - between[1])])
        self.assertEqual(b.problems(), [])


if __name__ == "__main__":
    import unittest

    unittest.main()

"""Several items in one job: each with its own stance, supports and footing, handed off together."""

import json
import threading
import time

import lib3mf
import numpy as np
from manifold3d import Manifold
from sqlalchemy import event

from tests.support import box, mesh_of, stl, tee
from tests.web.test_app import AppCase, Page, flat
from upright_heron.core.formats.read import read
from upright_heron.core.formats.reading import finish
from upright_heron.core.handoff.stl import write_stl


class ItemsCase(AppCase):
    def add(self, job_id, data, name):
        return self.client.post(f"/api/jobs/{job_id}/items", params={"name": name}, content=data)

    def sheet(self, job_id, at=0):
        return flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"], at)

    def ids(self, job_id):
        return [item["id"] for item in self.sheet(job_id)["items"]]

    def looking(self, job_id, at, number=1):
        """Section of the page of a job that looks at one of its items."""
        return Page(self.client.get(f"/jobs/{job_id}/sheet?open={number}&item={self.ids(job_id)[at]}").text)

    def state(self, job_id, at=0):
        return json.loads(self.looking(job_id, at).text("state"))

    def to(self, job_id, at, kind, status=200, step=None, page="", **fields):
        """Change one of the items, as a page that looks at it does."""
        headers = {"HX-Request": "true", "Heron-Item": self.ids(job_id)[at], "Heron-Page": page}
        if step is not None:
            headers["Heron-Step"] = str(step)
        answer = self.client.post(f"/jobs/{job_id}/changes/{kind}", data=fields, headers=headers)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer

    def two(self):
        job_id = self.job(stl(tee()), "tee.stl")
        self.assertEqual(self.add(job_id, stl(box(30, 20, 10)), "block.stl").status_code, 201)
        return job_id


class ItemsTest(ItemsCase):
    def test_each_item_keeps_its_own_stance_and_supports(self):
        job_id = self.two()
        self.to(job_id, 1, "turn", x_deg="90")
        self.assertEqual(self.sheet(job_id, 0)["stance"]["name"], "as it came")
        self.assertEqual(self.sheet(job_id, 1)["stance"]["name"], "on its front")
        self.to(job_id, 0, "supports", gap_mm="0.2")
        self.to(job_id, 0, "layer", layer_mm="0.3")
        self.settle(job_id)
        self.assertIsNotNone(self.state(job_id, 0)["supports"])
        # What is the machine's is shared, what is the item's is not.
        sheet = self.sheet(job_id, 1)
        self.assertEqual((sheet["layer_mm"], sheet["supports"]), (0.3, None))
        self.assertIsNone(self.state(job_id, 1)["supports"])

    def test_two_pages_look_at_different_items_and_neither_moves_the_other(self):
        job_id = self.two()
        mine = self.state(job_id, 0)
        self.looking(job_id, 1)
        self.to(job_id, 0, "turn", x_deg="90")
        self.assertEqual(self.sheet(job_id, 1)["stance"]["name"], "as it came")
        self.assertEqual(self.state(job_id, 0)["mesh"], mine["mesh"])
        # A change that names no item is refused where there are several.
        self.change(job_id, "turn", status=422, x_deg="90")
        answer = self.client.post(
            f"/jobs/{job_id}/changes/turn", data={"x_deg": "90"}, headers={"Heron-Item": "gone"}
        )
        self.assertEqual(answer.status_code, 422)

    def test_steps_of_others_are_merged_or_told(self):
        job_id = self.two()
        seen = self.client.get(f"/api/jobs/{job_id}").json()["step_id"]
        self.to(job_id, 0, "turn", x_deg="90", step=seen, page="me")
        # Another page, still on the old step: other item, other field, and the same.
        self.to(job_id, 1, "turn", y_deg="90", step=seen, page="you")
        self.to(job_id, 0, "footing", footing="brim", step=seen, page="you")
        before = self.client.get(f"/api/jobs/{job_id}").json()
        told = self.to(job_id, 0, "turn", status=409, y_deg="45", step=seen, page="you").text
        self.assertIn("stance of tee.stl", told)
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json(), before)
        names = [self.sheet(job_id, k)["stance"]["name"] for k in (0, 1)]
        self.assertEqual(names, ["on its front", "on its right side"])
        self.assertEqual(self.sheet(job_id, 0)["footing"]["kind"], "brim")
        # One's own quick second press is no clash.
        now = self.client.get(f"/api/jobs/{job_id}").json()["step_id"]
        for _ in range(2):
            self.to(job_id, 0, "turn", x_deg="90", step=now, page="me")

    def test_undo_looks_where_the_change_was(self):
        job_id = self.two()
        self.to(job_id, 1, "footing", footing="brim")
        first = self.ids(job_id)[0]
        answer = self.client.post(f"/jobs/{job_id}/undo?open=7&item={first}")
        self.assertEqual(json.loads(Page(answer.text).text("state"))["item"], self.ids(job_id)[1])
        self.client.post(f"/jobs/{job_id}/redo")
        self.assertEqual(self.sheet(job_id, 1)["footing"]["kind"], "brim")
        for _ in range(2):
            self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(len(self.ids(job_id)), 1)
        self.assertNotIn("parts", self.section(job_id, 1).ids)

    def test_all_items_leave_in_one_file_beside_each_other(self):
        job_id = self.two()
        self.add(job_id, stl(box(12, 12, 12)), "cube.stl")
        self.to(job_id, 0, "supports", gap_mm="0.2")
        data = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
        model = lib3mf.Wrapper().CreateModel()
        reader = model.QueryReader("3mf")
        reader.SetStrictModeActive(True)
        reader.ReadFromBuffer(data)
        self.assertEqual(reader.GetWarningCount(), 0)
        bodies = read(data, "all.3mf").bodies
        self.assertEqual(len(bodies), 4)
        parts = [finish(b.corners).mesh for b in bodies if "support" not in b.name]
        sizes = sorted(tuple(np.round(m.size_mm, 3)) for m in parts)
        expected = sorted(
            tuple(np.round(m.size_mm, 3)) for m in map(mesh_of, (tee(), box(30, 20, 10), box(12, 12, 12)))
        )
        self.assertEqual(sizes, expected)
        for i, a in enumerate(parts):
            self.assertAlmostEqual(a.bounds[0][2], 0.0, places=5)
            for b in parts[i + 1 :]:
                apart = np.maximum(a.bounds[0] - b.bounds[1], b.bounds[0] - a.bounds[1])[:2]
                self.assertGreaterEqual(apart.max(), 5 - 1e-6)
        self.settle(job_id)
        page = self.section(job_id, 9)
        self.assertIn("cube.stl", page.text("all-plates"))
        self.assertIn("The plate rough", page.text("whole"))

    def test_preflight_speaks_of_every_item(self):
        job_id = self.two()
        self.settle(job_id)
        # The tee overhangs and stands on little; the block is faultless, and is looked at.
        tee_id, block = self.ids(job_id)
        self.settle(job_id)
        answer = self.client.get(f"/jobs/{job_id}?item={block}").text
        self.assertIn(f'data-item="{tee_id}"><span class="item-number">1</span>', answer)
        self.assertNotIn(f'data-item="{block}"><span class="item-number">', answer)

    def test_bodies_become_items_of_the_same_job_and_one_is_taken_out(self):
        both = Manifold.compose([box(10, 10, 10), box(20, 10, 10, (40, 0, 0))])
        job_id = self.job(write_stl(mesh_of(both)), "pair.stl")
        self.client.post(f"/jobs/{job_id}/items/separate")
        lengths = sorted(self.sheet(job_id, k)["part"]["size_mm"][0] for k in (0, 1))
        np.testing.assert_allclose(lengths, [10, 20], atol=1e-5)
        self.to(job_id, 0, "take-out")
        self.assertEqual(len(self.ids(job_id)), 1)
        answer = self.change(job_id, "take-out", status=422)
        self.assertIn("only item", answer.text)

    def test_a_bad_file_adds_nothing(self):
        job_id = self.two()
        before = self.client.get(f"/api/jobs/{job_id}").json()["step"]
        self.refused(self.add(job_id, b"no mesh " * 100, "x.stl"), 422, "not a mesh file")
        self.refused(self.add("nobody", stl(tee()), "x.stl"), 404, "no such job")
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["step"], before)

    def test_another_kind_of_machine_clears_the_supports_of_every_item(self):
        job_id = self.two()
        self.to(job_id, 0, "supports", gap_mm="0.2")
        self.to(job_id, 1, "supports", gap_mm="0.2")
        self.change(job_id, "printer", printer="Tarn 9")
        self.assertEqual([self.sheet(job_id, k)["supports"] for k in (0, 1)], [None, None])

    def test_pieces_of_a_cut_are_items_with_a_life_of_their_own(self):
        job_id = self.job(stl(box(500, 30, 20)), "beam.stl")
        self.change(job_id, "cut", margin_mm="3")
        self.settle(job_id)
        answer = self.client.post(f"/jobs/{job_id}/pieces/items", headers={"HX-Request": "true"})
        self.assertIn("pieces-are-items", Page(answer.text).ids)
        self.assertEqual(len(self.ids(job_id)), 3)
        self.to(job_id, 2, "turn", y_deg="90")
        self.to(job_id, 1, "footing", footing="brim")
        self.assertEqual(
            [self.sheet(job_id, k)["stance"]["name"] for k in (1, 2)], ["as it came", "on its right side"]
        )
        self.settle(job_id)
        bodies = read(self.client.get(f"/jobs/{job_id}/handoff.3mf").content, "all.3mf").bodies
        # The whole beam does not leave: its pieces do, one with a brim.
        sizes = sorted(tuple(np.round(finish(b.corners).mesh.size_mm)) for b in bodies)
        self.assertEqual(sum(size in ((250, 30, 20), (20, 30, 250)) for size in sizes), 2)
        self.assertEqual(len(bodies), 3)
        # The same cuts again leave the pieces as they are.
        before = self.sheet(job_id)
        self.client.post(f"/jobs/{job_id}/pieces/items", headers={"Heron-Item": self.ids(job_id)[0]})
        self.assertEqual(self.sheet(job_id), before)
        self.to(job_id, 0, "join")
        self.assertEqual(len(self.ids(job_id)), 1)

    def test_an_item_is_put_somewhere_on_the_plate_and_told_when_it_is_off_it(self):
        job_id = self.two()
        self.settle(job_id)
        self.to(job_id, 0, "place", x_mm="149", y_mm="0", swing_deg="90")
        page = self.looking(job_id, 0, 9)
        self.assertEqual(page.ids["place-x"]["value"], "149")
        self.assertIn("past the edge of the plate", self.client.get(f"/jobs/{job_id}").text)
        bodies = read(self.client.get(f"/jobs/{job_id}/handoff.3mf").content, "all.3mf").bodies
        tee_mesh = next(finish(b.corners).mesh for b in bodies if "tee" in b.name)
        np.testing.assert_allclose(tee_mesh.bounds.mean(axis=0)[:2], [149, 0], atol=1e-4)
        np.testing.assert_allclose(tee_mesh.size_mm, np.array(mesh_of(tee()).size_mm)[[1, 0, 2]], atol=1e-4)
        self.to(job_id, 0, "place")
        self.assertNotIn("past the edge", self.client.get(f"/jobs/{job_id}").text)
        self.to(job_id, 0, "place", status=422, x_mm="3")


class QueriesTest(ItemsCase):
    def statements(self, job_id):
        """How many statements a swap of the job's page asks of the database, once everything is made."""
        self.settle(job_id)
        address, told = f"/jobs/{job_id}/sheet?open=1", []
        self.client.get(address)

        def note(*_):
            # Machines are looked at in a thread of their own, once a second, whatever pages ask.
            if threading.current_thread().name != "floor":
                told.append(1)

        engine = self.client.app.state.services.store._engine
        event.listen(engine, "before_cursor_execute", note)
        try:
            self.client.get(address)
        finally:
            event.remove(engine, "before_cursor_execute", note)
        return len(told)

    def test_a_swap_asks_as_little_of_the_database_with_many_items(self):
        job_id = self.job(stl(box(9, 9, 9)), "first.stl")
        one = self.statements(job_id)
        for k in range(7):
            self.add(job_id, stl(box(10 + k, 9, 8)), f"{k}.stl")
        self.assertLess(one, 25)
        # Two more looks, whatever their number, one at what is known of the paths of all of them together; each
        # with what opens it.
        self.assertLessEqual(self.statements(job_id), one + 4)


class ManyTest(ItemsCase):
    def three(self):
        job_id = self.two()
        self.assertEqual(self.add(job_id, stl(box(12, 20, 10)), "small.stl").status_code, 201)
        return job_id

    def many(self, job_id, what, value="", at=(0, 2), status=200):
        ids = self.ids(job_id)
        answer = self.client.post(
            f"/jobs/{job_id}/items/many?open=1",
            data={"what": what, "value": value, "ticked": [ids[k] for k in at]},
            headers={"HX-Request": "true"},
        )
        self.assertEqual(answer.status_code, status, answer.text)
        return answer

    def of_each(self, job_id, *path):
        found = []
        for item in self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"]:
            for name in path:
                item = item[name] if item is not None else None
            found.append(item)
        return found

    def test_each_change_goes_to_those_that_are_ticked_in_one_step(self):
        job_id = self.three()
        begun = self.client.get(f"/api/jobs/{job_id}").json()["step"]
        before = self.of_each(job_id, "footing", "kind")
        self.many(job_id, "footing", "raft")
        self.assertEqual(self.of_each(job_id, "footing", "kind"), ["raft", before[1], "raft"])
        self.many(job_id, "style", "tree")
        self.assertEqual(self.of_each(job_id, "supports", "style"), ["tree", None, "tree"])
        sizes = self.of_each(job_id, "part", "size_mm")
        self.many(job_id, "size", "200")
        for old, new, factor in zip(sizes, self.of_each(job_id, "part", "size_mm"), (2, 1, 2), strict=True):
            np.testing.assert_allclose(new, factor * np.array(old))
        self.many(job_id, "unit", "cm", at=(1,))
        np.testing.assert_allclose(self.of_each(job_id, "part", "size_mm")[1], 10 * np.array(sizes[1]))
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["step"], begun + 4)
        self.client.post(f"/jobs/{job_id}/undo", headers={"HX-Request": "true"})
        self.client.post(f"/jobs/{job_id}/undo", headers={"HX-Request": "true"})
        self.assertEqual(self.of_each(job_id, "part", "size_mm"), sizes)
        self.many(job_id, "style", "none", at=(0, 1, 2))
        self.assertEqual(self.of_each(job_id, "supports"), [None, None, None])

    def test_a_style_leaves_all_other_settings(self):
        job_id = self.two()
        self.to(job_id, 0, "supports", gap_mm="2 layers", spacing_mm="6", branch_deg="35")
        known = self.sheet(job_id)["supports"]
        self.many(job_id, "style", "grid", at=(0,))
        self.assertEqual(self.sheet(job_id)["supports"], {**known, "style": "grid"})

    def test_presets_go_to_many_and_mending_tells_what_needed_nothing(self):
        job_id = self.three()
        self.to(job_id, 1, "footing", footing="skirt", lines="3")
        self.to(job_id, 1, "keep-preset", name="Of many")
        self.many(job_id, "preset", "Of many")
        self.assertEqual(self.of_each(job_id, "footing", "kind"), ["skirt"] * 3)
        self.assertEqual(self.of_each(job_id, "footing", "lines")[2], 3)
        hurt = mesh_of(box(10, 10, 10))
        hurt = type(hurt)(hurt.vertices, hurt.faces[:-1])
        self.add(job_id, write_stl(hurt), "hurt.stl")
        answer = self.many(job_id, "mend", at=(0, 3))
        self.assertEqual(Page(answer.text).text("many-said"), "1 needed nothing.")
        self.assertEqual([bool(one) for one in self.of_each(job_id, "mending")], [False, False, False, True])

    def test_what_cannot_be_done_to_one_is_done_to_none(self):
        job_id = self.three()
        begun = self.client.get(f"/api/jobs/{job_id}").json()
        self.assertIn("No item is ticked", self.many(job_id, "mend", at=(), status=422).text)
        self.assertIn("is no footing", self.many(job_id, "footing", "straw", status=422).text)
        self.assertIn("no preset", self.many(job_id, "preset", "Nowhere", status=422).text)
        gone = self.client.post(
            f"/jobs/{job_id}/items/many",
            data={"what": "style", "value": "tree", "ticked": [self.ids(job_id)[0], "gone"]},
            headers={"HX-Request": "true"},
        )
        self.assertIn("gone by now", gone.text)
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json(), begun)


class HabitsTest(ItemsCase):
    alone = True

    def habit(self, at_once):
        self.client.post("/machines/habits", data={"at_once": str(at_once).lower()}, follow_redirects=False)

    def test_results_wait_until_somebody_asks(self):
        self.habit(False)
        job_id = self.job(stl(tee()), "tee.stl")
        self.looking(job_id, 0, 5)
        self.wait_idle(job_id)
        self.assertIn("when you ask", self.looking(job_id, 0, 5).text("work"))
        state = self.state(job_id)
        self.assertEqual((state["layers"], state["supports"]), (None, None))
        self.client.post(f"/jobs/{job_id}/again?open=5", headers={"HX-Request": "true"})
        self.wait_idle(job_id)
        self.assertIsNotNone(self.state(job_id)["layers"])
        # Another step waits again; what holds for the shop is kept.
        self.to(job_id, 0, "layer", layer_mm="0.3")
        self.wait_idle(job_id)
        self.assertIsNone(self.state(job_id)["layers"])
        self.habit(True)
        self.looking(job_id, 0, 5)
        self.wait_idle(job_id)
        self.assertIsNotNone(self.state(job_id)["layers"])

    def wait_idle(self, job_id):
        until = time.monotonic() + 60
        while (now := self.app.state.services.work.standing(job_id)) is not None and now.state == "running":
            self.assertLess(time.monotonic(), until)
            time.sleep(0.02)

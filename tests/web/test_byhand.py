"""Supports by hand through the page: put in, moved, locked, taken out, kept; reach, channels and variants."""

import json
import unittest

import lib3mf
from manifold3d import Manifold

from tests.core.test_filament import table
from tests.support import box, comb, stl, tee
from tests.web.test_app import AppCase, Page, flat

DOWN = json.dumps([0, 0, -1])


class HandCase(AppCase):
    def sheet(self, job_id):
        return flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"])

    def made(self, body, **fields):
        job_id = self.job(stl(body))
        self.again(job_id, **fields)
        return job_id

    def again(self, job_id, **fields):
        self.change(job_id, "supports", open=6, **({"gap_mm": "0.2"} | fields))
        self.settle(job_id)

    def hand(self, job_id, how, status=200, ids=(), **fields):
        answer = self.client.post(
            f"/jobs/{job_id}/supports/hand",
            data={"how": how, "ids": json.dumps(list(ids)), **fields},
            headers={"HX-Request": "true"},
        )
        self.assertEqual(answer.status_code, status, answer.text[:300])
        return answer.text

    def state(self, job_id):
        return json.loads(self.section(job_id, 6).text("state"))

    def listed(self, job_id):
        self.settle(job_id)
        return self.client.get(f"/api/blocks/supports/{self.state(job_id)['supports']}/list").json()

    def picked(self, job_id, *ids):
        return self.client.get(f"/jobs/{job_id}/supports/picked", params={"ids": json.dumps(ids)}).text


class HandTest(HandCase):
    def test_one_is_put_in_where_one_clicks_and_all_follows_at_once(self):
        job_id = self.made(table(), style="tree")
        before = self.listed(job_id)
        page = Page(self.hand(job_id, "add", at=json.dumps([2.0, 2.0, 30.0]), facing=DOWN, width="3"))
        # Nothing is being made for it: the figures are those of the answer.
        self.assertEqual(page.text("support-count"), str(len(before) + 1))
        self.assertEqual(json.loads(page.text("state"))["supports"], self.state(job_id)["supports"])
        after = self.listed(job_id)
        (new,) = (s for s in after if s["hand"])
        self.assertEqual((new["reason"], new["hand"]), ("by hand", "made"))
        self.assertEqual([s for s in after if not s["hand"]], before)
        text = self.picked(job_id, new["id"])
        for words in ("made by hand", "the place it was put", "comes off freely", 'value="3"'):
            self.assertIn(words, text)
        self.assertEqual(sum(s["facets"] for s in after), self.facets(job_id))
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.listed(job_id), before)

    def facets(self, job_id):
        data = self.client.get(f"/api/blocks/supports/{self.state(job_id)['supports']}").content
        return int.from_bytes(data[8:12], "little")

    def test_taking_one_out_touches_no_other_and_says_what_hangs(self):
        job_id = self.made(comb())
        before = self.listed(job_id)
        gone = next(s for s in before if s["reason"].startswith("island 1"))
        page = Page(self.hand(job_id, "delete", ids=[gone["id"]]))
        self.assertIn("has no support below; its support was taken out by hand", page.text("hand-said"))
        left = self.listed(job_id)
        self.assertEqual(left, [s for s in before if s is not gone])
        self.assertIn("island 1", self.section(job_id, 6).text("faults"))
        # Made again it stays out, until it is brought back.
        self.again(job_id, line_spacing_mm="2")
        self.assertNotIn("island 1, overhang 1", [s["reason"] for s in self.listed(job_id)])
        self.hand(job_id, "restore")
        self.assertEqual(len(self.listed(job_id)), len(before))
        self.assertNotIn("hand-tally", self.section(job_id, 6).ids)

    def test_what_hands_made_stays_when_the_limit_moves(self):
        job_id = self.made(tee(), style="tree")
        self.hand(job_id, "add", at=json.dumps([-8.0, 0.0, 9.0]), facing=DOWN, width="2")
        mine = next(s for s in self.listed(job_id) if s["hand"])
        tree = next(s for s in self.listed(job_id) if not s["hand"])
        self.hand(job_id, "lock", ids=[tree["id"]])
        self.assertIn("Unlock", self.picked(job_id, tree["id"]))
        counts = []
        for limit in ("45", "60", "89", "45"):
            self.change(job_id, "limit", open=6, limit_deg=limit)
            now = {s["id"]: s for s in self.listed(job_id)}
            counts.append(len(now))
            for support in (mine, tree):
                self.assertEqual(now[support["id"]]["volume"], support["volume"])
                self.assertEqual(now[support["id"]]["at"], support["at"])
        self.assertEqual(counts[0], counts[-1])
        self.hand(job_id, "unlock", ids=[tree["id"]])
        self.assertEqual([s["hand"] for s in self.listed(job_id) if s["id"] == tree["id"]], [""])

    def test_an_end_is_moved_and_a_thickness_set(self):
        job_id = self.made(table(), style="tree")
        self.hand(job_id, "add", at=json.dumps([0.0, 0.0, 30.0]), facing=DOWN, width="2")
        mine = next(s for s in self.listed(job_id) if s["hand"])
        handles = json.loads(
            self.picked(job_id, mine["id"]).split('data-handles="')[1].split('"')[0].replace("&#34;", '"')
        )
        foot = next(h for h in handles if h["kind"] == "foot")
        self.hand(job_id, "move", ids=[mine["id"]], node=str(foot["node"]), at="[6, 1, 0]", facing=DOWN)
        moved = next(s for s in self.listed(job_id) if s["hand"])
        self.assertEqual((moved["id"], moved["at"]), (mine["id"], mine["at"]))
        self.hand(job_id, "resize", ids=[mine["id"]], width="4")
        self.assertGreater(next(s for s in self.listed(job_id) if s["hand"])["volume"], 1.5 * moved["volume"])
        # The file has what is shown.
        data = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
        self.assertAlmostEqual(self.support_volume(data) / self.shown_volume(job_id), 1, delta=0.02)

    def shown_volume(self, job_id):
        text = self.section(job_id, 6).text("support-volume")
        return float(text.split()[0]) * (1000 if "cm" in text else 1)

    def support_volume(self, data):
        wrapper = lib3mf.get_wrapper()
        model = wrapper.CreateModel()
        model.QueryReader("3mf").ReadFromBuffer(data)
        items = model.GetMeshObjects()
        total = 0.0
        while items.MoveNext():
            mesh = items.GetCurrentMeshObject()
            if mesh.GetName().startswith("support"):
                corners = [list(v.Coordinates) for v in mesh.GetVertices()]
                for t in mesh.GetTriangleIndices():
                    a, b, c = (corners[i] for i in t.Indices)
                    total += (
                        a[0] * (b[1] * c[2] - b[2] * c[1])
                        - a[1] * (b[0] * c[2] - b[2] * c[0])
                        + a[2] * (b[0] * c[1] - b[1] * c[0])
                    ) / 6
        return total

    def test_what_cannot_be_done_is_said_and_nothing_changes(self):
        job_id = self.made(table(), style="tree")
        before = self.listed(job_id)
        for how, fields, words in (
            ("add", {"at": "[0, 0, 34]", "facing": "[0, 0, 1]"}, "looks up"),
            ("add", {"at": "[0, 0]", "facing": DOWN}, "could not be read"),
            ("delete", {"ids": ["none"]}, "not there any more"),
            ("resize", {"ids": [before[0]["id"]], "width": "0.01"}, "cannot be made"),
        ):
            with self.subTest(words):
                ids = fields.pop("ids", ())
                self.assertIn(words, self.hand(job_id, how, status=422, ids=ids, **fields))
        self.assertEqual(self.listed(job_id), before)
        lines = self.made(comb(), style="lines")
        first = self.listed(lines)[0]["id"]
        self.assertIn("follow their patch", self.hand(lines, "resize", status=422, ids=[first], width="3"))
        bare = self.job(stl(box(10, 10, 10)))
        self.assertIn("no filament supports", self.hand(bare, "restore", status=422))

    def test_work_by_hand_belongs_to_its_stance_and_comes_back_with_it(self):
        job_id = self.made(table(), style="tree")
        self.hand(job_id, "add", at=json.dumps([0.0, 0.0, 30.0]), facing=DOWN, width="2")
        stance = json.dumps(self.sheet(job_id)["stance"]["quaternion"])
        self.change(job_id, "turn", x_deg="90")
        self.settle(job_id)
        self.assertEqual([s for s in self.listed(job_id) if s["hand"]], [])
        self.assertIn("belong to another stance", self.section(job_id, 6).text("hand-elsewhere"))
        self.change(job_id, "stance", quaternion=stance)
        self.assertEqual(len([s for s in self.listed(job_id) if s["hand"]]), 1)


class ReachTest(HandCase):
    def test_a_trapped_support_is_warned_of_and_its_channel_kept_clear(self):
        pipes = [
            Manifold.cylinder(45, 4, 4, 48).rotate((0, 90, 0)).translate((x, y, 12))
            for x, y in ((-15, 8), (30, 32))
        ]
        across = Manifold.cylinder(24, 4, 4, 48).rotate((-90, 0, 0)).translate((30, 8, 12))
        job_id = self.made(box(60, 40, 30) - pipes[0] - pipes[1] - across, style="tree")
        page = self.section(job_id, 6)
        self.assertNotEqual(page.text("support-trapped"), "none")
        self.assertIn("cannot be got out", page.text("preflight"))
        trapped = json.loads(self.client.get(f"/jobs/{job_id}/sheet?open=6").text.split('data-ids="')[1].split(
            '"')[0].replace("&#34;", '"'))  # fmt: skip
        answer = self.client.post(
            f"/jobs/{job_id}/supports/channel?open=6",
            data={"support": trapped[0]},
            headers={"HX-Request": "true"},
        )
        said = Page(answer.text).text("hand-said")
        self.assertIn("channel 8.0 mm wide is kept clear", said)
        self.assertIn("Inside hangs overhang", said)
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 6).text("support-trapped"), "none")
        self.assertEqual(self.section(job_id, 6).text("support-count"), "0")

    def test_all_can_be_got_out_of_the_open(self):
        job_id = self.made(comb())
        self.assertIn("Every support can be got out", self.section(job_id, 6).text("no-trapped"))


class VariantTest(HandCase):
    def test_variants_stand_side_by_side_are_taken_and_dropped(self):
        job_id = self.made(table(), style="grid")
        self.change(job_id, "keep-variant", open=6, name="A")
        self.again(job_id, style="tree")
        self.change(job_id, "keep-variant", open=6, name="B")
        self.settle(job_id)
        page = self.section(job_id, 6)
        names = page.text("variants").split("Supports")[0].removeprefix("Figure").split()
        self.assertEqual(names, ["without", "now", "A", "B"])
        masses = [float(w) for w in page.text("variants-mass").replace("Mass", "").replace("g", "").split()]
        self.assertEqual(masses[0], 0)
        self.assertEqual(masses[1], masses[3])
        self.assertGreater(masses[2], 3 * masses[3])
        self.assertEqual(page.text("variants-trapped").replace("Trapped", "").split(), ["0", "0", "0", "0"])
        self.change(job_id, "take-variant", open=6, name="A")
        self.settle(job_id)
        self.assertEqual(self.sheet(job_id)["supports"]["style"], "grid")
        self.change(job_id, "drop-variant", open=6, name="B")
        self.assertEqual([v["name"] for v in self.sheet(job_id)["variants"]], ["A"])
        self.change(job_id, "take-variant", status=422, open=6, name="B")
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(len(self.sheet(job_id)["variants"]), 2)

    def test_presets_take_no_work_by_hand_along(self):
        job_id = self.made(comb())
        first = self.listed(job_id)[0]
        self.hand(job_id, "lock", ids=[first["id"]])
        patch = first["patches"][0]
        self.change(job_id, "style-patch", open=6, style="none", name="one", **{"patches[]": patch})
        self.change(job_id, "keep-preset", name="By hand, none")
        other = self.job(stl(tee()))
        self.change(other, "preset", preset="By hand, none")
        sheet = self.sheet(other)
        self.assertEqual((sheet["supports"]["by_patch"], sheet["hand"]["count"]), ({}, 0))


class MaterialTest(HandCase):
    def test_a_second_nozzle_prints_the_interface_in_its_own_material(self):
        job_id = self.made(table(), style="lines", second="interface", second_material="PETG")
        page = self.section(job_id, 6)
        # Two layers of 0.2 mm under 60 x 60 less the legs, of 1.27 g/cm3.
        grams = float(page.text("support-second").split()[0])
        self.assertAlmostEqual(grams / ((3600 - 64) * 0.4 * 1.27e-3), 1, delta=0.06)
        data = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
        wrapper = lib3mf.get_wrapper()
        model = wrapper.CreateModel()
        model.QueryReader("3mf").ReadFromBuffer(data)
        items, names = model.GetMeshObjects(), []
        while items.MoveNext():
            names.append(items.GetCurrentMeshObject().GetName())
        self.assertTrue(any(name.endswith("nozzle 2, PETG") for name in names), names)
        self.change(job_id, "printer", printer="Reed 190")
        self.settle(job_id)
        self.assertNotIn("support-second", self.section(job_id, 6).ids)

    def test_thick_walls_save_time_and_a_bad_setting_is_refused(self):
        job_id = self.made(table(), style="lines")

        def minutes():
            words = self.section(job_id, 6).text("support-time").split(",")[0].split()
            return sum(
                float(w) * (60 if u == "h" else 1) for w, u in zip(words[::2], words[1::2], strict=True)
            )

        usual = minutes()
        self.again(job_id, style="lines", every="3", brim_mm="2")
        self.assertLess(minutes(), usual)
        self.change(job_id, "supports", status=422, open=6, every="9")


if __name__ == "__main__":
    unittest.main()

"""Stilts through the pages: tips by hand, the weakest made stronger, and what follows a part that is sized."""

import math

import numpy as np

from tests.support import box, stl
from tests.web.test_app import AppCase
from upright_heron.sheet.process import ResinSupports
from upright_heron.work.bind import keys_of


class TipsTest(AppCase):
    def setUp(self):
        super().setUp()
        # A ceiling on a post, and a peg that begins in mid-air.
        body = box(30, 20, 3, (0, 0, 20)) + box(4, 20, 23, (-4, 0, 0)) + box(1.2, 1.2, 8, (14, 8, 12))
        self.job_id = self.job(stl(body))
        self.client.post(f"/jobs/{self.job_id}/changes/printer", data={"printer": "Tarn 9"})
        self.client.post(f"/jobs/{self.job_id}/changes/supports?open=6", data={"spacing_mm": "3"})
        self.settle(self.job_id)

    def post(self, path, status=200, **fields):
        answer = self.client.post(f"/jobs/{self.job_id}/{path}", data=fields, headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, status, answer.text[:300])
        return answer

    def item(self):
        return self.client.get(f"/api/jobs/{self.job_id}").json()["sheet"]["items"][0]

    def made(self):
        self.settle(self.job_id)
        sheet = self.app.state.services.store.job(self.job_id).sheet.on()
        return self.app.state.services.pages.result(keys_of(sheet)["supports"])

    def test_put_taken_out_propped_and_forgotten(self):
        before = self.made()
        # In the frame of the part: its middle stands over the middle of the plate.
        self.post("tips/put?open=6", at="25.3,4.2,20")
        self.assertEqual(self.item()["supports"]["put_mm"], [[25.3, 4.2, 20.0]])
        self.assertEqual(self.item()["supports"]["spacing_mm"], 3)
        after = self.made()
        mine = [one for one in after.stilts if one.reason == "by hand"]
        np.testing.assert_allclose(mine[0].touch_mm, (25.3 - 13, 4.2 - 10, 20.0), atol=1e-6)
        page = self.section(self.job_id, 6)
        self.assertIn("1 tip put by hand, 0 taken out", page.text("tips-tally"))
        # The tip under the peg goes, then the island is propped where it lies on the plate.
        (island,) = self.state()["islands"]
        self.assertTrue(island["held"])
        for _ in range(6):
            tips = [one.touch_mm for one in self.made().stilts]
            here = [
                at
                for at in tips
                if math.dist(at, (island["x"], island["y"], island["z"])) < 3.5 and at[2] < 14
            ]
            if not here:
                break
            x, y, z = here[0]
            self.post("tips/out?open=6", at=f"{x + 13},{y + 10},{z}")
        self.made()
        (island,) = self.state()["islands"]
        self.assertFalse(island["held"])
        self.post("tips/put?open=6", plate=f"{island['x']},{island['y']},{island['z']}")
        self.made()
        self.assertTrue(self.state()["islands"][0]["held"])
        # Settings that are typed anew leave what hands did; sized it goes along.
        self.post("changes/supports?open=6", spacing_mm="3", tip_mm="0.5")
        self.assertEqual(len(self.item()["supports"]["put_mm"]), 2)
        self.post("size", percent="150", together="true")
        np.testing.assert_allclose(self.item()["supports"]["put_mm"][0], (37.95, 6.3, 30.0))
        self.post("changes/forget-tips?open=6")
        self.assertEqual(self.item()["supports"]["put_mm"], [])
        self.assertEqual(self.item()["supports"]["out_mm"], [])
        self.assertTrue(before.stilts)

    def test_a_tip_answers_at_once_and_the_others_stay_as_they_stand(self):
        before = self.made()
        self.assertEqual(self.client.get(f"/jobs/{self.job_id}/tips/ready").status_code, 204)
        self.post("tips/put?open=6", at="25.3,4.2,20")
        # Nobody waited for a worker: what is shown is shown until the stilts are made for good.
        memo = self.app.state.services.pages.memo
        key = keys_of(self.app.state.services.store.job(self.job_id).sheet.on())["supports"]
        shown = memo.meanwhile(key)
        (new,) = [one for one in shown.stilts if one.reason == "by hand"]
        self.assertEqual({one.id for one in shown.stilts} - {new.id}, {one.id for one in before.stilts})
        self.assertIn(self.state()["supports"], (key, f"{key}-edited"))
        # Straight after it the next: the one that was just put is taken out, and one is sized.
        x, y, z = new.touch_mm
        self.post("tips/size?open=6", at=f"{x + 13},{y + 10},{z}", size="stout")
        self.assertEqual(self.next_made(new.id).size, "stout")
        fine = before.stilts[0].touch_mm
        self.post("tips/out?open=6", at=f"{fine[0] + 13},{fine[1] + 10},{fine[2]}")
        last = memo.meanwhile(keys_of(self.app.state.services.store.job(self.job_id).sheet.on())["supports"])
        # What a worker makes of the sheet is the same, layer by layer.
        made = self.made()
        self.assertEqual(len(made.stilts), len(before.stilts))
        self.assertEqual(self.state()["supports"].count("-edited"), 0)
        for name in ("points", "ring_start", "layer_start", "area_mm2"):
            np.testing.assert_array_equal(getattr(made.layers, name), getattr(last.layers, name))
        self.assertEqual(made.faults, last.faults)
        stood = {one.id: one for one in before.stilts}
        stays = [one for one in made.stilts if one.id in stood and one.stands_on == stood[one.id].stands_on]
        self.assertGreaterEqual(len(stays), len(before.stilts) - 3)
        for one in stays:
            np.testing.assert_array_equal(one.circles, stood[one.id].circles)

    def next_made(self, name):
        """A stilt as it is shown now, by its id."""
        services = self.app.state.services
        key = keys_of(services.store.job(self.job_id).sheet.on())["supports"]
        return next(one for one in services.pages.memo.meanwhile(key).stilts if one.id == name)

    def test_the_others_are_stood_anew_round_tips_as_soon_as_that_is_asked(self):
        before = self.made()
        x, y, z = next(one.touch_mm for one in before.stilts if one.touch_mm[2] > 19)
        # Beside one that stands there: both stay, until the others are stood anew.
        self.post("tips/put?open=6", at=f"{x + 13.7},{y + 10.3},{z}")
        self.assertIn("stay as they stood", self.section(self.job_id, 6).text("tips-around"))
        self.assertEqual(len(self.made().stilts), len(before.stilts) + 1)
        self.post("changes/round-tips?open=6")
        self.assertIsNone(self.item()["supports"]["around"])
        near = [s for s in self.made().stilts if math.dist(s.touch_mm, (x, y, z)) < 2.4]
        self.assertEqual([one.reason for one in near], ["by hand"])
        self.assertNotIn("tips-around", self.client.get(f"/jobs/{self.job_id}?open=6").text)
        # So are they by other settings; undone, all stands as it did.
        self.client.post(f"/jobs/{self.job_id}/undo")
        self.assertEqual(len(self.made().stilts), len(before.stilts) + 1)
        self.post("changes/supports?open=6", spacing_mm="3.5")
        self.assertIsNone(self.item()["supports"]["around"])

    def test_where_no_way_leads_down_a_tip_is_refused_and_nothing_is_kept(self):
        self.made()
        steps = self.client.get(f"/api/jobs/{self.job_id}").json()["step"]
        # On top of the ceiling.
        answer = self.post("tips/put?open=6", status=422, at="15,10,23")
        self.assertIn("No way leads down", answer.text)
        self.assertEqual(self.client.get(f"/api/jobs/{self.job_id}").json()["step"], steps)
        self.assertEqual(self.item()["supports"]["put_mm"], [])

    def state(self):
        import json
        import re

        text = self.client.get(f"/jobs/{self.job_id}?open=6").text
        return json.loads(re.search(r'<script[^>]*id="state"[^>]*>(.*?)</script>', text, re.S)[1])

    def test_the_weakest_are_made_stronger_by_a_press(self):
        def share():
            return max(one.load_n / one.bears_n for one in self.made().stilts)

        before = share()
        self.assertIn("make the weakest stronger", self.section(self.job_id, 6).text("weakest"))
        self.post("changes/strengthen?open=6", share=f"{before}")
        self.assertAlmostEqual(self.item()["supports"]["spare"], 1.4 / before, 2)
        self.assertLess(share(), before / 1.4 + 0.01)
        self.post("changes/strengthen?open=6", share="0.1")
        self.assertEqual(self.item()["supports"]["spare"], 5)
        self.post("changes/strengthen?open=6", status=422)

    def test_what_cannot_be_is_refused(self):
        for path, fields in (
            ("tips/put", {"at": "1,2"}), ("tips/put", {"at": "a,b,c"}), ("tips/out", {"at": "500,0,0"}),
            ("changes/supports", {"tip_mm": "2", "shaft_mm": "1"}),
        ):  # fmt: skip
            with self.subTest(path, **fields):
                self.post(path, status=422, **fields)
        # A wide tip of a job from before shafts were typed is read as it is.
        self.assertEqual(ResinSupports.model_validate({"kind": "resin", "tip_mm": 1.5}).tip_mm, 1.5)
        self.client.post(f"/jobs/{self.job_id}/changes/no-supports")
        self.post("tips/put", status=422, at="1,2,3")
        self.post("changes/strengthen", status=422)

    def test_sizes_are_typed_and_chosen_for_single_tips(self):
        made = self.made()
        fine = next(one for one in made.stilts if one.size == "fine")
        x, y, z = fine.touch_mm
        here = f"{x + 13},{y + 10},{z}"
        self.post("tips/size?open=6", at=here, size="stout")
        self.assertEqual([one["size"] for one in self.item()["supports"]["tip_sizes"]], ["stout"])
        sized = {one.touch_mm: one.size for one in self.made().stilts}
        self.assertEqual(min(sized.items(), key=lambda one: math.dist(one[0], fine.touch_mm))[1], "stout")
        self.assertIn("1 sized", self.section(self.job_id, 6).text("tips-tally"))
        # It stays when other settings change, goes along when the part is sized, and can be given up.
        self.post("changes/supports?open=6", spacing_mm="3", fine_tip_mm="0.2", fine_shaft_mm="")
        supports = self.item()["supports"]
        self.assertEqual((supports["fine_tip_mm"], supports["fine_shaft_mm"]), (0.2, None))
        self.assertEqual(len(supports["tip_sizes"]), 1)
        self.assertIn("0.2", {f"{one.tip_mm:g}" for one in self.made().stilts})
        self.post("tips/size?open=6", at=here, size="")
        self.assertEqual(self.item()["supports"]["tip_sizes"], [])
        for path, wrong in (
            ("tips/size", {"at": here, "size": "huge"}),
            ("tips/size", {"at": "90,90,90", "size": "fine"}),
            ("changes/supports", {"fine_tip_mm": "0.5"}),
            ("changes/supports", {"stout_shaft_mm": "0.9"}),
            ("changes/supports", {"brace_deg": "5"}),
            ("changes/supports", {"slender": "500"}),
        ):
            with self.subTest(wrong):
                self.post(path, status=422, **wrong)

"""Section 3 as pages: cuts, plans, joints, pieces as items, and what is refused."""

import unittest

from tests.support import box, stl
from tests.web.test_app import AppCase


class SplitPagesTest(AppCase):
    def cut(self, body, **joints):
        job_id = self.job(stl(body))
        self.change(job_id, "cut", margin_mm="3")
        if joints:
            self.change(job_id, "joints", **joints)
        self.settle(job_id)
        return job_id

    def grid(self, job_id):
        return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]["grid"]

    def test_joints_are_made_told_and_swapped(self):
        job_id = self.cut(box(500, 40, 40), joint="peg", sides="4", clearance_mm="0.2", wall_mm="2")
        page = self.section(job_id, 3)
        self.assertEqual(page.text("goes-together"), "2 pieces that go together in 1 step.")
        self.assertIn("2 pegs in 1 joint", self.client.get(f"/jobs/{job_id}/sheet?open=3").text)
        # 1,600 mm2 of face.
        self.assertIn("16.0 cm²", page.text("joints"))
        first = page.text("joints")
        self.change(job_id, "swap-pegs", cut="x1")
        self.settle(job_id)
        self.assertEqual(self.grid(job_id)["joints"]["swapped"], ["x1"])
        self.assertNotEqual(self.section(job_id, 3).text("joints"), first)
        self.change(job_id, "swap-pegs", cut="x1")
        self.assertEqual(self.grid(job_id)["joints"]["swapped"], [])

    def test_a_plan_is_taken_and_told_as_taken(self):
        job_id = self.cut(box(700, 20, 20).rotate((0, 0, 45)))
        self.assertEqual(self.section(job_id, 3).text("piece-count"), "4 pieces")
        answer = self.client.post(f"/jobs/{job_id}/plans/planned/take?open=3", headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, 200)
        self.settle(job_id)
        page = self.section(job_id, 3)
        self.assertEqual(page.text("piece-count"), "2 pieces")
        self.assertRegex(page.text("plans"), "Planned20.*cut soShifted")
        self.assertEqual(self.grid(job_id)["plan"], "planned")
        # Back to boxes.
        self.client.post(f"/jobs/{job_id}/plans/boxes/take?open=3", headers={"HX-Request": "true"})
        self.assertEqual(self.grid(job_id)["planes"], [])
        refused = self.client.post(f"/jobs/{job_id}/plans/nonsense/take?open=3")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("There is no plan “nonsense”", refused.text)

    def test_planes_by_hand(self):
        job_id = self.job(stl(box(60, 40, 40)))
        self.change(job_id, "plane", nx="1", offset_mm="10")
        self.change(job_id, "plane", nz="2", offset_mm="5")
        self.settle(job_id)
        planes = self.grid(job_id)["planes"]
        self.assertEqual([(p["id"], p["normal"]) for p in planes], [("1", [1, 0, 0]), ("2", [0, 0, 1])])
        self.assertEqual(self.section(job_id, 3).text("piece-count"), "4 pieces")
        self.client.post(f"/jobs/{job_id}/pieces/items?open=3", headers={"HX-Request": "true"})
        items = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"]
        paths = [one["piece"]["path"] for one in items if one["piece"]]
        self.assertEqual(paths, ["1a-2a", "1a-2b", "1b-2a", "1b-2b"])
        # Moved, the pieces are the same ones: what was decided for them stays.
        whole = f"item={items[0]['id']}"
        self.change(job_id, "plane", open=f"3&{whole}", id="1", nx="1", offset_mm="12")
        self.settle(job_id)
        self.assertEqual(self.grid(job_id)["planes"][0]["offset_mm"], 12)
        sheet = f"/jobs/{job_id}/sheet?open=3&{whole}"
        self.assertIn("made of other cuts", self.client.get(sheet).text)
        # Made again they are the same items, with what was decided for them, of the new cuts.
        second = items[1]["id"]
        self.client.post(f"/jobs/{job_id}/changes/lift?open=4&item={second}", data={"lift_mm": "3"})
        self.client.post(f"/jobs/{job_id}/pieces/items?open=3&{whole}", headers={"HX-Request": "true"})
        again = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"]
        self.assertEqual([one["id"] for one in again], [one["id"] for one in items])
        self.assertEqual(again[1]["stance"]["lift_mm"], 3)
        self.assertNotIn("made of other cuts", self.client.get(sheet).text)
        # Joints change the pieces too.
        self.change(job_id, "joints", open=f"3&{whole}", joint="peg")
        self.settle(job_id)
        self.assertIn("made of other cuts", self.client.get(sheet).text)
        self.change(job_id, "plane-out", open=f"3&{whole}", id="2")
        self.settle(job_id)
        self.assertIn("made of other cuts", self.client.get(sheet).text)
        self.change(job_id, "plane-out", open=f"3&{whole}", id="1")
        self.assertIsNone(self.grid(job_id))

    def test_what_fits_another_way_up_is_left_whole(self):
        job_id = self.cut(box(420, 20, 20).rotate((0, 0, 45)))
        self.assertIn("Whole, another way up10", self.section(job_id, 3).text("plans"))
        self.client.post(f"/jobs/{job_id}/plans/whole/take?open=3", headers={"HX-Request": "true"})
        self.assertIsNone(self.grid(job_id))

    def test_nonsense_is_refused_and_changes_nothing(self):
        job_id = self.cut(box(500, 40, 40))
        before = self.grid(job_id)
        for kind, fields in (
            ("plane", {"offset_mm": "5"}),
            ("plane", {"nx": "1", "offset_mm": "nan"}),
            ("plane", {"id": "7", "nx": "1", "offset_mm": "5"}),
            ("plane-out", {"id": "7"}),
            ("joints", {"joint": "glue"}),
            ("joints", {"joint": "peg", "clearance_mm": "9"}),
            ("joints", {"joint": "peg", "width_mm": "2"}),
            ("joints", {"joint": "peg", "sides": "2"}),
        ):
            with self.subTest(kind, **fields):
                answer = self.client.post(f"/jobs/{job_id}/changes/{kind}?open=3", data=fields)
                self.assertIn(answer.status_code, (409, 422), answer.text)
                self.assertEqual(self.grid(job_id), before)


if __name__ == "__main__":
    unittest.main()

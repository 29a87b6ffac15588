"""Section 3 as pages: cuts, plans, joints, pieces as items, and what is refused."""

import csv
import io
import json
import math
import re
import unittest
import zipfile

import numpy as np
import trimesh

from tests.core.test_threemf import read
from tests.core.test_threemf import volume as volume_of
from tests.support import box, stl
from tests.web.test_app import AppCase
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.stance.pose import from_quaternion


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
        self.assertRegex(page.text("plans"), "Planned2566.*cut so.*Shifted")
        # Square to an axis, across a bar that lies at 45 degrees to it: 20 × 20 mm times the root of two.
        told = page.text("plans")
        self.assertIn("smallest face 566 mm²", told)
        self.assertRegex(told, "prints [0-9]+ h [0-9]+ min without supports, the longest piece [0-9]+ h")
        self.assertEqual(self.grid(job_id)["plan"], "planned")
        # A seam all round: twice 28.3 and twice 20 mm, where boxes have three.
        self.assertRegex(told, "Planned.*all with a face to stand on; 10 cm of seam in all.*Even boxes")
        picture = re.search(r'src="([^"]*/plans/planned.png[^"]*)"', answer.text) or re.search(
            r'src="([^"]*/plans/planned.png[^"]*)"', self.client.get(f"/jobs/{job_id}/sheet?open=3").text
        )
        drawn = self.client.get(picture[1].replace("&amp;", "&"))
        self.assertEqual((drawn.headers["content-type"], drawn.content[1:4]), ("image/png", b"PNG"))
        address = picture[1].replace("&amp;", "&")
        # Of what counts nothing is left: all are as good.
        self.change(job_id, "plan-goals")
        page = self.client.get(f"/jobs/{job_id}/sheet?open=3").text
        self.assertEqual(re.findall(r'"plan-points">(\d+)<', page), ["100"] * 3)
        self.assertEqual(self.grid(job_id)["plan"], "planned")
        # Back to boxes.
        self.client.post(f"/jobs/{job_id}/plans/boxes/take?open=3", headers={"HX-Request": "true"})
        self.assertEqual(self.grid(job_id)["planes"], [])
        refused = self.client.post(f"/jobs/{job_id}/plans/nonsense/take?open=3")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("There is no plan “nonsense”", refused.text)
        # A page that was there before asks for its pictures still, also of a part that is whole again.
        self.change(job_id, "join")
        self.assertEqual(self.client.get(address).content, drawn.content)
        other = json.loads(self.section(job_id, 3).text("state"))["layers"]
        for wrong in (f"key={other}", "key=nothing", "key="):
            self.assertEqual(self.client.get(re.sub(r"key=\w+", wrong, address)).status_code, 422, wrong)

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

    def test_pieces_are_stood_held_spread_and_leave_as_plates_and_files(self):
        job_id = self.cut(box(500, 200, 40), joint="peg", sides="4", wall_mm="2")
        htmx = {"HX-Request": "true"}
        self.client.post(f"/jobs/{job_id}/pieces/items?open=3", headers=htmx)
        items = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"]
        whole, ids = items[0]["id"], [one["id"] for one in items if one["piece"]]
        sheet = f"3&item={whole}"
        self.settle(job_id)
        # What a setting makes over all of them, and what another machine would.
        instead = self.section(job_id, sheet).text("differences")
        self.assertRegex(instead, r"layers of 0.3 mm−[0-9]+ h")
        self.assertRegex(instead, r"25 % infill\+[0-9 hmin]+\+[0-9.]+ g")
        self.assertRegex(self.section(job_id, sheet).text("other-machines"), "Reed 190 [12] pieces? too big")
        self.assertIn("to stand: 2", self.section(job_id, sheet).text("set-state"))
        refused = self.client.post(f"/jobs/{job_id}/pieces/prepare?open=3", data={"ticked": "nothing"})
        self.assertEqual(refused.status_code, 422)
        answer = self.client.post(
            f"/jobs/{job_id}/pieces/prepare?open={sheet}", data={"supports": "true"}, headers=htmx
        )
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        items = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][1:]
        self.assertTrue(all(one["goals"] and one["supports"] for one in items))
        # One step, taken back as one.
        self.client.post(f"/jobs/{job_id}/undo?open=3", headers=htmx)
        back = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][1:]
        self.assertFalse(any(one["goals"] or one["supports"] for one in back))
        self.client.post(f"/jobs/{job_id}/redo?open=3", headers=htmx)
        # For what is seen they are looked for anew, by other goals; one ticked alone.
        ticked = {"stand": "seen", "ticked": items[1]["id"]}
        self.client.post(f"/jobs/{job_id}/pieces/prepare?open={sheet}", data=ticked, headers=htmx)
        seen = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][1:]
        self.assertEqual(seen[0]["goals"], items[0]["goals"])
        self.assertGreater(seen[1]["goals"]["clean_show"], seen[1]["goals"]["firm"])
        self.client.post(f"/jobs/{job_id}/undo?open=3", headers=htmx)
        # The longer one bears the pegs along x, and does not stand on them.
        bearer = max(items, key=lambda one: one["part"]["size_mm"][0])
        down = -from_quaternion(bearer["stance"]["quaternion"])[2]
        self.assertGreater(bearer["part"]["size_mm"][0], 251)
        self.assertLess(abs(down[0]), 0.5)
        self.settle(job_id)
        # So far apart they need a plate each; with a gap of 3 mm both have room on one.
        self.change(job_id, "plating", gap_mm="100", turning="none")
        self.client.post(f"/jobs/{job_id}/plates/arrange?open={sheet}", headers=htmx)
        plates = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["plates"]
        self.assertEqual(sorted(i["item"] for p in plates for i in p["instances"]), sorted(ids))
        self.assertEqual(len(plates), 2)
        self.settle(job_id)
        page = self.section(job_id, sheet)
        self.assertIn("Plates2", page.text("takes").replace(" ", ""))
        table = list(csv.reader(io.StringIO(self.client.get(f"/jobs/{job_id}/pieces.csv?item={whole}").text)))
        rows = [row for row in table if row[0] in ("1", "2")]
        self.assertEqual([row[9] for row in rows], ["1", "1"])
        grams = [float(row[13]) for row in rows]
        self.assertAlmostEqual(sum(grams), float(table[3][13]), delta=0.11)
        self.assertEqual(table[4][0], "joining")
        self.assertAlmostEqual(float(table[4][12]), 4 / 60, 2)
        # Each plate has what stands on it, and all of that lies on the machine.
        folder = zipfile.ZipFile(io.BytesIO(self.client.get(f"/jobs/{job_id}/plates.zip").content))
        self.assertEqual(len(folder.namelist()), 2)
        volume = 0.0
        for name in folder.namelist():
            _, objects = read(folder.read(name))
            every = np.array([v.Coordinates for one in objects for v in one.GetVertices()])
            self.assertLessEqual(np.ptp(every[:, :2], axis=0).max(), 300.0)
            self.assertAlmostEqual(every[:, 2].min(), 0.0, 3)
            parts = [one for one in objects if one.GetName().startswith("part")]
            self.assertEqual(len(parts), 1)
            volume += volume_of(parts[0])
        told = sum(p["part"]["volume_mm3"] for p in items)
        self.assertTrue(math.isclose(volume, told, rel_tol=1e-5), (volume, told))
        one = self.client.get(f"/jobs/{job_id}/handoff.3mf?plate=2")
        self.assertIn("plate-2-of-2", one.headers["content-disposition"])
        self.assertEqual(self.client.get(f"/jobs/{job_id}/handoff.3mf?plate=3").status_code, 422)
        # Files by a pattern.
        address = f"/jobs/{job_id}/items.zip?kind=stl&pattern=%7Bpiece%7D_%7Bmaterial%7D"
        folder = zipfile.ZipFile(io.BytesIO(self.client.get(address).content))
        self.assertEqual(sorted(folder.namelist()), ["0-0-0-PLA.stl", "1-0-0-PLA.stl"])
        stls = [trimesh.load(io.BytesIO(folder.read(n)), file_type="stl") for n in folder.namelist()]
        self.assertTrue(math.isclose(sum(m.volume for m in stls), told, rel_tol=1e-5))
        alike = self.client.get(f"/jobs/{job_id}/items.zip?pattern=%7Bmaterial%7D").content
        names = zipfile.ZipFile(io.BytesIO(alike)).namelist()
        self.assertEqual(names, ["PLA.3mf", "PLA-2.3mf"])
        wrong = self.client.get(f"/jobs/{job_id}/items.zip?pattern=%7Bcolour%7D")
        self.assertIn("{colour} is nothing that a name can hold", wrong.text)
        # The traveller of the whole part draws how it goes together.
        drawn = self.client.get(f"/jobs/{job_id}/traveller?item={whole}").text
        self.assertEqual(drawn.count('role="img" aria-label="Step '), 1)
        self.assertIn('aria-label="Step 1: 2 to the others"', drawn)

    def test_what_is_kept_whole_is_not_cut(self):
        job_id = self.cut(box(500, 40, 40))
        self.change(job_id, "keep-whole", x="250", y="20", z="20", side_mm="60")
        self.settle(job_id)
        page = self.section(job_id, 3)
        self.assertIn("1 place kept whole", page.text("kept-whole"))
        # The even cut would go through its middle.
        self.assertIn("280 × 40 × 40", page.text("pieces"))
        for change, values in (
            ("plane", {"nx": "1", "offset_mm": "240"}),
            ("keep-out", {"number": "2"}),
        ):
            refused = self.client.post(f"/jobs/{job_id}/changes/{change}?open=3", data=values)
            self.assertEqual(refused.status_code, 422)
        self.change(job_id, "plane", nx="1", offset_mm="220")
        # Nor can what a plane goes through be kept.
        refused = self.client.post(
            f"/jobs/{job_id}/changes/keep-whole?open=3",
            data={"x": "220", "y": "0", "z": "0", "side_mm": "10"},
        )
        self.assertIn("Cut 1 would go through what is kept whole, number 2", refused.text)
        self.change(job_id, "keep-out", number="1")
        self.assertEqual(self.grid(job_id)["kept"], [])

    def test_what_is_painted_is_kept_whole(self):
        job_id = self.cut(box(500, 60, 60))
        self.assertEqual(self.section(job_id, 3).text("piece-count"), "2 pieces")
        refused = self.client.post(f"/jobs/{job_id}/keep-painted", data={"mark": "show"})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("Nothing is painted as show side", refused.text)
        # The even cut goes through the middle of the top, from 200 to 300 mm of it.
        sheet = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]
        store = self.client.app.state.services.store
        fine = refined(store.mesh(sheet["part"]["mesh"]))
        x, _, z = fine.middles_mm.T
        facets = np.flatnonzero((z > 59.9) & (x > 200) & (x < 300)).astype("<u4")
        painted = self.client.post(
            f"/jobs/{job_id}/marks/stroke?mark=show&of={sheet['part']['mesh']}", content=facets.tobytes()
        )
        self.assertEqual(painted.status_code, 200, painted.text)
        answer = self.client.post(
            f"/jobs/{job_id}/keep-painted", data={"mark": "show"}, headers={"HX-Request": "true"}
        )
        self.assertEqual(answer.status_code, 200, answer.text)
        self.settle(job_id)
        self.assertIn("1 place kept whole", self.section(job_id, 3).text("kept-whole"))
        # Boxes gave way to what is painted, and a plane of one's own is refused there, not beside it.
        (kept,) = self.grid(job_id)["kept"]
        low, high = kept["low_mm"][0], kept["high_mm"][0]
        self.assertTrue(195 < low < 201 and 299 < high < 305, (low, high))
        # Right behind the number of the piece.
        sizes = re.findall(r"\d(\d+) × 60 × 60", self.section(job_id, 3).text("pieces"))
        lengths = sorted(float(v) for v in sizes)
        self.assertEqual(sum(lengths), 500)
        # The rest is too long for one box, and is shared out evenly.
        self.assertAlmostEqual(lengths[2], low, delta=1.5)
        self.assertAlmostEqual(lengths[0], lengths[1], delta=1.5)
        self.change(job_id, "plane", nx="1", offset_mm="250", status=422)
        # Aslant past a corner of its box, clear of what is painted.
        self.change(job_id, "plane", nx="1", nz="1", offset_mm=str(low * 0.5**0.5 + 20))

    def test_planes_and_what_is_kept_whole_are_sized_with_the_part(self):
        job_id = self.cut(box(500, 40, 40))
        self.change(job_id, "plane", nx="1", ny="1", offset_mm="200")
        self.change(job_id, "keep-whole", x="400", y="20", z="20", side_mm="30")
        self.client.post(
            f"/jobs/{job_id}/size?open=1",
            data={"percent": "200", "together": "true"},
            headers={"HX-Request": "true"},
        )
        self.settle(job_id)
        grid = self.grid(job_id)
        self.assertAlmostEqual(grid["planes"][0]["offset_mm"], 400, places=6)
        self.assertEqual((grid["kept"][0]["low_mm"][0], grid["kept"][0]["high_mm"][0]), (770, 830))

    def test_one_cut_is_held_in_another_way(self):
        job_id = self.cut(box(500, 400, 40), joint="peg", sides="4", wall_mm="2")
        self.assertIn("x1", self.section(job_id, 3).text("joints"))
        self.change(job_id, "joint-of-cut", cut="x1", joint="dovetail")
        self.settle(job_id)
        joints = self.section(job_id, 3).text("joints")
        self.assertEqual((joints.count("dovetail 1"), joints.count("2 × ")), (2, 2), joints)
        # Four joints of four minutes each.
        table = list(csv.reader(io.StringIO(self.client.get(f"/jobs/{job_id}/pieces.csv").text)))
        self.assertAlmostEqual(float(table[-1][12]), 16 / 60, 2)
        # What holds all is changed: that one stays as it is.
        self.change(job_id, "joints", joint="pocket", sides="0", wall_mm="2")
        self.settle(job_id)
        joints = self.section(job_id, 3).text("joints")
        self.assertEqual((joints.count("dovetail 1"), joints.count(" mm pocket")), (2, 2), joints)
        self.change(job_id, "joint-of-cut", cut="x1", joint="")
        self.assertEqual(self.grid(job_id)["joints"]["by_cut"], {})
        # One joint of a cut alone, by its face.
        page = self.client.get(f"/jobs/{job_id}/sheet?open=3").text
        face = re.search(r'<option value="(x1:[^"]+)"', page)
        assert face is not None
        self.change(job_id, "joint-of-cut", cut=face[1], joint="dowel")
        self.settle(job_id)
        section = self.section(job_id, 3)
        self.assertEqual(section.text("joints").count(" mm pocket"), 3)
        self.assertEqual(section.text("pieces").count(" dowel"), 2)
        self.assertEqual(self.grid(job_id)["joints"]["by_cut"], {face[1]: "dowel"})
        refused = self.client.post(
            f"/jobs/{job_id}/changes/joint-of-cut?open=3", data={"cut": "x1", "joint": "nail"}
        )
        self.assertEqual(refused.status_code, 422)

    def test_boxes_are_moved(self):
        job_id = self.cut(box(500, 40, 40))
        self.change(job_id, "cut", margin_mm="3", shift_x="0.4")
        self.settle(job_id)
        # Full boxes of 294 mm, begun 0.4 of one further on: (500 - 294) / 2 + 117.6.
        page = self.section(job_id, 3)
        self.assertEqual(page.text("piece-count"), "2 pieces")
        self.assertIn("221 × 40 × 40", page.text("pieces"))
        self.assertNotRegex(page.text("plans"), "Even boxes[^T]*cut so")
        self.client.post(f"/jobs/{job_id}/plans/boxes/take?open=3", headers={"HX-Request": "true"})
        self.settle(job_id)
        self.assertEqual(self.grid(job_id)["shift"], [0, 0, 0])
        self.assertIn("250 × 40 × 40", self.section(job_id, 3).text("pieces"))
        refused = self.client.post(
            f"/jobs/{job_id}/changes/cut?open=3", data={"margin_mm": "3", "shift_y": "2"}
        )
        self.assertEqual(refused.status_code, 422)

    def test_the_order_of_planes(self):
        job_id = self.job(stl(box(60, 40, 40)))
        self.change(job_id, "plane", nx="1", offset_mm="30")
        self.change(job_id, "plane", nz="1", offset_mm="20")
        self.change(job_id, "plane", ny="1", offset_mm="20", within="1a-2b")
        self.change(job_id, "plane", ny="1", offset_mm="10", within="1b")
        order = lambda: [p["id"] for p in self.grid(job_id)["planes"]]  # noqa: E731
        self.change(job_id, "plane-order", id="4")
        self.assertEqual(order(), ["1", "2", "4", "3"])
        self.change(job_id, "plane-order", id="2")
        self.assertEqual(order(), ["2", "1", "4", "3"])
        # What lies within a piece cannot come before the cut that makes it, nor the first before any.
        for name, told in (("4", "within a piece that cut 1 makes"), ("2", "was changed meanwhile")):
            refused = self.client.post(f"/jobs/{job_id}/changes/plane-order?open=3", data={"id": name})
            self.assertEqual(refused.status_code, 422)
            self.assertIn(told, refused.text)
        self.assertEqual(order(), ["2", "1", "4", "3"])

    def test_what_fits_another_way_up_is_left_whole(self):
        job_id = self.cut(box(420, 20, 20).rotate((0, 0, 45)))
        self.assertIn("Whole, another way up1", self.section(job_id, 3).text("plans"))
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

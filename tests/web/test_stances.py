"""Stances through the application: figures, proposals, the board, the table, two side by side."""

import csv
import io
import json
import unittest

import numpy as np

from tests.support import box, portal, stl, tee
from tests.web.test_app import AppCase, flat
from upright_heron.core.stance.pose import from_quaternion


class StanceCase(AppCase):
    def sheet(self, job_id):
        return flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"])

    def found(self, body, **weights):
        job_id = self.job(stl(body))
        self.change(job_id, "find", **{name: str(value) for name, value in weights.items()})
        self.settle(job_id)
        return job_id, self.section(job_id, 4)


class FiguresTest(StanceCase):
    def test_figures_follow_the_stance(self):
        job_id = self.job(stl(tee()))
        self.settle(job_id)
        page = self.section(job_id, 4)
        self.assertIn("300 mm²", page.text("figure-overhang_area_mm2"))
        self.assertIn("6.0 cm³", page.text("figure-support_volume_mm3"))
        self.assertIn("400 mm²", page.text("figure-shadow_area_mm2"))
        self.assertIn("125 layers", page.text("figure-height_mm"))
        self.assertEqual(page.ids["figure-largest_layer"]["data-shows"], "layer")
        self.assertTrue(page.ids["figure-tip_angle_deg"]["title"])
        self.change(job_id, "turn", x_deg="180")
        self.settle(job_id)
        page = self.section(job_id, 4)
        self.assertIn("0 mm²", page.text("figure-overhang_area_mm2"))
        self.assertEqual(page.text("stance-name"), "upside down")
        for figure in ("touch_show_mm2", "load_angle_deg", "cups"):
            self.assertNotIn(f"figure-{figure}", page.ids)

    def test_show_side_load_and_resin_have_figures_of_their_own(self):
        job_id = self.job(stl(tee()))
        self.change(job_id, "show", normal="[0, 0, -2]")
        self.change(job_id, "load", normal="[0, 0, -1]")
        self.change(job_id, "printer", printer="Tarn 9")
        self.settle(job_id)
        page = self.section(job_id, 4)
        self.assertIn("300 mm²", page.text("figure-touch_show_mm2"))
        self.assertIn("90.0°", page.text("figure-load_angle_deg"))
        self.assertIn("0", page.text("figure-cups"))
        self.assertIn("N at", page.text("figure-peel_most"))
        self.assertIn("Touched on the show side", self.client.get(f"/jobs/{job_id}/sheet?open=4").text)
        self.change(job_id, "show")
        self.assertIsNone(self.sheet(job_id)["show"])
        # What nobody chose is the front: the cross of the tee hangs over none of it.
        self.settle(job_id)
        self.assertIn("Touched in front", self.client.get(f"/jobs/{job_id}/sheet?open=4").text)
        self.assertIn("front0 mm²", self.section(job_id, 4).text("figure-touch_show_mm2"))
        self.change(job_id, "load", status=422, normal="[0, 0, 0]")

    def test_an_open_part_has_figures_too(self):
        from tests.support import mesh_of
        from upright_heron.core.geometry.mesh import Mesh
        from upright_heron.core.handoff.stl import write_stl

        whole = mesh_of(tee())
        job_id = self.job(write_stl(Mesh(whole.vertices, whole.faces[1:])))
        self.change(job_id, "find", less_support="3")
        self.settle(job_id)
        page = self.section(job_id, 4)
        self.assertIn("figure-fits", page.ids)
        self.assertIn("stance-A", page.ids)


class BoardTest(StanceCase):
    def test_a_resin_part_is_taken_flat_or_lifted(self):
        job_id = self.job(stl(box(30, 20, 12)))
        self.change(job_id, "printer", printer="Tarn 9")
        self.change(job_id, "find", less_support="3")
        self.settle(job_id)
        text = self.client.get(f"/jobs/{job_id}/sheet?open=4").text
        self.assertIn("Flat on the plate", text)
        self.assertRegex(text, r"Lifted 5 mm: [0-9]+ of 100, 600 mm² overhang")
        known = self.sheet(job_id)["stance"]
        turned = json.dumps(known["quaternion"])
        self.change(job_id, "stance", quaternion=turned, name="as it came", lift_mm="5")
        self.assertEqual(self.sheet(job_id)["stance"]["lift_mm"], 5.0)
        self.change(job_id, "stance", quaternion=turned, name="as it came")
        self.assertEqual(self.sheet(job_id)["stance"]["lift_mm"], 5.0)
        self.change(job_id, "stance", quaternion=turned, name="as it came", lift_mm="0")
        self.assertEqual(self.sheet(job_id)["stance"]["lift_mm"], 0.0)
        self.change(job_id, "stance", status=422, quaternion=turned, lift_mm="-1")

    def test_proposals_stand_on_the_board_and_one_press_chooses(self):
        job_id, page = self.found(tee(), less_support=5)
        self.assertIn("of 100", page.text("stance-A"))
        self.assertIn("exact figures below", self.client.get(f"/jobs/{job_id}/sheet?open=4").text)
        first = page.ids["stance-A"]
        self.change(job_id, "stance", quaternion=first["data-quaternion"], name="upside down")
        self.settle(job_id)
        after = self.section(job_id, 4)
        self.assertEqual(after.ids["stance-A"]["aria-pressed"], "true")
        self.assertIn("0 mm²", after.text("figure-overhang_area_mm2"))
        # The others stay for later, and the stance it came in is among them.
        letters = [key for key in after.ids if key.startswith("stance-") and len(key) == 8]
        self.assertGreaterEqual(len(letters), 3)
        self.assertTrue(any("as it came" in after.text(key) for key in letters))

    def test_goals_are_kept_and_undone(self):
        job_id, page = self.found(portal(), less_support=1, smaller_layers=2)
        self.assertEqual(page.ids["goal-smaller_layers"]["value"], "2.0")
        self.assertEqual(self.sheet(job_id)["goals"]["shorter_print"], 0)
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertIsNone(self.sheet(job_id)["goals"])
        self.change(job_id, "find", status=422, less_support="9")

    def test_the_table_has_all_figures(self):
        job_id, _ = self.found(tee(), less_support=5)
        answer = self.client.get(f"/jobs/{job_id}/stances.csv")
        rows = list(csv.DictReader(io.StringIO(answer.text)))
        self.assertEqual(rows[0]["letter"], "chosen")
        self.assertAlmostEqual(float(rows[0]["overhang_area_mm2"]), 300, places=3)
        self.assertEqual([row["letter"] for row in rows[1:4]], ["A", "B", "C"])
        self.assertTrue(all(value != "" for key, value in rows[1].items() if key != "peel_most_n"))

    def test_pictures_of_cards_never_change_and_a_bad_stance_is_refused(self):
        job_id, page = self.found(tee(), less_support=5)
        q = page.ids["stance-A"]["data-quaternion"]
        picture = self.client.get(f"/jobs/{job_id}/stance.png", params={"q": q})
        self.assertTrue(picture.content.startswith(b"\x89PNG"))
        self.assertIn("immutable", picture.headers["cache-control"])
        for bad in ("no", "[1,2]", "[0,0,0,0]", '{"a": 1}'):
            answer = self.client.get(f"/jobs/{job_id}/stance.png", params={"q": bad})
            self.assertEqual(answer.status_code, 422, bad)

    def test_layers_of_a_stance_that_is_not_chosen(self):
        job_id, page = self.found(tee(), less_support=5)
        q = page.ids["stance-A"]["data-quaternion"]
        told = self.client.get(f"/jobs/{job_id}/stance-layers", params={"q": q}).json()
        np.testing.assert_allclose(
            np.array(told["rotation"]).reshape(3, 3), from_quaternion(json.loads(q)), atol=1e-9
        )
        block = self.client.get(f"/api/blocks/layers/{told['layers']}").content
        self.assertEqual(block[:4], b"UHL1")
        self.assertAlmostEqual(told["size"][2] / 0.2, int.from_bytes(block[4:8], "little"), delta=1)

    def test_a_part_that_fits_no_way_is_told_to_section_3(self):
        job_id = self.job(stl(box(700, 700, 700)))
        self.change(job_id, "layer", layer_mm="2")
        self.change(job_id, "find", less_support="1")
        self.settle(job_id)
        self.assertIn("section 3", self.section(job_id, 4).text("none-fits"))

    def test_one_that_fits_only_turned_is_found_to_fit(self):
        job_id = self.job(stl(box(20, 20, 400)))
        self.change(job_id, "layer", layer_mm="0.4")
        self.change(job_id, "find", less_support="1")
        self.settle(job_id)
        page = self.section(job_id, 4)
        self.assertNotIn("none-fits", page.ids)
        self.change(job_id, "stance", quaternion=page.ids["stance-A"]["data-quaternion"], name="turned")
        self.settle(job_id)
        self.assertIn("Fits", self.section(job_id, 3).text("fit"))


class RegionsTest(StanceCase):
    def test_bridges_say_whether_they_carry_themselves(self):
        narrow = box(40, 10, 20) - box(8, 10, 15, (16, 0, 0))
        job_id = self.job(stl(narrow))
        self.settle(job_id)
        self.assertIn("carries itself", self.section(job_id, 5).text("finding-list"))
        # TPU spans 5 mm by itself.
        self.change(job_id, "material", material="TPU")
        self.settle(job_id)
        self.assertNotIn("carries itself", self.section(job_id, 5).text("finding-list"))
        job = self.client.get(f"/api/jobs/{job_id}").json()
        state = json.loads(self.section(job_id, 5).text("state"))
        mesh = job["sheet"]["items"][0]["part"]["mesh"]
        region = self.client.get(f"/api/blocks/hangs/{state['hangs']}/1", params={"mesh": mesh}).json()
        corners = np.array(region["facets"]).reshape(-1, 3)
        np.testing.assert_allclose(corners[:, 2], 15, atol=1e-4)
        gone = self.client.get(f"/api/blocks/hangs/{state['hangs']}/9", params={"mesh": mesh})
        self.assertEqual(gone.status_code, 422)


class ByHandTest(StanceCase):
    def test_lean_towards_a_side_and_lay_long(self):
        job_id = self.job(stl(box(40, 10, 5)))
        self.change(job_id, "turn", z_deg="30")
        self.client.post(f"/jobs/{job_id}/lay-long", headers={"HX-Request": "true"})
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 4).text("stance-size"), "40 × 10 × 5 mm")
        self.change(job_id, "lean", degrees="12", towards="left")
        self.assertEqual(self.sheet(job_id)["stance"]["name"], "as it came, leaning 12° left")
        up = from_quaternion(tuple(self.sheet(job_id)["stance"]["quaternion"]))[:, 2]
        np.testing.assert_allclose(up, [-np.sin(np.radians(12)), 0, np.cos(np.radians(12))], atol=1e-9)
        self.change(job_id, "lean", status=422, degrees="12", towards="up")

    def test_a_stance_turned_by_hand_is_named_by_what_is_down(self):
        job_id = self.job(stl(tee()))
        self.change(job_id, "stance", quaternion="[0, 1, 0, 0]")
        self.assertEqual(self.sheet(job_id)["stance"]["name"], "upside down")


if __name__ == "__main__":
    unittest.main()

"""Units, size and mending through the application: forms, JSON, undo, and what follows from them."""

import time
import unittest
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import trimesh

from tests.support import box, mesh_of, on_plate, sphere, stl, tee
from tests.web.test_app import AppCase, flat
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.handoff.stl import write_stl


class PartCase(AppCase):
    def post(self, job_id, path, status=200, **fields):
        answer = self.client.post(f"/jobs/{job_id}/{path}", data=fields, headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, status, answer.text[:300])
        return answer

    def part(self, job_id):
        return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]["part"]

    def sides(self, job_id):
        return np.round(self.part(job_id)["size_mm"], 4).tolist()


class UnitTest(PartCase):
    def test_a_part_in_inches_is_caught_and_every_figure_follows(self):
        job_id = self.job(stl(box(1.5, 1, 0.5)))
        self.assertIn("which unit?", self.client.get(f"/jobs/{job_id}?open=1").text)
        self.assertEqual(self.section(job_id, 1).ids["unit-question"]["tag"], "section")
        self.post(job_id, "unit", unit="inch")
        self.assertEqual(self.sides(job_id), [38.1, 25.4, 12.7])
        self.settle(job_id)
        page = self.section(job_id, 1)
        self.assertNotIn("unit-question", page.ids)
        self.assertIn("12.3 cm³", page.text("part-volume"))
        self.assertIn("inch, chosen", page.text("part-unit"))
        self.assertIn("38.1 × 25.4 × 12.7 mm", self.section(job_id, 4).text("stance-size"))
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.sides(job_id), [1.5, 1.0, 0.5])

    def test_a_stated_unit_is_believed(self):
        mesh = mesh_of(box(2, 3, 4))
        glb = trimesh.Trimesh(mesh.vertices * 0.001, mesh.faces).export(file_type="glb")
        job_id = self.job(glb, "tray.glb")
        self.assertEqual(self.part(job_id)["stated_unit"], "meter")
        np.testing.assert_allclose(sorted(self.part(job_id)["size_mm"]), [2, 3, 4], rtol=1e-5)
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["name"], "Tray")
        answer = self.client.post(f"/jobs/{job_id}/unit", data={"unit": "cm"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("states its unit", answer.text)

    def test_a_huge_part_is_asked_about_too(self):
        self.assertIn("unit-question", self.section(self.job(stl(box(90000, 10, 10))), 1).ids)


class SizeTest(PartCase):
    def test_sides_percent_mirror_and_shrinkage(self):
        job_id = self.job(stl(box(10, 20, 30)))
        self.post(job_id, "size", x="5", y="20", z="30", together="true")
        self.assertEqual(self.sides(job_id), [5, 10, 15])
        self.post(job_id, "size", x="5", y="10", z="1/2 in", percent="50")
        self.assertEqual(self.sides(job_id), [5, 10, 12.7])
        self.post(job_id, "size", percent="200")
        self.assertEqual(self.sides(job_id), [20, 40, 60])
        self.post(job_id, "size", shrink_x="1", shrink_y="0", shrink_z="-0.5")
        self.assertEqual(self.sides(job_id), [20.2, 40, 59.7])
        # The fields show what the printed part will measure, and typing the same again changes nothing.
        self.assertEqual(self.section(job_id, 1).ids["size-x"]["value"], "20")
        self.post(job_id, "size", x="20", y="40", z="60", shrink_x="1", shrink_y="0", shrink_z="-0.5")
        self.assertEqual(self.sides(job_id), [20.2, 40, 59.7])
        before = self.part(job_id)["volume_mm3"]
        self.post(job_id, "size", mirror="x")
        self.assertAlmostEqual(self.part(job_id)["volume_mm3"], before, delta=0.01)
        self.assertTrue(self.part(job_id)["closed"])
        self.post(job_id, "size", reset="true")
        self.assertEqual(self.sides(job_id), [10, 20, 30])
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["step"], 7)

    def test_the_stance_is_kept(self):
        job_id = self.job(stl(tee()))
        self.change(job_id, "turn", x_deg="90")
        stance = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]["stance"]
        self.post(job_id, "size", percent="50")
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]["stance"], stance)

    def test_nonsense_is_refused_and_the_job_stays(self):
        job_id = self.job(stl(box(10, 20, 30)))
        for fields in (
            {"x": "wide"},
            {"percent": "-3"},
            {"percent": "1e9"},
            {"x": "1e9"},
            {"shrink_x": "99"},
        ):
            answer = self.client.post(f"/jobs/{job_id}/size", data=fields)
            self.assertEqual(answer.status_code, 422, fields)
        self.assertEqual(
            (self.sides(job_id), self.client.get(f"/api/jobs/{job_id}").json()["step"]), ([10, 20, 30], 1)
        )

    def test_json(self):
        job_id = self.job(stl(box(10, 20, 30)))
        answer = self.client.post(f"/api/jobs/{job_id}/size", json={"scale": [2, 1, 1]})
        self.assertEqual(answer.json()["sheet"]["items"][0]["part"]["size_mm"], [20, 20, 30])
        self.assertEqual(answer.json()["sheet"]["items"][0]["came"]["size_mm"], [10, 20, 30])


class MendTest(PartCase):
    def torn(self):
        mesh = mesh_of(tee())
        faces = np.concatenate([mesh.faces[3:], mesh.faces[8:9]])
        faces[2] = faces[2][::-1]
        return write_stl(Mesh(mesh.vertices, faces))

    def test_mending_is_a_step_that_can_be_undone(self):
        job_id = self.job(self.torn())
        self.settle(job_id)
        page = self.section(job_id, 1)
        self.assertIn("facing inwards", page.text("defects"))
        self.assertIn("there twice", page.text("defects"))
        self.post(job_id, "size", percent="200")
        told = self.client.post(f"/api/jobs/{job_id}/mend").json()
        self.assertTrue(told["closed"])
        self.assertEqual(told["defects_left"], 0)
        self.assertEqual(len(told["done"]), 3)
        part = self.part(job_id)
        self.assertTrue(part["closed"])
        # Mended as it came, and sized again: twice as large each way.
        whole = mesh_of(tee())
        self.assertAlmostEqual(
            part["volume_mm3"], 8 * trimesh.Trimesh(whole.vertices, whole.faces).volume, delta=0.1
        )
        self.settle(job_id)
        self.assertIn("sound", self.section(job_id, 1).ids)
        self.assertEqual(self.client.post(f"/api/jobs/{job_id}/mend").json()["done"], [])
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertFalse(self.part(job_id)["closed"])

    def test_what_nothing_mends_is_still_told(self):
        sheet = write_stl(
            Mesh(np.array([[0, 0, 0], [9, 0, 0], [0, 9, 0], [9, 9, 1.0]]), np.array([[0, 1, 2], [1, 3, 2]]))
        )
        told = self.client.post(f"/api/jobs/{self.job(sheet)}/mend", json={"steps": ["unite"]}).json()
        self.assertEqual((told["done"], told["closed"]), ([], False))
        self.assertEqual(told["defects_left"], 4)

    def test_a_body_each(self):
        pair = box(10, 10, 10) + box(5, 5, 5, (20, 0, 0))
        job_id = self.job(stl(pair), "set.stl")
        self.change(job_id, "material", material="PETG")
        self.settle(job_id)
        self.assertIn("separate", self.section(job_id, 1).ids)
        answer = self.client.post(f"/jobs/{job_id}/separate", headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, 204)
        jobs = {j["sheet"]["name"]: flat(j["sheet"]) for j in self.client.get("/api/jobs").json()}
        self.assertEqual(jobs["Set, body 1"]["part"]["size_mm"], [10, 10, 10])
        self.assertEqual(jobs["Set, body 2"]["part"]["size_mm"], [5, 5, 5])
        self.assertEqual(jobs["Set, body 2"]["material"], "PETG")
        refused = self.client.post(f"/jobs/{self.job(stl(tee()))}/separate")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("The part has 1 body.", refused.text)

    def test_mending_shows_on_the_page_and_can_be_stopped(self):
        job_id = self.job(stl(on_plate(sphere(20, 360))))
        self.settle(job_id)
        with ThreadPoolExecutor(1) as pool:
            asked = pool.submit(self.client.post, f"/api/jobs/{job_id}/mend", json={"steps": ["rewrap"]})
            until = time.monotonic() + 30
            while 'id="stop"' not in self.client.get(f"/jobs/{job_id}/sheet?open=1").text:
                self.assertLess(time.monotonic(), until, "mending never showed")
            self.refused(self.client.post(f"/api/jobs/{job_id}/mend"), 422, "being mended already")
            self.client.post(f"/jobs/{job_id}/stop")
            answer = asked.result(60)
        self.assertGreaterEqual(answer.status_code, 400, answer.text[:200])
        self.assertIn("Stopped", answer.text)
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["step"], 1)
        self.assertNotIn('id="stop"', self.client.get(f"/jobs/{job_id}/sheet?open=1").text)

    def test_by_kind(self):
        job_id = self.job(self.torn())
        self.post(job_id, "mend", step="drop")
        self.settle(job_id)
        page = self.section(job_id, 1)
        self.assertNotIn("there twice", page.text("defects"))
        self.assertIn("facing inwards", page.text("defects"))
        self.assertIn("no step", self.client.post(f"/jobs/{job_id}/mend", data={"step": "pray"}).text)
        self.refused(self.client.post(f"/api/jobs/{job_id}/mend", json={"steps": ["pray"]}), 422, "no step")

    def test_places_can_be_fetched(self):
        job_id = self.job(self.torn())
        self.settle(job_id)
        state = self.client.get(f"/jobs/{job_id}?open=1").text
        key = state.split('"health":')[1].split('"')[1]
        place = self.client.get(f"/api/blocks/health/{key}/0").json()
        self.assertEqual(place["kind"], "open")
        self.assertEqual(len(place["lines"]) % 6, 0)
        self.assertAlmostEqual(sum(v * v for v in place["facing"]), 1, delta=1e-6)
        self.refused(self.client.get(f"/api/blocks/health/{key}/999"), 422, "no place")


if __name__ == "__main__":
    unittest.main()


class HollowTest(PartCase):
    """Hollow parts as steps of the sheet: figures of one result, sized anew, undone, solid again."""

    def resin(self, body):
        job_id = self.job(stl(body))
        self.client.post(f"/jobs/{job_id}/changes/printer", data={"printer": "Tarn 9"})
        return job_id

    def item(self, job_id):
        return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]

    def test_it_drains_is_sized_and_made_solid_again(self):
        job_id = self.resin(on_plate(sphere(15, 96)))
        volume = self.part(job_id)["volume_mm3"]
        self.assertNotIn("hollow-told", self.section(job_id, 1).ids)
        self.post(job_id, "hollow", wall="2", proposed="true")
        told = self.item(job_id)
        hollow = told["hollow"]
        self.assertEqual([one["vent"] for one in hollow["drilled"]], [False, True])
        # What is told of the part is that of the surface that is kept: less the hollow and two holes.
        self.assertAlmostEqual(
            volume - told["part"]["volume_mm3"], hollow["cavity_mm3"] + 2 * np.pi * 2.25 * 2, delta=1.5
        )
        self.assertEqual((told["part"]["closed"], told["part"]["shells"]), (True, 1))
        page = self.section(job_id, 1)
        self.assertIn("it drains as it stands", page.text("hollow-told"))
        self.assertIn(f"{hollow['wall_least_mm']:.2f} mm at least", page.text("hollow-facts"))
        # Flat on the plate its lower hole is shut; lifted it is open.
        told = "A hole lies on the plate"
        for lift, shut in (("0", True), ("5", False)):
            self.client.post(f"/jobs/{job_id}/changes/lift", data={"lift_mm": lift})
            self.settle(job_id)
            self.client.get(f"/jobs/{job_id}/sheet?open=9")
            self.settle(job_id)
            page = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
            self.assertEqual(told in page, shut, lift)
        self.client.post(f"/jobs/{job_id}/undo")
        # Twice the size: hollowed anew with the wall that was asked for.
        self.post(job_id, "size", percent="200", together="true")
        large = self.item(job_id)
        self.assertAlmostEqual(large["hollow"]["wall_mean_mm"], 2.0, delta=0.06)
        self.assertEqual((large["hollow"]["detail_mm"], large["hollow"]["step_mm"]), (0.5, 0.5))
        self.assertAlmostEqual(large["hollow"]["cavity_mm3"] / (4 / 3 * np.pi * 28**3), 1.0, delta=0.02)
        self.assertAlmostEqual(large["solid"]["volume_mm3"] / (8 * volume), 1.0, delta=1e-4)
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.item(job_id)["hollow"], hollow)
        self.post(job_id, "solid")
        solid = self.item(job_id)
        self.assertAlmostEqual(solid["part"]["volume_mm3"], volume, 3)
        self.assertEqual((solid["hollow"], solid["solid"], solid["came"]), (None, None, None))
        self.post(job_id, "solid", status=422)

    def test_a_plug_for_each_hole_is_an_item(self):
        job_id = self.resin(on_plate(sphere(15, 96)))
        self.post(job_id, "hollow/plugs", status=422, fit="snug")
        self.post(job_id, "hollow", wall="2", proposed="true", hole="4")
        self.assertIn("make-plugs", self.section(job_id, 1).ids)
        self.post(job_id, "hollow/plugs", status=422, fit="welded")
        self.post(job_id, "hollow/plugs", fit="sliding")
        items = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"]
        self.assertEqual(len(items), 3)
        for one in items[1:]:
            part = one["part"]
            self.assertTrue(part["closed"])
            self.assertIn("plug", part["file_name"])
            # Through a wall of 2 mm, with 0.15 mm of room on each side.
            self.assertAlmostEqual(part["size_mm"][0], 3.7, delta=0.02)
            self.assertAlmostEqual(part["size_mm"][2], 2.0, delta=0.25)
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(len(self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"]), 1)

    def test_holes_are_pointed_at_and_what_stays_goes_by_the_stance(self):
        job_id = self.resin(box(30, 24, 20))
        self.post(job_id, "hollow", wall="2", hole="4", x="0", y="12", z="10")
        page = self.section(job_id, 1)
        self.assertRegex(page.text("hollow-told"), "of resin stays in")
        self.assertIn("4 mm", page.text("holes"))
        # On its other side the hole would be on top: told for another stance until it is hollowed again.
        self.client.post(f"/jobs/{job_id}/changes/turn", data={"y_deg": "-90"})
        self.assertIn("stands otherwise now", self.section(job_id, 1).text("hollow-told"))
        self.post(job_id, "hollow", wall="2", hole="4")
        down = self.item(job_id)["hollow"]
        self.assertEqual(len(down["drilled"]), 1)
        self.assertLess(min(down["standing_mm3"], down["hanging_mm3"]), 1)
        self.assertGreater(max(down["standing_mm3"], down["hanging_mm3"]), 0.95 * down["cavity_mm3"])
        self.post(job_id, "hollow/holes/1/out")
        self.assertEqual(self.item(job_id)["hollow"]["holes"], [])
        self.assertIn("shut in: no hole opens it", self.section(job_id, 1).text("hollow-told"))
        self.post(job_id, "hollow/holes/1/out", status=422)

    def test_what_cannot_be_is_refused_and_the_part_stays(self):
        job_id = self.resin(box(30, 24, 20))
        mesh = self.part(job_id)["mesh"]
        for fields in (
            {"wall": "12"}, {"wall": "thick"}, {"wall": "2", "detail": "3"}, {"wall": "2", "hole": "0.1", "proposed": "true"},
            {"wall": "2", "x": "0.2", "y": "0.2", "z": "0"}, {"wall": "2", "x": "90", "y": "0", "z": "0"},
        ):  # fmt: skip
            with self.subTest(fields):
                self.post(job_id, "hollow", status=422, **fields)
        self.assertEqual(self.part(job_id)["mesh"], mesh)

    def test_marks_stay_on_the_outside(self):
        job_id = self.resin(box(30, 24, 20))
        self.client.post(f"/jobs/{job_id}/marks/fill", data={"what": "face", "facet": "0", "mark": "show"})
        painted = self.item(job_id)["marks"]
        self.assertGreater(painted["show_mm2"], 100)
        self.post(job_id, "hollow", wall="2")
        hollow = self.item(job_id)["marks"]
        self.assertAlmostEqual(hollow["show_mm2"], painted["show_mm2"], delta=0.05 * painted["show_mm2"])
        self.assertEqual(hollow["lost_mm2"], 0)

    def test_ribs_and_what_is_painted_to_stay_solid(self):
        job_id = self.resin(box(40, 40, 30))
        self.post(job_id, "hollow", wall="2", detail="0.8")
        plain = self.item(job_id)["hollow"]
        self.assertEqual((plain["filling"], plain["solid_mm2"]), ("nothing", 0))
        self.post(job_id, "hollow", wall="2", detail="0.8", filling="ribs", apart="12", thick="2")
        ribs = self.item(job_id)["hollow"]
        self.assertEqual((ribs["filling"], ribs["apart_mm"], ribs["thick_mm"]), ("ribs", 12, 2))
        self.assertLess(ribs["cavity_mm3"], 0.95 * plain["cavity_mm3"])
        page = self.section(job_id, 1)
        self.assertIn("ribs", page.text("hollow-filling"))
        self.assertNotIn("paint-since", page.ids)
        # Painted since: told, and counted when it is hollowed again.
        self.client.post(
            f"/jobs/{job_id}/marks/fill", data={"what": "band", "low": "0", "high": "4", "mark": "solid"}
        )
        painted = self.item(job_id)["marks"]["solid_mm2"]
        self.assertGreater(painted, 160 * 3)
        self.assertIn("changed since", self.section(job_id, 1).text("paint-since"))
        self.post(job_id, "hollow", wall="2", detail="0.8", behind="6")
        solid = self.item(job_id)["hollow"]
        # What was painted on the inside of the hollow is gone with it.
        self.assertAlmostEqual(solid["solid_mm2"], 1600 + 160 * 4, delta=60)
        self.assertGreater(painted, solid["solid_mm2"])
        # All the way round the foot: six millimetres of wall there, up to the height of the paint.
        low = plain["cavity_mm3"] - solid["cavity_mm3"]
        self.assertGreater(low, 36 * 4 * 3 * 2)
        self.assertAlmostEqual(solid["wall_mean_mm"], 2.0, delta=0.1)
        page = self.section(job_id, 1)
        self.assertNotIn("paint-since", page.ids)
        self.assertIn("painted to keep solid", page.text("paint-solid"))
        self.post(job_id, "hollow", wall="2", pocket="1000000", status=422)
        self.post(job_id, "hollow", wall="2", pocket="60", x="20", y="20", z="0", upright="true")
        told = self.item(job_id)["hollow"]
        self.assertEqual((told["pocket_mm3"], told["holes"][0]["upright"]), (60, True))
        for wrong in ({"filling": "foam"}, {"filling": "ribs", "apart": "3"}, {"behind": "-2"}):
            with self.subTest(wrong):
                self.post(job_id, "hollow", status=422, wall="2", **wrong)

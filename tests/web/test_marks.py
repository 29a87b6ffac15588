"""Findings and marks through the pages: states, notes, strokes, fills, and marks that travel with a part."""

import json

import lib3mf
import numpy as np
from manifold3d import Manifold

from tests.support import box, comb, mesh_of, portal, stl, tee
from tests.web.test_app import AppCase, flat
from upright_heron.core.formats.read import read
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.marking.mark import Mark


class MarksCase(AppCase):
    def sheet(self, job_id):
        return flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"])

    def state(self, job_id):
        return json.loads(self.section(job_id, 5).text("state"))

    def listed(self, job_id):
        """Findings on the page: name to state and reason."""
        self.settle(job_id)
        page = self.client.get(f"/jobs/{job_id}/sheet?open=5").text
        rows = [row.split(">")[0] for row in page.split('<tr id="finding-')[1:]]
        read_out = [dict(part.split('="', 1) for part in row.split('" ')[1:] if '="' in part) for row in rows]
        return {row["data-name"]: row for row in read_out}

    def fine(self, job_id):
        """The fine mesh as the browser gets it: vertices (n, 3), faces (m, 3)."""
        data = self.client.get(f"/api/blocks/fine/{self.sheet(job_id)['part']['mesh']}").content
        corners, facets = np.frombuffer(data, "<u4", 2, 4)
        vertices = np.frombuffer(data, "<f4", 3 * corners, 12).reshape(-1, 3)
        return vertices, np.frombuffer(data, "<u4", 3 * facets, 12 + 12 * int(corners)).reshape(-1, 3)

    def marks(self, job_id):
        kept = self.sheet(job_id)["marks"]
        if kept is None:
            return np.zeros(0, np.uint8)
        return np.frombuffer(self.client.get(f"/api/blocks/marks/{kept['digest']}").content, np.uint8)

    def stroke(self, job_id, facets, mark="prop", of=None):
        of = of or self.sheet(job_id)["part"]["mesh"]
        data = np.asarray(facets, "<u4").tobytes()
        return self.client.post(f"/jobs/{job_id}/marks/stroke", params={"mark": mark, "of": of}, content=data)

    def declined(self, answer, status, words):
        """A page that says why, and nothing more."""
        self.assertEqual(answer.status_code, status)
        self.assertIn(words, answer.text)

    def fill(self, job_id, **fields):
        return self.client.post(f"/jobs/{job_id}/marks/fill", data=fields)

    def facets_where(self, job_id, test):
        vertices, faces = self.fine(job_id)
        return np.flatnonzero(test(vertices[faces].mean(axis=1)))


class FindingsTest(MarksCase):
    def test_states_follow_supports_and_notes_and_preflight_tells_the_rest(self):
        job_id = self.job(stl(comb()))
        found = self.listed(job_id)
        self.assertEqual({found[n]["data-state"] for n in ("island 1", "island 2", "overhang 1")}, {"to do"})
        self.assertIn("375 mm³ hang on it", found["island 1"]["data-reason"])
        page = self.section(job_id, 5)
        self.assertIn("2 islands start in mid-air", page.text("preflight"))
        self.change(job_id, "supports", open=5, gap_mm="0.2")
        found = self.listed(job_id)
        self.assertEqual({found[n]["data-state"] for n in ("island 1", "island 2", "overhang 1")}, {"held"})
        self.assertNotIn("island", self.section(job_id, 5).text("preflight"))

    def test_letting_one_be_and_taking_it_back(self):
        job_id = self.job(stl(tee()))
        found = self.listed(job_id)["overhang 1"]
        self.change(
            job_id, "accept", open=5, finding=found["data-finding"], name="overhang 1", note="cut off later"
        )
        again = self.listed(job_id)["overhang 1"]
        self.assertEqual((again["data-state"], again["data-note"]), ("accepted", "cut off later"))
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.listed(job_id)["overhang 1"]["data-state"], "to do")
        self.client.post(f"/jobs/{job_id}/redo")
        self.change(job_id, "accept", open=5, finding=found["data-finding"], back="true")
        self.assertEqual(self.listed(job_id)["overhang 1"]["data-state"], "to do")
        self.change(job_id, "accept", status=422, open=5, finding="<script>")

    def test_bridges_carry_themselves_until_they_are_painted(self):
        # A doorway of 8 mm in PLA, which spans 10: nothing is held. Painted, it is.
        door = box(28, 10, 20) - box(8, 10, 12, (10, 0, 0))
        job_id = self.job(stl(door))
        self.assertEqual(self.listed(job_id)["overhang 1"]["data-state"], "carries itself")
        self.change(job_id, "supports", open=5, gap_mm="0.2")
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 6).text("support-count"), "0")
        ceiling = self.facets_where(job_id, lambda m: np.abs(m[:, 2] - 12) < 1e-4)
        self.assertEqual(self.stroke(job_id, ceiling).status_code, 200)
        self.assertEqual(self.listed(job_id)["overhang 1"]["data-state"], "held")
        self.assertEqual(self.section(job_id, 6).text("support-count"), "1")

    def test_the_factor_of_steps_is_the_technicians(self):
        job_id = self.job(stl(tee()))
        self.assertIn("layer step 1", self.listed(job_id))
        self.change(job_id, "step-factor", open=5, factor="6")
        self.assertNotIn("layer step 1", self.listed(job_id))
        self.change(job_id, "step-factor", status=422, open=5, factor="1")


class StrokeTest(MarksCase):
    def test_each_stroke_is_one_step_and_undo_walks_them(self):
        job_id = self.job(stl(tee()))
        first = self.stroke(job_id, range(10)).json()
        second = self.stroke(job_id, range(5, 20), "clear").json()
        self.assertEqual(second["step"], first["step"] + 1)
        marks = self.marks(job_id)
        self.assertEqual((marks[:5] == Mark.PROP).sum(), 5)
        self.assertEqual((marks == Mark.KEEP_CLEAR).sum(), 15)
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.sheet(job_id)["marks"]["digest"], first["marks"])
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertIsNone(self.sheet(job_id)["marks"])
        self.client.post(f"/jobs/{job_id}/redo")
        self.assertEqual((self.marks(job_id) == Mark.PROP).sum(), 10)
        self.stroke(job_id, range(10), "erase")
        self.assertIsNone(self.sheet(job_id)["marks"], "a part without marks is as if it never had any")

    def test_strokes_of_another_surface_are_refused_and_nothing_is_lost(self):
        job_id = self.job(stl(tee()))
        kept = self.stroke(job_id, range(10)).json()
        self.declined(self.stroke(job_id, [10**7]), 422, "another surface")
        self.declined(self.stroke(job_id, [1], of="0" * 32), 422, "meanwhile")
        answer = self.client.post(
            f"/jobs/{job_id}/marks/stroke", params={"mark": "prop", "of": "0" * 32}, content=b"abc"
        )
        self.declined(answer, 422, "could not be read")
        self.assertEqual(self.client.post(f"/jobs/{job_id}/marks/stroke?mark=gold&of=x").status_code, 422)
        self.assertEqual(self.sheet(job_id)["marks"]["digest"], kept["marks"])

    def test_strokes_that_arrive_together_are_all_kept(self):
        from concurrent.futures import ThreadPoolExecutor

        job_id = self.job(stl(tee()))
        self.stroke(job_id, [0])
        with ThreadPoolExecutor(4) as pool:
            answers = list(pool.map(lambda k: self.stroke(job_id, [10 * k + 1]), range(4)))
        self.assertEqual({a.status_code for a in answers}, {200})
        self.assertEqual((self.marks(job_id) == Mark.PROP).sum(), 5)


class FillTest(MarksCase):
    def test_faces_regions_bodies_heights_and_all_past_the_limit(self):
        job_id = self.job(stl(tee()))
        under = int(self.facets_where(job_id, lambda m: np.abs(m[:, 2] - 20) < 1e-4)[0])
        for fields, area in (
            ({"what": "face", "facet": under, "crease": "20"}, 150),
            ({"what": "region", "facet": under}, 150),
            ({"what": "past"}, 300),
            ({"what": "body", "facet": 0}, 2 * 400 + 2 * 200 + 2 * 50 + 800),
            ({"what": "band", "low": "0", "high": "10 mm"}, 400 + 100),
        ):
            with self.subTest(fields["what"]):
                self.assertEqual(self.fill(job_id, mark="prop", **fields).status_code, 200)
                found = self.sheet(job_id)["marks"]["prop_mm2"]
                self.assertAlmostEqual(
                    found / area, 1, delta=0.15 if fields["what"] in ("band", "body") else 1e-6
                )
                self.client.post(f"/jobs/{job_id}/undo")
        self.declined(self.fill(job_id, mark="prop", what="face"), 422, "pointed at")
        top = int(self.facets_where(job_id, lambda m: m[:, 2] > 24.999)[0])
        self.declined(self.fill(job_id, mark="prop", what="region", facet=top), 422, "No overhang region")

    def test_channels_are_proposed_and_kept_clear(self):
        drilled = box(40, 30, 20) - Manifold.cylinder(60, 4, 4, 48).rotate((0, 90, 0)).translate((-5, 15, 10))
        job_id = self.job(stl(drilled))
        self.change(job_id, "channels", open=5, width_mm="10")
        self.settle(job_id)
        self.assertIn("straight", self.section(job_id, 5).text("channels"))
        self.assertEqual(self.fill(job_id, mark="clear", what="channel", channel="1").status_code, 200)
        # The wall of a cylinder of 8 mm, 40 mm long: 1005.3 mm2.
        self.assertAlmostEqual(self.sheet(job_id)["marks"]["clear_mm2"] / 1005.3, 1, delta=0.02)
        wall = int(np.flatnonzero(self.marks(job_id) == Mark.KEEP_CLEAR)[0])
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.fill(job_id, mark="clear", what="channel", facet=wall).status_code, 200)
        self.assertAlmostEqual(self.sheet(job_id)["marks"]["clear_mm2"] / 1005.3, 1, delta=0.02)
        found = self.listed(job_id)["overhang 1"]
        self.assertEqual((found["data-state"], found["data-note"]), ("accepted", "painted to be kept clear"))
        self.change(job_id, "supports", open=5, gap_mm="0.2")
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 6).text("support-count"), "0")

    def test_changes_of_what_is_painted(self):
        job_id = self.job(stl(box(30, 30, 10)))
        spot = self.facets_where(
            job_id, lambda m: (m[:, 2] > 9.99) & (np.linalg.norm(m[:, :2] - [8, 15], axis=1) < 4)
        )
        self.stroke(job_id, spot, "show")
        before = self.sheet(job_id)["marks"]["show_mm2"]

        def after(how, **fields):
            answer = self.client.post(f"/jobs/{job_id}/marks/change", data={"how": how, **fields})
            self.assertEqual(answer.status_code, 200)
            marks = self.sheet(job_id)["marks"]
            return marks["show_mm2"] if marks else 0.0

        grown = after("grow", mark="show", by="2")
        self.assertGreater(grown, 1.5 * before)
        self.assertLess(after("shrink", mark="show", by="2"), grown)
        once = after("smooth", by="1")
        self.assertAlmostEqual(after("mirror", axis="x") / once, 2, delta=0.1)
        self.assertEqual(after("clear", mark="show"), 0)
        self.declined(
            self.client.post(f"/jobs/{job_id}/marks/change", data={"how": "grow", "by": "-1"}),
            422,
            "distance",
        )


class TravelTest(MarksCase):
    def painted(self):
        job_id = self.job(stl(box(20, 14, 8)))
        top = self.facets_where(job_id, lambda m: m[:, 2] > 7.999)
        self.stroke(job_id, top, "show")
        return job_id

    def test_marks_stay_through_stance_size_and_mirror(self):
        job_id = self.painted()
        self.change(job_id, "turn", x_deg="90")
        self.assertAlmostEqual(self.sheet(job_id)["marks"]["show_mm2"], 280, delta=1e-6)
        self.client.post(f"/jobs/{job_id}/size", data={"percent": "200"})
        sheet = self.sheet(job_id)
        self.assertAlmostEqual(sheet["marks"]["show_mm2"] / (4 * 280), 1, delta=0.1)
        self.assertEqual(sheet["marks"]["of"], sheet["part"]["mesh"])
        self.client.post(f"/jobs/{job_id}/size", data={"mirror": "x"})
        self.assertAlmostEqual(self.sheet(job_id)["marks"]["show_mm2"] / (4 * 280), 1, delta=0.1)
        self.client.post(f"/jobs/{job_id}/undo")
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertAlmostEqual(self.sheet(job_id)["marks"]["show_mm2"], 280, delta=1e-6)

    def test_marks_stay_through_mending_and_what_is_lost_is_told(self):
        mesh = mesh_of(box(20, 14, 8))
        torn = type(mesh)(mesh.vertices, mesh.faces[1:])
        job_id = self.job(write_stl(torn))
        painted = self.facets_where(job_id, lambda m: m[:, 2] > 7.999)
        self.stroke(job_id, painted, "clear")
        before = self.sheet(job_id)["marks"]["clear_mm2"]
        self.client.post(f"/jobs/{job_id}/mend")
        sheet = self.sheet(job_id)
        self.assertTrue(sheet["part"]["closed"])
        self.assertGreaterEqual(sheet["marks"]["clear_mm2"], before - 1e-6)
        self.assertEqual(sheet["marks"]["lost_mm2"], 0)

    def test_a_painted_show_side_counts_in_the_figures_instead_of_a_direction(self):
        job_id = self.job(stl(tee()))
        under = self.facets_where(job_id, lambda m: np.abs(m[:, 2] - 20) < 1e-4)
        self.stroke(job_id, under[: len(under) // 2], "show")
        area = self.sheet(job_id)["marks"]["show_mm2"]
        self.settle(job_id)
        figures = self.client.get(f"/jobs/{job_id}/sheet?open=4").text
        self.assertIn("Touched on the show side", figures)
        self.assertIn(f"{area:.0f} mm²", figures.split("Touched on the show side")[1][:80])

    def test_marks_leave_in_3mf_and_come_back(self):
        job_id = self.painted()
        kept = self.sheet(job_id)["marks"]
        data = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
        model = lib3mf.Wrapper().CreateModel()
        reader = model.QueryReader("3mf")
        reader.SetStrictModeActive(True)
        reader.ReadFromBuffer(data)
        self.assertEqual(reader.GetWarningCount(), 0, "the reference reader leaves our property alone")
        whole = read(data, "part.3mf").whole()
        self.assertEqual((whole.marks == Mark.SHOW).sum(), (self.marks(job_id) == Mark.SHOW).sum())
        again = self.sheet(self.job(data, "part.3mf"))
        self.assertAlmostEqual(again["marks"]["show_mm2"], kept["show_mm2"], delta=1e-3)
        self.assertEqual(again["marks"]["clear_mm2"], 0)

    def test_pieces_and_bodies_take_their_marks_along(self):
        two = Manifold.compose([box(20, 14, 8), box(10, 10, 8, (40, 0, 0))])
        job_id = self.job(stl(two))
        top = self.facets_where(job_id, lambda m: (m[:, 2] > 7.999) & (m[:, 0] < 30))
        self.stroke(job_id, top, "show")
        self.client.post(f"/jobs/{job_id}/items/separate")
        sheet = self.sheet(job_id)
        areas = sorted(p["marks"]["show_mm2"] if p["marks"] else 0 for p in sheet["items"])
        self.assertEqual(areas[0], 0)
        self.assertAlmostEqual(areas[1], 280, delta=1e-3)

    def test_the_fine_mesh_of_the_browser_is_that_of_the_core(self):
        job_id = self.job(stl(portal()))
        _, faces = self.fine(job_id)
        digest = self.sheet(job_id)["part"]["mesh"]
        fine = refined(self.app.state.services.store.mesh(digest))
        np.testing.assert_array_equal(faces, fine.mesh.faces)

"""Several parts in one job: each with its own stance, supports and footing, handed off together."""

import json

import lib3mf
import numpy as np
from manifold3d import Manifold

from tests.support import box, mesh_of, stl, tee
from tests.web.test_app import AppCase
from upright_heron.core.formats.read import read
from upright_heron.core.formats.reading import finish
from upright_heron.core.handoff.stl import write_stl


class PartsTest(AppCase):
    def add(self, job_id, data, name):
        return self.client.post(f"/api/jobs/{job_id}/parts", params={"name": name}, content=data)

    def sheet(self, job_id):
        return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]

    def state(self, job_id):
        return json.loads(self.section(job_id, 1).text("state"))

    def two(self):
        job_id = self.job(stl(tee()), "tee.stl")
        self.assertEqual(self.add(job_id, stl(box(30, 20, 10)), "block.stl").status_code, 201)
        return job_id

    def test_each_part_keeps_its_own_stance_and_supports(self):
        job_id = self.two()
        self.assertEqual((self.sheet(job_id)["at"], len(self.sheet(job_id)["others"])), (1, 1))
        self.change(job_id, "turn", x_deg="90")
        self.client.post(f"/jobs/{job_id}/parts/0/look")
        self.assertEqual(self.sheet(job_id)["part"]["file_name"], "tee.stl")
        self.assertEqual(self.sheet(job_id)["stance"]["name"], "as it came")
        self.change(job_id, "supports", gap_mm="0.2")
        self.change(job_id, "layer", layer_mm="0.3")
        self.settle(job_id)
        supported = self.state(job_id)["supports"]
        self.assertIsNotNone(supported)
        self.client.post(f"/jobs/{job_id}/parts/1/look")
        sheet = self.sheet(job_id)
        # What is the machine's is shared, what is the part's is not.
        self.assertEqual((sheet["layer_mm"], sheet["supports"]), (0.3, None))
        self.assertEqual(sheet["stance"]["name"], "on its front")

    def test_looking_makes_no_step_and_undo_goes_where_the_change_was(self):
        job_id = self.two()
        steps = self.client.get(f"/api/jobs/{job_id}").json()["step"]
        self.client.post(f"/jobs/{job_id}/parts/0/look")
        self.change(job_id, "footing", footing="brim")
        self.client.post(f"/jobs/{job_id}/undo")
        self.client.post(f"/jobs/{job_id}/parts/1/look")
        found = self.client.get(f"/api/jobs/{job_id}").json()
        self.assertEqual((found["step"], found["can_redo"]), (steps, True))
        self.client.post(f"/jobs/{job_id}/redo")
        self.assertEqual(self.sheet(job_id)["footing"]["kind"], "brim")
        self.assertEqual(self.sheet(job_id)["part"]["file_name"], "tee.stl")
        for _ in range(2):
            self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.sheet(job_id)["others"], [])
        self.assertNotIn("parts", self.section(job_id, 1).ids)

    def test_all_parts_leave_in_one_file_beside_each_other(self):
        job_id = self.two()
        self.add(job_id, stl(box(12, 12, 12)), "cube.stl")
        self.client.post(f"/jobs/{job_id}/parts/0/look")
        self.change(job_id, "supports", gap_mm="0.2")
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
        self.assertIn("cube.stl", page.text("all-parts"))
        self.assertIn("One after the other", page.text("whole"))

    def test_preflight_speaks_of_every_part(self):
        job_id = self.two()
        self.settle(job_id)
        text = self.section(job_id, 9).ids
        self.assertIn("all-parts", text)
        # The tee overhangs and stands on little; the block is faultless. The block is the part that is shown.
        answer = self.client.get(f"/jobs/{job_id}").text
        self.assertIn("Part 1: ", answer)
        self.assertNotIn("Part 2: ", answer)
        self.assertIn('data-part="1"', answer)

    def test_bodies_become_parts_of_the_same_job_and_one_is_taken_out(self):
        both = Manifold.compose([box(10, 10, 10), box(20, 10, 10, (40, 0, 0))])
        job_id = self.job(write_stl(mesh_of(both)), "pair.stl")
        self.client.post(f"/jobs/{job_id}/parts/separate")
        sheet = self.sheet(job_id)
        lengths = sorted([sheet["part"]["size_mm"][0], sheet["others"][0]["part"]["size_mm"][0]])
        np.testing.assert_allclose(lengths, [10, 20], atol=1e-5)
        self.change(job_id, "take-out")
        self.assertEqual(self.sheet(job_id)["others"], [])
        answer = self.change(job_id, "take-out", status=422)
        self.assertIn("only part", answer.text)

    def test_a_bad_file_adds_nothing(self):
        job_id = self.two()
        before = self.client.get(f"/api/jobs/{job_id}").json()["step"]
        self.refused(self.add(job_id, b"no mesh " * 100, "x.stl"), 422, "not a mesh file")
        self.refused(self.add("nobody", stl(tee()), "x.stl"), 404, "no such job")
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["step"], before)

    def test_another_kind_of_machine_clears_the_supports_of_every_part(self):
        job_id = self.two()
        self.change(job_id, "supports", gap_mm="0.2")
        self.client.post(f"/jobs/{job_id}/parts/0/look")
        self.change(job_id, "printer", printer="Tarn 9")
        sheet = self.sheet(job_id)
        self.assertEqual([sheet["supports"], sheet["others"][0]["supports"]], [None, None])

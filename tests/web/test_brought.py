"""Supports that a file holds beside its part: asked about, kept as supports or left out; read back."""

import unittest

import numpy as np
from manifold3d import Manifold

from tests.core.test_threemf import read, volume
from tests.support import box, mesh_of
from tests.web.test_app import AppCase
from upright_heron.core.formats.read import read as read_file
from upright_heron.core.geometry.mesh import facts
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.handoff.threemf import FileObject, write_3mf
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.supports.byhand.brought import brought_columns

SHELF = box(60, 20, 5, (100, 50, 20))
# Posts 6 and 4 mm thick under the shelf, ending 0.2 mm below it; a third one stands beside the first.
POSTS = [
    Manifold.cylinder(19.8, radius, radius, 64).translate((x, 60, 0))
    for x, radius in ((110, 3), (145, 2), (122, 3))
]


def package(*extra, type="support"):
    objects = [FileObject("shelf", mesh_of(SHELF))]
    objects += [FileObject(f"post {k}", mesh_of(post), type) for k, post in enumerate((*POSTS, *extra))]
    return write_3mf(objects, "Shelf")


class ReadingTest(unittest.TestCase):
    def test_supports_are_no_bodies_of_the_part(self):
        for type in ("support", "solidsupport"):
            with self.subTest(type):
                found = read_file(package(type=type), "shelf.3mf")
                self.assertEqual([b.name for b in found.parts], ["shelf"])
                self.assertEqual(len(found.supports), 3)
                np.testing.assert_allclose(found.whole().mesh.size_mm, (60, 20, 5), atol=1e-4)
        found = read_file(package(type="model"), "shelf.3mf")
        self.assertEqual((len(found.parts), found.supports), (4, ()))

    def test_a_file_of_supports_alone_is_a_part(self):
        only = write_3mf([FileObject("post", mesh_of(POSTS[0]), "support")], "Post")
        found = read_file(only, "post.3mf")
        self.assertEqual((len(found.parts), found.supports), (1, ()))
        self.assertAlmostEqual(found.whole().mesh.size_mm[2], 19.8, places=4)


class ColumnsTest(unittest.TestCase):
    def of(self, *bodies, layer=0.2):
        stack = slice_solid(Solid(SHELF), layer)
        every = Manifold.compose(list(bodies))
        return brought_columns(mesh_of(every), stack)

    def test_each_body_is_a_column_of_its_sections(self):
        found, left = self.of(*POSTS)
        self.assertEqual((len(found), left), (3, 0))
        for column, post in zip(
            sorted(found, key=lambda c: c.touch_mm[0]), (POSTS[0], POSTS[2], POSTS[1]), strict=True
        ):
            self.assertAlmostEqual(column.volume_mm3, facts(mesh_of(post)).volume_mm3, delta=0.01)
            self.assertEqual((column.slabs[0].low_mm, column.on_part, column.hand), (0, False, "made"))
            self.assertAlmostEqual(column.slabs[-1].high_mm, 19.8)
            # The gap of a layer below the shelf still counts as touching it.
            self.assertAlmostEqual(column.contact_mm2, float(post.slice(10).area()), delta=0.01)

    def test_one_that_begins_on_something_and_bodies_that_meet(self):
        stub = Manifold.cylinder(4, 2, 2, 32).translate((130, 60, 15))
        arm = box(14, 2, 2, (109, 59, 10))
        found, _ = self.of(POSTS[0], arm, POSTS[2], stub)
        self.assertEqual(sorted(round(c.slabs[0].low_mm, 6) for c in found), [0, 15])
        self.assertEqual(sum(c.on_part for c in found), 1)
        united = POSTS[0] + arm + POSTS[2]
        whole = next(c for c in found if not c.on_part)
        self.assertAlmostEqual(whole.volume_mm3, facts(mesh_of(united)).volume_mm3, delta=0.5)

    def test_open_surfaces_are_counted_and_left(self):
        mesh = mesh_of(POSTS[0])
        holed = type(mesh)(mesh.vertices, mesh.faces[1:])
        self.assertEqual(brought_columns(holed, slice_solid(Solid(SHELF), 0.2)), ([], 1))


class BroughtTest(AppCase):
    def brought(self, data=None):
        answer = self.upload(data or package(), "shelf.3mf")
        self.assertEqual(answer.status_code, 201, answer.text)
        return answer.json()["id"]

    def item(self, job_id):
        return self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]

    def keep(self, job_id, words=""):
        answer = self.client.post(f"/jobs/{job_id}/brought?open=1", headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, 422 if words else 200, answer.text)
        self.assertIn(words, answer.text)

    def handed(self, job_id):
        answer = self.client.get(f"/jobs/{job_id}/handoff.3mf")
        self.assertEqual(answer.status_code, 200, answer.text)
        return {o.GetName(): volume(o) for o in read(answer.content)[1]}

    def test_it_is_asked_and_told_before_the_hand_off_and_nothing_is_kept_in_silence(self):
        job_id = self.brought()
        item = self.item(job_id)
        self.assertEqual((item["brought"], item["part"]["brought"]["count"]), ("asked", 3))
        self.assertAlmostEqual(item["part"]["volume_mm3"], 6000, places=2)
        self.settle(job_id)
        page = self.section(job_id, 1)
        self.assertIn("holds 3 supports", page.text("brought"))
        self.assertIn("they are left out", page.text("preflight"))
        self.assertEqual(list(self.handed(job_id)), ["part Shelf"])
        self.change(job_id, "leave-brought")
        self.settle(job_id)
        self.assertNotIn("they are left out", self.section(job_id, 1).text("preflight"))

    def test_kept_they_lift_the_part_and_leave_as_supports(self):
        job_id = self.brought()
        self.keep(job_id)
        self.settle(job_id)
        item = self.item(job_id)
        self.assertEqual((item["brought"], item["stance"]["lift_mm"], item["hand"]["count"]), ("kept", 20, 3))
        page = self.section(job_id, 6)
        self.assertEqual(page.text("support-count"), "3")
        handed = self.handed(job_id)
        posts = sum(facts(mesh_of(post)).volume_mm3 for post in POSTS)
        self.assertAlmostEqual(handed["support of Shelf"], posts, delta=0.02 * posts)
        self.assertAlmostEqual(handed["part Shelf"], 6000, places=1)
        # Turned they do not hold it: they stay behind with the stance, and come back with it.
        self.change(job_id, "turn", x_deg="90")
        self.settle(job_id)
        self.assertEqual(list(self.handed(job_id)), ["part Shelf"])
        self.client.post(f"/jobs/{job_id}/undo")
        self.settle(job_id)
        self.assertIn("support of Shelf", self.handed(job_id))
        self.change(job_id, "leave-brought")
        self.settle(job_id)
        self.assertEqual(list(self.handed(job_id)), ["part Shelf"])

    def test_sized_with_the_part(self):
        job_id = self.brought()
        self.client.post(f"/jobs/{job_id}/size", data={"percent": "50", "together": "true"},
                         headers={"HX-Request": "true"})  # fmt: skip
        self.keep(job_id)
        self.settle(job_id)
        posts = sum(facts(mesh_of(post)).volume_mm3 for post in POSTS) / 8
        self.assertAlmostEqual(self.handed(job_id)["support of Shelf"], posts, delta=0.03 * posts)
        self.assertEqual(self.item(job_id)["stance"]["lift_mm"], 10)

    def test_open_ones_are_told_and_work_by_hand_is_not_lost(self):
        post = mesh_of(POSTS[0])
        holed = type(post)(post.vertices, post.faces[1:])
        objects = [FileObject("shelf", mesh_of(SHELF))]
        objects += [FileObject(n, m, "support") for n, m in (("a", holed), ("b", mesh_of(POSTS[1])))]
        job_id = self.brought(write_3mf(objects, "Shelf"))
        self.keep(job_id)
        step = self.section(job_id, 1).ids["kept"]["title"]
        self.assertEqual(step, "Keep 1 support of the file, 1 with an open surface left out")
        job_id = self.brought()
        self.change(job_id, "supports")
        self.settle(job_id)
        self.change(job_id, "lift", lift_mm="20")
        self.settle(job_id)
        at = {"how": "add", "at": "[20, 0, 20]", "facing": "[0, 0, -1]", "width": "2"}
        answer = self.client.post(f"/jobs/{job_id}/supports/hand", data=at)
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        before = self.item(job_id)["hand"]
        self.keep(job_id, "worked on by hand")
        self.assertEqual(self.item(job_id)["hand"], before)

    def test_where_they_cannot_be_kept_it_is_said(self):
        job_id = self.brought()
        self.change(job_id, "turn", x_deg="90")
        self.keep(job_id, "it has been turned")
        job_id = self.brought()
        self.change(job_id, "printer", printer="Tarn 9")
        self.keep(job_id, "filament printers only")
        plain = self.brought(write_3mf([FileObject("shelf", mesh_of(SHELF))], "Shelf"))
        self.keep(plain, "holds no supports")
        self.assertNotIn("brought", self.section(plain, 1).ids)


if __name__ == "__main__":
    unittest.main()

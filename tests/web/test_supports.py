"""Filament supports through the page: what is held, in which style, patch by patch, and what the check found."""

import contextlib
import io
import json
import tempfile
from pathlib import Path
from unittest import mock

import lib3mf
from manifold3d import Manifold, OpType

from tests.support import box, comb, stl, tee
from tests.web.test_app import AppCase, flat
from upright_heron import cli
from upright_heron.work.bind import keys_of


class SupportsTest(AppCase):
    def sheet(self, job_id):
        return flat(self.client.get(f"/api/jobs/{job_id}").json()["sheet"])

    def made(self, job_id, **fields):
        self.change(job_id, "supports", open=6, gap_mm="0.2", **fields)
        self.settle(job_id)
        return self.section(job_id, 6)

    def styles(self, job_id):
        """Style of each patch as its list shows it, by id."""
        page = self.client.get(f"/jobs/{job_id}/sheet?open=6").text
        found = {}
        for part in page.split('id="style-')[1:]:
            chosen = part.split("selected", 1)[1].split("</option>")[0].split(">", 1)[1]
            found[part[:10]] = chosen
        return found

    def test_each_patch_is_listed_with_its_style_and_checked(self):
        job_id = self.job(stl(comb()))
        page = self.made(job_id)
        self.assertEqual(page.text("support-count"), "3")
        self.assertIn("island 1, overhang 1", page.text("patches"))
        self.assertIn("no-faults", page.ids)
        self.assertEqual(list(self.styles(job_id).values()), ["tree", "tree", "lines"])
        self.assertIn("lines hold it evenly", page.text("patches"))
        hours = page.text("support-time").split(",")
        self.assertNotEqual(hours[0].strip(), hours[1].strip())

    def test_a_style_for_all_and_for_one_patch_and_back(self):
        job_id = self.job(stl(comb()))
        self.made(job_id, style="grid")
        self.assertEqual(set(self.styles(job_id).values()), {"grid"})
        grid = self.section(job_id, 6).text("support-volume")
        patch = next(iter(self.styles(job_id)))
        self.change(job_id, "style-patch", open=6, style="none", name="island 1", **{"patches[]": patch})
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 6).text("support-count"), "2")
        self.assertEqual(self.styles(job_id)[patch], "none")
        # What was chosen for one patch stays when all are made again.
        self.made(job_id, style="lines")
        self.assertEqual(self.styles(job_id)[patch], "none")
        self.assertNotEqual(self.section(job_id, 6).text("support-volume"), grid)
        self.change(job_id, "style-patch", open=6, style="rest", **{"patches[]": patch})
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 6).text("support-count"), "3")
        self.client.post(f"/jobs/{job_id}/undo")
        self.assertEqual(self.sheet(job_id)["supports"]["by_patch"], {patch: "none"})
        self.change(job_id, "style-patch", status=422, open=6, style="stone", **{"patches[]": patch})

    def test_several_patches_are_set_at_once(self):
        job_id = self.job(stl(comb()))
        self.made(job_id)
        patches = list(self.styles(job_id))
        self.change(job_id, "style-patch", open=6, style="tree", origin="plate", **{"patches[]": patches[:2]})
        self.settle(job_id)
        page = self.section(job_id, 6)
        held = self.sheet(job_id)["supports"]
        self.assertEqual(held["by_patch"], dict.fromkeys(patches[:2], "tree"))
        self.assertEqual(held["plate_only"], dict.fromkeys(patches[:2], True))
        self.assertIn("plate only", page.text("patches"))
        self.change(job_id, "style-patch", status=422, open=6, style="tree")

    def test_what_to_hold(self):
        job_id = self.job(stl(comb()))
        self.assertEqual(self.made(job_id, hold="islands and what is painted").text("support-count"), "2")
        page = self.made(job_id, hold="only what is painted")
        self.assertEqual(page.text("support-count"), "0")
        self.assertNotIn("patches", page.ids)

    def test_a_finding_that_is_let_be_is_not_held(self):
        job_id = self.job(stl(tee()))
        self.made(job_id, style="lines")
        patch = sorted(self.styles(job_id))[0]
        self.change(job_id, "accept", open=5, finding=patch, name="overhang 1", note="stays")
        self.settle(job_id)
        self.assertEqual(self.section(job_id, 6).text("support-count"), "1")
        self.assertNotIn(patch, self.styles(job_id))

    def test_what_cannot_be_held_is_said(self):
        cave = box(40, 40, 30) - box(30, 30, 20, (5, 5, 5))
        job_id = self.job(stl(cave))
        page = self.made(job_id, style="tree", from_plate="true")
        self.assertIn("no way down", page.text("faults"))
        self.assertIn("not held", page.text("preflight"))

    def test_the_file_holds_the_volume_that_is_shown(self):
        job_id = self.job(stl(tee()))
        for style in ("lines", "tree"):
            with self.subTest(style):
                self.made(job_id, style=style)
                data = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
                model = lib3mf.Wrapper().CreateModel()
                reader = model.QueryReader("3mf")
                reader.SetStrictModeActive(True)
                reader.ReadFromBuffer(data)
                found = 0.0
                meshes = model.GetMeshObjects()
                while meshes.MoveNext():
                    item = meshes.GetCurrentMeshObject()
                    if item.GetName().startswith("support"):
                        corners = [v.Coordinates for v in item.GetVertices()]
                        for facet in item.GetTriangleIndices():
                            (ax, ay, az), (bx, by, bz), (cx, cy, cz) = (corners[i] for i in facet.Indices)
                            found += (
                                ax * (by * cz - bz * cy) - ay * (bx * cz - bz * cx) + az * (bx * cy - by * cx)
                            ) / 6
                shown = self.section(job_id, 6).text("support-volume")
                number, unit = shown.replace("\u202f", "").split()
                scale = 1000.0 if unit == "cm³" else 1.0
                self.assertAlmostEqual(found / (float(number) * scale), 1, delta=0.03)


def mast_on_a_dish():
    """A slender mast in the middle of a wide plate: from its side no way leads down to the bed."""
    return Manifold.batch_boolean([box(160, 160, 2, (-80, -80, 0)), box(6, 6, 40, (-3, -3, 0))], OpType.Add)


def mast():
    """A mast of 5 mm and 90 mm high with a disc at its top: it has to be kept from shaking."""
    return Manifold.cylinder(90, 2.5, 2.5, 32) + Manifold.cylinder(3, 9, 9, 48).translate((0, 0, 87))


class ShellTest(AppCase):
    def test_the_shell_makes_the_supports_of_the_page(self):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "mast.stl"
            file.write_bytes(stl(mast()))
            words = ["upright-heron", "supports", str(file), "--printer", "Sedge 300", "--json"]
            told = io.StringIO()
            with (
                mock.patch("sys.argv", words),
                contextlib.redirect_stdout(told),
                self.assertRaises(SystemExit),
            ):
                cli.main()
        shell = json.loads(told.getvalue())
        reasons = {patch["reason"].split(" at ")[0] for patch in shell["patches"]}
        self.assertIn("steadying", reasons)
        job_id = self.job(stl(mast()), "mast.stl")
        self.change(job_id, "supports", gap_mm="0.2")
        self.settle(job_id)
        store = self.client.app.state.services.store
        page = store.result(keys_of(store.job(job_id).sheet.on())["supports"])
        self.assertEqual(len(page.supports), shell["count"])
        self.assertAlmostEqual(page.volume_mm3, shell["volume_mm3"], places=3)
        self.assertEqual({patch.id for patch in page.patches}, {patch["id"] for patch in shell["patches"]})


class OneTruthTest(AppCase):
    def fifth(self, job_id):
        return self.client.get(f"/jobs/{job_id}/sheet?open=5").text

    def test_what_is_not_held_is_told_alike_everywhere(self):
        # Posts that steady it may stand on the bed only, and find no way there.
        job_id = self.job(stl(mast_on_a_dish()), "mast.stl")
        held = {"gap_mm": "0.2", "style": "grid", "from_plate": "true"}
        self.change(job_id, "supports", **held, steady="1")
        self.settle(job_id)
        text = self.fifth(job_id)
        self.assertIn("1 not held", text)
        self.assertNotIn("all settled", text)
        self.assertIn('data-family="contact"', text)
        self.assertIn("1 contact", self.client.get(f"/jobs/{job_id}").text)
        # Without those posts nothing is wanting, in any of the places.
        self.change(job_id, "supports", **held, steady="0")
        self.settle(job_id)
        text = self.fifth(job_id)
        self.assertNotIn("not held</span>", text)
        self.assertNotIn('data-family="contact"', text)

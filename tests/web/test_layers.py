"""Section 8 on a resin machine: how layers are made, the mask of a layer, and masks and slices of a plate."""

import io
import json
import unittest
import zipfile

import numpy as np
from PIL import Image

from tests.core.test_slices import sliced
from tests.support import box, stl
from tests.web.test_app import AppCase
from upright_heron.core.toolpaths.process_table import COLUMNS, Stretch, from_csv
from upright_heron.sheet.shop import OwnPrinter

HX = {"HX-Request": "true"}
NAMES = ("layers", "exposure_s", "lift_mm", "lift_mm_s", "return_mm_s", "wait_before_s", "wait_after_s")


class LayersTest(AppCase):
    def setUp(self):
        # 12 x 6 x 3 mm, on the plate: sixty layers of 0.05 mm.
        answer = self.upload(stl(box(12, 6, 3)), "slab.stl", "Tarn 9", "Standard resin")
        self.id = answer.json()["id"]
        self.change(self.id, "lift", lift_mm="0")

    def cells(self, first, between, body, thick=("0.005", "0.5"), status=200):
        """Type the whole table, stretch by stretch."""
        order = [one[k] for k in range(len(NAMES)) for one in (first, between, body)]
        answer = self.client.post(
            f"/jobs/{self.id}/table/cells?open=8", data={"cell": [*order, *thick]}, headers=HX
        )
        self.assertEqual(answer.status_code, status, answer.text)
        return answer

    def process(self):
        return self.client.get(f"/api/jobs/{self.id}").json()["sheet"]["process"]

    def table(self):
        answer = self.client.get(f"/jobs/{self.id}/table.csv")
        self.assertIn("text/csv", answer.headers["content-type"])
        return from_csv(answer.text)

    FIRST = ("4", "28", "8", "1", "2", "1", "0,5")
    BETWEEN = ("6", "", "6", "2", "4", "0", "0")
    BODY = ("", "2.2", "5", "2", "4", "0", "0")

    def test_time_goes_by_what_is_typed(self):
        self.settle(self.id)
        page = self.section(self.id, 8)
        self.assertIn("As usual for Standard resin", page.text("table-told"))
        self.assertNotIn("usual-table", page.ids)
        self.cells(self.FIRST, self.BETWEEN, self.BODY)
        rows = {row.stretch: row for row in self.table()}
        self.assertEqual((rows[Stretch.FIRST].layers, rows[Stretch.FIRST].wait_after_s), (4, 0.5))
        self.assertEqual((rows[Stretch.TRANSITION].layers, rows[Stretch.TRANSITION].exposure_s), (6, None))
        self.assertEqual((rows[Stretch.BODY].exposure_s, rows[Stretch.BODY].lift_mm), (2.2, 5.0))
        self.settle(self.id)
        page = self.section(self.id, 8)
        self.assertIn("From a table", page.text("table-told"))
        self.assertEqual(page.ids["cell-layers-1"]["value"], "6")
        # By hand: 4 first layers, 6 whose exposures fall evenly (their mean is that of both ends), 50 more.
        seconds = 4 * (28 + 1.5 + 8 + 4) + 6 * ((28 + 2.2) / 2 + 3 + 1.5) + 50 * (2.2 + 2.5 + 1.25)
        told = page.text("rough-time")
        self.assertEqual(told, f"{round(seconds / 60)} min", seconds)
        # Undone with the press beside it.
        self.change(self.id, "table")
        self.assertEqual(self.process()["table"], [])

    def test_a_transition_of_no_layers_is_none(self):
        self.cells(self.FIRST, ("0", *self.BETWEEN[1:]), self.BODY)
        self.assertEqual({row.stretch for row in self.table()}, {Stretch.FIRST, Stretch.BODY})

    def test_what_makes_no_sense_is_refused_and_nothing_is_lost(self):
        self.cells(self.FIRST, self.BETWEEN, self.BODY)
        before = self.process()
        for body, word in (
            (("", "x", *self.BODY[2:]), "exposure_s"),
            (("", "2", "-5", *self.BODY[3:]), "lift_mm"),
        ):
            self.assertIn(word, self.cells(self.FIRST, self.BETWEEN, body, status=422).text)
        answer = self.client.post(f"/jobs/{self.id}/table/cells?open=8", data={"cell": ["1"] * 5}, headers=HX)
        self.assertEqual(answer.status_code, 422)
        # Rows that are not for the layers of this job.
        self.assertIn("0.05 mm", self.cells(self.FIRST, self.BETWEEN, self.BODY, ("0.1", "0.2"), 422).text)
        for file, word in (
            (b"", "no row"),
            (b"\xff\xfe\x00", "no text"),
            (b"stretch,colour", "column"),
            (b"x" * 50_000, "too long"),
        ):
            answer = self.client.post(
                f"/jobs/{self.id}/table?open=8", files={"file": ("t.csv", file)}, headers=HX
            )
            self.assertEqual(answer.status_code, 422)
            self.assertIn(word, answer.text)
        self.assertEqual(self.process(), before)

    def test_a_file_is_read_and_its_rows_for_other_layers_stay(self):
        lines = [",".join(COLUMNS), "body,,0.03,0.06,2.4,6,2,2,0,0", "body,,0.06,0.12,3.6,6,2,2,0,0"]
        answer = self.client.post(
            f"/jobs/{self.id}/table?open=8", files={"file": ("t.csv", "\n".join(lines))}, headers=HX
        )
        self.assertEqual(answer.status_code, 200, answer.text)
        self.assertIn("1 row for other layers", self.section(self.id, 8).text("table-told"))
        self.cells(self.FIRST, self.BETWEEN, self.BODY, ("0.03", "0.06"))
        self.assertEqual({row.is_for for row in self.table()}, {(0.03, 0.06), (0.06, 0.12)})
        self.assertEqual(len(self.table()), 4)
        # Layers that no row is for are made as usual, and that is said.
        self.change(self.id, "layer", layer_mm="0.02")
        self.assertIn("no rows for layers of 0.02 mm", self.section(self.id, 8).text("table-told"))
        self.change(self.id, "material", material="Tough resin")
        self.assertEqual(self.process()["table"], [])
        # Nor does a table go to another machine.
        self.change(self.id, "table", csv="\n".join(lines[:2]), status=422)
        self.change(self.id, "layer", layer_mm="0.05")
        self.change(self.id, "table", csv="\n".join(lines[:2]))
        self.assertEqual(len(self.process()["table"]), 1)
        self.change(self.id, "printer", printer="Mere 13")
        self.assertEqual(self.process()["table"], [])

    def test_the_mask_of_a_layer_and_those_of_the_plate_are_the_same(self):
        self.change(self.id, "outlines", outline_mm="-0.1", first_outline_mm="-0.25")
        self.change(self.id, "place", x_mm="10", y_mm="-7", swing_deg="90")
        answer = self.client.get(f"/jobs/{self.id}/masks.zip")
        self.assertEqual(answer.status_code, 200, answer.text)
        with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
            told = json.loads(archive.read("manifest.json"))
            seen = {k: np.asarray(Image.open(io.BytesIO(archive.read(f"{k:05d}.png")))) for k in (1, 30)}
        self.assertEqual(len(told["layers"]), 60)
        # 0.25 mm less at each side in the five first layers, then 0.1 mm.
        for k, area in ((0, 11.5 * 5.5), (4, 11.5 * 5.5), (5, 11.8 * 5.8), (59, 11.8 * 5.8)):
            self.assertAlmostEqual(told["layers"][k]["area_mm2"], area, delta=0.01)
        self.assertEqual([told["layers"][k]["exposure_s"] for k in (4, 5)], [30.0, 2.5])
        pixel = told["pixel_mm"]
        for k, half in ((1, (2.75, 5.75)), (30, (2.9, 5.9))):
            rows, columns = np.nonzero(seen[k] > 127)
            x = (columns + 0.5) * pixel - told["width_px"] * pixel / 2
            y = told["height_px"] * pixel / 2 - (rows + 0.5) * pixel
            # Swung by a quarter it is 6 wide and 12 deep.
            for found, want in zip(
                (x.min(), x.max(), y.min(), y.max()),
                (10 - half[0], 10 + half[0], -7 - half[1], -7 + half[1]),
                strict=True,
            ):
                self.assertAlmostEqual(found, want, delta=pixel)
            one = self.client.get(f"/jobs/{self.id}/mask.png?layer={k - 1}&x=10&y=-7&swing=90")
            left, bottom, wide, deep = (int(v) for v in one.headers["X-Window"].split(","))
            top = told["height_px"] - bottom - deep
            there = seen[k][top : top + deep, left : left + wide]
            np.testing.assert_array_equal(np.asarray(Image.open(io.BytesIO(one.content))), there)
            self.assertEqual(int(there.astype(int).sum()), int(seen[k].astype(int).sum()))
        self.assertEqual(self.client.get(f"/jobs/{self.id}/mask.png?layer=60").status_code, 422)
        answer = self.client.get(f"/jobs/{self.id}/slices.3mf")
        _, _, ((_, tops, sizes),) = sliced(answer.content)
        self.assertAlmostEqual(tops[-1], 3.0, places=5)
        np.testing.assert_allclose(sizes, [line["area_mm2"] for line in told["layers"]], atol=0.01)

    def test_a_screen_of_few_greys_gets_no_others(self):
        self.client.post("/machines/printers/copy", data={"name": "Tarn 9"})
        store = self.app.state.services.store
        store.shelve(store.on_shelf(OwnPrinter, "Tarn 9 copy").model_copy(update={"greys": 4}))
        self.change(self.id, "printer", printer="Tarn 9 copy")
        self.change(self.id, "place", x_mm="0.013", y_mm="0.021", swing_deg="20")
        answer = self.client.get(f"/jobs/{self.id}/masks.zip")
        with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
            self.assertEqual(json.loads(archive.read("manifest.json"))["levels"], 4)
            seen = np.unique(np.asarray(Image.open(io.BytesIO(archive.read("00030.png")))))
        self.assertEqual(seen.tolist(), [0, 85, 170, 255])

    def test_a_filament_machine_has_neither(self):
        job_id = self.upload(stl(box(12, 6, 3)), "slab.stl", "Sedge 300", "PLA").json()["id"]
        for path in ("mask.png?layer=0", "masks.zip", "slices.3mf", "table.csv"):
            self.assertEqual(self.client.get(f"/jobs/{job_id}/{path}").status_code, 422, path)
        page = self.section(job_id, 8)
        self.assertNotIn("show-mask", page.ids)
        self.assertNotIn("process-table", page.ids)
        self.assertEqual(self.client.get(f"/jobs/{self.id}/masks.zip?plate=2").status_code, 422)


if __name__ == "__main__":
    unittest.main()

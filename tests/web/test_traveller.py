"""The sheet of paper that goes with a plate, read back by other libraries."""

import io
import zipfile

import numpy as np
import pypdfium2
import zxingcpp
from PIL import Image

from tests.core.test_threemf import read
from tests.support import box, stl
from tests.web.test_app import AppCase

HTMX = {"HX-Request": "true"}


class TravellerTest(AppCase):
    def pdf(self, job_id, query=""):
        answer = self.client.get(f"/jobs/{job_id}/traveller.pdf{query}")
        self.assertEqual((answer.status_code, answer.headers["content-type"]), (200, "application/pdf"))
        return pypdfium2.PdfDocument(answer.content)

    def test_a_page_that_says_all_and_a_code_that_opens_the_job(self):
        job_id = self.job(stl(box(60, 20, 4)), name="perch bracket.stl")
        self.change(job_id, "copies", open=9, count="3")
        self.change(job_id, "notes", open=9, notes="Mind the beak.")
        sent = self.client.post(
            f"/jobs/{job_id}/plates/1/run-notes?open=9",
            data={"text": "Glue stick on the glass."},
            headers=HTMX,
        )
        self.assertIn("Glue stick on the glass.", sent.text)
        document = self.pdf(job_id)
        self.assertEqual(len(document), 1)
        text = document[0].get_textpage().get_text_range()
        for words in ("perch bracket", "Traveller of plate 1 of 1", "Sedge 300", "× 3", "60 × 20 × 4 mm",
                      "Mind the beak.", "On the Sedge 300 with PLA", "Glue stick on the glass.",
                      "first layer looked at", "Record of the run"):  # fmt: skip
            self.assertIn(words, text)
        # What a camera would read off the paper.
        seen = document[0].render(scale=3).to_pil()
        (code,) = zxingcpp.read_barcodes(np.asarray(seen.convert("RGB")))
        item = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]["id"]
        self.assertEqual(code.text, f"http://localhost/jobs/{job_id}?item={item}&open=9")
        self.assertEqual(self.client.get(code.text).status_code, 200)
        # Boxes to tick are drawn, and so is the part: not all of the page is white.
        self.assertGreater((np.asarray(seen.convert("L")) < 200).mean(), 0.02)
        # Another job on the same machine with the same material reads the same notes; one elsewhere does not.
        other = self.job(stl(box(20, 20, 4)))
        self.assertIn("Glue stick", self.client.get(f"/jobs/{other}/traveller").text)
        self.change(other, "material", open=2, material="PETG")
        self.assertNotIn("Glue stick", self.client.get(f"/jobs/{other}/traveller").text)

    def test_what_is_wrong_is_on_it_though_nobody_had_looked(self):
        job_id = self.job(stl(box(20, 20, 400)))
        text = self.pdf(job_id)[0].get_textpage().get_text_range()
        self.assertIn("Too long by 60.0 mm along z", text)

    def test_it_is_named_and_told_as_its_plate_is(self):
        job_id = self.job(stl(box(20, 20, 400)), name="mast.stl")
        self.change(job_id, "copies", open=9, count="2")
        first = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"][0]["id"]
        more = self.client.post(f"/api/jobs/{job_id}/items?name=foot.stl", content=stl(box(30, 30, 5)))
        other = more.json()["sheet"]["items"][-1]["id"]
        moved = self.client.post(
            f"/jobs/{job_id}/changes/place?open=9&item={other}", data={"plate": "2"}, headers=HTMX
        )
        self.assertEqual(moved.status_code, 200)
        told = {}
        for item in (first, other):
            answer = self.client.get(f"/jobs/{job_id}/traveller.pdf?item={item}")
            name = answer.headers["content-disposition"].split("''")[1]
            text = pypdfium2.PdfDocument(answer.content)[0].get_textpage().get_text_range()
            told[name] = "Too long by 60.0 mm" in text
        # What is wrong with the mast is nothing to mind on the plate of the other.
        names = [f"Mast-0.2mm-3walls-15pc-PLA-plate-{k}-of-2-traveller.pdf" for k in (1, 2)]
        self.assertEqual(told, dict(zip(names, (True, False), strict=True)))

    def test_many_items_stay_on_one_page(self):
        job_id = self.job(stl(box(20, 20, 4)))
        for k in range(29):
            body = stl(box(20, 20, 5 + k))
            answer = self.client.post(f"/api/jobs/{job_id}/items?name=plank{k}.stl", content=body)
            self.assertEqual(answer.status_code, 201, answer.text[:300])
        document = self.pdf(job_id)
        self.assertEqual(len(document), 1)
        self.assertIn("And 18 more", document[0].get_textpage().get_text_range())

    def test_a_picture_of_the_plate_is_in_its_3mf(self):
        job_id = self.job(stl(box(60, 20, 4)))
        data = self.client.get(f"/jobs/{job_id}/handoff.3mf").content
        model, _ = read(data)
        self.assertTrue(model.HasPackageThumbnailAttachment())
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            kept = package.read("Metadata/thumbnail.png")
        shown = self.client.get(f"/jobs/{job_id}/plates/1/plate.png")
        self.assertEqual((shown.headers["content-type"], shown.content), ("image/png", kept))
        image = Image.open(io.BytesIO(kept))
        self.assertEqual(image.size, (320, 220))
        # Where the part is moved to, it is in the picture.
        self.change(job_id, "place", open=9, x_mm="-100", y_mm="0")
        moved = Image.open(io.BytesIO(self.client.get(f"/jobs/{job_id}/plates/1/plate.png").content))
        part = [np.nonzero(_blue(one))[1].mean() for one in (image, moved)]
        self.assertLess(part[1], part[0] - 20)
        self.assertEqual(self.client.get(f"/jobs/{job_id}/plates/2/plate.png").status_code, 422)


def _blue(image):
    """Where a picture shows a part: bluish, which neither the plate nor supports are."""
    pixels = np.asarray(image.convert("RGBA")).astype(int)
    return (pixels[..., 3] > 128) & (pixels[..., 2] > pixels[..., 0] + 12)

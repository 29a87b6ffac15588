"""Rows that cannot be read, databases that are locked and disks that are full, as pages tell of them."""

import contextlib
import errno
import io
import json
import sqlite3
import tempfile
import unittest
import unittest.mock
import zipfile
from pathlib import Path

from tests.support import box, stl
from tests.web.test_app import AppCase

HTMX = {"HX-Request": "true"}


class TroubleTest(AppCase):
    alone = True

    @classmethod
    def setUpClass(cls):
        # Nobody waits for ten seconds here.
        with unittest.mock.patch("upright_heron.store.database.LOCKED_S", 0.3):
            super().setUpClass()
        cls.store = cls.app.state.services.store

    def raw(self, *statement):
        with contextlib.closing(sqlite3.connect(self.store.path)) as raw:
            raw.execute(*statement)
            raw.commit()

    def test_a_job_that_cannot_be_read_is_a_card_with_its_steps(self):
        sound, broken = self.job(stl(box(10, 10, 3)), "sound.stl"), self.job(stl(box(11, 10, 3)), "torn.stl")
        self.change(broken, "rename", name="Torn one")
        self.raw("UPDATE step SET sheet = '{' WHERE job_id = ? AND number = 2", (broken,))
        self.store._sheets.clear()
        page = self.client.get("/")
        self.assertEqual(page.status_code, 200)
        self.assertIn(f'data-broken="{broken}"', page.text)
        self.assertIn("Torn one", page.text)
        self.assertIn(f"/jobs/{sound}", page.text)
        listed = self.client.get("/api/jobs").json()
        self.assertEqual({sound, broken} & {one["id"] for one in listed}, {sound})
        self.refused(self.client.get(f"/api/jobs/{broken}"), 422, "Torn one", "cannot be read")
        alone = self.client.get(f"/jobs/{broken}")
        self.assertEqual(alone.status_code, 422)
        self.assertIn("Torn one", alone.text)
        self.assertNotIn("did not foresee", alone.text)
        # All that there is of it leaves as it is kept.
        archive = self.client.get(f"/jobs/{broken}/whole.heron")
        with zipfile.ZipFile(io.BytesIO(archive.content)) as folder:
            (kept,) = json.loads(folder.read("contents.json"))["jobs"]
        self.assertEqual([step["sheet"][:1] for step in kept["steps"]], ["{", "{"])
        self.assertIn('"name"', kept["steps"][0]["sheet"])
        back = self.client.post(f"/jobs/{broken}/step-back", headers=HTMX)
        self.assertIn("is back at step 1", back.text)
        self.assertNotIn("data-broken", back.text)
        self.assertEqual(self.client.get(f"/jobs/{broken}").status_code, 200)

    def test_a_change_that_names_what_is_not_here_is_refused(self):
        job_id = self.job(stl(box(13, 10, 3)))
        (item,) = self.client.get(f"/api/jobs/{job_id}").json()["sheet"]["items"]
        of = {"job": "other", "step": 1, "name": "Other", "layer_mm": 0.2}

        def bring(**part):
            brought = {"item": {**item, "part": {**item["part"], **part}}}
            body = {"kind": "bring", "of": of, "technology": "filament", "items": [brought]}
            return self.client.post(f"/api/jobs/{job_id}/changes", json=body)

        self.refused(bring(mesh="0123456789abcdef" * 2), 422, "0123456789abcdef", "is not here")
        self.assertEqual(self.client.get(f"/jobs/{job_id}").status_code, 200)
        self.assertEqual(self.client.get(f"/api/jobs/{job_id}").json()["step"], 1)
        # What is here may be named.
        answer = bring(file_name="again.stl")
        self.assertEqual(answer.status_code, 200, answer.text)

    def test_a_locked_database_is_told_and_pages_go_on(self):
        job_id = self.job(stl(box(12, 10, 3)))
        self.settle(job_id)
        with contextlib.closing(sqlite3.connect(self.store.path, isolation_level=None)) as other:
            other.execute("BEGIN IMMEDIATE")
            for path in ("/", f"/jobs/{job_id}", "/machines", "/record"):
                self.assertEqual(self.client.get(path).status_code, 200)
            refused = self.client.post(
                f"/jobs/{job_id}/changes/rename?open=1", data={"name": "B"}, headers=HTMX
            )
            self.assertEqual(refused.status_code, 503)
            self.assertIn("is locked by another program", refused.text)
            other.execute("ROLLBACK")
        self.change(job_id, "rename", name="B")

    def test_a_full_disk_is_told_wherever_it_shows(self):
        full = OSError(errno.ENOSPC, "No space left on device", "/tmp/x")
        # Forms and files are put down in folders for what comes in; results and steps in the database.
        with unittest.mock.patch("starlette.formparsers.SpooledTemporaryFile", side_effect=full):
            answer = self.client.post("/record/any/photo", files={"file": ("a.jpg", b"x")}, headers=HTMX)
        self.assertEqual(answer.status_code, 503, answer.text[:300])
        self.assertIn("no room left on the disk", answer.text)
        with unittest.mock.patch.object(tempfile, "TemporaryDirectory", side_effect=full):
            self.refused(self.upload(stl(box(3, 3, 3))), 503, "no room left on the disk")
        with unittest.mock.patch.object(self.store, "create_job", side_effect=full):
            self.refused(self.upload(stl(box(3, 4, 3))), 503, "no room left on the disk")
        other = OSError(errno.EIO, "Input/output error")
        with (
            unittest.mock.patch.object(self.store, "create_job", side_effect=other),
            self.assertLogs("upright_heron", "ERROR"),
        ):
            self.refused(self.upload(stl(box(3, 5, 3))), 500, "did not foresee")
        self.assertTrue(Path(self.store.path).is_file())


if __name__ == "__main__":
    unittest.main()

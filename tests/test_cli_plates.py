"""The shell lays parts on plates, and looks jobs in a file through."""

import contextlib
import json
import sqlite3
import unittest

import numpy as np
import shapely
import shapely.affinity
import trimesh

from tests.core.test_threemf import read
from tests.support import box, stl, tee
from tests.test_cli import CliCase
from upright_heron.sheet.changes import MakeCopies, PlaceOnPlate
from upright_heron.store.store import Store
from upright_heron.work.intake import new_sheet, take_in


class ArrangeTest(CliCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        (cls.folder / "angle.stl").write_bytes(stl(box(60, 12, 5) + box(12, 60, 5)))
        (cls.folder / "bar.stl").write_bytes(stl(box(80, 20, 5)))
        (cls.folder / "long.stl").write_bytes(stl(box(310, 20, 5)))
        (cls.folder / "tall.stl").write_bytes(stl(box(20, 20, 350)))

    def shapes(self, told):
        """Plans of all parts where they are said to be, by another library, plate by plate."""
        for plate in told["plates"]:
            some = []
            for one in plate["items"]:
                mesh = trimesh.load(one["file"])
                plan = shapely.union_all([shapely.Polygon(t[:, :2]).buffer(0) for t in mesh.triangles])
                x, y = mesh.bounds.mean(axis=0)[:2]
                plan = shapely.affinity.translate(plan, -x, -y)
                plan = shapely.affinity.rotate(plan, one["turn_deg"], origin=(0, 0))
                some.append(shapely.affinity.translate(plan, one["x_mm"], one["y_mm"]))
            yield some, plate["utilisation"]

    def test_gaps_and_utilisation_are_as_told(self):
        out = self.folder / "plates"
        told = self.answer("arrange", "angle.stl", "bar.stl", "--printer", "Sedge 300", "--gap", "4",
                           "--copies", "20", "--out", str(out))  # fmt: skip
        self.assertEqual(sorted(told), ["least_gap_mm", "plates", "printer"])
        self.assertEqual(sum(len(plate["items"]) for plate in told["plates"]), 40)
        self.assertEqual({tuple(sorted(i)) for p in told["plates"] for i in p["items"]},
                         {("file", "turn_deg", "x_mm", "y_mm")})  # fmt: skip
        least = np.inf
        for some, share in self.shapes(told):
            for k, a in enumerate(some):
                self.assertLessEqual(np.abs(a.bounds).max(), 150.0 + 1e-6)
                least = min([least, *(a.distance(b) for b in some[k + 1 :])])
            self.assertAlmostEqual(share, sum(one.area for one in some) / 300**2, places=3)
        self.assertGreaterEqual(least, 4.0 - 1e-6)
        # Outlines are thinned by so much before they are measured.
        self.assertAlmostEqual(told["least_gap_mm"], least, delta=0.04)
        files = sorted(out.glob("*.3mf"))
        self.assertEqual(len(files), len(told["plates"]))
        _, objects = read(files[0].read_bytes())
        self.assertEqual(len(objects), len(told["plates"][0]["items"]))

    def test_boxes_turning_and_a_tighter_way(self):
        quarters = self.answer("arrange", "angle.stl", "--copies", "12")
        boxes = self.answer("arrange", "angle.stl", "--copies", "12", "--boxes", "--turning", "none")
        self.assertEqual({one["turn_deg"] for p in boxes["plates"] for one in p["items"]}, {0})
        self.assertGreater(len({one["turn_deg"] for p in quarters["plates"] for one in p["items"]}), 1)
        tight = self.answer(
            "arrange", "angle.stl", "bar.stl", "--copies", "4", "--tighter", "2", "--edge", "5"
        )
        for some, _ in self.shapes(tight):
            self.assertTrue(all(np.abs(one.bounds).max() <= 145.0 for one in some))

    def test_what_fits_no_plate_is_refused(self):
        for name in ("long.stl", "tall.stl"):
            self.assertIn(f"{name}: too large for Sedge 300", self.refused("arrange", name, "bar.stl"))
        self.assertIn("A gap is", self.refused("arrange", "bar.stl", "--gap", "-1"))


class JobsTest(CliCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        store = Store(cls.folder / "shop.sqlite3")
        cls.job = store.create_job(new_sheet(take_in(stl(tee()), "tee.stl", store), "Tee"), "Take in").id
        store.apply(cls.job, MakeCopies(count=2))
        for copy in (1, 2):
            store.apply(cls.job, PlaceOnPlate(x_mm=0, y_mm=0, copy_number=copy))
        store.close()

    def test_a_job_leaves_comes_in_and_is_looked_through(self):
        file = self.folder / "tee.heron"
        database = ("--database", str(self.folder / "shop.sqlite3"))
        told = self.answer("export-job", self.job, "--out", str(file), *database)
        self.assertEqual((told["bytes"], told["jobs"]), (file.stat().st_size, 1))
        came = self.answer("import-job", "tee.heron", "--database", str(self.folder / "new.sqlite3"))
        jobs = [{"was": self.job, "id": self.job}]
        self.assertEqual(came, {"jobs": jobs, "shelved": 0, "prints": 0, "unreadable": []})
        store = Store(self.folder / "new.sqlite3")
        self.addCleanup(store.close)
        self.assertEqual(store.job(self.job).step, 4)
        found = self.answer("preflight", "tee.heron")
        (job,) = found["jobs"]
        self.assertEqual((job["job"], job["name"], job["plates"]), (self.job, "Tee", 1))
        texts = [check["text"] for check in job["checks"]]
        self.assertIn("Copy 1: it crosses another on the plate.", texts)
        self.assertTrue(any("not held" in text for text in texts), texts)
        self.assertTrue(any("Nobody chose" in text for text in texts), texts)
        self.assertEqual(found["wrong"], sum(c["weight"] == "wrong" for c in job["checks"]))
        self.assertGreaterEqual(found["wrong"], 1)
        # What is wrong comes first.
        weights = [check["weight"] for check in job["checks"]]
        self.assertEqual(weights, sorted(weights, key=lambda one: one != "wrong"))

    def test_a_job_that_cannot_be_read_is_told_with_its_way_back(self):
        database = self.folder / "torn.sqlite3"
        store = Store(database)
        ids = [
            store.create_job(new_sheet(take_in(stl(box(20, 20, 2)), "box.stl", store), name), "Take in").id
            for name in ("Sound", "Torn")
        ]
        store.close()
        with contextlib.closing(sqlite3.connect(database)) as raw:
            raw.execute("UPDATE step SET sheet = '{' WHERE job_id = ?", (ids[1],))
            raw.commit()
        self.answer("export-job", "--out", str(self.folder / "torn.heron"), "--database", str(database))
        came = self.answer("import-job", "torn.heron", "--database", str(self.folder / "fresh.sqlite3"))
        self.assertEqual((len(came["jobs"]), came["unreadable"]), (2, [ids[1]]))
        found = {job["name"]: job["checks"] for job in self.answer("preflight", "torn.heron")["jobs"]}
        self.assertIn("cannot be read", found["Torn"][0]["text"])
        self.assertNotIn("cannot be read", str(found["Sound"]))

    def test_the_file_of_each_plate_is_written_and_read_back(self):
        database = str(self.folder / "edge.sqlite3")
        store = Store(self.folder / "edge.sqlite3")
        job = store.create_job(new_sheet(take_in(stl(box(20, 20, 2)), "box.stl", store), "Box"), "Take in").id
        files = []
        for name, x in (("good.heron", 0), ("edge.heron", 149)):
            store.apply(job, PlaceOnPlate(x_mm=x, y_mm=0))
            self.answer("export-job", job, "--out", str(self.folder / name), "--database", database)
            (told,) = self.answer("preflight", name)["jobs"]
            files.append([(c["weight"], c["plate"]) for c in told["checks"] if "G-code refused" in c["text"]])
        store.close()
        self.assertEqual(files, [[], [("wrong", 1)]])

    def test_what_is_no_archive_is_refused(self):
        (self.folder / "no.heron").write_bytes(json.dumps({"a": 1}).encode())
        self.assertIn("no archive", self.refused("preflight", "no.heron"))
        self.assertIn("cannot be read", self.refused("import-job", "missing.heron"))
        self.assertIn("no such job", self.refused("export-job", "nothing", "--out", "x.heron", "--database",
                                                  str(self.folder / "shop.sqlite3")))  # fmt: skip


if __name__ == "__main__":
    unittest.main()

"""Whole jobs in a file: every step and every key come back, and what is damaged is refused whole."""

import contextlib
import dataclasses
import hashlib
import io
import json
import sqlite3
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np

from tests.store.test_store import StoreCase
from tests.support import box, stl, tee
from upright_heron.core.errors import BadValue
from upright_heron.core.graph import GRAPH
from upright_heron.sheet.changes import MakeCopies, Rename, SetLayer, Turn
from upright_heron.sheet.part import PaintedMarks
from upright_heron.sheet.shop import Finished, Habits, Spool, Station
from upright_heron.store import archive
from upright_heron.store.archive import read_archive, write_archive
from upright_heron.store.codec import encode
from upright_heron.store.database import NotFound
from upright_heron.store.models import BlobRow, JobRow, StepRow
from upright_heron.store.prints import NewPrint, Stage
from upright_heron.store.store import Broken, Store
from upright_heron.work.bind import keys_of, plate_keys
from upright_heron.work.intake import new_sheet, take_in


def _blake(data):
    return hashlib.blake2b(data, digest_size=16).hexdigest()


class ArchiveTest(StoreCase):
    def setUp(self):
        super().setUp()
        part = take_in(stl(tee()), "tee.stl", self.store)
        job = self.store.create_job(new_sheet(part, "Tee"), "Take in")
        self.store.apply(job.id, SetLayer(layer_mm=0.12), author="page a")
        marks = np.arange(part.facets, dtype=np.uint8) % 3
        kept = self.store.keep_marks(marks)
        painted = PaintedMarks(digest=kept, of=part.mesh, prop_mm2=4.0, demand=kept)
        turned = self.store.apply(job.id, Turn(x_deg=90))
        sheet = turned.sheet.model_copy(
            update={"items": (turned.sheet.items[0].model_copy(update={"marks": painted}),)}
        )
        with self.store.session(write=True) as s:
            s.get(StepRow, turned.step_id).sheet = sheet.model_dump_json()
        self.store.close()
        self.store = Store(self.path)
        # A branch that was undone, and one that is shown.
        self.store.apply(job.id, Rename(name="Undone"))
        self.store.undo(job.id)
        self.store.apply(job.id, MakeCopies(count=3))
        self.job_id = job.id
        self.other = Store(self.path.with_name("other.sqlite3"))
        self.addCleanup(self.other.close)

    def written(self, jobs=None, store=None):
        out = io.BytesIO()
        write_archive(store or self.store, out, jobs)
        return out.getvalue()

    def rows(self, store, model):
        with store.session() as s:
            return s.query(model).count()

    def test_a_job_comes_back_with_every_key_and_every_step(self):
        data = self.written([self.job_id])
        taken = read_archive(self.other, io.BytesIO(data))
        self.assertEqual(taken.jobs, {self.job_id: self.job_id})
        here, there = self.store.job(self.job_id), self.other.job(self.job_id)
        self.assertEqual(there.sheet, here.sheet)
        self.assertEqual((there.step, there.label, there.touched), (here.step, here.label, here.touched))
        walked = 0
        while True:
            mine, theirs = (keys_of(job.sheet.on()) for job in (here, there))
            self.assertEqual(*({name: keys.get(name) for name in GRAPH} for keys in (mine, theirs)))
            self.assertEqual(plate_keys(here.sheet)["arranged"], plate_keys(there.sheet)["arranged"])
            if not here.can_undo:
                break
            here, there = (store.undo(self.job_id) for store in (self.store, self.other))
            self.assertEqual((there.sheet, there.label, there.item), (here.sheet, here.label, here.item))
            walked += 1
        self.assertEqual((walked, there.can_undo), (3, False))
        mesh = here.sheet.items[0].part.mesh
        self.assertEqual((self.other.mesh(mesh).digest, self.store.mesh(mesh).digest), (mesh, mesh))
        for _ in range(3):
            there = self.other.redo(self.job_id)
        self.assertEqual(len(there.sheet.plates[0].instances), 3)
        with self.other.session() as s:
            self.assertEqual(sorted(row.author for row in s.query(StepRow)), ["", "", "", "", "page a"])
            self.assertTrue(any("Undone" in row.label for row in s.query(StepRow)))

    def test_what_is_written_again_is_the_same_file(self):
        data = self.written([self.job_id])
        self.assertEqual(self.written([self.job_id]), data)
        read_archive(self.other, io.BytesIO(data))
        self.assertEqual(self.written([self.job_id], self.other), data)

    def test_the_step_that_was_shown_is_shown(self):
        self.store.undo(self.job_id)
        shown = self.store.undo(self.job_id)
        read_archive(self.other, io.BytesIO(self.written([self.job_id])))
        there = self.other.job(self.job_id)
        self.assertEqual((there.step, there.label, there.can_redo), (shown.step, shown.label, True))

    def test_a_job_that_is_there_already_comes_in_beside_it(self):
        data = self.written([self.job_id])
        (new,) = read_archive(self.store, io.BytesIO(data)).jobs.values()
        self.assertNotEqual(new, self.job_id)
        self.store.apply(new, Rename(name="Another"))
        self.assertEqual(self.store.job(self.job_id).sheet.name, "Tee")
        self.assertEqual(self.store.job(new).sheet.name, "Another")

    def test_the_whole_shop(self):
        part = take_in(stl(box(5, 6, 7)), "box.stl", self.store)
        second = self.store.create_job(new_sheet(part, "Box"), "Take in")
        self.store.put(second.id, "archived")
        self.store.shelve(Habits(join_minutes=9))
        self.other.shelve(Habits(join_minutes=2))
        self.store.shelve(Finished(name="Sedge 300", ratios=(1.1,)))
        self.store.shelve(Station(name="Left", model="Sedge 300", url="http://127.0.0.1:1"))
        blue = Spool(name="Blue", material="PLA", technology="filament", left_g=300, on="Left")
        self.store.shelve(blue)
        taken = read_archive(self.other, io.BytesIO(self.written()))
        self.assertEqual(set(taken.jobs.values()), {self.job_id, second.id})
        self.assertEqual(self.other.job(second.id).state, "archived")
        # What the shelf here says stays; what it lacked came.
        self.assertEqual((self.other.on_shelf(Habits, "shop").join_minutes, taken.shelved), (2, 2))
        # Spools go along, off the machine that stays behind.
        self.assertEqual(self.other.shelf(Spool), [blue.model_copy(update={"on": ""})])
        self.assertEqual(self.other.on_shelf(Finished, "Sedge 300").ratios, (1.1,))
        # Where machines are spoken to is never taken from a file, whatever is in it.
        self.assertEqual(self.other.shelf(Station), [])
        url = {
            "kind": "station",
            "name": "X",
            "data": '{"name": "X", "model": "M", "url": "http://203.0.113.9"}',
        }
        read_archive(self.other, io.BytesIO(self.contents(lambda told: told.update(shelf=[url]))))
        self.assertEqual(self.other.shelf(Station), [])
        bad = {"kind": "preset", "name": "x", "data": "{}"}
        with self.assertRaisesRegex(BadValue, "shelf of the archive"):
            read_archive(self.other, io.BytesIO(self.contents(lambda told: told.update(shelf=[bad]))))
        with self.assertRaises(NotFound):
            self.written(["nothing"])

    def test_nothing_else_of_the_shop_leaves_with_a_job(self):
        part = take_in(stl(box(5, 6, 7)), "box.stl", self.store)
        self.store.create_job(new_sheet(part, "Secret"), "Take in")
        folder = zipfile.ZipFile(io.BytesIO(self.written([self.job_id])))
        self.assertNotIn("Secret", folder.read("contents.json").decode())
        self.assertNotIn(f"blobs/{part.mesh}", folder.namelist())
        self.assertEqual(len(folder.namelist()), 3)

    def a_print(self, job_id, stage=Stage.DONE, **more):
        job = self.store.job(job_id) if job_id == self.job_id else None
        step = job.step_id if job is not None else 999
        new = self.store.queue(NewPrint(
            job_id, "Tee", step, 1, (("1 tee", 2),), {"layer_mm": 0.12, "stances": ["as it came"], "supports": [], "walls": 3},
            "Left", "Sedge 300", "PLA", "tee.gcode", 100, 600.0, 12.5, b"G1", "as asked", "Wren",
        ))  # fmt: skip
        if stage.ended:
            self.store.take_next("Left")
            self.store.has_begun(new.id)
            self.store.has_ended(new.id, stage, layer=40, real_s=420.0, reason="warped")
            self.store.judge(new.id, "failed", "warped", "more brim", "Sora", (30.0, -40.0))
        return new.id

    def test_the_record_goes_with_its_jobs(self):
        mine = self.a_print(self.job_id)
        self.store.undo(self.job_id)
        gone = self.a_print("bygone", Stage.FAILED)
        self.a_print(self.job_id, Stage.QUEUED)
        kept = self.store.print_of(mine)
        # With its job: of that alone, and nothing that has still to be printed.
        taken = read_archive(self.other, io.BytesIO(self.written([self.job_id])))
        self.assertEqual((taken.prints, len(self.other.prints(*Stage))), (1, 1))
        here = self.other.print_of(mine)
        step = here.step_id
        self.assertEqual(here, dataclasses.replace(kept, step_id=step, cleared=True, rank=0))
        with self.other.session() as s:
            self.assertIn("copies", s.get(StepRow, step).label)
        self.assertEqual((here.reason, here.at_mm, here.excuse), ("warped", (30.0, -40.0), "as asked"))
        # The whole shop brings the rest; what is known here stays as it is.
        self.other.judge(mine, "done", "", "well enough", "Wren")
        data = self.written()
        taken = read_archive(self.other, io.BytesIO(data))
        self.assertEqual((taken.prints, self.other.print_of(mine).notes), (1, "well enough"))
        self.assertEqual((self.other.print_of(gone).job_id, self.other.print_of(gone).step_id), ("bygone", 0))
        # Where the id of its job is taken, it goes with the job under its new one.
        third = Store(self.path.with_name("third.sqlite3"))
        self.addCleanup(third.close)
        read_archive(third, io.BytesIO(self.contents(lambda told: told.update(prints=[]))))
        (new,) = read_archive(third, io.BytesIO(self.written([self.job_id]))).jobs.values()
        self.assertEqual([one.job_id for one in third.prints_of(new)], [new])
        self.assertNotEqual(new, self.job_id)

    def test_whatever_the_record_can_say_leaves(self):
        for outcome in ("", "good", "failed"):
            mine = self.a_print(self.job_id)
            self.store.judge(mine, outcome, "", "", "", None)
        read_archive(self.other, io.BytesIO(self.written([self.job_id])))
        came = sorted(one.outcome for one in self.other.prints_of(self.job_id))
        self.assertEqual(came, ["", "failed", "good"])

    def test_photos_go_with_their_prints_and_what_is_none_is_refused(self):
        first, second, third = (self.a_print(self.job_id) for _ in range(3))
        jpeg, other = b"\xff\xd8\xff one", b"\xff\xd8\xff another"
        for one, photo in ((first, jpeg), (second, jpeg), (third, other)):
            self.store.keep_photo(one, photo)
        data = self.written([self.job_id])
        names = [one for one in zipfile.ZipFile(io.BytesIO(data)).namelist() if one.startswith("photos/")]
        self.assertEqual(len(names), 2)

        def changed(photo):
            return self.altered(lambda entries: entries.update({f"photos/{_blake(jpeg)}": photo}))

        png = b"\x89PNG not ours"
        told = self.contents(lambda told: [one.update(photo=_blake(png)) for one in told["prints"]])
        strange = io.BytesIO(told)
        with zipfile.ZipFile(strange, "a") as folder:
            folder.writestr(f"photos/{_blake(png)}", png)
        for words, bad in (
            ("is not what it was", changed(other)),
            ("lacks a photo", self.altered(lambda entries: entries.pop(f"photos/{_blake(jpeg)}"))),
            ("no photo that we keep", strange.getvalue()),
            ("damaged at", self.contents(lambda told: told["prints"][0].update(photo="../../etc"))),
        ):
            with self.subTest(words), self.assertRaisesRegex(BadValue, words):
                read_archive(self.other, io.BytesIO(bad))
            self.assertEqual(self.other.with_photos(), frozenset())
        read_archive(self.other, io.BytesIO(data))
        self.assertEqual([self.other.photo_of(one) for one in (first, second, third)], [jpeg, jpeg, other])

    def test_a_record_that_says_too_much_is_refused(self):
        self.a_print(self.job_id)

        def first(**fields):
            return self.contents(lambda told: told["prints"][0].update(fields))

        for data in (first(state="queued"), first(plate=0), first(settings={"layer_mm": "thick"}),
                     first(told_g=-1.0), first(notes="x" * 2001)):  # fmt: skip
            with self.assertRaisesRegex(BadValue, "damaged at prints"):
                read_archive(self.other, io.BytesIO(data))
        twice = self.contents(lambda told: told.update(prints=told["prints"] * 2))
        self.assertEqual(read_archive(self.other, io.BytesIO(twice)).prints, 1)
        # One that was written before there was a record in it.
        old = self.contents(lambda told: (told.pop("prints"), told.update(version=1)))
        self.assertEqual(read_archive(self.other, io.BytesIO(old)).prints, 0)

    def altered(self, change):
        """The archive with its entries changed."""
        folder = zipfile.ZipFile(io.BytesIO(self.written([self.job_id])))
        entries = {name: folder.read(name) for name in folder.namelist()}
        change(entries)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as made:
            for name, data in entries.items():
                made.writestr(name, data)
        return out.getvalue()

    def contents(self, change):
        def changed(entries):
            told = json.loads(entries["contents.json"])
            change(told)
            entries["contents.json"] = json.dumps(told).encode()

        return self.altered(changed)

    def test_what_is_damaged_is_refused_whole(self):
        mesh = self.store.job(self.job_id).sheet.items[0].part.mesh
        good = self.written([self.job_id])
        torn = bytearray(good)
        torn[good.index(b"blobs/") + 60] ^= 0xFF

        def swap_mesh(entries):
            entries[f"blobs/{mesh}"] = encode(self.store.mesh(mesh).moved(z=1e-9))

        def steps(change):
            return self.contents(lambda told: change(told["jobs"][0]["steps"]))

        cases = {
            "no archive": b"solid nothing",
            "no archive of": self.altered(lambda entries: entries.pop("contents.json")),
            "is damaged": bytes(torn),
            "is not what it was": self.altered(swap_mesh),
            "cannot be read": self.altered(lambda entries: entries.update({f"blobs/{mesh}": b"\\x80junk"})),
            "lacks": self.altered(lambda entries: entries.pop(f"blobs/{mesh}")),
            "which its jobs need": self.contents(lambda told: told.update(blobs=[])),
            "later version": self.contents(lambda told: told.update(version=99)),
            "damaged at": self.contents(lambda told: told["jobs"][0].update(shown="two")),
            "do not follow": self.contents(lambda told: told["jobs"][0].update(shown=77)),
            "not follow each": steps(lambda some: some[2].update(parent=4)),
            "Step 2 of the archive": steps(lambda some: some[1].update(sheet="{}")),
            "written by a later": steps(lambda some: some[1].update(sheet='{"schema_version": 99}')),
        }
        for words, data in cases.items():
            with self.subTest(words):
                with self.assertRaisesRegex(BadValue, words):
                    read_archive(self.other, io.BytesIO(data))
                for model in (JobRow, StepRow, BlobRow):
                    self.assertEqual(self.rows(self.other, model), 0)

    def test_what_could_not_be_read_here_stops_nothing_else(self):
        other = self.store.create_job(self.store.job(self.job_id).sheet, "Take in").id
        last = self.store.job(other)
        self.store.apply(other, Rename(name="Torn"))
        for damage in ('{"schema_version": 99}', "{", "[]"):
            with self.subTest(damage), contextlib.closing(sqlite3.connect(self.path)) as raw:
                raw.execute(
                    "UPDATE step SET sheet = ? WHERE id = (SELECT step_id FROM job WHERE id = ?)",
                    (damage, other),
                )
                raw.execute("INSERT OR REPLACE INTO shelf (kind, name, data) VALUES ('spool', 'Torn', '{')")
                raw.commit()
                with tempfile.TemporaryDirectory() as folder:
                    third = Store(Path(folder) / "third.sqlite3")
                    self.addCleanup(third.close)
                    taken = read_archive(third, io.BytesIO(self.written()))
                    self.assertEqual(taken.unreadable, (other,))
                    self.assertEqual(third.job(self.job_id).sheet, self.store.job(self.job_id).sheet)
                    (torn,) = third.each([other])
                    self.assertEqual((type(torn), torn.title), (Broken, "Torn"))
                    self.assertEqual(third.step_back(other).sheet, last.sheet)
                    self.assertNotIn("Torn", [one.name for one in third.shelf(Spool)])

        # What was sound where it was written is refused where it is not any more, named or not.
        def steps_of_first(told):
            told["jobs"][0]["unreadable"] = [1]
            told["jobs"][0]["steps"][1]["sheet"] = "{}"

        with self.assertRaisesRegex(BadValue, "Step 2 of the archive"):
            read_archive(self.other, io.BytesIO(self.contents(steps_of_first)))

    def test_an_archive_that_swells_is_refused(self):
        with mock.patch.object(archive, "MOST_BYTES", 1000), self.assertRaisesRegex(BadValue, "claims"):
            read_archive(self.other, io.BytesIO(self.written()))
        with mock.patch.object(archive, "MOST_BLOB", 100), self.assertRaisesRegex(BadValue, "too large"):
            read_archive(self.other, io.BytesIO(self.written()))


if __name__ == "__main__":
    unittest.main()

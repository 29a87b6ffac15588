"""Databases that are locked, full, foreign or damaged; copies before they change; room that is given back."""

import contextlib
import json
import os
import sqlite3
import subprocess
import sys
import tempfile
import unittest
import unittest.mock
from pathlib import Path

import numpy as np
from alembic import command
from sqlalchemy import create_engine, event

from tests.sheet.test_changes import JOB
from tests.store.test_store import StoreCase
from upright_heron.core.errors import BadValue
from upright_heron.sheet.changes import Rename
from upright_heron.sheet.shop import Spool
from upright_heron.store import results
from upright_heron.store.database import alembic_config
from upright_heron.store.store import Broken, Job, Store
from upright_heron.store.trouble import StoreTrouble, Unreadable

# Nobody waits for ten seconds here.
SHORT = unittest.mock.patch("upright_heron.store.database.LOCKED_S", 0.2)


def at_revision(path, revision):
    """A database as a former version left it, with a job and a result."""
    engine = create_engine(f"sqlite:///{path}")
    with engine.begin() as connection:
        config = alembic_config()
        config.attributes["connection"] = connection
        command.upgrade(config, revision)
    engine.dispose()
    with contextlib.closing(sqlite3.connect(path)) as raw:
        when = "2026-01-01 00:00:00.000000"
        raw.execute("INSERT INTO job (id, demo, created, touched) VALUES ('one', 0, ?, ?)", (when, when))
        step = (1, "one", 1, "Take in", JOB.model_dump_json(), when, "")
        raw.execute(
            "INSERT INTO step (id, job_id, number, label, sheet, created, author) VALUES (?,?,?,?,?,?,?)",
            step,
        )
        raw.execute("UPDATE job SET step_id = 1")
        raw.executemany(
            "INSERT INTO result (key, data, size, used) VALUES (?, ?, ?, 0)",
            [("a", b"x" * 70_000, 70_000), ("b", b"x" * 5_000, 5_000)],
        )
        raw.commit()


class OpeningTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "heron.sqlite3"

    def serve(self):
        """What the shell says of a database that the server cannot use."""
        code = "from upright_heron.cli import main; main()"
        told = subprocess.run(
            [sys.executable, "-c", code, "serve", "--port", "0", "--database", str(self.path)],
            capture_output=True, text=True, timeout=60, env={**os.environ},
        )  # fmt: skip
        self.assertEqual(told.returncode, 2, told.stderr[-400:])
        self.assertEqual(len(told.stderr.splitlines()), 1, told.stderr)
        return told.stderr

    def test_what_is_no_database_of_ours_is_one_line(self):
        self.path.write_bytes(b"SQLite format 3\0" + b"garbage " * 500)
        with self.assertRaisesRegex(StoreTrouble, "is no database of this program|is damaged"):
            Store(self.path)
        self.assertIn("heron.sqlite3", self.serve())
        # It is left as it was.
        self.assertEqual(self.path.stat().st_size, 4016)

    def test_a_database_of_another_program_is_left_alone(self):
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            raw.execute("CREATE TABLE birds (name TEXT)")
        before = self.path.read_bytes()
        with self.assertRaisesRegex(StoreTrouble, "another program"):
            Store(self.path)
        self.assertEqual(self.path.read_bytes(), before)
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            self.assertEqual(raw.execute("SELECT name FROM sqlite_master").fetchall(), [("birds",)])

    def test_one_of_a_later_version_is_left_alone(self):
        Store(self.path).close()
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            raw.execute("UPDATE alembic_version SET version_num = '9999'")
            raw.commit()
        with self.assertRaisesRegex(StoreTrouble, "later version"):
            Store(self.path)
        self.assertIn("Update the program", self.serve())

    def test_a_folder_and_an_address_without_rights_cannot_be_opened(self):
        self.path.mkdir()
        with self.assertRaisesRegex(StoreTrouble, "cannot be opened"):
            Store(self.path)
        with self.assertRaisesRegex(StoreTrouble, "cannot be opened"):
            Store(Path("/proc/nowhere/heron.sqlite3"))

    def test_a_copy_is_made_before_tables_change(self):
        at_revision(self.path, "0009")
        store = Store(self.path)
        self.addCleanup(store.close)
        self.assertEqual(store.job("one").sheet, JOB)
        copy = self.folder / "heron.sqlite3.before-0009"
        with contextlib.closing(sqlite3.connect(copy)) as raw:
            self.assertEqual(raw.execute("SELECT version_num FROM alembic_version").fetchall(), [("0009",)])
            (sheet,) = raw.execute("SELECT sheet FROM step").fetchone()
            self.assertEqual(json.loads(sheet), json.loads(JOB.model_dump_json()))
            # What can be made again is not in it.
            self.assertEqual(raw.execute("SELECT count(*) FROM result").fetchone(), (0,))
        self.assertEqual(sorted(one.name for one in self.folder.glob("*begun*")), [])
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            self.assertEqual(raw.execute("SELECT bytes FROM result_room").fetchone(), (75_000,))
            self.assertEqual(raw.execute("PRAGMA auto_vacuum").fetchone(), (2,))
        # Once it is up to date it is not copied again.
        copy.unlink()
        Store(self.path).close()
        self.assertFalse(copy.exists())

    def test_without_room_for_the_copy_nothing_is_changed(self):
        at_revision(self.path, "0009")
        free = unittest.mock.Mock(free=1000)
        with (
            unittest.mock.patch("upright_heron.store.database.shutil.disk_usage", lambda _: free),
            self.assertRaisesRegex(StoreTrouble, "no room to copy"),
        ):
            Store(self.path)
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            self.assertEqual(raw.execute("SELECT version_num FROM alembic_version").fetchone(), ("0009",))

    def test_what_the_server_acknowledges_is_on_the_disk(self):
        with (
            contextlib.closing(Store(self.path)) as server,
            contextlib.closing(Store(self.path, migrate=False)) as worker,
        ):
            for store, level in ((server, 2), (worker, 1)):
                for write in (False, True):
                    with store.session(write=write) as s:
                        found = s.connection().exec_driver_sql("PRAGMA synchronous").scalar()
                        self.assertEqual(found, level)


@SHORT
class LockedTest(StoreCase):
    def setUp(self):
        SHORT.start()
        self.addCleanup(SHORT.stop)
        super().setUp()
        self.job = self.store.create_job(JOB, "Take in").id
        self.store.remember("known", np.arange(5))

    @contextlib.contextmanager
    def written_by_another(self):
        with contextlib.closing(sqlite3.connect(self.path, isolation_level=None)) as other:
            other.execute("BEGIN IMMEDIATE")
            yield
            other.execute("ROLLBACK")

    def used(self, key="known"):
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            return raw.execute("SELECT used FROM result WHERE key = ?", (key,)).fetchone()[0]

    def test_who_reads_waits_for_nobody_who_writes(self):
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            raw.execute("UPDATE result SET used = 1000")
            raw.commit()
        with self.written_by_another():
            self.assertEqual(self.store.job(self.job).sheet, JOB)
            self.assertEqual(self.store.result("known").tolist(), [0, 1, 2, 3, 4])
            self.assertEqual(self.used(), 1000)
            with self.assertRaisesRegex(StoreTrouble, "locked by another program"):
                self.store.apply(self.job, Rename(name="B"))
            # Nor does whoever comes new, in this process or another.
            for migrate in (True, False):
                with contextlib.closing(Store(self.path, migrate=migrate)) as fresh:
                    self.assertEqual(fresh.job(self.job).sheet, JOB)
        # Nor whoever reads in the middle of writing.
        with self.store.session(write=True):
            self.store._engine.dispose()
            self.assertEqual(self.store.result("known").tolist(), [0, 1, 2, 3, 4])
        # The time of use is written with what is remembered next.
        self.store.remember("other", np.arange(3))
        self.assertGreater(self.used(), 1_000_000)
        self.assertEqual(self.store.apply(self.job, Rename(name="B")).sheet.name, "B")

    def test_times_of_use_are_written_seldom_and_together(self):
        for name in ("a", "b"):
            self.store.remember(name, np.arange(2))
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            raw.execute("UPDATE result SET used = 1000")
            raw.commit()
        self.store.result("a")
        written = self.used("a") > 1000
        self.store.result("b")
        # One of them writes at once, or none: the other is noted and not forgotten.
        self.assertEqual((written, self.used("b")), (True, 1000))
        with unittest.mock.patch.object(results, "USED_S", 0.0):
            self.store.result("a")
        self.assertGreater(self.used("b"), 1000)

    def test_a_full_disk_is_told_and_nothing_is_lost(self):
        self.store.close()
        full = Store(self.path)
        self.addCleanup(full.close)

        def small(connection, _):
            pages = connection.execute("PRAGMA page_count").fetchone()[0]
            connection.execute(f"PRAGMA max_page_count={pages}")

        event.listen(full._engine, "connect", small)
        full._engine.dispose()
        with self.assertRaisesRegex(StoreTrouble, "no room left"):
            for k in range(2000):
                full.apply(self.job, Rename(name=f"{k} " + "long" * 25))
        kept = full.job(self.job)
        full.close()
        again = Store(self.path)
        self.addCleanup(again.close)
        self.assertEqual(again.job(self.job), kept)


class RoomTest(StoreCase):
    def test_a_new_file_can_give_pages_back(self):
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            self.assertEqual(raw.execute("PRAGMA auto_vacuum").fetchone(), (2,))
            self.assertEqual(raw.execute("PRAGMA journal_mode").fetchone(), ("wal",))

    def sizes(self):
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            kept = raw.execute("SELECT bytes FROM result_room").fetchone()[0]
            found = dict(raw.execute("SELECT key, size FROM result").fetchall())
        self.assertEqual(kept, sum(found.values()))
        return found

    def test_the_kept_total_is_what_there_is_whatever_is_done(self):
        rng = np.random.default_rng(3)
        for k in range(40):
            self.store.remember(f"r{k % 9}", rng.integers(0, 255, int(rng.integers(10, 4000))))
            self.sizes()
        self.assertEqual(len(self.sizes()), 9)

    def test_over_the_cap_what_was_used_longest_ago_goes(self):
        small = Store(self.path, result_bytes=100_000)
        self.addCleanup(small.close)
        noise = np.random.default_rng(5)
        with unittest.mock.patch.object(results, "EVICTED_BYTES", 9_000):
            for k in range(30):
                small.remember(f"r{k:02}", noise.integers(0, 256, 10_000).astype(np.uint8))
                # It is used again and again, so it stays; one that is alone over the cap stays, too.
                with contextlib.closing(sqlite3.connect(self.path)) as raw:
                    raw.execute("UPDATE result SET used = used - 1000 WHERE key != 'r00'")
                    raw.commit()
                self.assertLessEqual(sum(self.sizes().values()), 100_000)
        kept = sorted(self.sizes())
        self.assertEqual(kept[0], "r00")
        self.assertEqual(kept[1:], [f"r{k:02}" for k in range(30 - len(kept) + 1, 30)])
        # Far over, as behind a smaller cap, it goes over several turns: with each result more than it adds.
        smaller = Store(self.path, result_bytes=20_000)
        self.addCleanup(smaller.close)
        with (
            unittest.mock.patch.object(results, "EVICTED_AT_ONCE", 25_000),
            unittest.mock.patch.object(results, "EVICTED_BYTES", 9_000),
        ):
            smaller.remember("next", np.arange(5))
            self.assertIn("r00", self.sizes())
            self.assertGreater(sum(self.sizes().values()), 40_000)
            for k in range(6):
                smaller.remember(f"next{k}", np.arange(5))
        self.assertLessEqual(sum(self.sizes().values()), 20_000)
        small.remember("large", noise.integers(0, 256, 300_000).astype(np.uint8))
        self.assertEqual(sorted(self.sizes()), ["large"])

    def test_free_pages_go_back_to_the_disk(self):
        for k in range(20):
            self.store.remember(f"r{k}", np.random.default_rng(k).integers(0, 256, 200_000).astype(np.uint8))
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            raw.execute("DELETE FROM result")
            raw.commit()
            before = raw.execute("PRAGMA freelist_count").fetchone()[0]
        self.assertGreater(before, 500)
        self.store.give_back(5000)
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            self.assertLess(raw.execute("PRAGMA freelist_count").fetchone()[0], 10)


class UnreadableTest(StoreCase):
    def test_a_row_that_cannot_be_read_stops_nothing_else(self):
        ids = [self.store.create_job(JOB, "Take in").id for _ in range(3)]
        self.store.apply(ids[1], Rename(name="Second"))
        self.store.apply(ids[1], Rename(name="Third"))
        for damage in ("{", "[]", '{"schema_version": 99}', '{"schema_version": 2}', "null", "[" * 5000):
            with self.subTest(damage[:30]):
                with contextlib.closing(sqlite3.connect(self.path)) as raw:
                    raw.execute("UPDATE step SET sheet = ? WHERE number = 3", (damage,))
                    raw.commit()
                self.reopen()
                found = self.store.each(ids)
                self.assertEqual([type(one) for one in found], [Job, Broken, Job])
                self.assertEqual((found[1].title, found[1].step), ("Third", 3))
                self.assertEqual([one.id for one in self.store.these(ids)], [ids[0], ids[2]])
                self.assertEqual({one.id for one in self.store.jobs()}, {ids[0], ids[2]})
                self.assertIsNone(self.store.sheet_now(ids[1]))
                self.assertEqual(self.store.title_of(ids[1]), "Third")
                with self.assertRaisesRegex(Unreadable, "“Third”: Step 3 of this job"):
                    self.store.job(ids[1])
        back = self.store.step_back(ids[1])
        self.assertEqual((back.step, back.sheet.name), (2, "Second"))

    def test_one_goes_back_past_all_that_cannot_be_read(self):
        job = self.store.create_job(JOB, "Take in").id
        for name in ("First", "Second", "Third"):
            self.store.apply(job, Rename(name=name))
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            raw.execute("UPDATE step SET sheet = '{' WHERE number IN (3, 4)")
            raw.commit()
        self.reopen()
        self.assertEqual(self.store.step_back(job).sheet.name, "First")
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            raw.execute("UPDATE step SET sheet = '{'")
            raw.commit()
        self.reopen()
        with self.assertRaisesRegex(Unreadable, "No step"):
            self.store.step_back(job)

    def test_an_entry_of_the_shelf_that_cannot_be_read_leaves_the_others(self):
        for name in ("Amber 1", "Amber 2"):
            self.store.shelve(Spool(name=name, material="PLA", technology="filament", left_g=500))
        with contextlib.closing(sqlite3.connect(self.path)) as raw:
            raw.execute("UPDATE shelf SET data = '{' WHERE name = 'Amber 1'")
            raw.commit()
        with self.assertLogs("upright_heron.store.shelf", "WARNING"):
            self.assertEqual([one.name for one in self.store.shelf(Spool)], ["Amber 2"])
        with self.assertLogs("upright_heron.store.shelf", "WARNING"):
            self.assertIsNone(self.store.on_shelf(Spool, "Amber 1"))

    def test_a_locked_database_is_no_damage(self):
        # What a former schema needs of a mesh may be out of reach for a moment.
        with (
            unittest.mock.patch(
                "upright_heron.store.store.read_sheet", side_effect=StoreTrouble("It is locked.", "Wait.")
            ),
            self.assertRaises(StoreTrouble),
        ):
            job = self.store.create_job(JOB, "Take in").id
            self.store._sheets.clear()
            self.store.job(job)
        with (
            unittest.mock.patch("upright_heron.store.store.read_sheet", side_effect=BadValue("No.", "")),
            self.assertRaises(Unreadable),
        ):
            self.store._sheets.clear()
            self.store.create_job(JOB, "Take in")


if __name__ == "__main__":
    unittest.main()

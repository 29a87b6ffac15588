"""A short form of the trial: a few mutated files of every format, kills of everybody, and databases of others."""

import os
import tempfile
import unittest
from pathlib import Path

from tests.trial import disks, files, kills
from tests.trial.watched import Tally, Watched

SEED = int(os.environ.get("HERON_TRIAL_SEED", "7"))


class TrialTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.tally = Tally("short")

    def good(self):
        self.assertEqual(self.tally.bad, 0, self.tally.worst)

    def test_mutated_files_are_read_or_refused(self):
        server = Watched()
        self.addCleanup(server.close)
        some = files.every_mutation(server, 30, SEED)
        # All formats are among them, and what is changed differs from what is sound.
        self.assertEqual(len({name for _, name, _ in some}), 10)
        self.assertGreater(len({data for _, _, data in some}), 28)
        files.over_http(server, some, self.tally)
        server.stop(self.tally)
        self.assertEqual(self.tally.tried, 30)
        self.assertLess(self.tally.largest_mb, 2048)
        self.good()

    def test_kills_lose_nothing(self):
        kills.kills(4, SEED, self.folder, self.tally)
        self.assertEqual(self.tally.tried, 4)
        self.assertGreater(self.tally.answered, 0)
        self.good()

    def test_a_migration_may_be_killed(self):
        kills.migrations(1, SEED, self.folder, self.tally)
        self.good()

    def test_databases_of_others_and_one_that_is_locked(self):
        disks.foreign(self.tally)
        disks.locked(self.tally)
        self.good()

    def test_a_full_disk(self):
        with disks.small_disk(1) as folder:
            if folder is None:
                self.skipTest("nobody may mount a small disk here")
        disks.full_disk(self.tally)
        self.good()


class WatchTest(unittest.TestCase):
    def test_what_goes_wrong_is_counted(self):
        tally = Tally("all")
        tally.took(21, "a long one")
        self.assertEqual((tally.tried, tally.hangs, tally.bad), (1, 1, 1))
        self.assertIn("| 21.0 |", tally.row())
        server = Watched()
        self.addCleanup(server.close)
        (server.folder / "tmp" / "forgotten").touch()
        with (server.folder / "server.log").open("a") as log:
            log.write("Traceback (most recent call last):\n  File x\nValueError: no\n")
        server.stop(tally)
        self.assertEqual((tally.left, tally.traces, tally.orphans), (1, 1, 0))
        self.assertGreater(tally.largest_mb, 50)
        # Over 2 GB is wrong as well, and is named.
        self.assertEqual(tally.bad, 3)
        tally.took_mb(2001, "a greedy one")
        self.assertEqual((tally.bad, tally.worst[-1]), (4, "2001 MB: a greedy one"))


if __name__ == "__main__":
    unittest.main()

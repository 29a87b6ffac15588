"""Temporary folders of processes that were killed are taken away by the next; those of the living stay."""

import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

WAITS = "from upright_heron.work.left_behind import keep_together; keep_together(); print('there', flush=True); input()"
USES = (
    "from multiprocessing import util; from upright_heron.work.left_behind import keep_together; keep_together();"
    "keep_together(); print(util.get_temp_dir())"
)
WORKS = """
import os, pathlib, tempfile
from upright_heron.work import worker
from upright_heron.work.lanes import Lanes
if __name__ == "__main__":
    lanes = Lanes(pathlib.Path(tempfile.gettempdir()) / "heron.sqlite3", 1, print)
    print(lanes.lanes[0].executor.submit(worker.ready).result(), flush=True)
    input()
"""


class LeftTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def begun(self, code):
        process = subprocess.Popen(
            [sys.executable, "-c", code], env=os.environ | {"TMPDIR": str(self.folder)}, text=True,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        )  # fmt: skip
        self.addCleanup(process.communicate)
        return process

    def there(self):
        return {one.name for one in self.folder.iterdir()}

    def test_of_the_dead_none_stays_and_of_the_living_all(self):
        dead, lives = self.begun(WAITS), self.begun(WAITS)
        for one in (dead, lives):
            self.assertEqual(one.stdout.readline(), "there\n")
        # What others have put there is not ours.
        (self.folder / "upright-heron-notes").mkdir()
        both = self.there()
        self.assertEqual(len(both), 3)
        dead.send_signal(signal.SIGKILL)
        dead.wait()
        self.assertEqual(self.there(), both)
        place = Path(self.begun(USES).communicate()[0].strip())
        # Its own was among ours, and went with it.
        self.assertEqual(place.parent.parent, self.folder)
        self.assertFalse(place.exists())
        self.assertEqual(len(self.there()), 2)
        lives.communicate("\n")
        self.assertEqual(self.there(), {"upright-heron-notes"})

    def test_one_that_is_killed_has_its_folder_taken_away_by_what_workers_are_forked_from(self):
        process = self.begun(WORKS)
        self.assertEqual(process.stdout.readline(), "True\n")
        self.assertEqual(len(self.there()), 1)
        process.kill()
        process.wait()
        until = time.monotonic() + 30
        while self.there():
            self.assertLess(time.monotonic(), until, self.there())
            time.sleep(0.05)

    def test_without_any_room_for_it_a_start_is_one_line(self):
        # Nobody finds a folder that may be written to.
        code = (
            "import sys, tempfile; tempfile._candidate_tempdir_list = lambda: ['/proc/1']; from upright_heron.cli import main;"
            f"sys.argv = ['x', 'serve', '--database', {str(self.folder / 'heron.sqlite3')!r}]; main()"
        )
        told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
        self.assertNotEqual(told.returncode, 0)
        self.assertIn("folder for temporary files", told.stderr)
        self.assertIn("TMPDIR", told.stderr)
        self.assertNotIn("Traceback", told.stderr)


if __name__ == "__main__":
    unittest.main()

"""A server that is told to stop stops within five seconds, whatever it is in the middle of, and leaves nothing."""

import http.client
import os
import signal
import threading
import time
import unittest
from pathlib import Path

from tests.bombs import bombs
from tests.browser.driver import Server
from tests.support import below, children, portal, stl
from tests.work.test_scheduler import SchedulerCase
from upright_heron.work.scheduler import Scheduler

# Soon, on a machine with other work beside.
SOON_S = 8.0


def biting():
    """A file that takes its reader a long time."""
    return next(data for name, _, data in bombs() if "crossing itself" in name)


class DeafTest(SchedulerCase):
    def test_work_that_hears_nothing_is_ended(self):
        work = Scheduler(self.store, 1)
        self.addCleanup(work.close)
        work.make(self.keys("warm"), "toy_slow").result(60)
        (process,) = (
            below(os.getpid())
            - {one for lane in self.work._lanes.lanes for one in (lane.executor._processes or ())}
            # Python's own: one watches over shared memory, workers are forked from the other.
            - children(os.getpid())
        )
        asked = work.make(self.keys("deaf", 60, "deaf"), "toy_slow")
        self.wait(lambda: self.told("began", "deaf"))
        begin = time.monotonic()
        work.close()
        self.assertLess(time.monotonic() - begin, SOON_S)
        self.assertFalse(Path(f"/proc/{process}").exists())
        self.assertTrue(asked.cancelled() or not asked.done() or asked.exception() is not None)


class StopTest(unittest.TestCase):
    def setUp(self):
        self.server = Server()
        self.addCleanup(self.server.close)
        # Its processes are up, and one has read a part.
        self.job = self.server.upload("part.stl", stl(portal()))
        self.server.settle(self.job)

    def send(self, data):
        """Send a file and wait for the answer, in a thread."""

        def run():
            connection = http.client.HTTPConnection("127.0.0.1", self.server.port, timeout=60)
            try:
                connection.request("POST", "/api/jobs?name=wild.obj", data, {"Origin": self.server.url})
                connection.getresponse().read()
            except (OSError, http.client.HTTPException):
                return

        thread = threading.Thread(target=run, daemon=True)
        thread.start()
        return thread

    def reading(self):
        return [
            one for one in below(self.server.process.pid)
            if b"read_child" in Path(f"/proc/{one}/cmdline").read_bytes()
        ]  # fmt: skip

    def until(self, condition, within=40):
        end = time.monotonic() + within
        while not (found := condition()):
            self.assertLess(time.monotonic(), end)
            time.sleep(0.05)
        return found

    def gone(self, processes):
        return lambda: not any(Path(f"/proc/{one}").exists() for one in processes)

    def test_told_to_stop_while_it_reads_a_file_that_bites(self):
        thread = self.send(biting())
        self.until(self.reading)
        processes = below(self.server.process.pid)
        begin = time.monotonic()
        self.server.process.send_signal(signal.SIGTERM)
        self.server.process.wait(timeout=30)
        self.assertLess(time.monotonic() - begin, SOON_S)
        self.until(self.gone(processes), 5)
        thread.join(10)
        self.assertEqual([one.name for one in self.server.folder.glob("*-incoming")], [])

    def test_killed_meanwhile_all_that_it_began_ends_and_nothing_is_left(self):
        thread = self.send(biting())
        self.until(self.reading)
        processes = below(self.server.process.pid)
        incoming = self.server.folder / "heron-incoming"
        self.assertTrue(any(incoming.iterdir()))
        # The server alone: what it began has to see that for itself.
        self.server.process.kill()
        self.server.process.wait()
        self.until(self.gone(processes), 15)
        thread.join(10)
        self.server.start()
        self.assertEqual(list(incoming.iterdir()), [])
        self.assertEqual(len(self.server.get("/api/jobs")), 1)

    def test_whoever_leaves_takes_the_reading_along(self):
        data = biting()
        connection = http.client.HTTPConnection("127.0.0.1", self.server.port, timeout=60)
        connection.request("POST", "/api/jobs?name=wild.obj", data, {"Origin": self.server.url})
        processes = self.until(self.reading)
        connection.close()
        self.until(self.gone(processes), SOON_S)
        # What comes next is read.
        self.server.upload("next.stl", stl(portal()))


if __name__ == "__main__":
    unittest.main()

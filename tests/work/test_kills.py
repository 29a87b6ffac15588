"""The server is killed at random while it is busy; HERON_KILLS says how often, three times in the suite.

What was answered before the kill is there afterwards, as it was answered, and the work goes on to its end.
"""

import contextlib
import http.client
import json
import os
import random
import signal
import sqlite3
import threading
import time
import unittest
import urllib.error
import urllib.request
from pathlib import Path

from tests.browser.driver import Server
from tests.support import comb, portal, stl

KILLS = int(os.environ.get("HERON_KILLS", "3"))
STYLES = ("tree", "grid", "lines", "pillar")


class Technician(threading.Thread):
    """Changes one job again and again, and notes what was answered."""

    def __init__(self, server, job, seed):
        super().__init__(daemon=True)
        self.server, self.job, self.dice = server, job, random.Random(seed)
        self.told, self.ends = [], threading.Event()

    def run(self):
        while not self.ends.is_set():
            try:
                self.once()
            except (OSError, ValueError, http.client.HTTPException):
                # The server is gone: what was not answered is not promised.
                return

    def once(self):
        dice = self.dice
        kind, values = dice.choice((
            ("layer", {"layer_mm": round(dice.uniform(0.1, 0.3), 3)}),
            ("limit", {"limit_deg": dice.randint(30, 60)}),
            ("supports", {"style": dice.choice(STYLES)}),
            ("turn", {f"{dice.choice('xyz')}_deg": dice.choice((90, 45, 180))}),
        ))  # fmt: skip
        answer = posted(self.server, f"/api/jobs/{self.job}/changes", {"kind": kind, **values})
        if answer is not None:
            self.told.append((answer["step_id"], answer["sheet"]))


def posted(server, path, values):
    """The answer to a change, or nothing where it was refused."""
    asked = urllib.request.Request(
        server.url + path,
        json.dumps(values).encode(),
        {"Content-Type": "application/json", "Origin": server.url},
    )
    try:
        with urllib.request.urlopen(asked, timeout=20) as answer:
            return json.loads(answer.read())
    except urllib.error.HTTPError as refused:
        # Any refusal is an answer, but one of 500.
        if refused.code >= 500:
            raise AssertionError(refused.read().decode()) from None
        return None


class KillTest(unittest.TestCase):
    def test_nothing_that_was_answered_is_lost(self):
        server = Server()
        self.addCleanup(server.close)
        dice = random.Random(14)
        jobs = [self.uploaded(server, body) for body in (comb(), portal())]
        kept = dict.fromkeys(jobs)
        answered = busy = 0
        for k in range(KILLS):
            people = [Technician(server, job, 100 * k + n) for n, job in enumerate(jobs)]
            for one in people:
                one.start()
            time.sleep(dice.uniform(0.05, 2.5))
            busy += any(self.task(server, job) is not None for job in jobs)
            # All of it at once, or the server alone, as when memory runs out.
            if k % 2:
                os.killpg(server.process.pid, signal.SIGKILL)
            else:
                os.kill(server.process.pid, signal.SIGKILL)
            server.process.wait()
            for one in people:
                one.ends.set()
                one.join(30)
                answered += len(one.told)
                kept[one.job] = one.told[-1] if one.told else kept[one.job]
            self.orphans_end(server)
            self.sound(server)
            server.start()
            for job, last in kept.items():
                if last is not None:
                    self.still(server, job, *last)
                    # Steps may have been kept whose answer never went out: they are what holds from here on.
                    kept[job] = self.now(server, job)
        self.assertGreater(answered, KILLS)
        self.assertGreater(busy, KILLS // 3)
        for job in jobs:
            until = time.monotonic() + 120
            while (task := self.task(server, job)) is not None:
                self.assertIn(task["state"], ("running", "done"), task)
                self.assertLess(time.monotonic(), until)
                time.sleep(0.1)

    def uploaded(self, server, body):
        return server.upload("part.stl", stl(body))

    def task(self, server, job):
        return server.get(f"/api/jobs/{job}/task")["task"]

    def now(self, server, job):
        found = server.get(f"/api/jobs/{job}")
        return found["step_id"], found["sheet"]

    def still(self, server, job, step, sheet):
        """The step that was answered last is there, as it was answered."""
        with contextlib.closing(sqlite3.connect(server.folder / "heron.sqlite3")) as connection:
            row = connection.execute(
                "select sheet from step where job_id = ? and id = ?", (job, step)
            ).fetchone()
        self.assertIsNotNone(row, f"step {step} of {job} is lost")
        self.assertEqual(json.loads(row[0]), sheet)
        self.assertGreaterEqual(self.now(server, job)[0], step)

    def sound(self, server):
        with contextlib.closing(sqlite3.connect(server.folder / "heron.sqlite3")) as connection:
            self.assertEqual(connection.execute("pragma integrity_check").fetchone(), ("ok",))
            self.assertEqual(connection.execute("pragma foreign_key_check").fetchall(), [])

    def orphans_end(self, server):
        """Processes of a server that is gone end by themselves."""
        group, until = server.process.pid, time.monotonic() + 60
        while left := members(group):
            self.assertLess(time.monotonic(), until, f"{left} live on")
            time.sleep(0.05)


def members(group):
    """Processes of a group that live, by its id."""
    found = []
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit():
            with contextlib.suppress(OSError):
                state, _, of = (folder / "stat").read_text().rpartition(")")[2].split()[:3]
                if int(of) == group and state != "Z":
                    found.append(int(folder.name))
    return found

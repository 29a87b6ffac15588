"""Kills in the middle of everything: what was answered is there afterwards, nothing lives on, nothing is left."""

from __future__ import annotations

import contextlib
import http.client
import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

from tests.floor.rack import Rack
from tests.store.test_trouble import at_revision
from tests.support import box, comb, stl
from tests.trial.watched import Tally, Watched, members

WHOM = ("group", "server", "worker")
AMID = ("changes", "uploads", "hand-offs", "prints")
# Whatever goes wrong while a server is killed shows as one of these to whoever asked it.
GONE = (OSError, ValueError, http.client.HTTPException)


class Person(threading.Thread):
    """Does one thing again and again until the server is gone, and notes what was answered."""

    def __init__(self, server: Watched, does: Callable[[Person], None]) -> None:
        super().__init__(daemon=True)
        self.server, self.does, self.ends = server, does, threading.Event()
        self.told: list[tuple[str, Any]] = []
        self.refused: list[str] = []

    def run(self) -> None:
        """Until told to end, or there is no answer."""
        while not self.ends.is_set():
            try:
                self.does(self)
            except urllib.error.HTTPError as error:
                if error.code >= 500:
                    self.refused.append(f"{error.code} {error.read(300).decode(errors='replace')}")
                    return
            except GONE:
                return

    def post(self, path: str, body: bytes, kind: str = "application/json") -> Any:
        """Send, and read JSON where it is JSON."""
        headers = {"Content-Type": kind, "Origin": self.server.url, "HX-Request": "true"}
        asked = urllib.request.Request(self.server.url + path, body, headers, method="POST")
        with urllib.request.urlopen(asked, timeout=30) as answer:
            data = answer.read()
        return json.loads(data) if path.startswith("/api") else data


class Shop:
    """A server with two jobs and a machine, tried again and again."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.dice = random.Random(seed)
        self.server = Watched()
        self.rack = Rack(folder)
        _, url = self.rack.add("Sedge 300", "Left", speed_up=50_000, grams=1_000_000)
        self.jobs = [
            self.server.upload("comb.stl", stl(comb())),
            self.server.upload("box.stl", stl(box(20, 20, 2))),
        ]
        for job in self.jobs:
            self.server.post(f"/api/jobs/{job}/changes", {"kind": "keep-machine"})
            self.server.settle(job)
        data = f"name=Left&model=Sedge+300&url={url}".encode()
        Person(self.server, lambda _: None).post("/floor/machines", data, "application/x-www-form-urlencoded")
        # What was answered last: ids of jobs, steps, prints, and what they hold.
        self.steps: dict[str, tuple[int, Any]] = {}
        self.taken: set[str] = set(self.jobs)
        self.printed = self.answered = 0

    def close(self) -> None:
        """End all of it."""
        self.server.close()
        self.rack.close()

    def changes(self, person: Person) -> None:
        """Change a job."""
        job = self.jobs[0]
        values = random.choice((
            {"kind": "layer", "layer_mm": round(random.uniform(0.1, 0.3), 3)},
            {"kind": "limit", "limit_deg": random.randint(30, 60)},
            {"kind": "rename", "name": f"Comb {random.random():.6f}"},
            {"kind": "supports", "style": random.choice(("tree", "grid", "lines", "pillar"))},
            {"kind": "turn", f"{random.choice('xyz')}_deg": random.choice((90, 45, 180))},
        ))  # fmt: skip
        answer = person.post(f"/api/jobs/{job}/changes", json.dumps(values).encode())
        person.told.append(("step", (answer["step_id"], answer["sheet"])))

    def uploads(self, person: Person) -> None:
        """Take in a part, slowly enough to be killed meanwhile."""
        body = stl(box(10 + random.random(), 10, 5)) + b""
        answer = person.post("/api/jobs?name=small.stl", body, "application/octet-stream")
        person.told.append(("job", answer["id"]))

    def handoffs(self, person: Person) -> None:
        """Change what is printed, and take the file of the plate."""
        job = self.jobs[1]
        values = {"kind": "process", "walls": random.randint(1, 6), "infill_percent": random.randint(5, 60)}
        person.post(f"/api/jobs/{job}/changes", json.dumps(values).encode())
        with urllib.request.urlopen(f"{self.server.url}/jobs/{job}/print.gcode", timeout=30) as answer:
            text = answer.read()
        person.told.append(("file", text.endswith(b"\n") and len(text)))

    def prints(self, person: Person) -> None:
        """Queue a plate."""
        form = b"station=Left&who=Wren&excuse=a+trial"
        person.post(f"/jobs/{self.jobs[1]}/plates/1/print?open=9", form, "application/x-www-form-urlencoded")
        person.told.append(("print", 1))
        time.sleep(random.uniform(0.1, 0.5))

    def round(self, whom: str, amid: str, tally: Tally) -> None:
        """Be busy, kill at random, start again, and look at what is there."""
        server, does = self.server, {
            "changes": self.changes, "uploads": self.uploads, "hand-offs": self.handoffs, "prints": self.prints,
        }[amid]  # fmt: skip
        people = [Person(server, does) for _ in range(2)]
        for one in people:
            one.start()
        time.sleep(self.dice.uniform(0.02, 1.2))
        begin = time.monotonic()
        if whom == "worker":
            # Or what they are forked from, or what reads a file for one.
            workers = {one for one in members(server.process.pid) if not keeps_book(one)}
            workers.discard(server.process.pid)
            if workers:
                os.kill(self.dice.choice(sorted(workers)), signal.SIGKILL)
            time.sleep(0.5)
        elif whom == "group":
            os.killpg(server.process.pid, signal.SIGKILL)
        else:
            os.kill(server.process.pid, signal.SIGKILL)
        if whom != "worker":
            server.process.wait()
        for one in people:
            one.ends.set()
            one.join(60)
            tally.hangs += one.is_alive()
            tally.errors += len(one.refused)
            tally.worst += [f"{whom} amid {amid}: {words}" for words in one.refused]
        if whom != "worker":
            left = server.orphans()
            tally.orphans += len(left)
            self.sound(tally)
            # How long a start takes is not asked here: on a busy machine that is mostly imports.
            before = time.monotonic()
            server.start()
            begin += time.monotonic() - before
        for one in people:
            self.note(one)
        self.kept(tally, f"{whom} amid {amid}")
        tally.took(time.monotonic() - begin, f"{whom} amid {amid}")

    def note(self, person: Person) -> None:
        """Remember what was answered."""
        self.answered += len(person.told)
        for what, value in person.told:
            if what == "step" and value[0] > self.steps.get(self.jobs[0], (0, None))[0]:
                self.steps[self.jobs[0]] = value
            elif what == "job":
                self.taken.add(value)
            elif what == "print":
                self.printed += 1

    def sound(self, tally: Tally) -> None:
        """The file itself is whole."""
        with contextlib.closing(sqlite3.connect(self.server.folder / "heron.sqlite3")) as raw:
            if raw.execute("pragma integrity_check").fetchone() != ("ok",):
                tally.lost += 1
                tally.worst.append("the database is damaged")

    def kept(self, tally: Tally, what: str) -> None:
        """Everything that was answered is there, as it was answered."""
        with contextlib.closing(sqlite3.connect(self.server.folder / "heron.sqlite3")) as raw:
            jobs = {name for (name,) in raw.execute("select id from job")}
            prints = raw.execute("select count(*) from print").fetchone()[0]
            for job, (step, sheet) in self.steps.items():
                row = raw.execute(
                    "select sheet from step where job_id = ? and id = ?", (job, step)
                ).fetchone()
                if row is None or json.loads(row[0]) != sheet:
                    tally.lost += 1
                    tally.worst.append(f"{what}: step {step} of {job}")
        if self.taken - jobs:
            tally.lost += len(self.taken - jobs)
            tally.worst.append(f"{what}: {len(self.taken - jobs)} jobs")
        if prints < self.printed:
            tally.lost += self.printed - prints
            tally.worst.append(f"{what}: {self.printed - prints} prints")

    def goes_on(self, tally: Tally) -> None:
        """Work that was under way goes on to its end."""
        for job in self.jobs:
            try:
                self.server.settle(job)
            except RuntimeError as stuck:
                tally.lost += 1
                tally.worst.append(f"{job} does not come to its end: {stuck}")

    def printed_once(self, tally: Tally, within_s: float = 300.0) -> None:
        """All that was queued is printed, each once."""
        until = time.monotonic() + within_s
        database = self.server.folder / "heron.sqlite3"
        while True:
            with contextlib.closing(sqlite3.connect(database)) as raw:
                open_ones = raw.execute("select count(*) from print where ended is null").fetchone()[0]
                done = [
                    name
                    for (name,) in raw.execute("select id from print where ended is not null and not cleared")
                ]
            for name in done:
                with contextlib.suppress(*GONE):
                    Person(self.server, lambda _: None).post(f"/floor/prints/{name}/cleared", b"")
            if not open_ones:
                return
            if time.monotonic() > until:
                tally.lost += open_ones
                tally.worst.append(f"{open_ones} prints do not end")
                return
            time.sleep(0.1)


def keeps_book(process: int) -> bool:
    """Whether a process is the one of Python that keeps book of semaphores.

    Another one takes its place when it is lost, and complains of each that it does not know when all ends:
    nothing is wrong then but its words.
    """
    with contextlib.suppress(OSError):
        return b"resource_tracker" in Path(f"/proc/{process}/cmdline").read_bytes()
    return False


def kills(count: int, seed: int, folder: Path, tally: Tally) -> None:
    """So many kills, of everybody amid everything in turn."""
    shop = Shop(folder, seed)
    try:
        every = [(whom, amid) for amid in AMID for whom in WHOM]
        for number in range(count):
            shop.round(*every[number % len(every)], tally)
        tally.answered = shop.answered
        shop.printed_once(tally)
        shop.goes_on(tally)
        shop.server.stop(tally)
    finally:
        shop.close()


def migrations(count: int, seed: int, folder: Path, tally: Tally) -> None:
    """Kill a server while it brings a database of a former version up to date; then let it."""
    dice = random.Random(seed)
    former = folder / "former.sqlite3"
    at_revision(former, "0009")
    code = "from pathlib import Path; import sys; from upright_heron.store.store import Store; Store(Path(sys.argv[1]))"
    for number in range(count):
        path = folder / f"{number}.sqlite3"
        shutil.copy(former, path)
        begin = time.monotonic()
        with subprocess.Popen([sys.executable, "-c", code, str(path)], stderr=subprocess.PIPE) as process:
            time.sleep(dice.uniform(0.3, 1.6))
            process.kill()
            process.wait()
        told = subprocess.run(
            [sys.executable, "-c", code, str(path)], capture_output=True, text=True, timeout=60
        )
        tally.took(time.monotonic() - begin, f"migration {number}")
        if told.returncode:
            tally.traces += 1
            tally.worst.append(told.stderr[-200:])
            continue
        with contextlib.closing(sqlite3.connect(path)) as raw:
            whole = raw.execute("pragma integrity_check").fetchone() == ("ok",)
            steps = raw.execute("select count(*) from step").fetchone()[0]
            room = raw.execute("select bytes from result_room").fetchone()[0]
        tally.lost += not (whole and steps == 1 and room == 75_000)
        tally.left += len(list(folder.glob(f"{number}.*begun*")))
        for one in folder.glob(f"{number}.*"):
            one.unlink()

"""Full disks, and databases that are locked, foreign, of another version or damaged."""

from __future__ import annotations

import contextlib
import os
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from tests.support import box, comb, stl
from tests.trial.files import sent
from tests.trial.watched import Tally, Watched
from upright_heron.store.store import Store


@contextlib.contextmanager
def small_disk(megabytes: int) -> Iterator[Path | None]:
    """A disk of so much room; ``None`` where nobody may mount one."""
    with tempfile.TemporaryDirectory() as folder:
        mounted = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={megabytes}m", "tmpfs", folder], capture_output=True
        )
        if mounted.returncode:
            yield None
            return
        try:
            yield Path(folder)
        finally:
            subprocess.run(["umount", "-l", folder], capture_output=True, check=False)


def full_disk(tally: Tally) -> None:
    """Fill the disk of a running server; it says so, goes on, and has what it acknowledged."""
    with small_disk(24) as folder:
        if folder is None:
            tally.worst.append("not tried: nobody may mount a small disk here")
            return
        server = Watched.__new__(Watched)
        tempfile.tempdir = str(folder)
        try:
            server.__init__()  # type: ignore[misc]
        finally:
            tempfile.tempdir = None
        try:
            job = server.upload("comb.stl", stl(comb()))
            server.settle(job)
            kept, refused = [], 0
            filler = folder / "filler"
            for number in range(40):
                if number == 5:
                    # All that is left, but for a page or two.
                    with filler.open("wb", buffering=0) as file, contextlib.suppress(OSError):
                        while file.write(b"\0" * 4096):
                            pass
                begin = time.monotonic()
                status, words = sent(server, f"{number}.stl", stl(box(10 + number, 10, 5)))
                tally.took(time.monotonic() - begin, f"upload {number}")
                if status == 201:
                    kept.append(words)
                elif status in (422, 503) and "foresee" not in words:
                    refused += 1
                else:
                    tally.errors += 1
                    tally.worst.append(f"upload {number}: {status} {words[:200]}")
                if number == 30:
                    filler.unlink()
            page, _ = _page(server, "/")
            tally.errors += page != 200
            if not refused or len(kept) < 10:
                tally.lost += 1
                tally.worst.append(f"{refused} refused, {len(kept)} kept")
            if len(server.get("/api/jobs")) != len(kept) + 1:
                tally.lost += 1
                tally.worst.append("jobs that were acknowledged are not there")
            server.stop(tally)
        finally:
            server.close()


def _page(server: Watched, path: str) -> tuple[int, str]:
    import http.client

    connection = http.client.HTTPConnection("127.0.0.1", server.port, timeout=60)
    connection.request("GET", path)
    answer = connection.getresponse()
    found = answer.status, answer.read().decode(errors="replace")
    connection.close()
    return found


def locked(tally: Tally) -> None:
    """Another program holds the write lock: pages answer at once, changes are refused with words, nothing hangs."""
    server = Watched()
    try:
        job = server.upload("comb.stl", stl(comb()))
        server.settle(job)
        with contextlib.closing(
            sqlite3.connect(server.folder / "heron.sqlite3", isolation_level=None)
        ) as other:
            other.execute("BEGIN IMMEDIATE")
            for path in ("/", f"/jobs/{job}", "/machines", "/record", "/floor"):
                begin = time.monotonic()
                status, _ = _page(server, path)
                took = time.monotonic() - begin
                tally.took(took, f"page {path} while locked")
                tally.errors += status != 200
                tally.hangs += took > 5
            status, words = sent(server, "b.stl", stl(box(3, 3, 3)))
            if status != 503 or "locked" not in words:
                tally.errors += 1
                tally.worst.append(f"change while locked: {status} {words[:200]}")
            other.execute("ROLLBACK")
        if sent(server, "b.stl", stl(box(3, 3, 3)))[0] != 201:
            tally.errors += 1
        server.stop(tally)
    finally:
        server.close()


def foreign(tally: Tally) -> None:
    """Start on what is no database of ours: one line, and the file as it was."""

    def garbage(path: Path) -> None:
        path.write_bytes(b"SQLite format 3\0" + os.urandom(5000))

    def noise(path: Path) -> None:
        path.write_bytes(os.urandom(5000))

    def other(path: Path) -> None:
        with contextlib.closing(sqlite3.connect(path)) as raw:
            raw.execute("CREATE TABLE birds (name TEXT)")

    def later(path: Path) -> None:
        Store(path).close()
        with contextlib.closing(sqlite3.connect(path)) as raw:
            raw.execute("UPDATE alembic_version SET version_num = '9999'")
            raw.commit()

    def cut(path: Path) -> None:
        Store(path).close()
        with contextlib.closing(sqlite3.connect(path)) as raw:
            raw.execute("PRAGMA journal_mode=DELETE")
        path.write_bytes(path.read_bytes()[:9000])

    def folder(path: Path) -> None:
        path.mkdir()

    makers: tuple[Callable[[Path], None], ...] = (garbage, noise, other, later, cut, folder)
    for make in makers:
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "heron.sqlite3"
            make(path)
            before = path.read_bytes() if path.is_file() else b""
            begin = time.monotonic()
            with socket.socket() as free:
                free.bind(("127.0.0.1", 0))
                port = free.getsockname()[1]
            command = ["serve", "--port", str(port), "--database", str(path)]
            told = subprocess.run(
                [sys.executable, "-m", "upright_heron.cli", *command],
                capture_output=True,
                text=True,
                timeout=60,
            )
            tally.took(time.monotonic() - begin, make.__name__)
            if told.returncode != 2 or len(told.stderr.splitlines()) != 1:
                tally.traces += 1
                tally.worst.append(f"{make.__name__}: {told.returncode} {told.stderr[-300:]}")
            if path.is_file() and path.read_bytes() != before:
                tally.lost += 1
                tally.worst.append(f"{make.__name__}: the file was changed")

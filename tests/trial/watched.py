"""A server that is watched while it is tried: what its processes take, what they leave, and what they log."""

from __future__ import annotations

import contextlib
import dataclasses
import os
import signal
import threading
import time
from pathlib import Path

from tests.browser.driver import Server

# More than this no process takes for a file, MB.
MOST_MB = 2000.0


@dataclasses.dataclass
class Tally:
    """A line of the table: how many were tried, and what went wrong with how many."""

    name: str
    tried: int = 0
    hangs: int = 0
    orphans: int = 0
    left: int = 0
    lost: int = 0
    traces: int = 0
    errors: int = 0
    slowest_s: float = 0.0
    largest_mb: float = 0.0
    answered: int = 0
    worst: list[str] = dataclasses.field(default_factory=list)

    @property
    def bad(self) -> int:
        """Everything that should be none."""
        wrong = self.hangs + self.orphans + self.left + self.lost + self.traces + self.errors
        return wrong + (self.largest_mb > MOST_MB)

    def took(self, seconds: float, what: str) -> None:
        """Note how long one took; over 20 s it counts as hanging."""
        self.tried += 1
        self.slowest_s = max(self.slowest_s, seconds)
        if seconds > 20:
            self.hangs += 1
            self.worst.append(f"{seconds:.0f} s: {what}")

    def took_mb(self, megabytes: float, what: str) -> None:
        """Note how much a process took; past what is allowed it is named."""
        if megabytes > max(self.largest_mb, MOST_MB):
            self.worst.append(f"{megabytes:.0f} MB: {what}")
        self.largest_mb = max(self.largest_mb, megabytes)

    def row(self) -> str:
        """A row of the table in Markdown."""
        return (
            f"| {self.name} | {self.tried} | {self.hangs} | {self.orphans} | {self.left} | {self.lost} "
            f"| {self.traces} | {self.errors} | {self.slowest_s:.1f} | {self.largest_mb:.0f} |"
        )


HEAD = (
    "| what | tried | hangs | orphans | left files | lost | tracebacks | server errors | slowest, s | MB |\n"
    "|---|---|---|---|---|---|---|---|---|---|"
)


def members(group: int) -> dict[int, tuple[int, int]]:
    """Processes of a group that live: parent and resident memory (kB), by id."""
    found = {}
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit():
            with contextlib.suppress(OSError, ValueError, StopIteration):
                state, parent, of = (folder / "stat").read_text().rpartition(")")[2].split()[:3]
                if int(of) != group or state == "Z":
                    continue
                lines = (folder / "status").read_text().splitlines()
                peak = next(line for line in lines if line.startswith("VmHWM"))
                found[int(folder.name)] = (int(parent), int(peak.split()[1]))
    return found


def largest_mb(group: int) -> float:
    """Most that one process of a group took so far."""
    return max((peak for _, peak in members(group).values()), default=0) / 1024


class Watched(Server):
    """A server with a folder of its own for temporary files, looked at all the time."""

    def __init__(self) -> None:
        self.peaks: dict[int, int] = {}
        self._ends = threading.Event()
        super().__init__()
        self._looks = threading.Thread(target=self._look, daemon=True)
        self._looks.start()

    def start(self) -> None:
        """Start it with its own folder for what is temporary."""
        temporary = self.folder / "tmp"
        temporary.mkdir(exist_ok=True)
        self._environment |= {"TMPDIR": str(temporary)}
        super().start()

    def _look(self) -> None:
        while not self._ends.wait(0.1):
            for pid, (_, peak) in members(self.process.pid).items():
                self.peaks[pid] = max(self.peaks.get(pid, 0), peak)

    @property
    def largest_mb(self) -> float:
        """Most that one of its processes took."""
        return max(self.peaks.values(), default=0) / 1024

    def traces(self) -> list[str]:
        """Tracebacks that it wrote down."""
        text = (self.folder / "server.log").read_text(errors="replace")
        return [
            part.strip().splitlines()[-1] for part in text.split("Traceback (most recent call last):")[1:]
        ]

    def left_files(self) -> list[str]:
        """What lies in its folders for what comes in and what is temporary, while nothing comes in."""
        found = [*(self.folder / "tmp").iterdir(), *(self.folder / "heron-incoming").glob("*")]
        return [one.name for one in found]

    def orphans(self, within_s: float = 20.0) -> list[int]:
        """Processes of it that live on after it was killed."""
        until = time.monotonic() + within_s
        while left := list(members(self.process.pid)):
            if time.monotonic() > until:
                for one in left:
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(one, signal.SIGKILL)
                return left
            time.sleep(0.05)
        return []

    def stop(self, tally: Tally) -> None:
        """End it in order, and note what it leaves."""
        processes = members(self.process.pid)
        begin = time.monotonic()
        self.process.terminate()
        try:
            self.process.wait(timeout=20)
        except Exception:
            self.process.kill()
            self.process.wait()
        if time.monotonic() - begin > 8:
            tally.hangs += 1
            tally.worst.append(f"stopped after {time.monotonic() - begin:.0f} s")
        left = self.orphans(8)
        tally.orphans += len(left)
        tally.worst += [f"lives on: {processes.get(one)}" for one in left]
        files = self.left_files() if (self.folder / "heron-incoming").exists() else []
        files += [one.name for one in (self.folder / "tmp").iterdir() if one.name not in files]
        tally.left += len(files)
        tally.worst += [f"left: {name}" for name in files[:5]]
        self.note(tally)

    def note(self, tally: Tally) -> None:
        """Note what it wrote down and took."""
        found = self.traces()
        tally.traces += len(found)
        tally.worst += found[:5]
        tally.took_mb(self.largest_mb, "the server and its workers")

    def close(self) -> None:
        """End all of it and throw its folder away."""
        self._ends.set()
        super().close()

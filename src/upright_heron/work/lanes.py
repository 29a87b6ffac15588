"""Worker processes, one a lane: each does one thing at a time, can be told to stop, is replaced when lost."""

from __future__ import annotations

import contextlib
import multiprocessing
import multiprocessing.process
import resource
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import BrokenExecutor, Executor, Future, ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.graph import GRAPH
from . import worker
from .left_behind import keep_together

# Message of a worker: what it is about, the number of its task, a text, and two counts.
Message = tuple[str, int, str, int, int]


# Not imported here: it does what only the process that workers are forked from should do.
FORKED_FROM = f"{__package__}.forked_from"

# So long a process that was told to stop may go on, s.
GRACE_S = 3.0


# A process that keeps more than this once it is done is replaced, MB.
MOST_MB = 3000


def _resident_mb(process: multiprocessing.process.BaseProcess) -> float:
    """Memory that a process has, MB; 0 where nobody can say."""
    try:
        pages = int(Path(f"/proc/{process.pid}/statm").read_text().split()[1])
    except (OSError, ValueError, IndexError):
        return 0.0
    return pages * resource.getpagesize() / 1e6


def _processes(executor: Executor) -> list[multiprocessing.process.BaseProcess]:
    """The processes of a pool. It tells of them nowhere else, and waits for them without end."""
    return list((getattr(executor, "_processes", None) or {}).values())


@dataclass
class Lane:
    """One worker process.

    Attributes
    ----------
    number : int
    executor : Executor
    events : Queue
        What its process tells. Each process has one of its own: one that dies may hold its lock for ever.
    task : int
        Number of the task that it works on, or 0.
    about : str
        Key of the surface that it worked on last: that is still at hand there.
    """

    number: int
    executor: Executor
    events: Any
    task: int = 0
    about: str = field(default="", compare=False)


class Lanes:
    """The worker processes of a server.

    Parameters
    ----------
    database : Path
    count : int
    told : callable
        Called, in a thread of its own, with each message of a worker.
    most_mb : int
        Memory that a process may keep once it has nothing to do.
    """

    def __init__(
        self, database: Path, count: int, told: Callable[[Message], None], most_mb: int = MOST_MB
    ) -> None:
        self._most_mb = most_mb
        keep_together()
        context = multiprocessing.get_context("forkserver")
        # Imported once, by the process that all others are forked from: most of what a start takes. Kernels
        # are loaded behind the fork, for some begin threads, which a fork would lose.
        context.set_forkserver_preload([FORKED_FROM, worker.__name__, *GRAPH.modules])
        self._context = context
        self._database = database
        # A worker stops when its flag holds the number of its task: an old flag stops nothing new.
        self._flags = context.Array("q", count, lock=False)
        self._told = told
        self.lanes = [Lane(number, *self._process()) for number in range(count)]

    def _process(self) -> tuple[Executor, Any]:
        """A new process, and the queue of what it tells, with somebody who listens."""
        events = self._context.Queue()
        listener = threading.Thread(target=self._listen, args=(events,), name="work-events", daemon=True)
        listener.start()
        arguments = (str(self._database), events, self._flags, GRAPH.modules)
        pool = ProcessPoolExecutor(1, mp_context=self._context, initializer=worker.start, initargs=arguments)
        return pool, events

    def warm_up(self) -> None:
        """Start the processes now instead of at the first request, and wait for none.

        The first waits until what they are forked from has imported everything: pages need not.
        """
        threading.Thread(target=self._begin, name="work-begins", daemon=True).start()

    def _begin(self) -> None:
        # Closed meanwhile, an executor takes nothing more.
        with contextlib.suppress(RuntimeError):
            for lane in self.lanes:
                lane.executor.submit(worker.ready)

    def submit(
        self, lane: Lane, task: int, call: Callable[..., Any], arguments: Sequence[Any]
    ) -> Future[Any]:
        """Have a lane call ``call(task, lane number, *arguments)``."""
        self._flags[lane.number] = 0
        lane.task = task
        try:
            return lane.executor.submit(call, task, lane.number, *arguments)
        except BrokenExecutor:
            self.replace(lane)
            return lane.executor.submit(call, task, lane.number, *arguments)

    def replace(self, lane: Lane) -> None:
        """Give a lane a new process; the one that it had is lost."""
        lost = lane.executor
        lane.executor, lane.events = self._process()
        lane.about = ""
        lost.shutdown(wait=False, cancel_futures=True)

    def renew(self, lane: Lane) -> bool:
        """Give an idle lane a new process where its own takes more memory than it may; whether it did."""
        if sum(map(_resident_mb, _processes(lane.executor))) <= self._most_mb:
            return False
        self.replace(lane)
        lane.executor.submit(worker.ready)
        return True

    def stop(self, task: int) -> None:
        """Ask whoever works on a task to stop."""
        for lane in self.lanes:
            if lane.task == task:
                self._flags[lane.number] = task

    def close(self) -> None:
        """Stop all tasks and processes."""
        for lane in self.lanes:
            self._flags[lane.number] = lane.task
        processes = [one for lane in self.lanes for one in _processes(lane.executor)]
        for lane in self.lanes:
            lane.executor.shutdown(wait=False, cancel_futures=True)
        until = time.monotonic() + GRACE_S
        for one in processes:
            one.join(max(0.0, until - time.monotonic()))
            if one.is_alive():
                # It is in the middle of something that does not ask: what it makes is made anew.
                one.kill()
                one.join()
        for lane in self.lanes:
            lane.events.put(None)
            lane.events.cancel_join_thread()

    def _listen(self, events: Any) -> None:
        while True:
            message = events.get()
            if message is None:
                return
            self._told(message)

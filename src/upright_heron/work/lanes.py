"""Worker processes, one a lane: each does one thing at a time, can be told to stop, is replaced when lost."""

from __future__ import annotations

import multiprocessing
import multiprocessing.process
import queue
import resource
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import BrokenExecutor, Executor, Future, ProcessPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

from ..core.graph import GRAPH
from . import worker
from .futures import pass_on, settle
from .left_behind import keep_together

# Message of a worker: what it is about, the number of its task, a text, and two counts.
Message = tuple[str, int, str, int, int]
# What a lane is to call, with its arguments, and what ends with it.
Asked = tuple[Callable[..., Any], tuple[Any, ...], Future[Any]]

# Not imported here: it does what only the process that workers are forked from should do.
FORKED_FROM = f"{__package__}.forked_from"

# So long a process that was told to stop may go on, s.
GRACE_S = 3.0


# So long it is waited between tries to begin a process, s: what it is forked from may be on its way out.
WAITS_S = (0.1, 0.3, 1.0)

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
    asked : SimpleQueue
        What it is to call, and the future of that.
    """

    number: int
    executor: Executor
    events: Any
    task: int = 0
    about: str = field(default="", compare=False)
    asked: queue.SimpleQueue[Asked | None] = field(default_factory=queue.SimpleQueue, compare=False)


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
        self._closing = False
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
        for lane in self.lanes:
            threading.Thread(target=self._give, args=(lane,), name="work-lane", daemon=True).start()

    def _process(self) -> tuple[Executor, Any]:
        """A new process, and the queue of what it tells, with somebody who listens."""
        events = self._context.Queue()
        listener = threading.Thread(target=self._listen, args=(events,), name="work-events", daemon=True)
        listener.start()
        arguments = (str(self._database), events, self._flags, GRAPH.modules)
        pool = ProcessPoolExecutor(1, mp_context=self._context, initializer=worker.start, initargs=arguments)
        return pool, events

    def warm_up(self) -> None:
        """Start the processes now instead of at the first request."""
        for lane in self.lanes:
            self._ask(lane, worker.ready)

    def submit(
        self, lane: Lane, task: int, call: Callable[..., Any], arguments: Sequence[Any]
    ) -> Future[Any]:
        """Have a lane call ``call(task, lane number, *arguments)``; waits for nothing."""
        self._flags[lane.number] = 0
        lane.task = task
        return self._ask(lane, call, task, lane.number, *arguments)

    def _ask(self, lane: Lane, call: Callable[..., Any], *arguments: Any) -> Future[Any]:
        asked: Future[Any] = Future()
        lane.asked.put((call, arguments, asked))
        return asked

    def _give(self, lane: Lane) -> None:
        """Hand over what a lane is asked for.

        In a thread of its own: the first process is begun once what it is forked from has imported
        everything, which takes seconds, and no page should wait for that.
        """
        while (one := lane.asked.get()) is not None:
            call, arguments, asked = one
            try:
                given = self._begun(lane, call, arguments)
            except (OSError, EOFError, RuntimeError) as error:
                # What it was to be forked from went, or all is being closed.
                lost = BrokenExecutor("No process could be begun.")
                lost.__cause__ = error
                settle(asked, error=lost)
            else:
                given.add_done_callback(partial(pass_on, to=asked))

    def _begun(self, lane: Lane, call: Callable[..., Any], arguments: tuple[Any, ...]) -> Future[Any]:
        """Hand over to a process; where what it is forked from is just going, to one of its successor."""
        for wait_s in WAITS_S:
            try:
                return self._given(lane, call, arguments)
            except (OSError, EOFError):
                if self._closing:
                    raise
                time.sleep(wait_s)
                self.replace(lane)
        return self._given(lane, call, arguments)

    def _given(self, lane: Lane, call: Callable[..., Any], arguments: tuple[Any, ...]) -> Future[Any]:
        executor = lane.executor
        try:
            return executor.submit(call, *arguments)
        except BrokenExecutor:
            # Its process was lost while it had nothing to do.
            if lane.executor is executor:
                self.replace(lane)
            return lane.executor.submit(call, *arguments)

    def replace(self, lane: Lane) -> None:
        """Give a lane a new process; the one that it had is lost."""
        lost = lane.executor
        lane.executor, lane.events = self._process()
        lane.about = ""
        lost.shutdown(wait=False, cancel_futures=True)

    def make_good(self, lost: Lane) -> None:
        """Give a lane whose process is lost a new one, and idle lanes whose processes went with it.

        All go at once where what they are forked from went: a task that is begun again would meet the next
        loss before anybody noticed it.
        """
        self.replace(lost)
        for lane in self.lanes:
            if (
                lane is not lost
                and lane.task == 0
                and not all(p.is_alive() for p in _processes(lane.executor))
            ):
                self.replace(lane)

    def renew(self, lane: Lane) -> bool:
        """Give an idle lane a new process where its own takes more memory than it may; whether it did."""
        if sum(map(_resident_mb, _processes(lane.executor))) <= self._most_mb:
            return False
        self.replace(lane)
        self._ask(lane, worker.ready)
        return True

    def stop(self, task: int) -> None:
        """Ask whoever works on a task to stop."""
        for lane in self.lanes:
            if lane.task == task:
                self._flags[lane.number] = task

    def close(self) -> None:
        """Stop all tasks and processes."""
        self._closing = True
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
            lane.asked.put(None)
            lane.events.put(None)
            lane.events.cancel_join_thread()

    def _listen(self, events: Any) -> None:
        while True:
            message = events.get()
            if message is None:
                return
            self._told(message)

"""The server's side of the work: one task a job, progress to whoever listens, cancelling, failures kept."""

from __future__ import annotations

import asyncio
import itertools
import logging
import multiprocessing
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import BrokenExecutor, Executor, Future, ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from ..core.errors import BadValue, HeronError
from ..sheet.models import JobSheet, PaintedMarks, Part, Size
from ..store.store import Store
from . import worker
from .keys import keys, looked_at, wanted

Answer = TypeVar("Answer")

log = logging.getLogger(__name__)

SLOTS = 256
Event = dict[str, Any]


@dataclass
class Task:
    """One run for one job.

    Attributes
    ----------
    id, slot : int
    job_id : str
    keys : tuple of str
        What is being made.
    stage, done, total
        Where it stands.
    state : str
        ``running``, ``done``, ``stopped`` or ``failed``.
    message, advice : str
        Of a failure.
    """

    id: int
    slot: int
    job_id: str
    keys: tuple[str, ...]
    stage: str = "Waiting"
    done: int = 0
    total: int = 1
    state: str = "running"
    message: str = ""
    advice: str = ""
    future: Future[str] | None = field(default=None, repr=False)

    def event(self) -> Event:
        """What listeners are told."""
        names = ("state", "stage", "done", "total", "message", "advice")
        return {"type": "task", **{name: getattr(self, name) for name in names}}


class Work:
    """Runs computations in worker processes.

    Parameters
    ----------
    store : Store
    workers : int
        Processes.
    """

    def __init__(self, store: Store, workers: int = 2) -> None:
        self._store = store
        self._workers = workers
        context = multiprocessing.get_context("spawn")
        self._context = context
        self._events = context.Queue()
        self._flags = context.Array("b", SLOTS, lock=False)
        self._ids = itertools.count(1)
        self._tasks: dict[str, Task] = {}
        self._by_id: dict[int, Task] = {}
        # What makes a step: it goes on while the figures of the step before are made or asked for.
        self._acts: dict[str, Task] = {}
        self._listeners: dict[str, set[tuple[asyncio.AbstractEventLoop, asyncio.Queue[Event]]]] = {}
        self._lock = threading.RLock()
        self._executor: Executor = self._new_executor()
        self._closing = False
        self._drain = threading.Thread(target=self._listen, name="work-events", daemon=True)
        self._drain.start()

    def _new_executor(self) -> Executor:
        return ProcessPoolExecutor(
            self._workers,
            mp_context=self._context,
            initializer=worker.start,
            initargs=(str(Path(self._store.path)), self._events, self._flags),
        )

    def warm_up(self) -> None:
        """Start the processes now instead of at the first request."""
        for _ in range(self._workers):
            self._executor.submit(worker.ready)

    def close(self) -> None:
        """Stop all tasks and processes."""
        with self._lock:
            self._closing = True
            for task in self._tasks.values():
                self._flags[task.slot] = 1
        self._executor.shutdown(wait=True, cancel_futures=True)
        self._events.put(None)
        self._drain.join(timeout=5)
        self._events.close()

    # Tasks ------------------------------------------------------------------

    def task(self, job_id: str) -> Task | None:
        """The last task of a job, running or ended."""
        return self._tasks.get(job_id)

    def act(self, job_id: str) -> Task | None:
        """What is being done to the part of a job, if anything."""
        return self._acts.get(job_id)

    def ensure(self, job_id: str, sheet: JobSheet, *, again: bool = False) -> Task | None:
        """Start making whatever the sheet asks for and is not remembered; newer input stops older work.

        Parameters
        ----------
        job_id : str
        sheet : JobSheet
        again : bool
            Also after a failure or a stop of the very same work.

        Returns
        -------
        Task or None
            ``None`` when everything is there.
        """
        # The part that is shown comes first; the others follow, so that the whole job has its figures.
        for one in looked_at(sheet):
            asked_for = wanted(one)
            missing = [(name, key) for name, key in asked_for if not self._store.has_result(key)]
            if missing:
                break
        with self._lock:
            current = self._tasks.get(job_id)
            running = current is not None and current.state == "running"
            if not missing:
                if running:
                    self.cancel(job_id)
                self._tasks.pop(job_id, None)
                return None
            asked = tuple(key for _, key in asked_for)
            if (
                current is not None
                and current.keys == asked
                and (running or not again)
                and current.state != "done"
            ):
                return current
            if running:
                self.cancel(job_id)
            task = self._tasks[job_id] = self._new_task(job_id, asked)
            self._start(task, one, [name for name, _ in missing])
            return task

    def _new_task(self, job_id: str, asked: tuple[str, ...]) -> Task:
        task = Task(next(self._ids), self._free_slot(), job_id, asked)
        self._flags[task.slot] = 0
        self._by_id[task.id] = task
        return task

    def _free_slot(self) -> int:
        used = {
            t.slot for t in self._by_id.values() if t.state == "running" or not (t.future and t.future.done())
        }
        return next(slot for slot in range(SLOTS) if slot not in used)

    def _start(self, task: Task, sheet: JobSheet, names: list[str]) -> None:
        arguments = (task.id, task.slot, sheet.model_dump_json(), names)
        try:
            task.future = self._executor.submit(worker.compute, *arguments)
        except BrokenExecutor:
            # A killed worker breaks the whole pool; a new one takes over.
            self._executor = self._new_executor()
            task.future = self._executor.submit(worker.compute, *arguments)
        task.future.add_done_callback(lambda future: self._ended(task, future))

    def cancel(self, job_id: str) -> None:
        """Ask the running task of a job to stop; what it has finished stays."""
        with self._lock:
            act = self._acts.get(job_id)
            if act is not None:
                self._flags[act.slot] = 1
            task = self._tasks.get(job_id)
            if task is not None and task.state == "running":
                self._flags[task.slot] = 1
                task.state = "stopped"
                if task.future is not None:
                    task.future.cancel()
                self._tell(job_id, task.event())

    def _ended(self, task: Task, future: Future[str]) -> None:
        with self._lock:
            self._by_id.pop(task.id, None)
            if task.state != "running":
                return
            if future.cancelled():
                task.state = "stopped"
            else:
                error = future.exception()
                if error is None:
                    task.state = future.result()
                else:
                    task.state = "failed"
                    task.message, task.advice = _explain(error)
            self._tell(task.job_id, task.event())

    # Other work --------------------------------------------------------------

    async def intake(self, path: Path, file_name: str, tolerance_mm: float = 0.1) -> Part:
        """Read an uploaded file in a worker.

        Raises
        ------
        BadFile
            From ``work.intake.take_in``.
        """
        return await self._ask(worker.intake, str(path), file_name, tolerance_mm)

    async def resize(self, sheet: JobSheet, size: Size) -> tuple[Part, PaintedMarks | None]:
        """Size the part of a sheet in a worker, and carry its marks along.

        Raises
        ------
        BadValue
            From ``work.intake.resized``.
        """
        return await self._ask(worker.resize, sheet.model_dump_json(), size.model_dump_json())

    async def mend(self, job_id: str, sheet: JobSheet, steps: tuple[str, ...] | None) -> worker.MendAnswer:
        """Mend the part of a sheet in a worker, with progress on the page of its job.

        Raises
        ------
        BadValue
            No such step, or the part is being mended already.
        Cancelled
            Stopped on request.
        """
        with self._lock:
            if job_id in self._acts:
                raise BadValue("This part is being mended already.", "Wait for it, or stop it.")
            task = self._acts[job_id] = self._new_task(job_id, ())
        try:
            return await self._ask(worker.mend, task.id, task.slot, sheet.model_dump_json(), steps)
        finally:
            with self._lock:
                self._by_id.pop(task.id, None)
                self._acts.pop(job_id, None)
                # Whoever looks at the job on another page hears that it is over.
                task.state = "done"
                self._tell(job_id, task.event())

    async def _ask(self, call: Callable[..., Answer], *arguments: object) -> Answer:
        try:
            future = self._executor.submit(call, *arguments)
        except BrokenExecutor:
            # A killed worker breaks the whole pool; a new one takes over.
            self._executor = self._new_executor()
            future = self._executor.submit(call, *arguments)
        return await asyncio.wrap_future(future)

    def run(self, sheet: JobSheet, names: Sequence[str]) -> None:
        """Make results and wait for them; for hand-off, where the answer is the file itself."""
        missing = [name for name in names if not self._store.has_result(keys(sheet)[name])]
        if missing:
            with self._lock:
                task = self._new_task("", ())
            try:
                self._executor.submit(
                    worker.compute, task.id, task.slot, sheet.model_dump_json(), missing
                ).result()
            finally:
                self._by_id.pop(task.id, None)

    # Listeners -----------------------------------------------------------------

    def listen(self, job_id: str) -> asyncio.Queue[Event]:
        """Queue of the events of a job, for the running event loop."""
        queue: asyncio.Queue[Event] = asyncio.Queue()
        with self._lock:
            self._listeners.setdefault(job_id, set()).add((asyncio.get_running_loop(), queue))
        return queue

    def unlisten(self, job_id: str, queue: asyncio.Queue[Event]) -> None:
        """End a queue of ``listen``."""
        with self._lock:
            known = self._listeners.get(job_id, set())
            known.difference_update({entry for entry in known if entry[1] is queue})
            if not known:
                self._listeners.pop(job_id, None)

    def _tell(self, job_id: str, event: Event) -> None:
        for loop, queue in list(self._listeners.get(job_id, ())):
            if not loop.is_closed():
                loop.call_soon_threadsafe(queue.put_nowait, event)

    def _listen(self) -> None:
        while True:
            message = self._events.get()
            if message is None:
                return
            kind, number, text, done, total = message
            with self._lock:
                task = self._by_id.get(number)
                if task is None or task.state != "running":
                    continue
                if kind == "ready":
                    self._tell(task.job_id, {"type": "ready", "name": text})
                else:
                    task.stage, task.done, task.total = text, done, total
                    self._tell(task.job_id, task.event())


def _explain(error: BaseException) -> tuple[str, str]:
    if isinstance(error, HeronError):
        return str(error), error.advice
    if isinstance(error, BrokenExecutor):
        return (
            "The computation ended without an answer.",
            "Try again; if it happens again, use a coarser part.",
        )
    log.error("A computation failed", exc_info=error)
    return (
        "The computation failed for a reason that we did not foresee.",
        "The job is untouched. Try again, or try another stance or layer height.",
    )

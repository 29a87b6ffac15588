"""The server's side of the work: one task a key, shared by all who wait for it.

A page says what it wants to show; whoever hands off waits for one result. What neither is there nor under way
becomes a task, one for each remembered result, and begins once what it needs is there. Clicks of people go
before what pages show, and that before background work, which makes room. A task stops when nobody wants it
any more. A worker that is lost is replaced, and its task done again once.
"""

from __future__ import annotations

import asyncio
import itertools
import logging
import threading
from collections.abc import Callable, Iterable
from concurrent.futures import BrokenExecutor, CancelledError, Future
from dataclasses import dataclass
from typing import Any, TypeVar

from ..core.errors import BadValue, Cancelled, HeronError
from ..core.graph import Recipe
from ..core.keys import Keys
from ..core.maker import bound
from ..store.store import Store
from ..store.trouble import trouble_of
from . import worker
from .futures import end_with, settle
from .lanes import MOST_MB, Lane, Lanes, Message
from .tasks import Event, Rank, Standing, Task

Answer = TypeVar("Answer")

log = logging.getLogger(__name__)
# A task whose worker was lost is begun this often in all.
TRIES = 2


@dataclass(eq=False)
class _Page:
    """What a page wants: keys of remembered results, and those of them that were stopped."""

    keys: tuple[str, ...] = ()
    about: str = ""
    stopped: bool = False


class Scheduler:
    """Has results made in worker processes.

    Parameters
    ----------
    store : Store
    workers : int
        Processes.
    worker_mb : int
        Memory that a process may keep once it is done with something.
    """

    def __init__(self, store: Store, workers: int = 2, worker_mb: int = MOST_MB) -> None:
        self._store = store
        self._lock = threading.RLock()
        self._numbers = itertools.count(1)
        self._tasks: dict[str, Task] = {}
        self._by_number: dict[int, Task] = {}
        self._failed: dict[str, tuple[str, str]] = {}
        self._pages: dict[str, _Page] = {}
        # What makes a step, by job: it goes on while results are made or asked for.
        self._acts: dict[str, Task] = {}
        self._listeners: dict[str, set[tuple[asyncio.AbstractEventLoop, asyncio.Queue[Event]]]] = {}
        self._closing = False
        # Told the name of each result that was made, for whoever counts them.
        self.made: Callable[[str, str], None] = lambda name, key: None
        self._lanes = Lanes(store.path, workers, self._told, worker_mb)

    def warm_up(self) -> None:
        """Start the processes now instead of at the first request."""
        self._lanes.warm_up()

    def close(self) -> None:
        """Stop all tasks and processes."""
        with self._lock:
            self._closing = True
            for task in [t for t in self._tasks.values() if t.lane is None]:
                self._drop(task)
        self._lanes.close()

    # What pages want ------------------------------------------------------------

    def want(
        self,
        page: str,
        wanted: Iterable[tuple[Keys, str]],
        *,
        about: str = "",
        rank: Rank = Rank.PAGE,
        again: bool = False,
    ) -> Standing | None:
        """Have made whatever a page shows and is not there; what it wants no more is let go.

        Parameters
        ----------
        page : str
            Who wants it.
        wanted : iterable of (Keys, str)
            Results, what is looked at first before the others.
        about : str
            The document that they are of: what was stopped stays so until that is another.
        rank : Rank
        again : bool
            Also what failed or was stopped.

        Returns
        -------
        Standing or None
            ``None`` when everything is there.
        """
        plan, missing = self._plan(wanted)
        with self._lock:
            known = self._pages.setdefault(page, _Page())
            asked = tuple(plan)
            if again:
                known.stopped = False
                for key in missing:
                    self._failed.pop(key, None)
            elif known.about != about:
                known.stopped = False
            old, known.keys, known.about = known.keys, asked, about
            self._let_go(page, set(old) - set(missing))
            if known.stopped and missing:
                return self.standing(page)
            if not missing:
                self._pages.pop(page)
                if old:
                    # Whoever else looks at it still shows it as under way: its last task was let go just now.
                    self._tell(page, Standing("done", made=len(asked), wanted=len(asked)).event())
                return None
            for key in missing:
                if key not in self._failed:
                    task = self._task(key, plan[key], rank)
                    task.owners.add(page)
            self._fill()
            return self.standing(page)

    def standing(self, page: str) -> Standing | None:
        """Where the work for a page stands; ``None`` when it wants nothing that is not there."""
        with self._lock:
            known = self._pages.get(page)
            if known is None:
                return None
            mine = [self._tasks[key] for key in known.keys if key in self._tasks]
            mine = [task for task in mine if page in task.owners]
            made, wanted = len(known.keys) - len(mine), len(known.keys)
            if mine:
                now = next((t for t in mine if t.lane is not None), mine[0])
                return Standing("running", now.stage, now.done, now.total, made, wanted)
            failed = next((self._failed[key] for key in known.keys if key in self._failed), None)
            if failed is not None:
                return Standing("failed", made=made, wanted=wanted, message=failed[0], advice=failed[1])
            if known.stopped:
                return Standing("stopped", made=made, wanted=wanted)
            return Standing("running", made=made, wanted=wanted)

    def refused(self, key: str) -> tuple[str, str] | None:
        """Why a result could not be made when it was last asked for, and what to do; ``None`` otherwise."""
        with self._lock:
            return self._failed.get(key)

    def cancel(self, page: str) -> None:
        """Stop what is made for a page until somebody asks again; what is finished stays."""
        with self._lock:
            act = self._acts.get(page)
            if act is not None:
                self._stop(act)
            known = self._pages.get(page)
            if known is not None:
                known.stopped = True
                self._let_go(page, set(known.keys))
                self._tell(page, Standing("stopped").event())
            self._fill()

    def give_up(self, asked: Future[Any]) -> None:
        """Stop what was asked for: whoever waited for it is gone."""
        with self._lock:
            for task in list(self._tasks.values()):
                if task.future is asked:
                    self._stop(task)
            self._fill()

    def forget(self, page: str) -> None:
        """Let go of all that a page wants: nobody looks at it any more."""
        with self._lock:
            known = self._pages.pop(page, None)
            if known is not None:
                self._let_go(page, set(known.keys))

    # What somebody waits for -----------------------------------------------------

    def make(self, keys: Keys, name: str, rank: Rank = Rank.CLICK) -> Future[None]:
        """Have one result made; the future ends when it is remembered, or with why it is not."""
        plan, missing = self._plan([(keys, name)])
        done: Future[None] = Future()
        if not missing:
            done.set_result(None)
            return done
        with self._lock:
            last = None
            for key in missing:
                # Somebody asks anew: what failed before is tried again.
                self._failed.pop(key, None)
                last = self._task(key, plan[key], rank)
                last.waiting += 1
            assert last is not None
            last.future.add_done_callback(lambda future: end_with(future, done))
            self._fill()
        return done

    def ask(
        self, call: Callable[..., Answer], *arguments: Any, page: str = "", busy: str = ""
    ) -> Future[Answer]:
        """Have a worker do something else than make a result.

        Parameters
        ----------
        call : callable
            Of ``work.worker``: it takes the number of its task and of its lane first.
        *arguments
        page : str
            Where its progress is shown, and where it can be stopped.
        busy : str
            What to say where such a thing is under way for the page already.

        Returns
        -------
        Future

        Raises
        ------
        BadValue
            Something is under way for this page.
        """
        with self._lock:
            if page and page in self._acts:
                raise BadValue(busy, "Wait for it, or stop it.")
            number = next(self._numbers)
            task = Task(number, f"act {number}", "", call, arguments, Rank.CLICK, waiting=1)
            task.stage = "Waiting for a worker"
            self._tasks[task.key] = self._by_number[number] = task
            if page:
                self._acts[page] = task
                task.owners.add(page)
                task.future.add_done_callback(lambda _: self._act_ended(page))
            self._fill()
            return task.future

    def act(self, page: str) -> Standing | None:
        """What is being done to the parts of a job, if anything."""
        with self._lock:
            task = self._acts.get(page)
            return None if task is None else Standing("running", task.stage, task.done, task.total)

    def _act_ended(self, page: str) -> None:
        with self._lock:
            self._acts.pop(page, None)
            # Whoever looks at the job on another page hears that it is over.
            self._tell(page, Standing("done").event())

    # Tasks ------------------------------------------------------------------------

    def _plan(
        self, wanted: Iterable[tuple[Keys, str]]
    ) -> tuple[dict[str, tuple[Keys, Recipe[Any]]], list[str]]:
        """What results are made by: remembered ones by key, each after what it needs; and those not there.

        Where a result is there, what it was made by is not looked for.
        """
        ends: dict[str, tuple[Keys, Recipe[Any]]] = {}
        for keys, name in wanted:
            if name in keys:
                for owner, one in keys.ends(name):
                    ends.setdefault(owner[one.name], (owner, one))
        there = self._store.has_results(ends)
        plan: dict[str, tuple[Keys, Recipe[Any]]] = {}
        for key, (owner, one) in ends.items():
            if key in there:
                plan.setdefault(key, (owner, one))
            else:
                plan |= {k: (o, r) for k, o, r in owner.plan(one.name) if k not in plan}
        unsure = [key for key in plan if key not in ends]
        there |= self._store.has_results(unsure) if unsure else set()
        return plan, [key for key in plan if key not in there]

    def _task(self, key: str, what: tuple[Keys, Recipe[Any]], rank: Rank) -> Task:
        task = self._tasks.get(key)
        if task is not None:
            task.rank = min(task.rank, rank)
            if task.stopping:
                # It stops, for nobody wanted it; once it has it is begun again.
                task.again = True
            return task
        keys, one = what
        below = {k for k, _, _ in keys.plan(one.name)} - {key}
        needs = {k for k in below if k in self._tasks or k in self._failed}
        number = next(self._numbers)
        task = Task(
            number,
            key,
            one.name,
            worker.compute,
            (one.name, bound(keys.binding, [one.name], keys.graph)),
            rank,
            about=keys.get("printed") or "" if "printed" in keys.graph else "",
            needs=needs,
        )
        self._tasks[key] = self._by_number[number] = task
        return task

    def _fill(self) -> None:
        """Give idle lanes what is ready and most urgent."""
        if self._closing:
            return
        ready = sorted(
            (t for t in self._tasks.values() if t.lane is None and not t.needs & self._tasks.keys()),
            key=lambda t: (t.rank, t.number),
        )
        for task in ready:
            if any(need in self._failed for need in task.needs):
                self._fail(task, next(self._failed[n] for n in task.needs if n in self._failed))
                continue
            idle = [lane for lane in self._lanes.lanes if lane.task == 0]
            if not idle:
                self._make_room(task)
                return
            self._begin(task, max(idle, key=lambda lane: lane.about == task.about))

    def _make_room(self, task: Task) -> None:
        """Stop background work where somebody waits for something."""
        if task.rank is not Rank.CLICK:
            return
        running = [t for t in self._tasks.values() if t.lane is not None and not t.stopping]
        if any(t.stopping for t in self._tasks.values() if t.lane is not None):
            return
        behind = [t for t in running if t.rank is Rank.BACKGROUND]
        if behind:
            last = max(behind, key=lambda t: t.number)
            last.again = True
            self._stop(last)

    def _begin(self, task: Task, lane: Lane) -> None:
        task.lane, task.tries = lane, task.tries + 1
        lane.about = task.about or lane.about
        future = self._lanes.submit(lane, task.number, task.call, task.arguments)
        future.add_done_callback(lambda ended: self._ended(task, lane, ended))

    def _ended(self, task: Task, lane: Lane, ended: Future[Any]) -> None:
        with self._lock:
            if task.lane is not lane:
                return
            lane.task, task.lane = 0, None
            error = CancelledError() if ended.cancelled() else ended.exception()
            if isinstance(error, BrokenExecutor) and not self._closing:
                self._lanes.make_good(lane)
                if task.tries < TRIES:
                    task.stopping = False
                    self._fill()
                    return
            stopped = isinstance(error, Cancelled | CancelledError) or (
                error is None and ended.result() == "stopped"
            )
            if stopped and task.again and not self._closing:
                task.stopping = task.again = False
                task.stage, task.done, task.total, task.tries = "Waiting", 0, 1, 0
            elif stopped:
                self._drop(task)
            elif error is not None:
                if task.name:
                    self._fail(task, explained(error))
                else:
                    self._over(task)
                    settle(task.future, error=error)
            else:
                self._succeed(task, ended.result())
            if not self._closing and not isinstance(error, BrokenExecutor):
                self._lanes.renew(lane)
            self._fill()

    def _succeed(self, task: Task, answer: Any) -> None:
        owners = self._over(task)
        if task.name:
            self.made(task.name, task.key)
        for page in owners:
            self._tell(page, {"type": "ready", "name": task.name, "key": task.key})
            self._say(page)
        settle(task.future, answer)

    def _fail(self, task: Task, why: tuple[str, str]) -> None:
        self._failed[task.key] = why
        owners = self._over(task)
        for page in owners:
            self._say(page)
        settle(task.future, error=HeronError(*why))
        for other in [t for t in self._tasks.values() if task.key in t.needs]:
            self._fail(other, why)

    def _say(self, page: str) -> None:
        """Tell a page where its work stands; that all is there, where it is."""
        standing = self.standing(page)
        known = self._pages.get(page)
        ended = standing is not None and standing.state == "running" and standing.made == standing.wanted
        if known is not None and standing is not None and ended:
            self._pages.pop(page)
            standing = Standing("done", made=standing.made, wanted=standing.wanted)
        if standing is not None:
            self._tell(page, standing.event())

    def _over(self, task: Task) -> set[str]:
        self._tasks.pop(task.key, None)
        self._by_number.pop(task.number, None)
        return set(task.owners)

    def _drop(self, task: Task) -> None:
        self._over(task)
        settle(task.future, error=Cancelled())

    def _stop(self, task: Task) -> None:
        if task.lane is None:
            self._drop(task)
        else:
            task.stopping = True
            self._lanes.stop(task.number)

    def _let_go(self, page: str, keys: set[str]) -> None:
        """Take a page off tasks, and stop those that nobody wants."""
        for key in keys:
            task = self._tasks.get(key)
            if task is None or page not in task.owners:
                continue
            task.owners.discard(page)
            if not task.owners and not task.waiting:
                task.again = False
                self._stop(task)

    # Listeners -----------------------------------------------------------------

    def listen(self, page: str) -> asyncio.Queue[Event]:
        """Queue of the events of a page, for the running event loop."""
        queue: asyncio.Queue[Event] = asyncio.Queue()
        with self._lock:
            self._listeners.setdefault(page, set()).add((asyncio.get_running_loop(), queue))
        return queue

    def unlisten(self, page: str, queue: asyncio.Queue[Event]) -> None:
        """End a queue of ``listen``."""
        with self._lock:
            known = self._listeners.get(page, set())
            known.difference_update({entry for entry in known if entry[1] is queue})
            if not known:
                self._listeners.pop(page, None)

    def _tell(self, page: str, event: Event) -> None:
        for loop, queue in list(self._listeners.get(page, ())):
            if not loop.is_closed():
                loop.call_soon_threadsafe(queue.put_nowait, event)

    def _told(self, message: Message) -> None:
        kind, number, text, done, total = message
        with self._lock:
            task = self._by_number.get(number)
            if task is None or task.stopping:
                return
            if kind == "early":
                for page in task.owners:
                    self._tell(page, {"type": "ready", "name": f"{task.name}-early", "key": text})
                return
            task.stage, task.done, task.total = text, done, total
            for page in task.owners:
                standing = self.act(page) if task is self._acts.get(page) else self.standing(page)
                if standing is not None:
                    self._tell(page, standing.event())


def explained(error: BaseException) -> tuple[str, str]:
    """What happened and what to do, of any error."""
    known = error if isinstance(error, HeronError) else trouble_of(error)
    if known is not None:
        return str(known), known.advice
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

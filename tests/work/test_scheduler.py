"""The scheduler: one task a key, clicks first, nothing for nobody, and lost workers are made good."""

import asyncio
import importlib
import os
import signal
import sys
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.support import children, stl, tee
from upright_heron.core.errors import BadValue, HeronError
from upright_heron.core.graph import GRAPH
from upright_heron.core.keys import Keys
from upright_heron.core.maker import Bound
from upright_heron.store.store import Store
from upright_heron.work import worker
from upright_heron.work.scheduler import Scheduler
from upright_heron.work.tasks import Rank


class SchedulerCase(unittest.TestCase):
    lanes = 1

    @classmethod
    def setUpClass(cls):
        lent = GRAPH.lent()
        lent.__enter__()
        cls.addClassCleanup(lent.__exit__, None, None, None)
        sys.modules.pop("tests.toy.slow", None)
        cls.toy = importlib.import_module("tests.toy.slow")
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.store = Store(cls.folder / "heron.sqlite3")
        cls.addClassCleanup(cls.store.close)
        cls.work = Scheduler(cls.store, cls.lanes)
        cls.addClassCleanup(cls.work.close)
        # The processes are up before anything is counted.
        cls.work.make(Keys(Bound({cls.toy.Told: cls.toy.Told(folder.name, "first")})), "toy_slow").result(60)

    def keys(self, name, seconds=0.0, goes=""):
        return Keys(Bound({self.toy.Told: self.toy.Told(str(self.folder), name, seconds, goes)}))

    def told(self, what, name):
        lines = (self.folder / "told").read_text().splitlines()
        return lines.count(f"{what} {name}")

    def wait(self, condition, seconds=60):
        until = time.monotonic() + seconds
        while not condition():
            self.assertLess(time.monotonic(), until)
            time.sleep(0.01)

    def settle(self, page, seconds=60):
        self.wait(lambda: (s := self.work.standing(page)) is None or s.state != "running", seconds)
        return self.work.standing(page)


class SharingTest(SchedulerCase):
    def test_one_task_serves_all_who_want_the_same(self):
        keys = self.keys("shared", 0.3)
        for page in ("a", "b"):
            self.assertEqual(self.work.want(page, [(keys, "toy_after")]).state, "running")
        futures = [self.work.make(keys, "toy_after") for _ in range(3)]
        for future in futures:
            self.assertIsNone(future.result(30))
        self.assertIsNone(self.settle("a"))
        self.assertEqual(self.told("began", "shared"), 1)
        self.assertEqual(self.store.result(keys["toy_after"]).name, "after shared")
        self.assertIsNone(self.work.want("a", [(keys, "toy_after")]))

    def test_many_pages_at_once_and_each_is_served(self):
        every = [self.keys(f"many {k}") for k in range(300)]
        for k, keys in enumerate(every):
            self.work.want(f"page {k}", [(keys, "toy_slow")])
        for k in range(300):
            self.assertIsNone(self.settle(f"page {k}"))
        self.assertEqual(len(self.store.has_results([keys["toy_slow"] for keys in every])), 300)

    def test_threads_that_ask_at_the_same_moment_begin_it_once(self):
        keys = self.keys("threads", 0.2)
        with ThreadPoolExecutor(8) as pool:
            list(pool.map(lambda _: self.work.make(keys, "toy_slow").result(30), range(8)))
        self.assertEqual(self.told("began", "threads"), 1)


class ToldTest(SchedulerCase):
    def test_who_looks_on_hears_of_the_end_whoever_asks_meanwhile(self):
        """A result is kept before its task has ended: asked just then, all is there and nothing is under way."""
        other, keys = self.keys("other"), self.keys("told", 3.0)
        self.work.make(other, "toy_slow").result(60)

        async def looks_on():
            queue = self.work.listen("p")
            self.assertEqual(self.work.want("p", [(keys, "toy_slow")]).state, "running")
            while self.told("began", "told") == 0:
                await asyncio.sleep(0.01)
            self.store.remember(keys["toy_slow"], self.store.result(other["toy_slow"]))
            self.assertIsNone(self.work.want("p", [(keys, "toy_slow")]))
            while (event := await asyncio.wait_for(queue.get(), 20)).get("state") != "done":
                pass
            self.work.unlisten("p", queue)
            # Asked once more, there is nothing to tell.
            queue = self.work.listen("p")
            self.assertIsNone(self.work.want("p", [(keys, "toy_slow")]))
            await asyncio.sleep(0.2)
            self.assertTrue(queue.empty())
            return event

        self.assertEqual(asyncio.run(looks_on())["type"], "task")


class OrderTest(SchedulerCase):
    def test_a_click_goes_before_background_work_which_is_done_afterwards(self):
        behind, click = self.keys("behind", 1.5), self.keys("click")
        self.work.want("yard", [(behind, "toy_slow")], rank=Rank.BACKGROUND)
        self.wait(lambda: self.told("began", "behind") == 1)
        self.work.make(click, "toy_slow").result(30)
        self.assertEqual(self.told("ended", "behind"), 0)
        self.assertIsNone(self.settle("yard"))
        self.assertEqual((self.told("began", "behind"), self.told("ended", "behind")), (2, 1))

    def test_what_nobody_wants_any_more_stops(self):
        keys, other = self.keys("unwanted", 30.0), self.keys("wanted")
        self.work.want("p", [(keys, "toy_after")])
        self.wait(lambda: self.told("began", "unwanted") == 1)
        self.work.want("p", [(other, "toy_slow")])
        self.assertIsNone(self.settle("p", 10))
        self.assertEqual(self.told("ended", "unwanted"), 0)
        # Somebody else who wants it keeps it going.
        kept = self.keys("kept", 0.5)
        self.work.want("p", [(kept, "toy_slow")])
        self.work.want("q", [(kept, "toy_slow")])
        self.work.forget("p")
        self.assertIsNone(self.settle("q"))
        self.assertEqual((self.told("began", "kept"), self.told("ended", "kept")), (1, 1))

    def test_what_was_stopped_stays_so_until_somebody_asks(self):
        keys = self.keys("stopped", 0.4)
        self.work.want("s", [(keys, "toy_slow")], about="1")
        self.wait(lambda: self.told("began", "stopped") == 1)
        self.work.cancel("s")
        self.assertEqual(self.work.standing("s").state, "stopped")
        for _ in range(2):
            self.assertEqual(self.work.want("s", [(keys, "toy_slow")], about="1").state, "stopped")
        self.assertEqual(self.work.want("s", [(keys, "toy_slow")], about="1", again=True).state, "running")
        self.assertIsNone(self.settle("s"))
        self.work.want("t", [(self.keys("other", 5), "toy_slow")], about="1")
        self.work.cancel("t")
        # Another step of the document is another question.
        self.assertEqual(self.work.want("t", [(self.keys("o"), "toy_slow")], about="2").state, "running")
        self.assertIsNone(self.settle("t"))


class LossTest(SchedulerCase):
    lanes = 2

    def test_a_lost_worker_is_replaced_and_its_task_done_again(self):
        keys = self.keys("mortal", goes="die")
        self.work.make(keys, "toy_after").result(90)
        self.assertEqual(self.told("began", "mortal"), 2)
        # Nobody else noticed.
        self.work.make(self.keys("alive"), "toy_slow").result(60)

    def test_the_process_that_workers_are_forked_from_is_made_good_too(self):
        work = Scheduler(self.store, 2)
        self.addCleanup(work.close)
        work.make(self.keys("forked"), "toy_slow").result(60)
        asked = work.make(self.keys("orphan", 1.0, "orphan"), "toy_slow")
        self.wait(lambda: self.told("began", "orphan"))
        (source,) = (one for one in children(os.getpid()) if children(one))
        workers = children(source)
        os.kill(source, signal.SIGKILL)
        asked.result(60)
        self.assertEqual(self.told("began", "orphan"), 2)
        # None of those goes on beside those that took their place.
        self.wait(lambda: not any(Path(f"/proc/{one}").exists() for one in workers))

    def test_nobody_waits_for_a_process_that_is_only_beginning(self):
        self.work.make(self.keys("soon"), "toy_slow").result(60)
        (source,) = (one for one in children(os.getpid()) if children(one))
        keys, asking = self.keys("slow to begin"), ThreadPoolExecutor(1)
        os.kill(source, signal.SIGSTOP)
        try:
            work = Scheduler(self.store, 1)
            self.addCleanup(work.close)
            work.warm_up()
            asked = asking.submit(work.make, keys, "toy_slow").result(30)
            shown = asking.submit(work.want, "page", [(keys, "toy_slow")]).result(30)
            self.assertEqual((shown.state, asked.done()), ("running", False))
        finally:
            os.kill(source, signal.SIGCONT)
        self.assertIsNone(asked.result(60))

    def test_a_task_that_kills_every_worker_is_given_up_with_words(self):
        keys = self.keys("deadly", goes="dies")
        with self.assertRaises(HeronError) as caught:
            self.work.make(keys, "toy_after").result(120)
        self.assertIn("ended without an answer", str(caught.exception))
        self.assertEqual(self.told("began", "deadly"), 2)

    def test_what_failed_is_told_with_all_that_needs_it_and_tried_again_when_asked(self):
        keys = self.keys("faulty", goes="fail")
        self.work.want("f", [(keys, "toy_after"), (self.keys("fine"), "toy_slow")])
        found = self.settle("f")
        self.assertEqual(
            (found.state, found.message, found.advice), ("failed", "faulty does not work.", "Try another.")
        )
        self.assertTrue(self.store.has_result(self.keys("fine")["toy_slow"]))
        self.work.want("f", [(keys, "toy_after")])
        self.assertEqual(self.told("began", "faulty"), 1)
        self.work.want("f", [(keys, "toy_after")], again=True)
        self.settle("f")
        self.assertEqual(self.told("began", "faulty"), 2)

    def test_a_process_that_kept_too_much_is_replaced_once_it_is_done(self):
        for most, replaced in ((10, True), (10_000, False)):
            with self.subTest(most):
                work = Scheduler(self.store, 1, worker_mb=most)
                self.addCleanup(work.close)
                (lane,) = work._lanes.lanes
                seen = {lane.executor}
                for k in range(2):
                    work.make(self.keys(f"grown {most} {k}"), "toy_slow").result(90)
                    # What it gave is there before it goes.
                    self.assertTrue(self.store.has_result(self.keys(f"grown {most} {k}")["toy_slow"]))
                    seen.add(lane.executor)
                self.assertEqual(len(seen) > 1, replaced)

    def test_other_work_is_lost_and_found_alike(self):
        path = self.folder / "part.stl"
        path.write_bytes(stl(tee()))
        part = self.work.ask(worker.intake, str(path), "part.stl").result(60)
        self.assertEqual(part.facets, 28)
        path.write_bytes(b"no mesh " * 50)
        with self.assertRaises(HeronError):
            self.work.ask(worker.intake, str(path), "part.stl").result(60)

    def test_two_acts_on_one_job_at_once_are_refused(self):
        path = self.folder / "other.stl"
        path.write_bytes(stl(tee()))
        first = self.work.ask(worker.intake, str(path), "a.stl", page="job", busy="Busy.")
        with self.assertRaises(BadValue):
            self.work.ask(worker.intake, str(path), "a.stl", page="job", busy="Busy.")
        first.result(60)
        self.assertIsNone(self.work.act("job"))


if __name__ == "__main__":
    unittest.main()

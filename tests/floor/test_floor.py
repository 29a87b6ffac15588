"""Queues of machines: print by print, whatever fails or is killed; none lost, none doubled."""

import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from tests.floor.test_stand_in import gcode
from upright_heron.core.errors import BadValue
from upright_heron.core.machines.catalogue import printer
from upright_heron.sheet.shop import Finished, Station
from upright_heron.stand_in.machine import StandIn
from upright_heron.stand_in.protocol import Refill, Start, State, Trouble
from upright_heron.store.prints import ENDED, NewPrint, Stage
from upright_heron.store.store import Store
from upright_heron.work.floor import Floor
from upright_heron.work.machine_client import MachineClient, MachineRefuses, NoAnswer

ROOT = Path(__file__).resolve().parents[2]


class Direct:
    """A client that speaks to a simulated machine without a network."""

    def __init__(self, machine):
        self.machine, self.dead = machine, False
        # Raised once the next thing of that name was done: the answer is lost on the way.
        self.breaks_after = ""

    def _did(self, what):
        if self.dead:
            raise NoAnswer("The machine does not answer.", "")
        if self.breaks_after == what:
            self.breaks_after = ""
            raise NoAnswer("The machine does not answer.", "")
        return self.machine.status()

    def status(self):
        return self._did("status")

    def upload(self, token, name, data):
        try:
            self.machine.upload(token, name, data)
        except BadValue as error:
            raise MachineRefuses(str(error), "") from error
        return self._did("upload")

    def start(self, asked):
        self.machine.start(asked)
        return self._did("start")

    def act(self, token, what):
        getattr(self.machine, what)(token)
        return self._did(what)


class FloorCase(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.store = Store(self.folder / "heron.sqlite3")
        self.addCleanup(self.store.close)

    def station(self, name="Left", model="Sedge 300", url="http://left"):
        self.store.shelve(Station(name=name, model=model, url=url))

    def queue(self, data=None, station="Left", told_s=1000.0, **more):
        return self.store.queue(NewPrint(
            "job", "Bracket", 3, 1, (("bracket", 2),), {"layer_mm": 0.2}, station, "Sedge 300", "PLA",
            "plate.gcode", 100, told_s, 50.0, gcode() if data is None else data, **more,
        ))  # fmt: skip


class QueueTest(FloorCase):
    def setUp(self):
        super().setUp()
        self.now = 0.0
        self.machine = StandIn(
            printer("Sedge 300"), "Left", self.folder / "m", clock=lambda: self.now, slower=1.1
        )
        self.client = Direct(self.machine)
        self.station()
        self.floor = self.fresh()

    def fresh(self):
        return Floor(self.store, client=lambda url: self.client)

    def after(self, seconds=0.0, rounds=1):
        self.now += seconds
        for _ in range(rounds):
            self.floor.round()

    def stage(self, one):
        return self.store.print_of(one.id).stage

    def test_the_next_goes_once_the_plate_is_cleared(self):
        first, second = self.queue(), self.queue()
        self.after()
        self.assertEqual((self.stage(first), self.stage(second)), (Stage.PRINTING, Stage.QUEUED))
        self.after(600)
        self.assertEqual(self.floor.seen("Left").status.layer, 54)
        self.after(600, rounds=3)
        done = self.store.print_of(first.id)
        self.assertEqual((done.stage, done.layer), (Stage.DONE, 100))
        self.assertAlmostEqual(done.real_s, 1100)
        self.assertEqual(self.stage(second), Stage.QUEUED)
        with self.assertRaises(BadValue):
            self.store.clear_plate(second.id)
        self.store.clear_plate(first.id)
        self.after(rounds=2)
        self.assertEqual((self.stage(second), self.machine.begun), (Stage.PRINTING, (first.id, second.id)))
        # Times of the machine are learned from it, once.
        self.assertEqual([round(r, 3) for r in self.store.on_shelf(Finished, "Sedge 300").ratios], [1.1])

    def test_a_machine_that_finds_its_plate_does_so_before_each_print(self):
        self.store.shelve(Station(name="Left", model="Sedge 300", url="http://left", calibrate=True))
        one = self.queue()
        self.after()
        self.assertEqual(self.floor.seen("Left").status.state, State.CALIBRATING)
        self.assertEqual(self.stage(one), Stage.PRINTING)
        self.after(200)
        self.assertEqual(self.floor.seen("Left").status.state, State.PRINTING)

    def test_failures_are_kept_with_their_layer(self):
        one = self.queue()
        self.after()
        self.machine.trouble(Trouble(layer=42, reason="a support came loose"))
        self.after(2000)
        failed = self.store.print_of(one.id)
        self.assertEqual(
            (failed.stage, failed.layer, failed.reason), (Stage.FAILED, 42, "a support came loose")
        )
        self.assertIsNone(self.store.on_shelf(Finished, "Sedge 300"))
        judged = self.store.judge(one.id, "failed", "support too slim", "thicker next time", "Wren")
        self.assertEqual((judged.outcome, judged.reason, judged.who), ("failed", "support too slim", "Wren"))

    def test_a_spool_that_runs_empty_waits(self):
        self.machine.refill(Refill(grams=10))
        one = self.queue()
        self.after()
        self.after(3000)
        self.assertEqual(
            (self.stage(one), self.floor.seen("Left").status.state), (Stage.PRINTING, State.EMPTY)
        )
        self.machine.refill(Refill(grams=800))
        self.machine.resume(one.id)
        self.after(3000)
        self.assertEqual(self.stage(one), Stage.DONE)

    def test_an_answer_that_is_lost_doubles_nothing(self):
        for what in ("status", "upload", "start", "clear"):
            with self.subTest(what):
                one = self.queue()
                self.client.breaks_after = what if what != "clear" else ""
                self.after()
                self.floor = self.fresh()
                self.after(rounds=2)
                self.assertEqual(self.stage(one), Stage.PRINTING)
                self.after(2000)
                self.store.clear_plate(one.id)
                self.client.breaks_after = "clear" if what == "clear" else ""
                self.after(rounds=3)
                self.assertEqual(self.machine.begun.count(one.id), 1)
                self.assertEqual((self.stage(one), self.machine.status().state), (Stage.DONE, State.IDLE))

    def test_what_ends_while_nobody_looks_is_found(self):
        one, two = self.queue(), self.queue()
        self.after()
        self.client.dead = True
        self.after(500)
        self.assertIsNone(self.floor.seen("Left").status)
        self.assertIn("does not answer", self.floor.seen("Left").trouble)
        self.assertEqual(self.stage(one), Stage.PRINTING)
        self.now += 5000
        self.client.dead, self.floor = False, self.fresh()
        self.after()
        self.assertEqual((self.stage(one), self.stage(two)), (Stage.DONE, Stage.QUEUED))

    def test_a_print_that_nobody_knows_is_told_and_given_up_by_a_person(self):
        for seconds, before, state in ((0, "printing", State.PRINTING), (5000, "done", State.DONE)):
            with self.subTest(before):
                self.machine.upload("0123456789abcdef", "strange.gcode", gcode())
                self.machine.start(Start(token="0123456789abcdef"))
                one = self.queue()
                self.after(seconds, rounds=2)
                seen = self.floor.seen("Left")
                self.assertEqual((seen.trouble, seen.status.state), ("", state))
                self.assertEqual(self.stage(one), Stage.QUEUED)
                self.floor.free("Left")
                self.after(rounds=2)
                self.assertEqual(self.stage(one), Stage.PRINTING)
                # One of ours is not forgotten so.
                with self.assertRaises(MachineRefuses):
                    self.floor.free("Left")
                self.after(5000, rounds=2)
                self.store.clear_plate(one.id)
                self.after(rounds=2)

    def test_a_machine_that_forgets_is_told_and_refusals_end_a_print(self):
        one = self.queue()
        self.after()
        self.client.machine = self.machine = StandIn(
            printer("Sedge 300"), "Left", self.folder / "other", clock=lambda: self.now
        )
        self.after()
        lost = self.store.print_of(one.id)
        self.assertEqual((lost.stage, lost.cleared), (Stage.FAILED, True))
        self.assertIn("does not know it any more", lost.reason)
        wrong, right = self.queue(gcode("Reed 190")), self.queue()
        self.after(rounds=3)
        self.assertEqual(self.stage(wrong), Stage.FAILED)
        self.assertIn("for a Reed 190", self.store.print_of(wrong.id).reason)
        self.assertEqual(self.stage(right), Stage.PRINTING)

    def test_another_kind_of_machine_at_the_address_gets_nothing(self):
        self.station(model="Reed 190")
        self.queue()
        self.after()
        self.assertIn("not a Reed 190", self.floor.seen("Left").trouble)
        self.assertEqual(self.machine.begun, ())

    def test_queues_are_put_in_order_and_withdrawn_from(self):
        a, b, c = (self.queue() for _ in range(3))
        for one, by, order in ((b, 1, "acb"), (b, 1, "acb"), (b, -1, "abc"), (c, -1, "acb"), (c, 1, "abc")):
            self.store.move(one.id, by)
            names = {a.id: "a", b.id: "b", c.id: "c"}
            waiting = self.store.prints(Stage.QUEUED)
            self.assertEqual("".join(names[one.id] for one in waiting), order)
            self.assertEqual(len({one.rank for one in waiting}), 3)
        self.store.move(c.id, -1)
        self.store.move(c.id, -1)
        self.store.move(c.id, -1)
        self.store.withdraw(b.id)
        self.assertEqual([one.id for one in self.store.prints(Stage.QUEUED)], [c.id, a.id])
        self.after()
        self.assertEqual(self.stage(c), Stage.PRINTING)
        for act in (lambda: self.store.withdraw(c.id), lambda: self.store.move(c.id, 1)):
            with self.assertRaisesRegex(BadValue, "does not wait"):
                act()
        with self.assertRaisesRegex(BadValue, "not over"):
            self.store.judge(c.id, "good", "", "", "")
        self.assertEqual([one.id for one in self.store.prints(*ENDED)], [b.id])

    def test_what_is_said_twice_counts_once(self):
        one = self.queue()
        self.queue()
        self.assertEqual(self.store.take_next("Left").id, one.id)
        self.assertIsNone(self.store.take_next("Left"))
        self.store.has_begun(one.id)
        self.assertTrue(self.store.has_ended(one.id, Stage.FAILED, layer=3, reason="warped"))
        self.assertFalse(self.store.has_ended(one.id, Stage.DONE, layer=9))
        self.store.has_begun(one.id)
        kept = self.store.print_of(one.id)
        self.assertEqual((kept.stage, kept.layer, kept.reason), (Stage.FAILED, 3, "warped"))

    def test_each_machine_has_a_queue_of_its_own(self):
        other = Direct(StandIn(printer("Sedge 300"), "Right", self.folder / "r", clock=lambda: self.now))
        self.station("Right", url="http://right")
        self.floor = Floor(self.store, client=lambda url: other if "right" in url else self.client)
        a, b = self.queue(), self.queue(station="Right")
        self.client.dead = True
        self.after()
        self.assertEqual((self.stage(a), self.stage(b)), (Stage.QUEUED, Stage.PRINTING))


def free_port():
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return found.getsockname()[1]


class KilledTest(FloorCase):
    """Server and machine are killed at random while fifty prints go."""

    PRINTS = 50

    def begin(self, command):
        quiet = subprocess.DEVNULL
        return subprocess.Popen(command, cwd=ROOT, stdout=quiet, stderr=quiet, start_new_session=True)

    def kill(self, process):
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()

    def test_none_is_lost_and_none_is_doubled(self):
        port, drawn = free_port(), random.Random(7)
        self.station(url=f"http://127.0.0.1:{port}")
        ids = [self.queue(gcode(layers=20, seconds=60), told_s=60).id for _ in range(self.PRINTS)]
        commands = {
            "server": [sys.executable, "-m", "tests.floor.runner", str(self.store.path)],
            "machine": [
                sys.executable, "-m", "upright_heron.cli", "stand-in", "Sedge 300", "--name", "Left", "--port",
                str(port), "--folder", str(self.folder / "m"), "--speed-up", "400", "--grams", "100000",
            ],
        }  # fmt: skip
        running = {name: self.begin(command) for name, command in commands.items()}
        self.addCleanup(lambda: [self.kill(one) for one in running.values()])
        killed, until = dict.fromkeys(commands, 0), time.monotonic() + 420
        next_kill = time.monotonic() + 4
        while True:
            self.assertLess(time.monotonic(), until, self.store.prints(*Stage))
            for one in self.store.prints(*ENDED):
                if not one.cleared:
                    self.store.clear_plate(one.id)
            if len(self.store.prints(*ENDED)) == self.PRINTS:
                break
            if time.monotonic() > next_kill and sum(killed.values()) < 24:
                name = drawn.choice(sorted(commands))
                self.kill(running[name])
                running[name] = self.begin(commands[name])
                killed[name] += 1
                # A process takes a moment to come up: it is killed then as well as later.
                next_kill = time.monotonic() + drawn.uniform(0.5, 4)
            time.sleep(0.05)
        self.assertTrue(all(killed.values()), killed)
        ended = self.store.prints(*ENDED)
        self.assertEqual({one.stage for one in ended}, {Stage.DONE}, [one.reason for one in ended])
        self.assertEqual(sorted(one.id for one in ended), sorted(ids))
        client = MachineClient(f"http://127.0.0.1:{port}")
        deadline = time.monotonic() + 30
        while True:
            try:
                client.status()
                break
            except NoAnswer:
                self.assertLess(time.monotonic(), deadline)
                time.sleep(0.1)
        import json
        from urllib.request import urlopen

        with urlopen(f"http://127.0.0.1:{port}/begun") as answer:
            begun = json.loads(answer.read())
        # In the order of the queue, each once.
        self.assertEqual(begun, ids)
        self.assertTrue(all(abs(one.real_s - 60) < 1e-6 for one in ended))


if __name__ == "__main__":
    unittest.main()

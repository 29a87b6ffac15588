"""A simulated printer: what it takes in, how it prints by its clock, what runs out, and that it survives."""

import tempfile
import unittest
from pathlib import Path

from fastapi.testclient import TestClient

from upright_heron.core.errors import BadValue
from upright_heron.core.machines.catalogue import printer
from upright_heron.stand_in.app import create_app
from upright_heron.stand_in.files import read_file
from upright_heron.stand_in.machine import CALIBRATION_S, NotNow, StandIn
from upright_heron.stand_in.protocol import Refill, Start, State, Trouble, Tune

A, B = "aa" * 8, "bb" * 8


def gcode(model="Sedge 300", layers=100, seconds=1000.0, grams=50.0):
    return (
        f"; machine: {model}\n; material: PLA\n; layers: {layers}\n; layer_mm: 0.2\n; seconds: {seconds:g}\n"
        f"; filament_mm: 5000\n; grams: {grams:g}\nG28\nM190 S60\nM109 S205\nG92 E0\n"
    ).encode()


class MachineCase(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.now = 0.0
        self.machine = self.made()

    def made(self, **options):
        return StandIn(printer("Sedge 300"), "Sedge, left", self.folder, clock=lambda: self.now, **options)

    def begin(self, data=None, token=A, **start):
        self.machine.upload(token, "plate.gcode", gcode() if data is None else data)
        self.machine.start(Start(token=token, **start))

    def after(self, seconds):
        self.now += seconds
        return self.machine.status()


class MachineTest(MachineCase):
    def test_a_print_takes_its_time_and_its_filament(self):
        self.begin()
        half = self.after(500)
        self.assertEqual((half.state, half.layer, half.layers, half.left_g), (State.PRINTING, 50, 100, 975.0))
        self.assertEqual((half.nozzle_c, half.bed_c), (205, 60))
        self.assertEqual(self.after(499.9).layer, 99)
        done = self.after(1)
        self.assertEqual(
            (done.state, done.layer, done.printed_s, done.left_g), (State.DONE, 100, 1000, 950.0)
        )
        self.assertEqual(self.after(700).left_g, 950.0)
        self.assertTrue(self.machine.status().asleep)
        self.machine.clear(A)
        self.assertEqual((self.machine.status().state, self.machine.status().token), (State.IDLE, ""))
        self.machine.clear(A)

    def test_speed_slowness_and_a_faster_clock(self):
        self.machine = self.made(speed_up=10, slower=1.25)
        self.begin()
        self.assertEqual(self.after(50).layer, 40)
        self.machine.tune(Tune(speed=2))
        now = self.after(25)
        self.assertEqual((now.layer, now.speed), (80, 2))
        done = self.after(100)
        # 500 s at 0.8 of the file's clock, and 375 s at 1.6.
        self.assertAlmostEqual(done.spent_s, 500 + 600 / 1.6)

    def test_the_same_is_done_once(self):
        self.begin()
        self.after(300)
        self.begin()
        self.assertEqual(self.machine.status().layer, 30)
        self.after(5000)
        self.machine.start(Start(token=A))
        self.assertEqual(self.machine.status().state, State.DONE)
        self.assertEqual(self.machine.begun, (A,))
        with self.assertRaisesRegex(NotNow, "another print"):
            self.machine.upload(B, "other", gcode())
        with self.assertRaisesRegex(NotNow, "not have that print"):
            self.machine.start(Start(token=B))

    def test_what_is_for_another_machine_is_refused(self):
        for data, words in ((gcode("Reed 190"), "for a Reed 190"), (b"G28\n", "no machine"),
                            (gcode(layers=0), "nothing in the file"), (b"PK\x03\x04junk", "masks")):  # fmt: skip
            with self.assertRaisesRegex(BadValue, words):
                self.machine.upload(A, "x", data)
        self.assertEqual(self.machine.status().state, State.IDLE)

    def test_an_empty_spool_waits_for_a_new_one(self):
        self.machine = self.made(grams=20.0)
        self.begin()
        empty = self.after(900)
        self.assertEqual((empty.state, empty.layer, empty.left_g), (State.EMPTY, 40, 0))
        self.assertEqual(self.after(5000).layer, 40)
        with self.assertRaisesRegex(NotNow, "nothing to print with"):
            self.machine.resume(A)
        self.machine.refill(Refill(grams=500, material="PLA, red"))
        self.machine.resume(A)
        now = self.after(100)
        self.assertEqual(
            (now.state, now.layer, now.material, now.left_g), (State.PRINTING, 50, "PLA, red", 495)
        )

    def test_trouble_pause_door_and_giving_up(self):
        self.begin()
        self.machine.trouble(Trouble(layer=37, reason="it came off the plate"))
        failed = self.after(2000)
        self.assertEqual((failed.state, failed.layer), (State.FAILED, 37))
        self.assertEqual(failed.reason, "it came off the plate")
        self.machine.clear(A)
        self.begin(token=B)
        self.after(100)
        for stop, go, state in (
            (lambda: self.machine.pause(B), lambda: self.machine.resume(B), State.PAUSED),
            (lambda: self.machine.door(opened=True), lambda: self.machine.door(opened=False), State.DOOR),
        ):
            stop()
            before = self.machine.status()
            self.assertEqual(before.state, state)
            self.assertEqual(self.after(400).layer, before.layer)
            go()
            self.assertEqual(self.after(100).layer, before.layer + 10)
        self.machine.cancel(B)
        self.assertEqual(self.machine.status().state, State.CANCELLED)
        self.assertEqual(self.machine.begun, (A, B))

    def test_calibration_comes_first(self):
        self.begin(calibrate=True)
        self.assertEqual(self.after(CALIBRATION_S - 1).state, State.CALIBRATING)
        self.assertEqual(self.after(11).layer, 1)

    def test_it_is_found_as_it_was(self):
        self.begin()
        self.after(420)
        again = self.made()
        self.assertEqual(again.status(), self.machine.status())
        self.machine = again
        self.assertEqual(self.after(80).layer, 50)
        self.assertEqual(self.after(5000).state, State.DONE)
        self.assertEqual(self.made().status().state, State.DONE)
        # Killed while it writes: what was written before counts.
        (self.folder / "state.new").write_bytes(b'{"state": "pri')
        self.assertEqual(self.made().status().state, State.DONE)

    def test_masks_are_read_too(self):
        import numpy as np

        from upright_heron.core.handoff.masks import Screen, write_masks
        from upright_heron.core.machines.catalogue import material
        from upright_heron.core.toolpaths.process_table import steps, usual_table

        machine = printer("Tarn 9")
        ring = np.array([(-5.0, -5), (5, -5), (5, 5), (-5, 5)])
        process = steps(usual_table(machine, material("Standard resin")), 20)
        bounds = np.array([(-5.0, -5), (5, 5)])
        data = write_masks([[ring]] * 20, Screen.of(machine), 0.05, process, bounds)
        found = read_file(data)
        self.assertEqual((found.model, found.technology, found.layers), ("Tarn 9", "resin", 20))
        self.assertAlmostEqual(found.grams, 100 * 1.0 / 1000 * 1.1, delta=0.002)
        self.assertGreater(found.seconds, 20 * 2)


class HttpTest(MachineCase):
    def test_over_http(self):
        with TestClient(create_app(self.machine)) as client:
            self.assertEqual(client.get("/status").json()["state"], "idle")
            wrong = client.put(f"/prints/{A}?name=x", content=gcode("Reed 190"))
            self.assertEqual((wrong.status_code, "for a Reed 190" in wrong.json()["message"]), (422, True))
            self.assertEqual(client.put(f"/prints/{A}?name=x", content=gcode()).status_code, 201)
            self.assertEqual(client.post("/start", json={"token": A}).json()["state"], "printing")
            self.assertEqual(client.put(f"/prints/{B}?name=x", content=gcode()).status_code, 409)
            self.now += 100
            self.assertEqual(client.post(f"/prints/{A}/pause").json()["layer"], 10)
            self.assertEqual(client.post(f"/prints/{B}/pause").status_code, 409)
            self.assertEqual(client.post("/tune", json={"speed": 9}).status_code, 422)
            self.assertEqual(client.post("/door/ajar").status_code, 422)
            self.assertEqual(client.post("/spool", json={"grams": 700}).json()["left_g"], 700)
            self.assertEqual(client.get("/begun").json(), [A])


if __name__ == "__main__":
    unittest.main()

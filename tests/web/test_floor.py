"""Plates go to machines and into the record, over HTTP."""

import csv
import io
import re
import tempfile
import time
import zlib
from pathlib import Path

import numpy as np
from PIL import Image

from tests.floor.rack import Rack
from tests.support import box, stl, tee
from tests.web.test_app import AppCase
from upright_heron.sheet.shop import Calibration, Finished, OwnPrinter, RunNotes, Spool, Station
from upright_heron.stand_in.protocol import Refill, State, Trouble
from upright_heron.store.prints import ENDED, NewPrint, Stage

OPEN = (Stage.QUEUED, Stage.SENDING, Stage.PRINTING)
HTMX = {"HX-Request": "true"}


class FloorTest(AppCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.rack = Rack(Path(folder.name))
        self.addCleanup(self.rack.close)
        self.store = self.client.app.state.services.store
        self.addCleanup(self.forget)

    def forget(self):
        # The shop is shared with other tests.
        for one in self.store.shelf(Station):
            self.store.unshelve(Station, one.name)
        self.store.unshelve(Finished, "Sedge 300")

    def machine(self, name, model="Sedge 300", **options):
        made, url = self.rack.add(model, name, **{"speed_up": 3000, **options})
        answer = self.client.post("/floor/machines", data={"name": name, "model": model, "url": url})
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        return made

    def send(self, job_id, station, plate=1, **fields):
        return self.client.post(
            f"/jobs/{job_id}/plates/{plate}/print?open=9", data={"station": station, **fields}, headers=HTMX
        )

    def until(self, condition, within=60):
        end = time.monotonic() + within
        while not condition():
            self.assertLess(time.monotonic(), end)
            time.sleep(0.05)

    def press(self, one, what):
        answer = self.client.post(f"/floor/prints/{one.id}/{what}", headers=HTMX)
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        return answer.text

    def made(self, station):
        """Prints of a machine: those that wait or go in their order, and those that ended."""
        return [one for some in (OPEN, ENDED) for one in self.store.prints(*some, station=station)]

    def spool(self, name, **fields):
        given = {"name": name, "material": "PLA", **fields}
        answer = self.client.post("/spools", data=given)
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        self.addCleanup(self.store.unshelve, Spool, name)
        return self.store.on_shelf(Spool, name)

    def on(self, station, name):
        return self.client.post(f"/spools/on/{station}", data={"name": name}, headers=HTMX)

    def test_a_spool_is_a_thing_that_prints_use_up(self):
        machine = self.machine("Test spools", grams=900)
        made = self.spool("Copper 3", make="Reedbed", colour="copper", diameter="1.70", left="412")
        self.assertEqual(
            (made.make, made.colour, made.diameter_mm, made.left_g), ("Reedbed", "copper", 1.7, 412)
        )
        self.assertEqual(self.spool("Copper 4").left_g, 1000)
        self.until(lambda: "Copper 3, 412 g" in self.client.get("/floor/cards").text)
        shown = self.on("Test spools", "Copper 3").text
        self.assertIn('data-on="Copper 3"', shown)
        self.assertEqual((machine.status().left_g, machine.status().material), (412, "PLA"))
        # As long as it is on, the machine says what is left: nothing was written down of this.
        for grams in (350, 412):
            machine.refill(Refill(grams=grams, material="PLA"))
            self.until(lambda grams=grams: f'name="left" value="{grams}"' in self.client.get("/spools").text)
            self.assertEqual(self.store.on_shelf(Spool, "Copper 3").left_g, 412)
        job_id = self.job(stl(box(20, 20, 4)))
        self.change(job_id, "keep-machine")
        self.assertEqual(self.send(job_id, "Test spools").status_code, 200)
        self.until(lambda: self.made("Test spools")[0].stage is Stage.DONE)
        (one,) = self.made("Test spools")
        # Thinner by 3 % it has to be pushed by 6 % more: (1.75 / 1.70)^2.
        self.assertAlmostEqual(machine.status().flow, 1.0597, delta=1e-4)
        self.assertEqual(one.settings["spool"], "Copper 3")
        record = self.client.get("/record?q=copper").text
        self.assertIn("from Copper 3", record)
        (row,) = csv.DictReader(io.StringIO(self.client.get("/record.csv?q=copper").text))
        self.assertEqual(row["spool"], "Copper 3")
        # What it took is gone from it, wherever it goes then.
        left = 412 - one.told_g
        self.press(one, "cleared")
        self.until(lambda: machine.status().state is State.IDLE)
        self.on("Test spools", "Copper 4")
        kept = self.store.on_shelf(Spool, "Copper 3")
        self.assertEqual(kept.on, "")
        self.assertAlmostEqual(kept.left_g, left, delta=0.01)
        self.assertEqual(machine.status().left_g, 1000)
        # What the machine refuses leaves it there.
        refused = self.client.post("/floor/machines/Test spools/spool", data={"grams": "99999"}, headers=HTMX)
        self.assertGreaterEqual(refused.status_code, 400)
        self.assertEqual(self.store.on_shelf(Spool, "Copper 4").on, "Test spools")
        # A nameless one in its place takes it off.
        self.client.post("/floor/machines/Test spools/spool", data={"grams": "77"}, headers=HTMX)
        self.assertEqual([self.store.on_shelf(Spool, f"Copper {n}").on for n in (3, 4)], ["", ""])
        self.assertEqual(self.store.on_shelf(Spool, "Copper 4").left_g, 1000)

    def test_what_two_prints_tell_is_taken_in_one_press(self):
        new = NewPrint(
            "gone", "Perch", 1, 1, (("perch", 1),), {"layer_mm": 0.2}, "Nowhere", "Reed 190", "PETG", "a.gcode",
            10, 100.0, 1.0, b"x",
        )  # fmt: skip
        for _ in range(2):
            one = self.store.queue(new)
            self.store.take_next("Nowhere")
            self.store.has_begun(one.id)
            self.store.has_ended(one.id, Stage.DONE, layer=10)
            self.client.post(f"/record/{one.id}", data={"outcome": "good", "reason": "pieces too tight"})
        told = self.client.get("/record").text
        self.assertIn("2 on the Reed 190 with PETG: pieces too tight.", told)
        given = {"kind": "looser", "model": "Reed 190", "material": "PETG"}
        self.addCleanup(self.store.unshelve, Calibration, "Reed 190|PETG")
        self.assertNotIn("2 on the Reed 190", self.client.post("/record/lessons", data=given).text)
        self.assertEqual(self.store.on_shelf(Calibration, "Reed 190|PETG").clearance_mm, 0.2)
        self.assertEqual(self.client.post("/record/lessons", data={**given, "kind": "all"}).status_code, 422)

    def test_what_makes_no_sense_of_a_spool_is_refused(self):
        self.machine("Test left")
        self.machine("Test right")
        self.spool("Blue 1")
        self.spool("Clear 1", material="Standard resin")
        self.spool("Empty 1", left="0")
        self.spool("Thick 1", diameter="2.85")
        self.until(
            lambda: all(self.client.app.state.services.floor.seen(f"Test {n}") for n in ("left", "right"))
        )
        self.assertEqual(self.on("Test left", "Blue 1").status_code, 200)
        for station, name, words in (
            ("Test right", "Blue 1", "is on Test left"),
            ("Test right", "Clear 1", "is for resin"),
            ("Test right", "Empty 1", "Nothing is left"),
            ("Test right", "Nobody", "no spool or bottle"),
            ("Nowhere", "Thick 1", "no machine"),
        ):
            answer = self.on(station, name)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.text)
        self.assertIn("Take it off", self.client.post("/spools/forget", data={"name": "Blue 1"}).text)
        answer = self.client.post("/spools", data={"name": "Empty 1", "material": "PLA"})
        self.assertIn("already", answer.text)
        self.assertIn(
            "no material", self.client.post("/spools", data={"name": "x", "material": "Glass"}).text
        )
        # Edited while it is on, it is still there, with what the machine says is left.
        self.client.post("/spools", data={"old": "Blue 1", "name": "Blue 2", "material": "PLA", "left": "5"})
        self.addCleanup(self.store.unshelve, Spool, "Blue 2")
        self.assertIsNone(self.store.on_shelf(Spool, "Blue 1"))
        renamed = self.store.on_shelf(Spool, "Blue 2")
        self.assertEqual((renamed.on, renamed.left_g), ("Test left", 1000))
        # One that is too far from what the material is for is wrong for the plate.
        self.assertEqual(self.on("Test right", "Thick 1").status_code, 200)
        job_id = self.job(stl(box(20, 20, 4)))
        self.change(job_id, "keep-machine")
        answer = self.send(job_id, "Test right")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("measures 2.85 mm; PLA is 1.75 mm", answer.text)

    def test_the_layer_that_is_printed_is_seen(self):
        machine = self.machine("Test seen", speed_up=60)
        job_id = self.job(stl(box(20, 20, 4)))
        self.change(job_id, "keep-machine")
        self.assertEqual(self.send(job_id, "Test seen").status_code, 200)
        self.until(lambda: machine.status().layer > 0)
        self.until(lambda: "print-layer" in self.client.get("/floor/cards").text)
        (one,) = self.made("Test seen")
        drawn = self.client.get(f"/floor/prints/{one.id}/layer?layer=10")
        self.assertEqual((drawn.status_code, drawn.headers["content-type"]), (200, "image/svg+xml"))
        ends = np.array(re.findall(r"[ML]([\d.]+) ([\d.]+)", drawn.text), float)
        # In the middle of 300 by 300, half a bead inside the part.
        np.testing.assert_allclose([ends.min(axis=0), ends.max(axis=0)], [[140.2] * 2, [159.8] * 2], atol=0.1)
        self.assertEqual(self.client.get(f"/floor/prints/{one.id}/layer?layer=21").status_code, 422)
        self.assertEqual(self.client.get("/floor/prints/nothing/layer?layer=1").status_code, 404)

        # Speed and temperature are changed while it runs, and nothing that makes no sense.
        def tune(status=200, **fields):
            answer = self.client.post(f"/floor/prints/{one.id}/tune", data=fields, headers=HTMX)
            self.assertEqual(answer.status_code, status, answer.text[:300])
            return answer.text

        self.assertIn("50 % speed", tune(speed="50", nozzle="200"))
        now = machine.status()
        self.assertEqual((now.speed, now.nozzle_c), (0.5, 200))
        tune(speed="120")
        self.assertEqual((machine.status().speed, machine.status().nozzle_c), (1.2, 200))
        self.assertIn("Nothing is typed", tune(422))
        for fields in ({"speed": "900"}, {"nozzle": "999"}, {"bed": "hot"}):
            tune(422, **fields)
        self.assertEqual(machine.status().nozzle_c, 200)
        # The machine takes pictures in steps: six of twenty layers are every third.
        self.until(lambda: machine.status().layer >= 7)
        self.assertEqual(machine.status().pictures[:2], (3, 6))
        self.until(lambda: "Picture behind layer 6" in self.client.get("/floor/cards").text)
        seen = self.client.get("/floor/machines/Test seen/pictures/6")
        self.assertEqual((seen.status_code, seen.headers["content-type"]), (200, "image/svg+xml"))
        self.assertIn("sandbox", seen.headers["content-security-policy"])
        self.assertEqual(seen.text, self.client.get(f"/floor/prints/{one.id}/layer?layer=6").text)
        for layer in (5, 18, 0):
            self.assertEqual(self.client.get(f"/floor/machines/Test seen/pictures/{layer}").status_code, 422)

        def pictured(layer, of):
            answer = self.client.get(f"/floor/machines/Test seen/pictures/{layer}?of={of}")
            self.assertEqual((answer.status_code, answer.headers["content-type"]), (200, "image/svg+xml"))
            return "path" in answer.text

        # Of another print, or of a layer whose picture it keeps no longer, it shows nothing.
        self.assertEqual(
            [pictured(6, one.id), pictured(6, "f" * 32), pictured(5, one.id)], [True, False, False]
        )
        self.assertEqual(self.client.get("/floor/machines/Nobody/pictures/6").status_code, 404)
        self.press(one, "cancel")
        self.until(lambda: self.store.print_of(one.id).stage.ended)
        self.assertNotIn("path", self.client.get(f"/floor/prints/{one.id}/layer?layer=10").text)
        machine.clear(one.id)
        self.assertFalse(pictured(6, one.id))
        self.assertNotIn("print-layer", self.client.get("/floor/cards").text)

    def test_a_photo_is_kept_with_a_print(self):
        def picture(kind="JPEG", size=(2400, 1200), **more):
            out = io.BytesIO()
            Image.new("RGB", size, (200, 30, 30)).save(out, kind, **more)
            return out.getvalue()

        new = self.store.queue(NewPrint(
            "bygone", "Perch", 1, 1, (("perch", 1),), {"layer_mm": 0.2}, "Left", "Reed 190", "PLA",
            "a.gcode", 9, 60.0, 1.0, b"G1",
        ))  # fmt: skip
        self.store.has_ended(new.id, Stage.DONE)
        url = f"/record/{new.id}/photo"
        self.assertEqual(self.client.get(f"{url}.jpg").status_code, 404)
        # Lying on its side, as cameras keep them, and with where it was taken.
        told = Image.Exif()
        told[0x0112], told[0x8825] = 6, {1: "N", 2: (51.0, 30.0, 0.0)}
        answer = self.client.post(url, files={"file": ("a.jpg", picture(exif=told), "image/jpeg")})
        self.assertEqual(answer.status_code, 200, answer.text[:200])
        self.assertIn(f"{url}.jpg", answer.text)
        kept = Image.open(io.BytesIO(self.client.get(f"{url}.jpg").content))
        self.assertEqual((kept.format, kept.size, dict(kept.getexif())), ("JPEG", (800, 1600), {}))
        red, green, _ = kept.getpixel((400, 800))
        self.assertTrue(red > 180 and green < 60)
        # Another one takes its place.
        self.client.post(url, files={"file": ("b.png", picture("PNG", (50, 40)), "image/png")})
        self.assertEqual(Image.open(io.BytesIO(self.client.get(f"{url}.jpg").content)).size, (50, 40))
        head = picture("PNG", (50, 40))
        bomb = head[:16] + (60_000).to_bytes(4, "big") * 2 + head[24:]
        bomb = bomb[:29] + zlib.crc32(bomb[12:29]).to_bytes(4, "big") + bomb[33:]
        for data in (b"no picture", picture()[:300], bomb, b"", picture("GIF", (9, 9))):
            answer = self.client.post(url, files={"file": ("c.jpg", data, "image/jpeg")})
            self.assertEqual(answer.status_code, 422, data[:20])
        answer = self.client.post("/record/nothing/photo", files={"file": ("a.jpg", picture(), "image/jpeg")})
        self.assertEqual(answer.status_code, 404)
        self.assertEqual(Image.open(io.BytesIO(self.client.get(f"{url}.jpg").content)).size, (50, 40))

    def test_where_several_failed_the_plate_is_kept_free_in_one_press(self):
        for at in ((60.0, 50.0), (66.0, 54.0)):
            new = self.store.queue(NewPrint(
                "bygone", "Perch", 1, 1, (("perch", 1),), {"layer_mm": 0.2}, "Left", "Reed 190", "PLA",
                "a.gcode", 9, 60.0, 1.0, b"G1",
            ))  # fmt: skip
            self.store.has_ended(new.id, Stage.FAILED, layer=3)
            self.store.judge(new.id, "failed", "warped", "", "", at)
        page = self.client.get("/record").text
        self.assertIn("2 failed about 63, 52 mm: the plate may be worn", page)
        self.addCleanup(self.store.unshelve, OwnPrinter, "Reed 190")
        for where, status in (({"x_mm": "63", "y_mm": "99"}, 422), ({"x_mm": "63", "y_mm": "52"}, 200)):
            answer = self.client.post("/record/worn", data={"model": "Reed 190", **where})
            self.assertEqual(answer.status_code, status, answer.text[:200])
        self.assertEqual(
            self.client.post("/record/worn", data={"model": "x", "x_mm": "1", "y_mm": "1"}).status_code, 422
        )
        self.assertIn("2 failed about 63, 52 mm, which is kept free", answer.text)
        # A job for that machine keeps clear of it.
        job_id = self.job(stl(box(20, 20, 4)))
        self.change(job_id, "printer", printer="Reed 190")
        self.change(job_id, "place", open=9, x_mm="55", y_mm="50")
        self.settle(job_id)
        self.assertIn("on a worn place", self.client.get(f"/jobs/{job_id}/sheet?open=9").text)

    def test_a_plate_is_printed_recorded_and_learned_from(self):
        self.machine("Test left", slower=1.2)
        job_id = self.job(stl(box(20, 20, 2)))
        self.change(job_id, "keep-machine")
        answer = self.send(job_id, "Test left", who="Wren")
        self.assertEqual(answer.status_code, 200, answer.text[:400])
        self.until(lambda: self.made("Test left")[0].stage == "done")
        (one,) = self.made("Test left")
        self.assertEqual(
            (one.job_id, one.plate, one.layers, one.who, one.excuse), (job_id, 1, 10, "Wren", "")
        )
        self.assertAlmostEqual(one.real_s / one.told_s, 1.2, places=3)
        self.assertEqual(one.settings["walls"], 3)
        # What the machine said last is looked at from another thread: the page follows in a moment.
        self.until(lambda: "done: clear the plate" in self.client.get("/floor").text)
        self.assertIn("On its plate", self.client.get("/floor").text)
        self.press(one, "cleared")
        self.until(lambda: "Nothing to print" in self.client.get("/floor/cards").text)
        # The next estimate is corrected: section 8 tells the factor.
        self.settle(job_id)
        self.until(lambda: "learned" in self.section(job_id, 8).ids)
        page = self.client.get(f"/jobs/{job_id}/sheet?open=8").text
        self.assertIn("Learned from 1 print on the Sedge 300", page)
        record = self.client.get("/record?q=wren").text
        self.assertIn(f"print-{one.id}", record)
        self.client.post(
            f"/record/{one.id}",
            data={"outcome": "failed", "reason": "warped", "notes": "brim next time", "at": "30, -40"},
        )
        self.assertIn("warped at 30, -40 mm", self.client.get("/record").text)
        refused = self.client.post(f"/record/{one.id}", data={"outcome": "failed", "at": "left"})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("brim next time", self.client.get("/record?outcome=failed&q=warped").text)
        self.assertNotIn(one.id, self.client.get("/record?outcome=good").text)
        rows = list(csv.DictReader(io.StringIO(self.client.get("/record.csv?q=brim").text)))
        self.assertEqual(
            [(r["machine"], r["outcome"], r["reason"], r["layers"], r["at_x_mm"], r["at_y_mm"]) for r in rows],
            [("Test left", "failed", "warped", "10", "30.0", "-40.0")])  # fmt: skip
        # How it was printed is the beginning of another job.
        again = self.client.post(f"/record/{one.id}/again")
        self.assertEqual(again.status_code, 200)
        new = str(again.url).rsplit("/", 1)[-1]
        sheets = [self.client.get(f"/api/jobs/{name}").json()["sheet"] for name in (job_id, new)]
        self.assertEqual(sheets[0]["items"], sheets[1]["items"])
        self.assertNotEqual(new, job_id)

    def test_what_is_fitted_and_loaded_is_held_against_the_plate(self):
        made, url = self.rack.add("Sedge 300", "Test fitted", speed_up=3000)
        kept = {"name": "Test fitted", "model": "Sedge 300", "url": url, "nozzle": "0.6"}
        self.assertEqual(self.client.post("/floor/machines", data=kept).status_code, 200)
        job_id = self.job(stl(box(20, 20, 2)))
        self.change(job_id, "keep-machine")
        refused = self.send(job_id, "Test fitted")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("has a nozzle of 0.6 mm; plate 1 is made for 0.4 mm", refused.text)
        self.client.post("/floor/machines", data={**kept, "nozzle": "0.4"})
        made.refill(Refill(grams=500, material="PETG"))
        seen = self.client.app.state.services.floor.seen
        self.until(lambda: (at := seen("Test fitted")) and at.status and at.status.material == "PETG")
        refused = self.send(job_id, "Test fitted")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("has PETG loaded; plate 1 is made for PLA", refused.text)
        self.assertEqual(self.made("Test fitted"), [])
        # Said why, it goes, and that is kept.
        self.assertEqual(self.send(job_id, "Test fitted", excuse="a colour trial").status_code, 200)
        self.assertEqual(self.made("Test fitted")[0].excuse, "a colour trial")
        # Less on the spool than the plate takes: told before it runs out.
        made.refill(Refill(grams=0.4, material="PLA"))
        self.until(lambda: (at := seen("Test fitted")) and at.status and at.status.left_g <= 0.4)
        refused = self.send(job_id, "Test fitted")
        self.assertEqual(refused.status_code, 422)
        self.assertRegex(refused.text, r"has 0 g left; plate 1 takes about [1-9]\d* g")
        kept["nozzle"] = "wide"
        self.assertEqual(self.client.post("/floor/machines", data=kept).status_code, 422)

    def test_nothing_goes_unjudged_though_nobody_looked_at_it(self):
        self.machine("Test hasty")
        job_id = self.job(stl(box(20, 20, 400)))
        self.change(job_id, "keep-machine")
        refused = self.send(job_id, "Test hasty")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("Too long by 60.0 mm along z", refused.text)
        self.assertEqual(self.made("Test hasty"), [])

    def test_a_pair_that_was_not_approved_is_doubtful_once_any_is(self):
        job_id = self.job(stl(box(20, 20, 2)))
        self.settle(job_id)
        words = "The shop has not approved PLA on the Sedge 300"
        self.assertNotIn(words, self.client.get(f"/jobs/{job_id}/sheet?open=9").text)
        other = self.job(stl(box(20, 20, 3)))
        self.change(other, "material", open=2, material="PETG")
        pairs = ["Sedge 300|PETG", "Sedge 300|PLA"]
        self.addCleanup(lambda: [self.store.unshelve(RunNotes, name) for name in pairs])
        self.client.post(f"/jobs/{other}/plates/1/run-notes?open=9", data={"approved": "true"}, headers=HTMX)
        self.assertIn(words, self.client.get(f"/jobs/{job_id}/sheet?open=9").text)
        self.assertNotIn("has not approved", self.client.get(f"/jobs/{other}/sheet?open=9").text)
        self.client.post(f"/jobs/{job_id}/plates/1/run-notes?open=9", data={"approved": "true"}, headers=HTMX)
        self.assertNotIn(words, self.client.get(f"/jobs/{job_id}/sheet?open=9").text)

    def test_a_failure_and_an_empty_spool(self):
        machine = self.machine("Test worn", grams=0.4, speed_up=400)
        job_id = self.job(stl(box(20, 20, 2)))
        self.change(job_id, "keep-machine")
        self.assertEqual(self.send(job_id, "Test worn", excuse="a new one is at hand").status_code, 200)
        self.until(lambda: machine.status().state is State.EMPTY)
        self.until(lambda: "waits for material" in self.client.get("/floor/cards").text)
        (one,) = self.made("Test worn")
        machine.trouble(Trouble(layer=8, reason="a support came loose"))
        self.assertEqual(
            self.client.post("/floor/machines/Test worn/spool", data={"grams": "nine"}).status_code, 422
        )
        self.client.post("/floor/machines/Test worn/spool", data={"grams": "750"}, headers=HTMX)
        self.press(one, "resume")
        self.until(lambda: self.made("Test worn")[0].stage == "failed")
        failed = self.made("Test worn")[0]
        self.assertEqual((failed.layer, failed.reason), (8, "a support came loose"))
        self.assertIn("at layer 8 of 10", self.client.get(f"/record?q={failed.reason}").text)
        self.assertGreater(machine.status().left_g, 740)

    def test_what_printed_and_was_changed_since_is_told(self):
        self.machine("Test since")
        job_id = self.job(stl(box(20, 20, 2)), "printed-since.stl")
        self.change(job_id, "keep-machine")
        self.settle(job_id)

        def told():
            card = self.client.get("/?q=printed-since").text
            page = self.client.get(f"/jobs/{job_id}/sheet?open=9").text
            return "changed since" in card, "changed since" in page, 'data-standing="printed"' in card

        self.assertEqual(told(), (False, False, False))
        self.assertEqual(self.send(job_id, "Test since").status_code, 200)
        self.until(lambda: self.made("Test since")[0].stage is Stage.DONE)
        self.assertEqual(told(), (False, False, True))
        # What does not reach the file does not count; what does counts until it is taken back.
        self.change(job_id, "rename", name="Another name")
        self.assertEqual(told(), (False, False, True))
        self.change(job_id, "process", walls="2")
        self.assertEqual(told(), (True, True, True))
        self.client.post(f"/jobs/{job_id}/undo", headers=HTMX)
        self.assertEqual(told(), (False, False, True))

    def test_what_is_wrong_goes_only_with_a_reason(self):
        self.machine("Test slow", speed_up=0.01)
        job_id = self.job(stl(tee()))
        self.change(job_id, "keep-machine")
        self.change(job_id, "place", open=9, x_mm="149", y_mm="0")
        self.settle(job_id)
        refused = self.send(job_id, "Test slow")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("Preflight finds", refused.text)
        # Past the edge no G-code is written at all, whatever somebody says.
        self.assertEqual(self.send(job_id, "Test slow", excuse="only to try").status_code, 422)
        self.change(job_id, "place", open=9, x_mm="0", y_mm="0")
        self.change(job_id, "copies", open=9, count="2")
        self.change(job_id, "place", open=9, x_mm="3", y_mm="0", copy_number="2")
        self.settle(job_id)
        self.assertEqual(self.send(job_id, "Test slow").status_code, 422)
        self.assertEqual(self.send(job_id, "Test slow", excuse="they may fuse").status_code, 200)
        (one,) = self.made("Test slow")
        self.assertEqual((one.excuse, one.items[0][1]), ("they may fuse", 2))

    def test_other_machines_and_addresses_are_refused(self):
        self.machine("Test resin", "Tarn 9")
        job_id = self.job(stl(box(20, 20, 2)))
        self.change(job_id, "keep-machine")
        answer = self.send(job_id, "Test resin")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("is a Tarn 9", answer.text)
        self.assertIn("There is no machine", self.send(job_id, "Nobody").text)
        for url, words in (
            ("http://203.0.113.9:80", "no address"),
            ("ftp://127.0.0.1", ""),
            ("http://127.0.0.1/x?y", ""),
        ):
            answer = self.client.post("/floor/machines", data={"name": "A", "model": "Sedge 300", "url": url})
            self.assertEqual(answer.status_code, 422, url)
            self.assertIn(words, answer.text)
        self.assertNotIn("send-form", self.section(job_id, 9).ids)

    def test_queues_are_moved_and_withdrawn_from(self):
        self.machine("Test queue", speed_up=0.01)
        job_id = self.job(stl(box(10, 10, 1)))
        self.change(job_id, "keep-machine")
        for _ in range(3):
            self.assertEqual(self.send(job_id, "Test queue").status_code, 200)
        self.until(lambda: any(one.stage == "printing" for one in self.made("Test queue")))
        first, second, third = sorted(self.made("Test queue"), key=lambda one: one.rank)
        self.press(third, "up")
        waiting = [one.id for one in self.made("Test queue") if one.stage == "queued"]
        self.assertEqual(waiting, [third.id, second.id])
        page = self.press(third, "withdraw")
        self.assertNotIn(third.id, page)
        self.assertEqual(self.client.post("/floor/machines/Test queue/forget").status_code, 422)
        self.press(first, "cancel")
        self.until(lambda: "given up" in self.client.get("/floor/cards").text)
        self.assertEqual(self.client.post(f"/floor/prints/{'0' * 32}/up", headers=HTMX).status_code, 404)

    def test_resin_goes_as_masks(self):
        machine = self.machine("Test bottle", "Tarn 9", grams=500)
        job_id = self.job(stl(box(10, 10, 1)))
        self.change(job_id, "printer", printer="Tarn 9")
        self.settle(job_id)
        answer = self.send(job_id, "Test bottle", excuse="a flat plate, to try")
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        self.until(lambda: machine.status().state is State.DONE)
        self.assertEqual(machine.status().layers, self.made("Test bottle")[0].layers)
        machine.refill(Refill(grams=100))

"""G-code: what is written, what is read back, and what is refused."""

from __future__ import annotations

import math
import re
import unittest
from dataclasses import replace

import numpy as np

from tests.support import box, on_plate
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.plates.in_turn import Clearance
from upright_heron.core.recipes.settings import GcodeSetting
from upright_heron.core.recipes.toolpaths import gcode_of, refuse_open
from upright_heron.core.toolpaths.beads import Chain, Event, Kind, packed
from upright_heron.core.toolpaths.bill import Spool
from upright_heron.core.toolpaths.gcode import END, START, Writing, filled_text, written
from upright_heron.core.toolpaths.gcode_check import Bounds, faults, read
from upright_heron.core.toolpaths.laying import Laying, lay
from upright_heron.core.toolpaths.plate_paths import Placed, merged
from upright_heron.core.toolpaths.purge import by_nozzle, with_stand
from upright_heron.core.toolpaths.surfaces import Skins, make_surfaces
from upright_heron.core.toolpaths.timing import Running, timed
from upright_heron.core.toolpaths.turns_check import Turns
from upright_heron.core.toolpaths.walls import make_walls

BUILD = (300.0, 300.0, 340.0)
PLA = Spool("PLA", 1.24, 1.75, 22.0)
RUNNING = Running(60.0)
WRITING = Writing("Sedge 300", "PLA", (300.0, 300.0, 340.0))


def beads_of(body):
    stack = slice_solid(Solid(on_plate(body)), 0.2)
    walls = make_walls(stack, 2, 0.45)
    return lay(
        stack, walls, make_surfaces(stack, walls.inside, Skins(3, 3, 0.45)), Laying(0.45, inside=False)
    )


def bead(*places, kind=Kind.OUTER, nozzle=0):
    places = np.array(places, np.float64)
    return Chain(places, np.full(len(places), 0.45), kind, nozzle=nozzle)


class GcodeTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.beads = beads_of(box(20, 15, 4) + box(5, 15, 8))
        cls.timed, cls.moves = timed(cls.beads, RUNNING)

    def text(self, at=(0.0, 0.0), beads=None, running=RUNNING, **options):
        beads = beads or self.beads
        moves = timed(beads, running)[1]
        return b"".join(written(beads, moves, replace(WRITING, **options), running, at, {})).decode()

    def faults(self, text, **options):
        bounds = Bounds(
            "Sedge 300", WRITING.build_mm, self.timed.volume_mm3, 1.75, (190, 225), (0, 70),
            len(self.beads.tops_mm), **options,
        )  # fmt: skip
        return " ".join(words for words, _ in faults(read(text.splitlines()), bounds))

    def test_what_is_written_is_what_was_laid(self):
        for relative in (True, False):
            for lift in (0.0, 0.4):
                text = self.text(relative=relative, lift_mm=lift)
                self.assertEqual(self.faults(text, lifted=lift > 0), "")
                back = read(text.splitlines())
                pushed = back.pushed_mm * math.pi * 1.75**2 / 4
                self.assertAlmostEqual(pushed / self.timed.volume_mm3, 1.0, delta=1e-4)
                low, high = self.beads.points.min(axis=0) + 150, self.beads.points.max(axis=0) + 150
                np.testing.assert_allclose(back.low_mm[:2], low, atol=6e-4)
                np.testing.assert_allclose(back.high_mm[:2], high, atol=6e-4)
                self.assertAlmostEqual(back.high_mm[2], 8.0)

    def test_a_bead_by_hand(self):
        # E = w h L / (pi d2 / 4) = 3.74176 mm for 100 mm of 0.45 by 0.2; 60 mm/s are F3600.
        quick = replace(RUNNING, least_layer_s=0.0)
        chain = Chain(np.array([[-50.0, 0], [50.0, 0]]), np.full(2, 0.45), Kind.WALL)
        beads = packed([[], [chain]], np.array([0.2, 0.4]), 0.2)
        line = next(one for one in self.text(beads=beads, running=quick).splitlines() if " E3." in one)
        self.assertEqual(line, "G1 X200.000 Y150.000 E3.74177 F3600")

    def test_absolute_and_relative_e(self):
        # Beads of 1.25, 2.5 and 0.75 mm: all up to there are 1.25, 3.75 and 4.5.
        area = math.pi * 1.75**2 / 4 / 0.2
        ends = np.cumsum([0, 1.25, 2.5, 0.75]) * area / 0.45
        places = np.column_stack([ends, np.zeros(4)])
        beads = packed([[Chain(places, np.full(4, 0.45), Kind.WALL)]], np.array([0.2]), 0.2)
        for relative, expected in ((True, [1.25, 2.5, 0.75]), (False, [1.25, 3.75, 4.5])):
            text = self.text(beads=beads, relative=relative)
            found = [float(e) for e in re.findall(r"^G1 X\S+ Y\S+ E(\S+)", text, re.MULTILINE)]
            np.testing.assert_allclose(found, expected, atol=1e-5)

    def test_numbers_are_written_as_elsewhere(self):
        # Compiled text against Python's own formatting, to the last figure but for ties.
        text = self.text()
        body = [one for one in text.splitlines() if one.startswith("G1 X")]
        laid = np.flatnonzero(~self.moves.travel)
        self.assertEqual(len(body), len(laid))
        for line, k in zip(body[::37], laid[::37], strict=True):
            x, y = self.moves.places[k + 1, :2] + 150
            found = [float(v[1:]) for v in line.split()[1:3]]
            self.assertLess(max(abs(found[0] - x), abs(found[1] - y)), 5.1e-4)

    def test_kinds_and_layers_are_told(self):
        text = self.text()
        self.assertEqual(len(re.findall(r"^; layer \d+ of 40 at", text, re.MULTILINE)), 40)
        for words in ("; outer wall", "; infill", "; bottom", "; top", "; machine: Sedge 300"):
            self.assertIn(words, text)

    def test_the_fan_runs_behind_the_first_layer(self):
        first, rest = self.text().split("; layer 2 of")
        self.assertIn("M107", first)
        self.assertIn("M106 S255", rest)

    def test_what_is_wrong_is_found(self):
        text = self.text()
        broken = {
            "names the machine": text.replace("; machine: Sedge 300", "; machine: Reed 190"),
            "past the volume in x": self.text((145.0, 0.0)),
            "below 0 in y": self.text((0.0, -151.0)),
            "set to 260 °C": text.replace("S205", "S260"),
            "The plate is set to 90": text.replace("M190 S60", "M190 S90"),
            "before the nozzle is hot": text.replace("M109 S205", "M104 S205"),
            "pushes out": re.sub(r"E0\.0[5-9]\d+", "E0.02000", text),
            "not what is pushed again": text.replace("G1 E1.00000", "G1 E0.50000"),
            "drawn back by 2.5 mm": re.sub(r"G1 E(-?)1\.00000", r"G1 E\g<1>2.50000", text),
            "pushed on the spot": text.replace("G1 E1.00000", "G1 E1.50000"),
            "39 layers of 40": text.replace("Z4.000", "Z3.800"),
            "Unknown: M900": text.replace("M84", "M900 K0.1"),
            "are not lifted": text,
        }
        for words, one in broken.items():
            with self.subTest(words):
                self.assertIn(words, self.faults(one, lifted=words == "are not lifted"))
        with self.assertRaisesRegex(BadValue, "no letter with a number"):
            read([*text.splitlines(), "G1 Xfar"])

    def test_names_in_texts_are_filled_in_and_others_refused_with_their_place(self):
        text = self.text(start="M109 S{nozzle_c}\n; reaches {high_x}, {layers} layers\n", end="M84\n")
        self.assertIn("; reaches 169.775, 40 layers", text)
        for start, where in (("G28\nM109 S{heat}\n", "line 2, column 7"), ("G28 {\n", "line 1, column 5")):
            with self.assertRaisesRegex(BadValue, where):
                self.text(start=start)
        for usual in (START, END):
            self.assertNotIn("{", filled_text(usual, {"bed_c": 60, "nozzle_c": 205, "above_z": 9}, "text"))

    def test_a_part_may_reach_the_very_top_of_the_machine(self):
        for room, highest in ((8.0, 8.0), (8.2, 8.2), (40.0, 13.0)):
            for lift in (0.0, 0.4):
                with self.subTest(room=room, lift=lift):
                    build = (300.0, 300.0, room)
                    text = self.text(build_mm=build, lift_mm=lift, start=START.replace("G1 Z5 F3000\n", ""))
                    back = read(text.splitlines())
                    self.assertAlmostEqual(back.travel_high_mm[2], highest)
                    bounds = Bounds(
                        "Sedge 300", build, self.timed.volume_mm3, 1.75, (190, 225), (0, 70),
                        len(self.beads.tops_mm), lifted=lift > 0,
                    )  # fmt: skip
                    self.assertEqual(faults(back, bounds), [])

    def test_a_layer_that_is_cut_above_the_top_is_none(self):
        stack = slice_solid(Solid(on_plate(box(20, 15, 4.05))), 0.2)
        self.assertEqual((len(stack), float(stack.area_mm2[-1])), (21, 0.0))
        beads = beads_of(box(20, 15, 4.05))
        self.assertEqual(len(beads.tops_mm), 20)
        self.assertEqual(read(self.text(beads=beads).splitlines()).layers, 20)

    def test_what_would_not_do_never_leaves(self):
        setting = GcodeSetting(RUNNING, WRITING, (PLA, None), (190.0, 225.0), (0.0, 70.0))
        middle = merged([Placed(self.beads, 0.0, 0.0, 0.0)], 0.45, BUILD)
        self.assertTrue(gcode_of(middle, setting)[0].startswith(b"; machine: Sedge 300"))
        with self.assertRaisesRegex(BadValue, "past the volume"):
            gcode_of(merged([Placed(self.beads, 145.0, 0.0, 0.0)], 0.45, BUILD), setting)
        with self.assertRaisesRegex(BadValue, "°C"):
            gcode_of(middle, replace(setting, writing=replace(WRITING, nozzle_c=300.0)))
        with self.assertRaisesRegex(BadValue, "not closed"):
            refuse_open(False)

    def test_a_pause_leaves_the_print_and_comes_back(self):
        beads = replace(self.beads, events=(Event(5, pause="set in the nut; (M3)"), Event(7, nozzle_c=215.0)))
        for relative in (True, False):
            text = self.text(beads=beads, relative=relative)
            self.assertEqual(self.faults(text, pauses=1), "")
            self.assertIn("has 1 pauses of 0", self.faults(text))
            before, after = text.split("M0 set in the nut   M3\n")
            self.assertIn("; layer 6 of 40", before)
            self.assertNotIn("; layer 7 of 40", before)
            # Up and aside with the filament drawn back, and back to the very place.
            ways = before.strip().splitlines()[-3:]
            self.assertRegex(ways[0], r"^G1 E-?[\d.]+ F2100$")
            self.assertEqual(ways[1:], ["G0 Z11.000 F9000", "G0 X5.000 Y5.000 F9000"])
            back = after.splitlines()[:3]
            self.assertEqual(back[1], "G0 Z1.000 F9000")
            last = [line for line in before.splitlines() if line.startswith("G1 X")][-1]
            places = [[float(v) for v in re.findall(r"[XY]([\d.]+)", line)] for line in (last, back[0])]
            np.testing.assert_allclose(*places, atol=1.5e-3)
            self.assertIn("M104 S215\n", after.split("; layer 9 of")[0].split("; layer 8 of")[1])
            self.assertIn(
                "waits in the print", self.faults(text.replace("G0 Z11.000", "G0 Z1.000"), pauses=1)
            )

    def test_two_nozzles(self):
        rows = [
            [
                bead((k, 0), (k + 8, 0), kind=Kind.OUTER),
                bead((k, 30), (k + 9, 30), kind=Kind.SUPPORT, nozzle=1),
            ]
            for k in range(4)
        ]
        beads = packed(with_stand(by_nozzle(rows), 0.45), 0.2 * np.arange(1, 5), 0.2)
        told, moves = timed(beads, RUNNING)
        self.assertEqual(told.changes, 4)
        bounds = Bounds(
            "Sedge 300", BUILD, told.volume_mm3, 1.75, (190, 225), (0, 70), 4,
            second_c=(235, 275), second_mm3=told.second_mm3,
        )  # fmt: skip
        for relative in (True, False):
            how = replace(WRITING, relative=relative, second_material="PA", second_c=255.0)
            text = b"".join(written(beads, moves, how, RUNNING, (0.0, 0.0), {})).decode()
            back = read(text.splitlines())
            self.assertEqual(faults(back, bounds), [])
            self.assertEqual((back.changes, back.nozzle_c, back.second_c), (4, [205.0, 205.0], [255.0]))
            self.assertAlmostEqual(back.second_mm * math.pi / 4 * 1.75**2, told.second_mm3, delta=2e-3)
            # What a nozzle lays first after its turn is on the stand.
            for part in re.split(r"^T[01]\n", text.split("; layer 1 of")[1], flags=re.MULTILINE)[1:]:
                self.assertIn("; purging", part.split("G1 X")[0])
        told_of = {
            "second nozzle is set to 200": text.replace("M109 T1 S255", "M109 T1 S200"),
            "before the nozzle is hot": text.replace("M109 T1 S255\n", ""),
            "with the second nozzle": text.replace("\nT1\n", "\n"),
        }
        for words, one in told_of.items():
            self.assertIn(words, " ".join(w for w, _ in faults(read(one.splitlines()), bounds)))

    def test_items_of_a_plate_are_printed_layer_by_layer(self):
        low = beads_of(box(6, 4, 2))
        whole = merged([Placed(self.beads, 30.0, 0.0, 90.0), Placed(low, -40.0, 10.0, 0.0)], 0.45, BUILD)
        np.testing.assert_allclose(whole.tops_mm, self.beads.tops_mm)
        self.assertAlmostEqual(
            float(whole.volumes_mm3.sum()),
            float(self.beads.volumes_mm3.sum() + low.volumes_mm3.sum()),
            places=6,
        )
        chains = whole.chains(3)
        there = [chain.places.mean(axis=0)[0] > 0 for chain in chains]
        self.assertEqual(there, sorted(there, reverse=True))
        self.assertIn(False, there)
        # Turned by a quarter about its own middle.
        own = np.concatenate([c.places for c, here in zip(chains, there, strict=True) if here])
        np.testing.assert_allclose(np.ptp(own, axis=0), [15 - 0.45, 20 - 0.45], atol=1e-6)
        # Above the other item: (x, y) goes to (-y, x).
        high = np.concatenate([c.places for c in whole.chains(30)])
        np.testing.assert_allclose(high.min(axis=0), [30 - 15 + 0.225, 0.225], atol=1e-6)
        np.testing.assert_allclose(high.max(axis=0), [30 - 0.225, 5 - 0.225], atol=1e-6)
        self.assertEqual(len(whole.chains(20)), len(self.beads.chains(20)))


class InTurnTest(unittest.TestCase):
    """Items printed one after the other, as the file has them."""

    @classmethod
    def setUpClass(cls):
        cls.high, cls.low = beads_of(box(12, 10, 4)), beads_of(box(8, 6, 2))
        cls.needs = Clearance(30.0, 3.0)
        cls.setting = GcodeSetting(
            RUNNING, WRITING, (PLA, None), (190.0, 225.0), (0.0, 70.0), in_turn=cls.needs
        )

    def whole(self, *places):
        return merged([Placed(*one) for one in places], 0.45, BUILD, in_turn=True)

    def there(self, away=52.0):
        return self.whole((self.high, 0.0, 0.0, 0.0), (self.low, away, 0.0, 0.0))

    def test_the_lowest_is_finished_before_the_next_begins(self):
        whole = self.there()
        np.testing.assert_allclose(whole.tops_mm, [*self.low.tops_mm, *self.high.tops_mm])
        self.assertEqual(np.flatnonzero(whole.begins).tolist(), [0, 10])
        xs = [np.concatenate([c.places for c in whole.chains(k)])[:, 0] for k in range(30)]
        # Each has its origin at its corner.
        self.assertTrue(all(x.min() > 51 for x in xs[:10]) and all(x.max() < 13 for x in xs[10:]))
        plain = merged([Placed(self.high, 0.0, 0.0, 0.0), Placed(self.low, 52.0, 0.0, 0.0)], 0.45, BUILD)
        self.assertAlmostEqual(whole.volumes_mm3.sum(), plain.volumes_mm3.sum(), places=6)

    def test_the_file_says_so_and_goes_over_what_stands(self):
        for relative in (True, False):
            setting = replace(self.setting, writing=replace(WRITING, relative=relative))
            data, back = gcode_of(self.there(), setting)
            text = data.decode()
            self.assertEqual((len(back.turns.parts), back.layers), (2, 20))
            np.testing.assert_allclose(back.turns.highest_mm, [2.0, 4.0])
            self.assertAlmostEqual(back.turns.nearest_mm(), 52 - 12 + 0.45, delta=0.6)
            _, after = text.split("; layer 11 of 30 at 0.200 mm\n")
            ways = after.splitlines()
            # Without the fan, drawn back, up over what stands, across, and down to the plate.
            self.assertEqual(ways[0], "M107")
            self.assertRegex(ways[1], r"^G1 E-?[\d.]+ F2100$")
            self.assertEqual(ways[2], "G0 Z5.000 F9000")
            self.assertRegex(ways[3], r"^G0 X15\d\.\d+ Y15\d\.\d+ F9000$")
            self.assertEqual(ways[4], "G0 Z0.200 F9000")
            self.assertRegex(ways[6], "^; ")
            self.assertRegex(ways[7], "^G1 X")
            self.assertIn("M106", after.split("; layer 12 of")[1].split("; layer 13 of")[0])
            # The first layer of each is laid slowly.
            slow = [re.findall(r"F(\d+)", part.split("; layer")[0]) for part in (after,)]
            self.assertLessEqual(max(int(f) for f in slow[0] if int(f) not in (9000, 2100)), 0.5 * 60 * 60)

    def test_the_way_over_takes_its_time(self):
        told = timed(self.there(), RUNNING)[0]
        flat = replace(self.there(), tops_mm=np.concatenate([self.low.tops_mm, 2 + self.high.tops_mm]))
        self.assertGreater(told.layer_s[10], timed(flat, RUNNING)[0].layer_s[10])
        self.assertAlmostEqual(sum(s for _, s in told.by_kind), told.seconds, places=6)
        # Of no layer is told what is not told of the whole.
        drawn = 2 * told.retracts * RUNNING.retract_mm / RUNNING.retract_mm_s
        self.assertAlmostEqual(float(told.layer_s.sum()) + drawn + RUNNING.warm_up_s, told.seconds, places=6)

    def test_what_the_head_or_the_rail_would_touch_never_leaves(self):
        with self.assertRaisesRegex(BadValue, "a part stands 2[67]"):
            gcode_of(self.there(away=39.0), self.setting)
        with self.assertRaisesRegex(BadValue, "higher than the rail: 1.5 mm"):
            gcode_of(self.there(), replace(self.setting, in_turn=Clearance(30.0, 1.5)))
        # The last may be as high as it likes.
        gcode_of(self.there(), replace(self.setting, in_turn=Clearance(30.0, 2.0)))
        with self.assertRaisesRegex(BadValue, "two nozzles"):
            second = replace(self.low, nozzle=np.ones_like(self.low.nozzle))
            self.whole((self.high, 0.0, 0.0, 0.0), (second, 60.0, 0.0, 0.0))

    def test_ways_count_as_beads_do_and_all_that_stands_counts(self):
        def turns(*moves):
            found = Turns()
            for what, start, end in moves:
                getattr(found, what)(list(start), list(end))
            return found

        post = [("bead", (0.0, 0.0, z), (1.0, 0.0, z)) for z in (0.2, 5.0)]
        far = [("way", (1.0, 0.0, 9.0), (80.0, 0.0, 9.0)), ("bead", (80.0, 0.0, 0.2), (81.0, 0.0, 0.2))]
        self.assertAlmostEqual(turns(*post, *far).nearest_mm(), 79.0, delta=0.6)
        # Low past the post, from one end of the second item to the other.
        past = [("way", (81.0, 0.0, 0.2), (-80.0, 6.0, 0.2)), ("bead", (-80.0, 6.0, 0.2), (-81.0, 6.0, 0.2))]
        self.assertLess(turns(*post, *far, *past).nearest_mm(), 4.0)
        # High over it that is no fault; and a third item near to the first is one.
        over = [("way", (81.0, 0.0, 5.5), (-80.0, 6.0, 5.5)), ("bead", (-80.0, 6.0, 0.2), (-81.0, 6.0, 0.2))]
        self.assertGreater(turns(*post, *far, *over).nearest_mm(), 75.0)
        tall = [("bead", (80.0, 0.0, 5.0), (81.0, 0.0, 5.0))]
        third = [("way", (81.0, 0.0, 9.0), (11.0, 0.0, 9.0)), ("bead", (11.0, 0.0, 0.2), (12.0, 0.0, 0.2))]
        self.assertAlmostEqual(turns(*post, *far, *tall, *third).nearest_mm(), 10.0, delta=0.6)

    def test_a_file_that_was_changed_is_found_out(self):
        whole = self.there()
        told, moves = timed(whole, RUNNING)
        text = b"".join(written(whole, moves, WRITING, RUNNING, (0.0, 0.0), {})).decode()
        bounds = Bounds(
            "Sedge 300", BUILD, told.volume_mm3, 1.75, (190, 225), (0, 70), 20, items=2,
            head_mm=30.0, rail_mm=3.0,
        )  # fmt: skip

        def said(changed, asked=bounds):
            return " ".join(words for words, _ in faults(read(changed.splitlines(), in_turn=True), asked))

        self.assertEqual(said(text), "")
        self.assertIn("through what stands", said(text.replace("G0 Z5.000", "G0 Z1.900")))
        self.assertIn("2 items of 3", said(text, replace(bounds, items=3)))
        # Moved towards the first after it was written.
        first, second = text.split("; layer 11 of")
        moved = re.sub(r"X(1[56]\d\.\d+)", lambda m: f"X{float(m[1]) + 20:.3f}", second)
        self.assertIn("a part stands", said(f"{first}; layer 11 of{moved}"))

    def test_a_pause_goes_over_what_was_printed_before(self):
        low = replace(self.high, events=())
        paused = replace(self.low, events=(Event(3, pause="nut"),))
        # The paused one is the last: it is as high, and comes behind.
        same = replace(paused, tops_mm=self.low.tops_mm + 2.0)
        whole = self.whole((low, 0.0, 0.0, 0.0), (same, 60.0, 0.0, 0.0))
        moves = timed(whole, RUNNING)[1]
        text = b"".join(written(whole, moves, WRITING, RUNNING, (0.0, 0.0), {})).decode()
        self.assertIn("G0 Z14.000 F9000\nG0 X5.000 Y5.000", text)
        # Low it waits over what stands, and that is no fault: it is above all of it.
        paused = replace(self.high, events=(Event(3, pause="nut"),))
        whole = self.whole((paused, 0.0, 0.0, 0.0), (self.low, -120.0, -120.0, 0.0))
        text = gcode_of(whole, self.setting)[0].decode()
        self.assertIn("G0 Z12.000 F9000\nG0 X5.000 Y5.000", text)

    def test_heat_for_a_height_ends_with_its_item(self):
        hot = replace(self.low, events=(Event(6, nozzle_c=220.0),))
        whole = self.whole((self.high, 0.0, 0.0, 0.0), (hot, 52.0, 0.0, 0.0))
        text = gcode_of(whole, self.setting)[0].decode()
        before, after = text.split("; layer 11 of 30")
        self.assertIn("M104 S220\n", before.split("; layer 7 of 30")[1])
        self.assertIn("M104 S205\n", after.split("; layer 12 of 30")[0])
        # Where nothing was set there is nothing to set back.
        plain = gcode_of(self.there(), self.setting)[0].decode()
        self.assertNotIn("M104 S205", plain.split("; layer 1 of 30")[1])

    def test_one_skirt_round_all_comes_first(self):
        ring = np.array([(-2.0, -2), (14, -2), (14, 12), (-2, 12), (-2, -2)])
        levels = [self.high.chains(k) for k in range(len(self.high.tops_mm))]
        levels[0] = [Chain(ring, np.full(5, 0.45), Kind.SKIRT), *levels[0]]
        skirted = packed(levels, self.high.tops_mm, 0.2)
        whole = self.whole((skirted, 0.0, 0.0, 0.0), (self.low, 52.0, 0.0, 0.0))
        kinds = [c.kind for k in range(30) for c in whole.chains(k)]
        # A ring round each, as they are far from each other, before anything else is laid.
        self.assertEqual((kinds[:2], kinds.count(Kind.SKIRT)), ([Kind.SKIRT] * 2, 2))
        self.assertEqual(len(gcode_of(whole, self.setting)[1].turns.parts), 2)


if __name__ == "__main__":
    unittest.main()

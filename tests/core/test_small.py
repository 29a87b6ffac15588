"""Lengths as typed, fit, estimate, preflight, machines, pictures and progress."""

import io
import unittest
from dataclasses import fields

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from tests.support import box, mesh_of
from upright_heron.core.errors import BadValue, Cancelled, EmptyFile
from upright_heron.core.footing.under_drains import UnderDrains
from upright_heron.core.geometry.picture import picture
from upright_heron.core.handoff.preflight import HollowPart, Standing, Surface, Weight, preflight
from upright_heron.core.hanging.findings import Family, Finding, State
from upright_heron.core.hollow.stays import Stays
from upright_heron.core.machines import catalogue as machines
from upright_heron.core.machines.catalogue import Technology
from upright_heron.core.plates.fit import fit
from upright_heron.core.progress import tracked
from upright_heron.core.toolpaths.rough_estimate import (
    Amounts,
    estimate,
    filament_length_mm,
    plate_seconds,
    printed_volume_mm3,
)
from upright_heron.core.topics import Topic
from upright_heron.core.units import judge_unit, length_mm, number


class LengthTest(unittest.TestCase):
    def test_as_people_type_them(self):
        # One inch is 25.4 mm exactly (international yard and pound agreement, 1959).
        cases = {
            "12": 12, " 0,2 ": 0.2, "3.5 in": 88.9, "12 cm": 120, "4 ft": 1219.2, "1/2 in": 12.7,
            "1 1/4 in": 31.75, ".5": 0.5, "5.": 5, "-3 mm": -3, "2\"": 50.8, "50 µm": 0.05, "1 M": 1000,
        }  # fmt: skip
        for text, expected in cases.items():
            with self.subTest(text):
                self.assertAlmostEqual(length_mm(text), expected, places=9)
        self.assertEqual(length_mm(7), 7)

    def test_nonsense(self):
        for text in ("", "abc", "1 2", "3 parsec", "1/0 in", "1e5", "--3", "9" * 400):
            with self.subTest(text), self.assertRaises(BadValue):
                length_mm(text)

    @given(st.floats(0, 1e6))
    def test_plain_numbers(self, value):
        self.assertAlmostEqual(length_mm(f"{value:.6f}"), value, delta=1e-6)


class UnitTest(unittest.TestCase):
    def test_numbers(self):
        self.assertEqual([number(t) for t in ("3", " 2,5 ", "102.5 %", "-1e2")], [3, 2.5, 102.5, -100])
        for text in ("", "wide", "nan", "1e999", "1 2"):
            with self.assertRaises(BadValue):
                number(text)

    def test_odd_sizes_raise_the_question_and_stated_units_never_do(self):
        build = (300.0, 300.0, 340.0)
        for size, asked in (
            ((1.9, 1, 1), True), ((2.0, 1, 1), False), ((3400, 1, 1), False), ((3401, 1, 1), True),
            ((1000, 1000, 306), False), ((1000, 1000, 307), True),
        ):  # fmt: skip
            self.assertEqual(judge_unit(size, None, build).question, asked, size)
            self.assertFalse(judge_unit(size, "inch", build).question)
        known = judge_unit((25.4, 50.8, 76.2), "inch", build, 25.4)
        self.assertEqual((known.stated, known.name), (True, "inch"))
        self.assertEqual([round(v) for v in known.sizes_mm["mm"]], [1, 2, 3])


class FitTest(unittest.TestCase):
    def test_inside_outside_and_turned(self):
        self.assertTrue(fit((100, 100, 100), (100, 100, 100)).fits)
        long = fit((310, 20, 400), (300, 300, 340))
        self.assertFalse(long.fits or long.turned)
        self.assertEqual([(n, round(v, 6)) for n, v in long.over], [("z", 60), ("x", 10)])
        self.assertTrue(fit((320, 20, 20), (300, 300, 340)).turned)


class EstimateTest(unittest.TestCase):
    def test_filament_length(self):
        # V = pi d^2 L / 4: 1 kg of PLA (1.24 g/cm3, typical data sheet) is 335.29 m of 1.75 mm and
        # 126.42 m of 2.85 mm; 5 g of 2.85 mm are 632 mm.
        kilogram = 1e6 / 1.24
        self.assertAlmostEqual(filament_length_mm(kilogram, 1.75) / 1000, 335.2836, places=3)
        self.assertAlmostEqual(filament_length_mm(kilogram, 2.85) / 1000, 126.415, places=3)
        self.assertAlmostEqual(filament_length_mm(5000 / 1.24, 2.85), 632.0752, places=3)

    def test_printed_volume(self):
        self.assertEqual(printed_volume_mm3(1000, 600, 0, 0.2), 200)
        self.assertEqual(printed_volume_mm3(1000, 600, 100, 0.2), 1000)
        self.assertAlmostEqual(printed_volume_mm3(1000, 600, 1, 0), 540)

    def rough(self, printer, **changes):
        machine = machines.printer(printer)
        stuff = machines.materials_for(machine)[0]
        values = dict(
            volume_mm3=24000,
            area_mm2=5200,
            support_mm3=0,
            footing_mm3=0,
            layers=100,
            layer_mm=0.2,
            walls=3,
            infill=0.15,
        )
        values |= changes
        process = {name: values.pop(name) for name in ("walls", "infill")}
        return estimate(machine, stuff, Amounts(**values), **process)

    def test_half_the_layer_about_twice_the_time(self):
        # Common practice, warm-up aside.
        coarse = self.rough("Sedge 300").seconds - 600
        fine = self.rough("Sedge 300", layer_mm=0.1, layers=200).seconds - 600
        self.assertAlmostEqual(fine / coarse, 2, delta=0.01)

    def test_resin(self):
        found = self.rough("Tarn 9", layers=400, layer_mm=0.05)
        # 24 ml at 1.10 g/cm3 are 26.4 g; five first layers of 30 s, the rest 2.5 s, 6 s of lift each.
        self.assertAlmostEqual(found.part_g, 26.4)
        self.assertAlmostEqual(found.seconds, 5 * 30 + 395 * 2.5 + 400 * 6)
        self.assertEqual(found.length_m, 0)

    def test_a_plate_is_one_print(self):
        filament, resin = machines.Technology.FILAMENT, machines.Technology.RESIN
        one = self.rough("Sedge 300").seconds
        # It gets hot once, and whole layers harden at once.
        self.assertAlmostEqual(plate_seconds([one] * 3, filament), 3 * one - 2 * 600)
        self.assertEqual(plate_seconds([one], filament), one)
        self.assertEqual(plate_seconds([4000.0, 5000.0, 3000.0], resin), 5000.0)
        self.assertEqual((plate_seconds([], filament), plate_seconds([], resin)), (0, 0))

    def test_supports_and_footing_add_up(self):
        found = self.rough("Sedge 300", support_mm3=10000, footing_mm3=500)
        self.assertAlmostEqual(found.support_g, 10 * 0.2 * 1.24)
        self.assertAlmostEqual(found.mass_g, found.part_g + found.support_g + found.footing_g)
        self.assertGreater(found.seconds, self.rough("Sedge 300").seconds)


class MachineTest(unittest.TestCase):
    def test_demo_machines(self):
        self.assertEqual([p.name for p in machines.PRINTERS], ["Sedge 300", "Reed 190", "Tarn 9", "Mere 13"])
        for machine in machines.PRINTERS:
            stuff = machines.materials_for(machine)
            self.assertTrue(stuff)
            for material in stuff:
                self.assertTrue(45 <= machines.limit_for(machine, material) <= 67)
        with self.assertRaises(BadValue) as caught:
            machines.printer("Heath 1")
        self.assertIn("Reed 190", caught.exception.advice)
        with self.assertRaises(BadValue):
            machines.material("Cheese")


class PreflightTest(unittest.TestCase):
    CLEAR = dict(
        closed=True, fit=fit((1, 1, 1), (9, 9, 9)), is_split=False, technology=machines.Technology.FILAMENT,
        contact_area_mm2=100.0, lifted=False, findings=(), has_supports=False, holds_down=False,
    )  # fmt: skip

    def finding(self, **changes):
        values = dict(
            id="0",
            family=Family.ISLAND,
            number=1,
            kind="point",
            at_mm=(0, 0, 5),
            z_mm=5,
            area_mm2=1.0,
            reason="",
        )
        return Finding(**(values | changes))

    def told(self, **changes):
        asked = self.CLEAR | changes
        standing, surface = (
            kind(**{field.name: asked.pop(field.name) for field in fields(kind) if field.name in asked})
            for kind in (Standing, Surface)
        )
        return preflight(**asked, standing=standing, surface=surface)

    def found(self, **changes):
        return [(f.weight, f.topic) for f in self.told(**changes)]

    def test_walls_that_the_machine_does_not_make(self):
        (check,) = self.told(thin=3, thin_mm=0.44)
        self.assertEqual((check.weight, check.topic), (Weight.DOUBTFUL, Topic.PART))
        self.assertIn("3 walls are thinner than 0.44 mm", check.text)
        self.assertIn("1 wall is", self.told(thin=1, thin_mm=0.44)[0].text)
        # Of its pieces, not of the whole that they were cut from.
        self.assertEqual(self.found(thin=3, thin_mm=0.44, is_split=True), [(Weight.DOUBTFUL, Topic.SPLIT)])

    def test_what_may_be_knocked_over(self):
        (check,) = self.told(tip_deg=8.0, slenderness=9.0)
        self.assertEqual(
            (check.topic, check.text), (Topic.FOOTING, "It tips over at 8°, and nothing holds it.")
        )
        (check,) = self.told(tip_deg=20.0, slenderness=6.2)
        self.assertIn("6 times as high as its foot is wide", check.text)
        for more in (
            {"holds_down": True}, {"has_supports": True}, {"technology": machines.Technology.RESIN},
            {"tip_deg": 13.0, "slenderness": 3.9}, {"tip_deg": None, "slenderness": None},
        ):  # fmt: skip
            self.assertEqual(self.told(**({"tip_deg": 8.0, "slenderness": 9.0} | more)), [], more)
        # Of one that is told already to lie on too little, no more is said.
        self.assertEqual(len(self.told(tip_deg=8.0, contact_area_mm2=3.0)), 1)

    def test_each_finding(self):
        wrong, doubtful = Weight.WRONG, Weight.DOUBTFUL
        self.assertEqual(self.found(), [])
        self.assertEqual(self.found(closed=False), [(doubtful, Topic.PART)])
        self.assertEqual(self.found(fit=fit((10, 1, 1), (9, 9, 9))), [(wrong, Topic.SPLIT)])
        self.assertEqual(
            self.found(fit=fit((10, 1, 1), (9, 9, 9)), is_split=True, findings=[self.finding()]),
            [(doubtful, Topic.SPLIT)],
        )
        island, held = self.finding(), self.finding(state=State.HELD)
        shelf = self.finding(family=Family.OVERHANG, area_mm2=300.0)
        self.assertEqual(self.found(findings=[island, island]), [(wrong, Topic.SUPPORTS)])
        self.assertEqual(self.found(findings=[held, held], has_supports=True), [])
        self.assertEqual(self.found(findings=[held, island], has_supports=True), [(wrong, Topic.OVERHANGS)])
        self.assertEqual(self.found(findings=[shelf]), [(doubtful, Topic.SUPPORTS)])
        self.assertEqual(self.found(findings=[self.finding(family=Family.OVERHANG)]), [])
        self.assertEqual(
            self.found(findings=[self.finding(family=Family.NECK)]), [(doubtful, Topic.OVERHANGS)]
        )
        self.assertEqual(self.found(findings=[self.finding(family=Family.NECK, state=State.ACCEPTED)]), [])
        below = [(wrong, Topic.STANCE), (doubtful, Topic.FOOTING)]
        self.assertEqual(self.found(hollow=HollowPart(below=UnderDrains(2, 1))), below)
        self.assertEqual(self.found(hollow=HollowPart(below=UnderDrains(0, 1))), below[1:])
        self.assertEqual(self.found(hollow=HollowPart(below=UnderDrains())), [])
        for lie, over, words in (
            (1, 1, ("A hole lies on the plate", "A hole opens right over")),
            (2, 3, ("2 holes lie on the plate", "3 holes open right over")),
        ):
            told = [one.text for one in self.told(hollow=HollowPart(below=UnderDrains(lie, over)))]
            for one, begins in zip(told, words, strict=True):
                self.assertTrue(one.startswith(begins), one)
        for kept, told in (
            (Stays(0.0, 0.5, False), []),
            (Stays(0.0, 900.0, False), [(doubtful, Topic.PART)]),
            (Stays(0.0, 0.0, True), [(doubtful, Topic.PART)]),
            (Stays(5.0, 0.0, False), [(wrong, Topic.PART)]),
        ):
            self.assertEqual(self.found(hollow=HollowPart(kept), technology=Technology.RESIN), told, kept)
            # Air in a filament part does no harm.
            self.assertEqual(self.found(hollow=HollowPart(kept)), [])
        self.assertIn("900 mm³ of resin stays in", Stays(0.0, 900.0, False).words)
        self.assertIn("2.0 cm³ is shut in", Stays(2000.0, 900.0, True).words)
        self.assertEqual(self.found(contact_area_mm2=3.0), [(doubtful, Topic.FOOTING)])
        self.assertEqual(self.found(contact_area_mm2=3.0, holds_down=True), [])
        for contact, words in (
            (3.04, "Only 3.0 mm² lie on the plate."),
            (0.04, "Nothing of it lies on the plate."),
        ):
            self.assertEqual([one.text for one in self.told(contact_area_mm2=contact)], [words])
        self.assertEqual(self.found(lifted=True), [(wrong, Topic.STANCE)])
        self.assertEqual(self.found(contact_area_mm2=None, findings=None), [])


class PictureTest(unittest.TestCase):
    def test_a_box_fills_the_middle_and_nothing_else(self):
        image = np.asarray(Image.open(io.BytesIO(picture(mesh_of(box(10, 10, 10)), 80, 60))))
        self.assertEqual(image.shape, (60, 80, 4))
        self.assertEqual(image[30, 40, 3], 255)
        self.assertEqual(image[0, 0, 3], 0)
        tones = {tuple(c) for c in image[image[..., 3] == 255][:, :3]}
        self.assertGreater(len(tones), 2, "three sides of a box have three tones")


class ProgressTest(unittest.TestCase):
    def test_reports_and_stops(self):
        seen = []
        self.assertEqual(list(tracked(range(5), "x", lambda *a: seen.append(a), every=2)), [0, 1, 2, 3, 4])
        self.assertEqual(seen, [("x", 0, 5), ("x", 2, 5), ("x", 4, 5), ("x", 5, 5)])

    def test_errors_survive_the_way_between_processes(self):
        import pickle

        for error in (EmptyFile("a", "b"), Cancelled()):
            copy = pickle.loads(pickle.dumps(error))
            self.assertEqual((type(copy), str(copy), copy.advice), (type(error), str(error), error.advice))

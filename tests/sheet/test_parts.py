"""Parts of a job and presets in the sheet: looking elsewhere changes nothing, and differences are told."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tests.sheet.test_changes import SHEET, change
from upright_heron.core.errors import BadValue
from upright_heron.core.footing.footing import FootingKind
from upright_heron.core.machines.catalogue import Technology
from upright_heron.sheet.models import JobSheet, Size
from upright_heron.sheet.part_changes import MOST_PARTS, AddParts, Resize, SeparateParts, TakeOut
from upright_heron.sheet.process import Footing, Preset, Process, Supports


def part(number):
    return SHEET.part.model_copy(update={"file_name": f"{number}.stl", "mesh": f"{number:032x}"})


def job(count):
    sheet = SHEET.model_copy(update={"part": part(0)})
    return AddParts(parts=tuple(part(k) for k in range(1, count))).apply(sheet) if count > 1 else sheet


def names(sheet):
    return [work.part.file_name for work in sheet.parts]


class PartsTest(unittest.TestCase):
    @given(st.integers(1, 6), st.lists(st.integers(0, 8), max_size=6))
    def test_looking_around_keeps_the_parts_and_their_order(self, count, looks):
        sheet = job(count)
        for index in looks:
            sheet = sheet.showing(index)
            self.assertEqual(sheet.part.file_name, f"{min(index, count - 1)}.stl")
        self.assertEqual(names(sheet), [f"{k}.stl" for k in range(count)])
        self.assertEqual([one.at for one in sheet.each], list(range(count)))

    @given(st.integers(2, 5), st.data())
    def test_what_is_done_to_one_part_stays_with_it(self, count, data):
        which, other = data.draw(st.permutations(range(count)))[:2]
        sheet = change("lean", job(count).showing(which), degrees=10, towards="left")
        self.assertIn("leaning", sheet.stance.name)
        self.assertEqual(sheet.showing(other).stance, SHEET.stance)
        self.assertEqual(sheet.showing(other).showing(which), sheet)

    def test_adding_shows_the_first_of_the_new_and_has_an_end(self):
        sheet = AddParts(parts=(part(7), part(8))).apply(job(2))
        self.assertEqual((sheet.at, names(sheet)), (2, ["0.stl", "1.stl", "7.stl", "8.stl"]))
        with self.assertRaises(BadValue):
            AddParts(parts=tuple(part(k) for k in range(MOST_PARTS))).apply(job(1))

    def test_bodies_take_the_place_of_their_part(self):
        sheet = job(3).showing(1)
        found = SeparateParts(parts=(part(7), part(8)), of=sheet.part.mesh).apply(sheet)
        self.assertEqual(names(found), ["0.stl", "7.stl", "8.stl", "2.stl"])
        self.assertEqual(found.at, 1)
        with self.assertRaises(BadValue):
            SeparateParts(parts=(part(7),), of=part(5).mesh).apply(sheet)

    def test_what_was_made_of_a_part_comes_to_it_though_another_is_looked_at(self):
        sheet, larger = job(3).showing(2), part(9)
        found = Resize(size=Size(scale=(2, 2, 2)), part=larger, of=part(1).mesh).apply(sheet)
        self.assertEqual((found.at, names(found)), (1, ["0.stl", "9.stl", "2.stl"]))
        with self.assertRaises(BadValue):
            Resize(size=Size(), part=larger, of="f" * 32).apply(sheet)

    def test_taking_out_ends_with_one(self):
        sheet = TakeOut().apply(job(2).showing(0))
        self.assertEqual(names(sheet), ["1.stl"])
        with self.assertRaises(BadValue):
            TakeOut().apply(sheet)

    def test_a_sheet_of_before_there_were_several_parts_is_read(self):
        old = SHEET.model_dump(mode="json")
        for name in ("others", "at", "show", "load", "goals", "preset", "moved_mm"):
            old.pop(name, None)
        self.assertEqual(JobSheet.model_validate(old), SHEET)


class PresetTest(unittest.TestCase):
    FINE = Preset(
        name="Fine", technology=Technology.FILAMENT, layer_mm=0.1, process=Process(walls=4),
        supports=Supports(gap_mm=0.1), footing=Footing(kind=FootingKind.BRIM, lines=8),
    )  # fmt: skip

    def test_its_name_is_proposed_from_what_is_in_it(self):
        self.assertEqual(self.FINE.proposed_name, "0.1 mm, 4 walls, 15 %, columns, brim")
        resin = Preset(name="R", technology=Technology.RESIN, layer_mm=0.05, supports=Supports())
        self.assertEqual(resin.proposed_name, "0.05 mm, stilts")

    def test_differences_are_told_one_by_one(self):
        other = self.FINE.model_copy(
            update={"layer_mm": 0.2, "supports": Supports(gap_mm=0.3), "footing": Footing()}
        )
        told = self.FINE.unlike(other)
        self.assertEqual(told[0], "layer: 0.2 mm instead of 0.1 mm")
        self.assertIn("footing: no footing instead of brim", told)
        self.assertTrue(any("gap 0.3 instead of 0.1" in line for line in told))
        self.assertEqual(self.FINE.unlike(self.FINE), [])

    def test_taking_it_changes_what_it_holds_and_nothing_else(self):
        sheet = change("preset", preset=self.FINE)
        self.assertEqual(sheet.unlike_preset, [])
        self.assertEqual((sheet.part, sheet.stance, sheet.printer), (SHEET.part, SHEET.stance, SHEET.printer))
        self.assertEqual(
            change("layer", sheet, layer_mm=0.3).unlike_preset, ["layer: 0.3 mm instead of 0.1 mm"]
        )

    def test_a_name_cannot_carry_markup(self):
        for name in ("", "<b>", "a|b", "x" * 61, "a\nb"):
            with self.subTest(name), self.assertRaises(ValidationError):
                change("keep-preset", name=name)


if __name__ == "__main__":
    unittest.main()

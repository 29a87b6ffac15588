"""Sizing is arithmetic on the sheet: unit, scale, mirror and shrinkage each keep out of the others' way."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tests.sheet.test_changes import PART, SHEET, made
from upright_heron.core.errors import BadValue
from upright_heron.sheet.changes import Mend, PickMaterial, PickPrinter, Resize
from upright_heron.sheet.part import Size
from upright_heron.sheet.shop import Calibration, OwnMaterial, OwnPrinter

SIDES = (10.0, 20.0, 40.0)
positive = st.floats(0.01, 100)


class SizeTest(unittest.TestCase):
    def test_factors(self):
        size = Size(
            unit="inch", scale=(2, 1, 0.5), mirror=(False, True, False), shrinkage_percent=(1, 0, -0.5)
        )
        for found, expected in zip(size.factors, (25.4 * 2.02, -25.4, 12.7 * 0.995), strict=True):
            self.assertAlmostEqual(found, expected)
        self.assertFalse(size.untouched)
        self.assertTrue(size.reset().plain)
        self.assertEqual(size.reset().unit, "inch")
        self.assertTrue(Size().untouched and Size().plain)
        self.assertTrue(Size(unit="mm").untouched)

    def test_mirroring_twice_is_nothing(self):
        size = Size().mirrored("x")
        self.assertEqual(size.mirror, (True, False, False))
        self.assertEqual(size.mirrored("x"), Size())

    @given(st.tuples(positive, positive, positive), positive, st.integers(0, 2), st.floats(-5, 5))
    def test_one_side_with_the_others_following_keeps_proportions(self, scale, target, axis, shrinkage):
        size = Size(scale=scale, shrinkage_percent=(shrinkage,) * 3)
        wanted = [None, None, None]
        wanted[axis] = target
        try:
            found = size.aimed(SIDES, wanted, True)
        except ValidationError:
            return  # a part would come out ten thousand times as large
        self.assertAlmostEqual(found.nominal_mm(SIDES)[axis] / target, 1)
        for k in range(3):
            self.assertAlmostEqual(found.scale[k] / found.scale[axis] / (scale[k] / scale[axis]), 1)
        # Shrinkage comes on top of the side that was asked for, and by nothing else.
        self.assertAlmostEqual(found.factors[axis] * SIDES[axis] / target, 1 + shrinkage / 100)

    def test_sides_apart(self):
        found = Size().aimed(SIDES, (5.0, None, 80.0), False)
        self.assertEqual(found.scale, (0.5, 1.0, 2.0))
        self.assertEqual(Size().aimed(SIDES, (None, None, None), True), Size())
        # A flat part has no third side to aim at.
        self.assertEqual(Size().aimed((10, 20, 0), (None, None, 5.0), True), Size())

    def test_nonsense(self):
        for bad in (0, -50, 1e7, float("nan")):
            with self.assertRaises(ValidationError):
                Size().scaled(bad)
        with self.assertRaises(ValidationError):
            Size(shrinkage_percent=(50, 0, 0))


class PartChangesTest(unittest.TestCase):
    """Sizing and mending hand over a surface that was made from a certain other one."""

    def part(self, digit, **fields):
        return PART.model_copy(update={"mesh": digit * 32, **fields})

    def test_sized_mended_and_back(self):
        twice = self.part("2", size_mm=(2, 2, 2))
        sized = Resize(size=Size().scaled(200), part=twice, of=PART.mesh)
        sheet = sized.apply(SHEET)
        self.assertEqual((sheet.part, sheet.original, sheet.base), (twice, PART, PART))
        self.assertIn("2 × 2 × 2", sized.label(SHEET))
        # What was picked on the part goes along.
        picked = SHEET.model_copy(update={"seam_line": ((1, 2, 3),), "second_bodies": ((0, -1, 4),)})
        along = sized.apply(picked)
        self.assertEqual((along.seam_line, along.second_bodies), (((2, 4, 6),), ((0, -2, 8),)))
        whole, whole_twice = self.part("3"), self.part("4", size_mm=(2, 2, 2))
        mended = Mend(part=whole, sized=whole_twice, words=("1 hole filled",), of=PART.mesh)
        sheet = mended.apply(sheet)
        self.assertEqual((sheet.part, sheet.base, sheet.original), (whole_twice, whole, PART))
        self.assertEqual((sheet.mending, sheet.nominal_mm), (("1 hole filled",), (2, 2, 2)))
        back = Resize(size=sheet.size.reset(), part=whole, of=whole.mesh).apply(sheet)
        self.assertEqual((back.part, back.original, back.base), (whole, PART, whole))
        self.assertEqual(Resize(size=Size(), part=PART, of=PART.mesh).apply(SHEET), SHEET)

    def test_a_surface_made_from_an_older_part_is_refused(self):
        mended = Mend(part=self.part("3"), sized=self.part("3"), words=("x",), of=PART.mesh).apply(SHEET)
        with self.assertRaises(BadValue):
            Resize(size=Size().scaled(50), part=self.part("5"), of=PART.mesh).apply(mended)

    def test_the_unit_question(self):
        tiny = SHEET
        self.assertTrue(tiny.unit_question.question)
        sized = Resize(size=Size(unit="mm"), part=PART, of=PART.mesh).apply(tiny)
        self.assertEqual((sized.unit_question.question, sized.unit_question.name), (False, "mm"))


class ShelfTest(unittest.TestCase):
    OWN = OwnPrinter(
        name="Willow", technology="filament", build_mm=(400, 400, "20 in"), layer_heights_mm=(0.3,), layer_mm=0.3,
        finest_mm=0.6, speed_mm_s=90,
    )  # fmt: skip
    GREEN = OwnMaterial(name="Green", technology="filament", density_g_cm3=1.3, price_per_kg=40, limit_deg=61)

    def test_a_job_reckons_with_its_own_copies(self):
        sheet = made(PickPrinter(printer="Willow", own=self.OWN), SHEET)
        self.assertEqual(sheet.machine.build_mm, (400, 400, 508))
        self.assertAlmostEqual(sheet.thinnest_mm, 0.66)
        sheet = made(PickMaterial(material="Green", own=self.GREEN), sheet)
        self.assertEqual((sheet.stuff.density_g_cm3, sheet.limit), (1.3, 61))
        self.assertIn("Green", PickMaterial(material="Green", own=self.GREEN).label(sheet))
        resin = made(PickPrinter(printer="Tarn 9"), sheet)
        self.assertEqual((resin.own_printer, resin.own_material, resin.is_resin), (None, None, True))
        with self.assertRaises(BadValue):
            made(PickMaterial(material="Green", own=self.GREEN), resin)

    def test_a_measured_limit_holds_for_its_pair_only(self):
        measured = Calibration(printer="Sedge 300", material="PLA", limit_deg=63, date="2026-11-01")
        sheet = made(PickPrinter(printer="Sedge 300", calibration=measured), SHEET)
        self.assertEqual((sheet.limit, sheet.measured), (63, measured))
        other = made(PickMaterial(material="ABS", calibration=measured), sheet)
        self.assertIsNone(other.measured)
        self.assertIsNone(made(PickPrinter(printer="Reed 190", calibration=measured), SHEET).measured)
        self.assertNotEqual(other.limit, 63)

    def test_nonsense_is_refused(self):
        for bad in (
            {"name": ""},
            {"name": "a|b"},
            {"build_mm": (0, 1, 1)},
            {"speed_mm_s": 0},
            {"colour": "red"},
        ):
            with self.assertRaises(ValidationError):
                OwnPrinter.model_validate({**self.OWN.model_dump(), **bad})


if __name__ == "__main__":
    unittest.main()

"""Sheets and presets of schema 2 read on as they were worked out: limits that came from a table, thickness of trees."""

import json
import unittest

from upright_heron.sheet.upcast import read_preset, read_sheet

PART = {
    "file_name": "a.stl", "mesh": "a" * 32, "facets": 12, "size_mm": [1, 1, 1], "volume_mm3": 1, "area_mm2": 6,
    "closed": True, "shells": 1,
}  # fmt: skip
OLD = {"kind": "filament", "gap_mm": 0.3, "branch_mm": 1.2, "trunk_mm": 8.0, "taper_mm": 0.24, "walls": 2,
       "fill_percent": 0.0}  # fmt: skip


def sheet(item=(), **job):
    raw = {"schema_version": 2, "name": "A", "items": [{"id": "a", "part": PART, **dict(item)}],
           "plates": [{"instances": [{"item": "a"}]}], **job}  # fmt: skip
    return read_sheet(json.dumps(raw))


class LimitTest(unittest.TestCase):
    def test_a_limit_from_the_table_stays(self):
        for printer, material, limit in (
            ("Sedge 300", "PLA", 54), ("Reed 180", "PETG", 50), ("Tarn 9", "Castable resin", 55),
        ):  # fmt: skip
            found = sheet(printer=printer, material=material)
            self.assertEqual((found.limit, found.asked), (limit, ()))
        self.assertEqual(sheet().limit, 54)

    def test_what_was_typed_or_measured_counts(self):
        self.assertEqual(sheet(limit_deg=40).limit, 40)
        known = {"printer": "Sedge 300", "material": "PLA", "limit_deg": 61, "date": "2026-11-01"}
        measured = sheet(printer="Sedge 300", material="PLA", calibration=known)
        self.assertEqual((measured.limit_deg, measured.limit), (None, 61))
        # Measured for another material it does not.
        self.assertEqual(sheet(printer="Sedge 300", material="PETG", calibration=known).limit, 52)

    def test_machines_and_materials_of_the_shop(self):
        own = {"name": "Willow", "technology": "filament", "build_mm": [400, 400, 400], "layer_mm": 0.3,
               "layer_heights_mm": [0.3], "finest_mm": 0.6, "speed_mm_s": 90, "limit_bonus_deg": 3}  # fmt: skip
        self.assertEqual(sheet(printer="Willow", own_printer=own, material="TPU").limit, 48)
        green = {"name": "Green", "technology": "filament", "density_g_cm3": 1.3, "price_per_kg": 40,
                 "limit_deg": 61}  # fmt: skip
        self.assertEqual(sheet(own_material=green, material="Green").limit, 63)


class ThicknessTest(unittest.TestCase):
    def test_trees_get_the_sturdiness_of_their_tips(self):
        for branch, percent in ((1.2, 100), (1.8, 150), (0.6, 50), (10.0, 400)):
            with self.subTest(branch):
                supports = {**OLD, "branch_mm": branch}
                kept = {"name": "B", "supports": {**supports, "branch_mm": 2.4}, "limit_deg": 50}
                found = sheet({"supports": supports, "variants": [kept]}).items[0]
                self.assertAlmostEqual(found.supports.sturdiness, percent)
                self.assertEqual((found.supports.gap_mm, found.variants[0].supports.sturdiness), (0.3, 200))
        settings = sheet({"supports": OLD}).items[0].supports.settings()
        self.assertEqual((settings.branch_mm, settings.trunk_mm, settings.walls), (1.2, 8.0, 2))
        self.assertAlmostEqual(settings.taper_mm, 0.24)

    def test_presets_of_before_are_read_too(self):
        raw = {"name": "P", "technology": "filament", "layer_mm": 0.2, "supports": {**OLD, "branch_mm": 1.5}}
        self.assertEqual(read_preset(json.dumps(raw)).supports.sturdiness, 125)

    def test_sturdier_is_thicker_everywhere(self):
        thin, thick = (sheet({"supports": {"kind": "filament", "sturdiness": s}}, schema_version=3)
                       .items[0].supports.settings() for s in (100, 200))  # fmt: skip
        for name in ("branch_mm", "trunk_mm", "taper_mm"):
            self.assertAlmostEqual(getattr(thick, name), 2 * getattr(thin, name))
        self.assertGreater((thick.walls, thick.fill), (thin.walls, thin.fill))


if __name__ == "__main__":
    unittest.main()

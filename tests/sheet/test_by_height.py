"""Stretches of height, pauses, strands, picked seams, and settings of paths: how they are changed and refused."""

import unittest

from pydantic import ValidationError

from tests.sheet.test_changes import PART, SHEET, change
from upright_heron.core.errors import BadValue
from upright_heron.core.recipes import settings as s
from upright_heron.core.toolpaths.beads import Kind
from upright_heron.core.toolpaths.bodies import SecondBodies
from upright_heron.core.toolpaths.ordering import Seam
from upright_heron.sheet.changes.job import PACES
from upright_heron.sheet.shop import OwnPrinter
from upright_heron.work.bind import ItemBinding
from upright_heron.work.bind_paths import at_once, gcode, nozzle_of

WILLOW = {"name": "Willow", "technology": "filament", "build_mm": (300, 300, 300), "layer_heights_mm": (0.2,),
          "layer_mm": 0.2, "finest_mm": 0.4, "speed_mm_s": 60}  # fmt: skip


def laying(sheet):
    return ItemBinding(sheet).settings(s.PathSetting).laying


class HeightsTest(unittest.TestCase):
    def test_a_stretch_is_kept_told_and_taken_out(self):
        sheet = change("zone", low_mm="2", high_mm="1 cm", walls="5", infill_percent="40", pattern="")
        (zone,) = sheet.by_height.zones
        self.assertEqual((zone.low_mm, zone.high_mm, zone.walls, zone.pattern), (2, 10, 5, None))
        self.assertEqual(zone.words, "5 walls, 40 % infill")
        core = laying(sheet).zones[0]
        self.assertEqual((core.density, core.pace, core.walls), (0.4, None, 5))
        self.assertEqual(change("drop-by-height", sheet, of="zones", number=0).by_height, SHEET.by_height)

    def test_its_speed_is_against_that_of_the_print(self):
        sheet = change("process", speed_percent=80)
        sheet = change("zone", sheet, low_mm=1, high_mm=2, speed_percent=40)
        self.assertEqual(laying(sheet).zones[0].pace, 0.5)
        self.assertEqual(laying(sheet).usual[0], nozzle_of(sheet))

    def test_what_makes_no_sense_is_refused(self):
        for kind, fields, words in (
            ("zone", {"low_mm": 5, "high_mm": 5, "walls": 3}, "ends above"),
            ("zone", {"low_mm": 1, "high_mm": 5}, "Nothing is different"),
            ("pause", {"z_mm": 0.1}, "before the first layer"),
            ("strands", {"low_mm": 5, "high_mm": 2}, "ends above"),
            ("drop-by-height", {"of": "pauses", "number": 0}, "gone already"),
        ):
            with self.assertRaisesRegex(BadValue, words):
                change(kind, **fields)
        with self.assertRaises(ValidationError):
            change("zone", low_mm=1, high_mm=2, walls=0)
        with self.assertRaisesRegex(BadValue, "already"):
            change("pause", change("pause", z_mm=5), z_mm=5.05)

    def test_pauses_are_in_order_and_leave_their_cavity_without_supports(self):
        sheet = change("pause", change("pause", z_mm=9, why="nut"), z_mm=5, roof="0123456789", why="magnet")
        self.assertEqual([p.z_mm for p in sheet.by_height.pauses], [5, 9])
        self.assertEqual(sheet.accepted, {"0123456789": "magnet is set in below"})
        self.assertIn("0123456789", ItemBinding(change("supports", sheet)).settings(s.Demand).let_be)

    def test_strands_want_the_second_nozzle_for_themselves(self):
        sheet = change("strands", low_mm=1, high_mm=2, turns=3)
        self.assertEqual((sheet.second_stuff.name, sheet.uses_second), ("Glass strand", True))
        self.assertEqual(gcode(sheet, [sheet]).writing.second_material, "Glass strand")
        one = change("printer", sheet, printer="Reed 190")
        self.assertEqual((one.strands, one.uses_second, laying(one).strands), ((), False, ()))
        with self.assertRaisesRegex(BadValue, "one nozzle"):
            change("strands", one, low_mm=1, high_mm=2)
        with self.assertRaisesRegex(BadValue, "supports, the raft or bodies already"):
            change("strands", change("supports", second="interface"), low_mm=1, high_mm=2)

    def test_the_second_nozzle_prints_what_it_is_asked_to(self):
        for second, kinds in (
            ("nothing", set()),
            ("interface", {Kind.INTERFACE}),
            ("everything", {Kind.INTERFACE, Kind.SUPPORT}),
        ):
            sheet = change("supports", second=second, second_material="PA")
            props = ItemBinding(sheet).settings(s.SupportPathSetting).asked
            self.assertEqual(props.second, kinds)
            self.assertEqual(gcode(sheet, [sheet]).writing.second_material, "PA" if kinds else "")
        raft = change("footing", footing="raft", second=True)
        self.assertEqual(laying(raft).second, {Kind.RAFT})

    def test_resin_has_none_of_it(self):
        resin = change("printer", printer="Tarn 9")
        for kind, fields in (
            ("zone", {"low_mm": 1, "high_mm": 2, "walls": 3}),
            ("pause", {"z_mm": 5}),
            ("seam-line", {"at_mm": [[0, 0, 0]]}),
        ):
            with self.assertRaisesRegex(BadValue, "lays no filament"):
                change(kind, resin, **fields)


class SettingsTest(unittest.TestCase):
    def test_layers_per_millimetre(self):
        self.assertAlmostEqual(change("layer", layer_mm="5/mm").layer_mm, 0.2)
        self.assertAlmostEqual(change("layer", layer_mm="8 /mm").layer_mm, 0.125)
        for wrong in ("0/mm", "/mm", "-3/mm"):
            with self.assertRaises((BadValue, ValidationError)):
                change("layer", layer_mm=wrong)

    def test_the_temperature_goes_with_the_speed_within_what_the_material_takes(self):
        self.assertEqual(nozzle_of(SHEET), 205)
        found = {name: nozzle_of(change("process", speed_percent=speed)) for name, speed in PACES.items()}
        self.assertEqual(found, {"careful": 195, "usual": 205, "quick": 215})
        self.assertEqual(nozzle_of(change("process", speed_percent=400)), 225)
        self.assertEqual(nozzle_of(change("process", speed_percent=400, nozzle_c=200)), 200)

    def test_no_more_layers_at_once_than_the_nozzle_lays(self):
        # 0.8 of 0.4 mm: one layer of 0.2, two of 0.15, three of 0.1.
        for layer, most in ((0.2, 1), (0.15, 2), (0.1, 3), (0.3, 1)):
            self.assertEqual(at_once(change("layer", layer_mm=layer), 3), most)

    def test_seams_away_from_the_show_side(self):
        sheet = change("process", change("show", normal=[1, 0, 0]), seam="hidden")
        self.assertAlmostEqual(abs(laying(sheet).order.seam_deg), 180)
        turned = change("turn", sheet, z_deg=90)
        self.assertAlmostEqual(laying(turned).order.seam_deg, -90, places=6)
        # From below there is no side to look away to.
        self.assertIs(laying(change("show", sheet, normal=[0, 0, 1])).order.seam, Seam.BACK)

    def test_a_picked_seam_counts_while_it_is_chosen(self):
        sheet = change("seam-line", at_mm=[[1, 2, 3]])
        self.assertEqual((sheet.process.seam, sheet.seam_line), (Seam.PICKED, ((1, 2, 3),)))
        self.assertEqual(ItemBinding(sheet).settings(s.PathSetting).seam_line, ((1, 2, 3),))
        other = change("process", sheet, seam="corner")
        self.assertEqual(ItemBinding(other).settings(s.PathSetting).seam_line, ())

    def test_bodies_for_the_second_nozzle_are_picked_where_there_is_one_for_them(self):
        two = SHEET.model_copy(update={"part": PART.model_copy(update={"shells": 2})})
        sheet = change("second-bodies", two, at_mm=[[1, 2, 3]])
        self.assertTrue(sheet.uses_second)
        self.assertEqual(ItemBinding(sheet).settings(SecondBodies).at_mm, ((1, 2, 3),))
        self.assertFalse(change("second-bodies", sheet).uses_second)
        # A printer with one nozzle prints all of it, and what was picked is there for the next.
        single = change("printer", sheet, printer="Reed 190")
        self.assertEqual((single.second_places, len(single.second_bodies)), ((), 1))
        self.assertIsNone(ItemBinding(single).settings(SecondBodies))
        stranded = change("strands", two, low_mm=1, high_mm=2)
        for refused in (
            SHEET,
            change("printer", two, printer="Reed 190"),
            change("printer", two, printer="Tarn 9"),
            stranded,
        ):
            with self.assertRaises(BadValue):
                change("second-bodies", refused, at_mm=[[1, 2, 3]])
        with self.assertRaises(BadValue):
            change("strands", sheet, low_mm=1, high_mm=2)

    def test_printers_of_old_keep_their_habit(self):
        self.assertEqual(OwnPrinter(**WILLOW, raft=True).habit, "raft")
        self.assertEqual(OwnPrinter(**WILLOW, raft=False).habit, "skirt")
        self.assertEqual(OwnPrinter(**WILLOW).core().habit, "skirt")

    def test_moved_outlines_and_stretches_of_walls_reach_the_walls(self):
        sheet = change("process", hole_mm=0.1, outline_mm=-0.05)
        aside = ItemBinding(sheet).settings(s.WallSetting).aside
        self.assertEqual((aside.hole_mm, aside.outline_mm, aside.first_mm), (0.1, -0.05, 0.0))
        self.assertIsNone(ItemBinding(SHEET).settings(s.WallSetting).aside)


if __name__ == "__main__":
    unittest.main()

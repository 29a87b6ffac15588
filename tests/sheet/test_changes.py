"""Changes are pure: they make a new sheet, leave the old one and refuse what makes no sense."""

import unittest

import numpy as np
from pydantic import ValidationError

from upright_heron.core.errors import BadValue
from upright_heron.core.footing.footing import FootingKind
from upright_heron.core.stance.pose import from_quaternion
from upright_heron.sheet.changes import CHANGES
from upright_heron.sheet.item import Item
from upright_heron.sheet.models import JobSettings, JobSheet
from upright_heron.sheet.part import Part

PART = Part(
    file_name="a.stl",
    mesh="0" * 32,
    facets=12,
    size_mm=(1, 1, 1),
    volume_mm3=1,
    area_mm2=6,
    closed=True,
    shells=1,
)
JOB = JobSheet.of([Item(id="a", part=PART)], name="A")
SHEET = JOB.on()


def whole(sheet):
    """The job with nothing but the item of a sheet."""
    item = Item(**{name: getattr(sheet, name) for name in Item.model_fields})
    return JobSheet.of([item], **{name: getattr(sheet, name) for name in JobSettings.model_fields})


def made(wanted, sheet=SHEET):
    """The sheet of an item after a change to it."""
    return wanted.made(whole(sheet), sheet.id).on(sheet.id)


def change(kind, sheet=SHEET, **fields):
    return made(CHANGES.validate_python({"kind": kind, **fields}), sheet)


class ChangeTest(unittest.TestCase):
    def test_every_change_applies_says_what_it_did_and_leaves_the_old_sheet(self):
        cases = {
            "rename": {"name": "  B "}, "printer": {"printer": "reed 180"}, "material": {"material": "petg"},
            "layer": {"layer_mm": "0,3"}, "limit": {"limit_deg": "61"}, "cut": {"margin_mm": "1/2 in"},
            "stand": {"normal": [0, 0, 1]}, "stance": {"quaternion": [2, 0, 0, 2], "name": "b"},
            "turn": {"x_deg": "90"}, "lift": {"lift_mm": "5"}, "supports": {"gap_mm": 0.4},
            "footing": {"footing": "brim", "lines": "8"}, "process": {"walls": 4, "infill_percent": 20},
            "notes": {"notes": "mind the beak"}, "lean": {"degrees": "12", "towards": "back left"},
            "lay-long": {"degrees": 30}, "find": {"less_support": "2"}, "show": {"normal": [0, 3, 0]},
            "load": {"normal": [0, 0, -1]}, "keep-preset": {"name": "Usual"},
            "place": {"x_mm": "12", "y_mm": "-3", "swing_deg": 30},
        }  # fmt: skip
        before = JOB.model_dump_json()
        for kind, fields in cases.items():
            with self.subTest(kind):
                wanted = CHANGES.validate_python({"kind": kind, **fields})
                self.assertNotEqual(wanted.made(JOB, "a"), JOB)
                self.assertTrue(wanted.label(SHEET))
        self.assertEqual(JOB.model_dump_json(), before)

    def test_going_back(self):
        self.assertIsNone(change("join", change("cut")).grid)
        self.assertIsNone(change("no-supports", change("supports")).supports)
        self.assertEqual(change("limit", change("limit", limit_deg=30)).limit, SHEET.proposed_limit_deg)

    def test_a_resin_part_that_is_leaned_by_hand_is_lifted_and_a_filament_one_is_not(self):
        resin = change("printer", printer="Tarn 9")
        self.assertEqual(change("lean", resin, degrees=15, towards="left").stance.lift_mm, 5)
        self.assertEqual(change("lean", degrees=15, towards="left").stance.lift_mm, 0)
        self.assertEqual(change("stand", resin, normal=[1, 1, 5]).stance.lift_mm, 0)
        low = change("lift", resin, lift_mm=2)
        self.assertEqual(change("turn", low, x_deg=20).stance.lift_mm, 2)

    def test_the_limit_comes_from_printer_and_material(self):
        self.assertEqual(SHEET.limit, 45)
        self.assertEqual(change("material", material="TPU").limit, 45)
        self.assertEqual(change("printer", change("limit", limit_deg=33), printer="Reed 190").limit, 33)

    def test_another_technology_starts_with_its_usual_values(self):
        sheet = change("footing", change("supports", change("limit", limit_deg=33)), footing="raft")
        resin = change("printer", sheet, printer="Mere 13")
        self.assertTrue(resin.is_resin)
        self.assertEqual((resin.material, resin.layer_mm, resin.limit), ("Standard resin", 0.05, 45))
        self.assertIsNone(resin.supports)
        self.assertEqual(resin.footing.kind, FootingKind.NONE)

    def test_gaps_are_typed_in_mm_or_in_layers(self):
        for text, below, layer, expected in (
            ("0.25", "", 0.2, (0.25, None)),
            ("2 layers", "", 0.1, (0.2, None)),
            ("1 layer", "0.3 mm", 0.2, (0.2, 0.3)),
            ("0.01 in", "0 layers", 0.2, (0.254, 0.0)),
        ):
            with self.subTest(text, below=below):
                made = change("layer", change("supports", gap_mm=text, gap_below_mm=below), layer_mm=layer)
                given = made.support_settings()
                self.assertAlmostEqual(given.gap_mm, expected[0])
                self.assertEqual(given.gap_below_mm, expected[1])
        sheet = change("supports", gap_mm="2 layers", gap_below_mm="0.3")
        self.assertEqual(sheet.supports.gap_words, ("2 layers", "0.3"))
        # A layer height that is changed afterwards keeps two layers two.
        self.assertAlmostEqual(change("layer", sheet, layer_mm=0.3).support_settings().gap_mm, 0.6)

    def test_the_longest_bridge_is_set_in_the_job_or_that_of_the_material(self):
        usual = SHEET.bridge_mm
        self.assertEqual(change("supports").bridge_mm, usual)
        typed = change("supports", bridge_mm="1.8 cm")
        self.assertEqual((typed.bridge_mm, typed.usual_bridge_mm), (18.0, usual))
        self.assertEqual(change("supports", typed).bridge_mm, usual, "an empty field goes back to it")

    def test_styles_and_origins_of_several_patches(self):
        some, other = ("0123456789", "abcdef0123"), "00000000ff"
        sheet = change("supports")
        sheet = change("style-patch", sheet, patches=(*some, other), style="grid", origin="plate")
        sheet = change("style-patch", sheet, patches=some, style="tree")
        self.assertEqual(sheet.supports.by_patch, {some[0]: "tree", some[1]: "tree", other: "grid"})
        self.assertEqual(sheet.supports.plate_only, dict.fromkeys((*some, other), True))
        self.assertEqual(sheet.support_settings().otherwise, {*some, other})
        whole = change("supports", sheet, from_plate=True)
        self.assertEqual(whole.support_settings().otherwise, set(), "they are as all others now")
        back = change("style-patch", sheet, patches=some, style="rest", origin="rest")
        self.assertEqual((set(back.supports.by_patch), set(back.supports.plate_only)), ({other}, {other}))
        wanted = CHANGES.validate_python(
            {"kind": "style-patch", "patches": some, "style": "tree", "origin": "any"}
        )
        self.assertEqual(wanted.label(sheet), "2 patches: tree, from the part too")

    def test_the_top_of_the_part_leans_to_where_it_is_told(self):
        half = np.sqrt(0.5)
        for towards, x, y in (
            ("right", 1, 0), ("back right", half, half), ("back", 0, 1), ("back left", -half, half),
            ("left", -1, 0), ("front left", -half, -half), ("front", 0, -1), ("front right", half, -half),
        ):  # fmt: skip
            leaned = change("lean", degrees="30", towards=towards)
            top = from_quaternion(leaned.stance.quaternion) @ [0, 0, 1]
            np.testing.assert_allclose(top, [0.5 * x, 0.5 * y, np.sqrt(0.75)], atol=1e-12, err_msg=towards)

    def test_a_plane_that_cuts_earlier_changes_places_with_one_and_none_is_lost(self):
        sheet = SHEET
        for offset in (1, 2, 3, 4):
            sheet = change("plane", sheet, nx=1, offset_mm=offset)
        for name, order in (("4", "1243"), ("2", "2143"), ("4", "2413")):
            sheet = change("plane-order", sheet, id=name)
            self.assertEqual([one.id for one in sheet.grid.planes], list(order))
        self.assertEqual(
            {one.id: one.offset_mm for one in sheet.grid.planes}, {"1": 1, "2": 2, "3": 3, "4": 4}
        )

    def test_turns_add_up(self):
        sheet = SHEET
        for _ in range(4):
            sheet = change("turn", sheet, x_deg=90)
        np.testing.assert_allclose(from_quaternion(sheet.stance.quaternion), np.eye(3), atol=1e-12)
        down = from_quaternion(change("stand", normal=[1, 0, 0]).stance.quaternion) @ [1, 0, 0]
        np.testing.assert_allclose(down, [0, 0, -1], atol=1e-12)

    def test_lift_is_whole_layers_and_survives_turning(self):
        sheet = change("turn", change("lift", lift_mm="5.07"), y_deg=12)
        self.assertEqual(sheet.stance.lift_mm, 5.07)
        self.assertAlmostEqual(sheet.lift_mm, 5.0)

    def test_resin_rafts_have_no_gap(self):
        raft = change("footing", footing="raft", gap_mm=0.3)
        self.assertEqual(raft.footing_settings().gap_mm, 0.3)
        resin = change("footing", change("printer", printer="Tarn 9"), footing="raft", gap_mm=0.3)
        self.assertEqual(resin.footing_settings().gap_mm, 0.0)

    def test_nonsense_is_refused(self):
        cases = [
            ("rename", {"name": ""}), ("layer", {"layer_mm": 0}), ("layer", {"layer_mm": "nan"}),
            ("layer", {"layer_mm": "thick"}), ("limit", {"limit_deg": 91}), ("limit", {"limit_deg": -1}),
            ("cut", {"margin_mm": 400}), ("stand", {"normal": [0, 0, 0]}), ("stand", {"normal": [1, 2]}),
            ("stance", {"quaternion": [0, 0, 0, 0], "name": "x"}), ("turn", {"x_deg": 400}),
            ("turn", {"x_deg": "inf"}), ("lift", {"lift_mm": -1}), ("lift", {"lift_mm": 5000}),
            ("supports", {"gap_mm": "1.5 layers"}), ("supports", {"gap_mm": "a hair"}),
            ("supports", {"gap_below_mm": "99 layers"}), ("supports", {"sturdiness": 49}),
            ("supports", {"sturdiness": 401}), ("style-patch", {"patches": ["0123456789"]}),
            ("supports", {"gap_mm": -1}), ("supports", {"spacing_mm": 0}), ("footing", {"footing": "moat"}),
            ("footing", {"footing": "brim", "lines": 0}), ("process", {"walls": 0, "infill_percent": 10}),
            ("process", {"walls": 2, "infill_percent": 101}), ("material", {"material": "Tough resin"}),
            ("printer", {"printer": "Heath 1"}), ("fly", {}), ("rename", {"name": "x", "colour": "red"}),
            ("notes", {"notes": "x" * 5000}),
        ]  # fmt: skip
        for kind, fields in cases:
            with self.subTest(kind=kind, fields=fields), self.assertRaises((ValidationError, BadValue)):
                change(kind, **fields)

    def test_sheets_round_trip(self):
        sheet = change("footing", change("cut", change("supports")), footing="skirt")
        job = whole(sheet)
        self.assertEqual(JobSheet.model_validate_json(job.model_dump_json()), job)

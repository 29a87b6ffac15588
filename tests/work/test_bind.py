"""Binding: what each field of a sheet changes, and that nothing is read but what is declared."""

import unittest
from dataclasses import fields, is_dataclass, replace

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sheet.test_changes import PART, whole
from upright_heron.core.graph import GRAPH, Choice, Maybe, Recipe, Source
from upright_heron.core.keys import Keys
from upright_heron.core.machines.catalogue import Peel
from upright_heron.core.maker import bound
from upright_heron.core.recipes import settings as s
from upright_heron.core.recipes.settings_by_hand import TipsAround, TipsByHand
from upright_heron.core.split.fittings import JointKind
from upright_heron.core.supports.demand.patches import Hold, Style
from upright_heron.core.toolpaths.bodies import SecondBodies
from upright_heron.core.toolpaths.ordering import Seam
from upright_heron.core.toolpaths.patterns import Pattern
from upright_heron.core.toolpaths.process_table import Row, Stretch
from upright_heron.sheet.by_height import ByHeight, Zone
from upright_heron.sheet.hollowing import Hollowing
from upright_heron.sheet.item import (
    CutGoals,
    Elsewhere,
    Grid,
    HandWork,
    Item,
    Joints,
    KeptWhole,
    OfJob,
    PieceOf,
    Plane,
    Removed,
    Stance,
    StanceGoals,
    Variant,
)
from upright_heron.sheet.models import ItemSheet, JobSettings, JobSheet
from upright_heron.sheet.order import Order
from upright_heron.sheet.part import PaintedMarks, Size
from upright_heron.sheet.plating import Instance, Plate, Plating
from upright_heron.sheet.process import (
    FilamentSupports,
    Footing,
    Preset,
    Process,
    ResinSupports,
    Second,
    TipSize,
)
from upright_heron.sheet.shop import Calibration, OwnMaterial, OwnPrinter
from upright_heron.work.bind import ItemBinding, PlateBinding, hand_of, keys_of, plate_keys
from upright_heron.work.tips import stands_round

MARKS = PaintedMarks(digest="d" * 32, of="0" * 32, prop_mm2=5, show_mm2=5, demand="demand", show="show")
ITEM = Item(
    id="a",
    part=PART,
    show=(0, 1, 0),
    goals=StanceGoals(less_support=2),
    supports=FilamentSupports(second=Second.INTERFACE, second_material="PETG"),
    grid=Grid(),
    footing=Footing(kind="brim"),
    marks=MARKS,
    channel_mm=9,
    hand=HandWork(kept="e" * 32, count=1),
)
OWN = OwnPrinter(
    name="Willow", technology="filament", build_mm=(400, 400, 400), layer_heights_mm=(0.3,), layer_mm=0.3,
    finest_mm=0.6, speed_mm_s=90, nozzles=2,
)  # fmt: skip
# Settings that speak of the machine or the material as a whole.
MACHINE = {s.FigureSetting, s.SearchSetting, s.Costing}
ALL_SUPPORTS = {s.FilamentSupports, s.Demand}
# What depends on how wide a line is.
PATHS = {s.WallSetting, s.SkinSetting, s.PathSetting, s.SupportPathSetting}
# What counts the footing when it is asked whether a stance fits.
JUDGED = {s.FigureSetting, s.SearchSetting}

# What a change of each field is expected to change: settings of recipes, or sources by their names.
EXPECTED = {
    "name": {s.Naming},
    "printer": {
        *MACHINE,
        s.BuildVolume,
        s.Box,
        s.Naming,
        s.Walk,
        s.ThinWall,
        s.FilamentSupports,
        s.FootingSetting,
        *PATHS,
        s.RunSetting,
    },
    "own_printer.build_mm": {*MACHINE, s.BuildVolume, s.Box, s.FilamentSupports},
    "own_printer.spot_mm": MACHINE,
    "own_printer.nozzles": {*MACHINE, s.Naming, s.SupportPathSetting},
    "own_printer.finest_mm": {*MACHINE, *PATHS, s.Walk, s.ThinWall, s.FilamentSupports, s.FootingSetting},
    "own_printer.limit_bonus_deg": {*MACHINE, s.Limit, s.Demand, s.Listing},
    "own_printer.name": MACHINE,
    # Nobody measured either: both begin at the same limit.
    "material": {*MACHINE, s.Listing, s.Bridges, s.AdviceSetting},
    "own_material": {*MACHINE, s.Limit, s.Demand, s.Listing, s.AdviceSetting},
    "calibration": {s.FigureSetting, s.SearchSetting, s.Limit, s.Demand, s.Listing, s.Bridges, s.Joining},
    "layer_mm": {*MACHINE, s.LayerHeight, s.FootingSetting},
    "limit_deg": {s.FigureSetting, s.SearchSetting, s.Limit, s.Demand, s.Listing},
    "asked": set(),
    "step_factor": {s.Walk},
    "process.walls": {*MACHINE, s.WallSetting},
    "process.infill_percent": {*MACHINE, s.PathSetting},
    "process.pattern": {s.PathSetting},
    "process.top_layers": {s.SkinSetting},
    "process.bottom_layers": {s.SkinSetting},
    "process.seam": {s.PathSetting},
    "process.seam_deg": {s.PathSetting},
    "process.outer_first": {s.PathSetting},
    "process.speed_percent": {s.RunSetting},
    "process.smooth": {s.PathSetting, s.SkinSetting},
    "process.slow_steep": {s.PathSetting},
    "process.inside_ways": {s.PathSetting},
    "process.infill_every": {s.PathSetting},
    "process.roof_percent": {s.PathSetting, s.SkinSetting},
    "process.bridge_flow_percent": {s.PathSetting},
    "process.hole_mm": {s.WallSetting},
    # How items lie on plates is no matter of an item.
    "plating": set(),
    "preset": set(),
    "notes": set(),
    "id": set(),
    "piece": set(),
    "part.mesh": {"mesh", s.TakenOut, "kept-supports", "supports-around"},
    "part.closed": {s.PartFacts},
    "part.volume_mm3": {s.PartFacts},
    "part.area_mm2": {s.PartFacts},
    "part.file_name": set(),
    "part.notes": set(),
    "came": set(),
    "mended": {"came"},
    "mending": set(),
    "mending_doubts": set(),
    "ways_left": set(),
    "moved_mm": set(),
    # What is printed is the surface of the part; preflight asks what stays in it.
    "solid": set(),
    "hollow": {s.Choices},
    "size": {s.Sized},
    "grid.margin_mm": {s.Box},
    "grid.planes": {s.Parting},
    "grid.plan": set(),
    "grid.kept": {s.Box},
    "grid.goals": set(),
    "grid.shift": {s.Parting},
    # Pegs stand out of a piece, and the boxes are so much smaller.
    "grid.joints": {s.Box, s.Parting, s.Joining},
    "grid": {s.Box, s.Parting, s.Joining, s.Choices},
    "stance.quaternion": {s.Turn, s.TakenOut, "kept-supports", "supports-around"},
    "stance.lift_mm": {
        s.Choices,
        s.Lift,
        s.FigureSetting,
        s.SearchSetting,
        s.TakenOut,
        "kept-supports",
        "supports-around",
    },
    "stance.name": set(),
    # The painted show side counts, not its direction.
    "show": set(),
    "load": {s.FigureSetting},
    "goals": {s.SearchSetting},
    "supports": {
        s.SupportPathSetting,
        *ALL_SUPPORTS,
        s.SkinSetting,
        s.Styles,
        s.Tool,
        s.Choices,
        s.Listing,
        s.Costing,
        s.Naming,
        *JUDGED,
    },
    "supports.gap_mm": {s.FilamentSupports, s.SkinSetting},
    "supports.gap_layers": {s.FilamentSupports, s.SkinSetting},
    "supports.gap_below_mm": {s.FilamentSupports},
    "supports.line_spacing_mm": {s.FilamentSupports},
    "supports.every": {s.FilamentSupports, s.Costing, s.SupportPathSetting},
    "supports.plate_only": {s.FilamentSupports},
    "supports.clearance_mm": ALL_SUPPORTS,
    "supports.spacing_mm": ALL_SUPPORTS,
    "supports.sturdiness": ALL_SUPPORTS,
    "supports.branch_deg": ALL_SUPPORTS,
    "supports.from_plate": ALL_SUPPORTS,
    "supports.smallest_mm2": ALL_SUPPORTS,
    "supports.hold": {s.Demand},
    "supports.steady": {s.Demand},
    "supports.steady_at": {s.Demand},
    "supports.bridge_mm": {s.Bridges, s.Listing},
    "supports.style": {s.Styles},
    "supports.by_patch": {s.Styles},
    "supports.second": {s.Costing, s.Naming, s.SupportPathSetting},
    "supports.second_material": {s.Costing, s.Naming},
    "supports.tool_mm": {s.Tool},
    "hand.kept": {"kept-supports", "supports-around"},
    "hand.removed": {s.TakenOut},
    "hand.origin_mm": {"kept-supports", "supports-around"},
    "hand.of": {s.TakenOut, "kept-supports", "supports-around"},
    "hand.count": set(),
    "variants": set(),
    "brought": {s.Choices},
    "footing.kind": {s.FootingSetting, s.Choices, *JUDGED},
    "footing.lines": {s.FootingSetting, *JUDGED},
    "footing.margin_mm": {s.FootingSetting},
    "footing.gap_mm": {s.FootingSetting},
    "footing.thick_mm": {s.FootingSetting},
    "footing.pad_mm": set(),
    "footing.rim_deg": set(),
    "footing.gaps": set(),
    "footing.distance_mm": {s.FootingSetting},
    "footing.prime_mm": {s.FootingSetting},
    "footing.brim_gap_mm": {s.FootingSetting, *JUDGED},
    "footing.side": {s.FootingSetting},
    "footing.corner_mm": {s.FootingSetting},
    "footing.base_layers": {s.FootingSetting},
    "footing.top_layers": {s.FootingSetting},
    "footing.second": {s.PathSetting},
    "by_height": {s.PathSetting, s.WallSetting},
    "seam_line": set(),
    "second_bodies": {SecondBodies},
    "accepted": {s.Demand, s.Listing},
    "marks.demand": {"marks-demand"},
    "marks.show": {"marks-show"},
    "marks.digest": {"marks"},
    "marks.prop_mm2": set(),
    "channel_mm": {s.ChannelWidth},
    "order": set(),
    # It is read when the sheet of an item is put together: see tests/sheet/test_machines.py.
    "elsewhere": set(),
    # Where an item came from is told, and names it: see tests/web/test_together.py.
    "of": {s.Naming},
}
VALUES = {
    "name": "B", "printer": "Reed 190", "own_printer.build_mm": (300, 400, 400), "own_printer.spot_mm": (5, 0),
    "own_printer.nozzles": 1, "own_printer.finest_mm": 0.8, "own_printer.limit_bonus_deg": 3,
    "own_printer.name": "Alder", "material": "TPU",
    "own_material": OwnMaterial(
        name="Green", technology="filament", density_g_cm3=1.3, price_per_kg=40, limit_deg=61
    ),
    "calibration": Calibration(
        printer="Willow", material="PLA", limit_deg=63, bridge_mm=22, clearance_mm=0.2, date="2026-11-01"
    ),
    "layer_mm": 0.25, "limit_deg": 31, "asked": ("material",), "step_factor": 3, "process.walls": 5, "process.infill_percent": 40,
    "process.pattern": Pattern.GYROID, "process.top_layers": 7, "process.bottom_layers": 2, "process.seam": Seam.CORNER,
    "process.seam_deg": 12, "process.outer_first": True, "process.speed_percent": 80, "process.smooth": True,
    "process.slow_steep": False, "process.inside_ways": False, "process.infill_every": 2,
    "process.roof_percent": 60, "process.bridge_flow_percent": 90, "process.hole_mm": 0.1,
    "preset": Preset(name="P", technology="filament", layer_mm=0.1), "notes": "mind the beak", "id": "b",
    "piece": PieceOf(item="w", path="0-0-0"), "part.mesh": "1" * 32, "part.closed": False,
    "part.volume_mm3": 2.0, "part.area_mm2": 7.0, "part.file_name": "b.stl", "part.notes": ("x",),
    "came": PART, "mended": PART, "mending": ("x",), "mending_doubts": ("y",), "ways_left": ("unite",), "moved_mm": 1.0, "solid": PART, "hollow": Hollowing(wall_mm=3), "size": Size(mirror=(True, False, False)),
    "grid.margin_mm": 9, "grid.planes": (Plane(id="1", normal=(1, 0, 0), offset_mm=2.0),), "grid.plan": "planned",
    "grid.shift": (0.1, 0.0, 0.0), "grid.kept": (KeptWhole(low_mm=(0, 0, 0), high_mm=(1, 1, 1)),), "grid.goals": CutGoals(fewer_pieces=0), "grid.joints": Joints(kind=JointKind.LAP), "grid": None, "stance.quaternion": (0.0, 1.0, 0.0, 0.0), "stance.lift_mm": 6,
    "stance.name": "leaning", "show": (1, 0, 0), "load": (0, 0, -1), "goals": StanceGoals(firm=1),
    "supports": None, "supports.gap_mm": 0.3, "supports.gap_layers": 3, "supports.gap_below_mm": 0.7,
    "supports.line_spacing_mm": 3, "supports.every": 2,
    "supports.plate_only": {"0123456789": True}, "supports.clearance_mm": 0.6, "supports.spacing_mm": 5,
    "supports.sturdiness": 160, "supports.branch_deg": 30, "supports.from_plate": True,
    "supports.smallest_mm2": 4, "supports.hold": Hold.PAINTED, "supports.steady": 2, "supports.steady_at": 0.5,
    "supports.bridge_mm": 3, "supports.style": Style.GRID, "supports.by_patch": {"0123456789": Style.TREE},
    "supports.second": Second.ALL, "supports.second_material": "ABS", "supports.tool_mm": 5,
    "hand.kept": "f" * 32, "hand.removed": (Removed(id="x", at_mm=(0, 0, 1)),), "hand.origin_mm": (1, 2),
    "hand.of": "another stance", "hand.count": 3,
    "variants": (Variant(name="A", supports=FilamentSupports(), limit_deg=45),), "footing.kind": "raft", "brought": "asked",
    "footing.lines": 9, "footing.margin_mm": 9, "footing.gap_mm": 0.4, "footing.thick_mm": 2, "footing.pad_mm": 3, "footing.rim_deg": 10,
    "footing.gaps": False, "footing.distance_mm": 4, "footing.prime_mm": 90, "footing.brim_gap_mm": 0.1,
    "footing.side": "outside", "footing.corner_mm": 9, "footing.base_layers": 2, "footing.top_layers": 3,
    "footing.second": True, "by_height": ByHeight(zones=(Zone(low_mm=1, high_mm=2, walls=5),)),
    "seam_line": ((1, 2, 3),), "second_bodies": ((1, 2, 3),), "accepted": {"0123456789": "fine"},
    "marks.demand": "other", "marks.show": "other", "marks.digest": "a" * 32, "marks.prop_mm2": 9.0,
    "channel_mm": 12, "plating": Plating(gap_mm=7), "elsewhere": Elsewhere(printer="Reed 190"), "order": Order(customer="Alder school"),
    "of": OfJob(job="other", step=3, name="Alder", layer_mm=0.2),
}  # fmt: skip
# Fields that are derived from by no result, or only of a plate or a resin machine: see the tests beside.
ELSEWHERE = {
    "hand.made_for", "hand.around", "process.table", "process.outline_mm", "process.first_outline_mm",
    "process.nozzle_c", "process.bed_c", "process.travel_lift_mm", "process.relative_e", "process.start_text",
    "process.end_text", "process.price", "process.fan_percent", "process.roof_layers", "process.second_material",
}  # fmt: skip


def standing():
    """A sheet in which every question is asked."""
    item = ITEM.model_copy(
        update={
            "hand": HandWork(of=ITEM.stance_id, kept="e" * 32, removed=(Removed(id="g", at_mm=(0, 0, 0)),))
        }
    )
    return JobSheet.of([item], name="A", own_printer=OWN, printer="Willow").on()


def altered(sheet, path, value):
    """The sheet with one field changed, deep inside."""
    first, _, rest = path.partition(".")
    if rest:
        inner = getattr(sheet, first)
        value = type(inner).model_validate({**dict(inner), rest: value})
    fields_of = {name: getattr(sheet, name) for name in ItemSheet.model_fields}
    if path == "printer":
        fields_of["own_printer"] = None
    return ItemSheet.model_validate({**fields_of, first: value})


def leaves(model, prefix=""):
    for name in model.model_fields:
        yield prefix + name


def result_keys(sheet):
    keys = Keys(ItemBinding(sheet))
    return {name: keys.get(name) for name in GRAPH}


def readers(changed):
    """Results that are made from any of some settings and sources, found by walking the declarations."""
    found = set()

    def depends(node):
        node = node.node if isinstance(node, Maybe) else node
        if isinstance(node, Source):
            return node.name in changed
        if isinstance(node, Choice):
            return any(depends(one) for one in node.among)
        kinds = {kind.node if isinstance(kind, Maybe) else kind for kind in node.reads}
        return bool(kinds & changed) or any(depends(need) for need in node.needs)

    for name in GRAPH:
        if depends(GRAPH[name]):
            found.add(name)
    return found


class FieldsTest(unittest.TestCase):
    def test_every_field_of_a_sheet_is_thought_of(self):
        told = {path.partition(".")[0] for path in EXPECTED}
        self.assertEqual(told, {*JobSettings.model_fields, *Item.model_fields})
        self.assertEqual(set(EXPECTED), set(VALUES))
        for field, model in (("supports", FilamentSupports), ("hand", HandWork), ("stance", Stance),
                             ("footing", Footing), ("process", Process)):  # fmt: skip
            wanted = {
                f"{field}.{name}" for name in model.model_fields if name != "kind" or field == "footing"
            }
            missing = wanted - set(EXPECTED) - ELSEWHERE - ALIKE
            self.assertEqual(missing, set())

    @settings(max_examples=120, deadline=None)
    @given(st.sampled_from(sorted(EXPECTED)))
    def test_exactly_the_results_that_depend_on_a_field_change(self, path):
        sheet = standing()
        other = altered(sheet, path, VALUES[path])
        kinds = {k for k in vars(s).values() if isinstance(k, type) and is_dataclass(k)} | {SecondBodies}
        one, two = ItemBinding(sheet), ItemBinding(other)
        seen = {kind for kind in kinds if one.settings(kind) != two.settings(kind)}
        sources = {need for name in GRAPH if isinstance(GRAPH[name], Recipe) for need in GRAPH[name].needs}
        for source in sources:
            source = source.node if isinstance(source, Maybe) else source
            if isinstance(source, Source):
                before, after = one.source(source), two.source(source)
                if (before and before.key) != (after and after.key):
                    seen.add(source.name)
        self.assertEqual(seen, EXPECTED[path])
        before, after = result_keys(sheet), result_keys(other)
        changed = {name for name in GRAPH if before[name] != after[name]}
        # Results of plates have no key of an item.
        expected = {n for n in readers(EXPECTED[path]) if before[n] is not None or after[n] is not None}
        self.assertEqual(changed, expected)

    def test_every_example_is_tried_whatever_hypothesis_draws(self):
        for path in sorted(EXPECTED):
            with self.subTest(path):
                FieldsTest.test_exactly_the_results_that_depend_on_a_field_change.hypothesis.inner_test(
                    self, path
                )

    def test_how_layers_are_made_changes_time_and_masks_only(self):
        sheet = JobSheet.of([ITEM], name="A", printer="Tarn 9", material="Standard resin").on()
        body = Row(Stretch.BODY, None, 3.0, 5.0, 2.0, 4.0)
        resin = {"name": "A", "printer": "Tarn 9", "material": "Standard resin"}
        before, plate = result_keys(sheet), plate_keys(JobSheet.of([ITEM], **resin))
        for field, value, timed in (
            ("table", (body,), True), ("outline_mm", -0.05, False), ("first_outline_mm", -0.1, False),
        ):  # fmt: skip
            after = result_keys(altered(sheet, f"process.{field}", value))
            changed = {name for name in GRAPH if before[name] != after[name]}
            self.assertEqual(
                changed,
                {"estimate", "without", "brief", "base", "search", "figures"} & changed if timed else set(),
            )
            self.assertEqual({"estimate", "figures"} <= changed, timed)
            other = JobSheet.of([ITEM], **resin, process=Process(**{field: value}))
            self.assertNotEqual(plate["masks"], plate_keys(other)["masks"])
            self.assertEqual(plate["package"], plate_keys(other)["package"])
        # A table for other layers counts for none of these.
        thick = replace(body, thinnest_mm=0.3, thickest_mm=0.4)
        self.assertEqual(result_keys(altered(sheet, "process.table", (thick,))), before)

    def test_how_gcode_is_written_changes_no_path(self):
        before = plate_keys(JobSheet.of([ITEM], name="A"))
        for field, value in (
            ("nozzle_c", 215), ("bed_c", 50), ("travel_lift_mm", 0.4), ("relative_e", False),
            ("start_text", "G28"), ("end_text", "M84"), ("speed_percent", 70),
        ):  # fmt: skip
            after = plate_keys(JobSheet.of([ITEM], name="A", process=Process(**{field: value})))
            self.assertNotEqual(before["gcode"], after["gcode"], field)
            self.assertEqual(before["package"], after["package"])

    def test_stilts_read_settings_of_their_own(self):
        item = ITEM.model_copy(update={"supports": ResinSupports()})
        sheet = JobSheet.of([item], name="A", printer="Tarn 9", material="Standard resin").on()
        other = altered(sheet, "supports.tip_mm", 0.7)
        before, after = result_keys(sheet), result_keys(other)
        changed = {name for name in GRAPH if before[name] != after[name]}
        self.assertTrue({"stilts", "supports", "holding", "footing"} <= changed)
        # Whatever is asked of stilts reaches them.
        given = ItemBinding(sheet).settings(s.ResinSupports)
        for name, value in OF_STILTS.items():
            with self.subTest(name):
                asked = ItemBinding(altered(sheet, f"supports.{name}", value)).settings(s.ResinSupports)
                self.assertNotEqual(asked, given)
        self.assertEqual(set(OF_STILTS) | {"kind", "around", *BY_HAND}, set(ResinSupports.model_fields))
        # What hands do to tips stands stilts anew round it, and makes nothing of the part.
        for name, value in BY_HAND.items():
            with self.subTest(name):
                put = altered(sheet, f"supports.{name}", value)
                self.assertNotEqual(ItemBinding(put).settings(TipsByHand), TipsByHand())
                around = ItemBinding(put).settings(TipsAround)
                self.assertEqual(around, TipsAround(ItemBinding(put).settings(TipsByHand)))
                again = {name for name in GRAPH if before[name] != result_keys(put)[name]}
                self.assertTrue({"stood", "stilts", "supports"} <= again)
                self.assertFalse({"layers", "walked", "hangs", "site"} & again)
        # Those that stand on are stood round what was there before, until other settings stand them anew.
        stays = put.model_copy(update={"supports": put.supports.model_copy(update=stands_round(sheet))})
        self.assertEqual(ItemBinding(stays).settings(TipsAround), TipsAround())
        self.assertEqual(result_keys(stays)["stood"], before["stood"])
        self.assertNotEqual(result_keys(stays)["stilts"], before["stilts"])
        for changed_since in (
            altered(stays, "supports.tip_mm", 0.7), altered(stays, "stance", Stance(quaternion=(0, 1, 0, 0))),
            altered(stays, "material", "Tough resin"),
        ):  # fmt: skip
            held = ItemBinding(changed_since)
            self.assertEqual(held.settings(TipsAround), TipsAround(held.settings(TipsByHand)))
        # A tough resin is pulled harder.
        tough = altered(sheet, "material", "Tough resin")
        self.assertEqual(ItemBinding(tough).settings(s.Peeling), s.Peeling(Peel.HARD))
        self.assertEqual(ItemBinding(sheet).settings(s.Peeling), s.Peeling(Peel.USUAL))
        self.assertNotEqual(result_keys(tough)["stilts"], before["stilts"])
        self.assertFalse({"layers", "walked", "hangs", "figures"} & changed)
        self.assertIsNone(after["filament_supports"])
        self.assertIsNone(after["demand"])


OF_STILTS = {
    "spacing_mm": 3, "clearance_mm": 0.6, "tip_mm": 0.5, "depth_mm": 0.3, "shaft_mm": 1.2, "foot_mm": 4,
    "taper_mm": 0.1, "tip_length_mm": 3, "rounded": True, "lean_deg": 30, "from_plate": True, "apart": True, "hollows_free": True, "fine_tip_mm": 0.2, "fine_shaft_mm": 0.7,
    "stout_tip_mm": 0.9, "stout_shaft_mm": 2, "brace_deg": 40, "brace_every_mm": 20, "slender": 30,
    "spare": 2,
}  # fmt: skip
BY_HAND = {
    "put_mm": ((1.0, 2.0, 3.0),), "out_mm": ((1.0, 2.0, 3.0),),
    "tip_sizes": (TipSize(at_mm=(1, 2, 3), size="stout"),),
}  # fmt: skip
# Fields of supports that count as another that is tried.
ALIKE = {
    "supports.gap_below_layers", "supports.line_angle_deg", "supports.interface_layers", "supports.slit_mm",
    "supports.brim_mm",
}  # fmt: skip


class Spy:
    """A binding that notes what is asked of it."""

    def __init__(self, binding):
        self.binding, self.kinds, self.sources = binding, set(), set()

    def settings(self, kind):
        self.kinds.add(kind)
        return self.binding.settings(kind)

    def source(self, source):
        self.sources.add(source.name)
        return self.binding.source(source)

    def each(self):
        return self.binding.each()


class AlikeTest(unittest.TestCase):
    def setUp(self):
        a = Item(id="a", part=PART, supports=FilamentSupports())
        b = a.model_copy(update={"id": "b", "part": a.part.model_copy(update={"mesh": "b" * 32})})
        c = b.model_copy(update={"id": "c", "accepted": {"region-1": "it holds"}})
        hand = HandWork(of=b.stance_id, kept="d" * 32, count=1)
        d = b.model_copy(update={"id": "d", "hand": hand})
        e = b.model_copy(update={"id": "e", "part": b.part.model_copy(update={"volume_mm3": 7.0})})
        self.job = JobSheet.of([a, b, c, d, e], name="Alike")

    def test_keys_are_those_that_each_item_would_have_by_itself(self):
        for sheet in self.job.each:
            together, alone = keys_of(sheet), Keys(ItemBinding(sheet))
            for name in GRAPH:
                self.assertEqual(together.get(name), alone.get(name), (sheet.id, name))

    def test_what_differs_in_one_item_changes_only_what_follows_from_it(self):
        def unlike(one, other):
            ours, theirs = keys_of(self.job.on(one)), keys_of(self.job.on(other))
            return {name for name in GRAPH if ours.get(name) != theirs.get(name)}

        self.assertIn("placed", unlike("a", "b"))
        self.assertEqual(unlike("b", "d") & {"placed", "layers", "demand"}, set())
        self.assertLessEqual({"filament_supports", "supports"}, unlike("b", "d"))
        self.assertIn("listed", unlike("b", "c"))
        self.assertEqual(unlike("b", "c") & {"placed", "layers", "walked"}, set())
        self.assertIn("estimate", unlike("b", "e"))
        self.assertNotIn("placed", unlike("b", "e"))

    def test_settings_of_items_decided_alike_are_read_once(self):
        for sheet in self.job.each:
            keys_of(sheet).get("estimate")
        read = {sheet.id: keys_of(sheet).binding._known for sheet in self.job.each}
        self.assertIn(s.Costing, read["a"])
        self.assertNotIn(s.Costing, read["b"])
        self.assertIn(s.PartFacts, read["e"])


class DeclaredTest(unittest.TestCase):
    def test_a_key_asks_for_nothing_that_is_not_declared(self):
        for name in GRAPH:
            with self.subTest(name):
                spy = Spy(ItemBinding(standing()))
                Keys(spy).get(name)
                below = GRAPH.below([name])
                declared = {k.node if isinstance(k, Maybe) else k for one in below for k in one.reads}
                sources = {
                    getattr(need, "node", need).name
                    for one in below
                    for need in one.needs
                    if isinstance(getattr(need, "node", need), Source)
                }
                self.assertLessEqual(spy.kinds, declared)
                self.assertLessEqual(spy.sources, sources)

    def test_what_is_sent_to_a_worker_gives_the_same_key(self):
        sheet = standing()
        keys = keys_of(sheet)
        for name in GRAPH:
            if name in keys:
                sent = bound(keys.binding, [name])
                self.assertEqual(Keys(sent)[name], keys[name], name)
                declared = {getattr(k, "node", k) for one in GRAPH.below([name]) for k in one.reads}
                self.assertLessEqual(set(sent.values), declared)

    def test_all_settings_can_go_into_a_key(self):
        binding = ItemBinding(standing())
        for kind in vars(s).values():
            if isinstance(kind, type) and is_dataclass(kind) and binding.settings(kind) is not None:
                self.assertTrue(fields(kind) or kind is s.PaintedShow)
                hash(binding.settings(kind))


class PlateKeysTest(unittest.TestCase):
    def test_moving_swinging_and_copying_touch_results_of_the_plate_only(self):
        job = JobSheet.of([ITEM, ITEM.model_copy(update={"id": "b"})], name="A")
        names = ("arranged", "plate_checks", "package")
        for instances in (
            (Instance(item="a", x_mm=5, y_mm=6), Instance(item="b")),
            (Instance(item="a", swing_deg=30), Instance(item="b")),
            (Instance(item="a"), Instance(item="a", copy_number=2), Instance(item="b")),
        ):
            moved = job.model_copy(update={"plates": (Plate(instances=instances),)})
            before, after = plate_keys(job), plate_keys(moved)
            self.assertTrue(all(before[n] != after[n] for n in names))
            for one in ("a", "b"):
                self.assertEqual(result_keys(job.on(one)), result_keys(moved.on(one)))

    def test_a_plate_speaks_of_what_stands_on_it(self):
        job = JobSheet.of([ITEM, ITEM.model_copy(update={"id": "b"})], name="A")
        self.assertEqual(len(PlateBinding(job).each()), 2)
        one = job.model_copy(update={"plates": (Plate(instances=(Instance(item="b"),)),)})
        self.assertEqual(len(PlateBinding(one).each()), 1)


class HandTest(unittest.TestCase):
    """Work by hand belongs to a stance: to its surface, turn and typed lift, and to no result."""

    def test_another_layer_height_does_not_hide_it(self):
        item = ITEM.model_copy(update={"stance": Stance(lift_mm=5)})
        item = item.model_copy(update={"hand": HandWork(of=item.stance_id, kept="e" * 32, count=1)})
        job = JobSheet.of([item], name="A", layer_mm=0.2)
        for layer in (0.2, 0.3, 0.15):
            sheet = altered(job.on(), "layer_mm", layer)
            self.assertEqual(hand_of(sheet).kept, "e" * 32)
        self.assertIsNone(hand_of(altered(job.on(), "stance.lift_mm", 6)).kept)
        self.assertIsNone(hand_of(altered(job.on(), "stance.quaternion", (0.0, 1.0, 0.0, 0.0))).kept)

    def test_names_of_stances_do_not_count(self):
        self.assertEqual(altered(standing(), "stance.name", "x").stance_id, standing().stance_id)
        self.assertEqual(whole(standing()).on("a").stance_id, standing().stance_id)


if __name__ == "__main__":
    unittest.main()

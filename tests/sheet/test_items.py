"""Items of a job and presets in the sheet: what is done to one stays with it, and differences are told."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tests.sheet.test_changes import JOB, SHEET, change
from upright_heron.core.errors import BadValue
from upright_heron.core.footing.footing import FootingKind
from upright_heron.core.machines.catalogue import Technology
from upright_heron.sheet.changes import (
    AddItems,
    BringItems,
    CutToGrid,
    JoinAgain,
    Lean,
    MakePieces,
    PickPrinter,
    PlaceOnPlate,
    Resize,
    SeparateItem,
    SetFooting,
    SetLayer,
    TakeOut,
)
from upright_heron.sheet.changes.bring import Brought
from upright_heron.sheet.changes.items import MOST_ITEMS
from upright_heron.sheet.item import Item, OfJob, PieceOf
from upright_heron.sheet.merge import changed, clashes
from upright_heron.sheet.models import JobSheet
from upright_heron.sheet.part import Size
from upright_heron.sheet.process import FilamentSupports, Footing, Preset, Process, ResinSupports


def part(number):
    return SHEET.part.model_copy(update={"file_name": f"{number}.stl", "mesh": f"{number:032x}"[::-1]})


def job(count):
    sheet = JobSheet.of([Item(id="first", part=part(0))], name="A")
    return AddItems(parts=tuple(part(k) for k in range(1, count))).made(sheet, "") if count > 1 else sheet


def names(sheet):
    return [item.part.file_name for item in sheet.items]


def standing(sheet):
    return [one.item for plate in sheet.plates for one in plate.instances]


class ItemsTest(unittest.TestCase):
    def test_a_piece_of_another_job_comes_as_a_part_of_its_own(self):
        host = job(1)
        # Its item there is called as the one here is: nothing here was cut all the same.
        piece = Item(id="first.1", part=part(1), piece=PieceOf(item="first", path="1"))
        of = OfJob(job="other", step=1, name="Other", layer_mm=0.2)
        asked = BringItems(of=of, technology=Technology.FILAMENT, items=(Brought(item=piece),))
        came = asked.made(host, "")
        self.assertEqual([one.piece for one in came.items], [None, None])
        self.assertEqual((len(came.printed), len(standing(came))), (2, 2))

    def test_on_another_plate_it_stands_where_there_is_room(self):
        made = PlaceOnPlate(x_mm=5, y_mm=6, swing_deg=30).made(job(2), "first")
        moved = PlaceOnPlate(plate=2).made(made, "first")
        (one,) = moved.plates[1].instances
        self.assertEqual((one.item, one.x_mm, one.y_mm, one.swing_deg), ("first", None, None, 0))

    @given(st.integers(2, 5), st.data())
    def test_what_is_done_to_one_item_stays_with_it(self, count, data):
        which, other = data.draw(st.permutations(range(count)))[:2]
        before = job(count)
        ids = [item.id for item in before.items]
        after = Lean(degrees=10, towards="left").made(before, ids[which])
        self.assertIn("leaning", after.on(ids[which]).stance.name)
        self.assertEqual(after.on(ids[other]), before.on(ids[other]))
        self.assertEqual([item.id for item in after.items], ids)

    def test_ids_are_unlike_and_stay_while_things_are_done(self):
        sheet = AddItems(parts=(part(1), part(1), part(2))).made(job(2), "")
        ids = [item.id for item in sheet.items]
        self.assertEqual(len(set(ids)), 5)
        larger = Resize(size=Size(scale=(2, 2, 2)), part=part(9), of=part(0).mesh).made(sheet, "first")
        self.assertEqual([item.id for item in larger.items], ids)
        self.assertEqual(names(larger)[0], "9.stl")
        # An id of an item that was taken out is not given to another while that is in the job.
        self.assertEqual(standing(TakeOut().made(sheet, ids[1])), [ids[0], *ids[2:]])

    def test_adding_has_an_end(self):
        with self.assertRaises(BadValue):
            AddItems(parts=tuple(part(k) for k in range(MOST_ITEMS))).made(job(1), "")

    def test_bodies_take_the_place_of_their_item(self):
        sheet = job(3)
        second = sheet.items[1]
        found = SeparateItem(parts=(part(7), part(8)), of=second.part.mesh).made(sheet, second.id)
        self.assertEqual(names(found), ["0.stl", "7.stl", "8.stl", "2.stl"])
        self.assertEqual(set(standing(found)), {item.id for item in found.items})
        with self.assertRaises(BadValue):
            SeparateItem(parts=(part(7),), of=part(5).mesh).made(sheet, second.id)

    def test_taking_out_ends_with_one(self):
        sheet = TakeOut().made(job(2), "first")
        self.assertEqual(names(sheet), ["1.stl"])
        with self.assertRaises(BadValue):
            TakeOut().made(sheet, sheet.items[0].id)

    def test_pieces_are_items_and_keep_their_work_when_they_are_cut_again(self):
        sheet = CutToGrid(margin_mm=3).made(job(2), "first")
        of = sheet.item("first").part.mesh
        cut = MakePieces(parts=(part(5), part(6)), paths=("0-0-0", "1-0-0"), of=of).made(sheet, "first")
        self.assertEqual(names(cut), ["0.stl", "5.stl", "6.stl", "1.stl"])
        self.assertEqual(standing(cut), [sheet.items[1].id, "first.0-0-0", "first.1-0-0"])
        turned = Lean(degrees=20, towards="back").made(cut, "first.1-0-0")
        again = MakePieces(parts=(part(5), part(7), part(8)), paths=("0-0-0", "1-0-0", "2-0-0"), of=of)
        again = again.made(turned, "first")
        self.assertEqual(again.item("first.1-0-0").stance, turned.item("first.1-0-0").stance)
        self.assertEqual(again.item("first.1-0-0").part, part(7))
        self.assertEqual(len(again.items), 5)
        joined = JoinAgain().made(again, "first")
        self.assertEqual(names(joined), ["0.stl", "1.stl"])
        self.assertEqual(set(standing(joined)), {item.id for item in joined.items})
        with self.assertRaises(BadValue):
            MakePieces(parts=(part(5),), paths=("0-0-0",), of=of).made(job(2), "first")

    def test_a_habit_of_the_machine_reaches_every_item_and_a_choice_stays(self):
        own = {"name": "Willow", "technology": "filament", "build_mm": (400, 400, 400)}
        own |= {"layer_heights_mm": (0.3,), "layer_mm": 0.3, "finest_mm": 0.6, "speed_mm_s": 90, "raft": True}
        sheet = SetFooting(footing="brim").made(job(3), "first")
        found = PickPrinter(printer="Willow", own=own).made(sheet, "")
        self.assertEqual([item.footing.kind for item in found.items], ["brim", "raft", "raft"])
        resin = PickPrinter(printer="Tarn 9").made(found, "")
        self.assertEqual([item.footing.kind for item in resin.items], ["none"] * 3)

    def test_the_plate_knows_only_items_of_the_job(self):
        sheet = PlaceOnPlate(x_mm=10, y_mm=-4, swing_deg=90).made(job(2), "first")
        (first, second) = sheet.plates[0].instances
        self.assertEqual((first.x_mm, first.y_mm, first.swing_deg, second.x_mm), (10, -4, 90, None))
        with self.assertRaises(BadValue):
            PlaceOnPlate(x_mm=10).made(job(2), "first")
        with self.assertRaises(ValidationError):
            JobSheet.model_validate({**sheet.model_dump(), "plates": [{"instances": [{"item": "gone"}]}]})
        with self.assertRaises(ValidationError):
            JobSheet.model_validate({**sheet.model_dump(), "items": [sheet.items[0]] * 2})


class MergeTest(unittest.TestCase):
    def test_other_fields_and_other_items_go_together(self):
        before = job(2)
        second = before.items[1].id
        mine = Lean(degrees=10, towards="left").made(before, "first")
        for theirs in (
            Lean(degrees=30, towards="back").made(before, second),
            SetFooting(footing="brim").made(before, "first"),
            SetLayer(layer_mm=0.3).made(before, ""),
        ):
            self.assertEqual(clashes(before, mine, theirs), [])
        same = Lean(degrees=30, towards="back").made(before, "first")
        self.assertEqual(clashes(before, mine, same), ["stance of 0.stl"])
        # Both to the same: nothing is lost.
        self.assertEqual(clashes(before, mine, mine), [])

    def test_an_item_taken_out_clashes_with_a_change_to_it(self):
        before = job(3)
        mine = Lean(degrees=10, towards="left").made(before, "first")
        self.assertTrue(clashes(before, mine, TakeOut().made(before, "first")))
        self.assertEqual(set(changed(JOB, JOB)), set())


class PresetTest(unittest.TestCase):
    FINE = Preset(
        name="Fine", technology=Technology.FILAMENT, layer_mm=0.1, process=Process(walls=4),
        supports=FilamentSupports(gap_mm=0.1), footing=Footing(kind=FootingKind.BRIM, lines=8),
    )  # fmt: skip

    def test_its_name_is_proposed_from_what_is_in_it(self):
        self.assertEqual(self.FINE.proposed_name, "0.1 mm, 4 walls, 15 %, columns, brim")
        resin = Preset(name="R", technology=Technology.RESIN, layer_mm=0.05, supports=ResinSupports())
        self.assertEqual(resin.proposed_name, "0.05 mm, stilts")

    def test_differences_are_told_one_by_one(self):
        other = self.FINE.model_copy(
            update={"layer_mm": 0.2, "supports": FilamentSupports(gap_mm=0.3), "footing": Footing()}
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

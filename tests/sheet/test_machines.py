"""Plates of one job that go to different printers."""

import unittest
from dataclasses import replace

from pydantic import ValidationError

from tests.sheet.test_items import job, part
from upright_heron.core.errors import BadValue
from upright_heron.sheet.changes import (
    AddItems,
    FillPlate,
    Lean,
    MakeCopies,
    PickMaterial,
    PickPrinter,
    PlaceOnPlate,
    PrintIn,
    PrintOn,
    SeparateItem,
    SetLayer,
    SetTable,
)
from upright_heron.sheet.changes.base import altered
from upright_heron.sheet.item import Item, PieceOf
from upright_heron.sheet.models import JobSheet
from upright_heron.sheet.plating import Instance, Plate
from upright_heron.sheet.process import usual_footing
from upright_heron.sheet.shop import Calibration, OwnMaterial, OwnPrinter
from upright_heron.work.bind_plates import by_printer, layout, to_arrange

ALDER = OwnPrinter(
    name="Alder", technology="filament", build_mm=(200, 210, 220), layer_heights_mm=(0.3,), layer_mm=0.3,
    finest_mm=0.6, speed_mm_s=90, habit="raft",
)  # fmt: skip


def on_two():
    """Three items: the first on plate 1, the second and third on plate 2, which goes to another printer."""
    made = job(3)
    first, second, third = (item.id for item in made.items)
    made = PlaceOnPlate(plate=2).made(made, second)
    made = PlaceOnPlate(plate=2).made(made, third)
    return PrintOn(plate=2, printer="Reed 190").made(made, ""), first, second, third


def standing(sheet):
    return [[(one.item, one.copy_number) for one in plate.instances] for plate in sheet.plates]


class PrintOnTest(unittest.TestCase):
    def test_items_of_a_plate_read_with_its_printer_and_others_with_that_of_the_job(self):
        made, first, second, third = on_two()
        self.assertEqual([made.on(one).machine.name for one in (first, second, third)],
                         ["Sedge 300", "Reed 190", "Reed 190"])  # fmt: skip
        self.assertEqual(made.printer, "Sedge 300")
        self.assertEqual([layout(made, k).build_mm[0] for k in (0, 1)], [300.0, 190.0])
        self.assertEqual(made.on(second).setting().printer.name, "Reed 190")

    def test_what_is_decided_on_such_an_item_leaves_the_printer_of_the_job(self):
        made, first, second, _ = on_two()
        made = Lean(degrees=10, towards="left").made(made, second)
        made = SetLayer(layer_mm=0.1).made(made, second)
        self.assertEqual((made.printer, made.layer_mm), ("Sedge 300", 0.1))
        self.assertEqual((made.on(first).printer, made.on(second).printer), ("Sedge 300", "Reed 190"))
        self.assertEqual(made.on(first).layer_mm, 0.1)

    def test_a_printer_of_the_shop_comes_with_all_that_is_known_of_it(self):
        made, _, second, _ = on_two()
        measured = Calibration(printer="Alder", material="PLA", limit_deg=71, date="2026-11-01")
        made = PrintOn(plate=2, printer="Alder", own=ALDER, calibration=measured).made(made, "")
        sheet = made.on(second)
        self.assertEqual((sheet.machine.build_mm, sheet.limit), ((200, 210, 220), 71))
        self.assertEqual(made.limit, job(1).limit)
        # Its habit is a raft, as nobody had chosen a footing.
        self.assertEqual(sheet.footing, usual_footing(ALDER.core()))

    def test_back_on_the_printer_of_the_job_nothing_is_left_of_the_other(self):
        made, *_ = on_two()
        back = PrintOn(plate=2, printer="Sedge 300").made(made, "")
        self.assertEqual([item.elsewhere for item in back.items], [None] * 3)
        self.assertEqual(PickPrinter(printer="Reed 190").made(made, "").items[1].elsewhere, None)

    def test_picking_another_printer_for_the_job_leaves_the_plate_where_it_goes(self):
        made, first, second, _ = on_two()
        own = PickPrinter(printer="Alder", own=ALDER).made(made, "")
        self.assertEqual((own.on(first).machine.name, own.on(second).machine.name), ("Alder", "Reed 190"))
        resin = PickPrinter(printer="Tarn 9").made(made, "")
        self.assertEqual([resin.on(one.id).machine.name for one in resin.items], ["Tarn 9"] * 3)

    def test_an_item_in_another_material_goes_to_a_plate_of_its_own_where_it_stood(self):
        made, first, second, third = on_two()
        made = PlaceOnPlate(x_mm=12, y_mm=-7, swing_deg=30, plate=2).made(made, second)
        own = OwnMaterial(
            name="Flax", technology="filament", density_g_cm3=1.3, price_per_kg=40, limit_deg=40
        )
        measured = Calibration(printer="Reed 190", material="Flax", limit_deg=33, date="2026-11-01")
        flax = PrintIn(material="Flax", own=own, calibration=measured).made(made, second)
        self.assertEqual(
            [[one.item for one in plate.instances] for plate in flax.plates], [[first], [third], [second]]
        )
        (there,) = flax.plates[2].instances
        self.assertEqual((there.x_mm, there.y_mm, there.swing_deg), (12, -7, 30))
        sheet = flax.on(second)
        self.assertEqual(
            (sheet.printer, sheet.material, sheet.stuff.density_g_cm3), ("Reed 190", "Flax", 1.3)
        )
        self.assertEqual((sheet.limit, flax.on(third).material, flax.material), (33, "PLA", "PLA"))
        self.assertEqual(len(by_printer(flax)), 3)
        # Plates of two materials are not one, and items of them do not come together on one.
        with self.assertRaises(ValidationError):
            altered(flax, plates=(flax.plates[0], Plate(instances=flax.plates[1].instances + (there,))))
        # On another printer it stays in its material; what is decided on it leaves the job as it is.
        moved = PrintOn(plate=3, printer="Alder", own=ALDER).made(flax, "")
        self.assertEqual((moved.on(second).printer, moved.on(second).material), ("Alder", "Flax"))
        turned = Lean(degrees=10, towards="left").made(flax, second)
        self.assertEqual((turned.material, turned.on(second).material), ("PLA", "Flax"))
        # What is of that material already stays where it is, with the others.
        self.assertEqual(PrintIn(material="PLA").made(made, second).plates, made.plates)
        self.assertEqual(PrintIn(material="Flax", own=own, calibration=measured).made(flax, second), flax)
        # Back in that of the job nothing is left of the other; nor where the job takes it.
        back = PrintIn(material="PLA").made(flax, second)
        self.assertEqual(back.item(second).elsewhere, flax.item(third).elsewhere)
        taken = PickMaterial(material="Flax", own=own).made(flax, "")
        self.assertEqual([one.material for one in taken.each], ["Flax"] * 3)
        self.assertIsNone(taken.item(second).elsewhere.material)
        other = PickMaterial(material="PETG").made(flax, "")
        self.assertEqual([one.material for one in other.each], ["PETG", "Flax", "PETG"])

    def test_a_whole_plate_in_another_material_stays_one(self):
        made, first, second, third = on_two()
        made = PrintIn(material="PETG", plate=2).made(made, first)
        self.assertEqual([one.material for one in made.each], ["PLA", "PETG", "PETG"])
        self.assertEqual(standing(made), [[(first, 1)], [(second, 1), (third, 1)]])
        # An item on the printer of the job, in another material, goes along to another printer.
        made = PrintIn(material="PETG").made(made, first)
        made = PickPrinter(printer="Alder", own=ALDER).made(made, "")
        self.assertEqual((made.on(first).printer, made.on(first).material), ("Alder", "PETG"))
        self.assertEqual(made.on(second).printer, "Reed 190")

    def test_materials_that_cannot_be_are_refused(self):
        made, first, *_ = on_two()
        for change, words in (
            (PrintIn(material="Standard resin"), "cannot use"),
            (PrintIn(material="PETG", plate=9), "no plate 9"),
            (PrintIn(material="Nothing"), "Nothing"),
        ):
            with self.subTest(words), self.assertRaisesRegex(BadValue, words):
                change.made(made, first)

    def test_copies_on_a_plate_for_another_printer_become_an_item_of_their_own(self):
        made = job(1)
        (only,) = (item.id for item in made.items)
        made = Lean(degrees=10, towards="left").made(made, only)
        made = MakeCopies(count=5).made(made, only)
        made = PlaceOnPlate(plate=2, copy_number=2).made(made, only)
        made = PlaceOnPlate(plate=2, copy_number=4).made(made, only)
        made = PrintOn(plate=2, printer="Reed 190").made(made, "")
        one, twin = made.items
        self.assertEqual((one.id, one.elsewhere), (only, None))
        self.assertEqual(standing(made), [[(only, 1), (only, 3), (only, 5)], [(twin.id, 1), (twin.id, 2)]])
        self.assertEqual((twin.stance, twin.part), (one.stance, one.part))
        self.assertEqual(made.on(twin.id).printer, "Reed 190")
        # The other plate to that printer as well: both go there, and stay two items.
        both = PrintOn(plate=1, printer="Reed 190").made(made, "")
        self.assertEqual({item.elsewhere.printer for item in both.items}, {"Reed 190"})
        self.assertEqual(len(both.items), 2)

    def test_an_item_of_their_own_follows_the_one_that_they_are_copies_of(self):
        made = job(2)
        first, second = (item.id for item in made.items)
        made = MakeCopies(count=2).made(made, first)
        made = PlaceOnPlate(plate=2, copy_number=2).made(made, first)
        made = PrintOn(plate=2, printer="Reed 190").made(made, "")
        self.assertEqual([made.items[0].id, made.items[2].id], [first, second])

    def test_a_piece_of_a_cut_is_not_parted(self):
        whole = Item(id="w", part=part(0))
        piece = Item(id="w.1", part=part(1), piece=PieceOf(item="w", path="1"))
        made = MakeCopies(count=2).made(JobSheet.of([whole, piece], name="A"), "w.1")
        made = PlaceOnPlate(plate=2, copy_number=2).made(made, "w.1")
        with self.assertRaisesRegex(BadValue, "a piece of a cut goes to one printer"):
            PrintOn(plate=2, printer="Reed 190").made(made, "")
        made = PlaceOnPlate(plate=2, copy_number=1).made(made, "w.1")
        self.assertEqual(PrintOn(plate=1, printer="Reed 190").made(made, "").on("w.1").printer, "Reed 190")

    def test_what_is_moved_to_a_plate_goes_to_its_printer(self):
        made, first, second, third = on_two()
        moved = PlaceOnPlate(plate=1).made(made, third)
        self.assertEqual([moved.on(one).printer for one in (first, second, third)],
                         ["Sedge 300", "Reed 190", "Sedge 300"])  # fmt: skip
        # A new plate is for the printer that it came from.
        moved = PlaceOnPlate(plate=3).made(made, third)
        self.assertEqual([moved.of_plate(k).printer for k in range(3)], ["Sedge 300", "Reed 190", "Reed 190"])

    def test_new_parts_come_to_a_plate_of_the_printer_of_the_job(self):
        made, *_ = on_two()
        sent = PrintOn(plate=1, printer="Reed 190").made(made, "")
        more = AddItems(parts=(part(9),)).made(sent, "")
        self.assertEqual(len(more.plates), 3)
        self.assertEqual(more.of_plate(2).printer, "Sedge 300")
        self.assertEqual(len(AddItems(parts=(part(9),)).made(made, "").plates), 2)

    def test_bodies_of_an_item_go_where_it_went(self):
        made, _, second, third = on_two()
        gone = made.item(second)
        parted = SeparateItem(parts=(part(11), part(12)), of=gone.part.mesh).made(made, second)
        fresh = [one for one in parted.items if one.part in (part(11), part(12))]
        self.assertEqual([parted.on(one.id).printer for one in fresh], ["Reed 190"] * 2)
        self.assertEqual(
            {one.item for one in parted.plates[1].instances}, {third, *(one.id for one in fresh)}
        )

    def test_one_plate_is_never_for_two_printers(self):
        made, first, second, _ = on_two()
        both = Plate(instances=(Instance(item=first), Instance(item=second)))
        with self.assertRaisesRegex(ValidationError, "two printers"):
            altered(made, plates=(both,))

    def test_what_does_not_go_is_said(self):
        made, *_ = on_two()
        with self.assertRaisesRegex(BadValue, "no plate 7"):
            PrintOn(plate=7, printer="Reed 190").made(made, "")
        with self.assertRaisesRegex(BadValue, "Tarn 9 prints resin"):
            PrintOn(plate=1, printer="Tarn 9").made(made, "")

    def test_typed_exposures_are_for_the_printer_of_the_job_alone(self):
        made = PickPrinter(printer="Tarn 9").made(job(2), "")
        first, second = (item.id for item in made.items)
        made = PlaceOnPlate(plate=2).made(made, second)
        made = PrintOn(plate=2, printer="Mere 13").made(made, "")
        typed = tuple(replace(row, exposure_s=row.exposure_s + 1) for row in made.on(first).rows)
        usual = made.on(second).rows
        made = made.model_copy(update={"process": made.process.changed(table=typed)})
        self.assertEqual(made.on(first).rows, typed)
        self.assertEqual(made.on(second).rows, usual)
        with self.assertRaisesRegex(BadValue, "goes to a Mere 13"):
            SetTable(csv="").made(made, second)


class ArrangingTest(unittest.TestCase):
    def test_plates_are_arranged_by_their_printer(self):
        made, first, second, third = on_two()
        self.assertEqual(by_printer(made), [[0], [1]])
        asked = to_arrange(made, [1])
        self.assertEqual(asked.items, (second, third))
        self.assertEqual((asked.room.plate_mm, asked.build_high_mm), ((190.0, 170.0), 185.0))
        self.assertEqual([one.item for one in to_arrange(made, [0]).instances], [first])


class FillTest(unittest.TestCase):
    """What was laid for a plate that has changed meanwhile is not kept."""

    def test_only_more_of_the_same_and_nothing_lost(self):
        made, first, second, third = on_two()

        def fill(*instances, plate=1, item=first):
            some = tuple(Instance(item=name, copy_number=n) for name, n in instances)
            return FillPlate(plate=plate, instances=some).made(made, item)

        more = fill((first, 1), (first, 2), (first, 3))
        self.assertEqual(standing(more)[0], [(first, 1), (first, 2), (first, 3)])
        self.assertEqual(standing(more)[1], standing(made)[1])
        refused = (
            {"some": [(first, 2)]}, {"some": [(first, 1), (second, 2)]}, {"some": [(first, 1), (second, 1)]},
            {"some": [(first, 1), (first, 2), (first, 2)]}, {"some": [(first, 1)], "plate": 7},
            {"some": [(first, 1), (second, 1), (second, 2)], "item": second},
        )  # fmt: skip
        for given in refused:
            more_of = {name: value for name, value in given.items() if name != "some"}
            with self.subTest(given), self.assertRaisesRegex(BadValue, "changed"):
                fill(*given["some"], **more_of)
        # A copy that stands on another plate stands there.
        apart = PlaceOnPlate(copy_number=2, plate=3).made(MakeCopies(count=2).made(made, first), first)
        two = tuple(Instance(item=first, copy_number=n) for n in (1, 2))
        with self.assertRaisesRegex(BadValue, "changed"):
            FillPlate(plate=1, instances=two).made(apart, first)
        both = fill((second, 1), (third, 1), (third, 2), plate=2, item=third)
        self.assertEqual(standing(both)[1], [(second, 1), (third, 1), (third, 2)])
        filled = FillPlate(plate=1, instances=more.plates[0].instances)
        self.assertIn("Fill plate 1: 3 of", filled.label(more.on(first)))

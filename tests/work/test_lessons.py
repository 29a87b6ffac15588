"""What several prints tell of limits, fits and resins, and what becomes of it."""

import dataclasses
import datetime as dt
import tempfile
import unittest
from pathlib import Path

from tests.work.test_bind import ITEM
from tests.work.test_record import AT, one
from upright_heron.core.errors import BadValue
from upright_heron.core.machines.catalogue import Peel
from upright_heron.sheet.models import JobSettings, JobSheet
from upright_heron.sheet.shop import Calibration, OwnMaterial
from upright_heron.store.prints import Stage
from upright_heron.store.store import Store
from upright_heron.work.checking import shop_checks
from upright_heron.work.lessons import lessons, take_lesson

TARN = {"model": "Tarn 9", "material": "Standard resin"}
LATER = AT + dt.timedelta(days=1)


class LessonsTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.store = Store(Path(folder.name) / "heron.sqlite3")
        self.addCleanup(self.store.close)

    def told(self, *prints):
        return [
            (o.kind, o.model, o.material, o.count, o.before, o.after) for o in lessons(prints, self.store)
        ]

    def test_one_print_tells_nothing_and_two_of_a_pair_do(self):
        sagged = one(reason="overhangs sagged", stage=Stage.DONE)
        self.assertEqual(self.told(sagged), [])
        other = one(reason="Overhangs sagged ", stage=Stage.DONE, material="PETG")
        self.assertEqual(self.told(sagged, other, one(reason="warped"), one(reason="warped")), [])
        usual = JobSettings(name="x").proposed_limit_deg
        self.assertEqual(
            self.told(sagged, sagged, other),
            [("limit", "Sedge 300", "PLA", 2, f"{usual:g}°", f"{usual - 5:g}°")],
        )

    def test_a_limit_that_is_taken_holds_for_new_jobs_and_is_told_once(self):
        sagged = one(reason="overhangs sagged")
        usual = JobSettings(name="x").proposed_limit_deg
        take_lesson(self.store, "limit", "Sedge 300", "PLA", LATER)
        kept = self.store.on_shelf(Calibration, "Sedge 300|PLA")
        self.assertEqual((kept.limit_deg, kept.clearance_mm, kept.note), (usual - 5, None, "from the record"))
        self.assertEqual(JobSettings(name="x", calibration=kept).limit, usual - 5)
        self.assertEqual(self.told(sagged, sagged), [])
        # What is printed after that says it anew.
        fresh = dataclasses.replace(sagged, ended=LATER + dt.timedelta(hours=1))
        self.assertEqual(self.told(sagged, fresh), [])
        self.assertEqual(self.told(fresh, fresh)[0][-2:], (f"{usual - 5:g}°", f"{usual - 10:g}°"))

    def test_fits_get_looser_or_tighter_beside_what_was_measured(self):
        self.store.shelve(
            Calibration(
                printer="Sedge 300",
                material="PLA",
                limit_deg=52,
                bridge_mm=18,
                clearance_mm=0.2,
                date="2026-10-01",
            )
        )
        tight, loose = one(reason="pieces too tight"), one(reason="pieces too loose")
        self.assertEqual(self.told(tight, tight)[0][-2:], ("0.2 mm", "0.25 mm"))
        self.assertEqual(self.told(loose, loose)[0][-2:], ("0.2 mm", "0.15 mm"))
        take_lesson(self.store, "looser", "Sedge 300", "PLA", LATER)
        kept = self.store.on_shelf(Calibration, "Sedge 300|PLA")
        self.assertEqual((kept.clearance_mm, kept.limit_deg, kept.bridge_mm), (0.25, 52, 18))
        # Of the other way nothing was taken.
        self.assertEqual([lesson[0] for lesson in self.told(tight, tight, loose, loose)], ["tighter"])
        take_lesson(self.store, "limit", "Sedge 300", "PLA", LATER)
        kept = self.store.on_shelf(Calibration, "Sedge 300|PLA")
        self.assertEqual((kept.clearance_mm, kept.limit_deg), (0.25, 47))

    def test_a_resin_that_tears_parts_off_is_taken_for_harder(self):
        lost = [one(reason=reason, **TARN) for reason in ("an island floated", "a support came loose")]
        self.assertEqual(self.told(*lost), [("peel", "Tarn 9", "Standard resin", 2, "usual", "hard")])
        take_lesson(self.store, "peel", "Tarn 9", "Standard resin", AT)
        own = self.store.on_shelf(OwnMaterial, "Standard resin")
        self.assertEqual((own.peel, own.density_g_cm3), (Peel.HARD, 1.10))
        # A job that was made with the usual one says that there is a newer.
        job = JobSheet.of([ITEM], name="A", printer="Tarn 9", material="Standard resin")
        told = [check.text for check in shop_checks(job, self.store)]
        self.assertEqual(told, ["The shop's figures of Standard resin are newer than those of the job."])
        self.assertEqual(shop_checks(job.model_copy(update={"own_material": own}), self.store), [])
        # Harder than hard there is nothing; on filament it tells of no peel.
        self.assertEqual(self.told(*[dataclasses.replace(o, ended=LATER) for o in lost]), [])
        with self.assertRaises(BadValue):
            take_lesson(self.store, "peel", "Tarn 9", "Standard resin", LATER)
        self.assertEqual(self.told(*[one(reason="a support came loose")] * 2), [])

    def test_what_is_not_known_any_more_tells_nothing(self):
        for more in ({"model": "Gone"}, {"material": "Gone"}, {"material": "Standard resin"}):
            self.assertEqual(self.told(*[one(reason="overhangs sagged", **more)] * 2), [])
        self.store.shelve(
            Calibration(
                printer="Sedge 300", material="PLA", limit_deg=5, clearance_mm=0.02, date="2026-10-01"
            )
        )
        for reason in ("overhangs sagged", "pieces too loose"):
            self.assertEqual(self.told(*[one(reason=reason)] * 2), [])


if __name__ == "__main__":
    unittest.main()

"""A database of an earlier schema opens: every job, step, work by hand, mark and variant is there.

``tests/fixtures/e6871a0.sqlite3`` was made by the code of commit e6871a0 through its own pages; the JSON file
beside it tells what that code showed.
"""

import json
import math
import shutil
import sqlite3
import tempfile
import unittest
from pathlib import Path

from upright_heron.core.maker import Maker
from upright_heron.sheet.changes import Rename, SetLayer
from upright_heron.sheet.process import FilamentSupports, Preset, ResinSupports
from upright_heron.sheet.shop import Calibration, OwnPrinter
from upright_heron.sheet.upcast import read_sheet
from upright_heron.store.database import NotFound
from upright_heron.store.store import Store
from upright_heron.work.bind import hand_of, keys_of
from upright_heron.work.sources import ResultMemory, load_from

FIXTURES = Path(__file__).resolve().parents[1] / "fixtures"
TOLD = json.loads((FIXTURES / "e6871a0.json").read_text())


class FixtureTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "heron.sqlite3"
        shutil.copyfile(FIXTURES / "e6871a0.sqlite3", self.path)
        with sqlite3.connect(self.path) as old:
            self.before = {
                table: old.execute(f"select count(*) from {table}").fetchone()[0]
                for table in ("job", "step", "blob", "shelf")
            }
            self.steps = old.execute(
                "select id, job_id, number, label, sheet from step order by id"
            ).fetchall()
        self.store = Store(self.path)
        self.addCleanup(self.store.close)

    def sheet(self, name):
        return self.store.job(TOLD[name]["id"]).sheet

    def made(self, sheet, name):
        return Maker(load_from(self.store), ResultMemory(self.store)).make(keys_of(sheet), name)

    def test_nothing_is_lost(self):
        with sqlite3.connect(self.path) as now:
            for table, count in self.before.items():
                self.assertEqual(now.execute(f"select count(*) from {table}").fetchone()[0], count, table)
            rows = now.execute("select id, job_id, number, label, sheet from step order by id").fetchall()
        # Rows of steps are never altered: they are read anew each time.
        self.assertEqual(rows, self.steps)
        for name, told in TOLD.items():
            job = self.store.job(told["id"])
            self.assertEqual((job.step, job.sheet.name), (told["step"], told["name"]), name)
            self.assertEqual(len(job.sheet.items), told["parts"])
            for item in job.sheet.items:
                self.store.mesh(item.part.mesh)
                self.store.mesh(item.original.mesh)
        self.assertEqual([job.id for job in self.store.jobs("archived")], [TOLD["beam"]["id"]])

    def test_every_step_can_be_read_and_items_keep_their_ids_over_the_steps(self):
        ids = {}
        for _, job, _, _, text in self.steps:
            sheet = read_sheet(text)
            self.assertEqual(sheet.schema_version, 3)
            for item in sheet.items:
                ids.setdefault(job, {}).setdefault(item.original.mesh, set()).add(item.id)
        for job, by_mesh in ids.items():
            self.assertTrue(all(len(found) == 1 for found in by_mesh.values()), (job, by_mesh))
        for name, told in TOLD.items():
            job = self.store.job(told["id"])
            for _ in range(job.step - 1):
                job = self.store.undo(told["id"])
            self.assertEqual((job.step, job.can_undo), (1, False), name)
            for _ in range(told["step"] - 1):
                job = self.store.redo(told["id"])
            self.assertEqual(job.step, told["step"])

    def shown(self, made):
        return sorted(
            [s.id, s.hand, round(s.volume_mm3, 3), [round(v, 4) for v in s.touch_mm]] for s in made.supports
        )

    def test_work_by_hand_is_as_it_was_shown(self):
        sheet = self.sheet("by_hand").on()
        self.assertEqual(hand_of(sheet).count, 2)
        self.assertEqual(len(hand_of(sheet).removed), 1)
        shown, told = self.shown(self.made(sheet, "supports")), TOLD["by_hand"]["supports"]
        # The others are made anew round them.
        self.assertEqual([s for s in shown if s[1]], [s for s in told if s[1]])
        gone = hand_of(sheet).removed[0]
        self.assertNotIn(gone.id, [s[0] for s in shown])
        self.assertFalse(any(math.dist(s[3], gone.at_mm) < 1 for s in shown))
        self.assertEqual([v.name for v in sheet.variants], ["A"])
        kept = sheet.model_copy(update={"hand": sheet.variants[0].hand})
        self.assertEqual(hand_of(kept).count, 1)

    def test_work_by_hand_on_a_favourite_spot_comes_to_the_frame_of_its_item(self):
        sheet = self.sheet("lifted").on()
        x, y = TOLD["lifted"]["at"]
        self.assertNotEqual((x, y), (0, 0))
        there = [[s, h, v, [a - x, b - y, c]] for s, h, v, (a, b, c) in TOLD["lifted"]["supports"]]
        locked = [line for line in self.shown(self.made(sheet, "supports")) if line[1]]
        old = [line for line in there if line[1]]
        self.assertEqual(len(locked), 1)
        self.assertEqual(locked[0][:3], old[0][:3])
        for a, b in zip(locked[0][3], old[0][3], strict=True):
            self.assertAlmostEqual(a, b, places=3)

    def test_it_stays_with_its_stance_when_the_layer_height_changes(self):
        job = TOLD["lifted"]["id"]
        changed = self.store.apply(job, SetLayer(layer_mm=0.3)).sheet.on()
        self.assertEqual(hand_of(changed).count, 1)
        self.store.undo(job)

    def test_several_parts_are_items_with_their_marks(self):
        sheet = self.sheet("two")
        first, second = sheet.items
        self.assertEqual((first.part.file_name, second.part.file_name), ("comb.stl", "box.stl"))
        self.assertGreater(first.marks.prop_mm2, 0)
        self.assertGreater(second.marks.clear_mm2, 0)
        self.assertIsNotNone(first.show)
        self.assertEqual(second.size.scale[0], 1.5)
        self.assertEqual((first.stance.name, second.stance.name), ("as it came", "on its front"))
        self.assertEqual([one.item for one in sheet.plates[0].instances], [first.id, second.id])
        self.store.marks(first.marks.digest)

    def test_settings_are_of_one_technology(self):
        resin = self.sheet("resin").on()
        self.assertIsInstance(resin.supports, ResinSupports)
        self.assertEqual(resin.supports.spacing_mm, 3.5)
        self.assertEqual(resin.footing.kind, "raft")
        filament = self.sheet("lifted").on().supports
        self.assertIsInstance(filament, FilamentSupports)
        self.assertEqual((filament.second, filament.second_material), ("interface", "PETG"))
        self.assertEqual(self.sheet("beam").items[0].grid.margin_mm, 3)
        self.assertEqual(self.sheet("torn").items[0].part.closed, True)

    def test_the_shelf_is_read(self):
        (preset,) = self.store.shelf(Preset)
        self.assertIsInstance(preset.supports, FilamentSupports)
        self.assertEqual([p.name for p in self.store.shelf(OwnPrinter)], ["Worn Sedge"])
        self.assertEqual([c.limit_deg for c in self.store.shelf(Calibration)], [57])

    def test_blobs_that_steps_need_outlive_a_collection_and_others_do_not(self):
        import numpy as np

        stray = self.store.keep_marks(np.full(77, 3, np.uint8))
        with sqlite3.connect(self.path) as now:
            before = {d for (d,) in now.execute("select digest from blob")}
        self.assertIn(stray, before)
        self.store.collect()
        for _, _, _, _, text in self.steps:
            for item in read_sheet(text).items:
                for part in (item.part, item.came, item.mended):
                    if part is not None:
                        self.store.mesh(part.mesh)
                if item.marks is not None:
                    self.store.marks(item.marks.digest)
                for hand in (item.hand, *(v.hand for v in item.variants)):
                    for digest in (hand.kept, hand.around):
                        if digest is not None:
                            self.store.supports(digest)
        with self.assertRaises(NotFound, msg="it was collected"):
            self.store.marks(stray)

    def test_changes_go_on_from_there(self):
        job = TOLD["two"]["id"]
        before = self.store.job(job)
        after = self.store.apply(job, Rename(name="Another"))
        self.assertEqual(after.step, before.step + 1)
        self.store.undo(job)


if __name__ == "__main__":
    unittest.main()

"""Steps are never lost, undo walks them, results can be thrown away."""

import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from sqlalchemy import create_engine, inspect

from tests.held import hold_part
from tests.sheet.test_changes import JOB
from tests.stilted import Stilted
from tests.support import box, mesh_of, stalactites, stl, tee
from upright_heron.core.footing.footing import FootingKind, FootingSettings, make_footing
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.graph import GRAPH, Keep
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.maker import Maker
from upright_heron.core.recipes.handoff import pieces_3mf
from upright_heron.core.split.fittings import JointKind, JointSetting
from upright_heron.core.split.grid import grid_cuts
from upright_heron.core.split.pieces import split as split_solid
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.model import SupportSettings
from upright_heron.core.tags import UnknownTag
from upright_heron.sheet.changes import Rename, SetLimit, Turn
from upright_heron.sheet.item import Grid
from upright_heron.sheet.models import JobSheet
from upright_heron.sheet.process import FilamentSupports, Footing, ResinSupports
from upright_heron.store.codec import decode, encode
from upright_heron.store.database import NotFound
from upright_heron.store.models import Base
from upright_heron.store.store import Store
from upright_heron.work.bind import keys_of, plate_keys
from upright_heron.work.intake import clean_name, job_name, new_sheet, take_in
from upright_heron.work.known import Memo
from upright_heron.work.sources import ResultMemory, load_from
from upright_heron.work.summary import summary


class StoreCase(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "a" / "heron.sqlite3"
        self.store = Store(self.path)
        self.addCleanup(lambda: self.store.close())

    def reopen(self):
        self.store.close()
        self.store = Store(self.path)


class StepsTest(StoreCase):
    def test_undo_and_redo_walk_the_steps_across_a_restart(self):
        job = self.store.create_job(JOB, "Take in")
        self.assertEqual((job.step, job.can_undo, job.can_redo), (1, False, False))
        self.store.apply(job.id, Rename(name="B"))
        self.store.apply(job.id, SetLimit(limit_deg=30))
        self.reopen()
        back = self.store.undo(job.id)
        self.assertEqual(
            (back.step, back.sheet.name, back.sheet.limit_deg, back.can_redo), (2, "B", None, True)
        )
        self.reopen()
        self.assertEqual(self.store.job(job.id).step, 2)
        self.assertEqual(self.store.redo(job.id).sheet.limit_deg, 30)
        self.assertEqual(self.store.redo(job.id).step, 3)
        for _ in range(5):
            first = self.store.undo(job.id)
        self.assertEqual((first.step, first.sheet), (1, JOB))

    def test_a_change_after_undo_begins_a_new_branch(self):
        job = self.store.create_job(JOB, "Take in")
        self.store.apply(job.id, Rename(name="B"))
        self.store.undo(job.id)
        self.store.apply(job.id, Rename(name="C"))
        self.store.undo(job.id)
        self.assertEqual(self.store.redo(job.id).sheet.name, "C")

    def test_a_change_that_changes_nothing_makes_no_step(self):
        job = self.store.create_job(JOB, "Take in")
        self.assertEqual(self.store.apply(job.id, Rename(name="A")).step, 1)

    def test_a_refused_change_leaves_the_job(self):
        job = self.store.create_job(JOB, "Take in")
        with self.assertRaises(Exception):  # noqa: B017
            self.store.apply(job.id, Turn(x_deg=1).model_copy(update={"x_deg": float("nan")}))
        self.assertEqual(self.store.job(job.id).step, 1)

    def test_changes_at_the_same_moment_all_count(self):
        job = self.store.create_job(JOB, "Take in")
        with ThreadPoolExecutor(6) as pool:
            list(pool.map(lambda k: self.store.apply(job.id, Turn(z_deg=k + 1)), range(12)))
        self.assertEqual(self.store.job(job.id).step, 13)

    def test_unknown_jobs(self):
        for call in (self.store.job, self.store.undo, self.store.redo):
            with self.assertRaises(NotFound):
                call("nobody")
        with self.assertRaises(NotFound):
            self.store.mesh("0" * 32)
        self.assertFalse(self.store.has_job("nobody"))

    def test_migrations_make_the_tables_of_the_models(self):
        engine = create_engine(f"sqlite:///{self.path}")
        found = inspect(engine)
        for table in Base.metadata.sorted_tables:
            with self.subTest(table.name):
                columns = {c["name"] for c in found.get_columns(table.name)}
                self.assertEqual(columns, {c.name for c in table.columns})
        engine.dispose()


class CodecTest(unittest.TestCase):
    def test_results_come_back_as_they_were(self):
        solid = Solid(stalactites())
        stack = slice_solid(solid, 0.5)
        islands, _ = find_islands(stack)
        columns = hold_part(solid.mesh(), stack, 45, SupportSettings(), style=Style.LINES)
        stilts = Stilted(stalactites(), 0.5).made()
        footing = make_footing(stack.section(0), FootingSettings(FootingKind.BRIM), 0.2)
        whole = Solid(tee())
        size = (20, 20, 20)
        split = split_solid(whole, grid_cuts(whole.bounds, size), size, JointSetting(kind=JointKind.DOWEL))
        for value in (stack, tuple(islands), columns, stilts, split):
            with self.subTest(type(value).__name__):
                data = encode(value)
                self.assertEqual(encode(decode(data)), data)
        # A cross-section may come back with its rings in another order.
        self.assertAlmostEqual(decode(encode(footing)).area_mm2, footing.area_mm2, places=9)
        back = decode(encode(columns))
        self.assertEqual(back.volume_mm3, columns.volume_mm3)
        self.assertEqual(len(back.handoff_mesh().faces), len(columns.handoff_mesh().faces))
        np.testing.assert_array_equal(decode(encode(stack)).points, stack.points)

    def test_strangers_are_refused(self):
        class Stranger:
            pass

        with self.assertRaises(TypeError):
            encode(Stranger())
        import json
        import struct
        import zlib

        tree = json.dumps({"$": "Popen", "args": ["x"]}).encode()
        with self.assertRaises(UnknownTag):
            decode(zlib.compress(struct.pack("<I", len(tree)) + tree))


class ResultsTest(StoreCase):
    def test_least_recently_used_results_go_first(self):
        store = Store(self.path.parent / "small.sqlite3", result_bytes=3000)
        self.addCleanup(store.close)
        for k in range(6):
            store.remember(f"k{k}", np.random.default_rng(k).bytes(800))
        self.assertIsNone(store.result("k0"))
        self.assertIsNotNone(store.result("k5"))

    def test_recall_makes_once(self):
        made = []
        for _ in range(3):
            self.assertEqual(self.store.recall("k", lambda: made.append(1) or (1, 2)), (1, 2))
        self.assertEqual(len(made), 1)

    def job(self, data=None, item=None, **changes):
        sheet = new_sheet(take_in(data or stl(stalactites()), "part.stl", self.store), "Part", "Sedge 300")
        only = sheet.items[0].model_copy(update=item or {})
        return JobSheet.model_validate({**dict(sheet), **changes, "items": (only,)})

    def maker(self):
        return Maker(load_from(self.store), ResultMemory(self.store))

    def keys(self, job):
        """Keys of all results of a job's only item and of its plate."""
        own, plate = keys_of(job.on()), plate_keys(job)
        return {name: own.get(name) or plate.get(name) for name in GRAPH}

    def unlike(self, one, other):
        one, other = self.keys(one), self.keys(other)
        kept = {n for n in GRAPH if getattr(GRAPH[n], "keep", None) is Keep.STORED}
        return {n for n in kept if one[n] != other[n]}

    def test_keys_follow_their_inputs(self):
        sheet = self.job()
        renamed = sheet.model_copy(update={"name": "other"})
        named = {"package", "plate_picture", "item_package", "stl_part", "stl_footing"}
        self.assertEqual(self.unlike(sheet, renamed), named)
        limited = self.unlike(sheet, sheet.model_copy(update={"limit_deg": 20.0}))
        self.assertEqual(
            limited, {"findings", "hangs", "figures", "resting", "past", "brief", "footing_advice"}
        )
        turned = self.unlike(sheet, Turn(x_deg=10).made(sheet, ""))
        same = {n for n in GRAPH if self.keys(sheet)[n] and getattr(GRAPH[n], "keep", None) is Keep.STORED}
        self.assertEqual(same - turned, {"resting", "health", "crossings", "gaps", "fine"})

    def test_summary_fills_as_results_are_made(self):
        item = {"supports": FilamentSupports(), "footing": Footing(kind=FootingKind.RAFT)}
        sheet = self.job(item=item)
        self.assertIsNone(summary(sheet, "", Memo(self.store)).findings)
        maker, own = self.maker(), keys_of(sheet.on())
        for name in ("placed", "findings", "supports", "footing", "resting", "picture", "brief"):
            maker.make(own, name)
        maker.make(plate_keys(sheet), "package")
        now = summary(sheet, "", Memo(self.store))
        self.assertEqual(len(now.findings.islands), 16)
        self.assertTrue(now.fit.fits)
        self.assertGreater(now.estimate.support_g, 0)
        self.assertEqual([check.weight for check in now.preflight], ["doubtful"])
        found = maker.make(own, "objects").objects
        self.assertEqual([one.role for one in found], ["part", "support", "footing"])
        part, support, footing = (one.mesh for one in found)
        self.assertAlmostEqual(part.bounds[0, 2], now.footing.raise_mm)
        self.assertAlmostEqual(support.bounds[0, 2], now.footing.raise_mm)
        self.assertEqual(footing.bounds[0, 2], 0)

    def test_resin_and_split(self):
        sheet = self.job(
            stl(tee()),
            item={"supports": ResinSupports(), "grid": Grid(margin_mm=0)},
            printer="Tarn 9",
            material="Standard resin",
            layer_mm=0.1,
        )
        maker = self.maker()
        self.assertGreater(len(maker.make(keys_of(sheet.on()), "supports").supports), 4)
        split = maker.make(keys_of(sheet.on()), "split")
        self.assertEqual(len(split.pieces), 1)
        self.assertGreater(len(pieces_3mf(split, "Part")), 500)


class IntakeTest(StoreCase):
    def test_names(self):
        self.assertEqual(clean_name("../../etc/pass\x00wd\u202e.stl"), "passwd.stl")
        self.assertEqual(clean_name("C:\\parts\\arm.STL"), "arm.STL")
        self.assertEqual(clean_name(""), "part.stl")
        self.assertEqual(job_name("clamp_ring  v3.STL"), "Clamp ring v3")

    def test_notes_say_what_was_done(self):
        from tests.support import open_box, raw_stl

        part = take_in(open_box(), "o.stl", self.store)
        self.assertFalse(part.closed)
        self.assertIn("not closed: 4 open edges", part.opened)
        mesh = mesh_of(box(2, 2, 2))
        corners = np.concatenate([mesh.vertices[mesh.faces[:, ::-1]], np.zeros((1, 3, 3))])
        notes = take_in(raw_stl(corners), "t.stl", self.store).notes
        self.assertEqual(len(notes), 2)

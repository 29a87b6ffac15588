"""A new recipe and a new section work everywhere with no other edit."""

import importlib
import json
import sys
import tempfile
import time
import unittest
from pathlib import Path

from fastapi.testclient import TestClient

from tests.support import box, stl
from tests.web.test_app import Page
from upright_heron.core import tags
from upright_heron.core.graph import GRAPH
from upright_heron.settings import Settings
from upright_heron.web.app import create_app
from upright_heron.web.section import SECTIONS
from upright_heron.work.bind import keys_of


class ToyTest(unittest.TestCase):
    def setUp(self):
        for lent in (GRAPH.lent(), SECTIONS.lent()):
            lent.__enter__()
            self.addCleanup(lent.__exit__, None, None, None)
        sys.modules.pop("tests.toy.pebbles", None)
        SECTIONS.register(importlib.import_module("tests.toy.pebbles").SECTION)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        settings = Settings(database=Path(folder.name) / "heron.sqlite3", workers=1)
        self.client = TestClient(
            create_app(settings), "http://localhost", headers={"Origin": "http://localhost"}
        )
        self.client.__enter__()
        self.addCleanup(self.client.__exit__, None, None, None)
        self.services = self.client.app.state.services
        made = self.client.post("/api/jobs", params={"name": "box.stl"}, content=stl(box(10, 10, 20)))
        self.job = made.json()["id"]

    def section(self, number):
        return Page(self.client.get(f"/jobs/{self.job}/sheet?open={number}").text)

    def key(self):
        return keys_of(self.services.store.job(self.job).sheet.on())["pebbles"]

    def settle(self, number):
        stages = set()
        until = time.monotonic() + 60
        while (
            task := self.client.get(f"/api/jobs/{self.job}/task?open={number}").json()["task"]
        ) is not None:
            self.assertEqual(task["state"], "running", task)
            stages.add(task["stage"])
            self.assertLess(time.monotonic(), until)
            time.sleep(0.005)
        return stages

    def test_key_remembering_stage_staleness_block_and_page(self):
        made = []
        self.services.work.made = lambda name, key: made.append(name)
        # Nobody looks at it: it is not made.
        self.settle(1)
        self.assertNotIn("pebbles", made)
        self.assertIn("section-10", self.section(1).ids)
        # Opening its section has it made, in a worker that knows it.
        self.assertEqual(self.section(10).text("pebble-count"), "counting")
        self.settle(10)
        self.assertIn("pebbles", made)
        self.assertEqual(GRAPH.recipe("pebbles").stage, "Counting pebbles")
        self.assertEqual(self.section(10).text("pebble-count"), "100")
        answer = self.client.get(f"/api/blocks/any/pebbles/{self.key()}")
        self.assertEqual(json.loads(answer.content), {"count": 100})
        # It is remembered, and stale as soon as what it reads changes; what it does not read leaves it.
        first = self.key()
        self.change("rename", name="B")
        self.change("process", walls="5", infill_percent="20")
        self.assertEqual(self.key(), first)
        self.assertEqual(made.count("pebbles"), 1)
        self.change("layer", layer_mm="0.1")
        self.assertNotEqual(self.key(), first)
        self.assertIsNone(self.services.store.result(self.key()))
        self.settle(10)
        self.assertEqual(self.section(10).text("pebble-count"), "200")
        self.client.post(f"/jobs/{self.job}/undo")
        self.assertEqual(self.section(10).text("pebble-count"), "100")
        self.assertEqual(made.count("pebbles"), 2)

    def change(self, kind, **fields):
        answer = self.client.post(f"/jobs/{self.job}/changes/{kind}?open=1", data=fields)
        self.assertEqual(answer.status_code, 200, answer.text[:300])

    def test_without_its_tag_it_could_not_be_written_down(self):
        self.assertEqual(tags.tag_named("pebbles/1")[0].cls.__name__, "Pebbles")


if __name__ == "__main__":
    unittest.main()

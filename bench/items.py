"""Many items in one job: the page against the page of one item, and the keys of all against 20 ms."""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from fastapi.testclient import TestClient
from manifold3d import Manifold

from upright_heron.core.geometry.solid import Solid
from upright_heron.core.graph import GRAPH
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.maker import Maker
from upright_heron.settings import Settings
from upright_heron.sheet.changes import AddItems, SetLayer
from upright_heron.sheet.models import JobSheet
from upright_heron.store.store import Store
from upright_heron.web.app import create_app
from upright_heron.work.bind import keys_of, plate_keys
from upright_heron.work.intake import new_sheet, take_in
from upright_heron.work.sources import ResultMemory, load_from

MANY = 120


def _median(call: Callable[[], Any], runs: int) -> float:
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        call()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def _job(store: Store, count: int) -> JobSheet:
    """A job of so many small items, no two alike."""
    bodies = [Manifold.cube((8 + 0.05 * k, 9, 6)) for k in range(count)]
    parts = [take_in(write_stl(Solid(b).mesh()), f"{k}.stl", store) for k, b in enumerate(bodies)]
    sheet = new_sheet(parts[0], f"{count} items")
    return AddItems(parts=tuple(parts[1:])).made(sheet, "") if count > 1 else sheet


def of_many_items() -> list[tuple[str, str, float, float, float]]:
    """Rows of the table: what, against what, seconds of both, and the ratio that is asked for."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "heron.sqlite3"
        store = Store(path)
        pages = {}
        for count in (1, MANY):
            sheet = _job(store, count)
            making = Maker(load_from(store), ResultMemory(store))
            for item in sheet.each:
                for name in ("brief", "extent", "health", "picture"):
                    making.make(keys_of(item), name)
            pages[count] = store.create_job(sheet, "Bench").id
        many = store.job(pages[MANY]).sheet

        def keys() -> None:
            # Another layer height: no key of any item is known yet.
            heights[0] += 0.001
            changed = SetLayer(layer_mm=heights[0]).made(many, "")
            start = time.perf_counter()
            for item in changed.each:
                known = keys_of(item)
                for name in GRAPH:
                    known.get(name)
            plate_keys(changed).get("package")
            spent.append(time.perf_counter() - start)

        heights, spent = [0.2], []
        for _ in range(9):
            keys()
        store.close()
        with TestClient(create_app(Settings(database=path, workers=1))) as client:
            times = {}
            for count, job in pages.items():
                address = f"/jobs/{job}/sheet?open=1"
                client.get(address)
                times[count] = _median(lambda address=address: client.get(address), 15)
    return [
        (f"page of {MANY} items", "page of one", times[MANY], times[1], 1.5),
        (f"all keys of {MANY} items", "20 ms", statistics.median(spent), 0.020, 1.0),
    ]

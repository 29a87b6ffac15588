"""Many items in one job: the page against the page of one item, and the keys of all against 20 ms."""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable
from functools import partial
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


def spent(call: Callable[[], Any]) -> float:
    """Seconds that a call takes."""
    start = time.perf_counter()
    call()
    return time.perf_counter() - start


def one_job(store: Store, count: int) -> JobSheet:
    """A job of so many small items, no two alike; not kept."""
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
            sheet = one_job(store, count)
            making = Maker(load_from(store), ResultMemory(store))
            for item in sheet.each:
                for name in ("brief", "extent", "health", "picture"):
                    making.make(keys_of(item), name)
            pages[count] = store.create_job(sheet, "Bench").id
        many = store.job(pages[MANY]).sheet

        def keys(height: float, names: list[str]) -> float:
            # Another layer height: no key of any item is known yet.
            changed = SetLayer(layer_mm=height).made(many, "")
            start = time.perf_counter()
            for item in changed.each:
                known = keys_of(item)
                for name in names:
                    known.get(name)
            plate_keys(changed).get("package")
            return time.perf_counter() - start

        asked = statistics.median(keys(0.2 + 0.001 * k, ["brief", "extent"]) for k in range(1, 16))
        every = statistics.median(keys(0.3 + 0.001 * k, list(GRAPH)) for k in range(1, 16))
        store.close()
        with TestClient(create_app(Settings(database=path, workers=1)), "http://localhost") as client:
            times: dict[int, list[float]] = {count: [] for count in pages}
            for _ in range(30):
                # One after the other, so that both are measured on the same machine.
                for count, job in pages.items():
                    times[count].append(spent(partial(client.get, f"/jobs/{job}/sheet?open=1")))
            pace = {count: statistics.median(spent) for count, spent in times.items()}
    return [
        (f"page of {MANY} items", "page of one", pace[MANY], pace[1], 1.5),
        (f"keys that a page of {MANY} items asks", "20 ms", asked, 0.020, 1.0),
        (f"every key there is of {MANY} items", "20 ms", every, 0.020, 1.5),
    ]

"""Many of a kind on one page: jobs in the Yard, copies on plates; dragging one of them."""

from __future__ import annotations

import statistics
import tempfile
import time
from functools import partial
from pathlib import Path
from typing import Any

from fastapi.testclient import TestClient
from items import one_job, spent
from page import measured

from tests.browser.driver import Browser, Server
from tests.support import box, stl
from upright_heron.core.maker import Maker
from upright_heron.settings import Settings
from upright_heron.sheet.changes import MakeCopies
from upright_heron.store.store import Store
from upright_heron.web.app import create_app
from upright_heron.work.bind import keys_of, plate_keys
from upright_heron.work.sources import ResultMemory, load_from

FEW, JOBS, COPIES = 10, 1000, 200
# A drag of one outline among the others, as the pointer would do it, a move at a time.
DRAG = """
const svg = document.querySelector('#plate-plan'), one = svg.querySelectorAll('.lying .silhouette')[30];
const box = one.getBoundingClientRect(), x = box.left + box.width / 2, y = box.top + box.height / 2;
const times = [];
const send = (kind, dx, dy, on) => on.dispatchEvent(new PointerEvent(kind, {bubbles: true, cancelable: true,
  pointerId: 1, button: 0, buttons: 1, isPrimary: true, clientX: x + dx, clientY: y + dy}));
send('pointerdown', 0, 0, one);
for (let i = 0; i < 120; i++) {
  const begun = performance.now(); send('pointermove', 40 * Math.sin(i / 9), 40 * Math.cos(i / 7), svg);
  times.push(performance.now() - begun);
}
send('pointercancel', 0, 0, svg);
return times;
"""


def of_the_yard() -> list[tuple[str, str, float, float, float]]:
    """Rows of the table: what, against what, seconds of both, and the ratio that is asked for."""
    few, many = _yards()
    one, copies = _plates()
    dragged = statistics.median(_dragged())
    return [
        (f"Yard of {JOBS} jobs", f"of {FEW}", many, few, 2.0),
        (f"section 9 with {COPIES} copies", "with one", copies, one, 2.0),
        ("a move of a drag among 112 outlines", "a frame, 16.7 ms", dragged, 1 / 60, 1.0),
    ]


def _paces(pages: dict[Path, str]) -> list[float]:
    """Median seconds of the pages of two databases, taken in turns."""
    clients = [
        TestClient(create_app(Settings(database=path, workers=1)), "http://localhost") for path in pages
    ]
    times: list[list[float]] = [[] for _ in clients]
    for client in clients:
        client.__enter__()
    for _ in range(25):
        for k, (client, page) in enumerate(zip(clients, pages.values(), strict=True)):
            times[k].append(spent(partial(client.get, page)))
    for client in clients:
        client.__exit__(None, None, None)
    return [statistics.median(some) for some in times]


def _yards() -> list[float]:
    with tempfile.TemporaryDirectory() as folder:
        paths: dict[Path, str] = {}
        for count in (FEW, JOBS):
            path = Path(folder) / f"{count}.sqlite3"
            store = Store(path)
            sheet = one_job(store, 1)
            making = Maker(load_from(store), ResultMemory(store))
            for name in ("brief", "picture"):
                making.make(keys_of(sheet.on()), name)
            for _ in range(count):
                store.create_job(sheet, "Bench")
            store.close()
            paths[path] = "/"
        return _paces(paths)


def _plates() -> list[float]:
    with tempfile.TemporaryDirectory() as folder:
        paths: dict[Path, str] = {}
        for count in (1, COPIES):
            path = Path(folder) / f"{count}.sqlite3"
            store = Store(path)
            sheet = one_job(store, 1)
            sheet = MakeCopies(count=count).made(sheet, sheet.items[0].id)
            making = Maker(load_from(store), ResultMemory(store))
            for name in ("brief", "extent", "health", "picture"):
                making.make(keys_of(sheet.on()), name)
            making.make(plate_keys(sheet), "plate_checks")
            job = store.create_job(sheet, "Bench")
            store.close()
            paths[path] = f"/jobs/{job.id}/sheet?open=9"
        return _paces(paths)


def _dragged() -> list[float]:
    server = Server()
    browser: Any = None
    try:
        browser = Browser()
        job_id = server.upload("part.stl", stl(box(14, 9, 4)))
        server.post(f"/api/jobs/{job_id}/changes", {"kind": "copies", "count": 112})
        server.settle(job_id)
        browser.open(f"{server.url}/jobs/{job_id}?open=9")
        browser.ready()
        browser.click("#arrange-all")
        browser.wait(lambda: browser.all("#arrange"))
        browser.plan_ready()
        return measured(browser, DRAG)
    finally:
        if browser is not None:
            browser.close()
        server.close()


if __name__ == "__main__":
    begun = time.perf_counter()
    for what, against, seconds, base, asked in of_the_yard():
        print(f"{what:45} {1000 * seconds:8.1f} ms  {seconds / base:6.2f} x {against} (asked {asked:g})")
    print(f"{time.perf_counter() - begun:.0f} s")

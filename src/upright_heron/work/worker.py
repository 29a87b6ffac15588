"""What runs in a worker process. Nothing here is called from the server's own process."""

from __future__ import annotations

import time
from multiprocessing.queues import Queue
from pathlib import Path
from typing import Any

from ..core.errors import Cancelled
from ..core.warm import warm
from ..sheet.models import JobSheet, Part
from ..store.store import Store
from .intake import take_in
from .results import Bench

# Progress goes out at most this often: a kernel may report thousands of times a second.
EVERY_S = 0.1

_bench: Bench
_events: Queue[Any]
_flags: Any


def start(path: str, events: Queue[Any], flags: Any) -> None:
    """Prepare the process: open the store, compile or load the kernels."""
    global _bench, _events, _flags
    _bench = Bench(Store(Path(path), migrate=False))
    _events, _flags = events, flags
    warm()


def ready() -> bool:
    """Answer once the process is warm."""
    return True


def compute(task: int, slot: int, sheet_json: str, names: list[str]) -> str:
    """Make the named results of a sheet, in order, reporting on the way.

    Returns
    -------
    str
        ``done`` or ``stopped``.
    """
    last = [0.0]

    def progress(stage: str, done: int, total: int) -> None:
        if _flags[slot]:
            raise Cancelled()
        now = time.monotonic()
        if now - last[0] >= EVERY_S or done == total:
            last[0] = now
            _events.put(("progress", task, stage, done, total))

    sheet = JobSheet.model_validate_json(sheet_json)
    _bench.progress = progress
    try:
        for name in names:
            progress(STAGES.get(name, "Working"), 0, 1)
            _bench.make(sheet, name)
            _events.put(("ready", task, name, 0, 0))
    except Cancelled:
        return "stopped"
    return "done"


STAGES = {
    "placed": "Placing the part",
    "picture": "Drawing the picture",
    "layers": "Cutting layers",
    "findings": "Finding overhangs",
    "supports": "Making supports",
    "footing": "Making the footing",
    "split": "Cutting pieces",
    "resting": "Finding resting faces",
    "handoff": "Writing files",
}


def intake(path: str, file_name: str) -> Part:
    """Read an uploaded file; see ``take_in`` for the errors."""
    return take_in(Path(path).read_bytes(), file_name, _bench.store)

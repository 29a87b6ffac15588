"""What runs in a worker process. Nothing here is called from the server's own process."""

from __future__ import annotations

import time
from dataclasses import dataclass
from multiprocessing.queues import Queue
from pathlib import Path
from typing import Any

from ..core.errors import Cancelled
from ..core.progress import Progress
from ..core.warm import warm
from ..sheet.models import JobSheet, PaintedMarks, Part, Size
from ..store.store import Store
from .intake import mended, resized, take_in
from .marking import carried_over
from .results import Bench

# Progress goes out at most this often: a kernel may report thousands of times a second.
EVERY_S = 0.1


@dataclass(frozen=True, slots=True)
class MendAnswer:
    """A mended part, as it came in size and as it is sized, and what was done to it."""

    part: Part
    sized: Part
    words: tuple[str, ...]
    closed: bool
    defects_left: int
    volume_change_mm3: float
    greatest_move_mm: float
    marks: PaintedMarks | None


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


def _reporter(task: int, slot: int) -> Progress:
    """Progress that goes to the server, and stops the work when its flag is up."""
    last = [0.0]

    def progress(stage: str, done: int, total: int) -> None:
        if _flags[slot]:
            raise Cancelled()
        now = time.monotonic()
        if now - last[0] >= EVERY_S or done == total:
            last[0] = now
            _events.put(("progress", task, stage, done, total))

    return progress


def compute(task: int, slot: int, sheet_json: str, names: list[str]) -> str:
    """Make the named results of a sheet, in order, reporting on the way.

    Returns
    -------
    str
        ``done`` or ``stopped``.
    """
    progress = _reporter(task, slot)
    sheet = JobSheet.model_validate_json(sheet_json)
    _bench.progress = progress
    _bench.ready = lambda name: _events.put(("ready", task, name, 0, 0))
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
    "hangs": "Finding what hangs",
    "figures": "Figures of the stance",
    "search": "Finding stances",
    "walked": "Looking for islands",
    "holding": "Checking what is held",
    "gaps": "Looking into holes",
    "channels": "Finding channels",
    "handoff": "Writing files",
    "health": "Looking for defects",
}


def resize(sheet_json: str, size_json: str) -> tuple[Part, PaintedMarks | None]:
    """Size the part of a sheet and carry its marks along; see ``work.intake.resized``."""
    sheet, size = JobSheet.model_validate_json(sheet_json), Size.model_validate_json(size_json)
    part = resized(sheet.base, size, _bench.store)
    x, y, z = (new / old for new, old in zip(size.factors, sheet.size.factors, strict=True))
    return part, carried_over(sheet, _bench.store.mesh(part.mesh), _bench.store, (x, y, z))


def mend(task: int, slot: int, sheet_json: str, steps: tuple[str, ...] | None) -> MendAnswer:
    """Mend the part of a sheet as it came, give it its size again, and carry its marks along."""
    sheet, progress = JobSheet.model_validate_json(sheet_json), _reporter(task, slot)
    part, done = mended(sheet.base, steps, _bench.store, progress)
    sized = resized(part, sheet.size, _bench.store)
    return MendAnswer(
        part,
        sized,
        tuple(step.words for step in done.done),
        done.closed,
        done.after.defects,
        done.volume_after_mm3 - done.volume_before_mm3,
        done.greatest_move_mm,
        carried_over(sheet, _bench.store.mesh(sized.mesh), _bench.store),
    )


def intake(path: str, file_name: str, tolerance_mm: float = 0.1) -> Part:
    """Read an uploaded file; see ``take_in`` for the errors."""
    return take_in(Path(path).read_bytes(), file_name, _bench.store, tolerance_mm)

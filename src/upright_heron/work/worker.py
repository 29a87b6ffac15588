"""What runs in a worker process. Nothing here is called from the server's own process."""

from __future__ import annotations

import importlib
import time
from collections.abc import Sequence
from dataclasses import dataclass
from multiprocessing.queues import Queue
from pathlib import Path
from typing import Any

from ..core.errors import Cancelled
from ..core.geometry.mesh import Mesh
from ..core.keys import Keys
from ..core.layers.stack import LayerStack
from ..core.maker import Bound, Maker, Recent
from ..core.progress import Progress
from ..core.split.pieces import Split
from ..core.warm import warm
from ..sheet.document import Vector
from ..sheet.hollowing import Hollowing
from ..sheet.models import ItemSheet
from ..sheet.part import PaintedMarks, Part, Size
from ..store.store import Store
from .bind import keys_of
from .ends import end_with_server
from .intake import Bringing, bodies, bringing, coupon_part, hollowed, mended, pieces, resized, take_in
from .marking import carried_over, kept_solid
from .reading_apart import USUAL, Limits
from .sources import ResultMemory, load_from

# Progress goes out at most this often: a kernel may report thousands of times a second.
EVERY_S = 0.1
# So many values are at hand in a process: the solid, the tree and the layers that it works on among them.
AT_HAND = 32


@dataclass(frozen=True, slots=True)
class ShapeAnswer:
    """A part as it is sized and hollowed: what it was before that, how it is hollow, and what is painted."""

    part: Part
    solid: Part | None
    hollow: Hollowing | None
    marks: PaintedMarks | None


@dataclass(frozen=True, slots=True)
class MendAnswer:
    """A mended part, as it came in size and as it is shaped, and what was done to it."""

    part: Part
    shape: ShapeAnswer
    words: tuple[str, ...]
    closed: bool
    defects_left: int
    volume_change_mm3: float
    greatest_move_mm: float
    doubts: tuple[str, ...]
    ways_left: tuple[str, ...]


_store: Store
_at_hand = Recent(AT_HAND)
_events: Queue[Any]
_flags: Any


def start(path: str, events: Queue[Any], flags: Any, modules: Sequence[str]) -> None:
    """Prepare the process: open the store, define the recipes, compile or load the kernels."""
    global _store, _events, _flags
    end_with_server()
    for module in modules:
        importlib.import_module(module)
    _store = Store(Path(path), migrate=False)
    _events, _flags = events, flags
    # The process ends though nobody reads its last words.
    _events.cancel_join_thread()
    warm()


def ready() -> bool:
    """Answer once the process is warm."""
    return True


def _reporter(task: int, lane: int) -> Progress:
    """Progress that goes to the server, and stops the work when the flag of its lane names it."""
    last = [0.0]

    def progress(stage: str, done: int, total: int) -> None:
        if _flags[lane] == task:
            raise Cancelled()
        now = time.monotonic()
        if now - last[0] >= EVERY_S or done == total:
            last[0] = now
            _events.put(("progress", task, stage, done, total))

    return progress


def _maker(progress: Progress, task: int) -> Maker:
    def early(key: str, value: Any) -> None:
        _store.remember(key, value)
        _events.put(("early", task, key, 0, 0))

    return Maker(load_from(_store), ResultMemory(_store), at_hand=_at_hand, progress=progress, early=early)


def compute(task: int, lane: int, name: str, bound: Bound) -> str:
    """Make one result of a binding, and what it needs that is not there, reporting on the way.

    Returns
    -------
    str
        ``done`` or ``stopped``.
    """
    try:
        _maker(_reporter(task, lane), task).make(Keys(bound), name)
    except Cancelled:
        return "stopped"
    return "done"


def intake(
    task: int, lane: int, path: str, file_name: str, tolerance_mm: float = 0.1, limits: Limits = USUAL
) -> Part:
    """Read an uploaded file; see ``take_in`` for the errors."""
    data, progress = Path(path).read_bytes(), _reporter(task, lane)
    return take_in(data, file_name, _store, tolerance_mm, limits=limits, progress=progress)


def coupon(task: int, lane: int, kind: str) -> Part:
    """Make the part of a coupon."""
    return coupon_part(kind, _store)


def resize(task: int, lane: int, sheet: ItemSheet, size: Size) -> ShapeAnswer:
    """Size the part of a sheet, hollow it as it was, and carry its marks along."""
    x, y, z = (new / old for new, old in zip(size.factors, sheet.size.factors, strict=True))
    asked = sheet.hollow.sized((x, y, z)) if sheet.hollow else None
    return _shaped(sheet, resized(sheet.base, size, _store), asked, (x, y, z), _reporter(task, lane))


def hollow(task: int, lane: int, sheet: ItemSheet, asked: Hollowing | None) -> ShapeAnswer:
    """Hollow the part of a sheet as it is sized, or make it solid again; its marks go along."""
    return _shaped(sheet, sheet.solid or sheet.part, asked, (1.0, 1.0, 1.0), _reporter(task, lane))


def _shaped(
    sheet: ItemSheet, solid: Part, asked: Hollowing | None, factors: Vector, progress: Progress
) -> ShapeAnswer:
    """A part as it is sized, hollowed where that is asked, with the marks of the sheet."""
    if asked is None:
        return ShapeAnswer(solid, None, None, carried_over(sheet, _mesh(solid), _store, factors))
    places = kept_solid(sheet, _mesh(solid), _store, factors)
    part, told = hollowed(solid, asked, _store, progress, places)
    marks = carried_over(sheet, _mesh(part), _store, factors)
    told = told.model_copy(update={"solid_mm2": marks.solid_mm2 if marks else 0.0})
    return ShapeAnswer(part, solid, told, marks)


def _mesh(part: Part) -> Mesh:
    return _store.mesh(part.mesh)


def mend(task: int, lane: int, sheet: ItemSheet, steps: tuple[str, ...] | None) -> MendAnswer:
    """Mend the part of a sheet as it came, give it its size again, and carry its marks along."""
    part, done = mended(sheet.base, steps, _store, _reporter(task, lane))
    sized = resized(part, sheet.size, _store)
    shape = _shaped(sheet, sized, sheet.hollow, (1.0, 1.0, 1.0), _reporter(task, lane))
    return MendAnswer(
        part,
        shape,
        tuple(step.words for step in done.done),
        done.closed,
        done.after.defects,
        done.volume_after_mm3 - done.volume_before_mm3,
        done.greatest_move_mm,
        done.doubts,
        done.others,
    )


def bring(task: int, lane: int, sheet: ItemSheet) -> Bringing:
    """Keep the supports that came with the part of a sheet; see ``work.intake.bringing``."""
    maker = _maker(_reporter(task, lane), task)

    def layers_of(lifted: ItemSheet) -> LayerStack:
        stack: LayerStack = maker.make(keys_of(lifted), "layers")
        return stack

    return bringing(sheet, _store, layers_of)


def separate(task: int, lane: int, sheet: ItemSheet) -> list[Part]:
    """The bodies of the part of a sheet, each a part; see ``work.intake.bodies``."""
    return bodies(sheet, _store)


def cut(task: int, lane: int, sheet: ItemSheet) -> tuple[tuple[Part, ...], tuple[str, ...]]:
    """The pieces of a cut part, each a part, and their paths in the cuts."""
    made: Split = _maker(_reporter(task, lane), task).make(keys_of(sheet), "split")
    return pieces(sheet, made, _store)

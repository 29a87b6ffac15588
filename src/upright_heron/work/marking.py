"""What is painted on parts, between the sheet and the core."""

from __future__ import annotations

import hashlib

import numpy as np
from numpy.typing import NDArray

from ..core.fine import Fine, refined
from ..core.marks import Mark, Marks, areas_mm2, carried
from ..core.mesh import Mesh
from ..sheet.models import JobSheet, PaintedMarks
from ..store.store import Store


def kept(fine: Fine, marks: Marks, of: str, store: Store, lost_mm2: float = 0.0) -> PaintedMarks | None:
    """Keep marks and describe them; ``None`` where nothing is painted."""
    areas = areas_mm2(fine, marks)
    if not any(areas.values()) and lost_mm2 < 0.5:
        return None
    return PaintedMarks(
        digest=store.keep_marks(marks),
        of=of,
        prop_mm2=areas[Mark.PROP],
        clear_mm2=areas[Mark.KEEP_CLEAR],
        show_mm2=areas[Mark.SHOW],
        lost_mm2=lost_mm2,
        demand=_digest((marks == Mark.PROP) + 2 * (marks == Mark.KEEP_CLEAR)),
        show=_digest(marks == Mark.SHOW),
    )


def _digest(facets: NDArray[np.generic]) -> str:
    if not facets.any():
        return ""
    return hashlib.blake2b(facets.astype(np.uint8).tobytes(), digest_size=8).hexdigest()


def marks_of(sheet: JobSheet, fine: Fine, store: Store) -> Marks:
    """Marks of the part that is shown, blank where nobody painted it."""
    if sheet.marks is None:
        return np.zeros(len(fine.parent), np.uint8)
    marks = store.marks(sheet.marks.digest)
    # Painted on a finer or coarser mesh than this version of the program makes of the part: begin anew.
    return marks if len(marks) == len(fine.parent) else np.zeros(len(fine.parent), np.uint8)


def carried_over(
    sheet: JobSheet, mesh: Mesh, store: Store, factors: tuple[float, float, float] = (1.0, 1.0, 1.0)
) -> PaintedMarks | None:
    """Carry the marks of a part to another mesh of it: mended, sized, or a piece."""
    if sheet.marks is None:
        return None
    old, new = refined(store.mesh(sheet.part.mesh)), refined(mesh)
    marks, lost = carried(old, marks_of(sheet, old, store), new, factors)
    return kept(new, marks, mesh.digest, store, lost)

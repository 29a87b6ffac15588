"""Section 8: the layers, how they are made on a resin machine, and what a print takes."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

from ....core.toolpaths.process_table import Stretch, Table, steps
from ....core.topics import Topic
from ....store.store import Store
from ...pages import JobPage
from ...section import Section
from .filament import FilamentContext, filament_context
from .routes import router

# Layers behind the transition that the curve still shows, and its size in pixels.
BEHIND = 6
WIDE, HIGH = 300, 64
WORDS = {
    "layers": "Layers",
    "exposure_s": "Exposure, s",
    "lift_mm": "Lift, mm",
    "lift_mm_s": "Up, mm/s",
    "return_mm_s": "Back, mm/s",
    "wait_before_s": "Wait before, s",
    "wait_after_s": "Wait after, s",
}


@dataclass(frozen=True)
class LayersContext:
    """What the template has of how layers are made.

    Attributes
    ----------
    cells : list of (str, str, list of str)
        Of each property: name, words, and its cells for first layers, transition and body.
    thinnest_mm, thickest_mm : float
        Layers that they are for.
    typed : bool
        A table was typed, and it is for these layers.
    left_out : bool
        A table was typed, but for other layers only.
    others : int
        Rows of it for other layers.
    curve : str
        Corners of the curve of exposures, in pixels.
    ticks : list of (float, str)
        Layers named below it, and where.
    longest_s, shortest_s : float
        Exposures at its upper and lower end.
    """

    cells: list[tuple[str, str, list[str]]]
    thinnest_mm: float
    thickest_mm: float
    typed: bool
    left_out: bool
    others: int
    curve: str
    ticks: list[tuple[float, str]]
    longest_s: float
    shortest_s: float


def _context(page: JobPage, store: Store) -> LayersContext | FilamentContext:
    sheet = page.sheet
    if not sheet.is_resin:
        return filament_context(page, store)
    rows, table = sheet.rows, sheet.process.table
    by = {row.stretch: row for row in rows}
    typed = bool(table) and set(rows) <= set(table)
    cells = []
    for name in WORDS:
        values = [getattr(by.get(stretch, by[Stretch.BODY]), name) for stretch in Stretch]
        told = ["" if value is None else f"{value:g}" for value in values]
        if Stretch.TRANSITION not in by and name in ("layers", "exposure_s"):
            told[1] = "0" if name == "layers" else ""
        if Stretch.FIRST not in by and name == "layers":
            told[0] = "0"
        cells.append((name, WORDS[name], told))
    points, ticks, low, high = _curve(rows)
    here = {row.is_for for row in rows}
    others = sum(row.is_for not in here for row in table)
    return LayersContext(
        cells, *by[Stretch.BODY].is_for, typed, bool(table) and not typed, others, points, ticks, high, low
    )


def _curve(rows: Table) -> tuple[str, list[tuple[float, str]], float, float]:
    """Exposures of the lowest layers as a stepped curve, by their logarithm."""
    count = sum(row.layers or 0 for row in rows) + BEHIND
    exposure = steps(rows, count).exposure_s
    low, high = float(exposure.min()), float(exposure.max())
    span = math.log(max(high, 1e-3) / max(low, 1e-3)) or 1.0
    points = []
    for k, value in enumerate(exposure.tolist()):
        y = HIGH * (1 - math.log(max(value, 1e-3) / max(low, 1e-3)) / span)
        points += [f"{WIDE * k / count:.1f},{y:.1f}", f"{WIDE * (k + 1) / count:.1f},{y:.1f}"]
    ends = [row.layers or 0 for row in rows if row.stretch is not Stretch.BODY]
    at, ticks = 0, [(0.0, "1")]
    for layers in ends:
        at += layers
        ticks.append((WIDE * at / count, str(at + 1)))
    return " ".join(points), ticks, low, high


SECTION = Section(
    slug="layers",
    title="Layers",
    folder=Path(__file__).parent,
    topic=Topic.LAYERS,
    wants=("findings", "supports", "footing"),
    opened=("toolpaths", "timed", "path_notes", "speeds"),
    facts=("findings", "supports", "footing"),
    context=_context,
    routers=(router,),
)

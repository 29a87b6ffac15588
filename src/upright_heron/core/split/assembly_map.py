"""How a cut part goes together, as numbered line drawings: one for each step."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..geometry.line_drawing import LineDrawing, line_drawing
from ..progress import Progress, silent, tracked
from ..tags import stored
from .pieces import Split, pulled

WIDTH, HEIGHT = 960, 640


@stored("map step")
@dataclass(frozen=True, eq=False)
class MapStep:
    """A drawing of one step: what is joined by then, and what comes to it, drawn off along its way.

    Attributes
    ----------
    drawing : LineDrawing
    numbers : tuple of int
        Of the pieces, in the order of the drawing.
    coming : tuple of int
        Those that are drawn off.
    """

    drawing: LineDrawing
    numbers: tuple[int, ...]
    coming: tuple[int, ...]


@stored("assembly map")
@dataclass(frozen=True, eq=False)
class AssemblyMap:
    """All steps, first to last."""

    steps: tuple[MapStep, ...]


def assembly_map(made: Split, progress: Progress = silent) -> AssemblyMap:
    """Draw the steps in which the pieces of a cut go together.

    Dowels lie where they are in the part; they show where they stand out of a face.
    """
    away, _ = pulled(made)
    dowels = [piece for piece in made.pieces if piece.loose]
    found = []
    for k, step in enumerate(tracked(made.steps, "Drawing the assembly", progress)):
        numbers = [*step.first, *step.second, *(d.number for d in dowels if d.loose == step.cut)]
        off = np.where(np.isin(numbers, step.second)[:, None], away[k], 0.0)
        meshes = [made.pieces[n - 1].mesh.moved(*by) for n, by in zip(numbers, off.tolist(), strict=True)]
        found.append(MapStep(line_drawing(meshes, WIDTH, HEIGHT), tuple(numbers), step.second))
    return AssemblyMap(tuple(found))

"""How long cuts, plans and joints of a part of a metre take, against one plane cut of the same part."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace

from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.cut_part import CutPart, cut_part
from upright_heron.core.split.fittings import JointKind, JointSetting
from upright_heron.core.split.grid import grid_cuts
from upright_heron.core.split.pieces import Split, join_pieces, split
from upright_heron.core.split.planner import plans

# Of the part, and of the boxes that it is cut into.
LONG_MM, BOX_MM = 1000.0, (256.0, 256.0, 256.0)
ONE = "one plane cut"


def of_pieces(part: Mesh) -> list[tuple[str, str, float, float, float]]:
    """Rows: what, against what, seconds of both, and the ratio that is asked for."""
    factor = LONG_MM / float(max(part.size_mm))
    solid = Solid.from_mesh(part.sized((factor, factor, factor)))

    def cut() -> float:
        start = time.perf_counter()
        for half in solid.manifold.split_by_plane((0.36, 0.48, 0.8), 3.0):
            half.volume()
        return time.perf_counter() - start

    def beside(act: Callable[[], None]) -> tuple[float, float]:
        """Seconds of something, and of one plane cut right before and after it: machines are not even."""
        before = min(cut(), cut())
        start = time.perf_counter()
        act()
        took = time.perf_counter() - start
        return took, 0.5 * (before + min(cut(), cut()))

    cut()
    told: list[float] = []

    def plan() -> None:
        start = time.perf_counter()
        plans(solid, BOX_MM, early=lambda found: told.append(time.perf_counter() - start))

    planned, one = beside(plan)
    usual = JointSetting(numbers=True, most=2)
    made: list[tuple[CutPart, Split]] = []

    def boxes() -> None:
        kept = cut_part(solid, grid_cuts(solid.bounds, BOX_MM), boxes=True)
        made.append((kept, join_pieces(kept, BOX_MM, usual)))

    joined = beside(boxes)
    kept, whole = made[0]
    face = max(whole.joints, key=lambda joint: joint.area_mm2).face
    other = replace(usual, others=((face, JointKind.DOWEL),))
    swapped = replace(usual, swapped=(whole.joints[0].cut,))
    moved = grid_cuts(solid.bounds, BOX_MM, (0.2, 0.1, 0.0))
    plain = JointSetting(kind=JointKind.BUTT)
    shifted = beside(lambda: _done(split(solid, moved, BOX_MM, plain, boxes=True)))
    changed = beside(lambda: _done(join_pieces(kept, BOX_MM, other)))
    turned = beside(lambda: _done(join_pieces(kept, BOX_MM, swapped)))
    # The boxes themselves are told first, then what was planned.
    return [
        ("first plan of cuts", ONE, told[1], one, 6.0),
        ("all plans of cuts", ONE, planned, one, 15.0),
        ("boxes moved, plain faces", ONE, *shifted, 10.0),
        ("boxes with pegs and numbers, checked", ONE, *joined, 20.0),
        ("one joint of them held otherwise", ONE, *changed, 3.0),
        ("pegs of a whole cut swapped", ONE, *turned, 12.0),
    ]


def _done(made: Split) -> None:
    """Nothing is to be wrong with what was timed."""
    assert not made.faults

"""How long cuts, plans and joints of a part of a metre take, against one plane cut of the same part."""

from __future__ import annotations

import time
from dataclasses import replace

from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.split.cut_part import cut_part
from upright_heron.core.split.fittings import JointKind, JointSetting
from upright_heron.core.split.grid import grid_cuts
from upright_heron.core.split.pieces import join_pieces, split
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

    cut()
    one = min(cut() for _ in range(3))
    told: list[float] = []
    start = time.perf_counter()
    plans(solid, BOX_MM, early=lambda found: told.append(time.perf_counter() - start))
    planned = time.perf_counter() - start
    start = time.perf_counter()
    usual = JointSetting(numbers=True, most=2)
    boxes = cut_part(solid, grid_cuts(solid.bounds, BOX_MM), boxes=True)
    made = join_pieces(boxes, BOX_MM, usual)
    joined = time.perf_counter() - start
    face = max(made.joints, key=lambda joint: joint.area_mm2).face
    start = time.perf_counter()
    join_pieces(boxes, BOX_MM, replace(usual, others=((face, JointKind.DOWEL),)))
    changed = time.perf_counter() - start
    start = time.perf_counter()
    swapped = made.joints[0].cut
    join_pieces(boxes, BOX_MM, replace(usual, swapped=(swapped,)))
    turned = time.perf_counter() - start
    start = time.perf_counter()
    moved = grid_cuts(solid.bounds, BOX_MM, (0.2, 0.1, 0.0))
    split(solid, moved, BOX_MM, JointSetting(kind=JointKind.BUTT), boxes=True)
    shifted = time.perf_counter() - start
    # The boxes themselves are told first, then what was planned.
    return [
        ("first plan of cuts", ONE, told[1], one, 6.0),
        ("all plans of cuts", ONE, planned, one, 15.0),
        ("boxes moved, plain faces", ONE, shifted, one, 10.0),
        ("boxes with pegs and numbers, checked", ONE, joined, one, 20.0),
        ("one joint of them held otherwise", ONE, changed, one, 3.0),
        ("pegs of a whole cut swapped", ONE, turned, one, 12.0),
    ]

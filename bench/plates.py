"""How densely outlines lie in a strip, and how long that takes, against boxes laid by a library."""

from __future__ import annotations

import time

import numpy as np
import rectpack
import spyrrow
from manifold3d import Manifold
from manifold3d import Mesh as Facets

from upright_heron.core.plates.gaps import Lying, least_gap_mm
from upright_heron.core.plates.nesting import FREELY, Laid, Room, _Nesting, nest
from upright_heron.core.plates.outline import Outline, of_plan
from upright_heron.core.plates.tighter import _outer
from upright_heron.demo.shapes import SHAPES

WIDE_MM, GAP_MM, EACH = 256.0, 3.0, 8


def outlines() -> list[Outline]:
    """Fourteen plans that the parts of the demo cast in even stances, 24 to 58 mm long at most."""
    drawn = np.random.default_rng(3)
    found = []
    for name, count in zip(SHAPES, (4, 3, 4, 3), strict=True):
        mesh = SHAPES[name]()
        solid = Manifold(Facets(mesh.vertices.astype(np.float32), mesh.faces.astype(np.uint32)))
        low, high = np.reshape(solid.bounding_box(), (2, 3))
        for k in range(count):
            length = drawn.uniform(24, 58) / float((high - low).max())
            turn = [float(v) for v in drawn.uniform(0, 360, 3)] if k else [0.0, 0.0, 45.0]
            plan = solid.scale([length] * 3).rotate(turn).project().simplify(0.01)
            x0, y0, x1, y1 = plan.bounds()
            found.append(of_plan(plan.translate([-(x0 + x1) / 2, -(y0 + y1) / 2]), 20.0))
    return found


def of_plates() -> list[tuple[str, str, float, float, float]]:
    """Rows: what, against what, metres of the strip or seconds of both, and the ratio that is asked for."""
    plans = outlines()
    which = [k for k in range(len(plans)) for _ in range(EACH)]
    boxes = [np.ptp(one.points, axis=0) + GAP_MM for one in plans]
    packed = _boxes_mm([(float(w), float(d)) for w, d in (boxes[k] for k in which)])
    room = Room((WIDE_MM, packed), GAP_MM, turns=FREELY)
    nest(plans[:2], [0, 1], room)
    work = _Nesting(plans, which, room, ())
    begin = time.perf_counter()
    tried = [work.fill(0, order, work.low).laid for order in work.orders(work.free)]
    first = time.perf_counter() - begin
    whole = [_long_mm(laid, plans, which) for laid in tried if len(laid) == len(which)]
    lying = [Lying(plans[which[o.number]], o.x_mm, o.y_mm, o.swing_deg) for o in tried[0]]
    gap = least_gap_mm(lying)
    assert gap is not None and gap >= GAP_MM
    begin = time.perf_counter()
    laid = nest(plans, which, Room((300.0, 300.0), GAP_MM, turns=FREELY))
    on_plates = time.perf_counter() - begin
    assert len(laid) == len(which)
    tight = _tighter_mm(plans)
    return [
        ("strip of outlines, m", "boxes", min(whole) / 1000, packed / 1000, 1 / 1.3),
        ("strip after 20 s, m", "boxes", tight / 1000, packed / 1000, 1 / 1.45),
        ("112 outlines in a strip", "1 s", first, 1.0, 1.0),
        ("112 outlines on plates", "1 s", on_plates, 1.0, 1.0),
    ]


def _long_mm(laid: list[Laid], plans: list[Outline], which: list[int]) -> float:
    ends = []
    for one in laid:
        _, low, _, high = plans[which[one.number]].turned(one.swing_deg).bounds()
        ends += [low + one.y_mm, high + one.y_mm]
    return float(max(ends) - min(ends))


def _boxes_mm(sides: list[tuple[float, float]]) -> float:
    """The shortest strip that the library's boxes fit in, turned or not."""
    for long in range(100, 3000, 4):
        for turned in (True, False):
            packer = rectpack.newPacker(rotation=turned)
            packer.add_bin(WIDE_MM + GAP_MM, long + GAP_MM)
            for wide, deep in sides:
                packer.add_rect(wide, deep)
            packer.pack()
            if packer and len(packer[0]) == len(sides):
                return float(long)
    raise AssertionError("the strip is too short")


def _tighter_mm(plans: list[Outline]) -> float:
    items = [spyrrow.Item(str(k), _outer(one), EACH, None) for k, one in enumerate(plans)]
    asked = spyrrow.StripPackingConfig(
        early_termination=False, min_items_separation=GAP_MM, total_computation_time=20, num_workers=2, seed=1
    )
    return float(spyrrow.StripPackingInstance("strip", WIDE_MM, items).solve(asked).width)

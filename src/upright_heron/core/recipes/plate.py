"""A plate: it only assembles its items; moving, swinging or copying one makes nothing below it again."""

from __future__ import annotations

import math
from collections import Counter
from typing import Any

import numpy as np

from ..footing.footing import Footing
from ..geometry.mesh import Mesh
from ..geometry.plan_hull import plan_hull
from ..graph import Keep, maybe, recipe
from ..handoff.preflight import Check, Stood
from ..handoff.preflight_plate import plate_checks
from ..layers.stack import LayerStack, pack
from ..plates.arrange import in_rows, round_all
from ..plates.extent import Extent, move_onto
from ..plates.gaps import Lying, least_gap_mm
from ..plates.heights import Heights, heights_of, heights_together
from ..plates.nesting import Laid, Lock, nest
from ..plates.outline import NOTHING, Outline, boxed, outline_of
from ..plates.tied import Pose, bodies, together
from ..plates.tighter import nest_tighter
from ..progress import Progress
from ..supports.support_set import SupportSet
from .footing import footing
from .layers import layers
from .settings import Layout, ToArrange
from .stance import placed_mesh
from .supports_resin import supports
from .values import Arranged, OnPlates, Stands


@recipe("extent", version=3, stage="Measuring", needs=(placed_mesh, maybe(supports), maybe(footing)))
def extent(mesh: Mesh, made: SupportSet | None, base: Footing | None) -> Extent:
    """All that is printed of an item, in its own frame; a skirt goes round whatever stands on the plate."""
    if base is not None and base.around:
        base = None
    low, high = mesh.bounds
    (x0, y0, z0), (x1, y1, z1) = (tuple(float(v) for v in corner) for corner in (low, high))
    if base is not None:
        z0, z1 = 0.0, z1 + base.raise_mm
    nothing = np.zeros((0, 2))
    held = plan_hull(made.layers.points) if made is not None else nothing
    rings = base.outline.to_polygons() if base is not None else []
    under = plan_hull(np.concatenate(rings)) if rings else nothing
    for corners in (held, under):
        if len(corners):
            (a, b), (c, d) = corners.min(axis=0).tolist(), corners.max(axis=0).tolist()
            x0, y0, x1, y1 = min(x0, a), min(y0, b), max(x1, c), max(y1, d)
    if made is not None and made.supports:
        z0 = 0.0
    return Extent((x0, y0, z0), (x1, y1, z1), plan_hull(mesh.vertices[:, :2]), held, under)


@recipe("arranged", version=2, each=(extent,), reads=Layout, keep=Keep.LIGHT)
def arranged(extents: tuple[Extent, ...], layout: Layout) -> Arranged:
    """Where each instance stands: as typed, alone at the favourite spot, or several in rows about it.

    What is arranged goes as far from the spot as it needs to be on the plate with supports and footing.
    """
    by_item = dict(zip(layout.items, extents, strict=True))
    free = [one for one in layout.instances if one.x_mm is None or one.y_mm is None]
    boxes = [by_item[one.item].box(one.swing_deg) for one in free]
    x, y = layout.spot_mm
    # Alone it is the part itself that goes on the spot, whatever stands out beside it.
    rows = [(0.0, 0.0)] if len(layout.instances) == 1 else in_rows(boxes, room_mm=layout.build_mm[:2])
    places = [(a + x, b + y) for a, b in rows[: len(free)]]
    if places:
        everything = round_all([box.moved(*at) for box, at in zip(boxes, places, strict=True)])
        dx, dy = move_onto(everything, layout.build_mm[:2]) or everything.to_middle
        places = [(a + dx, b + dy) for a, b in places]
    at = dict(zip(((one.item, one.copy) for one in free), places, strict=True))
    return Arranged(
        tuple(
            Stands(
                one.item,
                one.copy,
                *at.get((one.item, one.copy), (one.x_mm or 0.0, one.y_mm or 0.0)),
                one.swing_deg,
            )
            for one in layout.instances
        ),
        layout.items,
    )


@recipe("outline", version=1, stage="Measuring", needs=(layers, maybe(supports), maybe(footing)))
def outline(part: LayerStack, made: SupportSet | None, base: Footing | None) -> Outline:
    """True outline of all that is printed of an item; without a skirt, as for ``extent``."""
    if base is not None and base.around:
        base = None
    raised = base.raise_mm if base is not None else 0.0
    stacks = [(part, raised)]
    if made is not None:
        stacks.append((made.layers, raised))
    if base is not None and base.layers:
        sections = [base.section(level) for level in range(base.layers)]
        rings = [[np.asarray(ring, np.float64) for ring in plan.to_polygons()] for plan in sections]
        stacks.append((pack(rings, [plan.area() for plan in sections], part.layer_mm, 0.0), 0.0))
    high = max(stack.base_mm + len(stack) * stack.layer_mm + up for stack, up in stacks)
    return outline_of(stacks, high)


@recipe("item_heights", version=1, needs=(layers, maybe(supports), maybe(footing)), keep=Keep.LIGHT)
def item_heights(part: LayerStack, made: SupportSet | None, base: Footing | None) -> Heights:
    """What each layer prints of an item."""
    return heights_of(part, None if made is None else made.layers, base)


@recipe("heights", version=1, each=(item_heights,), reads=Layout, keep=Keep.LIGHT)
def heights(each: tuple[Heights, ...], layout: Layout) -> Heights:
    """What each layer prints of all that stands on the plate."""
    often = Counter(one.item for one in layout.instances)
    return heights_together((often[item], one) for item, one in zip(layout.items, each, strict=True))


@recipe("plate_checks", version=4, needs=(arranged,), each=(extent, outline), reads=Layout, keep=Keep.LIGHT)
def checks_of_plate(
    where: Arranged, extents: tuple[Extent, ...], outlines: tuple[Outline, ...], layout: Layout
) -> tuple[Check, ...]:
    """What is wrong on the plate: instances off it, or in the way of each other."""
    by_item = dict(zip(layout.items, zip(extents, outlines, strict=True), strict=True))
    stood, lying = [], []
    often = Counter(one.item for one in where.places)
    for one in where.places:
        size, plan = by_item[one.item]
        copy = one.copy if often[one.item] > 1 else 0
        stood.append(Stood(one.item, size, one.x_mm, one.y_mm, one.swing_deg, copy))
        lying.append(Lying(plan, one.x_mm, one.y_mm, one.swing_deg))
    return tuple(plate_checks(stood, layout.build_mm, lying, layout.gap_mm, layout.worn, layout.in_turn))


@recipe(
    "on_plates",
    version=2,
    stage="Arranging",
    each=(outline,),
    reads=ToArrange,
)
def on_plates(outlines: tuple[Outline, ...], asked: ToArrange, progress: Progress) -> OnPlates:
    """Where all instances of a job go, on as many plates as they need."""
    numbers = {name: k for k, name in enumerate(asked.items)}
    which = [numbers[one.item] for one in asked.instances]
    every = bodies([Pose(o.x_mm or 0.0, o.y_mm or 0.0, o.swing_deg) for o in asked.instances], asked.ties)
    number_of = {one.members[0]: number for number, one in enumerate(every)}
    swings = [asked.instances[one.members[0]].swing_deg if one.alone else 0.0 for one in every]
    locks = []
    for k, plate, x, y, swing in asked.locks:
        one, number = asked.instances[k], number_of[k]
        at = Laid(number, plate, one.x_mm or 0.0, one.y_mm or 0.0, swings[number])
        locks.append(Lock(at, x, y, swing))
    # What is higher than the machine fits no plate.
    low = [one if one.high_mm <= asked.build_high_mm + 1e-6 else NOTHING for one in outlines]
    plans = [boxed(one) for one in low] if asked.boxes else low
    kinds = []
    for body in every:
        kinds.append(which[body.members[0]] if body.alone else len(plans))
        if not body.alone:
            plans.append(together([plans[which[k]] for k in body.members], body.poses))
    # What is tied together waits for none of it.
    ranks = [min(asked.ranks[k] for k in body.members) for body in every] if asked.ranks else ()
    # One after the other, only what is printed last may be higher than the rail.
    rail = math.inf if asked.rail_mm is None else asked.rail_mm
    lone = [k for k, body in enumerate(every) if max(low[which[n]].high_mm for n in body.members) > rail]
    how: dict[str, Any] = {"swings": swings, "ranks": ranks, "lone": lone, "progress": progress}
    if asked.seconds:
        found = nest_tighter(plans, kinds, asked.room, locks, seconds=asked.seconds, **how)
    else:
        found = nest(plans, kinds, asked.room, locks, **how)
    laid = [there for one in found for there in every[one.number].laid(one)]
    gaps = []
    for plate in sorted({one.plate for one in laid}):
        there = [one for one in laid if one.plate == plate]
        gap = least_gap_mm([Lying(outlines[which[o.number]], o.x_mm, o.y_mm, o.swing_deg) for o in there])
        gaps += [] if gap is None else [gap]
    done = {one.number for one in laid}
    instances = [asked.instances[one.number] for one in laid]
    return OnPlates(
        tuple(one.item for one in instances),
        tuple(one.copy for one in instances),
        tuple(one.plate for one in laid),
        tuple((one.x_mm, one.y_mm, one.swing_deg) for one in laid),
        tuple((one.item, one.copy) for k, one in enumerate(asked.instances) if k not in done),
        min(gaps, default=None),
    )

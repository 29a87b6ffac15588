"""A plate: it only assembles its items; moving, swinging or copying one makes nothing below it again."""

from __future__ import annotations

import numpy as np

from ..footing.footing import Footing
from ..geometry.mesh import Mesh
from ..geometry.plan_hull import plan_hull
from ..graph import Keep, maybe, recipe
from ..handoff.preflight import Check, Stood, plate_checks
from ..plates.arrange import in_rows, round_all
from ..plates.extent import Extent, move_onto
from ..supports.support_set import SupportSet
from .footing import footing
from .settings import Layout
from .stance import placed_mesh
from .supports_resin import supports
from .values import Arranged, Stands


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


@recipe("plate_checks", version=2, needs=(arranged,), each=(extent,), reads=Layout, keep=Keep.LIGHT)
def checks_of_plate(where: Arranged, extents: tuple[Extent, ...], layout: Layout) -> tuple[Check, ...]:
    """What is wrong on the plate: instances off it, or over each other."""
    by_item = dict(zip(layout.items, extents, strict=True))
    stood = [Stood(one.item, by_item[one.item], one.x_mm, one.y_mm, one.swing_deg) for one in where.places]
    return tuple(plate_checks(stood, layout.build_mm))

"""A plate: it only assembles its items; moving, swinging or copying one makes nothing below it again."""

from __future__ import annotations

from ..footing.footing import Footing
from ..geometry.mesh import Mesh
from ..graph import Keep, maybe, recipe
from ..handoff.preflight import Check, plate_checks
from ..plates.arrange import Rectangle, in_rows
from ..stance.pose import on_plate
from ..supports.support_set import SupportSet
from .footing import footing
from .settings import Instance, Layout
from .stance import placed, placed_mesh
from .supports_resin import supports
from .values import Arranged, Extent, Placed, Stands


@recipe("extent", version=1, stage="Measuring", needs=(placed_mesh, maybe(supports), maybe(footing)))
def extent(mesh: Mesh, made: SupportSet | None, base: Footing | None) -> Extent:
    """Box of all that is printed of an item, in its own frame."""
    low, high = mesh.bounds
    (x0, y0, z0), (x1, y1, z1) = (tuple(float(v) for v in corner) for corner in (low, high))
    sections = []
    if made is not None:
        sections += [made.layers.section(k) for k in range(len(made.layers))]
    if base is not None:
        z0, z1 = 0.0, z1 + base.raise_mm
        sections.append(base.outline)
    for section in sections:
        if not section.is_empty():
            a, b, c, d = section.bounds()
            x0, y0, x1, y1 = min(x0, a), min(y0, b), max(x1, c), max(y1, d)
    if made is not None and made.supports:
        z0 = 0.0
    return Extent((x0, y0, z0), (x1, y1, z1))


def _box(extent: Extent, one: Instance) -> Rectangle:
    (x0, y0, _), (x1, y1, _) = extent.low_mm, extent.high_mm
    return Rectangle((x0, y0), (x1, y1)).swung(one.swing_deg)


@recipe("arranged", version=1, each=(placed, extent), reads=Layout, keep=Keep.LIGHT)
def arranged(sizes: tuple[Placed, ...], extents: tuple[Extent, ...], layout: Layout) -> Arranged:
    """Where each instance stands: as typed, alone at the favourite spot, or several in rows about it."""
    by_item = dict(zip(layout.items, zip(sizes, extents, strict=True), strict=True))
    free = [one for one in layout.instances if one.x_mm is None or one.y_mm is None]
    if len(free) == 1 and len(layout.instances) == 1:
        # The part itself is put on the spot, whatever stands out beside it.
        places = [on_plate(by_item[free[0].item][0].size_mm, layout.build_mm, layout.spot_mm)]
    else:
        boxes = [_box(by_item[one.item][1], one) for one in free]
        x, y = layout.spot_mm
        places = [(a + x, b + y) for a, b in in_rows(boxes)]
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


@recipe("plate_checks", version=1, needs=(arranged,), each=(extent,), reads=Layout, keep=Keep.LIGHT)
def checks_of_plate(where: Arranged, extents: tuple[Extent, ...], layout: Layout) -> tuple[Check, ...]:
    """What is wrong on the plate: instances off it, or over each other."""
    by_item = dict(zip(layout.items, extents, strict=True))
    boxes = []
    for place, one in zip(where.places, layout.instances, strict=True):
        boxes.append(_box(by_item[one.item], one).moved(place.x_mm, place.y_mm))
    return tuple(plate_checks([one.item for one in layout.instances], boxes, layout.build_mm))

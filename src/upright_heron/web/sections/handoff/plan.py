"""A plate from above, for the page to draw and to move things on."""

from __future__ import annotations

from typing import Any

from ....core.footing.footing import Footing
from ....core.plates.heights import Heights
from ....core.plates.outline import Outline
from ....core.recipes.values import Arranged
from ....core.stance.pose import from_quaternion
from ....sheet.models import ItemSheet, JobSheet
from ....work.bind import keys_of, plate_keys
from ....work.known import Known, Memo

# Corners of outlines are thinned by no more for the screen; the server judges by the true ones.
DRAWN_MM = 0.05


def _body(sheet: ItemSheet, memo: Memo) -> dict[str, Any]:
    """What the view needs to draw an item beside the one that is looked at; blocks that are made, by key."""
    known = Known(keys_of(sheet), memo)
    footing = known.get("footing")
    rotation = from_quaternion(sheet.stance.quaternion)
    return {
        "mesh": sheet.part.mesh,
        "facets": sheet.part.facets,
        "rotation": [round(float(v), 15) for v in rotation.ravel()],
        "lift": sheet.lift_mm,
        "raise": footing.raise_mm if isinstance(footing, Footing) else 0.0,
        "supports": known.address("supports"),
        "footing": known.address("footing"),
    }


def plan_of(job: JobSheet, plate: int, memo: Memo) -> dict[str, Any]:
    """What a page needs to draw a plate: its size, and its instances with their outlines (mm).

    Parameters
    ----------
    job : JobSheet
    plate : int
        From 0.
    memo : Memo
        Outlines of the items are there.
    """
    known = Known(plate_keys(job, plate), memo)
    where, heights = known.get("arranged"), known.get("heights")
    assert isinstance(where, Arranged) and isinstance(heights, Heights)
    stands = {(one.item, one.copy): one for one in where.places}
    machine = job.of_plate(plate).machine
    outlines: dict[str, dict[str, Any]] = {}
    instances = []
    for one in job.plates[plate].instances:
        sheet = job.on(one.item)
        if one.item not in outlines:
            found = memo.result(keys_of(sheet)["outline"])
            assert isinstance(found, Outline)
            rings = found.section.simplify(DRAWN_MM).to_polygons()
            outlines[one.item] = {
                "rings": [[round(float(v), 2) for v in ring.ravel()] for ring in rings],
                "high": round(found.high_mm, 2),
                "number": sheet.number,
                "name": sheet.item_name,
                **_body(sheet, memo),
            }
        at = stands[one.item, one.copy_number]
        instances.append({
            "item": one.item, "copy": one.copy_number, "x": at.x_mm, "y": at.y_mm, "swing": at.swing_deg,
            "placed": one.x_mm is not None,
            "locks": [one.lock_x, one.lock_y, one.lock_swing], "tie": one.tie,
        })  # fmt: skip
    return {
        "plate": plate + 1, "plates": len(job.plates), "build": list(machine.build_mm),
        "spot": machine.spot_mm, "worn": machine.worn, "gap": job.of_plate(plate).apart_mm,
        "edge": job.plating.edge_mm,
        "outlines": outlines, "instances": instances,
        "areas": [round(float(area), 1) for area in heights.area_mm2],
    }  # fmt: skip

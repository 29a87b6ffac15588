"""Tips of stilts by hand: put where one points or where an island begins, and taken out."""

from __future__ import annotations

import math
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response

from ....core.errors import BadValue
from ....core.stance.pose import Placement, from_quaternion, place
from ....core.supports.support_set import SupportSet
from ....core.units import number
from ....sheet.changes import PutTip, TakeTipOut
from ....sheet.document import Vector
from ....sheet.models import ItemSheet
from ....work.bind import keys_of
from ...dependencies import Services, Use, render
from ...looking import Look

router = APIRouter(prefix="/jobs/{job_id}/tips")

# A tip is picked from so near, mm.
NEAR_MM = 4.0
Place = Annotated[str, Form(max_length=80)]


def _place(text: str) -> Vector:
    parts = [number(part) for part in text.split(",")]
    if len(parts) != 3:
        raise BadValue(f"“{text[:40]}” is no place.", "Point at the part.")
    x, y, z = parts
    return x, y, z


def _stands(use: Services, sheet: ItemSheet) -> Placement:
    mesh = use.store.mesh(sheet.part.mesh)
    return place(mesh, from_quaternion(sheet.stance.quaternion), sheet.lift_mm)


@router.post("/put", name="put_tip")
def put(request: Request, job_id: str, use: Use, look: Look, at: Place = "", plate: Place = "") -> Response:
    """Put a tip on a place of the part, in its own frame, or as it stands on the plate: an island there."""
    sheet = use.sheet(job_id, look)
    if plate:
        words = "Prop an island"
        change = PutTip(at_mm=_stands(use, sheet).back(_place(plate)), words=words)
    else:
        change = PutTip(at_mm=_place(at))
    job = use.store.apply(job_id, change, sheet.id, author=look.author)
    return render(request, use, job, look.usually("supports"))


@router.post("/out", name="tip_out")
def out(request: Request, job_id: str, use: Use, look: Look, at: Place) -> Response:
    """Take the tip out that is nearest to a place of the part, in its own frame."""
    sheet = use.sheet(job_id, look)
    made: SupportSet | None = use.pages.result(keys_of(sheet)["supports"])
    if made is None or sheet.resin is None:
        raise BadValue("The supports are still being made.", "Wait a moment, and try again.")
    where = _stands(use, sheet)
    (there,) = where.points([_place(at)])
    nearest = min(made.stilts, key=lambda one: math.dist(one.touch_mm, there), default=None)
    if nearest is None or math.dist(nearest.touch_mm, there) > NEAR_MM:
        raise BadValue("No tip stands there.", "Click beside the tip that is to go.")
    job = use.store.apply(
        job_id, TakeTipOut(at_mm=where.back(nearest.touch_mm)), sheet.id, author=look.author
    )
    return render(request, use, job, look.usually("supports"))

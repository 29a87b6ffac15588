"""Tips of stilts by hand: put where one points or where an island begins, and taken out."""

from __future__ import annotations

import asyncio
import math
from typing import Annotated, Literal

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.geometry.tree import Tree
from ....core.layers.stack import LayerStack
from ....core.stance.pose import Placement, from_quaternion, place
from ....core.supports.resin.edge_rows import edge_row
from ....core.supports.resin.sizes import Stoutness
from ....core.supports.resin.soles import ring_places
from ....core.units import length_mm, number
from ....sheet.changes import PutTips, SizeTip, TakeTipOut
from ....sheet.document import Vector
from ....sheet.models import ItemSheet
from ....sheet.process import MOST_TIPS
from ....store.store import Job
from ....work.bind import keys_of
from ....work.tips import stands_round
from ...dependencies import Services, Use, render
from ...looking import Look, Looking
from .routes import told

router = APIRouter(prefix="/jobs/{job_id}/tips")

# A tip is picked from so near, mm.
NEAR_MM = 4.0
Place = Annotated[str, Form(max_length=80)]


def _place(typed: str) -> Vector:
    parts = [number(part) for part in typed.split(",")]
    if len(parts) != 3:
        raise BadValue(f"“{typed[:40]}” is no place.", "Point at the part.")
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
        at_mm, words = _stands(use, sheet).back(_place(plate)), "Prop an island"
    else:
        at_mm, words = _place(at), "Put a tip by hand"
    return _answer(request, use, job_id, look, PutTips(at_mm=(at_mm,), words=words))


@router.get("/ready", name="tips_ready")
def ready(job_id: str, use: Use, look: Look) -> Response:
    """Have at hand what tips are changed with: the first one then is as quick as the others."""
    use.pages.tips.ready(use.sheet(job_id, look))
    return Response(status_code=204)


def keep_tips(
    use: Services, job_id: str, change: PutTips | TakeTipOut | SizeTip, look: Looking
) -> tuple[Job, str]:
    """Keep a change of single tips as a step, and the stilts after it; the others stay as they stand.

    Returns
    -------
    Job
    str
        What the check finds since.

    Raises
    ------
    BadValue
        No way leads down from a place.
    """
    sheet = use.sheet(job_id, look)
    if sheet.resin is None or not sheet.is_resin:
        return use.store.apply(job_id, change, sheet.id, author=look.author), ""
    change = change.model_copy(update=stands_round(sheet))
    before = use.pages.tips.standing(sheet)
    made = use.pages.tips.edited(sheet, change.apply(sheet))
    job = use.store.apply(job_id, change, sheet.id, author=look.author)
    if made is None:
        return job, ""
    # Shown at once; the stilts that count are made for good by their recipe.
    key = keys_of(job.sheet.on(sheet.id))["supports"]
    use.pages.memo.put_meanwhile(key, made, written=False)
    return job, told(before, made)


def _answer(
    request: Request, use: Services, job_id: str, look: Looking, change: PutTips | TakeTipOut | SizeTip
) -> Response:
    job, said = keep_tips(use, job_id, change, look)
    return render(request, use, job, look.usually("supports"), said=said)


@router.post("/out", name="tip_out")
def out(request: Request, job_id: str, use: Use, look: Look, at: Place) -> Response:
    """Take the tip out that is nearest to a place of the part, in its own frame."""
    sheet = use.sheet(job_id, look)
    return _answer(request, use, job_id, look, TakeTipOut(at_mm=_nearest(use, sheet, at)))


@router.post("/size", name="tip_size")
def size(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    at: Place,
    size: Annotated[Stoutness | Literal[""], Form()] = "",
) -> Response:
    """Choose the size of the tip that is nearest to a place of the part, in its own frame."""
    sheet = use.sheet(job_id, look)
    return _answer(request, use, job_id, look, SizeTip(at_mm=_nearest(use, sheet, at), size=size))


def _nearest(use: Services, sheet: ItemSheet, at: str) -> Vector:
    """Place of the tip that is nearest to a place of the part, in its own frame.

    Raises
    ------
    BadValue
        No tip stands there, or stilts are still being made.
    """
    made = use.pages.tips.standing(sheet)
    if made is None or sheet.resin is None:
        raise BadValue("The supports are still being made.", "Wait a moment, and try again.")
    where = _stands(use, sheet)
    (there,) = where.points([_place(at)])
    nearest = min(made.stilts, key=lambda one: math.dist(one.touch_mm, there), default=None)
    if nearest is None or math.dist(nearest.touch_mm, there) > NEAR_MM:
        raise BadValue("No tip stands there.", "Click right at a tip.")
    return where.back(nearest.touch_mm)


def _ring(
    use: Services, sheet: ItemSheet, stack: LayerStack, spacing_mm: float, inset_mm: float
) -> tuple[Vector, ...]:
    """Places of a ring round all soles, in the frame of the part."""
    where = _stands(use, sheet)
    part = Tree.of(where.apply(use.store.mesh(sheet.part.mesh)))
    return tuple(where.back((x, y, z)) for x, y, z in ring_places(stack, part, spacing_mm, inset_mm).tolist())


def _spaced(spacing: str, inset: str) -> tuple[float, float]:
    """How far apart tips stand, and how far beside the edge, mm."""
    apart, inside = length_mm(spacing), length_mm(inset)
    if not 0.5 <= apart <= 50 or not 0 <= inside <= 20:
        raise BadValue(
            "Tips of a ring or a row stand 0.5 to 50 mm apart, and up to 20 mm inside the edge.",
            "Type lengths such as 2 and 0.6.",
        )
    return apart, inside


def _put(use: Services, job_id: str, sheet: ItemSheet, look: Look, at: tuple[Vector, ...], words: str) -> Job:
    """Put many tips at once."""
    if len(at) > MOST_TIPS:
        raise BadValue(
            f"That would be {len(at)} tips, and {MOST_TIPS} can be put by hand.", "Space them wider."
        )
    change = PutTips(at_mm=at, words=words)
    return use.store.apply(job_id, change, sheet.id, author=look.author)


@router.post("/row", name="tip_row")
def row(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    at: Place,
    spacing: Annotated[str, Form(max_length=40)] = "2",
    inset: Annotated[str, Form(max_length=40)] = "0.6",
) -> Response:
    """Put a row of tips along the edge that is nearest to a place of the part, in its own frame."""
    sheet = use.sheet(job_id, look)
    where = _stands(use, sheet)
    (x, y, z) = where.points([_place(at)])[0].tolist()
    placed = where.apply(use.store.mesh(sheet.part.mesh))
    found = edge_row(placed, (x, y, z), *_spaced(spacing, inset))
    if not len(found):
        raise BadValue(
            "No edge that looks down is there.",
            "Click near an edge of the underside.",
        )
    places = tuple(where.back((x, y, z)) for x, y, z in found.tolist())
    job = _put(use, job_id, sheet, look, places, f"A row of {len(places)} tips along an edge")
    return render(request, use, job, look.usually("supports"))


@router.post("/soles", name="ring_soles")
async def soles(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    spacing: Annotated[str, Form(max_length=40)] = "2",
    inset: Annotated[str, Form(max_length=40)] = "0.6",
) -> Response:
    """Put a ring of tips round the edges of all soles."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    apart, inside = _spaced(spacing, inset)
    keys = keys_of(sheet)
    if use.pages.result(keys["layers"]) is None:
        await asyncio.wrap_future(use.work.make(keys, "layers"))
    stack: LayerStack | None = use.pages.result(keys["layers"])
    assert stack is not None
    at = await run_in_threadpool(_ring, use, sheet, stack, apart, inside)
    if not at:
        raise BadValue(
            "No sole hangs over the plate.",
            "Lift the part in section 4: what lies on it needs none.",
        )
    words = f"A ring of {len(at)} tips round soles"
    job = await run_in_threadpool(_put, use, job_id, sheet, look, at, words)
    return await run_in_threadpool(render, request, use, job, look.usually("supports"))

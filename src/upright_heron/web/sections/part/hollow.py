"""Hollowing: the hollow surface is made in a worker first, then the step is kept."""

from __future__ import annotations

import asyncio
from dataclasses import replace
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.handoff.threemf import FileObject, write_3mf
from ....core.hollow.filling import Filling
from ....core.hollow.plugs import plug
from ....core.split.fittings import FITS
from ....core.units import length_mm, number
from ....sheet.changes import AddItems, Hollow
from ....sheet.document import Vector
from ....sheet.hollowing import MOST_POINTED, Hollowing, PointedHole
from ....sheet.models import ItemSheet
from ....sheet.part import Part
from ....store.store import Job
from ....work import worker
from ....work.intake import take_in
from ...dependencies import Services, Use, render
from ...looking import Look, Looking
from .routes import painted

router = APIRouter(prefix="/jobs/{job_id}")

Typed = Annotated[str, Field(max_length=40)]


class HollowForm(BaseModel):
    """The form of a hollow, as it is typed; with a place a hole is added there."""

    wall: Typed = "2"
    detail: Typed = "0.5"
    width: Typed = "2"
    hole: Typed = "3"
    taper: Typed = "0"
    upright: bool = False
    pocket: Typed = "50"
    proposed: bool = False
    filling: Filling = Filling.NOTHING
    apart: Typed = "12"
    thick: Typed = "1.5"
    behind: Typed = "8"
    x: Typed = ""
    y: Typed = ""
    z: Typed = ""

    def asked(self, sheet: ItemSheet) -> Hollowing:
        """How the part of an item is to be hollowed."""
        known = sheet.hollow or Hollowing()
        wide = length_mm(self.hole)
        holes = known.holes
        if self.x:
            place: Vector = (number(self.x), number(self.y), number(self.z))
            if len(holes) >= MOST_POINTED:
                raise BadValue(f"A part takes {MOST_POINTED} pointed holes at most.", "Take some out.")
            hole = PointedHole(
                at_mm=place, diameter_mm=wide, taper_deg=number(self.taper), upright=self.upright
            )
            holes = (*holes, hole)
        return Hollowing(
            wall_mm=length_mm(self.wall),
            detail_mm=length_mm(self.detail),
            width_mm=length_mm(self.width),
            pocket_mm3=number(self.pocket),
            filling=self.filling,
            apart_mm=length_mm(self.apart),
            thick_mm=length_mm(self.thick),
            behind_mm=length_mm(self.behind),
            holes=holes,
            proposed_mm=wide if self.proposed else None,
            down=sheet.stance.down,
        )


async def hollow_part(use: Services, job_id: str, asked: Hollowing | None, look: Looking) -> Job:
    """Hollow the part of an item as asked, or make it solid again."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    busy = "This part is being hollowed already."
    done = await asyncio.wrap_future(use.work.ask(worker.hollow, sheet, asked, page=job_id, busy=busy))
    change = Hollow(
        part=done.part,
        solid=done.solid,
        hollow=done.hollow,
        of=sheet.part.mesh,
        marks=done.marks,
        marks_before=painted(sheet),
    )
    return await run_in_threadpool(use.apply, job_id, change, replace(look, item=sheet.id))


@router.post("/hollow", name="hollow")
async def hollow(
    request: Request, job_id: str, use: Use, look: Look, form: Annotated[HollowForm, Form()]
) -> Response:
    """Hollow the part from a form."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    job = await hollow_part(use, job_id, form.asked(sheet), look)
    return await run_in_threadpool(render, request, use, job, look)


@router.post("/hollow/holes/{number}/out", name="hole_out")
async def hole_out(request: Request, job_id: str, number: int, use: Use, look: Look) -> Response:
    """Take a pointed hole out, by its number from 1."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    if sheet.hollow is None or not 1 <= number <= len(sheet.hollow.holes):
        raise BadValue("There is no such hole any more.", "Look at the list again.")
    left = tuple(one for n, one in enumerate(sheet.hollow.holes, 1) if n != number)
    asked = sheet.hollow.model_copy(update={"holes": left, "down": sheet.stance.down})
    job = await hollow_part(use, job_id, asked, look)
    return await run_in_threadpool(render, request, use, job, look)


@router.post("/solid", name="solid_again")
async def solid_again(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Make the part solid again."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    if sheet.hollow is None:
        raise BadValue("The part is solid.", "Hollow it first.")
    job = await hollow_part(use, job_id, None, look)
    return await run_in_threadpool(render, request, use, job, look)


def _plugs(use: Services, sheet: ItemSheet, clearance_mm: float) -> tuple[Part, ...]:
    """A part for each hole."""
    holes = sheet.hollow.drilled if sheet.hollow is not None else ()
    if not holes:
        raise BadValue("The part has no hole to plug.", "Hollow it with holes first.")
    found = []
    stem = sheet.part.file_name.rpartition(".")[0] or sheet.part.file_name
    for n, one in enumerate(holes, 1):
        mesh = plug(one.at_mm, one.inner_mm, one.diameter_mm, one.inner_diameter_mm, clearance_mm)
        name = f"{stem[:60]} plug {n}"
        found.append(take_in(write_3mf([FileObject(name, mesh)], name), f"{name}.3mf", use.store))
    return tuple(found)


@router.post("/hollow/plugs", name="plugs")
async def plugs(
    request: Request, job_id: str, use: Use, look: Look, fit: Annotated[str, Form(max_length=20)] = "snug"
) -> Response:
    """Make an item of a plug for each hole, in a fit."""
    if fit not in FITS:
        raise BadValue(f"There is no fit “{fit[:20]}”.", f"Pick one of {', '.join(FITS)}.")
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    parts = await run_in_threadpool(_plugs, use, sheet, FITS[fit])
    job = await run_in_threadpool(use.apply, job_id, AddItems(parts=parts), look)
    return await run_in_threadpool(render, request, use, job, replace(look, item=sheet.id))

"""Sizing and mending: the surface is made in a worker first, then the step is kept."""

from __future__ import annotations

import asyncio
from dataclasses import replace
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.units import length_mm, number
from ....sheet.changes import KeepBrought, Mend, Resize, SeparateItem
from ....sheet.models import ItemSheet
from ....sheet.part import Part, Size
from ....store.store import Job
from ....work import worker
from ....work.intake import separate
from ...dependencies import Services, Use, render
from ...looking import Look, Looking
from ...words import shown

router = APIRouter(prefix="/jobs/{job_id}")

Typed = Annotated[str, Field(max_length=40)]


async def give_size(use: Services, job_id: str, size: Size, look: Looking) -> Job:
    """Size the part of an item."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    done = await asyncio.wrap_future(use.work.ask(worker.resize, sheet, size))
    change = sizing(sheet, size, done)
    return await run_in_threadpool(use.apply, job_id, change, replace(look, item=sheet.id))


def sizing(sheet: ItemSheet, size: Size, done: worker.ShapeAnswer) -> Resize:
    """The change that gives an item its size, once its surface is made."""
    return Resize(
        size=size,
        part=done.part,
        of=sheet.base.mesh,
        marks=done.marks,
        marks_before=painted(sheet),
        solid=done.solid,
        hollow=done.hollow,
    )


def mending(sheet: ItemSheet, done: worker.MendAnswer) -> Mend:
    """The change that mends an item, once its surface is made."""
    return Mend(
        part=done.part,
        sized=done.shape.part,
        words=done.words,
        moved_mm=done.greatest_move_mm,
        doubts=done.doubts,
        ways_left=done.ways_left,
        of=sheet.base.mesh,
        marks=done.shape.marks,
        marks_before=painted(sheet),
        solid=done.shape.solid,
        hollow=done.shape.hollow,
    )


def painted(sheet: ItemSheet) -> str:
    """Digest of the marks of an item; empty without any."""
    return sheet.marks.digest if sheet.marks else ""


async def mend_part(
    use: Services, job_id: str, steps: tuple[str, ...] | None, look: Looking
) -> tuple[Job, dict[str, Any]]:
    """Mend the part of an item; the second answer tells what was done."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    busy = "This part is being mended already."
    done = await asyncio.wrap_future(use.work.ask(worker.mend, sheet, steps, page=job_id, busy=busy))
    told = {
        "done": list(done.words),
        "closed": done.closed,
        "defects_left": done.defects_left,
        "volume_change_mm3": done.volume_change_mm3,
        "greatest_move_mm": done.greatest_move_mm,
    }
    if not done.words:
        return await run_in_threadpool(use.store.job, job_id), told
    change = mending(sheet, done)
    return await run_in_threadpool(use.apply, job_id, change, replace(look, item=sheet.id)), told


async def keep_brought(use: Services, job_id: str, look: Looking) -> Job:
    """Keep the supports that came with the part of an item, as if hands had made them."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    made = await asyncio.wrap_future(use.work.ask(worker.bring, sheet))
    change = KeepBrought(hand=made.hand, lift_mm=made.lift_mm, of=sheet.part.mesh, left=made.left)
    return await run_in_threadpool(use.apply, job_id, change, replace(look, item=sheet.id))


@router.post("/brought", name="keep_brought")
async def brought(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Keep the supports that came with the part, and show them."""
    job = await keep_brought(use, job_id, look)
    return await _answer(request, use, job, look.usually("supports"))


async def _answer(request: Request, use: Services, job: Job, look: Looking) -> Response:
    return await run_in_threadpool(render, request, use, job, look)


async def _bodies(use: Services, sheet: ItemSheet) -> list[Part]:
    return await asyncio.wrap_future(use.work.ask(worker.separate, sheet))


class SizeForm(BaseModel):
    """The form of a size, as it is typed; of its fields those count that differ from what the sheet shows."""

    x: Typed = ""
    y: Typed = ""
    z: Typed = ""
    percent: Typed = ""
    shrink_x: Typed = ""
    shrink_y: Typed = ""
    shrink_z: Typed = ""
    together: bool = False
    mirror: Literal["", "x", "y", "z"] = ""
    reset: bool = False

    def size(self, sheet: ItemSheet) -> Size:
        """What the size of an item becomes."""
        old = sheet.size
        if self.reset:
            return old.reset()
        if self.mirror:
            return old.mirrored(self.mirror)
        scaled = self.percent and self.percent != shown(100 * old.scale[0])
        new = old.scaled(number(self.percent)) if scaled else old
        typed = (self.shrink_x, self.shrink_y, self.shrink_z)
        shrinkage = tuple(
            number(text) if text else before
            for text, before in zip(typed, old.shrinkage_percent, strict=True)
        )
        new = Size.model_validate({**new.model_dump(), "shrinkage_percent": shrinkage})
        sides = old.nominal_mm(sheet.base.size_mm)
        target = [
            length_mm(text) if text and text != shown(before) else None
            for text, before in zip((self.x, self.y, self.z), sides, strict=True)
        ]
        return new.aimed(sheet.base.size_mm, target, self.together)


@router.post("/size", name="size")
async def size(
    request: Request, job_id: str, use: Use, look: Look, form: Annotated[SizeForm, Form()]
) -> Response:
    """Size the part from a form."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    return await _answer(request, use, await give_size(use, job_id, form.size(sheet), look), look)


@router.post("/unit", name="unit")
async def unit(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    unit: Annotated[Literal["mm", "cm", "inch", "m"], Form()],
) -> Response:
    """Choose the unit of a file that states none."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    if sheet.original.stated_unit is not None:
        raise BadValue("This file states its unit.", "Size the part by percent instead.")
    chosen = Size.model_validate({**sheet.size.model_dump(), "unit": unit})
    return await _answer(request, use, await give_size(use, job_id, chosen, look), look)


@router.post("/separate", name="separate")
async def separate_bodies(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Make a job of each body, and go to the Yard, where they stand first."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    for fresh in reversed(separate(sheet, await _bodies(use, sheet))):
        await run_in_threadpool(use.store.create_job, fresh, f"Body of {sheet.name}"[:200])
    url = request.url_for("yard").path
    if request.headers.get("hx-request"):
        return Response(status_code=204, headers={"HX-Redirect": url})
    return RedirectResponse(url, 303)


@router.post("/items/separate", name="separate_items")
async def separate_items(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Make an item of each body."""
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    change = SeparateItem(parts=tuple(await _bodies(use, sheet)), of=sheet.part.mesh)
    job = await run_in_threadpool(use.apply, job_id, change, replace(look, item=sheet.id))
    at = min(sheet.number, len(job.sheet.items)) - 1
    return await _answer(request, use, job, replace(look, item=job.sheet.items[at].id))


@router.post("/mend", name="mend")
async def mend(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    step: Annotated[str, Form(max_length=20)] = "",
) -> Response:
    """Mend the part, all at once or by one step."""
    job, _ = await mend_part(use, job_id, (step,) if step else None, look)
    return await _answer(request, use, job, look)

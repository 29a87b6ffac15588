"""Sizing and mending: the surface is made in a worker first, then the step is kept."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...core.units import length_mm, number
from ...sheet.models import JobSheet, Size
from ...sheet.part_changes import Mend, Resize, SeparateParts
from ...store.store import Job
from ...work.intake import bodies, separate
from ..dependencies import Services, Use
from ..words import shown
from .job import Section, render

router = APIRouter(prefix="/jobs/{job_id}")

Text = Annotated[str, Form(max_length=40)]


async def give_size(use: Services, job_id: str, size: Size) -> Job:
    """Size the part of a job."""
    sheet = (await run_in_threadpool(use.store.job, job_id)).sheet
    part, marks = await use.work.resize(sheet, size)
    change = Resize(size=size, part=part, of=sheet.base.mesh, marks=marks, marks_before=_painted(sheet))
    return await run_in_threadpool(use.store.apply, job_id, change)


def _painted(sheet: JobSheet) -> str:
    return sheet.marks.digest if sheet.marks else ""


async def mend_part(use: Services, job_id: str, steps: tuple[str, ...] | None) -> tuple[Job, dict[str, Any]]:
    """Mend the part of a job; the second answer tells what was done."""
    sheet = (await run_in_threadpool(use.store.job, job_id)).sheet
    done = await use.work.mend(job_id, sheet, steps)
    told = {
        "done": list(done.words),
        "closed": done.closed,
        "defects_left": done.defects_left,
        "volume_change_mm3": done.volume_change_mm3,
        "greatest_move_mm": done.greatest_move_mm,
    }
    if not done.words:
        return await run_in_threadpool(use.store.job, job_id), told
    change = Mend(
        part=done.part, sized=done.sized, words=done.words, moved_mm=done.greatest_move_mm,
        of=sheet.base.mesh, marks=done.marks, marks_before=_painted(sheet),
    )  # fmt: skip
    return await run_in_threadpool(use.store.apply, job_id, change), told


async def _answer(request: Request, use: Services, job: Job) -> Response:
    return await run_in_threadpool(lambda: render(request, use, use.pages.job_page(job, 1), "swap.html"))


@router.post("/size", name="size")
async def size(
    request: Request,
    job_id: str,
    use: Use,
    x: Text = "",
    y: Text = "",
    z: Text = "",
    percent: Text = "",
    shrink_x: Text = "",
    shrink_y: Text = "",
    shrink_z: Text = "",
    together: Annotated[bool, Form()] = False,
    mirror: Annotated[Literal["", "x", "y", "z"], Form()] = "",
    reset: Annotated[bool, Form()] = False,
) -> Response:
    """Size the part from a form; of its fields those count that differ from what the sheet shows."""
    sheet = (await run_in_threadpool(use.store.job, job_id)).sheet
    old = sheet.size
    if reset:
        new = old.reset()
    elif mirror:
        new = old.mirrored(mirror)
    else:
        new = old.scaled(number(percent)) if percent and percent != shown(100 * old.scale[0]) else old
        shrinkage = tuple(
            number(text) if text else before
            for text, before in zip((shrink_x, shrink_y, shrink_z), old.shrinkage_percent, strict=True)
        )
        new = Size.model_validate({**new.model_dump(), "shrinkage_percent": shrinkage})
        sides = old.nominal_mm(sheet.base.size_mm)
        target = [
            length_mm(text) if text and text != shown(before) else None
            for text, before in zip((x, y, z), sides, strict=True)
        ]
        new = new.aimed(sheet.base.size_mm, target, together)
    return await _answer(request, use, await give_size(use, job_id, new))


@router.post("/unit", name="unit")
async def unit(
    request: Request, job_id: str, use: Use, unit: Annotated[Literal["mm", "cm", "inch", "m"], Form()]
) -> Response:
    """Choose the unit of a file that states none."""
    sheet = (await run_in_threadpool(use.store.job, job_id)).sheet
    if sheet.original.stated_unit is not None:
        raise BadValue("This file states its unit.", "Size the part by percent instead.")
    chosen = Size.model_validate({**sheet.size.model_dump(), "unit": unit})
    return await _answer(request, use, await give_size(use, job_id, chosen))


@router.post("/separate", name="separate")
def separate_bodies(request: Request, job_id: str, use: Use) -> Response:
    """Make a job of each body, and go to the Yard, where they stand first."""
    sheet = use.store.job(job_id).sheet
    for fresh in reversed(separate(sheet, use.store)):
        use.store.create_job(fresh, f"Body of {sheet.name}"[:200])
    url = str(request.url_for("yard"))
    if request.headers.get("hx-request"):
        return Response(status_code=204, headers={"HX-Redirect": url})
    return RedirectResponse(url, 303)


@router.post("/parts/separate", name="separate_parts")
def separate_parts(request: Request, job_id: str, use: Use, open: Section = 1) -> Response:
    """Make a part of each body."""
    sheet = use.store.job(job_id).sheet
    change = SeparateParts(parts=tuple(bodies(sheet, use.store)), of=sheet.part.mesh)
    return render(request, use, use.pages.job_page(use.store.apply(job_id, change), open), "swap.html")


@router.post("/parts/{index}/look", name="look_at")
def look_at(request: Request, job_id: str, index: int, use: Use, open: Section = 1) -> Response:
    """Show another part of the job."""
    return render(request, use, use.pages.job_page(use.store.look_at(job_id, index), open), "swap.html")


@router.post("/mend", name="mend")
async def mend(
    request: Request, job_id: str, use: Use, step: Annotated[str, Form(max_length=20)] = ""
) -> Response:
    """Mend the part, all at once or by one step."""
    job, _ = await mend_part(use, job_id, (step,) if step else None)
    return await _answer(request, use, job)

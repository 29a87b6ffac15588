"""Plates on their way to a machine."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.recipes.values import Package
from ....sheet.shop import Spool, Station
from ....work.at_work import machines_at_work
from ....work.bind import plate_keys
from ....work.checking import of_plate
from ....work.files_of_plates import file_checks, name_of
from ....work.handing import excused, goes_to, new_print, station_checks
from ....work.machine_board import candidates, machine_board
from ...dependencies import Use, all_made, render
from ...looking import Look
from .routes import check_plate, plate_names

router = APIRouter(prefix="/jobs/{job_id}")


@router.post("/plates/{plate}/print", name="print_plate")
async def print_plate(
    request: Request,
    job_id: str,
    plate: int,
    use: Use,
    look: Look,
    station: Annotated[str, Form(max_length=60)],
    excuse: Annotated[str, Form(max_length=400)] = "",
    who: Annotated[str, Form(max_length=60)] = "",
) -> Response:
    """Put a plate into the queue of a machine, as the file that was read back."""
    job = await run_in_threadpool(use.store.job, job_id)
    check_plate(job.sheet, plate)
    found = await run_in_threadpool(use.store.on_shelf, Station, station)
    if found is None:
        raise BadValue(f"There is no machine “{station[:60]}”.", "Pick one, or add it among the machines.")
    goes_to(job.sheet, plate, found)
    await all_made(use, job, look.item)
    page = await run_in_threadpool(use.pages.job_page, job, look)
    seen = use.floor.seen(found.name)
    takes = page.now.takes(plate - 1)
    of_station = station_checks(
        job.sheet,
        plate,
        found,
        seen.status if seen is not None else None,
        takes_g=takes[1] if takes is not None else None,
        spools=await run_in_threadpool(use.store.shelf, Spool),
    )
    # Its file is written and read back anew just below: what became of that before excuses nothing.
    before = file_checks(page.now.files)
    found_wrong = [one for one in of_plate(job.sheet, plate, page.now.preflight) if one not in before]
    why = excused([*found_wrong, *of_station], excuse)
    keys, name = plate_keys(job.sheet, plate - 1), name_of(job.sheet, plate)
    await asyncio.wrap_future(use.work.make(keys, name))
    package = await run_in_threadpool(use.pages.result, keys[name])
    assert isinstance(package, Package)
    called = await run_in_threadpool(plate_names, use, job.sheet)
    kept_as = f"{called[plate - 1]}.{'zip' if job.sheet.is_resin else 'gcode'}"
    new = await run_in_threadpool(new_print, job, plate, found, package.data, kept_as, excuse=why, who=who)
    await run_in_threadpool(use.store.queue, new)
    use.floor.hurry()
    return await run_in_threadpool(render, request, use, job, look.usually("handoff"))


@router.post("/plates/{plate}/verify", name="verify_plate")
async def verify_plate(request: Request, job_id: str, plate: int, use: Use, look: Look) -> Response:
    """Have the file of a plate written and read back in the background; the page is told what came of it."""
    job = await run_in_threadpool(use.store.job, job_id)
    check_plate(job.sheet, plate)
    use.pages.verify(job, plate)
    return await run_in_threadpool(render, request, use, job, look.usually("handoff"), again=True)


@router.get("/plates/{plate}/machines", name="plate_machines")
def plate_machines(request: Request, job_id: str, plate: int, use: Use) -> Response:
    """The machines that a plate could go to; what they would make of it is worked out in the background."""
    job = use.store.job(job_id)
    check_plate(job.sheet, plate)
    every = candidates(job.sheet, plate - 1, use.store)
    use.pages.for_board(job, [sheet for one in every for sheet in one.sheets])
    at_work = machines_at_work(use.store, use.floor)
    lines = machine_board(job.sheet, plate - 1, every, at_work, use.pages.memo)
    context = {"job": job, "plate": plate, "lines": lines, "material": job.sheet.material}
    return use.templates.TemplateResponse(request, "handoff/machines.html", context)

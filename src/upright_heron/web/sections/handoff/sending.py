"""Plates on their way to a machine."""

from __future__ import annotations

import asyncio
from collections import Counter
from dataclasses import replace
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.handoff.preflight import Weight
from ....core.recipes.values import Package
from ....sheet.shop import Station
from ....stand_in.files import read_file
from ....store.prints import NewPrint
from ....store.store import Job
from ....work.bind import plate_keys
from ...dependencies import Use, render
from ...looking import Look
from .naming import file_name
from .routes import words_of

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
    words = words_of(job.sheet, plate)
    found = await run_in_threadpool(use.store.on_shelf, Station, station)
    if found is None:
        raise BadValue(f"There is no machine “{station[:60]}”.", "Pick one, or add it among the machines.")
    if found.model != job.sheet.machine.name:
        raise BadValue(
            f"{found.name} is a {found.model}; this job is for a {job.sheet.machine.name}.",
            "Pick another machine, or change the printer in section 2.",
        )
    page = await run_in_threadpool(use.pages.job_page, job, look)
    wrong = [check for check in page.now.preflight if check.weight is Weight.WRONG]
    if wrong and len(excuse.strip()) < 3:
        raise BadValue(
            f"Preflight finds {len(wrong)} wrong: {wrong[0].text}",
            "Mend it, or say why it goes all the same: that is kept in the record.",
        )
    keys, name = plate_keys(job.sheet, plate - 1), "masks" if job.sheet.is_resin else "gcode"
    await asyncio.wrap_future(use.work.make(keys, name))
    package = await run_in_threadpool(use.pages.result, keys[name])
    assert isinstance(package, Package)
    new = _new(job, plate, found, package, f"{file_name(*words)}.{'zip' if job.sheet.is_resin else 'gcode'}")
    new = replace(new, excuse=excuse.strip() if wrong else "", who=who.strip())
    await run_in_threadpool(use.store.queue, new)
    use.floor.hurry()
    return await run_in_threadpool(render, request, use, job, look.usually("handoff"))


def _new(job: Job, plate: int, station: Station, package: Package, name: str) -> NewPrint:
    """What is queued: layers, time and mass are those that the file itself tells."""
    sheet, told = job.sheet, read_file(package.data)
    here = [sheet.on(one.item) for one in sheet.plates[plate - 1].instances]
    counts = Counter(one.item_name for one in here)
    settings: dict[str, object] = {
        "layer_mm": sheet.layer_mm,
        "stances": sorted({s.stance.name for s in here}),
    }
    settings["supports"] = sorted({one.supports.kind for one in here if one.supports})
    if not sheet.is_resin:
        settings |= {
            "walls": sheet.process.walls,
            "infill_percent": sheet.process.infill_percent,
            "footing": sorted({one.footing.kind.value for one in here}),
        }
    return NewPrint(
        job.id, sheet.name, job.step_id, plate, tuple(counts.items()), settings, station.name, station.model,
        sheet.material, name, told.layers, told.seconds, told.grams, package.data,
    )  # fmt: skip

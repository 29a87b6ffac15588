"""The JSON API: the same models as the pages."""

from __future__ import annotations

import asyncio
import tempfile
from concurrent.futures import Future
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue, TooLarge
from ...core.units import length_mm
from ...sheet.changes import AddItems, AnyChange, PickMaterial, PickPrinter, PrintIn, PrintOn, SetOrder
from ...sheet.models import JobSheet
from ...sheet.part import Part, Size
from ...sheet.shop import OwnMaterial, OwnPrinter
from ...store.archive import TakenIn, read_archive
from ...store.store import Job, Store
from ...work import worker
from ...work.intake import clean_name, job_name, new_sheet, with_measured
from ...work.kinds import kinds_of_machines, kinds_of_materials
from ...work.read_child import ARCHIVE
from ...work.reading_apart import Limits, check_apart
from ..bodies import left
from ..dependencies import Services, Use
from ..looking import Look
from ..sections.part.routes import give_size, mend_part
from .changes import from_shelf, remember_machine, shelve_preset

router = APIRouter(prefix="/api", tags=["api"])


class JobAnswer(BaseModel):
    """A job as the API shows it."""

    id: str
    url: str
    step: int
    step_id: int
    can_undo: bool
    can_redo: bool
    sheet: JobSheet


class MendAsked(BaseModel):
    """Steps to take, of ``core.mend.STEPS``; all without any."""

    steps: tuple[str, ...] | None = None


def _answer(request: Request, job: Job) -> JobAnswer:
    return JobAnswer(
        id=job.id,
        url=request.url_for("job", job_id=job.id).path,
        step=job.step,
        step_id=job.step_id,
        can_undo=job.can_undo,
        can_redo=job.can_redo,
        sheet=job.sheet,
    )


@router.get("/printers")
def printers(use: Use) -> list[dict[str, Any]]:
    """The printers there are, the shop's own last."""
    every = kinds_of_machines(use.store).values()
    return [{"name": p.name, "technology": p.technology, "build_mm": p.build_mm} for p in every]


@router.get("/materials")
def materials(use: Use) -> list[dict[str, Any]]:
    """The materials there are, the shop's own last."""
    every = kinds_of_materials(use.store).values()
    return [{"name": m.name, "technology": m.technology, "limit_deg": m.limit_deg} for m in every]


@router.get("/length")
def length(text: Annotated[str, Query(max_length=60)]) -> dict[str, Any]:
    """Read a length as the forms do, so that a field can show what it understood."""
    try:
        mm = length_mm(text)
    except BadValue:
        # No error of the page's: half a length is typed on the way to every whole one.
        return {"mm": None, "words": "not a length yet"}
    return {"mm": mm, "words": f"= {mm:.6g} mm"}


@router.get("/jobs")
def jobs(request: Request, use: Use) -> list[JobAnswer]:
    """All jobs."""
    return [_answer(request, job) for job in use.store.jobs()]


@router.get("/jobs/{job_id}")
def job(request: Request, job_id: str, use: Use) -> JobAnswer:
    """One job."""
    return _answer(request, use.store.job(job_id))


@router.post("/jobs/{job_id}/changes")
def change(request: Request, job_id: str, body: AnyChange, use: Use, look: Look) -> JobAnswer:
    """Apply a change to an item; a printer or material of the shop is found on its shelf by name."""
    if isinstance(body, PickPrinter | PickMaterial | PrintIn | PrintOn) and body.own is None:
        found = from_shelf(use, job_id, body.kind, body.model_dump(), look.item)
        body = body.model_copy(update={key: found[key] for key in ("own", "calibration")})
    job = use.apply(job_id, body, look)
    shelve_preset(use, body, job)
    return _answer(request, job)


@router.post("/jobs/{job_id}/size")
async def size(request: Request, job_id: str, body: Size, use: Use, look: Look) -> JobAnswer:
    """Size the part, along its own axes as it came."""
    return _answer(request, await give_size(use, job_id, body, look))


@router.post("/jobs/{job_id}/mend")
async def mend(
    request: Request, job_id: str, use: Use, look: Look, body: MendAsked | None = None
) -> dict[str, Any]:
    """Mend the part and tell what was done."""
    job, told = await mend_part(use, job_id, body.steps if body else None, look)
    return {**told, "job": _answer(request, job)}


@router.get("/jobs/{job_id}/task")
def task(job_id: str, use: Use, look: Look) -> dict[str, Any]:
    """Start what any section shows and is missing, and tell where it stands; ``null`` when all is there."""
    found = use.store.job(job_id)
    running = use.pages.ensure(found, look, every_section=look.section is None)
    return {"step": found.step, "task": running.event() if running else None}


@router.post("/jobs", status_code=201)
async def take_in(
    request: Request,
    use: Use,
    name: Annotated[str, Query(max_length=400)] = "part.stl",
    tolerance: Annotated[str, Query(max_length=40)] = "0.1",
    more: Annotated[int, Query(ge=0, le=240)] = 0,
    printer: Annotated[str, Query(max_length=60)] = "",
    folder: Annotated[str, Query(max_length=60)] = "",
    material: Annotated[str, Query(max_length=60)] = "",
) -> Response:
    """Take in one file: its bytes are the body of the request, its name is in the address.

    The tolerance is that of the facets of STEP files; ``more`` says how many parts will be added to the job.
    Without a printer and a material usual ones stand in, and the job asks.

    The body is counted as it streams in and refused as soon as it is over the limit.
    """
    if name.lower().endswith(ARCHIVE):
        return await _taken_in(request, use)
    part = await _read(request, use, name, tolerance)
    title = f"{job_name(name)[:100]} and {more} more" if more else job_name(name)
    sheet = await run_in_threadpool(_begun, use.store, new_sheet(part, title), printer, material)
    if folder.strip():
        sheet = SetOrder(folder=folder).made(sheet, "")
    made = await run_in_threadpool(use.store.create_job, sheet, f"Take in {part.file_name}"[:200])
    answer = JSONResponse(_answer(request, made).model_dump(mode="json"), 201)
    return remember_machine(answer, sheet)


async def _taken_in(request: Request, use: Services) -> Response:
    """Take in all jobs of an archive; the answer is the one of them, or the Yard where there are several."""
    with tempfile.TemporaryDirectory(dir=use.settings.incoming) as folder:
        path = Path(folder) / "archive"
        await _spool(request, path, use)

        def read() -> TakenIn:
            check_apart(path.read_bytes())
            with path.open("rb") as file:
                return read_archive(use.store, file)

        found = await run_in_threadpool(read)
    if len(found.jobs) == 1 and not found.unreadable:
        made = await run_in_threadpool(use.store.job, *found.jobs.values())
        return JSONResponse(_answer(request, made).model_dump(mode="json"), 201)
    told = {
        "jobs": found.jobs,
        "shelved": found.shelved,
        "prints": found.prints,
        "unreadable": found.unreadable,
        "url": str(request.url_for("yard").path),
    }
    return JSONResponse(told, 201)


def _begun(store: Store, sheet: JobSheet, printer: str, material: str) -> JobSheet:
    """A new sheet on the printer and in the material that are named."""
    if printer:
        own = store.on_shelf(OwnPrinter, printer)
        sheet = PickPrinter(printer=printer, own=own).made(sheet, "")
        sheet = sheet.model_copy(update={"layer_mm": sheet.machine.layer_mm})
    if material:
        stuff = store.on_shelf(OwnMaterial, material)
        sheet = PickMaterial(material=material, own=stuff).made(sheet, "")
    return with_measured(sheet, store)


@router.post("/jobs/{job_id}/items", status_code=201)
async def add_item(
    request: Request,
    job_id: str,
    use: Use,
    name: Annotated[str, Query(max_length=400)] = "part.stl",
    tolerance: Annotated[str, Query(max_length=40)] = "0.1",
) -> Response:
    """Take in one file as one more item of a job; see ``take_in``."""
    await run_in_threadpool(use.store.job, job_id)
    part = await _read(request, use, name, tolerance)
    made = await run_in_threadpool(use.store.apply, job_id, AddItems(parts=(part,)))
    return JSONResponse(_answer(request, made).model_dump(mode="json"), 201)


async def _read(request: Request, use: Services, name: str, tolerance: str) -> Part:
    within = length_mm(tolerance)
    with tempfile.TemporaryDirectory(dir=use.settings.incoming) as folder:
        path = Path(folder) / "upload"
        await _spool(request, path, use)
        limits = Limits(memory_mb=use.settings.read_mb, seconds=use.settings.read_s)
        asked = use.work.ask(worker.intake, str(path), clean_name(name), within, limits)
        return await _while_there(request, use, asked)


async def _while_there(request: Request, use: Services, asked: Future[Part]) -> Part:
    """Wait for a part as long as somebody waits for the answer."""
    part = asyncio.wrap_future(asked)
    gone = asyncio.create_task(left(request).wait())
    try:
        either: set[asyncio.Future[Any]] = {part, gone}
        await asyncio.wait(either, return_when=asyncio.FIRST_COMPLETED)
        if not part.done():
            use.work.give_up(asked)
        return await part
    finally:
        gone.cancel()


async def _spool(request: Request, path: Path, use: Services) -> None:
    most = use.settings.upload_mb * 1_000_000
    too_large = TooLarge(
        f"The file is larger than {use.settings.upload_mb} MB, which is the limit of this server.",
        "Export it with fewer facets, or ask whoever runs the server to raise the limit.",
    )
    declared = request.headers.get("content-length", "")
    if declared.isdigit() and int(declared) > most:
        raise too_large
    held = 0
    with path.open("wb") as file:
        async for chunk in request.stream():
            held += len(chunk)
            if held > most:
                raise too_large
            file.write(chunk)

"""The job page, its parts, and the events of its work."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Annotated, Any

from fastapi import APIRouter, Path, Request
from fastapi.responses import FileResponse, Response
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from ...store.database import NotFound
from ..dependencies import Use, render
from ..looking import Look
from ..section import SECTIONS

router = APIRouter(prefix="/jobs/{job_id}")
scripts = APIRouter()


@router.get("", name="job")
def job_page(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """The whole page."""
    return render(request, use, use.store.job(job_id), look, "job.html")


@scripts.get("/sections/{slug}/{name}.js", name="section_script")
def section_script(slug: str, name: Annotated[str, Path(pattern=r"^[a-z-]{1,40}$")]) -> FileResponse:
    """A script in the folder of a section."""
    section = next((one for one in SECTIONS if one.slug == slug), None)
    path = section.folder / f"{name}.js" if section is not None else None
    if path is None or not path.is_file():
        raise NotFound("There is no such script.", "Reload the page.")
    return FileResponse(path, media_type="text/javascript", headers={"Cache-Control": "no-cache"})


@router.get("/sheet", name="sheet")
def sheet(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """The job sheet and what goes with it, for a swap."""
    return render(request, use, use.store.job(job_id), look)


@router.post("/again", name="again")
def again(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Start work anew that failed or was stopped."""
    return render(request, use, use.store.job(job_id), look, again=True)


@router.post("/stop", name="stop")
def stop(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Stop the work of a job."""
    job = use.store.job(job_id)
    use.pages.ensure(job, look)
    use.work.cancel(job_id)
    return render(request, use, job, look)


@router.get("/events", name="events")
async def events(request: Request, job_id: str, use: Use) -> EventSourceResponse:
    """Progress of the work of a job as server-sent events."""
    await run_in_threadpool(use.store.job, job_id)
    place = use.streams.enter(request)
    queue = use.work.listen(job_id)

    async def stream() -> AsyncIterator[dict[str, Any]]:
        try:
            standing = use.work.standing(job_id)
            # All may have been made between the page and this stream.
            first = standing.event() if standing is not None else {"type": "task", "state": "idle"}
            yield {"data": json.dumps(first)}
            while not await request.is_disconnected():
                try:
                    event = await asyncio.wait_for(queue.get(), timeout=15)
                except TimeoutError:
                    continue
                yield {"data": json.dumps(event)}
        finally:
            use.work.unlisten(job_id, queue)
            place.leave()

    return EventSourceResponse(stream())

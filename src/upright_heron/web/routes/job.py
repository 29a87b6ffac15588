"""The job page, its parts, and the events of its work."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response
from sse_starlette import EventSourceResponse

from ..dependencies import Use
from ..pages import JobPage

router = APIRouter(prefix="/jobs/{job_id}")
Section = Annotated[int, Query(ge=0, le=9)]


def render(request: Request, use: Use, page: JobPage, template: str) -> Response:
    """Render a template of the job page with its one documented context."""
    return use.templates.TemplateResponse(request, template, {"page": page})


@router.get("", name="job")
def job_page(request: Request, job_id: str, use: Use, open: Section = 1) -> Response:
    """The whole page."""
    return render(request, use, use.pages.job_page(use.store.job(job_id), open), "job.html")


@router.get("/sheet", name="sheet")
def sheet(request: Request, job_id: str, use: Use, open: Section = 1) -> Response:
    """The job sheet and what goes with it, for a swap."""
    return render(request, use, use.pages.job_page(use.store.job(job_id), open), "swap.html")


@router.post("/again", name="again")
def again(request: Request, job_id: str, use: Use, open: Section = 1) -> Response:
    """Start work anew that failed or was stopped."""
    return render(request, use, use.pages.job_page(use.store.job(job_id), open, again=True), "swap.html")


@router.post("/stop", name="stop")
def stop(request: Request, job_id: str, use: Use, open: Section = 1) -> Response:
    """Stop the work of a job."""
    use.work.cancel(job_id)
    return render(request, use, use.pages.job_page(use.store.job(job_id), open), "swap.html")


@router.get("/traveller", name="traveller")
def traveller(request: Request, job_id: str, use: Use) -> Response:
    """The one-page record that goes with the job, to print."""
    return render(request, use, use.pages.job_page(use.store.job(job_id), 0), "traveller.html")


@router.get("/events", name="events")
async def events(request: Request, job_id: str, use: Use) -> EventSourceResponse:
    """Progress of the work of a job as server-sent events."""
    queue = use.work.listen(job_id)

    async def stream() -> AsyncIterator[dict[str, Any]]:
        try:
            task = use.work.task(job_id)
            if task is not None:
                yield {"data": json.dumps(task.event())}
            while not await request.is_disconnected():
                try:
                    event = await asyncio.wait_for(queue.get(), timeout=15)
                except TimeoutError:
                    continue
                yield {"data": json.dumps(event)}
        finally:
            use.work.unlisten(job_id, queue)

    return EventSourceResponse(stream())

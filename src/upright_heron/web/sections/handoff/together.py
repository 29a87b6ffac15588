"""Items of several jobs on the plates of one."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response

from ....sheet.changes import GoWith
from ....store.store import Job
from ....work.bringing import brought, goes_with
from ...dependencies import Services, Use, render
from ...looking import Look

router = APIRouter(prefix="/jobs/{job_id}")
# Jobs that are offered: those that were touched last.
OFFERED = 60


@router.get("/others", name="other_jobs")
def other_jobs(request: Request, job_id: str, use: Use) -> Response:
    """Jobs whose items could be printed with this one."""
    job = use.store.job(job_id)
    page = use.store.yard_page("open", order="touched", count=OFFERED)
    found = [one for one in use.store.these([name for name, _ in page.ids]) if one.id != job_id]
    same = [one for one in found if one.sheet.machine.technology is job.sheet.machine.technology]
    here = {item.of.job for item in job.sheet.items if item.of is not None}
    context = {"job": job, "others": [one for one in same if one.id not in here]}
    return use.templates.TemplateResponse(request, "handoff/others.html", context)


@router.post("/bring", name="bring")
def bring(
    request: Request, job_id: str, use: Use, look: Look, source: Annotated[str, Form(max_length=32)]
) -> Response:
    """Have what another job prints printed with this one."""
    done = _bring(use, use.store.job(job_id), use.store.job(source), look)
    return render(request, use, done, look.usually("handoff"))


def _bring(use: Services, host: Job, source: Job, look: Look) -> Job:
    note = goes_with(host, source)
    # Refused before anything is noted with the other.
    brought(source).made(host.sheet, "")
    use.store.apply(source.id, note)
    return use.apply(host.id, brought(use.store.job(source.id)), look)


@router.post("/apart", name="print_apart")
def print_apart(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Have a job printed on plates of its own again; what was brought elsewhere stays there."""
    return render(request, use, use.apply(job_id, GoWith(), look), look.usually("handoff"))

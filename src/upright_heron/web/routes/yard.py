"""The Yard: jobs, upload, printers."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import Response

from ...core.machines import PRINTERS
from ..dependencies import Use

router = APIRouter()


@router.get("/", name="yard")
def yard(request: Request, use: Use) -> Response:
    """The start page."""
    cards = [(job, use.pages.summary(job.sheet)) for job in use.store.jobs()]
    context = {"cards": cards, "printers": PRINTERS, "upload_mb": use.settings.upload_mb}
    return use.templates.TemplateResponse(request, "yard.html", context)

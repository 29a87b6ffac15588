"""The Yard: jobs as cards, upload, printers."""

from __future__ import annotations

import io
from dataclasses import dataclass
from typing import Any, Literal

from fastapi import APIRouter, Request
from fastapi.responses import Response

from ...core.machines.catalogue import MATERIALS, PRINTERS
from ...core.recipes.values import Brief
from ...sheet.models import ItemSheet
from ...sheet.shop import OwnMaterial, OwnPrinter
from ...store.archive import write_archive
from ...store.store import Job
from ..dependencies import Services, Use
from .changes import last_machine

router = APIRouter()

Shown = Literal["open", "archived", "deleted"]


@dataclass(frozen=True, slots=True)
class Card:
    """A job as the Yard shows it.

    Attributes
    ----------
    job : Job
    sheet : ItemSheet
        Of its first item.
    brief : Brief or None
        ``None`` while it is being made.
    pieces : int
        Items that are pieces of a cut.
    items : int
        Items that are printed.
    """

    job: Job
    sheet: ItemSheet
    brief: Brief | None
    pieces: int
    items: int


def _card(use: Services, job: Job) -> Card:
    sheet = job.sheet.on()
    brief = use.pages.summary(sheet).known.get("brief")
    if brief is None:
        use.pages.in_background(job)
    pieces = sum(item.piece is not None for item in job.sheet.items)
    return Card(job, sheet, brief, pieces, len(job.sheet.printed))


def _context(request: Request, use: Services, shown: str) -> dict[str, Any]:
    machines = (*PRINTERS, *(own.core() for own in use.store.shelf(OwnPrinter)))
    materials = (*MATERIALS, *(own.core() for own in use.store.shelf(OwnMaterial)))
    printer, material = last_machine(request)
    return {
        "machines": machines,
        "materials": materials,
        "last": (printer, material) if any(p.name == printer for p in machines) else ("", ""),
        "cards": [_card(use, job) for job in use.store.jobs(shown)],
        "shown": shown,
        "others": {state: use.store.count(state) for state in ("archived", "deleted")},
        "printers": PRINTERS,
    }


@router.get("/", name="yard")
def yard(request: Request, use: Use, show: Shown = "open") -> Response:
    """The start page."""
    return use.templates.TemplateResponse(request, "yard.html", _context(request, use, show))


@router.get("/shop.heron", name="shop_archive")
def shop_archive(use: Use) -> Response:
    """All jobs with all their steps, and the shop's shelf, in one file."""
    out = io.BytesIO()
    write_archive(use.store, out)
    headers = {"Content-Disposition": 'attachment; filename="shop.heron"'}
    return Response(out.getvalue(), media_type="application/zip", headers=headers)


def _moved(request: Request, use: Services, show: Shown, job: Job, words: str, back: str) -> Response:
    context = {**_context(request, use, show), "moved": job, "words": words, "back": back}
    return use.templates.TemplateResponse(request, "pieces/cards.html", context)


@router.post("/jobs/{job_id}/put/{state}", name="put")
def put(request: Request, job_id: str, state: Shown, use: Use, show: Shown = "open") -> Response:
    """Put a job among the open, archived or deleted ones; the answer offers the way back."""
    before = use.store.job(job_id).state
    job = use.store.put(job_id, state)
    words = {"open": "is back among the open jobs", "archived": "is archived", "deleted": "is deleted"}[state]
    return _moved(request, use, show, job, words, before)


@router.post("/jobs/{job_id}/duplicate", name="duplicate")
def duplicate(request: Request, job_id: str, use: Use, show: Shown = "open") -> Response:
    """Make a new job from what a job shows now."""
    return _moved(request, use, show, use.store.duplicate(job_id), "is a new job", "deleted")

"""The Yard: jobs as cards, upload, printers."""

from __future__ import annotations

import datetime as dt
import io
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal
from urllib.parse import urlencode

from fastapi import APIRouter, Depends, Query, Request
from fastapi.responses import Response

from ...core.machines.catalogue import PRINTERS
from ...core.recipes.values import Brief
from ...sheet.changes import HandOver
from ...sheet.models import ItemSheet
from ...store.archive import write_archive
from ...store.store import Broken, Job
from ...store.yard import Order, Standing
from ...work.bind import keys_of
from ...work.files_of_plates import changed_since
from ...work.kinds import kinds_of_machines, kinds_of_materials
from ...work.known import Known
from ..dependencies import Services, Use
from .changes import last_machine

router = APIRouter()

Shown = Literal["open", "archived", "deleted"]
# Cards of a page; the others follow when they are asked for.
CARDS = 24


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
    standing : Standing
        How far it is.
    late : bool
        It is due and has not been handed over.
    changed : tuple of int
        Plates, from 1, that printed well and would leave as another file now.
    pictured : bool
        Its picture is there; a page that asked for it before would hold a connection until it is made.
    waits : bool
        Its figures or its picture are being made: it asks for them.
    """

    job: Job
    sheet: ItemSheet
    brief: Brief | None
    pieces: int
    items: int
    standing: Standing
    late: bool
    changed: tuple[int, ...]
    pictured: bool
    waits: bool


@dataclass(frozen=True, slots=True)
class Asked:
    """What is looked for in the Yard."""

    show: Shown = "open"
    q: str = ""
    folder: str = ""
    far: str = ""
    sort: Order = "touched"
    first: int = 0

    @property
    def query(self) -> str:
        """The same in an address."""
        asked = {"show": self.show, "q": self.q, "folder": self.folder, "far": self.far, "sort": self.sort}
        return urlencode(asked)

    @property
    def narrowed(self) -> bool:
        """Whether only some of the jobs are asked for."""
        return bool(self.q.strip() or self.folder or self.far)


def asked_of(
    show: Shown = "open",
    q: Annotated[str, Query(max_length=200)] = "",
    folder: Annotated[str, Query(max_length=60)] = "",
    far: Annotated[str, Query(max_length=20)] = "",
    sort: Order = "touched",
    first: Annotated[int, Query(ge=0, le=1_000_000)] = 0,
) -> Asked:
    """Read what is looked for off an address."""
    return Asked(show, q, folder, far, sort, first)


Look = Annotated[Asked, Depends(asked_of)]


def _card(
    use: Services, job: Job, standing: Standing, printed: Mapping[int, int], pictures: Collection[str]
) -> Card:
    sheet = job.sheet.on()
    brief = Known(keys_of(sheet), use.pages.memo).get("brief")
    pieces = sum(item.piece is not None for item in job.sheet.items)
    late = job.sheet.order.late(dt.date.today())
    key = keys_of(sheet).get("picture")
    pictured, failed = key in pictures, key is not None and use.work.refused(key) is not None
    waits = not (pictured or failed) or (brief is None and use.pages.at_once)
    changed = changed_since(job.sheet, printed, use.store.sheet_at)
    return Card(job, sheet, brief, pieces, len(job.sheet.printed), standing, late, changed, pictured, waits)


def _cards(use: Services, jobs: Sequence[Job], far: Mapping[str, Standing]) -> list[Card]:
    printed = [job.id for job in jobs if far[job.id] is Standing.PRINTED]
    done = use.store.last_good(printed) if printed else {}
    named = (keys_of(job.sheet.on()).get("picture") for job in jobs)
    pictures = use.pages.memo.there([key for key in named if key is not None])
    return [_card(use, job, far[job.id], done.get(job.id, {}), pictures) for job in jobs]


def _context(request: Request, use: Services, asked: Asked) -> dict[str, Any]:
    machines = tuple(kinds_of_machines(use.store).values())
    materials = tuple(kinds_of_materials(use.store).values())
    printer, material = last_machine(request)
    found = use.store.yard_page(
        asked.show, words=asked.q, folder=asked.folder, standing_is=asked.far, order=asked.sort,
        first=asked.first, count=CARDS,
    )  # fmt: skip
    far = dict(found.ids)
    every = use.store.each(list(far))
    made = {card.job.id: card for card in _cards(use, [one for one in every if isinstance(one, Job)], far)}
    for card in made.values():
        if card.waits:
            use.pages.in_background(card.job)
    cards: list[Card | Broken] = [one if isinstance(one, Broken) else made[one.id] for one in every]
    return {
        "machines": machines,
        "materials": materials,
        "last": (printer, material) if any(p.name == printer for p in machines) else ("", ""),
        "cards": cards,
        "query": asked.query,
        "found": found,
        "asked": asked,
        "shown": asked.show,
        "standings": [one.value for one in Standing],
        "more": found.count - asked.first - len(found.ids),
        "page_size": CARDS,
        "others": {state: use.store.count(state) for state in ("archived", "deleted")},
        "printers": PRINTERS,
    }


@router.get("/", name="yard")
def yard(request: Request, use: Use, asked: Look) -> Response:
    """The start page."""
    return use.templates.TemplateResponse(request, "yard.html", _context(request, use, asked))


@router.get("/cards", name="cards")
def cards(request: Request, use: Use, asked: Look) -> Response:
    """The cards alone: what was looked for, or those that follow."""
    name = "pieces/more-cards.html" if asked.first else "pieces/cards.html"
    return use.templates.TemplateResponse(request, name, _context(request, use, asked))


@router.get("/jobs/{job_id}/card", name="card")
def card(request: Request, job_id: str, use: Use, asked: Look) -> Response:
    """One card, once its figures are made: it asks for them until then."""
    found = _cards(use, [use.store.job(job_id)], {job_id: use.store.standing_of(job_id)})[0]
    if found.waits:
        return Response(status_code=204)
    context = {"card": found, "shown": asked.show, "query": asked.query}
    return use.templates.TemplateResponse(request, "pieces/card.html", context)


@router.get("/shop.heron", name="shop_archive")
def shop_archive(use: Use) -> Response:
    """All jobs with all their steps, and the shop's shelf, in one file."""
    out = io.BytesIO()
    write_archive(use.store, out)
    headers = {"Content-Disposition": 'attachment; filename="shop.heron"'}
    return Response(out.getvalue(), media_type="application/zip", headers=headers)


def _moved(request: Request, use: Services, asked: Asked, job: Job, words: str, back: str) -> Response:
    context = {**_context(request, use, asked), "moved": job, "words": words, "back": back}
    return use.templates.TemplateResponse(request, "pieces/cards.html", context)


@router.post("/jobs/{job_id}/put/{state}", name="put")
def put(request: Request, job_id: str, state: Shown, use: Use, asked: Look) -> Response:
    """Put a job among the open, archived or deleted ones; the answer offers the way back."""
    before = use.store.job(job_id).state
    job = use.store.put(job_id, state)
    words = {"open": "is back among the open jobs", "archived": "is archived", "deleted": "is deleted"}[state]
    return _moved(request, use, asked, job, words, before)


@router.post("/jobs/{job_id}/step-back", name="step_back")
def step_back(request: Request, job_id: str, use: Use, asked: Look) -> Response:
    """Show the last step of a job that can be read."""
    job = use.store.step_back(job_id)
    return _moved(request, use, asked, job, f"is back at step {job.step}", job.state)


@router.post("/jobs/{job_id}/duplicate", name="duplicate")
def duplicate(request: Request, job_id: str, use: Use, asked: Look) -> Response:
    """Make a new job from what a job shows now."""
    return _moved(request, use, asked, use.store.duplicate(job_id), "is a new job", "deleted")


@router.post("/jobs/{job_id}/hand-over", name="hand_over")
def hand_over(
    request: Request, job_id: str, use: Use, asked: Look, back: Annotated[bool, Query()] = False
) -> Response:
    """Note that a job left the shop today, or that it is still here."""
    job = use.store.apply(job_id, HandOver(on=None if back else dt.date.today()))
    words = "is not handed over" if back else "is handed over"
    return _moved(request, use, asked, job, words, job.state)

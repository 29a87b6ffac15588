"""Pieces of an item that is cut."""

from __future__ import annotations

import asyncio

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.split.planner import Plan
from ....sheet.changes import JoinAgain, MakePieces, TakePlan
from ....sheet.item import Plane
from ....sheet.models import ItemSheet
from ....sheet.part import Part
from ....work import worker
from ....work.bind import keys_of
from ....work.intake import like
from ...dependencies import Services, Use, render
from ...looking import Look, Looking
from ..handoff.routes import attachment, file_name, made

router = APIRouter(prefix="/jobs/{job_id}")


def _cut(use: Services, job_id: str, look: Looking) -> ItemSheet:
    sheet = use.sheet(job_id, look)
    if sheet.grid is None:
        raise BadValue("This part is not cut.", "Cut it in section 3 first.")
    return sheet


async def _pieces(use: Services, sheet: ItemSheet) -> tuple[tuple[Part, ...], tuple[str, ...]]:
    return await asyncio.wrap_future(use.work.ask(worker.cut, sheet))


@router.get("/pieces.3mf", name="pieces_3mf")
async def pieces(job_id: str, use: Use, look: Look) -> Response:
    """All pieces of a cut item as one 3MF."""
    sheet = await run_in_threadpool(_cut, use, job_id, look)
    package = await made(use, keys_of(sheet), "pieces_package")
    return attachment(package.data, f"{file_name(sheet.name, 'pieces')}.3mf", "model/3mf")


@router.post("/pieces/items", name="piece_items")
async def piece_items(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Make an item of each piece, in the same job."""
    sheet = await run_in_threadpool(_cut, use, job_id, look)
    parts, paths = await _pieces(use, sheet)
    change = MakePieces(parts=parts, paths=paths, of=sheet.part.mesh)
    job = await run_in_threadpool(use.store.apply, job_id, change, sheet.id, author=look.author)
    return await run_in_threadpool(render, request, use, job, look.usually("split"))


@router.post("/plans/{name}/take", name="take_plan")
async def take_plan(request: Request, job_id: str, name: str, use: Use, look: Look) -> Response:
    """Cut as a plan says."""
    sheet = await run_in_threadpool(_cut, use, job_id, look)
    keys = keys_of(sheet)
    if use.pages.result(keys["plans"]) is None:
        await asyncio.wrap_future(use.work.make(keys, "plans"))
    plans: tuple[Plan, ...] = use.pages.result(keys["plans"]) or ()
    plan = next((one for one in plans if one.name == name), None)
    if plan is None:
        raise BadValue(f"There is no plan “{name[:20]}”.", f"Pick {', '.join(one.name for one in plans)}.")
    if not plan.cuts and plan.name != "boxes":
        job = await run_in_threadpool(use.store.apply, job_id, JoinAgain(), sheet.id, author=look.author)
        return await run_in_threadpool(render, request, use, job, look.usually("split"))
    planes = tuple(Plane.of(one) for one in plan.cuts)
    change = TakePlan(planes=() if plan.name == "boxes" else planes, plan=plan.name)
    job = await run_in_threadpool(use.store.apply, job_id, change, sheet.id, author=look.author)
    return await run_in_threadpool(render, request, use, job, look.usually("split"))


@router.post("/pieces/{number}/open", name="open_piece")
async def open_piece(request: Request, job_id: str, number: int, use: Use, look: Look) -> Response:
    """Make a job of its own from one piece, on the same printer."""
    sheet = await run_in_threadpool(_cut, use, job_id, look)
    parts, _ = await _pieces(use, sheet)
    if not 1 <= number <= len(parts):
        raise BadValue(f"There is no piece {number}.", f"Pick a piece from 1 to {len(parts)}.")
    fresh = like(sheet, parts[number - 1], f"{sheet.name}, piece {number}"[:120])
    told = f"Piece {number} of {sheet.name}"[:200]
    job = await run_in_threadpool(use.store.create_job, fresh, told)
    url = request.url_for("job", job_id=job.id).path
    if request.headers.get("hx-request"):
        return Response(status_code=204, headers={"HX-Redirect": str(url)})
    return RedirectResponse(url, 303)

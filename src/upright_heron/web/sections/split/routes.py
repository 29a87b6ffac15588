"""Pieces of an item that is cut."""

from __future__ import annotations

import asyncio
from typing import Annotated, Literal

import numpy as np
from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.marking.marks import MEANING
from ....core.marking.marks import places as painted_places
from ....core.split.kept import corners_of
from ....core.split.pieces import Split
from ....core.split.plan_figures import PlanFigures
from ....core.split.planner import Plan
from ....core.split.standing import stance_of
from ....core.stance.pose import to_quaternion
from ....core.stance.proposals import Found
from ....sheet.changes import (
    Change,
    ChangeMany,
    ChooseStance,
    FindStances,
    JoinAgain,
    KeepPainted,
    MakePieces,
    SetStyle,
    TakePlan,
    TakePreset,
)
from ....sheet.item import MOST_KEPT, KeptWhole, Plane, StanceGoals
from ....sheet.models import ItemSheet
from ....sheet.part import Part
from ....sheet.process import Preset
from ....sheet.shop import Habits
from ....work import worker
from ....work.bind import keys_of
from ....work.intake import like
from ....work.marking import marks_of
from ....work.naming import file_name
from ....work.summary import summary
from ...dependencies import Services, Use, render
from ...looking import Look, Looking
from ..handoff.routes import attachment, made
from ..overhangs.routes import MARKS
from .taking import as_csv, takes

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


@router.post("/pieces/prepare", name="prepare_pieces")
async def prepare_pieces(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    ticked: Annotated[list[str] | None, Form(max_length=240)] = None,
    supports: Annotated[bool, Form()] = False,
    preset: Annotated[str, Form(max_length=100)] = "",
    stand: Annotated[Literal["face", "seen"], Form()] = "face",
) -> Response:
    """Stand pieces that are items, those that are ticked or all, and give them supports and a preset.

    On a joint face, or leaned so that what is seen of them comes out clean and in fine steps.
    """
    sheet = await run_in_threadpool(_cut, use, job_id, look)
    job = await run_in_threadpool(use.store.job, job_id)
    every = [one.id for one in job.sheet.items if one.piece is not None and one.piece.item == sheet.id]
    chosen = [name for name in every if ticked is None or name in ticked]
    if not chosen:
        raise BadValue(
            "There is no piece to stand.", "Make items of the pieces first, and tick some or none."
        )
    kept = await run_in_threadpool(use.store.on_shelf, Preset, preset) if preset else None
    if preset and kept is None:
        raise BadValue(f"There is no preset “{preset[:60]}”.", "Pick one of the list.")
    keys = keys_of(sheet)
    if use.pages.result(keys["split"]) is None:
        await asyncio.wrap_future(use.work.make(keys, "split"))
    whole = use.pages.result(keys["split"])
    assert isinstance(whole, Split)
    seen = stand == "seen"
    looked = [_asking(job.sheet.on(name), seen) for name in chosen]
    await asyncio.gather(*(asyncio.wrap_future(use.work.make(keys_of(one), "search")) for one, _ in looked))
    changes: list[tuple[str, Change]] = []
    for one, find in looked:
        changes += [(one.id, find)] if find is not None else []
        board = use.pages.result(keys_of(one)["search"])
        assert isinstance(board, Found)
        path = one.piece.path if one.piece else ""
        number = next((piece.number for piece in whole.pieces if piece.path == path), 0)
        stands = stance_of(board, whole, number, one.machine.build_mm, on_face=not seen)
        if stands is not None:
            turned, name, lift = stands
            stance = ChooseStance(quaternion=to_quaternion(turned), name=name, lift_mm=lift)
            changes.append((one.id, stance))
        if kept is not None:
            changes.append((one.id, TakePreset(preset=kept)))
        if supports and one.supports is None and (kept is None or kept.supports is None):
            changes.append((one.id, SetStyle()))
    many = ChangeMany(changes=tuple(changes), words="Stand pieces")
    done = await run_in_threadpool(use.apply, job_id, many, look)
    return await run_in_threadpool(render, request, use, done, look.usually("split"))


def _asking(sheet: ItemSheet, seen: bool) -> tuple[ItemSheet, FindStances | None]:
    """The sheet with a search for stances, for what is seen or any, and the change that asks for it."""
    usual = "resin" if sheet.is_resin else "filament"
    mix = StanceGoals.mix("filament, fine surface" if seen and not sheet.is_resin else usual)
    if sheet.goals is not None and (not seen or sheet.goals == mix):
        return sheet, None
    find = FindStances(**mix.model_dump())
    return find.apply(sheet), find


@router.get("/pieces.csv", name="pieces_csv")
async def pieces_csv(job_id: str, use: Use, look: Look) -> Response:
    """What the pieces of a cut item take, as a table."""
    sheet = await run_in_threadpool(_cut, use, job_id, look)
    job = await run_in_threadpool(use.store.job, job_id)
    now = await run_in_threadpool(summary, job.sheet, sheet.id, use.pages.memo)
    habits = use.store.on_shelf(Habits, "shop") or Habits()
    found = takes(job.sheet, sheet.id, now.split, now.briefs, habits.join_minutes)
    return attachment(as_csv(found).encode(), f"{file_name(sheet.name, 'pieces')}.csv", "text/csv")


@router.post("/keep-painted", name="keep_painted")
def keep_painted(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    mark: Annotated[Literal["show", "clear", "prop"], Form()] = "show",
) -> Response:
    """Keep every place whole that is painted with a mark."""
    sheet = _cut(use, job_id, look)
    fine = use.pages.fine(sheet.part.mesh)
    corners = [
        corners_of(fine.mesh.vertices[np.unique(fine.mesh.faces[facets])])
        for facets in painted_places(fine, marks_of(sheet, fine, use.store), MARKS[mark])
    ]
    name = MEANING[MARKS[mark]].name.lower()
    if not corners:
        raise BadValue(
            f"Nothing is painted as {name} on this part.", "Paint what is to stay whole in section 5 first."
        )
    if len(corners) > MOST_KEPT:
        raise BadValue(
            f"{len(corners)} places are painted as {name}, and {MOST_KEPT} can be kept.",
            "Erase some of them.",
        )
    around = [
        KeptWhole(low_mm=tuple(at.min(axis=0)), high_mm=tuple(at.max(axis=0)), corners=tuple(map(tuple, at)))
        for at in (np.round(one, 3) for one in corners)
    ]
    job = use.store.apply(job_id, KeepPainted(places=tuple(around)), sheet.id, author=look.author)
    return render(request, use, job, look.usually("split"))


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


@router.get("/plans/{name}.png", name="plan_picture")
def plan_picture(job_id: str, name: str, use: Use, look: Look, key: str = "") -> Response:
    """Pieces of a plan, drawn apart; with the key of its figures also where the part was changed since."""
    found = use.pages.result(key or keys_of(_cut(use, job_id, look))["plan_figures"])
    drawn = [one for one in found if isinstance(one, PlanFigures)] if isinstance(found, tuple) else []
    png = next((one.png for one in drawn if one.name == name), None)
    if png is None:
        raise BadValue("The plans are not drawn yet.", "Wait until they are weighed.")
    # Its address names what it was drawn of.
    headers = {"Cache-Control": "max-age=31536000, immutable"}
    return Response(png, media_type="image/png", headers=headers)


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

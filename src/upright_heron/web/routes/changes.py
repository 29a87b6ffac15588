"""Changes to a job sheet: each form is one change, each change one step."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any
from urllib.parse import quote, unquote

from fastapi import APIRouter, Request
from fastapi.responses import Response
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...sheet.changes import CHANGES, Change, KeepPreset
from ...sheet.models import JobSettings, JobSheet
from ...sheet.process import Preset
from ...sheet.shop import Calibration, OwnMaterial, OwnPrinter
from ...store.store import Job
from ..dependencies import Services, Use, render
from ..looking import Look, Looking

router = APIRouter(prefix="/jobs/{job_id}")


@router.post("/changes/{kind}", name="change")
async def change(request: Request, job_id: str, kind: str, use: Use, look: Look) -> Response:
    """Apply a change from a form and answer with the new sheet."""
    form = await request.form()
    fields: dict[str, Any] = {}
    for name, value in form.multi_items():
        if name.endswith("[]") and isinstance(value, str):
            fields.setdefault(name[:-2], []).append(value)
            continue
        if name == "open" or not isinstance(value, str) or value == "":
            continue
        if value.startswith("["):
            try:
                fields[name] = json.loads(value)
            except json.JSONDecodeError as error:
                raise BadValue(f"The {name} could not be read.", "Reload the page and try again.") from error
        else:
            fields[name] = value
    if kind == "preset":
        fields = {"preset": await run_in_threadpool(_preset, use, str(fields.get("preset", "")))}
    elif kind in FROM_SHELF:
        fields = await run_in_threadpool(from_shelf, use, job_id, kind, fields, look.item)
    wanted = CHANGES.validate_python({"kind": kind, **fields})
    job = await run_in_threadpool(use.apply, job_id, wanted, look)
    await run_in_threadpool(shelve_preset, use, wanted, job)
    answer = await run_in_threadpool(render, request, use, job, _after(job, look))
    return remember_machine(answer, job.sheet) if kind in MACHINE else answer


# Changes that take what the shop keeps of a printer or material into the job.
FROM_SHELF = frozenset({"printer", "material", "print-on", "print-in"})
# Changes that say what a person prints on.
MACHINE = frozenset({"printer", "material", "keep-machine"})
LAST = "heron-machine"


def remember_machine(answer: Response, sheet: JobSheet) -> Response:
    """Let the browser keep what its person printed on last: it is offered first for the next job."""
    if not sheet.asked:
        pair = quote(sheet.pair)
        answer.set_cookie(LAST, pair, max_age=YEAR_S, httponly=True, samesite="lax")
    return answer


def last_machine(request: Request) -> tuple[str, str]:
    """Printer and material that the person at this browser used last; empty where there is none."""
    printer, _, material = unquote(request.cookies.get(LAST, "")).partition("|")
    return printer, material


YEAR_S = 365 * 24 * 3600


def shelve_preset(use: Services, made: Change, job: Job) -> None:
    """Put a preset that was kept onto the shelf of the shop."""
    if isinstance(made, KeepPreset) and job.sheet.preset:
        use.store.shelve(job.sheet.preset)


def _after(job: Job, look: Looking) -> Looking:
    """What the page looks at after a change: another item where its own is gone."""
    there = any(item.id == look.item for item in job.sheet.items)
    return look if there or not look.item else replace(look, item=job.sheet.items[0].id)


def _preset(use: Services, name: str) -> Preset:
    found = use.store.on_shelf(Preset, name)
    if found is None:
        raise BadValue(f"There is no preset “{name[:60]}”.", "Pick one of the list.")
    return found


def from_shelf(
    use: Services, job_id: str, kind: str, fields: dict[str, Any], item: str = ""
) -> dict[str, Any]:
    """Add what the shop keeps of the printer or material that is picked, for the job, a plate or an item."""
    sheet = use.store.job(job_id).sheet
    what = "printer" if kind in ("printer", "print-on") else "material"
    name = str(fields.get(what, ""))
    own = use.store.on_shelf(OwnPrinter if what == "printer" else OwnMaterial, name)
    about: JobSettings = sheet
    plate = str(fields.get("plate") or "")
    if plate.isdecimal() and 1 <= int(plate) <= len(sheet.plates):
        about = sheet.of_plate(int(plate) - 1)
    elif kind == "print-in":
        about = sheet.on(item)
    pair = (name, about.material) if what == "printer" else (about.printer, name)
    return {**fields, "own": own, "calibration": use.store.on_shelf(Calibration, "|".join(pair))}


@router.post("/undo", name="undo")
def undo(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Walk one step back, and look where it was."""
    return _walked(request, use, use.store.undo(job_id), look)


@router.post("/redo", name="redo")
def redo(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Walk one step forward, and look where it was."""
    return _walked(request, use, use.store.redo(job_id), look)


def _walked(request: Request, use: Services, job: Job, look: Looking) -> Response:
    seen = {item.id for item in job.sheet.items}
    item = next((name for name in (job.item, look.item) if name in seen), "")
    return render(request, use, job, replace(look, item=item))

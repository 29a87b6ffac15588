"""Changes to a job sheet: each form is one change, each change one step."""

from __future__ import annotations

import json
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...sheet.changes import CHANGES, KeepPreset
from ...sheet.process import Preset
from ...sheet.shop import Calibration, OwnMaterial, OwnPrinter
from ..dependencies import Services, Use
from .job import Section, render

router = APIRouter(prefix="/jobs/{job_id}")


@router.post("/changes/{kind}", name="change")
async def change(request: Request, job_id: str, kind: str, use: Use, open: Section = 1) -> Response:
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
    elif kind in ("printer", "material"):
        fields = await run_in_threadpool(from_shelf, use, job_id, kind, fields)
    wanted = CHANGES.validate_python({"kind": kind, **fields})
    job = await run_in_threadpool(use.store.apply, job_id, wanted)
    if isinstance(wanted, KeepPreset) and job.sheet.preset:
        await run_in_threadpool(use.store.shelve, job.sheet.preset)
    return await run_in_threadpool(lambda: render(request, use, use.pages.job_page(job, open), "swap.html"))


def _preset(use: Services, name: str) -> Preset:
    found = use.store.on_shelf(Preset, name)
    if found is None:
        raise BadValue(f"There is no preset “{name[:60]}”.", "Pick one of the list.")
    return found


def from_shelf(use: Services, job_id: str, kind: str, fields: dict[str, Any]) -> dict[str, Any]:
    """Add what the shop keeps of the printer or material that is picked."""
    sheet = use.store.job(job_id).sheet
    name = str(fields.get(kind, ""))
    own = use.store.on_shelf(OwnPrinter if kind == "printer" else OwnMaterial, name)
    pair = (name, sheet.material) if kind == "printer" else (sheet.printer, name)
    return {**fields, "own": own, "calibration": use.store.on_shelf(Calibration, "|".join(pair))}


@router.post("/undo", name="undo")
def undo(request: Request, job_id: str, use: Use, open: Section = 1) -> Response:
    """Walk one step back."""
    return render(request, use, use.pages.job_page(use.store.undo(job_id), open), "swap.html")


@router.post("/redo", name="redo")
def redo(request: Request, job_id: str, use: Use, open: Section = 1) -> Response:
    """Walk one step forward."""
    return render(request, use, use.pages.job_page(use.store.redo(job_id), open), "swap.html")

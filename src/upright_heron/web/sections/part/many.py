"""Changes to many items at once: what is ticked in the table of items, in one step."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.footing.footing import FootingKind
from ....core.supports.demand.patches import Style
from ....core.units import number
from ....sheet.changes import (
    Change,
    ChangeMany,
    RemoveSupports,
    SetFooting,
    SetStyle,
    TakePreset,
)
from ....sheet.models import ItemSheet
from ....sheet.part import Size
from ....sheet.process import Preset
from ....work import worker
from ...dependencies import Services, Use, render
from ...looking import Look
from .routes import mending, sizing

router = APIRouter(prefix="/jobs/{job_id}/items")

What = Literal["mend", "unit", "size", "style", "footing", "preset"]
Made = tuple[str, list[tuple[str, Change]]]


@router.post("/many", name="many_items")
async def many_items(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    what: Annotated[What, Form()],
    ticked: Annotated[list[str] | None, Form(max_length=240)] = None,
    value: Annotated[str, Form(max_length=100)] = "",
) -> Response:
    """Change all ticked items; what cannot be done to one of them is done to none."""
    job = await run_in_threadpool(use.store.job, job_id)
    if not ticked:
        raise BadValue("No item is ticked.", "Tick the items that this is for.")
    if any(name not in job.sheet.numbers for name in ticked):
        raise BadValue("An item that is ticked is gone by now.", "Look at the items again, and repeat it.")
    sheets = [job.sheet.on(name) for name in dict.fromkeys(ticked)]
    words, changes = await _MADE[what](use, sheets, value)
    if changes:
        change = ChangeMany(changes=tuple(changes), words=words)
        job = await run_in_threadpool(use.apply, job_id, change, look)
    said = "" if len(changes) == len(sheets) else f"{len(sheets) - len(changes)} needed nothing."
    return await run_in_threadpool(render, request, use, job, look, many_said=said)


async def _mended(use: Services, sheets: Sequence[ItemSheet], value: str) -> Made:
    asked = [asyncio.wrap_future(use.work.ask(worker.mend, sheet, None)) for sheet in sheets]
    answers = zip(sheets, await asyncio.gather(*asked), strict=True)
    changes: list[tuple[str, Change]] = [
        (sheet.id, mending(sheet, done)) for sheet, done in answers if done.words
    ]
    return "Mend", changes


async def _resized(use: Services, sheets: Sequence[ItemSheet], to: Callable[[ItemSheet], Size]) -> Any:
    sizes = [to(sheet) for sheet in sheets]
    pairs = [(sheet, size) for sheet, size in zip(sheets, sizes, strict=True) if size != sheet.size]
    asked = [asyncio.wrap_future(use.work.ask(worker.resize, sheet, size)) for sheet, size in pairs]
    answers = zip(pairs, await asyncio.gather(*asked), strict=True)
    return [(sheet.id, sizing(sheet, size, done)) for (sheet, size), done in answers]


async def _in_unit(use: Services, sheets: Sequence[ItemSheet], value: str) -> Made:
    stated = next((sheet for sheet in sheets if sheet.original.stated_unit is not None), None)
    if stated is not None:
        raise BadValue(
            f"The file of item {stated.number}, {stated.part.file_name}, states its unit.",
            "Take it out of the ticks; size it by percent instead.",
        )

    def to(sheet: ItemSheet) -> Size:
        return Size.model_validate({**sheet.size.model_dump(), "unit": value})

    return f"Unit {value}", await _resized(use, sheets, to)


async def _sized(use: Services, sheets: Sequence[ItemSheet], value: str) -> Made:
    percent = number(value)
    return f"Size {percent:g} %", await _resized(use, sheets, lambda sheet: sheet.size.scaled(percent))


async def _styled(use: Services, sheets: Sequence[ItemSheet], value: str) -> Made:
    if value == "none":
        return "Remove all supports", [(s.id, RemoveSupports()) for s in sheets if s.supports is not None]
    change = SetStyle(style="" if value == "usual" else _one_of(Style, value, "style"))
    return change.label(sheets[0]), [(sheet.id, change) for sheet in sheets]


async def _footed(use: Services, sheets: Sequence[ItemSheet], value: str) -> Made:
    change = SetFooting(footing=_one_of(FootingKind, value, "footing"))
    return change.label(sheets[0]), [(sheet.id, change) for sheet in sheets]


async def _preset(use: Services, sheets: Sequence[ItemSheet], value: str) -> Made:
    found = await run_in_threadpool(use.store.on_shelf, Preset, value)
    if found is None:
        raise BadValue(f"There is no preset “{value[:60]}”.", "Pick one of the list.")
    change = TakePreset(preset=found)
    return change.label(sheets[0]), [(sheet.id, change) for sheet in sheets]


def _one_of(kind: Any, value: str, what: str) -> Any:
    try:
        return kind(value)
    except ValueError:
        raise BadValue(f"“{value[:40]}” is no {what}.", "Pick one of the list.") from None


_MADE: dict[str, Callable[[Services, Sequence[ItemSheet], str], Any]] = {
    "mend": _mended,
    "unit": _in_unit,
    "size": _sized,
    "style": _styled,
    "footing": _footed,
    "preset": _preset,
}

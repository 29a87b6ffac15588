"""Supports one by one: picked, put in, moved, resized, locked and taken out by hand."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import Response

from ...core.errors import BadValue
from ...core.geometry.subdivision import Fine
from ...core.marking.channels import channel_at
from ...core.marking.marks import Mark, Marks, painted
from ...core.supports.filament.styles import chosen_styles
from ...core.supports.model import Branches, Column, SupportSet
from ...sheet.handwork import EditSupports
from ...sheet.models import JobSheet
from ...store.store import Job
from ...work.handwork import edit, only
from ...work.keys import keys
from ...work.marking import hanging_inside
from ...work.results import Bench
from ..dependencies import Services, Use
from ..supports import picked_line
from .job import Section, render
from .marks import keep_change

router = APIRouter()
Text = Annotated[str, Form(max_length=200_000)]
How = Literal["add", "move", "resize", "delete", "lock", "unlock", "restore"]


def _remembered(use: Services, sheet: JobSheet) -> Callable[[str], Any]:
    """What is remembered of a sheet by its name; nothing is made for it."""

    def result(name: str) -> Any:
        if name == "held":
            demand = result("demand")
            if demand is None or sheet.supports is None:
                return None
            return chosen_styles(demand, sheet.supports.style, sheet.supports.by_patch)
        key = keys(sheet).get(name)
        return use.pages.result(key) if key else None

    return result


@router.post("/jobs/{job_id}/supports/hand", name="by_hand")
def by_hand(
    request: Request,
    job_id: str,
    use: Use,
    how: Annotated[How, Form()],
    ids: Text = "[]",
    node: Text = "",
    at: Text = "",
    facing: Text = "",
    width: Text = "",
    open: Section = 6,
) -> Response:
    """Change supports by hand, and say at once what that leaves without."""
    values = {"ids": ids, "node": node, "at": at, "facing": facing, "width": width}
    job, told, picked = keep_edit(use, job_id, how, values)
    page = use.pages.job_page(job, open)
    return render(request, use, replace(page, said=told, picked=picked), "swap.html")


def keep_edit(use: Services, job_id: str, how: str, values: dict[str, str]) -> tuple[Job, str, str]:
    """Keep one change by hand as a step, and the supports after it.

    Returns
    -------
    Job
    str
        What is held no longer, and what came in the way.
    str
        Id of the support that is picked.
    """
    sheet = use.store.job(job_id).sheet
    if sheet.supports is None or sheet.is_resin:
        raise BadValue(
            "There are no filament supports to change.", "Make supports for a filament printer first."
        )
    before: SupportSet | None = use.pages.result(keys(sheet)["supports"])
    done = edit(how, values, sheet, use.store, _remembered(use, sheet))
    change = EditSupports(hand=done.hand, before=done.before, of=sheet.part.mesh, words=done.words)
    job = use.store.apply(job_id, change)
    if done.made is not None:
        use.pages.remember(keys(job.sheet)["supports"], done.made)
    return job, _told(before, done.made) if done.made is not None else "", done.picked


def _told(before: SupportSet | None, after: SupportSet) -> str:
    """What is held no longer, and what came in the way."""
    known = {(f.kind, f.patch, f.at_mm) for f in before.faults} if before else set()
    bare = {f.patch for f in before.faults if f.kind == "not held"} if before else set()
    fresh = [
        f.words
        for f in after.faults
        if (f.patch not in bare if f.kind == "not held" else (f.kind, f.patch, f.at_mm) not in known)
    ]
    more = f" And {len(fresh) - 3} more." if len(fresh) > 3 else ""
    return " ".join(fresh[:3]) + more


@router.post("/jobs/{job_id}/supports/channel", name="clear_channel")
def clear_channel(
    request: Request,
    job_id: str,
    use: Use,
    support: Annotated[str, Form(max_length=40)],
    open: Section = 6,
) -> Response:
    """Keep the channel clear that a trapped support stands in, and say what then hangs inside."""
    sheet = use.store.job(job_id).sheet
    result = _remembered(use, sheet)
    found = next((a for a in result("access") or () if a.id == support), None)
    if found is None:
        raise BadValue("This support is not there any more.", "Look at the list again.")
    use.work.run(sheet, ["gaps"])
    gaps, hangs = result("gaps"), result("hangs") or ()
    place = Bench(use.store).placement(sheet)
    at = place.rotation.T @ (np.array(found.at_mm) - place.offset_mm)
    told: list[str] = []

    def change(sheet: JobSheet, fine: Fine, marks: Marks) -> Marks:
        nearest = int(((fine.middles_mm - at) ** 2).sum(axis=1).argmin())
        channel = channel_at(fine, nearest, gaps)
        if channel is None:
            raise BadValue(
                "No hole or channel closes round this support.",
                "Paint what must stay clear in the marks of section 5.",
            )
        inside = np.zeros(len(fine.parent), bool)
        inside[channel.facets] = True
        shape = "straight" if channel.straight else "curved"
        told[:] = [f"A {shape} channel {channel.width_mm:.1f} mm wide is kept clear."]
        told.extend(hanging_inside(hangs, fine, inside, sheet.bridge_mm, sheet.stuff.name))
        return painted(marks, channel.facets, Mark.KEEP_CLEAR)

    job = keep_change(use, job_id, "Keep clear: a channel", change)
    return render(request, use, replace(use.pages.job_page(job, open), said=" ".join(told)), "swap.html")


@router.get("/jobs/{job_id}/supports/picked", name="picked")
def picked(
    request: Request, job_id: str, use: Use, ids: Annotated[str, Query(max_length=200_000)] = "[]"
) -> Response:
    """What is known of the supports that are picked."""
    page = use.pages.job_page(use.store.job(job_id), 6)
    made = page.now.supports
    try:
        wanted = {str(i) for i in json.loads(ids)}
    except (ValueError, TypeError) as error:
        raise BadValue("The supports could not be read.", "Pick them again.") from error
    chosen = only(wanted, made) if made is not None else []
    lines = [picked_line(s, page.now) for s in chosen]
    context = {"page": page, "lines": lines}
    return use.templates.TemplateResponse(request, "pieces/picked.html", context)


@router.get("/api/blocks/supports/{key}/list", name="support_list", tags=["blocks"])
def support_list(key: str, use: Use) -> list[dict[str, Any]]:
    """Supports in the order of their shells: id, facets, and where they are."""
    made: SupportSet | None = use.pages.result(key)
    if made is None:
        raise BadValue("This result is no longer remembered.", "Reload the page; it is made again.")
    return [
        {
            "id": support.id,
            "reason": support.reason,
            "style": getattr(support, "style", ""),
            "hand": getattr(support, "hand", ""),
            "patches": list(support.patches) if isinstance(support, Column | Branches) else [],
            "facets": len(shell.faces),
            "at": list(support.touch_mm),
            "volume": round(support.volume_mm3, 6),
        }
        for support, shell in zip(made.supports, made.shells, strict=True)
    ]

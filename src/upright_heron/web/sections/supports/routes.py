"""Supports one by one: picked, put in, moved, resized, locked and taken out by hand."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import Response

from ....core.errors import BadValue
from ....core.geometry.subdivision import Fine
from ....core.marking.channels import channel_at
from ....core.marking.mark import Mark
from ....core.marking.marks import Marks, painted
from ....core.stance.pose import from_quaternion, place
from ....core.supports.model import Branches, Column
from ....core.supports.support_set import FaultKind, SupportSet
from ....sheet.changes import EditSupports
from ....sheet.models import ItemSheet
from ....store.store import Job
from ....work.bind import keys_of
from ....work.handwork import edit, only
from ....work.known import Known
from ....work.marking import hanging_inside
from ...dependencies import Services, Use, render
from ...looking import Look, Looking
from ..overhangs.routes import keep_change
from .lines import picked_line

router = APIRouter()
LOOKING = Looking()
Text = Annotated[str, Form(max_length=200_000)]
How = Literal["add", "move", "resize", "delete", "lock", "unlock", "restore"]


def _known(use: Services, sheet: ItemSheet) -> Known:
    """What is known of an item; nothing is made for it."""
    return Known(keys_of(sheet), use.pages.memo)


@router.post("/jobs/{job_id}/supports/hand", name="by_hand")
def by_hand(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    how: Annotated[How, Form()],
    ids: Text = "[]",
    node: Text = "",
    at: Text = "",
    facing: Text = "",
    width: Text = "",
) -> Response:
    """Change supports by hand, and say at once what that leaves without."""
    values = {"ids": ids, "node": node, "at": at, "facing": facing, "width": width}
    job, told, picked = keep_edit(use, job_id, how, values, look)
    return render(request, use, job, look.usually("supports"), said=told, picked=picked)


def keep_edit(
    use: Services, job_id: str, how: str, values: dict[str, str], look: Looking = LOOKING
) -> tuple[Job, str, str]:
    """Keep one change by hand as a step, and the supports after it.

    Returns
    -------
    Job
    str
        What is held no longer, and what came in the way.
    str
        Id of the support that is picked.
    """
    sheet = use.sheet(job_id, look)
    if sheet.filament is None or sheet.is_resin:
        raise BadValue(
            "There are no filament supports to change.", "Make supports for a filament printer first."
        )
    known = _known(use, sheet)
    before: SupportSet | None = known.get("supports")
    done = edit(how, values, sheet, use.store, known.get)
    change = EditSupports(hand=done.hand, before=done.before, of=sheet.part.mesh, words=done.words)
    job = use.store.apply(job_id, change, sheet.id, author=look.author)
    if done.made is not None:
        # Shown at once; the supports that count are made for good by their recipe.
        use.pages.memo.put_meanwhile(keys_of(job.sheet.on(sheet.id))["supports"], done.made)
    return job, told(before, done.made) if done.made is not None else "", done.picked


def told(before: SupportSet | None, after: SupportSet) -> str:
    """What is held no longer, and what came in the way."""
    known = {(f.kind, f.patch, f.at_mm) for f in before.faults} if before else set()
    bare = {f.patch for f in before.faults if f.kind is FaultKind.NOT_HELD} if before else set()
    fresh = [
        f.words
        for f in after.faults
        if (f.patch not in bare if f.kind is FaultKind.NOT_HELD else (f.kind, f.patch, f.at_mm) not in known)
    ]
    more = f" And {len(fresh) - 3} more." if len(fresh) > 3 else ""
    return " ".join(fresh[:3]) + more


@router.post("/jobs/{job_id}/supports/channel", name="clear_channel")
def clear_channel(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    support: Annotated[str, Form(max_length=40)],
) -> Response:
    """Keep the channel clear that a trapped support stands in, and say what then hangs inside."""
    sheet = use.sheet(job_id, look)
    known = _known(use, sheet)
    found = next((a for a in known.get("access") or () if a.id == support), None)
    if found is None:
        raise BadValue("This support is not there any more.", "Look at the list again.")
    gaps: Any = use.pages.made(sheet, "gaps")
    hangs = known.get("hangs") or ()
    mesh, turn = use.store.mesh(sheet.part.mesh), from_quaternion(sheet.stance.quaternion)
    where = place(mesh, turn, sheet.lift_mm)
    at = where.rotation.T @ (np.array(found.at_mm) - where.offset_mm)
    told: list[str] = []

    def change(sheet: ItemSheet, fine: Fine, marks: Marks) -> Marks:
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

    job = keep_change(use, job_id, "Keep clear: a channel", change, look)
    return render(request, use, job, look.usually("supports"), said=" ".join(told))


@router.get("/jobs/{job_id}/supports/picked", name="picked")
def picked(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    ids: Annotated[str, Query(max_length=200_000)] = "[]",
) -> Response:
    """What is known of the supports that are picked."""
    page = use.pages.job_page(use.store.job(job_id), look.usually("supports"))
    made = page.now.supports
    try:
        wanted = {str(i) for i in json.loads(ids)}
    except (ValueError, TypeError) as error:
        raise BadValue("The supports could not be read.", "Pick them again.") from error
    chosen = only(wanted, made) if made is not None else []
    lines = [picked_line(s, page.now) for s in chosen]
    context = {"page": page, "lines": lines}
    return use.templates.TemplateResponse(request, "supports/picked.html", context)


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
            "facets": facets,
            "at": list(support.touch_mm),
            "volume": round(support.volume_mm3, 6),
        }
        for support, facets in zip(made.supports, made.drawn_facets(), strict=True)
    ]

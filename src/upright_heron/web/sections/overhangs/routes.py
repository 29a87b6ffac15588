"""What is painted on a part: strokes of the brush, fills, and changes of what is painted."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.geometry.subdivision import Fine
from ....core.marking import marks as core
from ....core.marking.mark import Mark
from ....core.marking.marks import MEANING, Marks
from ....core.units import length_mm
from ....sheet.changes import Paint
from ....sheet.models import ItemSheet
from ....store.store import ChangedMeanwhile, Job
from ....work.marking import filled, kept, marks_of
from ...bodies import STROKE_BYTES
from ...dependencies import Services, Use, render
from ...looking import Look, Looking

router = APIRouter(prefix="/jobs/{job_id}/marks")
# Two strokes that arrive together are kept one after the other.
TRIES = 5
LOOKING = Looking()

Kind = Literal["prop", "clear", "show", "solid", "erase"]
MARKS: dict[str, Mark] = {
    "prop": Mark.PROP, "clear": Mark.KEEP_CLEAR, "show": Mark.SHOW, "solid": Mark.SOLID,
    "erase": Mark.NONE,
}  # fmt: skip
Typed = Annotated[str, Field(max_length=40)]
Text = Annotated[str, Form(max_length=40)]


def _name(mark: Mark) -> str:
    return MEANING[mark].name.lower() if mark in MEANING else "erase"


def keep_change(
    use: Services,
    job_id: str,
    words: str,
    change: Callable[[ItemSheet, Fine, Marks], Marks],
    look: Looking,
) -> Job:
    """Apply a change to the marks of the part that is looked at, and keep it as a step."""
    for attempt in range(TRIES):
        sheet = use.sheet(job_id, look)
        fine = use.pages.fine(sheet.part.mesh)
        marks = change(sheet, fine, marks_of(sheet, fine, use.store))
        before = sheet.marks.digest if sheet.marks else ""
        now = kept(fine, marks, sheet.part.mesh, use.store)
        paint = Paint(marks=now, of=sheet.part.mesh, before=before, words=words)
        try:
            # On what is painted now: strokes of two hands are both kept.
            return use.store.apply(job_id, paint, sheet.id, author=look.author)
        except ChangedMeanwhile:
            raise
        except BadValue:
            if attempt == TRIES - 1:
                raise
    raise AssertionError("unreachable")


@router.post("/stroke", name="stroke")
async def stroke(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    mark: Kind,
    of: Annotated[str, Query(max_length=32)],
) -> dict[str, Any]:
    """Keep a stroke: the facets of the fine mesh that the brush went over, as little-endian uint32."""
    body = await request.body()
    if len(body) % 4 or len(body) > STROKE_BYTES:
        raise BadValue("The stroke could not be read.", "Paint again.")
    job = await run_in_threadpool(keep_stroke, use, job_id, of, mark, body, look)
    marks = job.sheet.item(job.item).marks
    return {"step": job.step, "stepId": job.step_id, "marks": marks.digest if marks else None}


def keep_stroke(use: Services, job_id: str, of: str, mark: Kind, body: bytes, look: Looking = LOOKING) -> Job:
    """Keep a stroke as a step.

    Parameters
    ----------
    use : Services
    job_id : str
    of : str
        Digest of the part it was painted on.
    mark : str
        ``prop``, ``clear``, ``show`` or ``erase``.
    body : bytes
        Facets of the fine mesh, little-endian uint32.
    look : Looking
        Names the item.

    Raises
    ------
    BadValue
        The part is another by now, or does not have these facets.
    """
    facets = np.frombuffer(body, "<u4").astype(np.int64)

    def change(sheet: ItemSheet, fine: Fine, marks: Marks) -> Marks:
        if sheet.part.mesh != of:
            raise BadValue("The part was changed meanwhile.", "Wait for the view, and paint again.")
        return core.painted(marks, facets, MARKS[mark])

    words = "Erase marks" if mark == "erase" else f"Paint {_name(MARKS[mark])}"
    return keep_change(use, job_id, words, change, look)


class FillForm(BaseModel):
    """The form of a fill, as it is typed: with what, where, and what that place is found by."""

    mark: Kind
    what: Literal["face", "region", "body", "past", "band", "channel"]
    facet: Typed = ""
    crease: Typed = ""
    low: Typed = ""
    high: Typed = ""
    region: Typed = ""
    channel: Typed = ""


@router.post("/fill", name="fill")
def fill(request: Request, job_id: str, use: Use, look: Look, form: Annotated[FillForm, Form()]) -> Response:
    """Fill a whole place with a mark."""
    what, mark = form.what, form.mark
    values = form.model_dump(exclude={"mark", "what"})
    words = {
        "face": "a face", "region": "an overhang region", "body": "a body", "band": "a height band",
        "past": "everything past the limit", "channel": "a channel",
    }[what]  # fmt: skip

    def change(sheet: ItemSheet, fine: Fine, marks: Marks) -> Marks:
        return core.painted(
            marks, filled(what, values, sheet, fine, lambda name: use.pages.made(sheet, name)), MARKS[mark]
        )

    job = keep_change(use, job_id, f"{_name(MARKS[mark]).capitalize()}: {words}", change, look)
    return render(request, use, job, look.usually("overhangs"))


@router.post("/change", name="change_marks")
def change_marks(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    how: Annotated[Literal["grow", "shrink", "smooth", "mirror", "clear"], Form()],
    mark: Annotated[Literal["prop", "clear", "show", "all"], Form()] = "all",
    by: Text = "1",
    axis: Annotated[Literal["x", "y", "z"], Form()] = "x",
) -> Response:
    """Grow, shrink, smooth, mirror or clear marks."""
    kinds = [MARKS[mark]] if mark != "all" else list(MEANING)
    distance = length_mm(by)
    if how in ("grow", "shrink", "smooth") and not 0 < distance <= 100:
        raise BadValue("The distance is not between 0 and 100 mm.", "Type one such as 1.")

    def change(sheet: ItemSheet, fine: Fine, marks: Marks) -> Marks:
        if how == "mirror":
            return core.mirrored(fine, marks, axis)
        for kind in kinds:
            if how == "clear":
                marks = core.cleared(marks, kind)
            else:
                move = {"grow": core.grown, "shrink": core.shrunk, "smooth": core.smoothed}[how]
                marks = move(fine, marks, kind, distance)
        return marks

    named = "all marks" if mark == "all" else _name(MARKS[mark])
    words = {
        "grow": f"Grow {named} by {distance:g} mm", "shrink": f"Shrink {named} by {distance:g} mm",
        "smooth": f"Smooth {named}", "mirror": f"Mirror marks along {axis}", "clear": f"Clear {named}",
    }[how]  # fmt: skip
    job = keep_change(use, job_id, words, change, look)
    return render(request, use, job, look.usually("overhangs"))

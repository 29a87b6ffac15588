"""What was printed: searched, judged, counted by month, and printed again."""

from __future__ import annotations

import csv
import io
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Query, Request, UploadFile
from fastapi.responses import RedirectResponse, Response
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...store.database import now
from ...store.prints import ENDED
from ...work.kinds import kinds_of_machines
from ...work.lessons import lessons, take_lesson
from ...work.photo import MOST_BYTES, small_photo
from ...work.record import REASONS, failures, found, kept_free, months, outcome_of, place_of, with_worn
from ..dependencies import Use

router = APIRouter(prefix="/record")
Outcome = Literal["", "good", "failed"]
Asked = Annotated[str, Query(max_length=100)]


@router.get("", name="record")
def record(request: Request, use: Use, q: Asked = "", machine: Asked = "", outcome: Asked = "") -> Response:
    """The page."""
    every = use.store.prints(*ENDED)
    machines = kinds_of_machines(use.store)
    kept = found([one for one in every if not machine or one.station == machine], q, outcome)
    context: dict[str, Any] = {
        "prints": kept[:200],
        "count": len(kept),
        "months": months(every)[:12],
        "lessons": lessons(every, use.store),
        "failures": failures(every, {name: one.build_mm[:2] for name, one in machines.items()}),
        "kept_free": lambda model, spot: kept_free(machines[model], spot),
        "stations": sorted({one.station for one in every}),
        "asked": {"q": q, "machine": machine, "outcome": outcome},
        "reasons": REASONS,
        "outcome_of": outcome_of,
        "photos": use.store.with_photos(),
    }
    return use.templates.TemplateResponse(request, "record.html", context)


@router.get(".csv", name="record_csv")
def record_csv(use: Use, q: Asked = "", machine: Asked = "", outcome: Asked = "") -> Response:
    """The record as a table."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(
        ["ended", "job", "plate", "items", "machine", "kind", "material", "file", "layers", "told_h",
         "real_h", "told_g", "outcome", "layer", "reason", "sent_all_the_same", "who", "notes",
         "at_x_mm", "at_y_mm", "spool"]
    )  # fmt: skip
    for one in found(use.store.prints(*ENDED, station=machine), q, outcome):
        items = ", ".join(name if count == 1 else f"{name} x {count}" for name, count in one.items)
        ended = f"{one.ended:%Y-%m-%d %H:%M}" if one.ended else ""
        real = f"{one.real_s / 3600:.2f}" if one.real_s is not None else ""
        table.writerow(
            [ended, one.job_name, one.plate, items, one.station, one.model, one.material, one.file_name,
             one.layers, f"{one.told_s / 3600:.2f}", real, f"{one.told_g:.1f}", outcome_of(one), one.layer,
             one.reason, one.excuse, one.who, one.notes, *(one.at_mm or ("", "")),
             one.settings.get("spool", "")]
        )  # fmt: skip
    headers = {"Content-Disposition": 'attachment; filename="record.csv"'}
    return Response(out.getvalue(), media_type="text/csv; charset=utf-8", headers=headers)


@router.post("/worn", name="keep_free")
def keep_free(
    use: Use,
    model: Annotated[str, Form(max_length=60)],
    x_mm: Annotated[float, Form(ge=-5000, le=5000)],
    y_mm: Annotated[float, Form(ge=-5000, le=5000)],
) -> Response:
    """Have nothing laid where several prints failed on a kind of machine."""
    known = kinds_of_machines(use.store)
    if model not in known:
        raise BadValue(f"There is no kind of machine “{model[:60]}”.", "Pick one of the list.")
    use.store.shelve(with_worn(known[model], x_mm, y_mm))
    return RedirectResponse("/record#failures", 303)


@router.post("/lessons", name="take_lesson")
def take(
    use: Use,
    kind: Annotated[Literal["limit", "peel", "looser", "tighter"], Form()],
    model: Annotated[str, Form(max_length=60)],
    material: Annotated[str, Form(max_length=60)],
) -> Response:
    """Change what the shop keeps as several prints tell."""
    take_lesson(use.store, kind, model, material, now())
    return RedirectResponse("/record#lessons", 303)


@router.post("/{print_id}", name="judge")
def judge(
    print_id: str,
    use: Use,
    outcome: Annotated[Outcome, Form()] = "",
    reason: Annotated[str, Form(max_length=200)] = "",
    notes: Annotated[str, Form(max_length=2000)] = "",
    who: Annotated[str, Form(max_length=60)] = "",
    at: Annotated[str, Form(max_length=60)] = "",
) -> Response:
    """Keep what somebody says of a print."""
    use.store.judge(print_id, outcome, reason.strip(), notes.strip(), who.strip(), place_of(at))
    return RedirectResponse(f"/record#print-{print_id}", 303)


@router.post("/{print_id}/photo", name="keep_photo")
async def keep_photo(print_id: str, use: Use, file: UploadFile) -> Response:
    """Keep a photo of what was printed, in place of one that there was."""
    data = await file.read(MOST_BYTES + 1)
    if len(data) > MOST_BYTES:
        raise BadValue(f"The photo has more than {MOST_BYTES // 1_000_000} MB.", "Make it smaller first.")
    jpeg = await run_in_threadpool(small_photo, data)
    await run_in_threadpool(use.store.keep_photo, print_id, jpeg)
    return RedirectResponse(f"/record#print-{print_id}", 303)


@router.get("/{print_id}/photo.jpg", name="photo")
def photo(print_id: str, use: Use) -> Response:
    """The photo of a print."""
    data = use.store.photo_of(print_id)
    return Response(data, media_type="image/jpeg", headers={"Cache-Control": "no-cache"})


@router.post("/{print_id}/again", name="print_again")
def again(print_id: str, use: Use) -> Response:
    """Begin a job with everything as it was when this was printed."""
    made = use.store.begin_from(use.store.print_of(print_id).step_id)
    return RedirectResponse(f"/jobs/{made.id}", 303)

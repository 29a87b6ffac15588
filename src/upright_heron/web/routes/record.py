"""What was printed: searched, judged, counted by month, and printed again."""

from __future__ import annotations

import csv
import io
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import RedirectResponse, Response

from ...store.prints import ENDED, Print, Stage
from ..dependencies import Services, Use

router = APIRouter(prefix="/record")
# What fails, in words of the trade; others may be typed.
REASONS = (
    "came off the plate", "warped", "a support came loose", "layers shifted", "the nozzle clogged",
    "strings", "ran out of material", "an island floated", "layers parted", "surface too rough",
    "size is off", "power cut",
)  # fmt: skip
Outcome = Literal["", "good", "failed"]
Asked = Annotated[str, Query(max_length=100)]


@dataclass(frozen=True, slots=True)
class Month:
    """Figures of a month: prints, hours, kilograms, and failures by reason."""

    name: str
    prints: int
    hours: float
    kg: float
    failed: int
    reasons: tuple[tuple[str, int], ...]


def outcome_of(one: Print) -> str:
    """What somebody said of it, or else what the machine did."""
    return one.outcome or {Stage.DONE: "done", Stage.FAILED: "failed"}.get(one.stage, "given up")


def _found(use: Services, words: str, station: str, outcome: str) -> list[Print]:
    asked = words.lower().split()
    found = []
    for one in use.store.prints(*ENDED, station=station):
        text = " ".join(
            [
                one.job_name,
                one.station,
                one.model,
                one.material,
                one.reason,
                one.notes,
                one.who,
                one.file_name,
            ]
            + [name for name, _ in one.items]
        ).lower()
        if all(word in text for word in asked) and (not outcome or outcome_of(one) == outcome):
            found.append(one)
    return found


def months(prints: Sequence[Print]) -> list[Month]:
    """Figures by month, the newest first: of what ended in it."""
    by: dict[str, list[Print]] = defaultdict(list)
    for one in prints:
        if one.ended is not None:
            by[f"{one.ended:%Y-%m}"].append(one)
    told = []
    for name, some in sorted(by.items(), reverse=True):
        failed = [one for one in some if outcome_of(one) == "failed"]
        # What was given up on the way took a part of its material.
        used = sum(one.told_g * (one.layer / one.layers if one.layers else 0.0) for one in some)
        hours = sum(one.real_s or 0.0 for one in some) / 3600
        reasons = Counter(one.reason or "not said" for one in failed).most_common()
        told.append(Month(name, len(some), hours, used / 1000, len(failed), tuple(reasons)))
    return told


@router.get("", name="record")
def record(request: Request, use: Use, q: Asked = "", machine: Asked = "", outcome: Asked = "") -> Response:
    """The page."""
    found = _found(use, q, machine, outcome)
    every = use.store.prints(*ENDED)
    context: dict[str, Any] = {
        "prints": found[:200],
        "count": len(found),
        "months": months(every)[:12],
        "stations": sorted({one.station for one in every}),
        "asked": {"q": q, "machine": machine, "outcome": outcome},
        "reasons": REASONS,
        "outcome_of": outcome_of,
    }
    return use.templates.TemplateResponse(request, "record.html", context)


@router.get(".csv", name="record_csv")
def record_csv(use: Use, q: Asked = "", machine: Asked = "", outcome: Asked = "") -> Response:
    """The record as a table."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(
        ["ended", "job", "plate", "items", "machine", "kind", "material", "file", "layers", "told_h",
         "real_h", "told_g", "outcome", "layer", "reason", "sent_all_the_same", "who", "notes"]
    )  # fmt: skip
    for one in _found(use, q, machine, outcome):
        items = ", ".join(name if count == 1 else f"{name} x {count}" for name, count in one.items)
        ended = f"{one.ended:%Y-%m-%d %H:%M}" if one.ended else ""
        real = f"{one.real_s / 3600:.2f}" if one.real_s is not None else ""
        table.writerow(
            [ended, one.job_name, one.plate, items, one.station, one.model, one.material, one.file_name,
             one.layers, f"{one.told_s / 3600:.2f}", real, f"{one.told_g:.1f}", outcome_of(one), one.layer,
             one.reason, one.excuse, one.who, one.notes]
        )  # fmt: skip
    headers = {"Content-Disposition": 'attachment; filename="record.csv"'}
    return Response(out.getvalue(), media_type="text/csv; charset=utf-8", headers=headers)


@router.post("/{print_id}", name="judge")
def judge(
    print_id: str,
    use: Use,
    outcome: Annotated[Outcome, Form()] = "",
    reason: Annotated[str, Form(max_length=200)] = "",
    notes: Annotated[str, Form(max_length=2000)] = "",
    who: Annotated[str, Form(max_length=60)] = "",
) -> Response:
    """Keep what somebody says of a print."""
    use.store.judge(print_id, outcome, reason.strip(), notes.strip(), who.strip())
    return RedirectResponse(f"/record#print-{print_id}", 303)


@router.post("/{print_id}/again", name="print_again")
def again(print_id: str, use: Use) -> Response:
    """Begin a job with everything as it was when this was printed."""
    made = use.store.begin_from(use.store.print_of(print_id).step_id)
    return RedirectResponse(f"/jobs/{made.id}", 303)

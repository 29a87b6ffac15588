"""Files that leave, and pictures."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from urllib.parse import quote

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from ...core.errors import BadValue
from ...core.handoff.stl import write_stl
from ...sheet.models import JobSheet
from ...store.store import Store
from ...work.intake import TAKEN_ALONG, new_sheet, take_in, with_marks
from ...work.keys import keys
from ...work.packing import pieces_3mf
from ...work.results import Bench
from ..dependencies import Services, Use

router = APIRouter(prefix="/jobs/{job_id}")


def file_name(*words: str) -> str:
    """A plain file name: letters, digits, dots and dashes."""
    text = unicodedata.normalize("NFKD", " ".join(words)).encode("ascii", "ignore").decode()
    return re.sub(r"[^A-Za-z0-9.]+", "-", text).strip("-.")[:120] or "part"


def _attachment(data: bytes, name: str, media: str) -> Response:
    return Response(
        data, media_type=media, headers={"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}"}
    )


def _settings_words(sheet: JobSheet) -> list[str]:
    """The name says what a technician looks for: layer, walls, infill, material."""
    words = [sheet.name, f"{sheet.layer_mm:g}mm"]
    if not sheet.is_resin:
        words += [f"{sheet.process.walls}walls", f"{sheet.process.infill_percent:g}pc"]
    return [*words, sheet.material]


def _sheet(use: Services, job_id: str, names: Sequence[str]) -> JobSheet:
    sheet = use.store.job(job_id).sheet
    use.work.run(sheet, names)
    return sheet


def _all_sheet(use: Services, job_id: str) -> JobSheet:
    """The sheet of a job, once all that is handed off of each of its parts is made."""
    sheet = use.store.job(job_id).sheet
    for one in sheet.each:
        use.work.run(one, [name for name in ("supports", "footing") if name in keys(one)])
    use.work.run(sheet, ["handoff"])
    return sheet


@router.get("/picture.png", name="picture")
def picture(job_id: str, use: Use) -> Response:
    """Picture of the part in its stance."""
    sheet = _sheet(use, job_id, ["picture"])
    found = use.store.result(keys(sheet)["picture"])
    return Response(
        found.png if found else b"", media_type="image/png", headers={"Cache-Control": "no-cache"}
    )


@router.get("/handoff.3mf", name="handoff_3mf")
def handoff_3mf(job_id: str, use: Use) -> Response:
    """Part, supports and footing as one 3MF."""
    sheet = _all_sheet(use, job_id)
    package = Bench(use.store).handoff(sheet)
    return _attachment(package.data, f"{file_name(*_settings_words(sheet))}.3mf", "model/3mf")


@router.get("/{what}.stl", name="handoff_stl")
def handoff_stl(job_id: str, what: str, use: Use) -> Response:
    """One object as binary STL: ``part``, ``support`` or ``footing``."""
    sheet = use.store.job(job_id).sheet
    names = [n for n in ("supports", "footing") if n in keys(sheet)]
    use.work.run(sheet, names)
    for item in Bench(use.store).objects(sheet):
        if item.name.split()[0] == what and len(item.mesh.faces):
            return _attachment(write_stl(item.mesh), f"{file_name(sheet.name, what)}.stl", "model/stl")
    raise BadValue(f"This job has no {what[:20]} to hand off.", "Make it in its section first.")


@router.get("/pieces.3mf", name="pieces_3mf")
def pieces(job_id: str, use: Use) -> Response:
    """All pieces of a split part as one 3MF."""
    sheet = use.store.job(job_id).sheet
    if sheet.grid is None:
        raise BadValue("This part is not cut.", "Cut it in section 3 first.")
    use.work.run(sheet, ["split"])
    split = Bench(use.store).split(sheet)
    return _attachment(pieces_3mf(sheet, split), f"{file_name(sheet.name, 'pieces')}.3mf", "model/3mf")


@router.post("/pieces/{number}/open", name="open_piece")
def open_piece(request: Request, job_id: str, number: int, use: Use) -> Response:
    """Make a job of its own from one piece, on the same printer."""
    sheet = use.store.job(job_id).sheet
    if sheet.grid is None:
        raise BadValue("This part is not cut.", "Cut it in section 3 first.")
    use.work.run(sheet, ["split"])
    pieces_of = Bench(use.store).split(sheet).pieces
    if not 1 <= number <= len(pieces_of):
        raise BadValue(f"There is no piece {number}.", f"Pick a piece from 1 to {len(pieces_of)}.")
    url = request.url_for(
        "job", job_id=_piece_job(use.store, sheet, number, write_stl(pieces_of[number - 1].mesh))
    )
    if request.headers.get("hx-request"):
        return Response(status_code=204, headers={"HX-Redirect": str(url)})
    return RedirectResponse(url, 303)


def _piece_job(store: Store, sheet: JobSheet, number: int, stl: bytes) -> str:
    name = f"{sheet.name}, piece {number}"[:120]
    part = with_marks(sheet, take_in(stl, f"{file_name(name)}.stl", store), store)
    same = {field: getattr(sheet, field) for field in TAKEN_ALONG}
    fresh = new_sheet(part, name).model_copy(update=same)
    return store.create_job(fresh, f"Piece {number} of {sheet.name}"[:200]).id

"""The traveller: the sheet of paper that goes with a plate, as a page and as PDF."""

from __future__ import annotations

import asyncio
from collections import Counter
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import segno
from fastapi import APIRouter, Form, Request
from fastapi.responses import Response
from markupsafe import Markup
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...core.handoff.preflight import Check
from ...core.keys import Keys
from ...core.recipes.values import Picture
from ...sheet.shop import RunNotes
from ...store.store import Job
from ...work.bind import keys_of, plate_keys
from ...work.checking import of_plate
from ...work.handing import FILAMENT_BOXES, RESIN_BOXES
from ..dependencies import Services, Use, all_made, render
from ..looking import Look, Looking
from ..sections.handoff.routes import check_plate, plate_names

router = APIRouter(prefix="/jobs/{job_id}")
HERE = Path(__file__).parent.parent


@dataclass(frozen=True, slots=True)
class Sheet:
    """What the traveller tells besides the job page.

    Attributes
    ----------
    plate, plates : int
        The plate of the item, from 1, and how many there are.
    printer : str
        That the plate goes to.
    standing : tuple of (str, int)
        What stands on it, and how often.
    code : Markup
        A code to scan that opens the job, as SVG.
    address : str
        What it says.
    boxes : tuple of str
        To be ticked on the way.
    run_notes : str
        What the shop wrote down for this machine with this material.
    checks : tuple of Check
        What is wrong or doubtful of the plate.
    """

    plate: int
    plates: int
    printer: str
    standing: tuple[tuple[str, int], ...]
    code: Markup
    address: str
    boxes: tuple[str, ...]
    run_notes: str
    checks: tuple[Check, ...]


def _context(request: Request, use: Services, job: Job, look: Looking) -> dict[str, Any]:
    sheet = job.sheet.on(look.item)
    page = use.pages.job_page(job, replace(look, section=0))
    page = replace(page, assembly=use.pages.made(sheet, "assembly_map"))
    plate = job.sheet.plate_of(sheet.id)
    address = f"{request.url_for('job', job_id=job.id)}?item={sheet.id}&open=9"
    counts = Counter(job.sheet.on(one.item).item_name for one in job.sheet.plates[plate].instances)
    kept = use.store.on_shelf(RunNotes, job.sheet.of_plate(plate).pair)
    # It is drawn by the size that the page gives it, and names no style of its own.
    code = segno.make(address, error="m").svg_inline(border=2, omitsize=True, svgclass="scan", lineclass=None)
    told = Sheet(
        plate + 1, len(job.sheet.plates), job.sheet.of_plate(plate).machine.name, tuple(counts.items()),
        Markup(code),
        address, RESIN_BOXES if sheet.is_resin else FILAMENT_BOXES, kept.text if kept is not None else "",
        tuple(of_plate(job.sheet, plate + 1, page.now.preflight)),
    )  # fmt: skip
    return {"page": page, "way": told}


@router.get("/traveller", name="traveller")
async def traveller(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """The record that goes with the plate of an item, to print, with how pieces go together."""
    job = await run_in_threadpool(use.store.job, job_id)
    await all_made(use, job, look.item)
    context = await run_in_threadpool(_context, request, use, job, look)
    return use.templates.TemplateResponse(request, "traveller.html", context)


@router.get("/traveller.pdf", name="traveller_pdf")
async def traveller_pdf(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """The same as PDF."""
    job = await run_in_threadpool(use.store.job, job_id)
    await all_made(use, job, look.item)
    sheet = job.sheet.on(look.item)
    plate = job.sheet.plate_of(sheet.id)
    drawn = {
        "picture.png": await _png(use, keys_of(sheet), "picture"),
        "plate.png": await _png(use, plate_keys(job.sheet, plate), "plate_picture"),
    }
    context = await run_in_threadpool(_context, request, use, job, look)
    text = use.templates.get_template("traveller.html").render(request=request, **context)
    data = await run_in_threadpool(as_pdf, text, drawn)
    # Named as the file of its plate is, so that both lie side by side.
    name = f"{(await run_in_threadpool(plate_names, use, job.sheet))[plate]}-traveller"
    headers = {"Content-Disposition": f"inline; filename*=UTF-8''{quote(name)}.pdf"}
    return Response(data, media_type="application/pdf", headers=headers)


async def _png(use: Services, keys: Keys, name: str) -> bytes:
    await asyncio.wrap_future(use.work.make(keys, name))
    found = use.pages.result(keys[name])
    return found.png if isinstance(found, Picture) else b""


def as_pdf(text: str, pictures: dict[str, bytes]) -> bytes:
    """Set a traveller as PDF, with its pictures by the last part of their address.

    Raises
    ------
    BadValue
        The library that sets it finds no Pango on this machine.
    """
    try:
        from weasyprint import CSS, HTML
        from weasyprint.urls import URLFetcher, URLFetcherResponse
    except OSError as error:
        raise BadValue(
            "PDF needs Pango, which is not installed.", "Install libpangoft2, or print the page."
        ) from error

    class Own(URLFetcher):  # type: ignore[misc]
        """Nothing is fetched: pictures are at hand, and of other files only the mark is needed."""

        def fetch(self, url: str, headers: Any = None) -> Any:
            name = url.partition("?")[0].rsplit("/", 1)[-1]
            if name == "mark.svg":
                return URLFetcherResponse(
                    url, (HERE / "static" / name).read_bytes(), {"Content-Type": "image/svg+xml"}
                )
            kind = "text/css" if name.endswith(".css") else "image/png"
            return URLFetcherResponse(url, pictures.get(name, b""), {"Content-Type": kind})

    style = CSS(filename=str(HERE / "templates" / "traveller-print.css"))
    # The address only makes others absolute; nothing listens there.
    document = HTML(string=text, base_url="http://traveller/", url_fetcher=Own())
    data: bytes = document.write_pdf(stylesheets=[style])
    return data


@router.get("/plates/{plate}/plate.png", name="plate_picture")
async def plate_picture(job_id: str, plate: int, use: Use) -> Response:
    """Picture of a plate with all that stands on it."""
    job = (await run_in_threadpool(use.store.job, job_id)).sheet
    check_plate(job, plate)
    data = await _png(use, plate_keys(job, plate - 1), "plate_picture")
    return Response(data, media_type="image/png", headers={"Cache-Control": "no-cache"})


@router.post("/plates/{plate}/run-notes", name="run_notes")
def run_notes(
    request: Request,
    job_id: str,
    plate: int,
    use: Use,
    look: Look,
    text: Annotated[str, Form(max_length=2000)] = "",
    approved: Annotated[bool, Form()] = False,
) -> Response:
    """Keep what holds for the machine of a plate with its material, for all jobs of the shop."""
    job = use.store.job(job_id)
    check_plate(job.sheet, plate)
    use.store.shelve(RunNotes(name=job.sheet.of_plate(plate - 1).pair, text=text.strip(), approved=approved))
    return render(request, use, job, look.usually("handoff"))

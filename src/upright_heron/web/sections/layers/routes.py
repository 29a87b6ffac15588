"""Masks of layers, and the table of how layers are made."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import APIRouter, Form, Query, Request, UploadFile
from fastapi.responses import Response
from starlette.concurrency import run_in_threadpool

from ....core.errors import BadValue
from ....core.handoff.masks import Cutout, Screen, cutout
from ....core.handoff.plate_layers import PlateLayers, Standing
from ....core.layers.printed_layers import PrintedLayers
from ....core.recipes.handoff import outline_of
from ....core.recipes.settings import Masking
from ....core.toolpaths.process_table import COLUMNS, Stretch, as_csv, from_csv
from ....sheet.changes import SetTable
from ....sheet.models import ItemSheet
from ....work.bind import ItemBinding
from ...dependencies import Services, Use, render
from ...looking import Look
from ..handoff.naming import file_name
from ..handoff.routes import attachment, settings_words
from .what_if import OptionLine, lines, proposals, variants

router = APIRouter(prefix="/jobs/{job_id}")

# No table is longer than this.
MOST_BYTES = 40_000
Place = Annotated[float, Query(ge=-5000, le=5000)]


@router.get("/mask.png", name="mask")
def mask(
    job_id: str,
    use: Use,
    look: Look,
    layer: Annotated[int, Query(ge=0, le=1_000_000)],
    x: Place = 0.0,
    y: Place = 0.0,
    swing: Annotated[float, Query(ge=-360, le=360)] = 0.0,
) -> Response:
    """The mask of a layer of an item where it stands, cut out round the item."""
    sheet = use.sheet(job_id, look)
    found = _cutout(use, sheet, layer, (x, y, swing))
    screen = Screen.of(sheet.machine)
    box = f"{found.left_px},{found.bottom_px},{found.width_px},{found.height_px}"
    corner = ",".join(f"{v:.6f}" for v in screen.low_mm)
    told = {"X-Window": box, "X-Corner": corner, "X-Pixel": f"{screen.pixel_mm:g}"}
    told["X-Screen"] = f"{screen.width_px},{screen.height_px}"
    return Response(found.png, media_type="image/png", headers={**told, "Cache-Control": "no-cache"})


def _cutout(use: Services, sheet: ItemSheet, layer: int, at: tuple[float, float, float]) -> Cutout:
    if not sheet.is_resin:
        raise BadValue(f"{sheet.machine.name} prints no masks.", "Pick a resin printer.")
    made = {name: use.pages.made(sheet, name) for name in ("layers", "supports", "footing")}
    asked = ItemBinding(sheet).settings(Masking)
    assert isinstance(asked, Masking) and made["layers"] is not None
    held = made["supports"].layers if made["supports"] is not None else None
    printed = PrintedLayers(made["layers"], held, made["footing"])
    plate = PlateLayers([Standing(printed, *at)], outline_of(asked))
    if layer >= len(plate):
        raise BadValue(f"There is no layer {layer + 1}.", f"The last one is {len(plate)}.")
    return cutout(plate.rings(layer), Screen.of(sheet.machine), plate.bounds)


@router.get("/table.csv", name="table_csv")
def table_csv(job_id: str, use: Use, look: Look) -> Response:
    """How layers are made, as CSV: what was typed, or else what is usual."""
    sheet = use.sheet(job_id, look)
    table = sheet.process.table or sheet.rows
    if not table:
        raise BadValue(f"{sheet.machine.name} exposes no layers.", "Pick a resin printer.")
    name = file_name(*settings_words(sheet), "exposures")
    return attachment(as_csv(table).encode(), f"{name}.csv", "text/csv")


@router.post("/table", name="read_table")
async def read_table(request: Request, job_id: str, use: Use, look: Look, file: UploadFile) -> Response:
    """Take how layers are made from a CSV file."""
    data = await file.read(MOST_BYTES + 1)
    if len(data) > MOST_BYTES:
        raise BadValue("This file is too long for a table.", "Sixty rows are the most.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise BadValue("This file is no text.", "Write the table as CSV.") from error
    if not text.strip():
        raise BadValue("The table has no row.", "One row for the body is the least.")
    return await _set(request, use, job_id, look, text)


@router.post("/table/cells", name="table_cells")
async def table_cells(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    cell: Annotated[list[str], Form(min_length=2, max_length=40)],
) -> Response:
    """Take how layers of this thickness are made from the cells of the page.

    They come property by property, each of the first layers, the transition and the body, and then the
    thickness that they are for; a stretch of no layers is none. Rows for other layers stay.
    """
    sheet = await run_in_threadpool(use.sheet, job_id, look)
    *cell, thinnest, thickest = (one.strip().replace(",", ".") for one in cell)
    names = [name for name in COLUMNS[1:] if name not in ("thinnest_mm", "thickest_mm")]
    if len(cell) != len(names) * len(Stretch):
        raise BadValue("Cells of the table are missing.", "Reload the page and try again.")
    lines = [",".join(["stretch", *names, "thinnest_mm", "thickest_mm"])]
    for k, stretch in enumerate(Stretch):
        cells = cell[k :: len(Stretch)]
        if stretch is Stretch.BODY or cells[0] not in ("", "0"):
            lines.append(",".join([stretch.value, *cells, thinnest, thickest]))
    here = from_csv("\n".join(lines))
    shown = {row.is_for for row in sheet.rows}
    others = tuple(row for row in sheet.process.table if row.is_for not in shown)
    return await _set(request, use, job_id, look, as_csv((*others, *here)))


@dataclass(frozen=True, slots=True)
class Board:
    """The board of variants, as far as it is known."""

    lines: list[OptionLine]
    proposals: list[str]

    @property
    def known(self) -> int:
        """How many lines have their figures."""
        return sum(line.seconds is not None for line in self.lines)

    @property
    def done(self) -> bool:
        """All of them have."""
        return self.known == len(self.lines)


@router.get("/what-if", name="what_if")
def what_if(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """What variants of the print would take; they are made in the background, one after the other."""
    job = use.store.job(job_id)
    page = use.pages.job_page(job, look.usually("layers"))
    if page.sheet.is_resin:
        raise BadValue(f"{page.sheet.machine.name} lays no filament.", "Pick a filament printer.")
    use.pages.in_advance(job, [sheet for _, sheet in variants(job.sheet, page.sheet.id)])
    board = lines(job.sheet, page.sheet.id, use.pages.memo)
    context = {"page": page, "board": Board(board, proposals(board))}
    return use.templates.TemplateResponse(request, "layers/what_if.html", context)


async def _set(request: Request, use: Services, job_id: str, look: Look, text: str) -> Response:
    job = await run_in_threadpool(use.apply, job_id, SetTable(csv=text), look)
    return await run_in_threadpool(render, request, use, job, look)

"""Masks of layers, and the table of how layers are made."""

from __future__ import annotations

from typing import Annotated, Literal

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
from ....core.units import number
from ....sheet.changes import SetTable
from ....sheet.models import ItemSheet
from ....sheet.shop import Finished, Habits
from ....work.bind import ItemBinding
from ....work.naming import file_name, settings_words
from ....work.what_if import ABOUT, USUAL, Board, asked_for, board, counted, variants
from ...dependencies import Services, Use, render
from ...looking import Look
from ...words import duration
from ..handoff.routes import attachment
from .settings import KINDS
from .settings import USUAL as USUAL_SETTINGS

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


@router.post("/shown-setting", name="shown_setting")
def shown_setting(
    request: Request, job_id: str, use: Use, look: Look, name: Annotated[str, Query(max_length=60)]
) -> Response:
    """Show a setting of paths in the shop without a search, or no longer."""
    if name not in {kind.name for kind in KINDS}:
        raise BadValue("There is no such setting.", "Reload the page.")
    known = use.store.on_shelf(Habits, "shop") or Habits()
    shown = known.shown_settings or USUAL_SETTINGS
    kept = tuple(one for one in shown if one != name) if name in shown else (*shown, name)
    use.store.shelve(known.model_copy(update={"shown_settings": kept}))
    return render(request, use, use.store.job(job_id), look)


@router.post("/took", name="took")
def took(
    request: Request, job_id: str, use: Use, look: Look, hours: Annotated[str, Form(max_length=20)]
) -> Response:
    """Note how long a print of the item really took: times of the machine are learned from it."""
    job = use.store.job(job_id)
    page = use.pages.job_page(job, look.usually("layers"))
    if page.now.timed is None:
        raise BadValue("The paths are not laid yet.", "Wait for the time they take.")
    ratio = 3600 * number(hours) / page.now.timed.seconds
    if not Finished.believed(ratio):
        raise BadValue(
            f"{hours.strip()[:20]} h is {ratio:.2g} times what was told: that is another print.",
            "Type hours, such as 6.5.",
        )
    known = use.store.on_shelf(Finished, page.sheet.machine.name) or Finished(name=page.sheet.machine.name)
    use.store.shelve(known.with_one(ratio))
    return render(request, use, job, look)


Aim = Annotated[str, Query(max_length=20)]


@router.get("/what-if", name="what_if")
def what_if(
    request: Request,
    job_id: str,
    use: Use,
    look: Look,
    about: Annotated[tuple[str, ...], Query(max_length=len(ABOUT))] = USUAL,
    whole: bool = False,
    sort: Literal["time", "mass", "price"] = "time",
    hours: Aim = "",
    grams: Aim = "",
) -> Response:
    """What variants of the print would take; they are made in the background, one after the other."""
    job = use.store.job(job_id)
    page = use.pages.job_page(job, look.usually("layers"))
    if page.sheet.is_resin:
        raise BadValue(f"{page.sheet.machine.name} lays no filament.", "Pick a filament printer.")
    asked = tuple(name for name in ABOUT if name in about)
    item, memo = page.sheet.id, use.pages.memo
    memo.put(asked_for(job.id), True)
    whole = whole and len(job.sheet.printed) > 1
    each = [counted(other, item, whole=whole) for _, other in variants(job.sheet, item, memo, asked)]
    use.pages.in_advance(job, [sheet for sheets in each for sheet in sheets])
    under_s = 3600 * number(hours) if hours.strip() else None
    under_g = number(grams) if grams.strip() else None
    made = board(job.sheet, item, memo, about=asked, whole=whole, sort=sort, under_s=under_s, under_g=under_g)
    context = {
        "page": page, "board": made, "told": proposals(made), "about": asked, "every": ABOUT, "sort": sort,
        "hours": hours.strip(), "grams": grams.strip(), "items": len(job.sheet.printed),
        "query": str(request.query_params),
    }  # fmt: skip
    return use.templates.TemplateResponse(request, "layers/what_if.html", context)


# Proposals that save less than so much are not worth a word, s and g.
WORTH_S, WORTH_G = 300.0, 1.0


def proposals(made: Board) -> list[str]:
    """What saves most, and what comes under what is aimed at, in a few words."""
    told = []
    if made.done and (made.under_s is not None or made.under_g is not None):
        aims = [duration(made.under_s)] if made.under_s is not None else []
        aims += [f"{made.under_g:g} g"] if made.under_g is not None else []
        names = [line.words for line in made.meeting]
        under = f"under {' and '.join(aims)}"
        told.append(f"{under}: {', '.join(names[:3])}" if names else f"nothing here comes {under}")
    rest = [line for line in made.lines[1:] if not (line.option and line.option.about == "machines")]
    quick = [one for one in rest if one.seconds_more is not None and one.seconds_more < -WORTH_S]
    if quick:
        best = min(quick, key=lambda one: one.seconds_more or 0.0)
        lost = f", {best.lost}" if best.lost else ""
        told.append(f"{best.words} saves {duration(-(best.seconds_more or 0.0))}{lost}")
    light = [one for one in rest if one.mass_more_g is not None and one.mass_more_g < -WORTH_G]
    if light:
        best = min(light, key=lambda one: one.mass_more_g or 0.0)
        lost = f", {best.lost}" if best.lost else ""
        told.append(f"{best.words} saves {-(best.mass_more_g or 0.0):.0f} g{lost}")
    return told


async def _set(request: Request, use: Services, job_id: str, look: Look, text: str) -> Response:
    job = await run_in_threadpool(use.apply, job_id, SetTable(csv=text), look)
    return await run_in_threadpool(render, request, use, job, look)

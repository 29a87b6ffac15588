"""Files that leave, and pictures."""

from __future__ import annotations

import asyncio
import datetime as dt
import io
import zipfile
from collections.abc import Sequence
from typing import Annotated, Any, Literal
from urllib.parse import quote

from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import Response

from ....core.errors import BadValue
from ....core.keys import Keys
from ....core.recipes.values import OnPlates, Package
from ....sheet.models import JobSheet
from ....sheet.shop import Habits
from ....store.archive import write_archive
from ....work.bind import keys_of, plate_keys
from ....work.bind_job import arranged, arranging_keys
from ....work.bind_plates import items_of
from ....work.filling import filled
from ....work.naming import (
    FIELDS,
    PATTERN,
    PLATE_FIELDS,
    check_pattern,
    file_name,
    item_fields,
    named,
    names_of_plates,
    settings_words,
)
from ...dependencies import Services, Use, render
from ...looking import Look
from .plan import plan_of

router = APIRouter(prefix="/jobs/{job_id}")


def attachment(data: bytes, name: str, media: str) -> Response:
    """A file to be kept under a name."""
    return Response(
        data, media_type=media, headers={"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}"}
    )


async def made(use: Services, keys: Keys, name: str) -> Package:
    """A file, made by a worker where it is not there yet."""
    found = use.pages.result(keys[name])
    if found is None:
        await asyncio.wrap_future(use.work.make(keys, name))
        found = use.pages.result(keys[name])
    assert isinstance(found, Package)
    return found


async def _packages(use: Services, every: Sequence[tuple[Keys, str]]) -> list[bytes]:
    """Several files, made beside each other as far as there are processes."""
    packages = await asyncio.gather(*(made(use, keys, name) for keys, name in every))
    return [package.data for package in packages]


def _zipped(files: Sequence[tuple[str, bytes]]) -> bytes:
    """A folder of files. What is in them is packed already, or hardly gets smaller."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as folder:
        for name, data in files:
            # The same files make the same folder, byte for byte.
            folder.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), data)
    return out.getvalue()


@router.get("/picture.png", name="picture")
async def picture(job_id: str, use: Use, look: Look) -> Response:
    """Picture of an item in its stance."""
    keys = keys_of(use.sheet(job_id, look))
    found = use.pages.result(keys["picture"])
    if found is None:
        await asyncio.wrap_future(use.work.make(keys, "picture"))
        found = use.pages.result(keys["picture"])
    return Response(
        found.png if found else b"", media_type="image/png", headers={"Cache-Control": "no-cache"}
    )


@router.get("/handoff.3mf", name="handoff_3mf")
async def handoff_3mf(job_id: str, use: Use, plate: Annotated[int, Query(ge=1)] = 1) -> Response:
    """All that stands on a plate as one 3MF."""
    job = use.store.job(job_id).sheet
    check_plate(job, plate)
    package = await made(use, plate_keys(job, plate - 1), "package")
    return attachment(package.data, f"{plate_names(use, job)[plate - 1]}.3mf", "model/3mf")


@router.get("/masks.zip", name="masks_zip")
async def masks_zip(job_id: str, use: Use, plate: Annotated[int, Query(ge=1)] = 1) -> Response:
    """The masks of a plate, see docs/masks.md."""
    return await _of_layers(use, job_id, plate, "masks", "zip", "application/zip")


@router.get("/slices.3mf", name="slices_3mf")
async def slices_3mf(job_id: str, use: Use, plate: Annotated[int, Query(ge=1)] = 1) -> Response:
    """The layers of a plate as 3MF, after its slice extension."""
    return await _of_layers(use, job_id, plate, "slices", "3mf", "model/3mf")


@router.get("/print.gcode", name="plate_gcode")
async def plate_gcode(job_id: str, use: Use, plate: Annotated[int, Query(ge=1)] = 1) -> Response:
    """The G-code of a plate, read back before it leaves."""
    job = use.store.job(job_id).sheet
    if job.is_resin:
        raise BadValue(f"{job.machine.name} reads no G-code.", "Take its masks, or pick a filament printer.")
    check_plate(job, plate)
    package = await made(use, plate_keys(job, plate - 1), "gcode")
    name = f"{plate_names(use, job)[plate - 1]}.gcode"
    return attachment(package.data, name, "text/plain; charset=utf-8")


async def _of_layers(use: Services, job_id: str, plate: int, what: str, suffix: str, media: str) -> Response:
    job = use.store.job(job_id).sheet
    if not job.is_resin:
        raise BadValue(f"{job.machine.name} prints no masks.", "Pick a resin printer.")
    check_plate(job, plate)
    package = await made(use, plate_keys(job, plate - 1), what)
    return attachment(package.data, f"{plate_names(use, job)[plate - 1]}-{what}.{suffix}", media)


def check_plate(job: JobSheet, plate: int) -> None:
    """Hold the number of a plate, from 1, against the job.

    Raises
    ------
    BadValue
        There is no such plate.
    """
    if not 1 <= plate <= len(job.plates):
        raise BadValue(f"There is no plate {plate}.", f"Pick a plate from 1 to {len(job.plates)}.")


def plate_names(use: Services, job: JobSheet) -> list[str]:
    """Names of the files of all plates, without endings, as the shop has them named."""
    habits = use.store.on_shelf(Habits, "shop") or Habits()
    return names_of_plates(job, habits.plate_names, dt.date.today())


def item_names(use: Services, job: JobSheet, items: Sequence[str], pattern: str = "") -> list[str]:
    """Names of the files of single items, without endings: by a pattern, that of the shop, or as usual."""
    habits = use.store.on_shelf(Habits, "shop") or Habits()
    wanted = pattern.strip() or habits.item_names or PATTERN
    return named(wanted, [item_fields(job, item, dt.date.today()) for item in items])


# What names of files may hold, and where the shop keeps how they are.
_NAMES = {"plates": (PLATE_FIELDS, "plate_names"), "items": (FIELDS, "item_names")}


@router.post("/{what}/names", name="name_files")
def name_files(
    request: Request,
    job_id: str,
    what: Literal["plates", "items"],
    use: Use,
    look: Look,
    pattern: Annotated[str, Form(max_length=120)] = "",
) -> Response:
    """Keep how files of plates or of single items are named, for all jobs; as usual where it is empty."""
    fields, kept = _NAMES[what]
    if pattern.strip():
        check_pattern(pattern, fields)
    habits = use.store.on_shelf(Habits, "shop") or Habits()
    use.store.shelve(habits.model_copy(update={kept: pattern.strip()}))
    return render(request, use, use.store.job(job_id), look.usually("handoff"))


@router.get("/plates.zip", name="plates_zip")
async def plates_zip(job_id: str, use: Use) -> Response:
    """A folder with a 3MF of each plate."""
    job = use.store.job(job_id).sheet
    count = len(job.plates)
    data = await _packages(use, [(plate_keys(job, k), "package") for k in range(count)])
    names = [f"{name}.3mf" for name in plate_names(use, job)]
    folder = await asyncio.to_thread(_zipped, list(zip(names, data, strict=True)))
    return attachment(folder, f"{file_name(*settings_words(job), 'plates')}.zip", "application/zip")


@router.get("/items.zip", name="items_zip")
async def items_zip(
    job_id: str,
    use: Use,
    pattern: Annotated[str, Query(max_length=120)] = "",
    kind: Literal["3mf", "stl"] = "3mf",
) -> Response:
    """A folder with a file of each item as it stands, named by a pattern."""
    job = use.store.job(job_id).sheet
    sheets = [job.on(item.id) for item in job.printed]
    names = item_names(use, job, [sheet.id for sheet in sheets], pattern)
    result = "item_package" if kind == "3mf" else "stl_part"
    data = await _packages(use, [(keys_of(sheet), result) for sheet in sheets])
    files = [(f"{name}.{kind}", one) for name, one in zip(names, data, strict=True)]
    folder = await asyncio.to_thread(_zipped, files)
    return attachment(folder, f"{file_name(job.name, 'items')}.zip", "application/zip")


# So long a tighter arrangement is looked for while one looks on.
TIGHTER_S = 20


@router.post("/plates/arrange", name="arrange_plates")
async def arrange_plates(
    request: Request, job_id: str, use: Use, look: Look, tighter: Annotated[bool, Query()] = False
) -> Response:
    """Lay all that is printed on as many plates as it needs."""
    job = use.store.job(job_id).sheet
    every = arranging_keys(job, TIGHTER_S if tighter else 0)
    found: list[OnPlates] = []
    for keys in every:
        await asyncio.wrap_future(use.work.make(keys, "on_plates"))
        laid = use.pages.result(keys["on_plates"])
        assert isinstance(laid, OnPlates)
        found.append(laid)
    done = await asyncio.to_thread(use.apply, job_id, arranged(job, found), look)
    return await asyncio.to_thread(render, request, use, done, look.usually("handoff"))


@router.post("/plates/fill", name="fill_plate")
async def fill_plate(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Fill the plate of an item with copies of it; what was put there stays."""
    job = use.store.job(job_id).sheet
    change = await filled(job, job.item(look.item).id, lambda asked: _laid(use, asked))
    done = await asyncio.to_thread(use.apply, job_id, change, look)
    return await asyncio.to_thread(render, request, use, done, look.usually("handoff"))


async def _laid(use: Services, job: JobSheet) -> OnPlates:
    """What is laid where, of a job whose plates go to one printer."""
    (keys,) = arranging_keys(job)
    await asyncio.wrap_future(use.work.make(keys, "on_plates"))
    found = use.pages.result(keys["on_plates"])
    assert isinstance(found, OnPlates)
    return found


@router.get("/plates/{plate}/plan.json", name="plate_plan")
async def plate_plan(job_id: str, plate: int, use: Use) -> dict[str, Any]:
    """A plate from above: true outlines of what stands on it, and where."""
    job = use.store.job(job_id).sheet
    check_plate(job, plate)
    keys = plate_keys(job, plate - 1)
    for item in items_of(job, plate - 1):
        await asyncio.wrap_future(use.work.make(keys_of(job.on(item)), "outline"))
    await asyncio.wrap_future(use.work.make(keys, "arranged"))
    return plan_of(job, plate - 1, use.pages.memo)


@router.get("/whole.heron", name="archive")
async def archive(job_id: str, use: Use) -> Response:
    """The whole job in one file, with all its steps: it opens on another machine as it is here."""
    # A job that cannot be read leaves like any other.
    name = await asyncio.to_thread(use.store.title_of, job_id)
    return await asyncio.to_thread(_archived, use, [job_id], file_name(name))


def _archived(use: Services, jobs: list[str] | None, name: str) -> Response:
    out = io.BytesIO()
    write_archive(use.store, out, jobs)
    return attachment(out.getvalue(), f"{name}.heron", "application/zip")


@router.get("/{what}.stl", name="handoff_stl")
async def handoff_stl(
    job_id: str, what: Literal["part", "support", "footing"], use: Use, look: Look
) -> Response:
    """One object of an item as binary STL."""
    sheet = use.sheet(job_id, look)
    keys = keys_of(sheet)
    package = await made(use, keys, f"stl_{what}") if f"stl_{what}" in keys else None
    if package is None or not package.data:
        raise BadValue(f"This job has no {what} to hand off.", "Make it in its section first.")
    habits = use.store.on_shelf(Habits, "shop") or Habits()
    called = file_name(sheet.item_name)
    if habits.item_names:
        (called,) = item_names(use, use.store.job(job_id).sheet, [sheet.id])
    return attachment(package.data, f"{called}-{what}.stl", "model/stl")

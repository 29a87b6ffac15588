"""Files that leave, and pictures."""

from __future__ import annotations

import asyncio
import re
import unicodedata
from typing import Literal
from urllib.parse import quote

from fastapi import APIRouter
from fastapi.responses import Response

from ....core.errors import BadValue
from ....core.keys import Keys
from ....core.recipes.values import Package
from ....sheet.models import JobSheet
from ....work.bind import keys_of, plate_keys
from ...dependencies import Services, Use
from ...looking import Look

router = APIRouter(prefix="/jobs/{job_id}")


def file_name(*words: str) -> str:
    """A plain file name: letters, digits, dots and dashes."""
    text = unicodedata.normalize("NFKD", " ".join(words)).encode("ascii", "ignore").decode()
    return re.sub(r"[^A-Za-z0-9.]+", "-", text).strip("-.")[:120] or "part"


def attachment(data: bytes, name: str, media: str) -> Response:
    """A file to be kept under a name."""
    return Response(
        data, media_type=media, headers={"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name)}"}
    )


def settings_words(sheet: JobSheet) -> list[str]:
    """The name says what a technician looks for: layer, walls, infill, material."""
    words = [sheet.name, f"{sheet.layer_mm:g}mm"]
    if not sheet.is_resin:
        words += [f"{sheet.process.walls}walls", f"{sheet.process.infill_percent:g}pc"]
    return [*words, sheet.material]


async def made(use: Services, keys: Keys, name: str) -> Package:
    """A file, made by a worker where it is not there yet."""
    found = use.pages.result(keys[name])
    if found is None:
        await asyncio.wrap_future(use.work.make(keys, name))
        found = use.pages.result(keys[name])
    assert isinstance(found, Package)
    return found


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
async def handoff_3mf(job_id: str, use: Use) -> Response:
    """All that stands on the plate as one 3MF."""
    job = use.store.job(job_id).sheet
    package = await made(use, plate_keys(job), "package")
    return attachment(package.data, f"{file_name(*settings_words(job))}.3mf", "model/3mf")


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
    return attachment(package.data, f"{file_name(sheet.item_name, what)}.stl", "model/stl")

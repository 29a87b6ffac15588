"""Spools and bottles of the shop."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...core.units import length_mm, number
from ...sheet.shop import Spool, Station
from ...work.kinds import kinds_of_materials
from ...work.spools import (
    forget_spool,
    keep_spool,
    put_on,
    spools_now,
    take_off,
)
from ..dependencies import Use
from .floor import cards

router = APIRouter(prefix="/spools")
Text = Annotated[str, Form(max_length=60)]


@router.get("", name="spools")
def spools(request: Request, use: Use) -> Response:
    """The page."""
    context = {
        "spools": spools_now(use.store, use.floor),
        "materials": kinds_of_materials(use.store).values(),
    }
    return use.templates.TemplateResponse(request, "spools.html", context)


@router.post("", name="keep_spool")
def keep(
    use: Use,
    name: Text,
    material: Text,
    old: Text = "",
    make: Text = "",
    colour: Text = "",
    diameter: Text = "",
    left: Text = "",
) -> Response:
    """Keep a new or an edited one."""
    kind = kinds_of_materials(use.store).get(material)
    if kind is None:
        raise BadValue(f"There is no material “{material[:60]}”.", "Pick one of the list.")
    resin = kind.technology.value == "resin"
    # A new one is full.
    full = kind.bottle_ml * kind.density_g_cm3 if resin else kind.spool_g
    spool = Spool(
        name=name.strip(),
        material=material,
        technology=kind.technology,
        make=make.strip(),
        colour=colour.strip(),
        diameter_mm=length_mm(diameter) if diameter.strip() and not resin else None,
        left_g=number(left) if left.strip() else full,
    )
    keep_spool(use.store, spool, old)
    return RedirectResponse("/spools", 303)


@router.post("/forget", name="forget_spool")
def forget(use: Use, name: Text) -> Response:
    """Take one off the shelf."""
    forget_spool(use.store, name)
    return RedirectResponse("/spools", 303)


@router.post("/on/{station}", name="put_spool_on")
async def on(request: Request, station: str, use: Use, name: Text = "") -> Response:
    """Put one on a machine in place of what was on it; without a name, take off what is on it."""
    found = await run_in_threadpool(use.store.on_shelf, Station, station)
    if found is None:
        raise BadValue(f"There is no machine “{station[:60]}”.", "Pick one of the list.")
    if name:
        await run_in_threadpool(put_on, use.store, use.floor, found, name)
    else:
        await run_in_threadpool(take_off, use.store, use.floor, station)
    return await run_in_threadpool(cards, request, use)

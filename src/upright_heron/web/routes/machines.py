"""The shop's machines page: printers, materials, coupons and what was measured with them."""

from __future__ import annotations

import asyncio
import datetime as dt
import itertools
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...core.machines.catalogue import MATERIALS, PRINTERS, Material, Printer
from ...core.units import length_mm, number
from ...sheet.changes import PickMaterial, PickPrinter
from ...sheet.part import Part
from ...sheet.process import Preset
from ...sheet.shop import Calibration, Habits, OwnMaterial, OwnPrinter, pair_name
from ...store.store import Job
from ...work import worker
from ...work.intake import new_sheet
from ...work.kinds import kinds_of_machines, kinds_of_materials
from ..dependencies import Services, Use

router = APIRouter(prefix="/machines")

Text = Annotated[str, Form(max_length=60)]
COUPONS = {"slopes": "Slope coupon", "bridges": "Bridge coupon", "fits": "Coupon of fits"}


# The shelf that each kind of entry lies on.
KINDS: dict[str, type[OwnPrinter] | type[OwnMaterial]] = {"printers": OwnPrinter, "materials": OwnMaterial}
Kind = Literal["printers", "materials"]


def _all(use: Services, kind: str) -> dict[str, Printer | Material]:
    """All printers or materials by name, the shop's own last."""
    found = kinds_of_machines if kind == "printers" else kinds_of_materials
    return {**found(use.store)}


def _known(use: Services, kind: str, name: str) -> Printer | Material:
    found = _all(use, kind).get(name)
    if found is None:
        raise BadValue(f"There is no “{name[:60]}” among the {kind}.", "Pick one of the list.")
    return found


@router.get("", name="machines")
def machines(request: Request, use: Use) -> Response:
    """The page."""
    context = {
        "printers": PRINTERS,
        "materials": MATERIALS,
        "own_printers": use.store.shelf(OwnPrinter),
        "own_materials": use.store.shelf(OwnMaterial),
        "all_printers": _all(use, "printers").values(),
        "all_materials": _all(use, "materials").values(),
        "measured": use.store.shelf(Calibration),
        "presets": use.store.shelf(Preset),
        "habits": use.store.on_shelf(Habits, "shop") or Habits(),
        "today": dt.date.today().isoformat(),
    }
    return use.templates.TemplateResponse(request, "machines.html", context)


def _back(request: Request, part: str) -> Response:
    return RedirectResponse(f"{request.url_for('machines').path}#{part}", 303)


@router.post("/habits", name="habits")
def habits(
    request: Request, use: Use, at_once: Annotated[bool, Form()], join_minutes: Text = "4"
) -> Response:
    """Choose whether results are made at once or when somebody asks, and what a joint takes by hand."""
    minutes = number(join_minutes)
    if not 0 <= minutes <= 600:
        raise BadValue(f"{minutes:g} minutes a joint cannot be.", "Type minutes from 0 to 600.")
    known = use.store.on_shelf(Habits, "shop") or Habits()
    use.store.shelve(known.model_copy(update={"at_once": at_once, "join_minutes": minutes}))
    return _back(request, "habits")


@router.post("/{kind}/copy", name="copy")
def copy(request: Request, kind: Kind, use: Use, name: Text) -> Response:
    """Copy a printer or material, to edit the copy."""
    source, taken, entry = _known(use, kind, name), _all(use, kind), KINDS[kind]
    free = (f"{name} copy{'' if n == 1 else f' {n}'}" for n in itertools.count(1))
    fields = {field: getattr(source, field) for field in entry.model_fields}
    use.store.shelve(
        entry.model_validate({**fields, "name": next(tried for tried in free if tried not in taken)})
    )
    return _back(request, kind)


@router.post("/{kind}/edit", name="edit")
async def edit(request: Request, kind: Kind, use: Use) -> Response:
    """Keep an edited printer or material of the shop, or take it off the shelf."""
    form = {key: str(value).strip() for key, value in (await request.form()).items()}
    await run_in_threadpool(_edit, use, kind, form)
    return _back(request, kind)


def _edit(use: Services, kind: str, form: dict[str, str]) -> None:
    entry = KINDS[kind]
    old = use.store.on_shelf(entry, form.pop("old", ""))
    if old is None:
        raise BadValue("Only the shop's own can be edited.", "Copy it, and edit the copy.")
    if form.pop("delete", ""):
        use.store.unshelve(entry, old.name)
        return
    changed: dict[str, Any] = {key: value for key, value in form.items() if value}
    if isinstance(old, OwnPrinter):
        changed["build_mm"] = tuple(changed.pop(f"build_{axis}", "") for axis in "xyz")
        changed["spot_mm"] = tuple(changed.pop(f"spot_{axis}", old.spot_mm[i]) for i, axis in enumerate("xy"))
        if "worn" in form:
            changed["worn"] = _worn(form["worn"])
        if "layer_heights_mm" in changed:
            heights = changed["layer_heights_mm"].replace(";", " ").split()
            changed["layer_heights_mm"] = tuple(length_mm(height) for height in heights)
    new = entry.model_validate({**old.model_dump(), **changed})
    if new.name != old.name and new.name in _all(use, kind):
        raise BadValue(f"There is a “{new.name}” already.", "Choose another name.")
    if new.name != old.name:
        use.store.unshelve(entry, old.name)
    use.store.shelve(new)


def _worn(typed: str) -> tuple[tuple[float, ...], ...]:
    """Worn places as they are typed: x, y and radius, apart by semicolons."""
    found = []
    for place in filter(str.strip, typed.split(";")):
        words = place.replace(",", " ").split()
        if len(words) != 3:
            raise BadValue(
                f"“{place.strip()[:40]}” is no worn place.", "Type x, y and radius in mm, such as 20 -35 12."
            )
        found.append(tuple(length_mm(word) for word in words))
    return tuple(found)


@router.post("/coupons/{kind}", name="coupon")
async def make_coupon(
    request: Request, kind: Literal["slopes", "bridges", "fits"], use: Use, printer: Text, material: Text
) -> Response:
    """Make a coupon a job on a printer with a material."""
    part = await asyncio.wrap_future(use.work.ask(worker.coupon, kind))
    job = await run_in_threadpool(_coupon_job, use, part, kind, printer, material)
    return RedirectResponse(request.url_for("job", job_id=job.id).path, 303)


def _coupon_job(use: Services, part: Part, kind: str, printer: str, material: str) -> Job:
    sheet = new_sheet(part, f"{COUPONS[kind]}, {printer}, {material}"[:120])
    pair = {"calibration": use.store.on_shelf(Calibration, pair_name(printer, material))}
    machine = PickPrinter(printer=printer, own=use.store.on_shelf(OwnPrinter, printer), **pair)
    stuff = PickMaterial(material=material, own=use.store.on_shelf(OwnMaterial, material), **pair)
    sheet = stuff.made(machine.made(sheet, ""), "")
    return use.store.create_job(sheet, COUPONS[kind])


@router.post("/presets/forget", name="forget_preset")
def forget_preset(request: Request, use: Use, name: Text) -> Response:
    """Take a preset off the shelf; jobs that took it keep their settings."""
    use.store.unshelve(Preset, name)
    return _back(request, "presets")


@router.post("/measured", name="measured")
async def measured(request: Request, use: Use) -> Response:
    """Keep the last good steps of the coupons; new jobs and newly picked printers use them."""
    form = {key: value for key, value in (await request.form()).items() if value != ""}
    await run_in_threadpool(_measured, use, form)
    return _back(request, "coupons")


def _measured(use: Services, form: dict[str, Any]) -> None:
    if form.pop("delete", ""):
        use.store.unshelve(Calibration, str(form.get("name", "")))
        return
    found = Calibration.model_validate(form)
    _known(use, "printers", found.printer)
    _known(use, "materials", found.material)
    use.store.shelve(found)

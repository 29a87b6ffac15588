"""The shop's machines page: printers, materials, coupons and what was measured with them."""

from __future__ import annotations

import datetime as dt
from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response

from ...core.coupons import coupon
from ...core.errors import BadValue
from ...core.handoff.stl import write_stl
from ...core.machines import MATERIALS, PRINTERS, Material, Printer, material, printer
from ...sheet.changes import PickMaterial, PickPrinter
from ...sheet.shop import Calibration, OwnMaterial, OwnPrinter
from ...work.intake import new_sheet, take_in
from ..dependencies import Services, Use

router = APIRouter(prefix="/machines")

Text = Annotated[str, Form(max_length=60)]
COUPONS = {"slopes": "Slope coupon", "bridges": "Bridge coupon"}


def _printers(use: Services) -> list[Printer]:
    return [*PRINTERS, *(own.core() for own in use.store.shelf(OwnPrinter))]


def _materials(use: Services) -> list[Material]:
    return [*MATERIALS, *(own.core() for own in use.store.shelf(OwnMaterial))]


@router.get("", name="machines")
def machines(request: Request, use: Use) -> Response:
    """The page."""
    context = {
        "printers": PRINTERS,
        "materials": MATERIALS,
        "own_printers": use.store.shelf(OwnPrinter),
        "own_materials": use.store.shelf(OwnMaterial),
        "all_printers": _printers(use),
        "all_materials": _materials(use),
        "measured": use.store.shelf(Calibration),
        "today": dt.date.today().isoformat(),
    }
    return use.templates.TemplateResponse(request, "machines.html", context)


def _back(request: Request, part: str) -> Response:
    return RedirectResponse(f"{request.url_for('machines')}#{part}", 303)


def _free_name(name: str, taken: list[str]) -> str:
    for number in range(1, 1000):
        tried = f"{name} copy" if number == 1 else f"{name} copy {number}"
        if tried not in taken:
            return tried
    raise BadValue(f"There are a thousand copies of {name} already.", "Delete some first.")


@router.post("/printers/copy", name="copy_printer")
def copy_printer(request: Request, use: Use, name: Text) -> Response:
    """Copy a printer, to edit the copy."""
    known = {p.name: p for p in _printers(use)}
    source = known.get(name) or printer(name)
    fields = {field: getattr(source, field) for field in OwnPrinter.model_fields}
    use.store.shelve(OwnPrinter.model_validate({**fields, "name": _free_name(name, list(known))}))
    return _back(request, "printers")


@router.post("/materials/copy", name="copy_material")
def copy_material(request: Request, use: Use, name: Text) -> Response:
    """Copy a material, to edit the copy."""
    known = {m.name: m for m in _materials(use)}
    source = known.get(name) or material(name)
    fields = {field: getattr(source, field) for field in OwnMaterial.model_fields}
    use.store.shelve(OwnMaterial.model_validate({**fields, "name": _free_name(name, list(known))}))
    return _back(request, "materials")


def _renamed(use: Services, entry: type[OwnPrinter] | type[OwnMaterial], old: str, new: str) -> None:
    known = _printers(use) if entry is OwnPrinter else _materials(use)
    if new != old and new in {item.name for item in known}:
        raise BadValue(f"There is a “{new}” already.", "Choose another name.")


@router.post("/printers/edit", name="edit_printer")
async def edit_printer(request: Request, use: Use) -> Response:
    """Keep an edited printer of the shop, or take it off the shelf."""
    form = {key: str(value) for key, value in (await request.form()).items()}
    old = use.store.on_shelf(OwnPrinter, form.pop("old", ""))
    if old is None:
        raise BadValue("This printer is not one of the shop's own.", "Copy it, and edit the copy.")
    if form.pop("delete", ""):
        use.store.unshelve(OwnPrinter, old.name)
        return _back(request, "printers")
    build = [form.pop(f"build_{axis}", "") for axis in "xyz"]
    changed = {key: value.strip() for key, value in form.items() if value.strip()}
    new = OwnPrinter.model_validate({**old.model_dump(), **changed, "build_mm": tuple(build)})
    _renamed(use, OwnPrinter, old.name, new.name)
    _replace(use, old, new)
    return _back(request, "printers")


@router.post("/materials/edit", name="edit_material")
async def edit_material(request: Request, use: Use) -> Response:
    """Keep an edited material of the shop, or take it off the shelf."""
    form = {key: str(value) for key, value in (await request.form()).items()}
    old = use.store.on_shelf(OwnMaterial, form.pop("old", ""))
    if old is None:
        raise BadValue("This material is not one of the shop's own.", "Copy it, and edit the copy.")
    if form.pop("delete", ""):
        use.store.unshelve(OwnMaterial, old.name)
        return _back(request, "materials")
    changed = {key: value.strip() for key, value in form.items() if value.strip()}
    new = OwnMaterial.model_validate({**old.model_dump(), **changed})
    _renamed(use, OwnMaterial, old.name, new.name)
    _replace(use, old, new)
    return _back(request, "materials")


def _replace(use: Services, old: OwnPrinter | OwnMaterial, new: OwnPrinter | OwnMaterial) -> None:
    if old.name != new.name:
        use.store.unshelve(type(old), old.name)
    use.store.shelve(new)


@router.post("/coupons/{kind}", name="coupon")
def make_coupon(request: Request, kind: str, use: Use, printer: Text, material: Text) -> Response:
    """Make a coupon a job on a printer with a material."""
    part = take_in(write_stl(coupon(kind)), f"{kind}-coupon.stl", use.store)
    sheet = new_sheet(part, f"{COUPONS[kind]}, {printer}, {material}"[:120])
    pair = {"calibration": use.store.on_shelf(Calibration, f"{printer}|{material}")}
    sheet = PickPrinter(printer=printer, own=use.store.on_shelf(OwnPrinter, printer), **pair).apply(sheet)
    sheet = PickMaterial(material=material, own=use.store.on_shelf(OwnMaterial, material), **pair).apply(
        sheet
    )
    job = use.store.create_job(sheet, COUPONS[kind])
    return RedirectResponse(request.url_for("job", job_id=job.id), 303)


@router.post("/measured", name="measured")
async def measured(request: Request, use: Use) -> Response:
    """Keep the last good steps of the coupons; new jobs and newly picked printers use them."""
    form: dict[str, Any] = {key: value for key, value in (await request.form()).items() if value != ""}
    if form.pop("delete", ""):
        use.store.unshelve(Calibration, str(form.get("name", "")))
        return _back(request, "coupons")
    found = Calibration.model_validate(form)
    if found.printer not in {p.name for p in _printers(use)}:
        raise BadValue(f"There is no printer “{found.printer}”.", "Pick one of the list.")
    use.store.shelve(found)
    return _back(request, "coupons")

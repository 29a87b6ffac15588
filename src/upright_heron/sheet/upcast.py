"""Documents of earlier schemas, brought up to date one schema after the other. Raw mappings in and out.

Schema 1, which carries no number, knew parts of which one was shown: its fields stood in the sheet itself.
Work by hand belonged to a key of results; supports had the fields of both technologies.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable
from typing import Any

from ..core.errors import BadValue
from ..core.graph import digest_of
from ..core.stance.pose import on_plate
from .models import SCHEMA, ItemSheet, JobSheet
from .process import Preset

Raw = dict[str, Any]
# Size (x, y, z) of a surface, by its digest, in a turn.
SizeOf = Callable[[str, Any], tuple[float, float, float]]

# As they were in schema 1: (build volume, favourite spot) and technology, by the name of the printer.
_PRINTERS_1 = {
    "Sedge 300": ("filament", [300.0, 300.0, 340.0]),
    "Reed 180": ("filament", [180.0, 180.0, 180.0]),
    "Tarn 9": ("resin", [198.0, 123.0, 210.0]),
    "Mere 13": ("resin", [293.0, 165.0, 300.0]),
}
_ITEM_1 = (
    "part", "came", "mended", "mending", "moved_mm", "size", "grid", "stance", "show", "load", "goals",
    "supports", "hand", "variants", "footing", "accepted", "marks", "channel_mm",
)  # fmt: skip
_RESIN_1 = ("spacing_mm", "clearance_mm", "tip_mm")
# Layer heights that a lift may have been rounded to when work was done by hand.
_HEIGHTS_1 = (0.2, 0.3, 0.15, 0.1, 0.25, 0.05, 0.025, 0.35, 0.4, 0.12, 0.16, 0.24, 0.28)
# Before the identity of a stance in work by hand: it is still what schema 1 called it.
OLD = "v1:"


def read_sheet(text: str, size_of: SizeOf | None = None) -> JobSheet:
    """Read a sheet of any schema.

    Parameters
    ----------
    text : str
        JSON.
    size_of : callable, optional
        Tells sizes of surfaces, for work by hand on a printer with a favourite spot (schema 1).

    Returns
    -------
    JobSheet

    Raises
    ------
    BadValue
        It was written by a later version of the program.
    """
    raw = json.loads(text)
    schema = raw.get("schema_version", 1)
    if schema > SCHEMA:
        raise BadValue(
            "This job was written by a later version of the program.",
            "Update the program, and open it again.",
        )
    for number in range(schema, SCHEMA):
        raw = UPCASTERS[number](raw, size_of)
    return JobSheet.model_validate(raw)


def read_preset(text: str) -> Preset:
    """Read a preset of any schema."""
    return Preset.model_validate(_preset_2(_preset_1(json.loads(text))))


def _to_2(raw: Raw, size_of: SizeOf | None) -> Raw:
    own = raw.get("own_printer")
    technology, build = _PRINTERS_1.get(raw.get("printer", "Sedge 300"), ("filament", [300.0, 300.0, 340.0]))
    spot = [0.0, 0.0]
    if own is not None:
        technology, build, spot = own["technology"], own["build_mm"], own.get("spot_mm", spot)
    shown = {name: raw[name] for name in _ITEM_1 if name in raw}
    others = list(raw.get("others", ()))
    at = min(raw.get("at", 0), len(others))
    items: list[Raw] = []
    taken: set[str] = set()
    for old in [*others[:at], shown, *others[at:]]:
        stem = (old.get("came") or old["part"])["mesh"][:8]
        name = next(n for n in _names(stem) if n not in taken)
        taken.add(name)
        items.append(_item_1(old, name, technology, raw.get("layer_mm", 0.2), (build, spot), size_of))
    gone = {*_ITEM_1, "others", "at"}
    sheet = {name: value for name, value in raw.items() if name not in gone}
    if sheet.get("preset"):
        sheet["preset"] = _preset_1(sheet["preset"])
    plate = {"instances": [{"item": item["id"]} for item in items]}
    return {**sheet, "schema_version": 2, "items": items, "plates": [plate]}


def _names(stem: str) -> Iterable[str]:
    yield stem
    number = 1
    while True:
        number += 1
        yield f"{stem}-{number}"


def _item_1(
    old: Raw,
    name: str,
    technology: str,
    layer_mm: float,
    plate: tuple[list[float], list[float]],
    size_of: SizeOf | None,
) -> Raw:
    item = {**old, "id": name}
    for part in ("part", "came", "mended"):
        if item.get(part):
            item[part] = _part_1(item[part])
    if item.get("supports"):
        item["supports"] = _supports_1(item["supports"], technology)
    if item.get("hand"):
        item["hand"] = _hand_1(item["hand"], item, layer_mm, plate, size_of)
    item["variants"] = [
        {
            **kept,
            "supports": _supports_1(kept["supports"], technology),
            "hand": _hand_1(kept.get("hand", {}), item, layer_mm, plate, size_of),
        }
        for kept in item.get("variants", ())
    ]
    return item


def _part_1(old: Raw) -> Raw:
    """Why a surface is open stood among the notes, told by how it began."""
    notes = list(old.get("notes", ()))
    opened = [note for note in notes if note.startswith("The surface is not closed")]
    return {**old, "notes": [n for n in notes if n not in opened], "opened": opened[0] if opened else ""}


def _supports_1(old: Raw, technology: str) -> Raw:
    if "kind" in old:
        return old
    if technology == "resin":
        return {"kind": "resin", **{name: old[name] for name in _RESIN_1 if name in old}}
    return {"kind": "filament", **{name: value for name, value in old.items() if name != "tip_mm"}}


def _preset_1(old: Raw) -> Raw:
    if not old.get("supports"):
        return old
    return {**old, "supports": _supports_1(old["supports"], old["technology"])}


def _hand_1(
    hand: Raw, item: Raw, layer_mm: float, plate: tuple[list[float], list[float]], size_of: SizeOf | None
) -> Raw:
    known = hand.get("of", "")
    if not known:
        return hand
    mesh, stance = item["part"]["mesh"], item.get("stance", {})
    quaternion, lift = stance.get("quaternion", [1.0, 0.0, 0.0, 0.0]), stance.get("lift_mm", 0.0)
    build, spot = plate
    heights = (layer_mm, *_HEIGHTS_1)
    if all(_stance_1(mesh, quaternion, lift, height, build, spot) != known for height in heights):
        return {**hand, "of": OLD + known}
    turn = tuple(float(v) for v in quaternion)
    same = {**hand, "of": digest_of(("stance", mesh, turn, float(lift)))}
    if not any(spot) or size_of is None:
        return same
    x, y = on_plate(size_of(mesh, turn), build, (spot[0], spot[1]))
    removed = [
        {**gone, "at_mm": [gone["at_mm"][0] - x, gone["at_mm"][1] - y, gone["at_mm"][2]]}
        for gone in hand.get("removed", ())
    ]
    return {**same, "origin_mm": [x, y], "removed": removed}


def _stance_1(mesh: str, quaternion: Any, lift_mm: float, layer_mm: float, build: Any, spot: Any) -> str:
    """What schema 1 called a stance: the key of a result of its own, at version 2."""
    lift = round(lift_mm / layer_mm) * layer_mm
    about = [list(spot), list(build)] if any(spot) else []
    text = json.dumps(["placed", 2, mesh, list(quaternion), lift, *about], sort_keys=True)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def is_of(stance: str, sheet: ItemSheet) -> bool:
    """Whether work by hand that belongs to a stance belongs to the one of a sheet."""
    if not stance.startswith(OLD):
        return stance == sheet.stance_id
    machine, q, lift = sheet.machine, sheet.stance.quaternion, sheet.stance.lift_mm
    about = (machine.build_mm, machine.spot_mm)
    return any(
        _stance_1(sheet.part.mesh, q, lift, height, *about) == stance.removeprefix(OLD)
        for height in (sheet.layer_mm, *_HEIGHTS_1)
    )


# Limits of materials in schema 2, and what printers added to them.
_LIMITS_2 = {
    "PLA": 52.0, "PETG": 50.0, "ABS": 47.0, "ASA": 47.0, "TPU": 45.0, "PA": 45.0, "Standard resin": 60.0,
    "Tough resin": 58.0, "Castable resin": 55.0,
}  # fmt: skip
_ADDED_2 = {"Sedge 300": 2.0}


def _to_3(raw: Raw, size_of: SizeOf | None) -> Raw:
    """A limit that nobody measured came from a table; trees had five numbers for how thick they are."""
    sheet = {**raw, "schema_version": 3, "items": [_item_2(item) for item in raw["items"]]}
    if sheet.get("preset"):
        sheet["preset"] = _preset_2(sheet["preset"])
    printer, material = raw.get("printer", "Sedge 300"), raw.get("material", "PLA")
    known = raw.get("calibration")
    measured = known is not None and (known["printer"], known["material"]) == (printer, material)
    if raw.get("limit_deg") is None and not measured:
        stuff, machine = raw.get("own_material"), raw.get("own_printer")
        limit = stuff["limit_deg"] if stuff else _LIMITS_2.get(material, 45.0)
        added = machine.get("limit_bonus_deg", 0.0) if machine else _ADDED_2.get(printer, 0.0)
        # What the job was worked out with stays.
        sheet["limit_deg"] = limit + added
    return sheet


def _item_2(item: Raw) -> Raw:
    kept = [{**one, "supports": _supports_2(one["supports"])} for one in item.get("variants", ())]
    found = {**item, "variants": kept}
    if item.get("supports"):
        found["supports"] = _supports_2(item["supports"])
    return found


def _preset_2(old: Raw) -> Raw:
    return {**old, "supports": _supports_2(old["supports"])} if old.get("supports") else old


_THICKNESS_2 = ("branch_mm", "trunk_mm", "taper_mm", "walls", "fill_percent")


def _supports_2(old: Raw) -> Raw:
    """One sturdiness stands for them: that of the tips, which what is held is sorted by."""
    if old.get("kind") != "filament":
        return old
    found = {name: value for name, value in old.items() if name not in _THICKNESS_2}
    if "branch_mm" in old and "sturdiness" not in old:
        found["sturdiness"] = min(max(100.0 * old["branch_mm"] / 1.2, 50.0), 400.0)
    return found


UPCASTERS: dict[int, Callable[[Raw, SizeOf | None], Raw]] = {1: _to_2, 2: _to_3}

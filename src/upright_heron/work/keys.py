"""Keys of all that can be computed from a job sheet.

A key is the digest of the name of a result, the version of its recipe, and everything that goes into it.
Raise the version of a recipe whenever it gives other figures for the same input.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict

from ..core.footing.footing import FootingKind
from ..core.split.grid import box_for
from ..sheet.models import HandWork, JobSheet, Variant

# What the page of a job shows; ``keys`` has the order in which it is made.
NAMES = (
    "placed", "picture", "findings", "hangs", "marked", "figures", "supports", "holding", "footing", "split",
    "access", "resting", "health", "channels", "search",
)  # fmt: skip
VERSIONS = {
    "placed": 2,
    "picture": 1,
    "layers": 1,
    "walked": 2,
    "findings": 2,
    "hangs": 4,
    "holding": 1,
    "marked": 1,
    "figures": 1,
    "search": 2,
    "first": 2,
    "demand": 4,
    "cleared": 1,
    "grown": 4,
    "supports": 12,
    "access": 2,
    "footing": 1,
    "split": 1,
    "resting": 1,
    "handoff": 2,
    "health": 2,
    "gaps": 1,
    "channels": 1,
}


# Sheets never change, and one request asks for the keys of one sheet many times. Threads share this list:
# it is read as a whole and written as a whole.
_recent: list[tuple[JobSheet, dict[str, str]]] = []
RECENT = 8


def _key(name: str, *inputs: object) -> str:
    text = json.dumps([name, VERSIONS[name], *inputs], sort_keys=True)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def keys(sheet: JobSheet) -> dict[str, str]:
    """Keys of all results that a sheet asks for, by name, in the order they are made.

    They are those of the part that is shown, but for the hand-off, which is of all parts together.
    """
    for known, its in tuple(_recent):
        if known is sheet:
            return dict(its)
    found = _own_keys(sheet)
    each = [_own_keys(one) for one in sheet.each] if sheet.others else [found]
    names = ("placed", "supports", "footing")
    marks = [part.marks.digest if part.marks else "" for part in sheet.parts]
    second = [
        (part.supports.second, part.supports.second_material) if part.supports else () for part in sheet.parts
    ]
    found["handoff"] = _key(
        "handoff", sheet.name, [[k.get(name) for name in names] for k in each], marks, second, sheet.material
    )
    _recent[:] = [(sheet, found), *_recent[: RECENT - 1]]
    return dict(found)


def _own_keys(sheet: JobSheet) -> dict[str, str]:
    mesh, stance = sheet.part.mesh, sheet.stance.quaternion
    machine = sheet.machine
    # The plate counts only where the part does not simply stand in its middle.
    spot = (machine.spot_mm, machine.build_mm) if any(machine.spot_mm) else ()
    placed = _key("placed", mesh, stance, sheet.lift_mm, *spot)
    layers = _key("layers", placed, sheet.layer_mm)
    walked = _key("walked", layers, sheet.spot_mm, sheet.is_resin, sheet.step_factor)
    findings = _key("findings", walked, sheet.limit)
    found = {
        "placed": placed,
        "picture": _key("picture", mesh, stance),
        "layers": layers,
        "walked": walked,
        "findings": findings,
    }
    found["hangs"] = _key("hangs", placed, sheet.limit)
    setting = asdict(sheet.setting())
    shown = sheet.marks.show if sheet.marks else ""
    found["figures"] = _key("figures", layers, setting, shown)
    demand = sheet.marks.demand if sheet.marks else ""
    if demand:
        found["marked"] = _key("marked", found["hangs"], layers, demand)
    if sheet.supports is not None:
        if sheet.is_resin:
            found["supports"] = _key(
                "supports", layers, sheet.limit, sheet.supports.model_dump(mode="json"), demand,
                found["hangs"], walked,
            )  # fmt: skip
        else:
            found |= _held_keys(sheet, found, demand)
        found["holding"] = _key("holding", findings, found["hangs"], found["supports"])
    if sheet.footing.kind is not FootingKind.NONE:
        settings = sheet.footing_settings()
        found["footing"] = _key(
            "footing", layers, found.get("supports"), settings.kind, settings.lines, settings.line_width_mm,
            settings.margin_mm, settings.raft_layers, settings.gap_mm,
        )  # fmt: skip
    if sheet.grid is not None:
        found["split"] = _key("split", mesh, box_for(sheet.machine.build_mm, sheet.grid.margin_mm))
    found["resting"] = _key("resting", mesh, sheet.limit)
    found["health"] = _key("health", mesh, sheet.thinnest_mm)
    found["gaps"] = _key("gaps", mesh)
    if sheet.channel_mm is not None:
        found["channels"] = _key("channels", mesh, sheet.channel_mm)
    if sheet.goals is not None:
        # Last, for it takes longest. Where the load points is told of every stance, but none is chosen by it.
        asked = (mesh, {**setting, "load": None}, sheet.goals.model_dump(), shown)
        found["search"], found["first"] = _key("search", *asked), _key("first", *asked)
    return found


def _held_keys(sheet: JobSheet, found: dict[str, str], marked: str) -> dict[str, str]:
    """Keys of filament supports: what must be held, what is made for it, and what hands made of that."""
    assert sheet.supports is not None
    asked = sheet.supports.model_dump(mode="json")
    tool = asked.pop("tool_mm")
    for name in ("second", "second_material"):
        asked.pop(name)  # of what it is printed changes no shape
    about = {name: asked.pop(name) for name in ("hold", "smallest_mm2", "steady", "steady_at")}
    own: dict[str, str] = {}
    own["demand"] = _key(
        "demand", found["layers"], found["hangs"], found["walked"], sheet.limit, about, sheet.bridge_mm,
        marked, sorted(sheet.accepted), sheet.supports.spacing_mm, sheet.supports.branch_mm,
        # Steadying posts touch the side where a way leads down.
        sheet.supports.clearance_mm, sheet.supports.branch_deg, sheet.supports.from_plate,
    )  # fmt: skip
    if marked:
        own["cleared"] = _key("cleared", found["layers"], marked)
    shown = sheet.marks.show if sheet.marks else ""
    growing = _key(
        "grown", own["demand"], asked, sheet.machine.line_width_mm, own.get("cleared"), sheet.show, shown
    )
    hand = hand_of(sheet, found["placed"])
    around = hand.around if hand.made_for == growing else hand.kept
    own["growing"] = growing
    own["grown"] = _key("grown", growing, around)
    removed = [gone.model_dump(mode="json") for gone in hand.removed]
    own["supports"] = _key("supports", own["grown"], hand.kept, removed)
    own["access"] = _key("access", own["supports"], tool, sheet.show, shown)
    return own


def hand_of(sheet: JobSheet, placed: str | None = None) -> HandWork:
    """The work by hand that belongs to the stance of a sheet; none where it belongs to another."""
    stance = placed or keys(sheet)["placed"]
    return sheet.hand if sheet.hand.of == stance else HandWork(of=stance)


def as_variant(sheet: JobSheet, kept: Variant) -> JobSheet:
    """The sheet as if a variant of its supports were taken."""
    return sheet.model_copy(
        update={"supports": kept.supports, "hand": kept.hand, "limit_deg": kept.limit_deg, "variants": ()}
    )


def looked_at(sheet: JobSheet) -> list[JobSheet]:
    """All sheets that a job shows figures of: the part that is shown, the others, and the variants."""
    others = [other for other in sheet.each if other.at != sheet.at]
    return [sheet, *others, *(as_variant(sheet, kept) for kept in sheet.variants)]


def wanted(sheet: JobSheet) -> list[tuple[str, str]]:
    """Names and keys that the page of a job shows; the others are made when they are asked for."""
    return [(name, key) for name, key in keys(sheet).items() if name in NAMES or name == "layers"]

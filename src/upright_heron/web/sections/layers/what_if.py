"""A board of variants: what a print would take with other settings, or on another machine."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from ....core.errors import BadValue
from ....core.machines.catalogue import PRINTERS, Technology
from ....core.toolpaths.patterns import Pattern
from ....core.toolpaths.timing import Timed
from ....sheet.changes import CHANGES
from ....sheet.models import ItemSheet, JobSheet
from ....work.bind import keys_of
from ....work.known import Known, Memo
from ...words import duration

# Proposals that save less than so much are not worth a word, s and g.
WORTH_S, WORTH_G = 300.0, 1.0
# Patterns that are tried beside the one of now.
TRIED = (Pattern.LINES, Pattern.GYROID, Pattern.TRIANGLES)


@dataclass(frozen=True, slots=True)
class Option:
    """A variant: what it is called, and the change that takes it."""

    words: str
    change: dict[str, Any]


@dataclass(frozen=True, slots=True)
class OptionLine:
    """A line of the board; figures that are still being made are ``None``.

    Attributes
    ----------
    words : str
    kind : str
        Of the change that takes it; empty for what is now.
    fields : dict of str to str
        What the change is given.
    seconds, mass_g, cost, metres, price : float or None
        The price only where anything is charged.
    seconds_more, mass_more_g : float or None
        Against now.
    slowest : str
        What takes most of the time.
    cusp_mm : float
        How high the steps of a slope of 45 degrees stand out.
    wall_mm : float
        How strong walls are: their thickness.
    """

    words: str
    kind: str
    fields: dict[str, str]
    seconds: float | None
    mass_g: float | None
    cost: float | None
    metres: float | None
    price: float | None
    seconds_more: float | None
    mass_more_g: float | None
    slowest: str
    cusp_mm: float
    wall_mm: float


def options(sheet: ItemSheet) -> Iterator[Option]:
    """Variants of a print of filament that are worth a look."""
    process, machine = sheet.process, sheet.machine
    for height in machine.layer_heights_mm:
        if abs(height - sheet.layer_mm) > 1e-9:
            yield Option(f"layers of {height:g} mm", {"kind": "layer", "layer_mm": height})
    for walls in (process.walls - 1, process.walls + 1):
        if walls >= 1:
            words = f"{walls} wall{'' if walls == 1 else 's'}"
            yield Option(words, {"kind": "process", "walls": walls})
    for pattern in TRIED:
        if pattern is not process.pattern:
            yield Option(f"infill of {pattern.value}", {"kind": "process", "pattern": pattern.value})
    for percent in (10.0, 30.0):
        if abs(percent - process.infill_percent) > 1e-9:
            yield Option(f"{percent:g} % infill", {"kind": "process", "infill_percent": percent})
    if sheet.supports is not None:
        yield Option("without supports", {"kind": "no-supports"})
    for other in PRINTERS:
        if other.technology is Technology.FILAMENT and other.name != machine.name:
            yield Option(f"on {other.name}", {"kind": "printer", "printer": other.name})


def changed(job: JobSheet, item: str, option: Option) -> JobSheet | None:
    """The job as if a variant were taken; ``None`` where that cannot be."""
    try:
        return CHANGES.validate_python(option.change).made(job, item)
    except (BadValue, ValidationError):
        return None


def variants(job: JobSheet, item: str) -> list[tuple[Option | None, ItemSheet]]:
    """The item as it is now, and with each variant."""
    found: list[tuple[Option | None, ItemSheet]] = [(None, job.on(item))]
    for option in options(job.on(item)):
        other = changed(job, item, option)
        if other is not None:
            found.append((option, other.on(item)))
    return found


def lines(job: JobSheet, item: str, memo: Memo) -> list[OptionLine]:
    """Lines of the board, as far as their figures are known; the quickest first behind what is now."""
    known = [(option, sheet, _timed(sheet, memo)) for option, sheet in variants(job, item)]
    now = known[0][2]
    mass_now = now.mass_g(known[0][1].stuff.density_g_cm3) if now is not None else 0.0
    found = []
    for option, sheet, told in known:
        mass = told.mass_g(sheet.stuff.density_g_cm3) if told is not None else None
        both = told is not None and now is not None and option is not None
        moves = [row for row in told.by_kind if row[0] != "warming up"] if told is not None else []
        found.append(
            OptionLine(
                words=option.words if option is not None else "now",
                kind=str(option.change["kind"]) if option is not None else "",
                fields={k: str(v) for k, v in option.change.items() if k != "kind"} if option else {},
                seconds=told.seconds if told is not None else None,
                mass_g=mass,
                cost=mass / 1000.0 * sheet.stuff.price_per_kg if mass is not None else None,
                metres=told.metres(sheet.stuff.diameter_mm) if told is not None else None,
                price=sheet.process.price.of(mass, told.seconds)
                if told is not None and mass is not None and sheet.process.price.charges
                else None,
                seconds_more=told.seconds - now.seconds if both and told and now else None,
                mass_more_g=mass - mass_now if both and mass is not None and now else None,
                slowest=max(moves, key=lambda row: row[1])[0] if moves else "",
                # The step of a slope leans out by h cos(a) at an angle a from level.
                cusp_mm=sheet.layer_mm * 0.5**0.5,
                wall_mm=sheet.process.walls * sheet.machine.line_width_mm,
            )
        )
    return [found[0], *sorted(found[1:], key=lambda one: (one.seconds is None, one.seconds or 0.0))]


def _timed(sheet: ItemSheet, memo: Memo) -> Timed | None:
    found: Timed | None = Known(keys_of(sheet), memo).get("timed")
    return found


def proposals(board: list[OptionLine]) -> list[str]:
    """What saves most, in a few words."""
    told = []
    quick = [one for one in board[1:] if one.seconds_more is not None and one.seconds_more < -WORTH_S]
    if quick:
        best = min(quick, key=lambda one: one.seconds_more or 0.0)
        told.append(f"{best.words} saves {duration(-(best.seconds_more or 0.0))}")
    light = [one for one in board[1:] if one.mass_more_g is not None and one.mass_more_g < -WORTH_G]
    if light:
        best = min(light, key=lambda one: one.mass_more_g or 0.0)
        told.append(f"{best.words} saves {-(best.mass_more_g or 0.0):.0f} g")
    return told

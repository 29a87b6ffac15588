"""A board of variants: what a print would take with other settings, supports, footing, stance or machine."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

from pydantic import ValidationError

from ..core.errors import BadValue
from ..core.footing.footing import FootingKind
from ..core.machines.catalogue import PRINTERS, Technology
from ..core.stance.pose import to_quaternion
from ..core.supports.demand.patches import Style
from ..core.toolpaths.bill import Bill, bill
from ..core.toolpaths.patterns import Pattern
from ..core.toolpaths.timing import Timed
from ..sheet.changes import CHANGES
from ..sheet.models import ItemSheet, JobSheet
from .bind import keys_of
from .bind_paths import spools_of
from .known import Known, Memo

# Patterns and densities that are tried beside what is set now, and how many of the proposed stances.
TRIED = (Pattern.LINES, Pattern.GYROID, Pattern.TRIANGLES)
DENSITIES = (10.0, 30.0)
STANCES = 2
# A line of G-code with the usual settings, bytes: the mean over the demo's parts.
LINE_BYTES = 30.0


@dataclass(frozen=True, slots=True)
class Option:
    """A variant: what it is called, what it is about, and the change that takes it."""

    words: str
    about: str
    change: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Figures:
    """What a print takes: of an item, or of all items of a job together.

    Attributes
    ----------
    seconds : float
    mass_g, metres, cost : float
    price : float or None
        Where anything is charged.
    by_kind : dict of str to float
        Seconds of each kind of path.
    file_bytes : float
        About the size of the G-code.
    """

    seconds: float
    mass_g: float
    metres: float
    cost: float
    price: float | None
    by_kind: dict[str, float]
    file_bytes: float


@dataclass(frozen=True, slots=True)
class OptionLine:
    """A line of the board.

    Attributes
    ----------
    option : Option or None
        ``None`` for what is now.
    figures : Figures or None
        ``None`` while they are made.
    seconds_more, mass_more_g, price_more : float or None
        Against now.
    cusp_mm : float
        How high the steps of a slope of 45 degrees stand out.
    wall_mm : float
        How strong walls are: their thickness.
    lost : str
        What is wrong with it, such as islands that nothing holds.
    """

    option: Option | None
    figures: Figures | None
    seconds_more: float | None = None
    mass_more_g: float | None = None
    price_more: float | None = None
    cusp_mm: float = 0.0
    wall_mm: float = 0.0
    lost: str = ""

    @property
    def words(self) -> str:
        """What it is called."""
        return self.option.words if self.option is not None else "now"

    @property
    def kind(self) -> str:
        """Of the change that takes it; empty for what is now."""
        return str(self.option.change["kind"]) if self.option is not None else ""

    @property
    def fields(self) -> dict[str, str]:
        """What the change is given."""
        change = self.option.change if self.option is not None else {}
        return {name: _said(value) for name, value in change.items() if name != "kind"}

    @property
    def slowest(self) -> str:
        """What takes most of the time."""
        moves = {k: v for k, v in (self.figures.by_kind if self.figures else {}).items() if k != "warming up"}
        return max(moves, key=lambda name: moves[name]) if moves else ""


def _said(value: object) -> str:
    return json.dumps(value) if isinstance(value, (list, tuple, bool)) else str(value)


def asked_for(job: str) -> str:
    """Under what it is remembered that somebody looked at the board of a job."""
    return f"what if {job}"


def cusp_mm(layer_mm: float) -> float:
    """How far layers stand out on a slope of 45 degrees, mm: h cos(a) at an angle a from level."""
    return layer_mm * math.sqrt(0.5)


@dataclass(frozen=True)
class Board:
    """Variants side by side.

    Attributes
    ----------
    lines : list of OptionLine
        What is now first, and then as they are sorted.
    whole : bool
        Figures are of all items of the job together.
    """

    lines: list[OptionLine]
    whole: bool = False
    under_s: float | None = None
    under_g: float | None = None
    meeting: list[OptionLine] = field(default_factory=list)

    @property
    def known(self) -> int:
        """How many lines have their figures."""
        return sum(line.figures is not None for line in self.lines)

    @property
    def done(self) -> bool:
        """All of them have."""
        return self.known == len(self.lines)


def _of_layers(sheet: ItemSheet) -> Iterator[Option]:
    for height in sheet.machine.layer_heights_mm:
        if abs(height - sheet.layer_mm) > 1e-9:
            yield Option(f"layers of {height:g} mm", "layers", {"kind": "layer", "layer_mm": height})


def _of_process(sheet: ItemSheet) -> Iterator[Option]:
    process = sheet.process
    for walls in (process.walls - 1, process.walls + 1):
        if walls >= 1:
            words = f"{walls} wall{'' if walls == 1 else 's'}"
            yield Option(words, "walls", {"kind": "process", "walls": walls})
    for pattern in TRIED:
        if pattern is not process.pattern:
            change = {"kind": "process", "pattern": pattern.value}
            yield Option(f"infill of {pattern.value}", "infill", change)
    for percent in DENSITIES:
        if abs(percent - process.infill_percent) > 1e-9:
            dense: dict[str, Any] = {"kind": "process", "infill_percent": percent}
            yield Option(f"{percent:g} % infill", "infill", dense)
    for name, words in (("inside_ways", "straight ways"), ("slow_steep", "no slowing on steep places")):
        if getattr(process, name):
            switched: dict[str, Any] = {"kind": "process", name: False}
            yield Option(words, "speed", switched)


def _of_supports(sheet: ItemSheet) -> Iterator[Option]:
    if sheet.filament is not None:
        yield Option("without supports", "supports", {"kind": "no-supports"})
    now = sheet.filament.style if sheet.filament is not None else None
    for style in Style:
        if style is not Style.NONE and (sheet.filament is None or style is not now):
            change = {"kind": "style", "style": style.value}
            yield Option(f"supports: {style.words}", "styles", change)


def _of_footing(sheet: ItemSheet) -> Iterator[Option]:
    for kind in (FootingKind.NONE, FootingKind.SKIRT, FootingKind.BRIM, FootingKind.RAFT):
        if kind is not sheet.footing.kind:
            words = "no footing" if kind is FootingKind.NONE else f"on a {kind.value}"
            change: dict[str, Any] = {"kind": "footing", "footing": kind.value}
            change |= {"lines": 2} if kind is FootingKind.SKIRT else {}
            yield Option(words if kind is not FootingKind.SKIRT else "a skirt", "footing", change)


def _of_stance(sheet: ItemSheet, memo: Memo) -> Iterator[Option]:
    found = Known(keys_of(sheet), memo).get("search")
    tried = 0
    for one in found.proposals if found is not None else ():
        quaternion = to_quaternion(one.rotation)
        same = abs(sum(a * b for a, b in zip(quaternion, sheet.stance.quaternion, strict=True))) > 1 - 1e-6
        if same or not one.fits or tried == STANCES:
            continue
        tried += 1
        change = {"kind": "stance", "quaternion": quaternion, "name": one.name}
        yield Option(f"stance: {one.name}", "stance", change)


def _of_machines(sheet: ItemSheet) -> Iterator[Option]:
    # What goes to a printer of its own is not moved by picking another one for the job.
    for other in PRINTERS if sheet.elsewhere is None else ():
        if other.technology is Technology.FILAMENT and other.name != sheet.machine.name:
            yield Option(f"on {other.name}", "machines", {"kind": "printer", "printer": other.name})


# What variants may be about; the first are worth a look in any job.
ABOUT = ("layers", "walls", "infill", "speed", "supports", "styles", "footing", "stance", "machines")
USUAL = ("layers", "walls", "infill", "supports", "machines")


def options(sheet: ItemSheet, memo: Memo, about: tuple[str, ...] = USUAL) -> list[Option]:
    """Variants of a print of filament that are worth a look, of what they are asked to be about."""
    every = [
        *_of_layers(sheet),
        *_of_process(sheet),
        *_of_supports(sheet),
        *_of_footing(sheet),
        *_of_stance(sheet, memo),
        *_of_machines(sheet),
    ]
    return [option for option in every if option.about in about]


def changed(job: JobSheet, item: str, option: Option) -> JobSheet | None:
    """The job as if a variant were taken; ``None`` where that cannot be."""
    try:
        return CHANGES.validate_python(option.change).made(job, item)
    except (BadValue, ValidationError):
        return None


def variants(
    job: JobSheet, item: str, memo: Memo, about: tuple[str, ...] = USUAL
) -> list[tuple[Option | None, JobSheet]]:
    """The job as it is now, and with each variant."""
    found: list[tuple[Option | None, JobSheet]] = [(None, job)]
    for option in options(job.on(item), memo, about):
        other = changed(job, item, option)
        if other is not None:
            found.append((option, other))
    return found


def counted(job: JobSheet, item: str, *, whole: bool) -> list[ItemSheet]:
    """Sheets of what figures are of: an item, or all that the job prints."""
    return [job.on(one.id) for one in job.printed] if whole else [job.on(item)]


def taken(told: Timed, sheet: ItemSheet) -> Bill:
    """Filament that a print of an item takes."""
    return bill(told, *spools_of(sheet))


def figures(sheets: list[ItemSheet], memo: Memo) -> Figures | None:
    """What items take together; ``None`` while any of it is unknown."""
    each = [(sheet, _timed(sheet, memo)) for sheet in sheets]
    by_kind: dict[str, float] = {}
    seconds = mass = metres = cost = lines = 0.0
    price: float | None = None
    for sheet, told in each:
        if told is None:
            return None
        paid = taken(told, sheet)
        seconds += told.seconds
        mass, metres, cost = mass + paid.mass_g, metres + paid.metres, cost + paid.cost
        lines += told.moves
        for name, value in told.by_kind:
            by_kind[name] = by_kind.get(name, 0.0) + value
        if sheet.process.price.charges:
            price = (price or 0.0) + sheet.process.price.of(paid.mass_g, told.seconds)
    return Figures(seconds, mass, metres, cost, price, by_kind, LINE_BYTES * lines)


def _timed(sheet: ItemSheet, memo: Memo) -> Timed | None:
    found: Timed | None = Known(keys_of(sheet), memo).get("timed")
    return found


SORTS: dict[str, Callable[[Figures], float]] = {
    "time": lambda f: f.seconds,
    "mass": lambda f: f.mass_g,
    "price": lambda f: f.cost if f.price is None else f.price,
}


def board(
    job: JobSheet,
    item: str,
    memo: Memo,
    *,
    about: tuple[str, ...] = USUAL,
    whole: bool = False,
    sort: str = "time",
    under_s: float | None = None,
    under_g: float | None = None,
) -> Board:
    """The board as far as its figures are known.

    Parameters
    ----------
    job : JobSheet
    item : str
    memo : Memo
    about : tuple of str
        Of ``ABOUT``.
    whole : bool
        Figures of all items of the job together.
    sort : str
        "time", "mass" or "price"; what is not known yet comes last.
    under_s, under_g : float, optional
        What is aimed at.

    Returns
    -------
    Board
    """
    some = variants(job, item, memo, about)
    now = figures(counted(job, item, whole=whole), memo)
    found = [_line(option, other, item, now, memo, whole) for option, other in some]
    key = SORTS[sort]
    rest = sorted(found[1:], key=lambda one: (one.figures is None, key(one.figures) if one.figures else 0.0))
    meeting = [
        line
        for line in found
        if line.figures is not None
        and (under_s is None or line.figures.seconds <= under_s)
        and (under_g is None or line.figures.mass_g <= under_g)
    ]
    return Board([found[0], *rest], whole, under_s, under_g, meeting)


def _line(
    option: Option | None, job: JobSheet, item: str, now: Figures | None, memo: Memo, whole: bool
) -> OptionLine:
    sheet = job.on(item)
    got = figures(counted(job, item, whole=whole), memo)
    seconds = mass = price = None
    if got is not None and now is not None and option is not None:
        seconds, mass = got.seconds - now.seconds, got.mass_g - now.mass_g
        price = got.price - now.price if got.price is not None and now.price is not None else None
    return OptionLine(
        option,
        got,
        seconds,
        mass,
        price,
        cusp_mm(sheet.layer_mm),
        sheet.process.walls * sheet.machine.line_width_mm,
        _lost(sheet, memo) if option is not None and option.about in ("supports", "styles", "stance") else "",
    )


def _lost(sheet: ItemSheet, memo: Memo) -> str:
    """What would fall without supports: pieces of layers that begin in mid-air."""
    if sheet.supports is not None:
        return ""
    found = Known(keys_of(sheet), memo).get("findings")
    count = len(found.islands) if found is not None else 0
    return f"but {count} island{'' if count == 1 else 's'} fall{'s' if count == 1 else ''}" if count else ""

"""What section 8 shows of a print of filament."""

from __future__ import annotations

from dataclasses import dataclass

from ....core.toolpaths.beads import Kind
from ....core.toolpaths.gcode import END, NAMES, START
from ....core.toolpaths.ordering import Seam
from ....core.toolpaths.patterns import Pattern
from ...pages import JobPage

SEAMS = {
    Seam.BACK: "at the back",
    Seam.DIRECTION: "at a direction",
    Seam.CORNER: "at the sharpest corner",
    Seam.NEAREST: "where it is nearest",
    Seam.SCATTERED: "scattered",
}


@dataclass(frozen=True, slots=True)
class TimeRow:
    """A line of the table of times.

    Attributes
    ----------
    words : str
    kind : int or None
        Number of the kind of path, for its colour.
    seconds, percent : float
    mass_g : float or None
    """

    words: str
    kind: int | None
    seconds: float
    percent: float
    mass_g: float | None


@dataclass(frozen=True)
class FilamentContext:
    """What the template has of paths.

    Attributes
    ----------
    patterns : list of Pattern
    seams : list of Seam
    seam_words : dict of Seam to str
    unusual : str
        That the density is not one that the pattern is used with.
    start, end : str
        The usual text before and after.
    names : tuple of str
        Names that texts may hold.
    rows : list of TimeRow
        The longest first.
    mass_g, metres, cost : float
    price : float or None
        What it is charged at, where anything is.
    """

    patterns: list[Pattern]
    seams: list[Seam]
    seam_words: dict[Seam, str]
    unusual: str
    start: str
    end: str
    names: tuple[str, ...]
    rows: list[TimeRow]
    mass_g: float
    metres: float
    cost: float
    price: float | None


def filament_context(page: JobPage) -> FilamentContext:
    """What there is to tell of the paths of an item."""
    sheet, told = page.sheet, page.now.timed
    pattern, percent = sheet.process.pattern, sheet.process.infill_percent
    low, high = pattern.sensible_percent
    unusual = ""
    if percent and not low <= percent <= high:
        unusual = f"{low:g} to {high:g} % are sensible for {pattern.value}."
    gram = sheet.stuff.density_g_cm3 / 1000.0
    rows = []
    numbers = {kind.words: int(kind) for kind in Kind if kind is not Kind.TRAVEL}
    if told is not None:
        volumes = dict(told.volume_by_kind)
        for words, seconds in sorted(told.by_kind, key=lambda row: -row[1]):
            mass = volumes[words] * gram if words in volumes else None
            rows.append(TimeRow(words, numbers.get(words), seconds, 100 * seconds / told.seconds, mass))
    mass = told.mass_g(sheet.stuff.density_g_cm3) if told is not None else 0.0
    metres = told.metres(sheet.stuff.diameter_mm) if told is not None else 0.0
    return FilamentContext(
        list(Pattern), list(Seam), SEAMS, unusual, START, END, NAMES, rows, mass,
        metres, mass / 1000.0 * sheet.stuff.price_per_kg,
        sheet.process.price.of(mass, told.seconds) if told and sheet.process.price.charges else None,
    )  # fmt: skip

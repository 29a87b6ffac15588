"""What section 8 shows of a print of filament."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from ....core.hanging.findings import Family
from ....core.toolpaths.beads import Kind
from ....core.toolpaths.bill import Bill
from ....core.toolpaths.gcode import END, NAMES, START
from ....core.toolpaths.learned import Factor, factor
from ....core.toolpaths.strands import worth_most
from ....core.toolpaths.timing import Timed
from ....sheet.changes.job import PACES
from ....sheet.models import ItemSheet
from ....sheet.shop import Finished, Habits
from ....work.bind_paths import nozzle_of, spools_of
from ....work.path_doubts import at_odds, infill_told, sparse_roof
from ....work.what_if import asked_for, board, taken
from .settings import Setting, settings
from .swatches import Swatch, swatches

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


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
    settings : list of Setting
    qualities : list of (words, layer_mm)
    own_layer : bool
        The layer height is none of these.
    paces : list of (words, percent)
    own_pace : bool
        The speed is none of these.
    patterns : list of Swatch
    nozzle_c : float
        Temperature of the nozzle outside of stretches.
    of_spool : float
        Share of a spool that the first material takes.
    unusual : str
        That the density is not one that the pattern is used with.
    start, end : str
        The usual text before and after.
    names : tuple of str
        Names that texts may hold.
    rows : list of TimeRow
        The longest first.
    taken : Bill
        Filament by nozzle.
    price : float or None
        What it is charged at, where anything is.
    infill : str
        How much of the inside infill takes up as it is laid.
    roof : str
        That a roof lies on infill that is too far apart.
    hints : list of str
        What was asked for and cannot be as it is.
    roofs : list of (str, float)
        Findings that something may be set in below, and their heights, mm.
    height_mm : float
        Of what is printed, without footing.
    proposed : list of (words, low_mm, high_mm)
        Where strands are worth most: near top and bottom faces.
    factor : Factor or None
        What finished prints say of times on the machine.
    """

    settings: list[Setting]
    qualities: list[tuple[str, float]]
    own_layer: bool
    paces: list[tuple[str, float]]
    own_pace: bool
    patterns: list[Swatch]
    nozzle_c: float
    of_spool: float
    unusual: str
    start: str
    end: str
    names: tuple[str, ...]
    rows: list[TimeRow]
    taken: Bill
    price: float | None
    infill: str
    roof: str
    hints: list[str]
    roofs: list[tuple[str, str, float]]
    height_mm: float
    proposed: list[tuple[str, float, float]]
    factor: Factor | None


def filament_context(page: JobPage, store: Store) -> FilamentContext:
    """What there is to tell of the paths of an item."""
    # Variants that were worked out say what settings move; a page waits for none that nobody asked for.
    memo = page.now.known.memo
    asked = page.now.timed is not None and memo.light(asked_for(page.job.id)) is not None
    known = board(page.job.sheet, page.sheet.id, memo) if asked else None
    sheet, told = page.sheet, page.now.timed
    process = sheet.process
    pattern, percent = process.pattern, process.infill_percent
    low, high = pattern.sensible_percent
    unusual = ""
    if percent and not low <= percent <= high:
        unusual = f"{low:g} to {high:g} % are sensible for {pattern.value}."
    named = qualities(sheet)
    height = page.now.placed.size_mm[2] + sheet.lift_mm if page.now.placed is not None else 0.0
    paid = taken(told, sheet) if told is not None else Bill(())
    return FilamentContext(
        settings(sheet, _chosen(store), known),
        named,
        all(abs(h - sheet.layer_mm) > 1e-9 for _, h in named),
        list(PACES.items()),
        process.speed_percent not in PACES.values(),
        swatches(process.infill_percent / 100.0, sheet.machine.line_width_mm, sheet.layer_mm),
        nozzle_of(sheet),
        paid.shares[0].mass_g / sheet.stuff.spool_g if paid.shares else 0.0,
        unusual,
        START,
        END,
        NAMES,
        _rows(sheet, told) if told is not None else [],
        paid,
        process.price.of(paid.mass_g, told.seconds) if told and process.price.charges else None,
        infill_told(sheet, page.now.path_notes, told),
        sparse_roof(sheet, page.now.path_notes),
        at_odds(sheet, page.now.path_notes),
        _roofs(page),
        height,
        _proposed(sheet, height),
        _factor(store, sheet),
    )


def _factor(store: Store, sheet: ItemSheet) -> Factor | None:
    """What finished prints say of times on the machine."""
    known = store.on_shelf(Finished, sheet.machine.name)
    return factor(known.ratios) if known is not None else None


def _chosen(store: Store) -> tuple[str, ...]:
    """Settings that the shop chose to see."""
    habits = store.on_shelf(Habits, "shop")
    return habits.shown_settings if habits is not None else ()


# What layers of the machine are called, the finest first.
QUALITIES = ("fine", "good", "usual", "coarse")


def qualities(sheet: ItemSheet) -> list[tuple[str, float]]:
    """Usual layer heights of the machine by name."""
    heights = sorted(sheet.machine.layer_heights_mm)
    names = QUALITIES if len(heights) == len(QUALITIES) else tuple(f"{h:g} mm" for h in heights)
    return list(zip(names, heights, strict=True))


def _rows(sheet: ItemSheet, told: Timed) -> list[TimeRow]:
    """Time and mass by kind."""
    numbers = {kind.words: int(kind) for kind in Kind if kind is not Kind.TRAVEL}
    first, second = spools_of(sheet)
    of_second = {kind.words for kind in sheet.second_kinds | {Kind.STRAND}}
    volumes = dict(told.volume_by_kind)
    rows = []
    for words, seconds in sorted(told.by_kind, key=lambda row: -row[1]):
        spool = second if second is not None and words in of_second else first
        # Where bodies are printed by both nozzles, a kind may be of two materials: only the whole is told.
        mixed = second is not None and sheet.second_places and second.density_g_cm3 != first.density_g_cm3
        mass = volumes[words] * spool.density_g_cm3 / 1000.0 if words in volumes and not mixed else None
        rows.append(TimeRow(words, numbers.get(words), seconds, 100 * seconds / told.seconds, mass))
    return rows


def _roofs(page: JobPage) -> list[tuple[str, str, float]]:
    """Findings that something may be set in below: their ids, words and heights."""
    over = [one for one in page.now.listed or () if one.family is Family.OVERHANG and one.z_mm > 1.0]
    return [(one.id, f"{one.name}, {one.kind}", one.z_mm) for one in over[:20]]


def _proposed(sheet: ItemSheet, height_mm: float) -> list[tuple[str, float, float]]:
    """Where strands are worth most, in words."""
    h, process = sheet.layer_mm, sheet.process
    low, high = process.bottom_layers * h, height_mm - process.top_layers * h
    zones = worth_most(low, high, height_mm, h)
    named = zip(("over the bottom", "under the top"), zones, strict=False)
    return [(words, round(one.low_mm, 3), round(one.high_mm, 3)) for words, one in named]

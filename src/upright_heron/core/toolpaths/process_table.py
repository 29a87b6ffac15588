"""How each layer of a resin part is made: exposures, lifts and waits, by stretches of layers."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from enum import StrEnum
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ..errors import BadValue
from ..machines.catalogue import Material, Printer

# First layers with long exposure, and how far the plate is lifted for each layer (common practice).
FIRST_LAYERS = 5
LIFT_MM = 6.0
# No table is longer than this.
MOST_ROWS = 60
THINNEST_MM, THICKEST_MM = 0.005, 0.5
# What a number of each column may be, least and most.
LIMITS = {
    "layers": (1, 2000),
    "thinnest_mm": (THINNEST_MM, THICKEST_MM),
    "thickest_mm": (THINNEST_MM, THICKEST_MM),
    "exposure_s": (0.0, 600.0),
    "lift_mm": (0.0, 40.0),
    "lift_mm_s": (0.01, 1000.0),
    "return_mm_s": (0.01, 1000.0),
    "wait_before_s": (0.0, 120.0),
    "wait_after_s": (0.0, 120.0),
}


class Stretch(StrEnum):
    """Which layers of a print a row is of."""

    FIRST = "first"
    TRANSITION = "transition"
    BODY = "body"


@dataclass(frozen=True, slots=True)
class Row:
    """How the layers of one stretch are made, where layers are so thick.

    Attributes
    ----------
    stretch : Stretch
    layers : int or None
        How many; of the body all that are left.
    thinnest_mm, thickest_mm : float
        It is for layers of this thickness.
    exposure_s : float or None
        In a transition ``None``: in even steps from that of the first layers to that of the body.
    lift_mm : float
        Off the film, and back again.
    lift_mm_s, return_mm_s : float
    wait_before_s, wait_after_s : float
        Before the light goes on, and after it went off.

    Raises
    ------
    BadValue
        A number is missing where it is needed, or out of what makes sense.
    """

    stretch: Stretch
    layers: int | None
    exposure_s: float | None
    lift_mm: float
    lift_mm_s: float
    return_mm_s: float
    wait_before_s: float = 0.0
    wait_after_s: float = 0.0
    thinnest_mm: float = THINNEST_MM
    thickest_mm: float = THICKEST_MM

    def __post_init__(self) -> None:
        for name, (low, high) in LIMITS.items():
            value = getattr(self, name)
            if value is not None and not (math.isfinite(value) and low <= value <= high):
                told = f"{name} of the {self.stretch.value} layers is {value:g}."
                raise BadValue(told, f"It may be {low:g} to {high:g}.")
        if self.stretch is Stretch.BODY and self.layers is not None:
            raise BadValue("The body takes all layers that are left.", "Leave its number of layers empty.")
        if self.stretch is not Stretch.BODY and self.layers is None:
            raise BadValue(f"The {self.stretch.value} layers are not counted.", "Type how many in layers.")
        if self.exposure_s is None and self.stretch is not Stretch.TRANSITION:
            raise BadValue(f"The {self.stretch.value} layers have no exposure.", "Type it in exposure_s.")
        if self.thinnest_mm > self.thickest_mm:
            told = f"Layers from {self.thinnest_mm:g} to {self.thickest_mm:g} mm are none."
            raise BadValue(told, "thinnest_mm comes first and is the smaller one.")

    @property
    def is_for(self) -> tuple[float, float]:
        """The thickness of layers that it is for, mm."""
        return self.thinnest_mm, self.thickest_mm


Table = tuple[Row, ...]
# Columns that a file has to have.
NEEDED = ("stretch", "layers", "exposure_s", "lift_mm", "lift_mm_s", "return_mm_s")
# In the order of a file.
COLUMNS = (
    "stretch", "layers", "thinnest_mm", "thickest_mm", "exposure_s", "lift_mm", "lift_mm_s", "return_mm_s",
    "wait_before_s", "wait_after_s",
)  # fmt: skip


@dataclass(frozen=True, eq=False)
class Steps:
    """What a machine does in each layer, from the plate up.

    Attributes
    ----------
    exposure_s, lift_mm, lift_mm_s, return_mm_s, wait_before_s, wait_after_s : (L,) float64
        As in ``Row``.
    """

    exposure_s: NDArray[np.float64]
    lift_mm: NDArray[np.float64]
    lift_mm_s: NDArray[np.float64]
    return_mm_s: NDArray[np.float64]
    wait_before_s: NDArray[np.float64]
    wait_after_s: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.exposure_s)

    @property
    def layer_s(self) -> NDArray[np.float64]:
        """(L,) float64, s: time of each layer, the way off the film and back with it."""
        moves = self.lift_mm / self.lift_mm_s + self.lift_mm / self.return_mm_s
        result: NDArray[np.float64] = self.wait_before_s + self.exposure_s + self.wait_after_s + moves
        return result

    @property
    def seconds(self) -> float:
        """Time of all layers."""
        return float(self.layer_s.sum())


def usual_table(machine: Printer, material: Material) -> Table:
    """What a machine does with a material where nobody typed a table."""
    speed = machine.speed_mm_s
    body = Row(Stretch.BODY, None, material.exposure_s, LIFT_MM, speed, speed)
    first = replace(body, stretch=Stretch.FIRST, layers=FIRST_LAYERS, exposure_s=material.first_exposure_s)
    return first, body


def checked(rows: Sequence[Row]) -> Table:
    """Sort a table, thin layers first.

    Raises
    ------
    BadValue
        It is empty or too long, two rows are for the same layers, or a stretch is missing.
    """
    if not rows:
        raise BadValue("The table has no row.", "One row for the body is the least.")
    if len(rows) > MOST_ROWS:
        raise BadValue(f"The table has {len(rows)} rows.", f"{MOST_ROWS} are the most.")
    order = list(Stretch)
    found = sorted(rows, key=lambda row: (row.is_for, order.index(row.stretch)))
    ranges = sorted({row.is_for for row in found})
    for (low, high), (other_low, other_high) in pairwise(ranges):
        if other_low < high:
            told = f"Layers of {low:g} to {high:g} and of {other_low:g} to {other_high:g} mm overlap."
            raise BadValue(told, "Let one end where the other begins.")
    for low, high in ranges:
        here = [row.stretch for row in found if row.is_for == (low, high)]
        thick = f"for layers of {low:g} to {high:g} mm"
        twice = next((one for one in order if here.count(one) > 1), None)
        if twice is not None:
            raise BadValue(f"There are two rows of {twice.value} layers {thick}.", "Keep one of them.")
        if Stretch.BODY not in here:
            raise BadValue(f"There is no row of the body {thick}.", "Add one.")
        if Stretch.TRANSITION in here and Stretch.FIRST not in here:
            raise BadValue(f"A transition {thick} has no first layers before it.", "Add their row.")
    return tuple(found)


def rows_for(table: Table, layer_mm: float) -> Table:
    """Rows of a table for layers of a thickness.

    Raises
    ------
    BadValue
        There are none.
    """
    for row in table:
        low, high = row.is_for
        if low - 1e-9 <= layer_mm <= high + 1e-9:
            return tuple(one for one in table if one.is_for == row.is_for)
    told = f"The table of exposures has no rows for layers of {layer_mm:g} mm."
    raise BadValue(told, "Add them, or pick another layer height.")


def table_of(typed: Table, machine: Printer, material: Material, layer_mm: float) -> tuple[Table, bool]:
    """Rows that count for layers of a thickness, and whether they were typed: else the usual ones."""
    try:
        return rows_for(typed, layer_mm), True
    except BadValue:
        return usual_table(machine, material), False


def steps(rows: Table, layers: int) -> Steps:
    """What a machine does in each of so many layers.

    Parameters
    ----------
    rows : tuple of Row
        From ``rows_for``.
    layers : int

    Returns
    -------
    Steps
        The first layers, then the transition, then the body; a short print ends before that.
    """
    by = {row.stretch: row for row in rows}
    body = by[Stretch.BODY]
    each: list[Row] = []
    for stretch in (Stretch.FIRST, Stretch.TRANSITION):
        row = by.get(stretch)
        if row is None or row.layers is None:
            continue
        begin = by[Stretch.FIRST].exposure_s
        for k in range(row.layers):
            exposure = row.exposure_s
            if exposure is None and begin is not None and body.exposure_s is not None:
                exposure = begin + (body.exposure_s - begin) * (k + 1) / (row.layers + 1)
            each.append(replace(row, exposure_s=exposure))
    each = (each + [body] * (layers - len(each)))[:layers]
    names = (field.name for field in fields(Steps))
    return Steps(**{name: np.array([getattr(row, name) for row in each], np.float64) for name in names})


def as_csv(table: Table) -> str:
    """Write a table as CSV (RFC 4180) with a line of names; what is left open is empty."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(COLUMNS)
    for row in table:
        values = [getattr(row, name) for name in COLUMNS]
        writer.writerow(
            ["" if v is None else v.value if isinstance(v, Stretch) else f"{v:.10g}" for v in values]
        )
    return out.getvalue()


def from_csv(text: str) -> Table:
    """Read a table from CSV, with commas, semicolons or tabs between its columns.

    Raises
    ------
    BadValue
        A column or a number is missing or makes no sense; the line is told.
    """
    content = text.lstrip("\ufeff")
    head = content.partition("\n")[0]
    between = max(",;\t", key=head.count)
    lines = list(csv.reader(io.StringIO(content), delimiter=between))
    names = [name.strip().lower() for name in lines[0]] if lines else []
    missing = [name for name in NEEDED if name not in names]
    strange = [name for name in names if name not in COLUMNS]
    if missing or strange or len(set(names)) < len(names):
        if missing:
            told = f"The file has no column {missing[0]}."
        else:
            told = f"A column is called “{strange[0][:30]}”." if strange else "A column is there twice."
        raise BadValue(told, f"Its first line names the columns: {', '.join(COLUMNS)}.")
    found = []
    for number, line in enumerate(lines[1:], 2):
        if not any(cell.strip() for cell in line):
            continue
        if len(line) != len(names):
            told = f"Line {number} has {len(line)} cells, the first line {len(names)}."
            raise BadValue(told, "Put as many in every line; a comma in a number is a point.")
        found.append(_row(number, dict(zip(names, (cell.strip() for cell in line), strict=True)), between))
    return checked(found)


def _row(line: int, cells: dict[str, str], between: str) -> Row:
    stretch = cells.pop("stretch").lower()
    if stretch not in list(Stretch):
        told = f"Line {line}: “{stretch[:20]}” is no stretch of layers."
        raise BadValue(told, f"Write {', '.join(Stretch)}.")
    values: dict[str, float | int | None] = {"layers": None, "exposure_s": None}
    for name, cell in cells.items():
        if not cell:
            if name in ("lift_mm", "lift_mm_s", "return_mm_s"):
                raise BadValue(f"Line {line}: {name} is empty.", "Type a number.")
            continue
        try:
            value = float(cell if between == "," else cell.replace(",", "."))
        except ValueError as error:
            raise BadValue(f"Line {line}: {name} is “{cell[:20]}”.", "Type a number.") from error
        if name == "layers":
            if value != value // 1:
                raise BadValue(f"Line {line}: layers is {cell[:20]}.", "Type a whole number.")
            values[name] = int(value)
        else:
            values[name] = value
    try:
        return Row(Stretch(stretch), **values)  # type: ignore[arg-type]
    except BadValue as error:
        raise BadValue(f"Line {line}: {error}", error.advice) from error

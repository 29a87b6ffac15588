"""Which machine a plate could go to: what each of them would make of it, and when it is free."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from ..core.errors import BadValue
from ..core.machines.catalogue import PRINTERS, Printer
from ..core.plates.extent import Extent
from ..core.plates.fit import fit_of
from ..core.recipes.values import Brief
from ..core.toolpaths.rough_estimate import plate_seconds
from ..sheet.changes import PrintOn
from ..sheet.models import ItemSheet, JobSheet
from ..sheet.shop import Calibration, OwnPrinter, pair_name
from ..store.store import Store
from .at_work import AtWork
from .bind import keys_of
from .bind_plates import items_of
from .known import Known, Memo

# What has to be there of an item before a machine is judged.
NEEDED = ("extent", "brief")


@dataclass(frozen=True, slots=True)
class MachineLine:
    """A kind of machine, and what it would make of a plate.

    Attributes
    ----------
    printer : Printer
    chosen : bool
        The plate goes there now.
    over : tuple of str or None
        What does not fit and by how much, with supports and footing; ``None`` while that is not known.
    seconds, grams, price : float or None
        Rough, of the plate; ``None`` while they are not known.
    charged : bool
        The price is what is charged, and not only the material.
    stations : tuple of AtWork
        Machines of that kind in the shop, the one that is free first before the others.
    """

    printer: Printer
    chosen: bool
    over: tuple[str, ...] | None
    seconds: float | None
    grams: float | None
    price: float | None
    charged: bool
    stations: tuple[AtWork, ...]

    @property
    def known(self) -> bool:
        """Whether nothing of it is still being made."""
        return self.over is not None and self.seconds is not None


@dataclass(frozen=True, slots=True)
class Candidate:
    """A kind of machine, with the job as if a plate went there."""

    printer: Printer
    job: JobSheet
    sheets: tuple[ItemSheet, ...]


def candidates(job: JobSheet, plate: int, store: Store) -> list[Candidate]:
    """Kinds of machines that a plate, from 0, could go to: those of its technology, its own first."""
    now = job.of_plate(plate).machine
    own, stuff = store.shelf(OwnPrinter), job.of_plate(plate).material
    named = {one.name for one in own}
    offered: list[tuple[str, OwnPrinter | None]] = [(one.name, one) for one in own]
    offered += [(one.name, None) for one in PRINTERS if one.name not in named]
    found = []
    for name, kept in offered:
        measured = store.on_shelf(Calibration, pair_name(name, stuff))
        change = PrintOn(plate=plate + 1, printer=name, own=kept, calibration=measured)
        try:
            other = job if name == now.name else change.made(job, "")
        except BadValue:
            # Another technology, or a piece that would be parted.
            continue
        sheets = tuple(other.on(item) for item in items_of(other, plate))
        machine = now if name == now.name else kept.core() if kept else other.of_plate(plate).machine
        found.append(Candidate(machine, other, sheets))
    return sorted(found, key=lambda one: one.printer.name != now.name)


def machine_board(
    job: JobSheet, plate: int, every: Sequence[Candidate], at_work: Sequence[AtWork], memo: Memo
) -> list[MachineLine]:
    """What is known of the machines that a plate, from 0, could go to, without making anything."""
    now = job.of_plate(plate).machine.name
    return [_line(one, plate, one.printer.name == now, at_work, memo) for one in every]


def _line(one: Candidate, plate: int, chosen: bool, at_work: Sequence[AtWork], memo: Memo) -> MachineLine:
    counts = Counter(instance.item for instance in one.job.plates[plate].instances)
    grams = cost = 0.0
    seconds: list[float] = []
    over: list[str] = []
    timed = measured = True
    for sheet in one.sheets:
        known = Known(keys_of(sheet), memo)
        extent, brief = known.get("extent"), known.get("brief")
        if isinstance(extent, Extent):
            over += _over(sheet, extent, one.printer)
        else:
            measured = False
        if isinstance(brief, Brief):
            count = counts[sheet.id]
            seconds += [brief.seconds] * count
            grams, cost = grams + count * brief.mass_g, cost + count * brief.cost
        else:
            timed = False
    took = plate_seconds(seconds, one.printer.technology)
    # The plate is one print: what is asked once a print is asked once.
    asked = one.job.process.price
    charged = asked.charges
    price = asked.of(grams, took) if charged else cost
    mine = sorted((m for m in at_work if m.station.model == one.printer.name), key=lambda m: m.free_in_s)
    return MachineLine(
        one.printer, chosen, tuple(over) if measured else None,
        took if timed else None, grams if timed else None, price if timed else None,
        charged, tuple(mine),
    )  # fmt: skip


def _over(sheet: ItemSheet, extent: Extent, printer: Printer) -> list[str]:
    found = fit_of(extent, printer.build_mm)
    if found.fits or found.swing_deg is not None:
        return []
    side, by = found.over[0]
    named = f"item {sheet.number} is " if sheet.count > 1 else ""
    turn = " (it fits in another stance)" if found.turned else ""
    return [f"{named}{by:.0f} mm too long along {side}{turn}"]

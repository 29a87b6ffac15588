"""Section 9: the plate, and the files that leave."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.handoff.preflight import Weight
from ....core.recipes.values import Brief, Stands
from ....core.toolpaths.rough_estimate import Estimate
from ....core.topics import Topic
from ....sheet.item import Item
from ....sheet.models import JobSheet
from ....sheet.plating import Instance
from ....sheet.shop import Habits, RunNotes, Station
from ....work.checking import of_plate
from ....work.files_of_plates import changed_since
from ....work.kinds import kinds_of_materials
from ....work.naming import FIELDS, PATTERN, PLATE_FIELDS
from ...section import Section
from .routes import router
from .sending import router as sending
from .together import router as together

if TYPE_CHECKING:
    from ....store.prints import Print
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class PlateLine:
    """One item on the plate: where it was put, where it stands, and what it takes."""

    number: int
    item: Item
    instance: Instance
    stands: Stands | None
    brief: Brief | Estimate | None


@dataclass(frozen=True, slots=True)
class ItemLine:
    """An item on a plate with its copies there: how many, and what all of them take."""

    number: int
    item: Item
    count: int
    brief: Brief | Estimate | None

    @property
    def seconds(self) -> float | None:
        """Of each by itself; ``None`` while it is not known."""
        return None if self.brief is None else self.brief.seconds

    @property
    def mass_g(self) -> float | None:
        """Of each."""
        return None if self.brief is None else self.brief.mass_g


@dataclass(frozen=True, slots=True)
class PlateLines:
    """What stands on one plate, by its number from 1, where it goes, in what, and what it takes: s and g."""

    number: int
    printer: str
    material: str
    lines: list[PlateLine]
    takes: tuple[float, float] | None

    @property
    def grouped(self) -> list[ItemLine]:
        """Its items, each once."""
        found: dict[str, ItemLine] = {}
        for line in self.lines:
            count = found[line.item.id].count if line.item.id in found else 0
            found[line.item.id] = ItemLine(line.number, line.item, count + 1, line.brief)
        return list(found.values())


@dataclass(frozen=True, slots=True)
class HandoffContext:
    """The plates.

    Attributes
    ----------
    plates : list of PlateLines
    here : PlateLine or None
        That of the item that is looked at, and of the copy that was asked for.
    here_plate : int
        The plate that it stands on, from 1.
    copies : tuple of int
        Numbers of the copies of that item.
    count : int
        Instances on all plates.
    plate_printer : str
        What that plate is for.
    printers : tuple of str
        What all plates are for, each once.
    pattern : str
        That names of files are proposed by.
    fields : tuple of str
        What a pattern may name.
    run_notes : str
        What the shop wrote down for that machine with the material.
    approved : bool
        The shop found that they print well together.
    wrong : int
        What preflight finds wrong with that plate and what stands on it.
    head_mm, rail_mm : float
        What the head and the rail of that printer need.
    plate_names, plate_fields : str, tuple of str
        How the shop has files of plates named, and what that may name.
    item_names : str
        How it has files of single items named.
    materials : tuple of str
        What all plates are printed in, each once.
    offered : tuple of str
        Materials that the printer of that plate can use.
    stations : tuple of str
        Machines of the shop that the plates are for.
    sent : list of Print
        Prints of the job: those that wait or go, and the last that ended.
    changed : tuple of int
        Plates, from 1, that printed well and would leave as another file now.
    host : str
        Name of the job on whose plates this one is printed; empty where it is on its own.
    left_host : bool
        That job has its items no more: they were taken out there, or the step was undone.
    """

    plates: list[PlateLines]
    here: PlateLine | None
    here_plate: int
    copies: tuple[int, ...]
    count: int
    plate_printer: str
    printers: tuple[str, ...]
    pattern: str = PATTERN
    fields: tuple[str, ...] = tuple(FIELDS)
    plate_names: str = ""
    item_names: str = ""
    plate_fields: tuple[str, ...] = tuple(PLATE_FIELDS)
    materials: tuple[str, ...] = ()
    offered: tuple[str, ...] = ()
    stations: tuple[str, ...] = ()
    run_notes: str = ""
    approved: bool = False
    wrong: int = 0
    head_mm: float = 0.0
    rail_mm: float = 0.0
    sent: list[Print] = field(default_factory=list)
    changed: tuple[int, ...] = ()
    host: str = ""
    left_host: bool = False


def _context(page: JobPage, store: Store) -> HandoffContext:
    job, now = page.job.sheet, page.now
    stands = {(s.item, s.copy): s for s in now.arranged.places} if now.arranged else {}
    items = {item.id: (number, item) for number, item in enumerate(job.items, 1)}
    plates = []
    for number, plate in enumerate(job.plates, 1):
        lines = [
            PlateLine(
                *items[one.item],
                one,
                stands.get((one.item, one.copy_number)),
                now.briefs.get(one.item) if now.briefs else now.estimate,
            )
            for one in plate.instances
        ]
        goes = job.of_plate(number - 1)
        plates.append(PlateLines(number, goes.printer, goes.material, lines, now.takes(number - 1)))
    mine = [(p.number, line) for p in plates for line in p.lines if line.item.id == page.sheet.id]
    mine.sort(key=lambda one: one[1].instance.copy_number)
    here_plate, here = next((one for one in mine if one[1].instance.copy_number == page.copy), (0, None))
    if here is None and mine:
        here_plate, here = mine[0]
    copies = tuple(line.instance.copy_number for _, line in mine)
    there = job.of_plate(max(here_plate - 1, 0))
    notes = store.on_shelf(RunNotes, there.pair)
    habits = store.on_shelf(Habits, "shop")
    stations = tuple(one.name for one in store.shelf(Station) if one.model == there.printer)
    sent = store.prints_of(page.job.id)
    host, held = _host(page.job.id, job, store)
    return HandoffContext(
        plates,
        here,
        here_plate,
        copies,
        sum(len(p.lines) for p in plates),
        there.printer,
        tuple(dict.fromkeys(p.printer for p in plates)),
        materials=tuple(dict.fromkeys(p.material for p in plates)),
        offered=tuple(
            one.name
            for one in kinds_of_materials(store).values()
            if one.technology is there.machine.technology
        ),
        stations=stations,
        run_notes=notes.text if notes is not None else "",
        plate_names=habits.plate_names if habits is not None else "",
        item_names=habits.item_names if habits is not None else "",
        approved=notes is not None and notes.approved,
        head_mm=there.machine.head_mm,
        rail_mm=there.machine.rail_mm,
        wrong=sum(one.weight is Weight.WRONG for one in of_plate(job, max(here_plate, 1), now.preflight)),
        sent=sent[:6],
        changed=changed_since(job, store.last_good([page.job.id]).get(page.job.id, {}), store.sheet_at)
        if sent
        else (),
        host=host,
        left_host=bool(host) and not held,
    )


def _host(job_id: str, job: JobSheet, store: Store) -> tuple[str, bool]:
    """Name of the job on whose plates one is printed, and whether its items are on them now."""
    found = store.sheet_now(job.order.goes_with) if job.order.goes_with else None
    if found is None:
        return "", False
    return found.name, any(item.of is not None and item.of.job == job_id for item in found.items)


SECTION = Section(
    slug="handoff",
    title="Plates and hand-off",
    folder=Path(__file__).parent,
    topic=Topic.HANDOFF,
    wants=("placed", "supports", "footing", "extent"),
    facts=(),
    context=_context,
    routers=(together, sending, router),
)

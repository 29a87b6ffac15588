"""Changes of the printers that plates of one job go to."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from ...core.errors import BadValue
from ...core.machines.catalogue import Material, Printer, material, materials_for, printer
from ..item import Elsewhere, Item, fresh_id
from ..models import ItemSheet, JobSettings, JobSheet
from ..plating import Instance, Plate
from ..process import usual_footing
from ..shop import Calibration, OwnMaterial, OwnPrinter
from .base import JobChange, altered
from .items import MOST_ITEMS


class PrintOn(JobChange):
    """Have a plate printed on another printer of the same kind of technology, with all that stands on it."""

    about_item: ClassVar[bool] = False
    kind: Literal["print-on"] = "print-on"
    plate: Annotated[int, Field(ge=1, le=1000)]
    printer: str
    own: OwnPrinter | None = None
    calibration: Calibration | None = None

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the plate on that printer.

        Raises
        ------
        BadValue
            There is no such plate, or the printer is of another technology.
        """
        if self.plate > len(job.plates):
            raise BadValue(f"There is no plate {self.plate}.", f"Pick one from 1 to {len(job.plates)}.")
        machine = self.own.core() if self.own else printer(self.printer)
        if machine.technology is not job.machine.technology:
            raise BadValue(
                f"{machine.name} prints {machine.technology.value}, this job is for "
                f"{job.machine.technology.value}.",
                "Make a job of its own for that machine.",
            )
        goes = [job.goes(k) for k in range(len(job.plates))]
        before = goes[self.plate - 1]
        sent = Elsewhere(printer=machine.name, own_printer=self.own, calibration=self.calibration)
        if before is not None:
            kept = {"material": before.material, "own_material": before.own_material}
            sent = sent.model_copy(update=kept)
        goes[self.plate - 1] = as_of(job, sent)
        return on_printers(job, [plate.instances for plate in job.plates], goes)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Plate {self.plate} on {self.own.name if self.own else printer(self.printer).name}"


class PrintIn(JobChange):
    """Have an item, or a plate with all that stands on it, printed in another material.

    A plate is of one material: an item goes to one of its own, where it stood, and leaves as its own file.
    """

    about_item: ClassVar[bool] = True
    kind: Literal["print-in"] = "print-in"
    material: str
    plate: Annotated[int, Field(ge=1, le=1000)] | None = None
    own: OwnMaterial | None = None
    calibration: Calibration | None = None

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with that in the material.

        Raises
        ------
        BadValue
            There is no such plate, the printer cannot use the material, or the item stands on no plate.
        """
        wanted = job.item(item).id
        if self.plate is not None and self.plate > len(job.plates):
            raise BadValue(f"There is no plate {self.plate}.", f"Pick one from 1 to {len(job.plates)}.")
        if self.plate is None and all(one.item != wanted for plate in job.plates for one in plate.instances):
            raise BadValue("This item stands on no plate.", "Items that are cut are printed as their pieces.")
        plates, goes = [], []
        for k, plate in enumerate(job.plates):
            there = job.goes(k)
            mine = [one for one in plate.instances if self._meant(k, one.item, wanted)]
            sent = self._there(job, there) if mine else there
            if sent == there:
                # It is of that material already, and stays with the others.
                mine = []
            rest = [one for one in plate.instances if one not in mine]
            plates += [some for some in (rest, mine) if some]
            goes += [where for some, where in ((rest, there), (mine, sent)) if some]
        return on_printers(job, plates, goes)

    def _meant(self, plate: int, item: str, wanted: str) -> bool:
        return item == wanted if self.plate is None else plate == self.plate - 1

    def _there(self, job: JobSheet, before: Elsewhere | None) -> Elsewhere | None:
        there = before or Elsewhere(printer=job.printer, own_printer=job.own_printer)
        stuff = usable(self.material, self.own, there.machine)
        made = {"material": stuff.name, "own_material": self.own, "calibration": self.calibration}
        return as_of(job, there.model_copy(update=made))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        stuff = self.own.name if self.own else material(self.material).name
        return f"{sheet.item_name[:80] if self.plate is None else f'Plate {self.plate}'} in {stuff}"


def usable(name: str, own: OwnMaterial | None, machine: Printer) -> Material:
    """A material by its name, or the shop's own, held against a printer.

    Raises
    ------
    BadValue
        The printer cannot use it.
    """
    stuff = own.core() if own else material(name)
    if stuff.technology is not machine.technology:
        raise BadValue(
            f"{machine.name} cannot use {stuff.name}.",
            f"Use one of: {', '.join(m.name for m in materials_for(machine))}.",
        )
    return stuff


def as_of(job: JobSettings, there: Elsewhere) -> Elsewhere | None:
    """Where something goes, as it is kept with a job: without what is the job's, and ``None`` for that."""
    if there.material == job.material:
        there = there.model_copy(update={"material": None, "own_material": None})
    return None if there.material is None and there.printer == job.printer else there


def on_printers(
    job: JobSheet, plates: Sequence[Sequence[Instance]], goes: Sequence[Elsewhere | None]
) -> JobSheet:
    """Return the job with these plates, each on its printer and in its material.

    An item whose copies come to stand on plates for two of them is parted: those of one of them become an
    item of their own, for its supports and times are others.

    Parameters
    ----------
    job : JobSheet
    plates : sequence of sequences of Instance
    goes : sequence of Elsewhere or None
        For each plate; ``None`` for printer and material of the job.

    Raises
    ------
    BadValue
        A piece of a cut would be parted, or the job would have too many items.
    """
    made = [list(some) for some in plates]
    items = {one.id: one for one in job.items}
    taken = set(items)
    order = list(items)
    for name in list(items):
        wanted = list(dict.fromkeys(
            there for some, there in zip(made, goes, strict=True) if any(one.item == name for one in some)
        ))  # fmt: skip
        if not wanted:
            continue
        item = items[name]
        # Those that stay where the item went so far keep it.
        first = item.elsewhere if item.elsewhere in wanted else wanted[0]
        items[name] = _sent(job, item, first)
        for there in wanted:
            if there == first:
                continue
            if item.piece is not None:
                raise BadValue(
                    f"Copies of {item.part.file_name} stand on other plates too: a piece of a cut goes to "
                    "one printer, and is of one material, with all of them.",
                    "Have them stand on this plate first.",
                )
            taken.add(twin := fresh_id(item.original, taken))
            items[twin] = _sent(job, item.model_copy(update={"id": twin}), there)
            order.insert(order.index(name) + 1, twin)
            number = 0
            for some, other in zip(made, goes, strict=True):
                for k, one in enumerate(some):
                    if other == there and one.item == name:
                        number += 1
                        some[k] = one.model_copy(update={"item": twin, "copy_number": number})
    if len(items) > MOST_ITEMS:
        raise BadValue(f"A job holds {MOST_ITEMS} items at most.", "Make another job of the rest.")
    # A plate that nothing is left of is one no more.
    standing = tuple(Plate(instances=tuple(some)) for some in made if some)
    return altered(job, items=tuple(items[name] for name in order), plates=standing or (Plate(),))


def _sent(job: JobSheet, item: Item, there: Elsewhere | None) -> Item:
    """An item on another printer; a footing that nobody chose is the habit of that."""
    if item.elsewhere == there:
        return item
    sent = item.model_copy(update={"elsewhere": there})
    before, after = (
        usual_footing(job.machine if one.elsewhere is None else one.elsewhere.machine) for one in (item, sent)
    )
    return sent.model_copy(update={"footing": after}) if item.footing == before else sent

"""Items of another job come onto the plates of a job, with all that was decided of them."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from ...core.errors import BadValue
from ...core.machines.catalogue import Technology
from ..document import Document
from ..item import Item, OfJob, fresh_id
from ..models import ItemSheet, JobSheet
from ..plating import Instance, Plate
from .base import Change, JobChange, altered
from .items import MOST_ITEMS
from .machines import as_of


class Brought(Document):
    """An item that comes, with the printer and material it was prepared for, and how often it is printed."""

    item: Item
    count: Annotated[int, Field(ge=1, le=1000)] = 1


class BringItems(JobChange):
    """Have items of another job printed with this one; made by the server, which knows that job.

    They keep stance, supports, footing, marks, printer and material; layers and walls are those of this job.
    """

    kind: Literal["bring"] = "bring"
    of: OfJob
    technology: Technology
    items: Annotated[tuple[Brought, ...], Field(min_length=1)]

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the items behind those that it has, on plates of their printer and material.

        Raises
        ------
        BadValue
            They are for another technology, or too many.
        """
        if self.technology is not job.machine.technology:
            raise BadValue(
                f"“{self.of.name}” is for {self.technology.value}, this job for "
                f"{job.machine.technology.value}.",
                "Bring it to a job for the same kind of machine.",
            )
        if len(job.items) + len(self.items) > MOST_ITEMS:
            raise BadValue(f"A job holds {MOST_ITEMS} items at most.", "Make another job of the rest.")
        taken = {one.id for one in job.items}
        fresh: dict[str, int] = {}
        items = list(job.items)
        for one in self.items:
            taken.add(name := fresh_id(one.item.original, taken))
            there = None if one.item.elsewhere is None else as_of(job, one.item.elsewhere)
            # A piece that came alone is a part like any other.
            own = {"id": name, "of": self.of, "piece": None, "elsewhere": there}
            items.append(one.item.model_copy(update=own))
            fresh[name] = one.count
        made = job.with_items(items)
        plates = []
        for plate in made.plates:
            more = [
                Instance(item=one.item, copy_number=n)
                for one in plate.instances
                for n in range(2, fresh.get(one.item, 1) + 1)
            ]
            plates.append(Plate(instances=(*plate.instances, *more)))
        return altered(made, plates=tuple(plates))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Bring {len(self.items)} of “{self.of.name}”"[:200]


class GoWith(Change):
    """Note that a job is printed on the plates of another, or by itself again."""

    about_item: ClassVar[bool] = False
    kind: Literal["go-with"] = "go-with"
    job: Annotated[str, Field(max_length=32)] = ""
    name: Annotated[str, Field(max_length=120)] = ""

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        """Return the sheet of a job that goes there."""
        return altered(sheet, order=altered(sheet.order, goes_with=self.job))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Printed with “{self.name}”" if self.job else "Printed by itself"

"""Changes of a plate: where its items stand."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from ...core.errors import BadValue
from ..document import ItemId, Length
from ..models import ItemSheet, JobSheet, Plate
from .base import JobChange, altered
from .items import changed_meanwhile

Place = Annotated[Length, Field(ge=-5000, le=5000)]


class PlaceOnPlate(JobChange):
    """Put an item somewhere on its plate and swing it; without a place it is arranged."""

    about_item: ClassVar[bool] = True
    kind: Literal["place"] = "place"
    x_mm: Place | None = None
    y_mm: Place | None = None
    swing_deg: Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)] = 0.0

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the item put there."""
        wanted = job.item(item).id
        if (self.x_mm is None) is not (self.y_mm is None):
            raise BadValue("Only one side of the place is typed.", "Type both, or neither.")
        plates, found = [], False
        for plate in job.plates:
            instances = []
            for one in plate.instances:
                if one.item == wanted:
                    found = True
                    one = altered(one, x_mm=self.x_mm, y_mm=self.y_mm, swing_deg=self.swing_deg)
                instances.append(one)
            plates.append(altered(plate, instances=tuple(instances)))
        if not found:
            raise BadValue("This item stands on no plate.", "Items that are cut are printed as their pieces.")
        return altered(job, plates=tuple(plates))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        name = sheet.item_name[:80]
        if self.x_mm is None:
            return f"Arrange {name} on the plate"
        return f"Put {name} at {self.x_mm:g}, {self.y_mm:g} mm"


class SpreadOut(JobChange):
    """Spread all items over plates, each arranged; made by the server, which knows how large they are."""

    kind: Literal["spread"] = "spread"
    plates: tuple[tuple[ItemId, ...], ...]

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with its instances on these plates; copies go with their item."""
        wanted = [name for plate in self.plates for name in plate]
        if sorted(wanted) != sorted(one.id for one in job.printed):
            raise changed_meanwhile()
        every = [one for plate in job.plates for one in plate.instances]
        plates = []
        for names in self.plates:
            standing = [one for name in names for one in every if one.item == name]
            loose = [altered(one, x_mm=None, y_mm=None) for one in standing]
            plates.append(Plate(instances=tuple(loose)))
        return altered(job, plates=tuple(plates))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        count = len(self.plates)
        return f"Spread over {count} plate{'' if count == 1 else 's'}"

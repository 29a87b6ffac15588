"""Changes of what is tied together on a plate: it is moved, swung and arranged as one."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from ..document import Document, ItemId, Length
from ..models import ItemSheet, JobSheet
from ..plating import Instance, Plate
from .base import JobChange, altered
from .items import changed_meanwhile

Place = Annotated[Length, Field(ge=-5000, le=5000)]


class Member(Document):
    """An instance that is tied, where it stands: mm from the middle of the plate, and its swing."""

    item: ItemId
    copy_number: Annotated[int, Field(ge=1, le=1000)] = 1
    x_mm: Place
    y_mm: Place
    swing_deg: Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)] = 0.0


class TieTogether(JobChange):
    """Tie some of what stands on a plate together, as it stands there."""

    about_item: ClassVar[bool] = False
    kind: Literal["tie"] = "tie"
    plate: Annotated[int, Field(ge=1, le=1000)]
    members: Annotated[tuple[Member, ...], Field(min_length=2, max_length=500)]

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with these tied, out of whatever they were tied to before.

        Raises
        ------
        BadValue
            They do not all stand on that plate.
        """
        asked = {(one.item, one.copy_number): one for one in self.members}
        here = job.plates[self.plate - 1].instances if self.plate <= len(job.plates) else ()
        if len(asked) < 2 or not asked.keys() <= {(one.item, one.copy_number) for one in here}:
            raise changed_meanwhile()
        tie = 1 + max((one.tie for plate in job.plates for one in plate.instances), default=0)
        tied = tuple(self._tied(one, asked.get((one.item, one.copy_number)), tie) for one in here)
        plates = list(job.plates)
        plates[self.plate - 1] = Plate(instances=tied)
        return altered(job, plates=tuple(plates))

    @staticmethod
    def _tied(one: Instance, at: Member | None, tie: int) -> Instance:
        if at is None:
            return one
        place = {"x_mm": at.x_mm, "y_mm": at.y_mm, "swing_deg": at.swing_deg}
        return one.model_copy(update={**place, "tie": tie})

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Tie {len(self.members)} together on plate {self.plate}"


class Untie(JobChange):
    """Untie a copy of an item, and all that it is tied to."""

    about_item: ClassVar[bool] = True
    kind: Literal["untie"] = "untie"
    copy_number: Annotated[int, Field(ge=1, le=1000)] = 1

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with each of them by itself."""
        wanted = (job.item(item).id, self.copy_number)
        every = [one for plate in job.plates for one in plate.instances]
        tie = next((one.tie for one in every if (one.item, one.copy_number) == wanted), 0)
        if not tie:
            raise changed_meanwhile()
        plates = tuple(
            Plate(
                instances=tuple(
                    one.model_copy(update={"tie": 0}) if one.tie == tie else one for one in plate.instances
                )
            )
            for plate in job.plates
        )
        return altered(job, plates=plates)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Untie {sheet.item_name[:80]}"

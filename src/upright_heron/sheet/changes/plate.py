"""Changes of plates: where items stand, how many copies there are, and how all are arranged."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from ...core.errors import BadValue
from ...core.plates.tied import Pose
from ..document import Length
from ..models import ItemSheet, JobSheet
from ..plating import Instance, Plate, Plating, Turning
from .base import JobChange, altered
from .items import changed_meanwhile
from .machines import on_printers

Place = Annotated[Length, Field(ge=-5000, le=5000)]
# So many copies of an item are kept at most, on all plates together.
MOST_COPIES = 200


class PlaceOnPlate(JobChange):
    """Put a copy of an item somewhere on its plate and swing it; without a place it is arranged.

    Locks stay as they are where nothing is said of them; ``plate`` moves it to another one, from 1.
    """

    about_item: ClassVar[bool] = True
    kind: Literal["place"] = "place"
    x_mm: Place | None = None
    y_mm: Place | None = None
    swing_deg: Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)] = 0.0
    copy_number: Annotated[int, Field(ge=1, le=1000)] = 1
    plate: Annotated[int, Field(ge=1, le=1000)] | None = None
    lock_x: bool | None = None
    lock_y: bool | None = None
    lock_swing: bool | None = None

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the item put there."""
        wanted = job.item(item).id
        if (self.x_mm is None) is not (self.y_mm is None):
            raise BadValue("Only one side of the place is typed.", "Type both, or neither.")
        of_item = [
            (k, one) for k, plate in enumerate(job.plates) for one in plate.instances if one.item == wanted
        ]
        if not of_item:
            raise BadValue("This item stands on no plate.", "Items that are cut are printed as their pieces.")
        found = next(((k, one) for k, one in of_item if one.copy_number == self.copy_number), None)
        if found is None:
            raise BadValue(f"There is no copy {self.copy_number} of this item.", "Pick one that is there.")
        where, old = found
        tied = [
            one for one in job.plates[where].instances if old.tie and one.tie == old.tie and one is not old
        ]
        moves = self.plate is not None and self.plate - 1 != where
        if tied and self.x_mm is None and not moves:
            raise BadValue("It is tied to others, as they stand.", "Untie them first.")
        locks = {name: getattr(self, name) for name in ("lock_x", "lock_y", "lock_swing")}
        moved = {"x_mm": self.x_mm, "y_mm": self.y_mm, "swing_deg": self.swing_deg}
        if tied and self.x_mm is None:
            # To another plate they go as they stand.
            moved = {}
        new = altered(old, **moved, **{name: lock for name, lock in locks.items() if lock is not None})
        carried = {id(one): _carried(one, old, new) for one in tied} | {id(old): new}
        plates = [list(plate.instances) for plate in job.plates]
        goes = [job.goes(k) for k in range(len(plates))]
        if not moves or self.plate is None:
            plates[where] = [carried.get(id(one), one) for one in plates[where]]
        elif self.plate > len(plates) + 1:
            raise BadValue(f"There is no plate {self.plate}.", f"Pick one from 1 to {len(plates) + 1}.")
        else:
            going = [carried[id(one)] for one in plates[where] if id(one) in carried]
            plates[where] = [one for one in plates[where] if id(one) not in carried]
            if self.plate > len(plates):
                plates.append([])
                goes.append(goes[where])
            plates[self.plate - 1] = [*plates[self.plate - 1], *going]
        return on_printers(job, plates, goes)

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        name = sheet.item_name[:80]
        copy = f", copy {self.copy_number}," if self.copy_number > 1 else ""
        plate = f" to plate {self.plate}" if self.plate is not None else ""
        if self.x_mm is None:
            return f"Move {name}{copy}{plate}" if plate else f"Arrange {name}{copy} on the plate"
        return f"Put {name}{copy}{plate} at {self.x_mm:g}, {self.y_mm:g} mm"


def _carried(one: Instance, old: Instance, new: Instance) -> Instance:
    """One that is tied to another, once that has gone from a place to another."""
    ways = [Pose(at.x_mm or 0.0, at.y_mm or 0.0, at.swing_deg) for at in (one, old, new)]
    pose = ways[0].carried(ways[1], ways[2])
    # What nobody could read off a ruler is rounding.
    place = {"x_mm": round(pose.x_mm, 3), "y_mm": round(pose.y_mm, 3), "swing_deg": round(pose.swing_deg, 3)}
    return altered(one, **place)


class MakeCopies(JobChange):
    """Print an item so often; new copies come to its plate, and are arranged there."""

    about_item: ClassVar[bool] = True
    kind: Literal["copies"] = "copies"
    count: Annotated[int, Field(ge=1, le=MOST_COPIES)]

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with so many instances of the item."""
        wanted = job.item(item).id
        mine = [one for plate in job.plates for one in plate.instances if one.item == wanted]
        if not mine:
            raise BadValue("This item stands on no plate.", "Items that are cut are printed as their pieces.")
        kept = {one.copy_number for one in sorted(mine, key=lambda one: one.copy_number)[: self.count]}
        fresh = [n for n in range(1, self.count + len(mine) + 1) if n not in kept][: self.count - len(kept)]
        home = job.plate_of(wanted)
        plates = []
        for k, plate in enumerate(job.plates):
            some = [one for one in plate.instances if one.item != wanted or one.copy_number in kept]
            if k == home:
                some += [Instance(item=wanted, copy_number=n) for n in fresh]
            if some:
                plates.append(Plate(instances=tuple(some)))
        return altered(job, plates=tuple(plates))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"{self.count} cop{'y' if self.count == 1 else 'ies'} of {sheet.item_name[:80]}"


class FillPlate(JobChange):
    """Fill a plate with copies of an item; made by the server, which knows their outlines."""

    about_item: ClassVar[bool] = True
    kind: Literal["fill"] = "fill"
    plate: Annotated[int, Field(ge=1, le=1000)]
    instances: tuple[Instance, ...]

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with these instances on the plate: all that stood there, and more of the item.

        Raises
        ------
        BadValue
            Something stands there that is not in these, or stands elsewhere too.
        """
        wanted = job.item(item).id
        if self.plate > len(job.plates):
            raise changed_meanwhile()
        here = {(one.item, one.copy_number) for one in job.plates[self.plate - 1].instances}
        others = [one for k, plate in enumerate(job.plates) if k != self.plate - 1 for one in plate.instances]
        asked = [(one.item, one.copy_number) for one in self.instances]
        fresh = set(asked) - here
        elsewhere = {(one.item, one.copy_number) for one in others}
        if len(set(asked)) < len(asked) or not here <= set(asked) or fresh & elsewhere:
            raise changed_meanwhile()
        if any(name != wanted for name, _ in fresh) or sum(name == wanted for name, _ in here) == 0:
            raise changed_meanwhile()
        plates = list(job.plates)
        plates[self.plate - 1] = Plate(instances=self.instances)
        return altered(job, plates=tuple(plates))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        count = sum(one.item == sheet.id for one in self.instances)
        return f"Fill plate {self.plate}: {count} of {sheet.item_name[:80]}"


class SetPlating(JobChange):
    """Decide how plates are arranged."""

    kind: Literal["plating"] = "plating"
    gap_mm: Annotated[Length, Field(ge=0, le=100)] = 3.0
    edge_mm: Annotated[Length, Field(ge=0, le=100)] = 0.0
    turning: Turning = Turning.QUARTERS
    boxes: bool = False
    in_turn: bool = False
    by_due: bool = False

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with plates arranged so."""
        return altered(job, plating=Plating(**{name: getattr(self, name) for name in Plating.model_fields}))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        turning = {Turning.NONE: "as they are", Turning.QUARTERS: "quarter turns", Turning.FREELY: "any turn"}
        after = (", one after the other" if self.in_turn else "") + (", due first" if self.by_due else "")
        return f"Arrange with a gap of {self.gap_mm:g} mm, {turning[self.turning]}{after}"


class Arrange(JobChange):
    """Lay all items on plates; made by the server, which knows their outlines.

    Those that fit no plate are not there: they stay on the last, unplaced.
    """

    kind: Literal["arrange"] = "arrange"
    plates: tuple[tuple[Instance, ...], ...]

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with its instances on these plates."""
        known = {(one.item, one.copy_number) for plate in job.plates for one in plate.instances}
        asked = [(one.item, one.copy_number) for plate in self.plates for one in plate]
        if sorted(asked) != sorted(known):
            raise changed_meanwhile()
        goes = [{job.item(one.item).elsewhere for one in some} for some in self.plates]
        if any(len(printers) > 1 for printers in goes):
            raise changed_meanwhile()
        return altered(job, plates=tuple(Plate(instances=some) for some in self.plates if some))

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        count = len(self.plates)
        return f"Arrange on {count} plate{'' if count == 1 else 's'}"

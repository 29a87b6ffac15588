"""Filling a plate with copies of an item: what is laid first, and what counts as full."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from ..core.errors import BadValue
from ..core.recipes.values import OnPlates
from ..sheet.changes import FillPlate
from ..sheet.models import JobSheet
from .bind_job import copies_to_try, laid_first, with_only


async def filled(job: JobSheet, item: str, lay: Callable[[JobSheet], Awaitable[OnPlates]]) -> FillPlate:
    """The change that fills the plate of an item with copies of it; what was put there stays.

    Parameters
    ----------
    job : JobSheet
    item : str
    lay : callable
        Lays all of a job whose plates go to one printer.

    Returns
    -------
    FillPlate

    Raises
    ------
    BadValue
        The item stands on no plate, the plate does not hold what stands there, or no more have room.
    """
    plate = job.plate_of(item)
    before = job.plates[plate].instances
    if all(one.item != item for one in before):
        raise BadValue("This item stands on no plate.", "Items that are cut are printed as their pieces.")
    put = [one for one in before if one.x_mm is not None]
    waiting = [one for one in before if one.x_mm is None and one.item != item]
    if waiting:
        # What is no copy comes first.
        others = with_only(job, [*put, *waiting])
        put = list(laid_first(others, await lay(others), before))
    copies = copies_to_try(job, plate, item)
    more = with_only(job, [*put, *copies])
    full = laid_first(more, await lay(more), put, copies)
    if not {(one.item, one.copy_number) for one in before} <= {(one.item, one.copy_number) for one in full}:
        raise BadValue(f"Plate {plate + 1} does not hold what stands on it.", "Arrange all plates first.")
    if len(full) == len(before):
        raise BadValue("No more of it have room on this plate.", "Lower the gap, or turn it another way.")
    return FillPlate(plate=plate + 1, instances=full)

"""Items of one job on the plates of another."""

from __future__ import annotations

from collections import Counter

from ..core.errors import BadValue
from ..sheet.changes import BringItems, GoWith
from ..sheet.changes.bring import Brought
from ..sheet.item import Elsewhere, OfJob
from ..store.store import Job


def brought(source: Job) -> BringItems:
    """The change that brings all that a job prints to another.

    Parameters
    ----------
    source : Job

    Returns
    -------
    BringItems
    """
    sheet = source.sheet
    counts = Counter(one.item for plate in sheet.plates for one in plate.instances)
    walls = None if sheet.is_resin else sheet.process.walls
    infill = None if sheet.is_resin else sheet.process.infill_percent
    of = OfJob(
        job=source.id, step=source.step_id, name=sheet.name, due=sheet.order.due,
        layer_mm=sheet.layer_mm, walls=walls, infill_percent=infill,
    )  # fmt: skip
    items = []
    for item in sheet.printed:
        own = sheet.on(item.id)
        there = Elsewhere(
            printer=own.printer,
            own_printer=own.own_printer,
            calibration=own.calibration,
            material=own.material,
            own_material=own.own_material,
        )
        items.append(
            Brought(item=item.model_copy(update={"elsewhere": there}), count=max(1, counts[item.id]))
        )
    return BringItems(of=of, technology=sheet.machine.technology, items=tuple(items))


def goes_with(host: Job, source: Job) -> GoWith:
    """The change that notes with a job where it is printed.

    Raises
    ------
    BadValue
        It is the same job, or holds items of the other: both would wait for each other.
    """
    if host.id == source.id:
        raise BadValue("That is this job.", "Pick another.")
    if any(item.of is not None and item.of.job == host.id for item in source.sheet.items):
        raise BadValue(f"“{source.sheet.name}” holds items of this job.", "Bring them from where they came.")
    return GoWith(job=host.id, name=host.sheet.name)

"""Settings of plates, read off the sheet of a job."""

from __future__ import annotations

import math
from collections.abc import Sequence

from ..core.plates.in_turn import Clearance
from ..core.plates.nesting import FREELY, QUARTERS, Room
from ..core.recipes import settings as s
from ..sheet.models import JobSettings, JobSheet
from ..sheet.plating import Instance, Turning

TURNS = {Turning.NONE: (0.0,), Turning.QUARTERS: QUARTERS, Turning.FREELY: FREELY}


def items_of(job: JobSheet, plate: int) -> tuple[str, ...]:
    """Ids of the items on a plate, each once, in the order of the job."""
    there = {one.item for one in job.plates[plate].instances}
    return tuple(item.id for item in job.items if item.id in there)


def layout(job: JobSheet, plate: int) -> s.Layout:
    """A plate and all that stands on it."""
    there = job.of_plate(plate)
    machine = there.machine
    return s.Layout(
        machine.build_mm,
        machine.spot_mm,
        tuple(_instance(one) for one in job.plates[plate].instances),
        items_of(job, plate),
        job.plating.gap_mm,
        machine.worn,
        Clearance(machine.head_mm, machine.rail_mm) if there.in_turn else None,
    )


def room_of(job: JobSettings) -> Room:
    """Where outlines may lie on a plate."""
    machine, asked = job.machine, job.plating
    x, y, _ = machine.build_mm
    return Room((x, y), job.apart_mm, asked.edge_mm, machine.spot_mm, machine.worn, TURNS[asked.turning])


def by_printer(job: JobSheet) -> list[list[int]]:
    """Plates of a job, from 0, together where they go to one printer and are of one material."""
    found: dict[str, list[int]] = {}
    for k in range(len(job.plates)):
        found.setdefault(job.of_plate(k).pair, []).append(k)
    return list(found.values())


def to_arrange(job: JobSheet, plates: Sequence[int], seconds: int = 0) -> s.ToArrange:
    """All that stands on plates for one printer, to be arranged anew; what is locked and was put stays.

    How an item was swung by hand counts as far as turning leaves it.
    """
    settings = job.of_plate(plates[0])
    turning = job.plating.turning

    def swung(one: Instance) -> float:
        if turning is Turning.FREELY:
            return 0.0
        return one.swing_deg % 90.0 if turning is Turning.QUARTERS else one.swing_deg

    every = [(n, one) for n, plate in enumerate(plates) for one in job.plates[plate].instances]
    here = {one.item for _, one in every}
    ties = _ties(every)
    first = {k: tie[0] for tie in ties for k in tie}
    # What is tied is locked as a whole, by whatever is locked of any of it.
    held: dict[int, list[Instance]] = {}
    for k, (_, one) in enumerate(every):
        if one.locked and one.x_mm is not None and one.y_mm is not None:
            held.setdefault(first.get(k, k), []).append(one)
    locks = tuple(
        (
            k,
            every[k][0],
            any(one.lock_x for one in some),
            any(one.lock_y for one in some),
            any(one.lock_swing for one in some),
        )
        for k, some in sorted(held.items())
    )

    def shown(k: int, one: Instance) -> s.Instance:
        if first.get(k, k) in held:
            return _instance(one)
        if k in first:
            at = every[first[k]][1]
            x, y = (one.x_mm or 0.0) - (at.x_mm or 0.0), (one.y_mm or 0.0) - (at.y_mm or 0.0)
            return s.Instance(one.item, round(x, 6), round(y, 6), one.swing_deg, one.copy_number)
        # Only what is locked counts of where they stood: the same is arranged the same again.
        return s.Instance(one.item, None, None, swung(one), one.copy_number)

    return s.ToArrange(
        room_of(settings),
        settings.machine.build_mm[2],
        tuple(shown(k, one) for k, (_, one) in enumerate(every)),
        locks,
        tuple(item.id for item in job.printed if item.id in here),
        job.plating.boxes,
        seconds,
        ties,
        _ranks(job, [one for _, one in every]) if job.plating.by_due else (),
        settings.machine.rail_mm if settings.in_turn else None,
    )  # fmt: skip


def _ranks(job: JobSheet, every: Sequence[Instance]) -> tuple[int, ...]:
    """For each instance the place of its due date among all of them; last what is due at no time."""
    # An item that came from another job is due with that.
    origins = (job.item(one.item).of for one in every)
    dates = (job.order.due if of is None else of.due for of in origins)
    found = [math.inf if due is None else due.toordinal() for due in dates]
    order = {day: k for k, day in enumerate(sorted(set(found)))}
    return tuple(order[day] for day in found) if len(order) > 1 else ()


def _ties(every: Sequence[tuple[int, Instance]]) -> tuple[tuple[int, ...], ...]:
    """Which of some instances, each with its plate, are tied together: two at least, all put somewhere."""
    found: dict[tuple[int, int], list[int]] = {}
    for k, (plate, one) in enumerate(every):
        if one.tie and one.x_mm is not None and one.y_mm is not None:
            found.setdefault((plate, one.tie), []).append(k)
    return tuple(tuple(some) for some in found.values() if len(some) > 1)


def _instance(one: Instance) -> s.Instance:
    return s.Instance(one.item, one.x_mm, one.y_mm, one.swing_deg, one.copy_number)

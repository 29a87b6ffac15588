"""The machines of the shop as they are told: what each prints, what waits, and how long that takes."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.toolpaths.learned import factor
from ..sheet.shop import Finished, Station
from ..stand_in.protocol import Status
from ..store.prints import ENDED, UNDER_WAY, WAITING, Print
from ..store.store import Store
from .floor import Floor


@dataclass(frozen=True, slots=True)
class AtWork:
    """A machine of the shop.

    Attributes
    ----------
    station : Station
    status : Status or None
        ``None`` where it does not answer, or was not asked yet.
    trouble : str
        Why there is none.
    now : Print or None
        What it prints, or what lies on its plate.
    queue : list of Print
    left_s : float or None
        What the print it has still takes, as far as its own prints say.
    queue_s : float
        What all that waits takes.
    """

    station: Station
    status: Status | None
    trouble: str
    now: Print | None
    queue: list[Print]
    left_s: float | None
    queue_s: float

    @property
    def share(self) -> float:
        """How much of its print is done."""
        if self.status is None or self.status.whole_s <= 0:
            return 0.0
        return min(1.0, self.status.printed_s / self.status.whole_s)

    @property
    def free_in_s(self) -> float:
        """When it could begin with something new: after what it has, and what waits."""
        return (self.left_s or 0.0) + self.queue_s


def longer(store: Store, model: str) -> float:
    """How much longer prints take on a kind of machine than was told, as far as its prints say."""
    learned = store.on_shelf(Finished, model)
    known = factor(learned.ratios) if learned is not None else None
    return known.value if known is not None else 1.0


def machines_at_work(store: Store, floor: Floor) -> list[AtWork]:
    """All machines of the shop."""
    waiting = store.prints(*WAITING)
    under_way = {one.station: one for one in store.prints(*UNDER_WAY)}
    # What lies on a plate is the newest that ended and was not cleared.
    lying: dict[str, Print] = {}
    for one in store.prints(*ENDED, limit=400):
        if not one.cleared:
            lying.setdefault(one.station, one)
    found = []
    for station in store.shelf(Station):
        seen = floor.seen(station.name)
        status = seen.status if seen is not None else None
        times = longer(store, station.model)
        mine = [one for one in waiting if one.station == station.name]
        left = None
        if status is not None and status.state.busy:
            left = max(0.0, status.whole_s - status.printed_s) * times / max(status.speed, 0.1)
        now = under_way.get(station.name) or lying.get(station.name)
        trouble = "being asked…" if seen is None else seen.trouble
        queue_s = times * sum(one.told_s for one in mine)
        found.append(AtWork(station, status, trouble, now, mine, left, queue_s))
    return found

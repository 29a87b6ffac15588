"""Spools and bottles of the shop: which is on which machine, and what is left of each."""

from __future__ import annotations

from ..core.errors import BadValue
from ..sheet.shop import Spool, Station
from ..store.store import Store
from .floor import Floor


def spools_now(store: Store, floor: Floor) -> list[Spool]:
    """All of them with what is left now, as the machines say that they are on."""
    return [_now(one, floor) for one in store.shelf(Spool)]


def _now(spool: Spool, floor: Floor) -> Spool:
    seen = floor.seen(spool.on) if spool.on else None
    if seen is None or seen.status is None:
        return spool
    return spool.model_copy(update={"left_g": seen.status.left_g})


def put_on(store: Store, floor: Floor, station: Station, name: str) -> None:
    """Put a spool or bottle on a machine, and take off what was on it.

    Raises
    ------
    BadValue
        There is none of that name, it is for another technology, nothing is left of it, or it is on another
        machine.
    HeronError
        The machine does not answer or refuses.
    """
    spool = store.on_shelf(Spool, name)
    if spool is None:
        raise BadValue(f"There is no spool or bottle “{name[:60]}”.", "Pick one of the list.")
    seen = floor.seen(station.name)
    if seen is not None and seen.status is not None and seen.status.technology != spool.technology.value:
        raise BadValue(f"{spool.name} is for {spool.technology.value}.", "Pick another.")
    if spool.on and spool.on != station.name:
        raise BadValue(f"{spool.name} is on {spool.on}.", "Take it off there first.")
    if spool.left_g <= 0:
        raise BadValue(f"Nothing is left of {spool.name}.", "Weigh it, or pick another.")
    if spool.on == station.name:
        return
    refill(store, floor, station.name, spool.left_g, spool.material)
    store.shelve(spool.model_copy(update={"on": station.name}))


def refill(store: Store, floor: Floor, station: str, grams: float, material: str) -> None:
    """Have a machine take a new spool or bottle; once it has, what is known by its name is back on the rack.

    Raises
    ------
    HeronError
        The machine does not answer or refuses: what was on it stays there.
    """
    # What the machine says is left is of the one that comes off, until it has taken the other.
    off = _coming_off(store, floor, station)
    floor.ask(station, lambda client: client.post("/spool", {"grams": grams, "material": material}))
    for one in off:
        store.shelve(one)


def take_off(store: Store, floor: Floor, station: str) -> None:
    """Put what is on a machine back on the rack, with what is left of it."""
    for one in _coming_off(store, floor, station):
        store.shelve(one)


def _coming_off(store: Store, floor: Floor, station: str) -> list[Spool]:
    """What is on a machine, as it would be back on the rack."""
    on = [one for one in store.shelf(Spool) if one.on == station]
    return [_now(one, floor).model_copy(update={"on": ""}) for one in on]


def keep_spool(store: Store, spool: Spool, old: str = "") -> None:
    """Keep a spool or bottle, new or edited.

    Raises
    ------
    BadValue
        There is one of that name already.
    """
    before = store.on_shelf(Spool, old) if old else None
    if spool.name != old and store.on_shelf(Spool, spool.name) is not None:
        raise BadValue(f"There is a “{spool.name}” already.", "Give each a name of its own.")
    if before is not None:
        spool = spool.model_copy(update={"on": before.on})
        if before.on:
            # What is left of it is the machine's to say, and what it is was told the machine.
            spool = spool.model_copy(update={"left_g": before.left_g, "material": before.material})
        if spool.name != old:
            store.unshelve(Spool, old)
    store.shelve(spool)


def forget_spool(store: Store, name: str) -> None:
    """Take a spool or bottle off the shelf.

    Raises
    ------
    BadValue
        It is on a machine.
    """
    found = store.on_shelf(Spool, name)
    if found is not None and found.on:
        raise BadValue(f"{found.name} is on {found.on}.", "Take it off there first.")
    store.unshelve(Spool, name)

"""The machines of the shop: each has a queue that is worked off print by print, whatever is killed.

A print has one token from the moment it is queued. What is told a machine may be told again: it takes
the same print in once and begins it once. What is known of a print is in the database before anything
follows from it.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass

from ..core.errors import HeronError
from ..sheet.shop import LEAST_FLOW, MOST_FLOW, Finished, Spool, Station
from ..stand_in.protocol import Start, State, Status
from ..store.prints import UNDER_WAY, Print, Stage
from ..store.store import Store
from .kinds import kinds_of_materials
from .machine_client import MachineClient, MachineRefuses, NoAnswer

log = logging.getLogger(__name__)

# A machine is asked so often, s.
ASKED_S = 1.0
# Of each print so many pictures are taken, one behind the other.
STEPS = 6
_STAGE = {State.DONE: Stage.DONE, State.FAILED: Stage.FAILED, State.CANCELLED: Stage.CANCELLED}


@dataclass(frozen=True, slots=True)
class Seen:
    """What is known of a machine now; no status where it does not answer, and why."""

    status: Status | None
    trouble: str = ""


class Floor:
    """Works the queues of all machines off.

    Parameters
    ----------
    store : Store
    asked_s : float
        How often each machine is asked.
    client : callable
        From an address to who speaks to it.
    """

    def __init__(
        self,
        store: Store,
        *,
        asked_s: float = ASKED_S,
        client: Callable[[str], MachineClient] = MachineClient,
    ) -> None:
        self._store, self._asked_s, self._client = store, asked_s, client
        self._seen: dict[str, Seen] = {}
        self._changed = threading.Condition()
        self._count = 0
        self._ending = threading.Event()
        self._hurry = threading.Event()
        self._thread = threading.Thread(target=self._run, name="floor", daemon=True)

    def start(self) -> None:
        """Begin to work."""
        self._thread.start()

    def close(self) -> None:
        """Stop; what is under way goes on at the machines."""
        self._ending.set()
        self._hurry.set()
        if self._thread.is_alive():
            self._thread.join(timeout=10)
        with self._changed:
            self._changed.notify_all()

    def hurry(self) -> None:
        """Something was queued, cleared or changed: look at once."""
        self._hurry.set()

    def seen(self, station: str) -> Seen | None:
        """What was last known of a machine; ``None`` before it was first asked."""
        return self._seen.get(station)

    @property
    def count(self) -> int:
        """Rises whenever something changes."""
        return self._count

    def wait(self, count: int, within: float) -> int:
        """Wait until something has changed since a count, or so long."""
        with self._changed:
            self._changed.wait_for(lambda: self._count != count or self._ending.is_set(), within)
            return self._count

    def ask(self, station: str, what: Callable[[MachineClient], Status]) -> None:
        """Have a machine do something, and look at what it does then.

        Raises
        ------
        HeronError
            It does not answer or refuses.
        """
        found = self._store.on_shelf(Station, station)
        if found is None:
            raise NoAnswer(f"There is no machine “{station}”.", "Pick one of the list.")
        self._see(found.name, Seen(what(self._client(found.url))))
        self.hurry()

    def picture(self, station: Station, layer: int, of: str = "") -> tuple[bytes, str] | None:
        """A picture that a machine took of a print, and what kind it is of.

        ``None`` where it has another print by now, or keeps later pictures only.

        Raises
        ------
        NoAnswer
        """
        client = self._client(station.url)

        def gone() -> bool:
            if not of:
                return False
            now = client.status()
            return now.token != of or layer not in now.pictures

        if gone():
            return None
        try:
            return client.picture(layer)
        except NoAnswer:
            # It may go between the two.
            if gone():
                return None
            raise

    def free(self, station: str) -> None:
        """Have a machine give up and forget a print that nobody here knows, once its plate is clear.

        Raises
        ------
        HeronError
            It does not answer, or its print is known: that is cleared by itself.
        """

        def freed(client: MachineClient) -> Status:
            status = client.status()
            if not status.token:
                return status
            if self._store.is_print(status.token):
                raise MachineRefuses("Its print is one of ours.", "Say so at that print.")
            if not status.state.ended:
                client.act(status.token, "cancel")
            return client.act(status.token, "clear")

        self.ask(station, freed)

    # The loop -----------------------------------------------------------------------

    def _run(self) -> None:
        while not self._ending.is_set():
            self._hurry.clear()
            try:
                self.round()
            except Exception:
                # The queues have to be worked off tomorrow as well.
                log.exception("The machines could not be looked at.")
            self._hurry.wait(self._asked_s)

    def round(self) -> None:
        """Look at every machine once and do what is next."""
        for station in self._store.shelf(Station):
            if self._ending.is_set():
                return
            try:
                self._see(station.name, Seen(self._step(station)))
            except HeronError as error:
                self._see(station.name, Seen(None, str(error)))

    def _see(self, name: str, seen: Seen) -> None:
        with self._changed:
            if self._seen.get(name) != seen:
                self._seen[name] = seen
                self._count += 1
                self._changed.notify_all()

    def _step(self, station: Station) -> Status:
        """Do what is next at one machine, and tell what it does."""
        client, store = self._client(station.url), self._store
        status = client.status()
        if status.model != station.model:
            raise NoAnswer(
                f"{station.name} is a {status.model}, not a {station.model}.", "Check its address."
            )
        under_way = store.prints(*UNDER_WAY, station=station.name)
        if under_way:
            return self._follow(client, status, under_way[0], station)
        if status.state.ended and status.token:
            if not store.is_cleared(status.token):
                return status
            status = client.act(status.token, "clear")
        if status.state is State.READY and status.token:
            # What was sent and then withdrawn nowhere: nobody knows it. It stays, and is told.
            return status
        if status.state is State.IDLE:
            waiting = store.take_next(station.name)
            if waiting is not None:
                return self._follow(client, status, waiting, station)
        return status

    def _follow(self, client: MachineClient, status: Status, one: Print, station: Station) -> Status:
        """Go on with a print that is under way, wherever it was left."""
        store = self._store
        if status.token != one.id:
            if one.stage is Stage.PRINTING:
                # The machine forgot it: a swap of its memory, or another machine at the address.
                self._over(one, Stage.FAILED, status, "the machine does not know it any more")
                return status
            if status.token:
                # Another print is in the way: it is waited for.
                return status
            try:
                status = client.upload(one.id, one.file_name, store.file_of(one.id))
            except MachineRefuses as error:
                self._over(one, Stage.FAILED, status, str(error))
                return client.status()
        on = next((spool for spool in store.shelf(Spool) if spool.on == one.station), None)
        if status.state is State.READY:
            # At as many heights as fit side by side.
            every = max(1, one.layers // STEPS)
            flow = self._flow(on, one.material)
            asked = Start(token=one.id, flow=flow, pictures_every=every, calibrate=station.calibrate)
            status = client.start(asked)
        if status.state.busy:
            store.has_begun(one.id, on.name if on is not None else "")
        elif status.state.ended:
            store.has_begun(one.id, on.name if on is not None else "")
            if on is not None:
                store.shelve(on.model_copy(update={"left_g": status.left_g}))
            self._over(one, _STAGE[status.state], status, status.reason)
        return status

    def _flow(self, on: Spool | None, material: str) -> float:
        """What the machine has to push of what is on it for one that a file asks for."""
        if on is None or on.diameter_mm is None:
            return 1.0
        kind = kinds_of_materials(self._store).get(material)
        flow = on.flow(kind.diameter_mm) if kind is not None else 1.0
        # Filament of another size than the file is for is nothing to be made up for by pushing.
        return flow if LEAST_FLOW <= flow <= MOST_FLOW else 1.0

    def _over(self, one: Print, stage: Stage, status: Status, reason: str) -> None:
        """Keep what became of a print, once, and learn from it."""
        mine = status.token == one.id
        real = status.spent_s if mine and status.spent_s > 0 else None
        layer = status.layer if mine else 0
        # A machine that does not have it has nothing to be cleared of.
        fresh = self._store.has_ended(one.id, stage, layer=layer, real_s=real, reason=reason)
        if fresh and not mine:
            self._store.clear_plate(one.id)
        if fresh and stage is Stage.DONE and real is not None and one.told_s > 0:
            ratio = real / one.told_s
            if Finished.believed(ratio):
                known = self._store.on_shelf(Finished, one.model) or Finished(name=one.model)
                self._store.shelve(known.with_one(ratio))
        with self._changed:
            self._count += 1
            self._changed.notify_all()

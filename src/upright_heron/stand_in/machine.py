"""A simulated printer: what it was sent, how far it is, what runs out. It survives being killed.

All that it is lies in a file that is replaced in one go, so that whoever starts it again finds it as it was,
at most a moment before.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from threading import RLock

from ..core.errors import BadValue, HeronError
from ..core.machines.catalogue import Printer
from .files import PrintFile, read_file
from .layer_drawing import Drawing, layer_drawing
from .protocol import Refill, Start, State, Status, Trouble, Tune

# What a filament machine takes to find its plate, s.
CALIBRATION_S = 180.0
# Heaters are put out so long after the last print, s.
SLEEPS_S = 600.0
# Progress is written down so often at most, s of the wall clock.
KEPT_S = 0.2
# Prints that were begun are remembered as far as this.
MOST_BEGUN = 2000
# So many pictures of a print are kept, the last ones.
MOST_PICTURES = 200


class NotNow(HeronError):
    """The machine is not in a state to do that."""


@dataclass(frozen=True, slots=True)
class Kept:
    """What is written down."""

    state: State = State.IDLE
    token: str = ""
    file: str = ""
    layers: int = 0
    whole_s: float = 0.0
    grams: float = 0.0
    printed_s: float = 0.0
    spent_s: float = 0.0
    calibrated_s: float = 0.0
    left_g: float = 1000.0
    material: str = ""
    nozzle_c: float = 0.0
    bed_c: float = 0.0
    speed: float = 1.0
    flow: float = 1.0
    pictures_every: int = 0
    reason: str = ""
    fail_at: int = -1
    fail_reason: str = ""
    before_door: str = ""
    rested_s: float = 0.0
    begun: tuple[str, ...] = ()


class StandIn:
    """One simulated machine.

    Parameters
    ----------
    printer : Printer
        The kind of machine.
    name : str
        Its own name.
    folder : Path
        Where its state and the file it prints are kept.
    speed_up : float
        So much faster than the clock.
    slower : float
        So much longer than the file says it takes.
    grams : float
        On its first spool.
    clock : callable
        Seconds; the wall clock where it is not given.
    """

    def __init__(
        self,
        printer: Printer,
        name: str,
        folder: Path,
        *,
        speed_up: float = 1.0,
        slower: float = 1.0,
        grams: float = 1000.0,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.printer, self.name, self.folder = printer, name, folder
        self.speed_up, self.slower = speed_up, slower
        self._clock = clock
        self._lock = RLock()
        folder.mkdir(parents=True, exist_ok=True)
        self._kept = self._read() or Kept(left_g=grams)
        self._last = clock()
        self._written = self._last

    # What is asked -------------------------------------------------------------

    def status(self) -> Status:
        """What it does now."""
        with self._lock:
            self._advance()
            k = self._kept
            layer = k.layers if k.state is State.DONE else self._layers_done(k)
            return Status(
                name=self.name,
                model=self.printer.name,
                technology=self.printer.technology.value,
                state=k.state,
                token=k.token,
                file=k.file,
                layer=layer,
                layers=k.layers,
                printed_s=k.printed_s,
                whole_s=k.whole_s,
                spent_s=k.spent_s,
                left_g=round(max(0.0, k.left_g), 3),
                material=k.material,
                nozzle_c=k.nozzle_c,
                bed_c=k.bed_c,
                exposing=k.state is State.PRINTING and self.printer.technology.value == "resin",
                speed=k.speed,
                reason=k.reason,
                asleep=k.rested_s > SLEEPS_S,
                flow=k.flow,
                pictures=self._pictures(k, layer),
            )

    @property
    def begun(self) -> tuple[str, ...]:
        """Tokens of all prints that were ever begun, in their order, once for each time."""
        return self._kept.begun

    # What is done --------------------------------------------------------------

    def upload(self, token: str, name: str, data: bytes) -> None:
        """Take a file in; the same print again changes nothing.

        Raises
        ------
        BadValue
            It is for another kind of machine, or cannot be read.
        NotNow
            The machine has another print, or a plate to be cleared.
        """
        with self._lock:
            self._advance()
            if self._kept.token == token:
                return
            if self._kept.state not in (State.IDLE, State.READY):
                raise NotNow(f"{self.name} has another print.", "Wait for it, and clear the plate.")
            found = read_file(data)
            self._refuse(found)
            _replace(self.folder / "print", data)
            fresh = Kept(left_g=self._kept.left_g, material=self._kept.material, begun=self._kept.begun)
            ready = replace(
                fresh,
                state=State.READY,
                token=token,
                file=name,
                layers=found.layers,
                whole_s=found.seconds,
                grams=found.grams,
                nozzle_c=found.nozzle_c,
                bed_c=found.bed_c,
            )
            self._keep(ready)

    def _refuse(self, found: PrintFile) -> None:
        mine = self.printer
        if found.model != mine.name or found.technology != mine.technology.value:
            raise BadValue(
                f"The file is for a {found.model}, this is a {mine.name}.", "Make it for this one."
            )
        if found.layers < 1 or found.seconds <= 0:
            raise BadValue("There is nothing in the file to print.", "Make it again.")

    def start(self, asked: Start) -> None:
        """Begin the print that was taken in; what runs or ran is not begun again."""
        with self._lock:
            self._advance()
            self._mine(asked.token)
            if self._kept.state is not State.READY:
                return
            calibrating = asked.calibrate and self.printer.technology.value == "filament"
            state = State.CALIBRATING if calibrating else State.PRINTING
            begun = (*self._kept.begun, asked.token)[-MOST_BEGUN:]
            begun_so = replace(
                self._kept, state=state, begun=begun, rested_s=0.0,
                flow=asked.flow, pictures_every=asked.pictures_every,
            )  # fmt: skip
            self._keep(begun_so)

    def picture(self, layer: int) -> Drawing:
        """The picture that was taken behind a layer: what the machine laid there.

        Raises
        ------
        NotNow
            None was taken there, or not yet.
        """
        with self._lock:
            if layer not in self.status().pictures:
                raise NotNow(f"{self.name} took no picture at layer {layer}.", "Look at what it tells.")
            data = (self.folder / "print").read_bytes()
        return layer_drawing(data, layer, self.printer.build_mm[:2])

    def pause(self, token: str) -> None:
        """Wait until somebody goes on."""
        with self._lock:
            self._advance()
            self._mine(token)
            if self._kept.state in (State.PRINTING, State.CALIBRATING):
                self._keep(replace(self._kept, state=State.PAUSED, reason="somebody paused it"))

    def resume(self, token: str) -> None:
        """Go on behind a pause, or behind a new spool."""
        with self._lock:
            self._advance()
            self._mine(token)
            if self._kept.state is State.EMPTY and self._kept.left_g <= 0:
                raise NotNow(f"{self.name} has nothing to print with.", "Put a new spool or bottle in.")
            if self._kept.state in (State.PAUSED, State.EMPTY):
                self._keep(replace(self._kept, state=State.PRINTING, reason=""))

    def cancel(self, token: str) -> None:
        """Give a print up."""
        with self._lock:
            self._advance()
            self._mine(token)
            if self._kept.state.busy or self._kept.state is State.READY:
                self._keep(replace(self._kept, state=State.CANCELLED, reason="somebody gave it up"))

    def clear(self, token: str) -> None:
        """Say that the plate is free; again for the same print changes nothing."""
        with self._lock:
            self._advance()
            if not self._kept.token:
                return
            self._mine(token)
            if not self._kept.state.ended:
                raise NotNow(f"{self.name} is not done.", "Wait, or give the print up first.")
            old = self._kept
            self._keep(Kept(left_g=old.left_g, material=old.material, begun=old.begun))

    def refill(self, asked: Refill) -> None:
        """Put a new spool or bottle in."""
        with self._lock:
            self._advance()
            kept = replace(self._kept, left_g=asked.grams, material=asked.material or self._kept.material)
            if kept.state is State.EMPTY:
                kept = replace(kept, reason="a new spool is in: say go on")
            self._keep(kept)

    def tune(self, asked: Tune) -> None:
        """Change speed or temperatures while it prints."""
        with self._lock:
            self._advance()
            told = {key: value for key, value in asked.model_dump().items() if value is not None}
            self._keep(replace(self._kept, **told))

    def door(self, *, opened: bool) -> None:
        """Open or shut the door: it waits while it is open."""
        with self._lock:
            self._advance()
            k = self._kept
            if opened and k.state in (State.PRINTING, State.CALIBRATING):
                self._keep(replace(k, state=State.DOOR, before_door=k.state.value, reason="the door is open"))
            elif not opened and k.state is State.DOOR:
                self._keep(replace(k, state=State(k.before_door), before_door="", reason=""))

    def trouble(self, asked: Trouble) -> None:
        """Fail at a layer of the print that it has."""
        with self._lock:
            self._advance()
            self._keep(replace(self._kept, fail_at=asked.layer, fail_reason=asked.reason))

    # Time ------------------------------------------------------------------------

    def _advance(self) -> None:
        """Let the time pass that has passed since it was last looked at."""
        now = self._clock()
        passed, self._last = (now - self._last) * self.speed_up, now
        before = self._kept
        k = self._after(before, passed)
        if k.state is not before.state or (k != before and now - self._written >= KEPT_S):
            self._keep(k)
        else:
            self._kept = k

    def _after(self, k: Kept, passed: float) -> Kept:
        if k.state is State.CALIBRATING:
            left = CALIBRATION_S - k.calibrated_s
            if passed < left:
                return replace(k, calibrated_s=k.calibrated_s + passed)
            k, passed = replace(k, state=State.PRINTING, calibrated_s=CALIBRATION_S), passed - left
        if k.state is not State.PRINTING:
            return replace(k, rested_s=k.rested_s + passed)
        rate = k.grams / k.whole_s
        # By the clock of the file: it ends, fails or runs empty, whatever comes first.
        ends = [(k.whole_s - k.printed_s, State.DONE, "")]
        if k.fail_at >= 0:
            ends.append((k.fail_at / k.layers * k.whole_s - k.printed_s, State.FAILED, k.fail_reason))
        if rate > 0:
            ends.append((k.left_g / rate, State.EMPTY, "the spool or bottle is empty"))
        step, state, reason = min((max(0.0, at), state, reason) for at, state, reason in ends)
        pace = k.speed / self.slower
        if step > passed * pace:
            step, state, reason = passed * pace, k.state, k.reason
        left = 0.0 if state is State.EMPTY else k.left_g - step * rate
        return replace(
            k,
            printed_s=k.printed_s + step,
            spent_s=k.spent_s + step / pace,
            left_g=left,
            state=state,
            reason=reason,
        )

    @staticmethod
    def _pictures(k: Kept, layer: int) -> tuple[int, ...]:
        if not k.pictures_every or not k.token:
            return ()
        return tuple(range(k.pictures_every, layer + 1, k.pictures_every))[-MOST_PICTURES:]

    def _layers_done(self, k: Kept) -> int:
        if not k.layers or k.whole_s <= 0:
            return 0
        # The last is done when all is.
        return min(k.layers - 1, int(k.printed_s / k.whole_s * k.layers + 1e-9))

    # Keeping ---------------------------------------------------------------------

    def _mine(self, token: str) -> None:
        if self._kept.token != token:
            raise NotNow(f"{self.name} does not have that print.", "Look at what it does.")

    def _keep(self, kept: Kept) -> None:
        self._kept = kept
        self._written = self._clock()
        _replace(self.folder / "state.json", json.dumps(asdict(kept)).encode())

    def _read(self) -> Kept | None:
        try:
            raw = json.loads((self.folder / "state.json").read_bytes())
        except FileNotFoundError:
            return None
        return Kept(**{**raw, "state": State(raw["state"]), "begun": tuple(raw["begun"])})


def _replace(path: Path, data: bytes) -> None:
    """Replace a file in one go, on the disk before anybody is told."""
    fresh = path.with_suffix(".new")
    with fresh.open("wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    fresh.replace(path)

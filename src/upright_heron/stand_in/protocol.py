"""What a machine and whoever sends prints to it say to each other; see docs/machine-protocol.md."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

VERSION = 1
# A print has one token from the moment that it is queued: whatever is repeated with it happens once.
Token = Annotated[str, Field(pattern=r"^[0-9a-f]{8,40}$")]


class State(StrEnum):
    """What a machine does."""

    IDLE = "idle"
    READY = "ready"
    CALIBRATING = "calibrating"
    PRINTING = "printing"
    PAUSED = "paused"
    EMPTY = "empty"
    DOOR = "door"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"

    @property
    def ended(self) -> bool:
        """Whether the print that it had is over, and its plate is to be cleared."""
        return self in (State.DONE, State.FAILED, State.CANCELLED)

    @property
    def busy(self) -> bool:
        """Whether a print is under way, if only in wait for somebody."""
        return self in (State.CALIBRATING, State.PRINTING, State.PAUSED, State.EMPTY, State.DOOR)


class Said(BaseModel):
    """Base of all that is said."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class Status(Said):
    """What a machine says of itself.

    Attributes
    ----------
    protocol : int
    name, model : str
        Its own name, and what kind of machine it is: files name the kind.
    technology : str
    state : State
    token : str
        Of the print that it has; empty where it has none.
    file : str
        Name of that print.
    layer, layers : int
        Layers that are finished, and all of them.
    printed_s, whole_s : float
        Time that was printed, and that the file takes, by the file's own clock.
    spent_s : float
        What it printed for, by its own clock.
    left_g : float
        Of its spool or bottle.
    material : str
    nozzle_c, bed_c : float
        Nought on a resin machine.
    exposing : bool
        A resin machine shows a layer.
    speed : float
        Share of the usual, as somebody set it.
    reason : str
        Why it waits or failed.
    asleep : bool
        Heaters are off.
    flow : float
        Pushed for one that the file asks for.
    pictures : tuple of int
        Layers that it took a picture at, of the print that it has.
    """

    protocol: int = VERSION
    name: str
    model: str
    technology: Literal["filament", "resin"]
    state: State
    token: str = ""
    file: str = ""
    layer: int = 0
    layers: int = 0
    printed_s: float = 0.0
    whole_s: float = 0.0
    spent_s: float = 0.0
    left_g: float
    material: str = ""
    nozzle_c: float = 0.0
    bed_c: float = 0.0
    exposing: bool = False
    speed: float = 1.0
    reason: str = ""
    asleep: bool = False
    flow: float = 1.0
    pictures: Annotated[tuple[int, ...], Field(max_length=1000)] = ()


class Start(Said):
    """How a print is begun."""

    token: Token
    calibrate: bool = False
    # Thin filament is pushed faster: the share of what the file asks for.
    flow: Annotated[float, Field(ge=0.5, le=2)] = 1.0
    # A picture is taken behind every so many layers; none for 0.
    pictures_every: Annotated[int, Field(ge=0, le=100_000)] = 0


class Refill(Said):
    """A new spool or bottle."""

    grams: Annotated[float, Field(gt=0, le=50_000)]
    material: Annotated[str, Field(max_length=60)] = ""


class Tune(Said):
    """What may be changed while it prints; what is left out stays."""

    speed: Annotated[float, Field(ge=0.1, le=3)] | None = None
    nozzle_c: Annotated[float, Field(ge=0, le=400)] | None = None
    bed_c: Annotated[float, Field(ge=0, le=150)] | None = None


class Trouble(Said):
    """Trouble on request, to try what becomes of it: fail at a layer, for a reason."""

    layer: Annotated[int, Field(ge=0)]
    reason: Annotated[str, Field(min_length=1, max_length=120)] = "a support came loose"


class Refused(Said):
    """Why something was not done."""

    message: str

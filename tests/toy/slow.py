"""Recipes that take their time, fail or kill their process, and tell a file what they did."""

import os
import time
from dataclasses import dataclass
from pathlib import Path

from upright_heron.core.errors import BadValue
from upright_heron.core.graph import maybe, recipe
from upright_heron.core.progress import Progress
from upright_heron.core.tags import stored


@dataclass(frozen=True)
class Told:
    """Where it is told, under what name, how long it takes, and what goes wrong: nothing, die, dies, fail, deaf."""

    folder: str
    name: str
    seconds: float = 0.0
    goes: str = ""


@stored("toy-done")
@dataclass(frozen=True)
class Done:
    """Made by this process."""

    name: str
    process: int


def _tell(told, what):
    with (Path(told.folder) / "told").open("a") as file:
        file.write(f"{what} {told.name}\n")


@recipe("toy_slow", version=1, stage="Taking its time", reads=Told)
def slow(told: Told, progress: Progress) -> Done:
    """Take its time."""
    _tell(told, "began")
    mark = Path(told.folder) / f"died-{told.name}"
    if told.goes == "dies" or (told.goes == "die" and not mark.exists()):
        mark.touch()
        os._exit(1)
    if told.goes == "fail":
        raise BadValue(f"{told.name} does not work.", "Try another.")
    if told.goes == "deaf":
        # It hears nothing, as a library that is in the middle of something.
        time.sleep(told.seconds)
    until = time.monotonic() + told.seconds
    while time.monotonic() < until:
        progress("Taking its time", 1, 2)
        time.sleep(0.01)
    _tell(told, "ended")
    return Done(told.name, os.getpid())


@recipe("toy_after", version=1, stage="Coming after", needs=(slow,), reads=maybe(Told))
def after(done: Done, told: Told | None) -> Done:
    """Come after the slow one."""
    return Done(f"after {done.name}", os.getpid())

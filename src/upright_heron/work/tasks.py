"""What is under way or waits, and what a page is told of it."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any

from .lanes import Lane

Event = dict[str, Any]


class Rank(IntEnum):
    """What goes first."""

    CLICK = 0
    PAGE = 1
    BACKGROUND = 2


@dataclass(eq=False)
class Task:
    """One thing that a worker does.

    Attributes
    ----------
    number : int
        In the order in which tasks came; never used again.
    key : str
        Of the result that it makes; of other work a name of its own.
    name : str
        Of the result.
    call, arguments
        What the worker calls.
    rank : Rank
        Of the most urgent who wants it.
    about : str
        Key of the surface that it works on.
    needs : set of str
        Keys that have to be there before it begins.
    owners : set of str
        Pages that show it.
    waiting : int
        Who waits for it besides.
    future : Future
        For all who wait.
    stage, done, total
        Where it stands.
    """

    number: int
    key: str
    name: str
    call: Callable[..., Any]
    arguments: tuple[Any, ...]
    rank: Rank
    about: str = ""
    needs: set[str] = field(default_factory=set)
    owners: set[str] = field(default_factory=set)
    waiting: int = 0
    future: Future[Any] = field(default_factory=Future)
    stage: str = "Waiting"
    done: int = 0
    total: int = 1
    lane: Lane | None = None
    tries: int = 0
    stopping: bool = False
    again: bool = False


@dataclass(frozen=True)
class Standing:
    """Where the work for a page stands.

    Attributes
    ----------
    state : str
        ``running``, ``stopped`` or ``failed``.
    stage, done, total
        Of what is being made.
    made, wanted : int
        Results that are there, of those that the page shows.
    message, advice : str
        Of a failure.
    """

    state: str
    stage: str = "Waiting"
    done: int = 0
    total: int = 1
    made: int = 0
    wanted: int = 0
    message: str = ""
    advice: str = ""

    def event(self) -> Event:
        """What listeners are told."""
        return {"type": "task", **{name: getattr(self, name) for name in self.__dataclass_fields__}}

"""What a section of the job sheet is: one folder with its context, routes, template and script."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fastapi import APIRouter

from ..core.topics import Topic

if TYPE_CHECKING:
    from ..store.store import Store
    from .pages import JobPage


def _no_context(page: JobPage, store: Store) -> None:
    return None


@dataclass(frozen=True)
class Section:
    """A section of the job sheet.

    Attributes
    ----------
    slug : str
        Name of its folder.
    title : str
    folder : Path
        With ``body.html``, and ``line.html`` with the macros ``fact`` and ``state`` of its closed line.
    topic : Topic or None
        What its findings and checks are about.
    wants : tuple of str
        Results that it shows while it is open.
    opened : tuple of str
        Likewise, but only once somebody opens it: they take long.
    facts : tuple of str
        Results that its closed line shows.
    context : callable
        From the page and the store to the documented dataclass that its template has as ``it``.
    routers : tuple of APIRouter
    """

    slug: str
    title: str
    folder: Path
    topic: Topic | None = None
    wants: tuple[str, ...] = ()
    opened: tuple[str, ...] = ()
    facts: tuple[str, ...] = ()
    context: Callable[[JobPage, Store], Any] = field(default=_no_context)
    routers: tuple[APIRouter, ...] = ()

    @property
    def body(self) -> str:
        """Name of its template."""
        return f"{self.slug}/body.html"

    @property
    def line(self) -> str:
        """Name of the template of its closed line."""
        return f"{self.slug}/line.html"


class Sections:
    """All sections, in their order; their numbers follow from it."""

    def __init__(self) -> None:
        self._all: list[Section] = []

    def __iter__(self) -> Iterator[Section]:
        return iter(self._all)

    def __len__(self) -> int:
        return len(self._all)

    def register(self, section: Section) -> None:
        """Add a section behind the others.

        Raises
        ------
        ValueError
            There is one of this name.
        """
        if any(one.slug == section.slug for one in self._all):
            raise ValueError(f"There is a section “{section.slug}” already.")
        self._all.append(section)

    @contextmanager
    def lent(self) -> Iterator[Sections]:
        """Take out again, at the end, whatever was added meanwhile."""
        before = list(self._all)
        try:
            yield self
        finally:
            self._all = before

    def numbered(self, number: int) -> Section | None:
        """The section of a number from 1, or ``None``."""
        return self._all[number - 1] if 1 <= number <= len(self._all) else None

    def number_of(self, topic: Topic) -> int:
        """Number of the section about a topic; 0 where there is none."""
        return next((n for n, one in enumerate(self._all, 1) if one.topic is topic), 0)


SECTIONS = Sections()

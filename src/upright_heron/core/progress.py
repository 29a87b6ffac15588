"""Progress and cancelling seen from the computation: a callable that may raise ``Cancelled``. A leaf."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Protocol, TypeVar


class Progress(Protocol):
    """Told where a long computation stands.

    Called as ``progress(stage, done, total)``; raises ``Cancelled`` to stop the work.
    """

    def __call__(self, stage: str, done: int, total: int) -> None:
        """Tell that so many of all steps of a stage are done."""


def silent(stage: str, done: int, total: int) -> None:
    """Report to nobody and never stop."""


T = TypeVar("T")


def tracked(items: Sequence[T], stage: str, progress: Progress, every: int = 16) -> Iterator[T]:
    """Yield ``items`` and report every so many of them.

    Parameters
    ----------
    items : sequence
    stage : str
        What is being done, in words for the screen.
    progress : Progress
    every : int
        Report once per so many items.

    Yields
    ------
    the items, in order
    """
    total = len(items)
    for done, item in enumerate(items):
        if done % every == 0:
            progress(stage, done, total)
        yield item
    progress(stage, total, total)

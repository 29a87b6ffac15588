"""Event streams that are open, counted by who holds them."""

from __future__ import annotations

from collections import Counter

from fastapi import Request

from ..core.errors import HeronError

# A browser opens six to one server; several people may sit behind one address.
MOST = 60


class TooMany(HeronError):
    """Somebody holds more streams than anybody needs."""


class Streams:
    """The event streams that are open.

    Parameters
    ----------
    most : int
        For each client.
    """

    def __init__(self, most: int = MOST) -> None:
        self._most = most
        self._open: Counter[str] = Counter()

    def enter(self, request: Request) -> Place:
        """Take a place for a stream.

        Raises
        ------
        TooMany
        """
        name = request.client.host if request.client is not None else ""
        if self._open[name] >= self._most:
            raise TooMany("Too many pages are open.", "Close some of them.")
        self._open[name] += 1
        return Place(self._open, name)


class Place:
    """The place of one stream."""

    def __init__(self, counts: Counter[str], name: str) -> None:
        self._counts, self._name = counts, name
        self._left = False

    def leave(self) -> None:
        """Give it back; twice is once."""
        if not self._left:
            self._left = True
            self._counts[self._name] -= 1
            if not self._counts[self._name]:
                del self._counts[self._name]

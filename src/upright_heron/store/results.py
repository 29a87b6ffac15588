"""Remembered results: they can be thrown away at any time and made again."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from sqlite3 import OperationalError
from typing import Any, TypeVar

from sqlalchemy import delete, select, text, update
from sqlalchemy.orm import Session

from ..core.tags import UnknownTag
from .codec import decode, encode
from .database import LOCKED_S, Database
from .models import ResultRow, RoomRow

T = TypeVar("T")
# Remembered results may take this much before the least recently used go.
RESULT_BYTES = 2_000_000_000
# The time of the last use is written this seldom.
USED_S = 60.0
# Dropped in one turn, at most.
EVICTED_BYTES = 8_000_000
EVICTED_COUNT = 200
# And for one result that comes.
EVICTED_AT_ONCE = 64_000_000
# Keys come as one value: a statement of hundreds of parameters is put together anew each time.
_THERE = select(ResultRow.key).where(ResultRow.key.in_(text("SELECT value FROM json_each(:keys)")))


class Results(Database):
    """The remembered results of a database."""

    def __init__(self, path: Path, *, migrate: bool = True, result_bytes: int = RESULT_BYTES) -> None:
        super().__init__(path, migrate=migrate)
        self._result_bytes = result_bytes
        self._noting = threading.Lock()
        # When results were used that nobody has written down yet, and when that was done last.
        self._used: dict[str, float] = {}
        self._noted = 0.0

    def has_result(self, key: str) -> bool:
        """Whether a result is remembered."""
        return bool(self.has_results([key]))

    def has_results(self, keys: Iterable[str]) -> set[str]:
        """Which of some results are remembered, in one look."""
        with self.session() as s:
            return set(s.scalars(_THERE, {"keys": json.dumps(list(keys))}))

    def result(self, key: str) -> Any | None:
        """Fetch a remembered result, or ``None``; one that can no longer be read is forgotten."""
        with self.session() as s:
            row = s.get(ResultRow, key)
            if row is None:
                return None
            data, used = row.data, row.used
        try:
            value = decode(data)
        except UnknownTag:
            with self.session(write=True) as s:
                s.execute(delete(ResultRow).where(ResultRow.key == key))
            return None
        if time.time() - used > USED_S:
            self._was_used(key)
        return value

    def _was_used(self, key: str) -> None:
        """Note that a result was used; written with others, seldom, and only while nobody else writes."""
        at = time.time()
        with self._noting:
            self._used[key] = at
            if at - self._noted < USED_S:
                return
            self._noted, some, self._used = at, self._used, {}
        if not self._note(some):
            with self._noting:
                self._used = some | self._used

    def _note(self, some: Mapping[str, float]) -> bool:
        """Write times of use; ``False`` where somebody else writes just now."""
        with self._engine.connect() as connection:
            raw = connection.connection.cursor()
            try:
                raw.execute("PRAGMA busy_timeout=0")
                raw.execute("BEGIN IMMEDIATE")
                raw.executemany("UPDATE result SET used = ? WHERE key = ?", [(v, k) for k, v in some.items()])
                raw.execute("COMMIT")
            except OperationalError:
                return False
            finally:
                raw.execute(f"PRAGMA busy_timeout={1000 * LOCKED_S:.0f}")
                raw.close()
        return True

    def remember(self, key: str, value: Any) -> None:
        """Keep a result and, over the cap, drop those not used for longest."""
        data = encode(value)
        with self._noting:
            some, self._used = self._used, {}
        with self.session(write=True) as s:
            for name, at in some.items():
                s.execute(update(ResultRow).where(ResultRow.key == name).values(used=at))
            s.merge(ResultRow(key=key, data=data, size=len(data), used=time.time()))
            s.flush()
            over = self._over(s)
        # Each turn holds the lock for as long as a few results take. More goes than came, and what is over
        # by far, as behind a smaller cap, goes with the next results: nobody waits for all of it.
        gone = 0
        while over > 0 and gone <= max(2 * len(data), EVICTED_AT_ONCE) and (freed := self._evict(key)):
            gone += freed
            with self.session() as s:
                over = self._over(s)

    def _over(self, s: Session) -> int:
        return (s.scalar(select(RoomRow.bytes)) or 0) - self._result_bytes

    def _evict(self, kept: str) -> int:
        """Drop some of the results that were not used for longest, and return their bytes."""
        with self.session(write=True) as s:
            over, gone = self._over(s), 0
            oldest = select(ResultRow.key, ResultRow.size).order_by(ResultRow.used)
            for name, size in s.execute(oldest.limit(EVICTED_COUNT)).all():
                if gone >= min(over, EVICTED_BYTES):
                    break
                if name != kept:
                    s.execute(delete(ResultRow).where(ResultRow.key == name))
                    gone += size
        if gone:
            self.give_back()
        return gone

    def recall(self, key: str, make: Callable[[], T]) -> T:
        """Fetch a result, making and remembering it where it is missing."""
        known = self.result(key)
        if known is not None:
            return known  # type: ignore[no-any-return]
        value = make()
        self.remember(key, value)
        return value

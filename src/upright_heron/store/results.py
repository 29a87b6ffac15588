"""Remembered results: they can be thrown away at any time and made again."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any, TypeVar

from sqlalchemy import delete, func, select, text, update

from ..core.tags import UnknownTag
from .codec import decode, encode
from .database import Database
from .models import ResultRow

T = TypeVar("T")
# Remembered results may take this much before the least recently used go.
RESULT_BYTES = 2_000_000_000
# The time of the last use is written this seldom.
USED_S = 60.0
# Keys come as one value: a statement of hundreds of parameters is put together anew each time.
_THERE = select(ResultRow.key).where(ResultRow.key.in_(text("SELECT value FROM json_each(:keys)")))


class Results(Database):
    """The remembered results of a database."""

    def __init__(self, path: Path, *, migrate: bool = True, result_bytes: int = RESULT_BYTES) -> None:
        super().__init__(path, migrate=migrate)
        self._result_bytes = result_bytes

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
            with self.session(write=True) as s:
                s.execute(update(ResultRow).where(ResultRow.key == key).values(used=time.time()))
        return value

    def remember(self, key: str, value: Any) -> None:
        """Keep a result and, over the cap, drop those not used for longest."""
        data = encode(value)
        with self.session(write=True) as s:
            s.merge(ResultRow(key=key, data=data, size=len(data), used=time.time()))
            s.flush()
            over = (s.scalar(select(func.sum(ResultRow.size))) or 0) - self._result_bytes
            if over > 0:
                rows = s.execute(select(ResultRow.key, ResultRow.size).order_by(ResultRow.used)).all()
                for old, size in rows:
                    if over <= 0:
                        break
                    if old != key:
                        s.execute(delete(ResultRow).where(ResultRow.key == old))
                        over -= size

    def recall(self, key: str, make: Callable[[], T]) -> T:
        """Fetch a result, making and remembering it where it is missing."""
        known = self.result(key)
        if known is not None:
            return known  # type: ignore[no-any-return]
        value = make()
        self.remember(key, value)
        return value

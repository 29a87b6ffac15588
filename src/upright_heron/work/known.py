"""What is known of an item right now: what is remembered, and what follows from that in no time."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from typing import Any

from cachetools import LRUCache

from ..core.graph import Choice, Keep, Recipe, Source
from ..core.keys import Keys
from ..store.store import Store


class Memo:
    """The last decoded results, so that a page does not unpack the same arrays at every swap.

    What hands made of a result is shown under a key of its own until the result itself is made.
    """

    def __init__(self, store: Store, size: int = 1000) -> None:
        self._store = store
        self._values: LRUCache[str, Any] = LRUCache(size)
        # Requests are served by several threads.
        self._lock = threading.Lock()

    def result(self, key: str) -> Any | None:
        """A remembered result, or ``None``."""
        with self._lock:
            if key in self._values:
                return self._values[key]
        value = self._store.result(key)
        if value is not None:
            self.put(key, value)
        return value

    def several(self, keys: Iterable[str]) -> dict[str, Any]:
        """Remembered results, those that there are, in one look at the database."""
        asked = list(keys)
        with self._lock:
            found = {key: self._values[key] for key in asked if key in self._values}
        missing = [key for key in asked if key not in found]
        there = self._store.has_results(missing) if missing else set()
        return found | {key: self.result(key) for key in there}

    def there(self, keys: Iterable[str]) -> set[str]:
        """Which of some results are remembered; none of them is unpacked."""
        asked = list(keys)
        return self._store.has_results(asked) if asked else set()

    def put(self, key: str, value: Any) -> None:
        """Have a value at hand."""
        with self._lock:
            self._values[key] = value

    def light(self, key: str) -> Any | None:
        """A value that is at hand and never written down, or ``None``."""
        with self._lock:
            return self._values.get(key)

    def meanwhile(self, key: str) -> Any | None:
        """What is shown instead of a result until that is made, or ``None``."""
        return self.result(edited_key(key))

    def put_meanwhile(self, key: str, value: Any, *, written: bool = True) -> None:
        """Show a value until a result is made; one that is not ``written`` down goes with the process."""
        if written:
            self._store.remember(edited_key(key), value)
        self.put(edited_key(key), value)


def edited_key(key: str) -> str:
    """Key of what hands made of a result before it is made for good."""
    return f"{key}-edited"


class _Missing:
    """Stands for what is not there yet."""


MISSING = _Missing()


class Known:
    """Looks results of a binding up, and makes nothing that takes time.

    Parameters
    ----------
    keys : Keys
    memo : Memo
    """

    def __init__(self, keys: Keys, memo: Memo) -> None:
        self.keys = keys
        self._memo = memo
        self._looked: dict[str, Any] = {}
        # Keys of what is shown only until the real result is made.
        self._meanwhile: set[str] = set()

    @property
    def memo(self) -> Memo:
        """Where results are remembered."""
        return self._memo

    def get(self, name: str) -> Any | None:
        """A result, or ``None`` while it is not there or where it is not asked for."""
        found = self._value(self.keys, self.keys.graph[name])
        return None if found is MISSING else found

    def early(self, name: str) -> Any | None:
        """A result, or what was told of it before it is made."""
        found = self.get(name)
        key = self.keys.early(name)
        return self._memo.result(key) if found is None and key is not None else found

    def early_address(self, name: str) -> str | None:
        """What is fetched of a result before it is made: what was told of it; ``None`` once it is made."""
        key = self.keys.early(name)
        there = key is not None and self.get(name) is None and self._memo.result(key) is not None
        return key if there else None

    def address(self, name: str) -> str | None:
        """What a block of a result is fetched by; ``None`` while the result is not there."""
        if self.get(name) is None:
            return None
        key = self.keys.get(name)
        return edited_key(key) if key is not None and key in self._meanwhile else key

    def _value(self, keys: Keys, node: Any) -> Any:
        one = keys.chosen(node)
        if one is None:
            return None
        if isinstance(one, Source | Choice):
            return MISSING
        key = keys.get(one.name)
        if key is None:
            return None
        if key not in self._looked:
            self._looked[key] = self._find(keys, one, key)
        return self._looked[key]

    def _find(self, keys: Keys, one: Recipe[Any], key: str) -> Any:
        if one.keep is Keep.PASSING:
            return MISSING
        found = self._memo.result(key) if one.keep is Keep.STORED else self._memo.light(key)
        if found is not None:
            return found
        if one.keep is Keep.LIGHT:
            return self._follow(keys, one, key)
        found = self._memo.meanwhile(key) if one.name in EDITED else None
        if found is None:
            return MISSING
        self._meanwhile.add(key)
        return found

    def _follow(self, keys: Keys, one: Recipe[Any], key: str) -> Any:
        """Make a light result from what is there."""
        values: list[Any] = []
        whole = True
        for need, optional in one.needed:
            value = self._value(keys, need)
            if value is MISSING:
                if not (one.partial and optional):
                    return MISSING
                value, whole = None, False
            values.append(value)
            whole = whole and keys.get(need.name) not in self._meanwhile
        for need, _ in one.needed_of_each:
            row = [self._value(item, need) for item in keys.each]
            if MISSING in row:
                return MISSING
            values.append(tuple(row))
        values += [keys.binding.settings(kind) for kind, _ in one.read]
        made = one.function(*values)
        if not whole:
            self._meanwhile.add(key)
        elif made is not None:
            self._memo.put(key, made)
        return made


# Results that are changed by hand at once, and made for good afterwards.
EDITED = frozenset({"filament_supports", "stilts"})

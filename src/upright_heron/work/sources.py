"""Where the values of sources and remembered results come from: the store."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.graph import Source
from ..core.recipes.handoff import MARKS
from ..core.recipes.part import BODIES, CAME, MARKS_DEMAND, MARKS_SHOW, MESH
from ..core.recipes.supports_filament import AROUND, KEPT
from ..store.store import Store

Load = Callable[[Source[Any], str], Any]


def load_from(store: Store) -> Load:
    """Return what loads the values of sources."""
    ways: dict[str, Callable[[str], Any]] = {
        **{source.name: store.mesh for source in (MESH, CAME, BODIES)},
        **{source.name: store.marks for source in (MARKS, MARKS_DEMAND, MARKS_SHOW)},
        **{source.name: store.supports for source in (KEPT, AROUND)},
    }

    def load(source: Source[Any], digest: str) -> Any:
        return ways[source.name](digest)

    return load


class ResultMemory:
    """The remembered results of a store, as the graph takes them."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def get(self, key: str) -> Any | None:
        """A remembered value, or ``None``."""
        return self._store.result(key)

    def put(self, key: str, value: Any) -> None:
        """Remember a value."""
        self._store.remember(key, value)

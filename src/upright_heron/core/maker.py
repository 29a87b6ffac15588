"""Makes the results of the graph: recalls what is remembered and makes what is missing."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from cachetools import LRUCache

from .graph import GRAPH, Binding, Choice, Graph, Keep, Maybe, Recipe, Ref, Source
from .keys import Keys
from .progress import Progress, silent


class Memory(Protocol):
    """Whoever remembers values."""

    def get(self, key: str) -> Any | None:
        """A remembered value, or ``None``."""

    def put(self, key: str, value: Any) -> None:
        """Remember a value."""


class Recent:
    """The last few values by key."""

    def __init__(self, size: int) -> None:
        self._values: LRUCache[str, Any] = LRUCache(size)

    def get(self, key: str) -> Any | None:
        """A value that is at hand, or ``None``."""
        return self._values.get(key)

    def put(self, key: str, value: Any) -> None:
        """Have a value at hand; the one that was not asked for longest goes."""
        self._values[key] = value


@dataclass(frozen=True)
class Absent:
    """Stands for a value of ``None`` in a memory, where ``None`` means that nothing is known."""


ABSENT = Absent()


def _nothing_told(key: str, value: Any) -> None:
    """Tell nobody."""


class Maker:
    """Makes results of bindings: recalls what is remembered and makes what is missing.

    Parameters
    ----------
    load : callable
        From a source and a digest to its value.
    stored : Memory
        Remembers the results of recipes that are to be.
    at_hand : Memory, optional
        Has the last few values at hand; without one, as many as are made.
    progress : Progress
    early : callable, optional
        Told the key and value of results that are known before they are made for good.
    made : callable, optional
        Told the name and key of each result that was made and remembered.
    graph : Graph
    """

    def __init__(
        self,
        load: Callable[[Source[Any], str], Any],
        stored: Memory,
        *,
        at_hand: Memory | None = None,
        progress: Progress = silent,
        early: Callable[[str, Any], None] = _nothing_told,
        made: Callable[[str, str], None] | None = None,
        graph: Graph = GRAPH,
    ) -> None:
        self.load = load
        self.stored = stored
        self.at_hand = at_hand or Recent(1_000_000)
        self.progress = progress
        self.early = early
        self.made = made
        self.graph = graph

    def make(self, keys: Keys, name: str) -> Any:
        """Make or recall one result.

        Raises
        ------
        KeyError
            It is not asked for in this binding.
        """
        keys[name]
        return self.value(keys, self.graph[name])

    def value(self, keys: Keys, node: Any) -> Any:
        """Value of a need; ``None`` where it is absent."""
        one = keys.chosen(node)
        if one is None:
            return None
        if isinstance(one, Source):
            ref = keys.binding.source(one)
            return None if ref is None else self._source(one, ref)
        key = keys.get(one.name)
        if key is None:
            return None
        known = self.at_hand.get(key)
        if known is None and one.keep is Keep.STORED:
            known = self.stored.get(key)
            if known is not None:
                self.at_hand.put(key, known)
        if known is not None:
            return None if known is ABSENT else known
        return self._made(keys, one, key)

    def _source(self, source: Source[Any], ref: Ref) -> Any:
        # By the digest: other parts than the key speaks of may have changed.
        key = f"{source.name}:{ref.digest}"
        known = self.at_hand.get(key)
        if known is None:
            known = self.load(source, ref.digest)
            self.at_hand.put(key, known)
        return known

    def _made(self, keys: Keys, one: Recipe[Any], key: str) -> Any:
        values = [self.value(keys, need) for need in one.needs]
        values += [tuple(self.value(item, need) for item in keys.each) for need in one.each]
        values += [
            keys.binding.settings(kind.node if isinstance(kind, Maybe) else kind) for kind in one.reads
        ]
        others: dict[str, Any] = {}
        if one.stage:
            self.progress(one.stage, 0, 1)
        if one.reports:
            others["progress"] = self.progress
        if one.early:
            others["early"] = lambda value: self.early(f"{key}-early", value)
        value = one.function(*values, **others)
        self.at_hand.put(key, ABSENT if value is None else value)
        if one.keep is Keep.STORED:
            if value is None:
                raise TypeError(f"The recipe “{one.name}” made nothing to remember.")
            self.stored.put(key, value)
            if self.made is not None:
                self.made(one.name, key)
        return value


@dataclass(frozen=True)
class Bound:
    """A binding as plain values: it can be sent to another process.

    Attributes
    ----------
    values : mapping of type to settings
    refs : mapping of name to Ref
    items : tuple of Bound
    """

    values: Mapping[type, object] = field(default_factory=dict)
    refs: Mapping[str, Ref] = field(default_factory=dict)
    items: tuple[Bound, ...] = ()

    def settings(self, kind: type) -> object | None:
        """As ``Binding``."""
        return self.values.get(kind)

    def source(self, source: Source[Any]) -> Ref | None:
        """As ``Binding``."""
        return self.refs.get(source.name)

    def each(self) -> Sequence[Bound]:
        """As ``Binding``."""
        return self.items


def bound(binding: Binding, names: Sequence[str], graph: Graph = GRAPH) -> Bound:
    """What some results take of a binding, as plain values: nothing else is read of it."""
    own, items = _taken(names, graph)
    values = {kind: binding.settings(kind) for kind in own[0]}
    refs = {source.name: binding.source(source) for source in own[1]}
    return Bound(
        {kind: value for kind, value in values.items() if value is not None},
        {name: ref for name, ref in refs.items() if ref is not None},
        tuple(bound(one, items, graph) for one in binding.each()) if items else (),
    )


def _taken(names: Sequence[str], graph: Graph) -> tuple[tuple[set[type], set[Source[Any]]], list[str]]:
    """Settings and sources that results are made from, and the results of each item that they need."""
    kinds: set[type] = set()
    sources: set[Source[Any]] = set()
    items: list[str] = []
    seen: set[str] = set()

    def visit(node: Any) -> None:
        if isinstance(node, Maybe):
            node = node.node
        if isinstance(node, Source):
            sources.add(node)
        elif isinstance(node, Choice):
            for one in node.among:
                visit(one)
        elif node.name not in seen:
            seen.add(node.name)
            kinds.update(kind.node if isinstance(kind, Maybe) else kind for kind in node.reads)
            for need in node.needs:
                visit(need)
            items.extend(n.node.name if isinstance(n, Maybe) else n.name for n in node.each)

    for name in names:
        visit(graph[name])
    return (kinds, sources), items

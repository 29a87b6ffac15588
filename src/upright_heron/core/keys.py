"""Keys: what a result follows from, worked out as it is asked for."""

from __future__ import annotations

import hashlib
from typing import Any

from .graph import (
    GRAPH,
    Binding,
    Choice,
    Graph,
    Keep,
    Maybe,
    Recipe,
    Source,
    digest_of,
)


class Keys:
    """Keys of the results of a binding, worked out as they are asked for.

    Parameters
    ----------
    binding : Binding
    graph : Graph
    """

    def __init__(self, binding: Binding, graph: Graph = GRAPH) -> None:
        self.binding = binding
        self.graph = graph
        self._known: dict[str, str | None] = {}
        self._digests: dict[type, str | None] = {}
        self._ends: dict[str, list[tuple[Keys, Recipe[Any]]]] = {}
        self._plans: dict[str, list[tuple[str, Keys, Recipe[Any]]]] = {}
        self._each: list[Keys] | None = None

    def get(self, name: str) -> str | None:
        """Key of a result, or ``None`` where it is not asked for."""
        known = self._known
        if name not in known:
            # What it needs comes before it: nothing below has to be looked for.
            for node in self.graph.order(name):
                if node.name not in known:
                    known[node.name] = self._key(node)
        return known[name]

    def __contains__(self, name: str) -> bool:
        return self.get(name) is not None

    def __getitem__(self, name: str) -> str:
        found = self.get(name)
        if found is None:
            raise KeyError(name)
        return found

    def plan(self, name: str) -> list[tuple[str, Keys, Recipe[Any]]]:
        """All remembered results that one is made by, itself too, each after what it needs."""
        if name not in self._plans:
            found: list[tuple[str, Keys, Recipe[Any]]] = []
            self._visit(self.graph[name], found, set())
            self._plans[name] = found
        return self._plans[name]

    def ends(self, name: str) -> list[tuple[Keys, Recipe[Any]]]:
        """The remembered results that one is or follows from at once, with the keys that they are of."""
        if name not in self._ends:
            found: dict[str, tuple[Keys, Recipe[Any]]] = {}
            self._find_ends(self.graph[name], found)
            self._ends[name] = list(found.values())
        return self._ends[name]

    def _find_ends(self, node: Any, found: dict[str, tuple[Keys, Recipe[Any]]]) -> None:
        one = self.chosen(node)
        if one is None or isinstance(one, Source):
            return
        key = self.get(one.name)
        if key is None:
            return
        if one.keep is Keep.STORED:
            found.setdefault(key, (self, one))
            return
        for need in one.needs:
            self._find_ends(need, found)
        for need in one.each:
            for item in self.each:
                item._find_ends(need, found)

    def _visit(self, node: Any, found: list[tuple[str, Keys, Recipe[Any]]], seen: set[str]) -> None:
        one = self.chosen(node)
        if one is None or isinstance(one, Source):
            return
        key = self.get(one.name)
        if key is None or key in seen:
            return
        seen.add(key)
        for need in one.needs:
            self._visit(need, found, seen)
        for need in one.each:
            for item in self.each:
                item._visit(need, found, seen)
        if one.keep is Keep.STORED:
            found.append((key, self, one))

    def early(self, name: str) -> str | None:
        """Key of what is told of a result before it is made."""
        found = self.get(name)
        return None if found is None else f"{found}-early"

    @property
    def each(self) -> list[Keys]:
        """Keys of the items that the binding speaks of."""
        if self._each is None:
            self._each = [Keys(one, self.graph) for one in self.binding.each()]
        return self._each

    def share(self, known: list[Keys]) -> None:
        """Take keys of the items that are known already."""
        self._each = known

    def chosen(self, node: Any) -> Any:
        """The recipe or source behind a need: of a choice that which is there."""
        if isinstance(node, Maybe):
            node = node.node
        if isinstance(node, Choice):
            return next((one for one in node.among if one.name in self), None)
        return node

    def _key(self, node: Recipe[Any] | Choice[Any]) -> str | None:
        if isinstance(node, Choice):
            return next((found for one in node.among if (found := self._known[one.name]) is not None), None)
        parts = [node.head]
        known, digests = self._known, self._digests
        for need, optional in node.needed:
            key = known[need.name] if need.name in known else self._own(need)
            if key is None:
                if not optional:
                    return None
                key = "-"
            parts.append(key)
        for kind, optional in node.read:
            digest = digests[kind] if kind in digests else self._digest(kind)
            if digest is None:
                if not optional:
                    return None
                digest = "-"
            parts.append(digest)
        for need, optional in node.needed_of_each:
            keys = [one._own(need) for one in self.each]
            if None in keys and not optional:
                return None
            parts.extend(key or "-" for key in keys)
            parts.append(f"{len(keys)} in all")
        return hashlib.blake2b("\n".join(parts).encode(), digest_size=16).hexdigest()

    def _digest(self, kind: type) -> str | None:
        value = self.binding.settings(kind)
        found = self._digests[kind] = None if value is None else digest_of(value)
        return found

    def _own(self, need: Any) -> str | None:
        if isinstance(need, Source):
            ref = self.binding.source(need)
            return None if ref is None else ref.key
        return self.get(need.name)

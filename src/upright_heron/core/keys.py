"""Keys: what a result follows from, worked out as it is asked for."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from .graph import (
    GRAPH,
    Binding,
    Choice,
    Graph,
    Input,
    Inputs,
    Keep,
    Maybe,
    Recipe,
    Source,
    digest_of,
    label,
)


class Plan(NamedTuple):
    """How a result follows from a binding.

    Attributes
    ----------
    shape : str
        Digest of the recipes that make it, and of which inputs go where.
    inputs : Inputs
        What comes in from the binding itself.
    """

    shape: str
    inputs: Inputs


@dataclass(frozen=True, slots=True)
class Alike:
    """What the keys of several bindings have in common.

    Many items of a job differ in their surface only: how their results follow from it is worked out once.

    Attributes
    ----------
    own : frozenset of type or None
        Settings that each has of its own; all others are common. ``None`` where all settings are.
    digests : dict
        Of common settings, filled as they are asked for.
    reaches : dict
        All that may come into a result, likewise.
    plans : dict
        Of results, by all that may come in and whether each of it is there; likewise.
    texts : dict
        What comes in, as it is written into keys: with gaps, and what fills these.
    """

    own: frozenset[type] | None = None
    digests: dict[Input, str | None] = field(default_factory=dict)
    reaches: dict[str, Inputs] = field(default_factory=dict)
    plans: dict[tuple[Inputs, tuple[bool, ...]], dict[str, Plan | None]] = field(default_factory=dict)
    texts: dict[Inputs, tuple[str, tuple[Input, ...]]] = field(default_factory=dict)

    def is_common(self, one: Input) -> bool:
        """Whether it is the same in all of them."""
        return self.own is not None and isinstance(one, type) and one not in self.own


class Keys:
    """Keys of the results of a binding, worked out as they are asked for.

    Parameters
    ----------
    binding : Binding
    graph : Graph
    alike : Alike, optional
        Shared with others that have settings in common.
    """

    def __init__(self, binding: Binding, graph: Graph = GRAPH, *, alike: Alike | None = None) -> None:
        self.binding = binding
        self.graph = graph
        self._alike = alike or Alike()
        self._known: dict[str, str | None] = {}
        self._came: dict[Input, str | None] = {}
        # What comes in, as it is written into keys.
        self._texts: dict[Inputs, str] = {}
        self._plans: dict[Inputs, dict[str, Plan | None]] = {}
        self._ends: dict[str, list[tuple[Keys, Recipe[Any]]]] = {}
        self._below: dict[str, list[tuple[str, Keys, Recipe[Any]]]] = {}
        self._each: list[Keys] | None = None

    def get(self, name: str) -> str | None:
        """Key of a result, or ``None`` where it is not asked for."""
        known = self._known
        if name in known:
            return known[name]
        found = None
        plan = self._plan(name)
        if plan is not None:
            shape, inputs = plan
            text = self._texts.get(inputs)
            if text is None:
                text = self._texts[inputs] = self._text(inputs)
            found = hashlib.blake2b(f"{shape}\n{text}".encode(), digest_size=16).hexdigest()
        known[name] = found
        return found

    def __contains__(self, name: str) -> bool:
        return self.get(name) is not None

    def __getitem__(self, name: str) -> str:
        found = self.get(name)
        if found is None:
            raise KeyError(name)
        return found

    def plan(self, name: str) -> list[tuple[str, Keys, Recipe[Any]]]:
        """All remembered results that one is made by, itself too, each after what it needs."""
        if name not in self._below:
            found: list[tuple[str, Keys, Recipe[Any]]] = []
            self._visit(self.graph[name], found, set())
            self._below[name] = found
        return self._below[name]

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

    def _plan(self, name: str) -> Plan | None:
        """How a result follows; ``None`` where it is not asked for."""
        reaches = self._alike.reaches
        reach = reaches.get(name)
        if reach is None:
            reach = reaches[name] = self.graph.reach(name, self._alike.own)
        plans = self._plans.get(reach)
        if plans is None:
            there = tuple([self._input(one) is not None for one in reach.among])
            plans = self._plans[reach] = self._alike.plans.setdefault((reach, there), {})
        if name not in plans:
            plans[name] = self._planned(self.graph[name])
        return plans[name]

    def _planned(self, node: Recipe[Any] | Choice[Any]) -> Plan | None:
        if isinstance(node, Choice):
            return next((plan for one in node.among if (plan := self._plan(one.name)) is not None), None)
        parts = [node.head]
        inputs: set[Input] = set()
        for one, optional in (*node.needed, *node.read):
            part = self._part(one, inputs)
            if part is None and not optional:
                return None
            parts.append(part or "-")
        if node.each:
            if self._input(node) is None:
                return None
            inputs.add(node)
            parts.append(label(node))
        return Plan(_hash("\n".join(parts)), self.graph.inputs(frozenset(inputs)))

    def _part(self, one: Any, inputs: set[Input]) -> str | None:
        """What a need or settings put into the shape of a result."""
        if isinstance(one, Recipe | Choice):
            plan = self._plan(one.name)
            if plan is None:
                return None
            inputs.update(plan.inputs.among)
            return plan.shape
        if self._input(one) is None:
            return None
        inputs.add(one)
        return label(one)

    def _text(self, inputs: Inputs) -> str:
        """Write what comes in, in the order of the inputs, whatever of it is common to others."""
        found = self._alike.texts.get(inputs)
        if found is None:
            common = [self._alike.is_common(one) for one in inputs.among]
            text = "\n".join(
                (self._input(one) or "-") if known else "%s"
                for one, known in zip(inputs.among, common, strict=True)
            )
            own = tuple(one for one, known in zip(inputs.among, common, strict=True) if not known)
            found = self._alike.texts[inputs] = (text, own)
        text, own = found
        return text % tuple([self._input(one) for one in own])

    def _input(self, one: Input) -> str | None:
        """Digest of what the binding gives; ``None`` where it gives nothing."""
        came = self._came
        if one in came:
            return came[one]
        known = self._alike.digests if self._alike.is_common(one) else came
        if one not in known:
            known[one] = self._given(one)
        return known[one]

    def _given(self, one: Input) -> str | None:
        if isinstance(one, Source):
            ref = self.binding.source(one)
            return None if ref is None else ref.key
        if isinstance(one, Recipe):
            return self._of_each(one)
        value = self.binding.settings(one)
        return None if value is None else digest_of(value)

    def _of_each(self, node: Recipe[Any]) -> str | None:
        parts = []
        for need, optional in node.needed_of_each:
            keys = [one._of(need) for one in self.each]
            if None in keys and not optional:
                return None
            parts += [*(key or "-" for key in keys), f"{len(keys)} in all"]
        return _hash("\n".join(parts))

    def _of(self, need: Any) -> str | None:
        return self._input(need) if isinstance(need, Source) else self.get(need.name)


def _hash(text: str) -> str:
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()

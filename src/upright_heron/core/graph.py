"""The graph of results: each is made by a recipe that declares all that it may see.

A recipe names the results it needs and the settings it reads, and its function is handed their values and
nothing else. The key of a result is the digest of the recipe's name, its version, the keys of what it needs
and the values of what it reads: a key cannot miss an input. Order, stages, what is stale and what may be
written down follow from the graph. Remembering, processes and progress are handed in from outside.

Three kinds of things are bound from outside, by a ``Binding``: settings (frozen dataclasses), sources (values
that came from outside and are kept under a digest, such as a mesh), and, for what speaks of many items at
once, the bindings of these.
"""

from __future__ import annotations

import hashlib
import inspect
import json
import typing
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, fields, is_dataclass
from enum import Enum, StrEnum
from functools import cached_property, lru_cache
from typing import Any, Generic, Protocol, TypeVar

T = TypeVar("T")


class Keep(StrEnum):
    """Where the values of a recipe are kept."""

    # Remembered by whoever remembers: it takes long, or is looked at.
    STORED = "stored"
    # In the memory of the process that works on it: quick to make again, or not to be written down.
    PASSING = "passing"
    # Made wherever it is asked for as soon as all it needs is there: it takes no time.
    LIGHT = "light"


@dataclass(frozen=True, eq=False)
class Source(Generic[T]):
    """A value from outside, kept under a digest.

    Attributes
    ----------
    name : str
    kind : type
        Of the value.
    """

    name: str
    kind: type[T]


@dataclass(frozen=True, slots=True)
class Ref:
    """What a source is bound to.

    Attributes
    ----------
    key : str
        What counts in keys.
    digest : str
        What the value is loaded by; other parts of it may have changed without changing the key.
    """

    key: str
    digest: str


@dataclass(frozen=True)
class Maybe:
    """A need or settings that may be absent; the function is handed ``None`` then."""

    node: Any


def maybe(node: Any) -> Maybe:
    """Say that a need or settings may be absent."""
    return Maybe(node)


def _apart(node: Any) -> tuple[Any, bool]:
    """A need or settings, and whether they may be absent."""
    return (node.node, True) if isinstance(node, Maybe) else (node, False)


@dataclass(frozen=True, eq=False)
class Recipe(Generic[T]):
    """How a result is made.

    Attributes
    ----------
    name : str
    version : int
        Raised whenever the function gives other values for the same input.
    stage : str
        What is being done, in words for the screen.
    needs : tuple
        Recipes, choices and sources, or these in ``maybe``, in the order of the function's parameters.
    each : tuple
        Likewise, of every item that the binding speaks of: the function is handed a tuple of values for each.
    reads : tuple of type
        Classes of settings, or these in ``maybe``, in the order of the parameters behind the needs.
    function : callable
    keep : Keep
    early : bool
        The function tells better and better values by a parameter ``early`` before it returns the last.
    reports : bool
        It takes a parameter ``progress``.
    partial : bool
        A light one that can say something while what it needs only maybe is still being made.
    """

    name: str
    version: int
    stage: str
    needs: tuple[Any, ...]
    each: tuple[Any, ...]
    reads: tuple[Any, ...]
    function: Callable[..., T] = field(repr=False)
    keep: Keep
    early: bool
    reports: bool
    partial: bool = False

    @cached_property
    def head(self) -> str:
        """What its keys begin with."""
        return f"{self.name}\n{self.version}"

    @cached_property
    def needed(self) -> tuple[tuple[Any, bool], ...]:
        """Its needs, each with whether it may be absent."""
        return tuple(map(_apart, self.needs))

    @cached_property
    def needed_of_each(self) -> tuple[tuple[Any, bool], ...]:
        """What it needs of each item, each with whether it may be absent."""
        return tuple(map(_apart, self.each))

    @cached_property
    def read(self) -> tuple[tuple[type, bool], ...]:
        """Its settings, each with whether they may be absent."""
        return tuple(map(_apart, self.reads))

    def __call__(self, *values: Any, **others: Any) -> T:
        """Call the function itself."""
        return self.function(*values, **others)

    @property
    def module(self) -> str:
        """Module that the function is defined in."""
        return self.function.__module__

    @property
    def makes(self) -> Any:
        """What the function returns, by its annotation."""
        return typing.get_type_hints(self.function).get("return", Any)


@dataclass(frozen=True, eq=False)
class Choice(Generic[T]):
    """One result or another, whichever is there; it has the key of that one.

    Attributes
    ----------
    name : str
    among : tuple of Recipe
    """

    name: str
    among: tuple[Recipe[T], ...]


Node = Recipe[Any] | Choice[Any] | Source[Any]


class Binding(Protocol):
    """What a job or an item gives to the graph."""

    def settings(self, kind: type) -> object | None:
        """Settings of a class, or ``None`` where they are not asked for."""

    def source(self, source: Source[Any]) -> Ref | None:
        """What a source is bound to, or ``None``."""

    def each(self) -> Sequence[Binding]:
        """Bindings of the items it speaks of."""


def digest_of(value: object) -> str:
    """Digest of plain values, enums, tuples, sets, mappings and dataclasses of these.

    Raises
    ------
    TypeError
        A value of another kind.
    """
    try:
        return _digest_hashable(value)
    except TypeError:
        return _digest(value)


def _digest(value: object) -> str:
    text = json.dumps(_plain(value), separators=(",", ":"), allow_nan=False)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


@lru_cache(maxsize=65536)
def _digest_hashable(value: object) -> str:
    return _digest(value)


def _plain(value: object) -> object:
    if isinstance(value, Enum):
        return _plain(value.value)
    # 1, 1.0 and True are equal and hash alike: they are written alike too, whichever comes first.
    if isinstance(value, float | int):
        return float(value) + 0.0
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, tuple | list):
        return [_plain(v) for v in value]
    if isinstance(value, frozenset | set):
        return {"set": sorted(json.dumps(_plain(v)) for v in value)}
    if isinstance(value, Mapping):
        return {"map": sorted(([_plain(k), _plain(v)] for k, v in value.items()), key=json.dumps)}
    if is_dataclass(value) and not isinstance(value, type):
        return {type(value).__name__: [[f.name, _plain(getattr(value, f.name))] for f in fields(value)]}
    raise TypeError(f"Values of class {type(value).__name__} cannot go into a key.")


Input = Source[Any] | type | Recipe[Any]


@dataclass(frozen=True, eq=False, slots=True)
class Inputs:
    """What comes into results from a binding alone: sources, settings, keys of what a recipe needs of each.

    Attributes
    ----------
    among : tuple of Input
        In an order that is the same in every process.
    """

    among: tuple[Input, ...]


def label(one: Input) -> str:
    """What an input is called, the same in every process."""
    if isinstance(one, Recipe):
        return f"each of {one.name}"
    return f"source {one.name}" if isinstance(one, Source) else f"settings {one.__qualname__}"


class Graph:
    """All recipes, by name."""

    def __init__(self) -> None:
        self._nodes: dict[str, Recipe[Any] | Choice[Any]] = {}
        self._reaches: dict[tuple[str, frozenset[type] | None], Inputs] = {}
        self._inputs: dict[frozenset[Input], Inputs] = {}

    def __contains__(self, name: str) -> bool:
        return name in self._nodes

    def __iter__(self) -> Iterator[str]:
        return iter(self._nodes)

    def __getitem__(self, name: str) -> Recipe[Any] | Choice[Any]:
        return self._nodes[name]

    def recipe(self, name: str) -> Recipe[Any]:
        """One recipe by its name.

        Raises
        ------
        KeyError
            There is none.
        """
        node = self._nodes[name]
        if not isinstance(node, Recipe):
            raise KeyError(name)
        return node

    def add(self, node: Recipe[Any] | Choice[Any]) -> None:
        """Add a recipe or a choice.

        Raises
        ------
        ValueError
            The name is taken.
        """
        known = self._nodes.get(node.name)
        if known is not None and not _same_place(known, node):
            raise ValueError(f"There is a recipe “{node.name}” already.")
        self._nodes[node.name] = node
        self._forget()

    @contextmanager
    def lent(self) -> Iterator[Graph]:
        """Take out again, at the end, whatever was added meanwhile."""
        before = dict(self._nodes)
        try:
            yield self
        finally:
            self._nodes = before
            self._forget()

    def _forget(self) -> None:
        self._reaches = {}
        self._inputs = {}

    def inputs(self, among: frozenset[Input]) -> Inputs:
        """Return the one object for some inputs."""
        if among not in self._inputs:
            self._inputs[among] = Inputs(tuple(sorted(among, key=label)))
        return self._inputs[among]

    def reach(self, name: str, own: frozenset[type] | None = None) -> Inputs:
        """All that may come into a result from a binding; of settings these, where given."""
        found = self._reaches.get((name, own))
        if found is None:
            found = self._reaches[name, own] = self.inputs(frozenset(self._reached(name, own)))
        return found

    def _reached(self, name: str, own: frozenset[type] | None) -> Iterator[Input]:
        node = self._nodes[name]
        if isinstance(node, Choice):
            for one in node.among:
                yield from self.reach(one.name, own).among
            return
        for need, _ in node.needed:
            if isinstance(need, Source):
                yield need
            else:
                yield from self.reach(need.name, own).among
        yield from (kind for kind, _ in node.read if own is None or kind in own)
        if node.each:
            yield node

    @property
    def modules(self) -> list[str]:
        """Modules that recipes are defined in: another process imports them to have the same graph."""
        return sorted({n.module for n in self._nodes.values() if isinstance(n, Recipe)})

    def below(self, names: Sequence[str]) -> list[Recipe[Any]]:
        """All recipes that some results are made by, themselves too, each after all it may need."""
        found: dict[str, Recipe[Any]] = {}

        def visit(node: Any) -> None:
            if isinstance(node, Maybe):
                node = node.node
            if isinstance(node, Choice):
                for one in node.among:
                    visit(one)
            elif isinstance(node, Recipe) and node.name not in found:
                for need in (*node.needs, *node.each):
                    visit(need)
                found[node.name] = node

        for name in names:
            visit(self._nodes[name])
        return list(found.values())


def _same_place(one: Recipe[Any] | Choice[Any], other: Recipe[Any] | Choice[Any]) -> bool:
    # A module that is imported again, in another process or in a test, defines its recipes again.
    if isinstance(one, Recipe) and isinstance(other, Recipe):
        return (one.module, one.function.__qualname__) == (other.module, other.function.__qualname__)
    return isinstance(one, Choice) and isinstance(other, Choice)


GRAPH = Graph()


def recipe(
    name: str,
    *,
    version: int,
    stage: str = "",
    needs: Sequence[Any] = (),
    each: Sequence[Any] = (),
    reads: type | Maybe | Sequence[Any] = (),
    keep: Keep = Keep.STORED,
    partial: bool = False,
    graph: Graph = GRAPH,
) -> Callable[[Callable[..., T]], Recipe[T]]:
    """Declare a recipe; the function is handed values in the order: needs, each, reads.

    Parameters
    ----------
    name : str
    version : int
    stage : str
        What is being done, in words for the screen.
    needs, each, reads : sequence
        See ``Recipe``.
    keep : Keep
    partial : bool
        See ``Recipe``.
    graph : Graph
        Where it is registered.

    Returns
    -------
    callable
        The decorator.

    Raises
    ------
    ValueError
        The function takes another number of values than it declares, or the name is taken.
    """
    wanted = (reads,) if isinstance(reads, type | Maybe) else tuple(reads)

    def declared(function: Callable[..., T]) -> Recipe[T]:
        taken = list(inspect.signature(function).parameters)
        reports, early = "progress" in taken, "early" in taken
        values = [p for p in taken if p not in ("progress", "early")]
        if len(values) != len(needs) + len(each) + len(wanted):
            raise ValueError(f"The recipe “{name}” declares another number of values than it takes.")
        made = Recipe(
            name, version, stage, tuple(needs), tuple(each), wanted, function, keep, early, reports, partial
        )
        graph.add(made)
        return made

    return declared


def choice(name: str, *among: Recipe[T], graph: Graph = GRAPH) -> Choice[T]:
    """Declare one result or another, whichever is there."""
    made = Choice(name, among)
    graph.add(made)
    return made

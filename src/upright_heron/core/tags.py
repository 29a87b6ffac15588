"""Explicit tags of the classes whose values are written down, so that renaming a class loses nothing. A leaf.

A tag is written beside the fields of a value. What was written by an earlier version of a class is brought up
to date by its upcasters; a class without a tag is never written, and a tag that is unknown is never made.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields, is_dataclass
from typing import Any, TypeVar

C = TypeVar("C", bound=type)
Fields = dict[str, Any]
Upcaster = Callable[[Fields], Fields]


@dataclass(frozen=True)
class Tag:
    """What a class is written down as.

    Attributes
    ----------
    name : str
    version : int
        Raised whenever the fields change; each raise comes with an upcaster.
    cls : type
    upcasters : mapping of int to callable
        From the fields of a version to those of the next.
    """

    name: str
    version: int
    cls: type
    upcasters: Mapping[int, Upcaster] = field(default_factory=dict)

    @property
    def written(self) -> str:
        """How it is written: ``mesh/1``."""
        return f"{self.name}/{self.version}"

    @property
    def fields(self) -> tuple[str, ...]:
        """Names of the fields of the class, in their order."""
        return tuple(f.name for f in fields(self.cls))

    def make(self, version: int, values: Fields) -> Any:
        """Make a value from the fields of a version.

        Raises
        ------
        UnknownTag
            A version that no upcaster leads on from, or fields that the class does not have.
        """
        for number in range(version, self.version):
            if number not in self.upcasters:
                raise UnknownTag(f"{self.name}/{version}")
            values = self.upcasters[number](values)
        if version > self.version or set(values) != set(self.fields):
            raise UnknownTag(f"{self.name}/{version}")
        return self.cls(**values)


class UnknownTag(LookupError):
    """Something was written by a class that is not known here, or by a later version of one."""


_by_name: dict[str, Tag] = {}
_by_class: dict[type, Tag] = {}


def stored(name: str, version: int = 1, upcasters: Mapping[int, Upcaster] | None = None) -> Callable[[C], C]:
    """Give a frozen dataclass the tag that its values are written down with.

    Parameters
    ----------
    name : str
        Stays the same for good, whatever the class is called.
    version : int
    upcasters : mapping of int to callable, optional
        From the fields of each earlier version to those of the next.

    Returns
    -------
    callable
        The decorator.

    Raises
    ------
    ValueError
        Another class has this tag.
    """

    def tagged(cls: C) -> C:
        known = _by_name.get(name)
        if known is not None and (known.cls.__module__, known.cls.__qualname__) != (
            cls.__module__,
            cls.__qualname__,
        ):
            raise ValueError(f"{known.cls.__qualname__} is written down as “{name}” already.")
        if not is_dataclass(cls):
            raise ValueError(f"{cls.__qualname__} is no dataclass.")
        tag = Tag(name, version, cls, upcasters or {})
        _by_name[name] = tag
        _by_class[cls] = tag
        return cls

    return tagged


def tag_of(cls: type) -> Tag | None:
    """The tag of a class, or ``None`` where it has none."""
    return _by_class.get(cls)


def tag_named(written: str) -> tuple[Tag, int]:
    """The tag and version of something written down.

    Raises
    ------
    UnknownTag
        No class has this tag.
    """
    name, _, version = written.partition("/")
    if name not in _by_name or not version.isdigit():
        raise UnknownTag(written)
    return _by_name[name], int(version)


def all_tags() -> list[Tag]:
    """All tags there are, by name."""
    return [_by_name[name] for name in sorted(_by_name)]

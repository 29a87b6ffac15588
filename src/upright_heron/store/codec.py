"""Values of the core to bytes and back: tagged dataclasses, arrays, cross-sections and plain values.

A JSON tree holds the structure and the arrays follow it as raw little-endian bytes, all zlib-compressed.
Only classes with a tag (``core.tags``) are written and made again, so a database is data and never code.
"""

from __future__ import annotations

import json
import struct
import types
import typing
from enum import Enum
from functools import cache
from typing import Any

import numpy as np
from isal import isal_zlib
from manifold3d import CrossSection, FillRule

from ..core.tags import tag_named, tag_of

# What meshes and supports changed by hand were written as before classes had tags.
BEFORE_TAGS = {name: f"{name.lower()}/1" for name in ("Mesh", "Column", "Branches", "Slab")}


def encode(value: Any) -> bytes:
    """Turn a value into compressed bytes.

    Raises
    ------
    TypeError
        A value of a class without a tag.
    """
    arrays: list[np.ndarray[Any, Any]] = []
    tree = json.dumps(_tree(value, arrays), separators=(",", ":")).encode()
    parts = [struct.pack("<I", len(tree)), tree, *(np.ascontiguousarray(a).tobytes() for a in arrays)]
    return isal_zlib.compress(b"".join(parts), 1)


def decode(data: bytes) -> Any:
    """Turn the bytes of ``encode`` back into the value.

    Raises
    ------
    UnknownTag
        It was written by a class, or a version of one, that is not known here.
    """
    raw = memoryview(isal_zlib.decompress(data))
    (length,) = struct.unpack_from("<I", raw)
    return _value(json.loads(bytes(raw[4 : 4 + length])), raw, [4 + length])


def _tree(value: Any, arrays: list[np.ndarray[Any, Any]]) -> Any:
    if isinstance(value, Enum):
        return value.value
    if value is None or isinstance(value, bool | int | float | str):
        return value
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        arrays.append(value)
        return {"@": [value.dtype.str, list(value.shape)]}
    if isinstance(value, CrossSection):
        return {"#": [_tree(ring, arrays) for ring in value.to_polygons()]}
    if isinstance(value, bytes):
        return _tree(np.frombuffer(value, np.uint8), arrays) | {"!": "bytes"}
    if isinstance(value, tuple | list):
        return [_tree(item, arrays) for item in value]
    if isinstance(value, dict):
        return {"%": [[_tree(k, arrays), _tree(v, arrays)] for k, v in value.items()]}
    tag = tag_of(type(value))
    if tag is None:
        raise TypeError(f"Values of class {type(value).__name__} cannot be kept.")
    return {"$": tag.written, **{name: _tree(getattr(value, name), arrays) for name in tag.fields}}


def _value(tree: Any, raw: memoryview, at: list[int]) -> Any:
    # Lists come back as tuples: every kept value is frozen.
    if isinstance(tree, list):
        return tuple(_value(item, raw, at) for item in tree)
    if not isinstance(tree, dict):
        return tree
    if "@" in tree:
        kind, shape = tree["@"]
        dtype = np.dtype(kind)
        size = dtype.itemsize * int(np.prod(shape, dtype=np.int64))
        array = np.frombuffer(raw[at[0] : at[0] + size], dtype).reshape(shape)
        at[0] += size
        return array.tobytes() if tree.get("!") == "bytes" else array
    if "#" in tree:
        rings = [_value(ring, raw, at) for ring in tree["#"]]
        return CrossSection([np.array(r) for r in rings], FillRule.NonZero) if rings else CrossSection()
    if "%" in tree:
        return {_value(k, raw, at): _value(v, raw, at) for k, v in tree["%"]}
    named = str(tree.get("$", ""))
    written = BEFORE_TAGS.get(named, named)
    tag, version = tag_named(written)
    values = {k: _value(v, raw, at) for k, v in tree.items() if k != "$"}
    for name, kind in _enums(tag.cls):
        if values.get(name) is not None:
            values[name] = kind(values[name])
    return tag.make(version, values)


@cache
def _enums(cls: type) -> tuple[tuple[str, type[Enum]], ...]:
    """Fields of a class that are written as the value of an enum."""
    found = []
    for name, hint in typing.get_type_hints(cls).items():
        kinds = typing.get_args(hint) if isinstance(hint, types.UnionType) else (hint,)
        found += [(name, kind) for kind in kinds if isinstance(kind, type) and issubclass(kind, Enum)]
    return tuple(found)

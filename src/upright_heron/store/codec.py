"""Values of the core to bytes and back: frozen dataclasses, arrays, cross-sections and plain values.

A JSON tree holds the structure and the arrays follow it as raw little-endian bytes, all zlib-compressed.
Only registered classes are made when reading, so a database is data and never code.
"""

from __future__ import annotations

import dataclasses
import json
import struct
from enum import Enum
from typing import Any

import numpy as np
from isal import isal_zlib
from manifold3d import CrossSection, FillRule

from ..core.footing.footing import Footing
from ..core.geometry.mesh import Edges, Mesh, MeshFacts
from ..core.handoff.threemf import FileObject
from ..core.hanging.cups import Cup
from ..core.hanging.findings import Hanging
from ..core.hanging.islands import Island
from ..core.hanging.layer_steps import Neck, Step
from ..core.hanging.lowest_points import Low
from ..core.hanging.overhang_regions import Bridge, Region
from ..core.hanging.overhangs import Overhangs
from ..core.health.report import Place, Report
from ..core.layers.stack import LayerStack
from ..core.marking.channels import Channel
from ..core.split.grid import Piece, Split
from ..core.stance.figures import Figures, LayerFigure
from ..core.stance.resting import RestingFace
from ..core.stance.search import Found, Proposal
from ..core.supports.checks.removal import Access
from ..core.supports.demand.patches import Patch
from ..core.supports.filament.styles import Grown
from ..core.supports.model import Branches, Column, Fault, PatchLine, Slab, Stilt, SupportSet

CLASSES: dict[str, type] = {
    c.__name__: c
    for c in (
        Access, Branches, Bridge, Channel, Column, Cup, Edges, Fault, Figures, Footing, Found, Grown,
        Hanging, Island, FileObject, LayerFigure, LayerStack, Low, Mesh, MeshFacts, Neck, Overhangs, Patch,
        PatchLine, Piece, Place, Proposal, Region, Report, RestingFace, Slab, Split, Step, Stilt, SupportSet,
    )
}  # fmt: skip


def register(cls: type) -> type:
    """Let a frozen dataclass be kept; usable as a decorator."""
    CLASSES[cls.__name__] = cls
    return cls


def encode(value: Any) -> bytes:
    """Turn a value into compressed bytes.

    Raises
    ------
    TypeError
        A value of a class that is not registered.
    """
    arrays: list[np.ndarray[Any, Any]] = []
    tree = json.dumps(_tree(value, arrays), separators=(",", ":")).encode()
    parts = [struct.pack("<I", len(tree)), tree, *(np.ascontiguousarray(a).tobytes() for a in arrays)]
    return isal_zlib.compress(b"".join(parts), 1)


def decode(data: bytes) -> Any:
    """Turn the bytes of ``encode`` back into the value."""
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
    name = type(value).__name__
    if CLASSES.get(name) is not type(value):
        raise TypeError(f"Values of class {name} cannot be kept.")
    return {
        "$": name,
        **{f.name: _tree(getattr(value, f.name), arrays) for f in dataclasses.fields(CLASSES[name])},
    }


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
    cls = CLASSES[tree["$"]]
    return cls(**{k: _value(v, raw, at) for k, v in tree.items() if k != "$"})

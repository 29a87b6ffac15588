"""Figures of all results of a few parts, and the record of what they were.

A remembered result is known by a key that names the version of its recipe: one that comes out otherwise under the
same version would be taken for what it is not. ``python -m tests.work.kept_results`` writes the record anew, where
each recipe that gives other figures has another version; with ``--anyway`` also where only the parts are others.
"""

from __future__ import annotations

import functools
import hashlib
import io
import json
import re
import sys
import zipfile
from collections.abc import Iterator
from dataclasses import fields, is_dataclass
from enum import Enum
from pathlib import Path
from typing import Any

import numpy as np
from manifold3d import CrossSection, Manifold
from numba import njit

from tests.work import kept_parts
from upright_heron.core.graph import GRAPH, Recipe
from upright_heron.core.keys import Keys
from upright_heron.core.maker import Maker

RECORD = Path(__file__).resolve().parents[1] / "fixtures" / "results.json"
# Pictures are of a library, and compressed.
LEFT_OUT = {"picture", "plate_picture"}
# Figures may differ by so much of the sum of all sizes, on a machine that computes like that of the record.
SHARE = 2e-6
# On another, the last bit of a number now and then decides whether a corner of an outline is left out.
SHARE_ELSEWHERE = 0.1
NUMBER = re.compile(r"-?\d+(?:\.\d+)?(?:e-?\d+)?")
# Made from the digest of all that is in a file.
SERIAL = re.compile(r"[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}")


def gather(value: Any, numbers: list[np.ndarray], words: list[str]) -> None:
    """Take a value apart into its numbers and its words, in order."""
    if value is None or isinstance(value, str | Enum):
        words.append(str(getattr(value, "value", value)))
    elif isinstance(value, bool | int | float | np.number | np.bool_):
        numbers.append(np.array([float(value)]))
    elif isinstance(value, np.ndarray):
        words.append(str(value.shape))
        numbers.append(value.ravel().astype(np.float64))
    elif isinstance(value, bytes):
        _of_bytes(value, numbers, words)
    elif isinstance(value, Manifold):
        numbers.append(np.array([value.volume(), value.surface_area(), *value.bounding_box()]))
    elif isinstance(value, CrossSection):
        numbers.append(np.array([value.area(), *value.bounds()]) if value.num_vert() else np.zeros(5))
    elif isinstance(value, dict):
        for name, one in value.items():
            gather(name, numbers, words)
            gather(one, numbers, words)
    elif isinstance(value, set | frozenset):
        gather(sorted(value, key=str), numbers, words)
    elif isinstance(value, tuple | list):
        words.append(str(len(value)))
        for one in value:
            gather(one, numbers, words)
    elif is_dataclass(value):
        for one in fields(value):
            gather(getattr(value, one.name), numbers, words)
    else:
        words.append(type(value).__name__)


def _of_bytes(value: bytes, numbers: list[np.ndarray], words: list[str]) -> None:
    if value[:2] == b"PK":
        with zipfile.ZipFile(io.BytesIO(value)) as packed:
            for name in packed.namelist():
                words.append(name)
                _of_bytes(packed.read(name), numbers, words)
    elif b"\0" in value or value[:4] == b"\x89PNG":
        words.append(hashlib.sha1(value).hexdigest())
    else:
        text = SERIAL.sub("", value.decode())
        numbers.append(np.array(NUMBER.findall(text), np.float64))
        words.append(NUMBER.sub("#", text))


def figures(value: Any) -> list[Any]:
    """Of a value: how many numbers, their sum, that of their sizes, a sum that minds their order; and its words."""
    numbers: list[np.ndarray] = []
    words: list[str] = []
    gather(value, numbers, words)
    row = np.concatenate([np.zeros(0), *numbers])
    row = np.where(np.isfinite(row), row, 1234.5)
    order = np.cos(1.7 * np.arange(len(row)))
    sums = [float(f"{float(s):.12g}") for s in (row.sum(), np.abs(row).sum(), order @ row)]
    return [len(row), *sums, hashlib.sha1("\n".join(words).encode()).hexdigest()[:12]]


def told(value: Any) -> dict[str, list[Any]]:
    """Figures of a result, part by part."""
    if is_dataclass(value) and not isinstance(value, type):
        return {one.name: figures(getattr(value, one.name)) for one in fields(value)}
    if isinstance(value, tuple) and hasattr(value, "_fields"):
        return {name: figures(getattr(value, name)) for name in value._fields}
    return {"": figures(value)}


@njit
def _sum_of_products(a: Any) -> float:
    total = 0.0
    for k in range(len(a) - 1):
        total = total * a[k] + a[k + 1] / (1.0 + a[k])
    return total


@functools.cache
def arithmetic() -> str:
    """Digest of what the libraries make of a few numbers here, to the last bit."""
    dice = np.random.default_rng(7)
    a, b = dice.random((40, 3)), dice.random((3, 3))
    turned = Manifold.sphere(10, 48).rotate((13.0, 29.0, 7.0)).translate((0.1, 0.2, 0.3))
    rings = [
        ring for z in (-3.0, 1.7, 6.1) for ring in turned.slice(z).offset(-0.4).simplify(0.01).to_polygons()
    ]
    found = [
        a @ b,
        np.linalg.inv(b),
        np.sin(a) / np.exp(a),
        a.sum(axis=0),
        np.array([_sum_of_products(a[:, 0])]),
        *rings,
    ]
    return hashlib.sha1(b"".join(np.ascontiguousarray(one).tobytes() for one in found)).hexdigest()[:12]


def same(a: list[Any], b: list[Any], here: bool) -> bool:
    """Whether figures are the same but for what is lost in adding up; ``here``: the machine computes as then."""
    if not here:
        most = max(abs(a[2]), abs(b[2]))
        return (
            abs(a[0] - b[0]) <= SHARE_ELSEWHERE * b[0] + 2
            and abs(a[2] - b[2]) <= SHARE_ELSEWHERE * most + 1e-9
        )
    near = SHARE * max(abs(a[2]), abs(b[2])) + 1e-9
    return (
        a[0] == b[0] and a[4] == b[4] and all(abs(x - y) <= near for x, y in zip(a[1:4], b[1:4], strict=True))
    )


def recipes(keys: Keys) -> Iterator[Recipe[Any]]:
    """All recipes of a binding, each after what it needs."""
    named = [name for name, node in GRAPH._nodes.items() if isinstance(node, Recipe) and name not in LEFT_OUT]
    for one in GRAPH.below(named):
        if one.name in named and keys.get(one.name) is not None:
            yield one


def results(keys: Keys, maker: Maker, leave: frozenset[str]) -> dict[str, dict[str, Any]]:
    """Version and figures of all results of a binding but some."""
    return {
        one.name: {"version": one.version, "parts": told(maker.value(keys, one))}
        for one in recipes(keys)
        if one.name not in leave
    }


def others(now: dict[str, Any], then: dict[str, Any], here: bool) -> list[str]:
    """Recipes whose results come out otherwise, though nothing that they are made from does."""
    changed = [
        name
        for name, one in now.items()
        if name not in then
        or one["parts"].keys() != then[name]["parts"].keys()
        or not all(same(one["parts"][k], then[name]["parts"][k], here) for k in one["parts"])
    ]
    first = []
    for name in changed:
        below = {one.name for one in GRAPH.below([name])} - {name} if name in GRAPH._nodes else set()
        if not below & set(changed):
            first.append(name)
    return first


def what_differs(name: str, now: dict[str, Any], then: dict[str, Any], here: bool) -> str:
    """In words, which parts of a result differ."""
    old = then.get(name, {"parts": {}})["parts"]
    lines = [
        f"{part or 'value'}: {old.get(part)} -> {one}"
        for part, one in now[name]["parts"].items()
        if part not in old or not same(one, old[part], here)
    ]
    return "; ".join(lines)[:600]


def written(record: dict[str, Any]) -> str:
    """The record as JSON, a result a line."""
    cases = [
        f"{json.dumps(case)}: {{\n"
        + ",\n".join(
            f"{json.dumps(name)}: {json.dumps(one, separators=(',', ':'))}" for name, one in found.items()
        )
        + "\n}"
        for case, found in record.items()
        if isinstance(found, dict)
    ]
    head = f'"arithmetic": {json.dumps(record["arithmetic"])}'
    return "{\n" + ",\n".join([head, *cases]) + "\n}\n"


def main(anyway: bool) -> int:
    """Write the record anew."""
    then = json.loads(RECORD.read_text()) if RECORD.exists() else {}
    here = then.get("arithmetic") == arithmetic()
    made: dict[str, Any] = {"arithmetic": arithmetic()}
    refused = 0
    for case in kept_parts.CASES:
        made[case] = kept_parts.made(case, results, told)
        for name in others(made[case], then.get(case, {}), here):
            old = then.get(case, {}).get(name)
            # What is no result of a recipe has none.
            if old and old["version"] == made[case][name]["version"] > 0 and not anyway:
                sys.stderr.write(f"{case}: {name} comes out otherwise; raise its version\n")
                refused += 1
    if refused == 0:
        RECORD.write_text(written(made))
    return refused


if __name__ == "__main__":
    sys.exit(main("--anyway" in sys.argv))

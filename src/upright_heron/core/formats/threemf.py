"""3MF, read: core specification 1.3, with components, transforms, several objects and production paths."""

from __future__ import annotations

import posixpath
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..errors import BadFile, EmptyFile, NotAMesh, TooLarge
from ..marking.mark import Mark
from .archive import Archive
from .contents import EXPORT_AGAIN, MM_OF, Body, Contents
from .xml import parse

# Marks of the part, beside the core of the format: programs that do not know it leave it alone.
MARKS = "urn:upright-heron:marks:1"
WORDS = {Mark.PROP: "prop", Mark.KEEP_CLEAR: "keep-clear", Mark.SHOW: "show", Mark.SOLID: "keep-solid"}
# Types of objects that hold others up: 3MF Core Specification 1.3, chapter 4.1.
SUPPORT_TYPES = frozenset({"support", "solidsupport"})
DEEPEST = 32
# What a package may build: a mesh of as many facets fills a gigabyte on its way in.
MOST_FACETS = 6_000_000
MOST_OBJECTS = 20_000
MOST_MODELS = 2000

Matrix = NDArray[np.float64]
_MARKS = {word: int(mark) for mark, word in WORDS.items()}


@dataclass
class _Object:
    name: str
    type: str
    points: list[float] = field(default_factory=list)
    facets: list[int] = field(default_factory=list)
    # What is painted, by the number of the facet.
    marks: dict[int, int] = field(default_factory=dict)
    components: list[tuple[str, str, Matrix]] = field(default_factory=list)

    @cached_property
    def arrays(self) -> tuple[Matrix, NDArray[np.int64]]:
        """Corners (n, 3) and facets (m, 3): made once, however often it is built.

        Raises
        ------
        NotAMesh
            Facets use corners beyond the last.
        """
        points = np.array(self.points, np.float64).reshape(-1, 3)
        try:
            facets = np.array(self.facets, np.int64).reshape(-1, 3)
        except OverflowError as error:
            raise _without_corners(self.name) from error
        if facets.min() < 0 or facets.max() >= len(points):
            raise _without_corners(self.name)
        return points, facets


class _Piece(NamedTuple):
    """One mesh where the build places it."""

    corners: NDArray[np.float64]
    marks: NDArray[np.uint8]
    name: str
    type: str


def _without_corners(name: str) -> NotAMesh:
    return NotAMesh(f"Facets of the object “{name[:40]}” use corners that it does not have.", EXPORT_AGAIN)


@dataclass
class _Model:
    unit: str = "millimeter"
    objects: dict[str, _Object] = field(default_factory=dict)
    items: list[tuple[str, str, Matrix]] = field(default_factory=list)


def read_3mf(data: bytes) -> Contents:
    """Read a 3MF package: each mesh that the build places is a body.

    Parameters
    ----------
    data : bytes

    Returns
    -------
    Contents

    Raises
    ------
    BadFile
        Not a 3MF package, damaged, or with references that lead nowhere or in circles.
    """
    package = _Package(data)
    first = package.model(package.root)
    package.count(first)
    bodies = []
    scale = MM_OF[first.unit]
    for target, number, transform in first.items:
        pieces: list[_Piece] = []
        package.gather(target or package.root, number, transform, pieces)
        item = package.found(target or package.root, number)
        whole = item.name or f"object {number}"
        for count, piece in enumerate(pieces, 1):
            with np.errstate(over="ignore"):
                corners = (piece.corners * scale).astype(np.float32)
            # Objects put together to one, as those of several materials are, stay bodies of their own.
            name = whole if len(pieces) == 1 else piece.name or f"{whole} {count}"
            marks = piece.marks if piece.marks.any() else None
            bodies.append(Body(name, corners, marks, bool(SUPPORT_TYPES & {item.type, piece.type})))
    if not bodies:
        raise EmptyFile("The package builds nothing that has a surface.", EXPORT_AGAIN)
    return Contents("3MF", first.unit, tuple(bodies))


class _Package:
    """The models of a package, read when they are named."""

    def __init__(self, data: bytes) -> None:
        self._archive = Archive(data)
        self.root = _root(self._archive)
        self._models: dict[str, _Model] = {}
        self._sizes: dict[tuple[str, str], tuple[int, int]] = {}

    def model(self, path: str) -> _Model:
        """The model of a part of the package.

        Raises
        ------
        BadFile
        """
        path = path.lstrip("/")
        if path not in self._models:
            if len(self._models) > MOST_MODELS:
                raise NotAMesh("The package refers to thousands of model parts.", EXPORT_AGAIN)
            self._models[path] = _read_model(self._archive.read(_entry(self._archive, path)))
        return self._models[path]

    def found(self, path: str, number: str) -> _Object:
        """An object of a part.

        Raises
        ------
        BadFile
        """
        known = self.model(path).objects.get(number)
        if known is None:
            raise NotAMesh(f"The package builds object {number[:20]}, which it does not hold.", EXPORT_AGAIN)
        return known

    def count(self, first: _Model) -> None:
        """Count what is built before any of it is made: a few lines name each other a million times.

        Raises
        ------
        BadFile
            More objects or facets than are taken in, or objects in a circle.
        """
        every = [self._size(target or self.root, number, 0) for target, number, _ in first.items]
        objects, facets = sum(count for count, _ in every), sum(count for _, count in every)
        if objects > MOST_OBJECTS or facets > MOST_FACETS:
            told = f"{facets:,} facets" if facets > MOST_FACETS else f"{objects:,} objects"
            raise TooLarge(f"The package builds {told}.", "Build fewer copies in it: they can be made here.")

    def _size(self, path: str, number: str, depth: int) -> tuple[int, int]:
        """Objects and facets that an object comes to with all that it contains."""
        if depth > DEEPEST:
            raise NotAMesh("The objects of the package contain each other in a circle.", EXPORT_AGAIN)
        key = (path.lstrip("/"), number)
        if key not in self._sizes:
            known = self.found(path, number)
            each = [self._size(target or path, inner, depth + 1) for target, inner, _ in known.components]
            facets = len(known.facets) // 3 + sum(count for _, count in each)
            self._sizes[key] = (1 + sum(count for count, _ in each), facets)
        return self._sizes[key]

    def gather(self, path: str, number: str, matrix: Matrix, into: list[_Piece]) -> None:
        """Put the facets of an object, with all that it contains, to others; ``matrix`` (4, 3) places it."""
        known = self.found(path, number)
        if known.facets:
            points, facets = known.arrays
            corners = (points @ matrix[:3] + matrix[3])[facets]
            # A transform that mirrors turns every facet inside out.
            marks = np.zeros(len(facets), np.uint8)
            marks[list(known.marks)] = list(known.marks.values())
            upright = corners[:, ::-1] if np.linalg.det(matrix[:3]) < 0 else corners
            into.append(_Piece(upright, marks, known.name, known.type))
        for target, inner, transform in known.components:
            self.gather(target or path, inner, _after(transform, matrix), into)


def _entry(archive: Archive, path: str) -> str:
    wanted = posixpath.normpath(path).lower()
    for name in archive.names:
        if posixpath.normpath(name.lstrip("/")).lower() == wanted:
            return name
    raise NotAMesh(f"The package has no part “{path[:80]}”.", EXPORT_AGAIN)


def _root(archive: Archive) -> str:
    """The part that the package names as its model."""
    found: list[str] = []

    def start(name: str, attributes: dict[str, str]) -> None:
        if name == "Relationship" and attributes.get("Type", "").endswith("/3dmodel"):
            found.append(attributes.get("Target", ""))

    relationships = [name for name in archive.names if name.lstrip("/").lower() == "_rels/.rels"]
    if relationships:
        parse(archive.read(relationships[0]), start, lambda _: None)
    if not found:
        found = [name for name in archive.names if name.lower().endswith(".model")]
    if not found:
        raise NotAMesh(
            "The archive is not a 3MF package: it names no model.", "Unpack it and upload the mesh inside."
        )
    return found[0].lstrip("/")


def _matrix(text: str | None) -> Matrix:
    if not text:
        return np.vstack([np.eye(3), np.zeros(3)])
    try:
        values = np.array([float(word) for word in text.split()])
    except ValueError as error:
        raise NotAMesh("A transform in the package is not made of numbers.", EXPORT_AGAIN) from error
    if len(values) != 12 or not np.isfinite(values).all():
        raise NotAMesh("A transform in the package does not have twelve numbers.", EXPORT_AGAIN)
    return values.reshape(4, 3)


def _after(first: Matrix, then: Matrix) -> Matrix:
    """Row vectors, as in the specification: x' = x M."""
    return np.vstack([first[:3] @ then[:3], first[3] @ then[:3] + then[3]])


def _read_model(data: bytes) -> _Model:
    model = _Model()
    current: list[_Object] = []

    def start(name: str, attributes: dict[str, str]) -> None:
        try:
            if name == "vertex":
                current[-1].points += (float(attributes["x"]), float(attributes["y"]), float(attributes["z"]))
            elif name == "triangle":
                body = current[-1]
                if (mark := _MARKS.get(attributes.get("mark", ""))) is not None:
                    body.marks[len(body.facets) // 3] = mark
                body.facets += (int(attributes["v1"]), int(attributes["v2"]), int(attributes["v3"]))
            elif name == "model":
                model.unit = attributes.get("unit", "millimeter")
                if model.unit not in MM_OF:
                    raise NotAMesh(
                        f"The package states a unit that 3MF does not have: {model.unit[:20]}.", EXPORT_AGAIN
                    )
            elif name == "object":
                current.append(_Object(attributes.get("name", ""), attributes.get("type", "model")))
                model.objects[attributes["id"]] = current[-1]
            elif name == "component":
                current[-1].components.append(
                    (attributes.get("path", ""), attributes["objectid"], _matrix(attributes.get("transform")))
                )
            elif name == "item":
                model.items.append(
                    (attributes.get("path", ""), attributes["objectid"], _matrix(attributes.get("transform")))
                )
        except BadFile:
            raise
        except (KeyError, ValueError, IndexError) as error:
            raise NotAMesh(f"An element “{name[:20]}” of the package is incomplete.", EXPORT_AGAIN) from error

    parse(data, start, lambda _: None)
    return model

"""Paths that the nozzle goes along: chains of places with the width of the bead at each."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import IntEnum
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..tags import stored


class Kind(IntEnum):
    """What a path is."""

    OUTER = 0
    WALL = 1
    THIN = 2
    TOP = 3
    BOTTOM = 4
    BRIDGE = 5
    INFILL = 6
    SUPPORT = 7
    INTERFACE = 8
    SKIRT = 9
    BRIM = 10
    RAFT = 11
    TRAVEL = 12

    @property
    def words(self) -> str:
        """What it is called."""
        return _WORDS[self]


_WORDS = {
    Kind.OUTER: "outer wall", Kind.WALL: "inner walls", Kind.THIN: "thin places", Kind.TOP: "top",
    Kind.BOTTOM: "bottom", Kind.BRIDGE: "bridges", Kind.INFILL: "infill", Kind.SUPPORT: "supports",
    Kind.INTERFACE: "interface", Kind.SKIRT: "skirt", Kind.BRIM: "brim", Kind.RAFT: "raft",
    Kind.TRAVEL: "travel",
}  # fmt: skip


class Chain(NamedTuple):
    """A path: places (k, 2) mm, widths (k,) mm, and what it is; closed ones end where they begin."""

    places: NDArray[np.float64]
    width: NDArray[np.float64]
    kind: Kind


@stored("beads")
@dataclass(frozen=True, eq=False)
class Beads:
    """Paths of all layers, in the order in which they are printed.

    Attributes
    ----------
    points : (P, 2) float64, mm
    width : (P,) float64
        Of the bead at each place, mm; nought along travels.
    start : (N + 1,) int64
        Where each path begins.
    kind : (N,) uint8
        As ``Kind``.
    layer : (N,) int64
        Ascending.
    tops_mm : (L,) float64
        Upper side of each layer, from the plate.
    layer_mm : float
        Height of a layer.
    """

    points: NDArray[np.float64]
    width: NDArray[np.float64]
    start: NDArray[np.int64]
    kind: NDArray[np.uint8]
    layer: NDArray[np.int64]
    tops_mm: NDArray[np.float64]
    layer_mm: float

    def __len__(self) -> int:
        return len(self.kind)

    def of_layer(self, layer: int) -> slice:
        """Which paths are of a layer."""
        return slice(*(int(v) for v in np.searchsorted(self.layer, [layer, layer + 1])))

    def chains(self, layer: int) -> list[Chain]:
        """The paths of a layer."""
        found = self.of_layer(layer)
        return [
            Chain(self.points[a:b], self.width[a:b], Kind(int(kind)))
            for a, b, kind in zip(
                self.start[found.start : found.stop],
                self.start[found.start + 1 : found.stop + 1],
                self.kind[found],
                strict=True,
            )
        ]

    @property
    def lengths_mm(self) -> NDArray[np.float64]:
        """Length of each path (N,), mm."""
        return self._summed(self._steps)

    @property
    def volumes_mm3(self) -> NDArray[np.float64]:
        """Volume of each path (N,), mm3: its width times the height of a layer along it."""
        middle = 0.5 * (self.width[1:] + self.width[:-1])
        return self._summed(self._steps * middle) * self.layer_mm

    @property
    def _steps(self) -> NDArray[np.float64]:
        steps: NDArray[np.float64] = np.hypot(*np.diff(self.points, axis=0).T)
        # From the end of one path to the beginning of the next there is none.
        steps[self.start[1:-1] - 1] = 0.0
        return steps

    def _summed(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        along = np.concatenate([[0.0], np.cumsum(values)])
        ends = np.maximum(self.start[1:] - 1, 0)
        result: NDArray[np.float64] = along[ends] - along[self.start[:-1]]
        return result


def packed(layers: Iterable[list[Chain]], tops_mm: NDArray[np.float64], layer_mm: float) -> Beads:
    """Pack paths, layer by layer.

    Parameters
    ----------
    layers : iterable of lists of Chain
    tops_mm : (L,) float64
    layer_mm : float

    Returns
    -------
    Beads
    """
    points, width, counts, kinds, of = [], [], [], [], []
    for layer, chains in enumerate(layers):
        for places, wide, kind in chains:
            points.append(places)
            width.append(wide)
            counts.append(len(places))
            kinds.append(int(kind))
            of.append(layer)
    start = np.zeros(len(counts) + 1, np.int64)
    np.cumsum(counts, out=start[1:])
    return Beads(
        np.concatenate(points) if points else np.zeros((0, 2)),
        np.concatenate(width) if width else np.zeros(0),
        start,
        np.array(kinds, np.uint8),
        np.array(of, np.int64),
        tops_mm,
        layer_mm,
    )

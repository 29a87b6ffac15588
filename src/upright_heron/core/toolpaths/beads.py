"""Paths that the nozzle goes along: chains of places with the width of the bead at each."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, NamedTuple

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
    STRAND = 12
    PURGE = 13
    SMOOTHING = 14
    # A way inside the outline, which nothing is drawn back for.
    TRAVEL = 15

    @property
    def words(self) -> str:
        """What it is called."""
        return _WORDS[self]


_WORDS = {
    Kind.OUTER: "outer wall", Kind.WALL: "inner walls", Kind.THIN: "thin places", Kind.TOP: "top",
    Kind.BOTTOM: "bottom", Kind.BRIDGE: "bridges", Kind.INFILL: "infill", Kind.SUPPORT: "supports",
    Kind.INTERFACE: "interface", Kind.SKIRT: "skirt", Kind.BRIM: "brim", Kind.RAFT: "raft",
    Kind.STRAND: "strands", Kind.PURGE: "purging", Kind.SMOOTHING: "smoothing", Kind.TRAVEL: "travel",
}  # fmt: skip


class Chain(NamedTuple):
    """A path: places (k, 2) mm, widths (k,) mm, and what it is; closed ones end where they begin.

    ``high`` is the height of the bead in layers, ``nozzle`` its number from 0, and ``pace`` (k,) the share of
    its usual speed that it is laid with, or ``None`` for all of it.
    """

    places: NDArray[np.float64]
    width: NDArray[np.float64]
    kind: Kind
    high: float = 1.0
    nozzle: int = 0
    pace: NDArray[np.float64] | None = None

    @property
    def closed(self) -> bool:
        """It ends where it begins."""
        at = self.places
        return len(at) > 3 and bool(at[0, 0] == at[-1, 0] and at[0, 1] == at[-1, 1])

    def rolled(self, k: int) -> Chain:
        """The closed path from another of its places on."""

        def around(values: NDArray[np.float64]) -> NDArray[np.float64]:
            return np.concatenate((values[k:-1], values[: k + 1]))

        pace = around(self.pace) if self.pace is not None else None
        return self._replace(places=around(self.places), width=around(self.width), pace=pace)

    def slowed(self, share: float) -> Chain:
        """The path with all of it at a share of its speed."""
        pace = np.ones(len(self.places)) if self.pace is None else self.pace
        return self._replace(pace=share * pace)

    @property
    def backwards(self) -> Chain:
        """The path from its end to its beginning."""
        pace = self.pace[::-1] if self.pace is not None else None
        return self._replace(places=self.places[::-1], width=self.width[::-1], pace=pace)


@stored("event")
@dataclass(frozen=True, slots=True)
class Event:
    """What happens before a layer.

    Attributes
    ----------
    layer : int
    nozzle_c, fan_percent : float or None
        Set from here on.
    pause : str
        The machine waits for someone, and what for.
    """

    layer: int
    nozzle_c: float | None = None
    fan_percent: float | None = None
    pause: str = ""


def _plain(old: dict[str, Any]) -> dict[str, Any]:
    """Paths as they were before heights, nozzles and speeds were told by path."""
    count = len(old["kind"])
    more = {"high": np.ones(count), "nozzle": np.zeros(count, np.uint8), "pace": np.ones(len(old["points"]))}
    return {**old, **more, "events": ()}


@stored("beads", version=2, upcasters={1: _plain})
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
        Upper side of each layer, from the plate. Where it is lower than the one before, another item begins.
    layer_mm : float
        Height of a layer.
    high : (N,) float64
        Height of the bead of each path, in layers.
    nozzle : (N,) uint8
        That lays each path, from 0.
    pace : (P,) float64
        Share of the usual speed at each place; a move is as slow as its slower end.
    events : tuple of Event
        Ascending by layer.
    """

    points: NDArray[np.float64]
    width: NDArray[np.float64]
    start: NDArray[np.int64]
    kind: NDArray[np.uint8]
    layer: NDArray[np.int64]
    tops_mm: NDArray[np.float64]
    layer_mm: float
    high: NDArray[np.float64]
    nozzle: NDArray[np.uint8]
    pace: NDArray[np.float64]
    events: tuple[Event, ...] = ()

    def __len__(self) -> int:
        return len(self.kind)

    @property
    def begins(self) -> NDArray[np.bool_]:
        """Layers (L,) that something begins with on the plate: the first, and that of each that follows."""
        found = np.ones(len(self.tops_mm), bool)
        found[1:] = self.tops_mm[1:] <= self.tops_mm[:-1]
        return found

    def of_layer(self, layer: int) -> slice:
        """Which paths are of a layer."""
        return slice(*(int(v) for v in np.searchsorted(self.layer, [layer, layer + 1])))

    def chains(self, layer: int) -> list[Chain]:
        """The paths of a layer."""
        found = self.of_layer(layer)
        return [
            Chain(self.points[a:b], self.width[a:b], Kind(kind), high, nozzle, self.pace[a:b])
            for a, b, kind, high, nozzle in zip(
                self.start[found.start : found.stop].tolist(),
                self.start[found.start + 1 : found.stop + 1].tolist(),
                self.kind[found].tolist(),
                self.high[found].tolist(),
                self.nozzle[found].tolist(),
                strict=True,
            )
        ]

    @property
    def lengths_mm(self) -> NDArray[np.float64]:
        """Length of each path (N,), mm."""
        return self._summed(self._steps)

    @property
    def volumes_mm3(self) -> NDArray[np.float64]:
        """Volume of each path (N,), mm3: its width times its height along it."""
        middle = 0.5 * (self.width[1:] + self.width[:-1])
        return self._summed(self._steps * middle) * self.layer_mm * self.high

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


def packed(
    layers: Iterable[list[Chain]],
    tops_mm: NDArray[np.float64],
    layer_mm: float,
    events: tuple[Event, ...] = (),
) -> Beads:
    """Pack paths, layer by layer.

    Parameters
    ----------
    layers : iterable of lists of Chain
    tops_mm : (L,) float64
    layer_mm : float
    events : tuple of Event

    Returns
    -------
    Beads
    """
    levels = [*layers]
    chains = [chain for level in levels for chain in level]
    start = np.zeros(len(chains) + 1, np.int64)
    np.cumsum([len(chain.places) for chain in chains], out=start[1:])
    usual = np.ones(max((len(chain.places) for chain in chains), default=0))
    paces = [usual[: len(chain.places)] if chain.pace is None else chain.pace for chain in chains]
    return Beads(
        np.concatenate([chain.places for chain in chains]) if chains else np.zeros((0, 2)),
        np.concatenate([chain.width for chain in chains]) if chains else np.zeros(0),
        start,
        np.array([int(chain.kind) for chain in chains], np.uint8),
        np.repeat(np.arange(len(levels)), [len(level) for level in levels]).astype(np.int64),
        tops_mm,
        layer_mm,
        np.array([chain.high for chain in chains], np.float64),
        np.array([chain.nozzle for chain in chains], np.uint8),
        np.concatenate(paces) if chains else np.zeros(0),
        tuple(sorted(events, key=lambda event: event.layer)),
    )

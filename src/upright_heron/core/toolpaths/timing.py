"""What a print takes: time by kind of path, and filament, from the moves themselves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..tags import stored
from .beads import Beads, Kind
from .motion import Limits, seconds
from .rough_estimate import filament_length_mm

# Speed of each kind as a share of the machine's usual one (common practice).
SHARES = {
    Kind.OUTER: 0.6, Kind.WALL: 1.0, Kind.THIN: 0.6, Kind.TOP: 0.7, Kind.BOTTOM: 0.8, Kind.BRIDGE: 0.5,
    Kind.INFILL: 1.2, Kind.SUPPORT: 1.0, Kind.INTERFACE: 0.7, Kind.SKIRT: 0.6, Kind.BRIM: 0.6, Kind.RAFT: 0.6,
}  # fmt: skip


# Speeds of layers that would not cool are found in so many rounds.
ROUNDS = 4


@dataclass(frozen=True, slots=True)
class Running:
    """How a machine runs along paths; where no source is named, common practice.

    Attributes
    ----------
    speed_mm_s : float
        Usual speed of the nozzle.
    travel_mm_s : float
    acceleration_mm_s2 : float
    first_share : float
        Speed in the first layer, as a share.
    flow_mm3_s : float
        No more than this comes out of the nozzle.
    least_layer_s : float
        A layer takes at least so long, so that it cools; no slower than ``slowest_mm_s``.
    slowest_mm_s : float
    retract_mm, retract_mm_s : float
        Before travels longer than ``retract_over_mm`` the filament is drawn back.
    retract_over_mm : float
    warm_up_s : float
        Heating, and what else comes before the first move.
    """

    speed_mm_s: float
    travel_mm_s: float = 150.0
    acceleration_mm_s2: float = 1000.0
    first_share: float = 0.5
    flow_mm3_s: float = 11.0
    least_layer_s: float = 8.0
    slowest_mm_s: float = 10.0
    retract_mm: float = 1.0
    retract_mm_s: float = 35.0
    retract_over_mm: float = 2.0
    warm_up_s: float = 240.0


class Moves(NamedTuple):
    """All moves of a print, one after the other: a travel to each path, and then along it.

    ``places`` (n + 1, 3) mm, ``feed`` (n,) mm/s, ``area`` (n,) mm2 of the bead, nought along travels,
    ``path`` (n,) the number of the path, and ``travel`` (n,).
    """

    places: NDArray[np.float64]
    feed: NDArray[np.float64]
    area: NDArray[np.float64]
    path: NDArray[np.int64]
    travel: NDArray[np.bool_]


@stored("timed")
@dataclass(frozen=True, eq=False)
class Timed:
    """Time and filament of a print.

    Attributes
    ----------
    seconds : float
        Of all of it, with warming up.
    by_kind : tuple of (str, float)
        Seconds of each kind of path, of travels, of drawing back, and of warming up.
    volume_by_kind : tuple of (str, float)
        Of the beads, mm3.
    layer_s : (L,) float64
        Of each layer, without warming up.
    travel_mm : float
        Length of all travels.
    bead_mm : float
        Length of all beads.
    retracts : int
    moves : int
    """

    seconds: float
    by_kind: tuple[tuple[str, float], ...]
    volume_by_kind: tuple[tuple[str, float], ...]
    layer_s: NDArray[np.float64]
    travel_mm: float
    bead_mm: float
    retracts: int
    moves: int

    @property
    def volume_mm3(self) -> float:
        """Of all beads."""
        return sum(volume for _, volume in self.volume_by_kind)

    def mass_g(self, density_g_cm3: float) -> float:
        """Mass of all beads, g."""
        return self.volume_mm3 * density_g_cm3 / 1000.0

    def metres(self, diameter_mm: float) -> float:
        """Length of the filament that they take, m."""
        return filament_length_mm(self.volume_mm3, diameter_mm) / 1000.0


def moves_of(beads: Beads, running: Running) -> Moves:
    """The moves along paths, as they are asked for; the first begins at the first path."""
    count = len(beads)
    if not count:
        return Moves(np.zeros((1, 3)), np.zeros(0), np.zeros(0), np.zeros(0, np.int64), np.zeros(0, bool))
    points = beads.points
    path = np.repeat(np.arange(count), np.diff(beads.start))
    z = beads.tops_mm[beads.layer][path]
    places = np.column_stack([points, z])
    # The move that ends in a place: the first of each path is a travel.
    travel = np.zeros(len(points), bool)
    travel[beads.start[:-1]] = True
    width = np.empty(len(points))
    width[1:] = 0.5 * (beads.width[1:] + beads.width[:-1])
    width[0] = 0.0
    area = np.where(travel, 0.0, width * beads.layer_mm)
    shares = np.array([SHARES.get(Kind(k), 1.0) for k in range(len(Kind))])
    feed = running.speed_mm_s * shares[beads.kind][path]
    first = beads.layer[path] == 0
    feed = np.where(first, np.minimum(feed, running.speed_mm_s) * running.first_share, feed)
    with np.errstate(divide="ignore"):
        feed = np.minimum(feed, np.where(area > 0, running.flow_mm3_s / area, np.inf))
    feed = np.where(travel, running.travel_mm_s, feed)
    return Moves(places, feed[1:], area[1:], path[1:], travel[1:])


def timed(beads: Beads, running: Running) -> tuple[Timed, Moves]:
    """Time a print, and slow down layers that would not cool.

    Returns
    -------
    Timed
    Moves
        With the speeds that came of it.
    """
    moves = moves_of(beads, running)
    limits = Limits(running.acceleration_mm_s2, 1.5 * running.acceleration_mm_s2)
    layers = len(beads.tops_mm)
    asked = moves.feed
    took = seconds(moves.places, asked, moves.travel, limits)
    layer = beads.layer[moves.path] if len(beads) else np.zeros(0, np.int64)
    of_layer = np.bincount(layer, took, layers)
    along = np.bincount(layer, np.where(moves.travel, 0.0, took), layers)
    share = np.ones(layers)
    # Slower moves speed up and slow down for less long: a few rounds come near enough.
    for _ in range(ROUNDS):
        slow = (of_layer < running.least_layer_s - 0.05) & (along > 0) & (share > 0.01)
        if not slow.any():
            break
        # What is missing is taken by the beads alone.
        rest = running.least_layer_s - (of_layer - along)
        share[slow] *= np.minimum(along[slow] / np.maximum(rest[slow], 1e-9), 1.0)
        slowed = np.maximum(asked * share[layer], np.minimum(asked, running.slowest_mm_s))
        moves = moves._replace(feed=np.where(moves.travel, asked, slowed))
        took = seconds(moves.places, moves.feed, moves.travel, limits)
        of_layer = np.bincount(layer, took, layers)
        along = np.bincount(layer, np.where(moves.travel, 0.0, took), layers)
    step = np.linalg.norm(np.diff(moves.places, axis=0), axis=1)
    retracts = int((moves.travel & (step > running.retract_over_mm)).sum())
    drawn = 2 * retracts * running.retract_mm / running.retract_mm_s
    kind = np.where(moves.travel, int(Kind.TRAVEL), beads.kind[moves.path] if len(beads) else 0)
    by = np.bincount(kind, took, len(Kind)) if len(took) else np.zeros(len(Kind))
    volume = np.bincount(kind, step * moves.area, len(Kind)) if len(took) else np.zeros(len(Kind))
    told = [(k.words, float(by[k])) for k in Kind if by[k] > 0]
    told += [("drawing back", drawn), ("warming up", running.warm_up_s)]
    return (
        Timed(
            seconds=float(by.sum()) + drawn + running.warm_up_s,
            by_kind=tuple(told),
            volume_by_kind=tuple((k.words, float(volume[k])) for k in Kind if volume[k] > 0),
            layer_s=np.asarray(np.bincount(layer, took, layers), np.float64),
            travel_mm=float(step[moves.travel].sum()),
            bead_mm=float(step[~moves.travel].sum()),
            retracts=retracts,
            moves=len(took),
        ),
        moves,
    )

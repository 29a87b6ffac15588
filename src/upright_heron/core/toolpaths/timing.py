"""What a print takes: time by kind of path, and filament, from the moves themselves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..tags import stored
from .beads import Beads, Kind
from .motion import Limits, lengths, seconds

# Speed of each kind as a share of the machine's usual one (common practice).
SHARES = {
    Kind.OUTER: 0.6, Kind.WALL: 1.0, Kind.THIN: 0.6, Kind.TOP: 0.7, Kind.BOTTOM: 0.8, Kind.BRIDGE: 0.5,
    Kind.INFILL: 1.2, Kind.SUPPORT: 1.0, Kind.INTERFACE: 0.7, Kind.SKIRT: 0.6, Kind.BRIM: 0.6, Kind.RAFT: 0.6,
    Kind.STRAND: 0.2, Kind.PURGE: 0.6, Kind.SMOOTHING: 1.0,
}  # fmt: skip


# So far over all that stands the nozzle goes on its way to the next item.
OVER_MM = 3.0
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
    change_s : float
        From one nozzle to the other.
    deviation_mm : float
        Junction deviation.
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
    change_s: float = 8.0
    deviation_mm: float = 0.02


class Moves(NamedTuple):
    """All moves of a print, one after the other: a travel to each path, and then along it.

    ``places`` (n + 1, 3) mm, ``feed`` (n,) mm/s, ``area`` (n,) mm2 of the bead, nought along travels,
    ``path`` (n,) the number of the path, ``travel`` (n,), and ``back`` (n,): travels that the filament is
    drawn back for.
    """

    places: NDArray[np.float64]
    feed: NDArray[np.float64]
    area: NDArray[np.float64]
    path: NDArray[np.int64]
    travel: NDArray[np.bool_]
    back: NDArray[np.bool_]


def _alone(old: dict[str, Any]) -> dict[str, Any]:
    """Times as they were told of one nozzle."""
    return {**old, "second_mm3": 0.0, "changes": 0, "pauses": 0, "flow_mm3_s": 0.0}


@stored("timed", version=2, upcasters={1: _alone})
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
    second_mm3 : float
        Of the beads of the second nozzle.
    changes, pauses : int
        From one nozzle to the other, and how often the machine waits for someone: that takes no time here.
    flow_mm3_s : float
        Most that comes out of the nozzle.
    """

    seconds: float
    by_kind: tuple[tuple[str, float], ...]
    volume_by_kind: tuple[tuple[str, float], ...]
    layer_s: NDArray[np.float64]
    travel_mm: float
    bead_mm: float
    retracts: int
    moves: int
    second_mm3: float = 0.0
    changes: int = 0
    pauses: int = 0
    flow_mm3_s: float = 0.0

    @property
    def volume_mm3(self) -> float:
        """Of all beads."""
        return sum(volume for _, volume in self.volume_by_kind)


@stored("speeds")
@dataclass(frozen=True, eq=False)
class Speeds:
    """How fast the nozzle goes: mean speed up to each place of the paths (P,) float32, mm/s."""

    mm_s: NDArray[np.float32]


def moves_of(beads: Beads, running: Running) -> Moves:
    """The moves along paths, as they are asked for; the first begins at the first path."""
    count = len(beads)
    if not count:
        none = np.zeros(0, bool)
        return Moves(np.zeros((1, 3)), np.zeros(0), np.zeros(0), np.zeros(0, np.int64), none, none)
    points = beads.points
    path = np.repeat(np.arange(count), np.diff(beads.start))
    z = beads.tops_mm[beads.layer][path]
    places = np.column_stack([points, z])
    # The move that ends in a place: the first of each path is a travel.
    travel = np.zeros(len(points), bool)
    travel[beads.start[:-1]] = True
    back = travel.copy()
    travel |= beads.kind[path] == Kind.TRAVEL
    width = np.empty(len(points))
    width[1:] = 0.5 * (beads.width[1:] + beads.width[:-1])
    width[0] = 0.0
    area = np.where(travel, 0.0, width * beads.layer_mm * beads.high[path])
    shares = np.array([SHARES.get(Kind(k), 1.0) for k in range(len(Kind))])
    pace = beads.pace.copy()
    pace[1:] = np.minimum(pace[1:], beads.pace[:-1])
    feed = running.speed_mm_s * shares[beads.kind][path] * pace
    first = beads.begins[beads.layer][path]
    feed = np.where(first, np.minimum(feed, running.speed_mm_s) * running.first_share, feed)
    with np.errstate(divide="ignore"):
        feed = np.minimum(feed, np.where(area > 0, running.flow_mm3_s / area, np.inf))
    feed = np.where(travel, running.travel_mm_s, feed)
    far = lengths(places) > running.retract_over_mm
    return Moves(
        places, feed[1:], area[1:], path[1:], travel[1:], back[1:] & (far | changes_of(beads)[path[1:]])
    )


def limits_of(running: Running) -> Limits:
    """What the machine can do along paths and travels."""
    return Limits(running.acceleration_mm_s2, 1.5 * running.acceleration_mm_s2, running.deviation_mm)


def speeds_of(beads: Beads, running: Running) -> Speeds:
    """How fast the nozzle really goes, with speeding up and slowing down.

    Parameters
    ----------
    beads : Beads
    running : Running

    Returns
    -------
    Speeds
    """
    _, moves = timed(beads, running)
    took = seconds(moves.places, moves.feed, moves.travel, limits_of(running))
    step = lengths(moves.places)
    mean = np.divide(step, took, out=np.zeros(len(took)), where=took > 0)
    return Speeds(np.concatenate([[0.0], mean]).astype(np.float32) if len(beads) else np.zeros(0, np.float32))


def changes_of(beads: Beads) -> NDArray[np.bool_]:
    """Which paths (N,) another nozzle lays than the one before."""
    found = np.zeros(len(beads), bool)
    found[1:] = beads.nozzle[1:] != beads.nozzle[:-1]
    return found


def overs_mm(beads: Beads) -> NDArray[np.float64]:
    """Ways up and down over what stands, before each layer (L,): to items that follow others, mm."""
    tops = beads.tops_mm
    found = np.zeros(len(tops))
    for k in np.flatnonzero(beads.begins)[1:].tolist():
        up = over_mm(beads, k)
        found[k] = (up - tops[k - 1]) + (up - tops[k])
    return found


def over_mm(beads: Beads, layer: int) -> float:
    """Height that the nozzle goes to on its way to an item that begins with a layer."""
    return float(beads.tops_mm[:layer].max()) + OVER_MM


def timed(beads: Beads, running: Running) -> tuple[Timed, Moves]:
    """Time a print, and slow down layers that would not cool.

    Returns
    -------
    Timed
    Moves
        With the speeds that came of it.
    """
    moves = moves_of(beads, running)
    limits = limits_of(running)
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
    over = overs_mm(beads) / running.travel_mm_s
    step = lengths(moves.places)
    retracts = int(moves.back.sum())
    changes = int(changes_of(beads).sum())
    drawn = 2 * retracts * running.retract_mm / running.retract_mm_s
    kind = np.where(moves.travel, int(Kind.TRAVEL), beads.kind[moves.path] if len(beads) else 0)
    by = np.bincount(kind, took, len(Kind)) if len(took) else np.zeros(len(Kind))
    by[Kind.TRAVEL] += over.sum()
    volume = np.bincount(kind, step * moves.area, len(Kind)) if len(took) else np.zeros(len(Kind))
    told = [(k.words, float(by[k])) for k in Kind if by[k] > 0]
    told.append(("drawing back", drawn))
    if changes:
        told.append(("changing nozzles", changes * running.change_s))
    told += [("warming up", running.warm_up_s)]
    flow = moves.area * moves.feed
    second = beads.nozzle[moves.path] > 0 if len(beads) else np.zeros(0, bool)
    return (
        Timed(
            seconds=float(by.sum()) + drawn + changes * running.change_s + running.warm_up_s,
            by_kind=tuple(told),
            volume_by_kind=tuple((k.words, float(volume[k])) for k in Kind if volume[k] > 0),
            layer_s=np.asarray(np.bincount(layer, took, layers), np.float64) + over,
            travel_mm=float(step[moves.travel].sum()),
            bead_mm=float(step[~moves.travel].sum()),
            retracts=retracts,
            moves=len(took),
            second_mm3=float((step * moves.area)[second].sum()),
            changes=changes,
            pauses=sum(1 for event in beads.events if event.pause),
            flow_mm3_s=float(flow.max(initial=0.0)),
        ),
        moves,
    )

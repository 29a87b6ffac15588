"""Paths of all items of a plate, layer by layer."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from manifold3d import CrossSection, JoinType, OpType
from numpy.typing import NDArray

from ..errors import BadValue
from ..footing.footing import filled
from ..plates.in_turn import in_order
from .beads import Beads, Chain, Event, Kind, packed
from .purge import by_nozzle, with_stand

# A skirt goes so far round what has none of its own, mm.
AWAY_MM = 2.0
# Layers at the same height to this are one.
SAME_MM = 1e-4


class Placed(NamedTuple):
    """Paths of an item where it stands: from the middle of the plate, turned about its own."""

    beads: Beads
    x_mm: float
    y_mm: float
    swing_deg: float


def merged(
    items: list[Placed], line_mm: float, build_mm: tuple[float, float, float], *, in_turn: bool = False
) -> Beads:
    """Put the paths of several items together: one height after the other, items in their order.

    Parameters
    ----------
    items : list of Placed
    line_mm : float
        Width of a line of the stand that nozzles begin on, where there are two.
    build_mm : (x, y, z)
        The stand is put where there is room, and lines of skirts that have none are left out.
    in_turn : bool
        One item after the other instead, each to its top, the lowest first; with one nozzle only.

    Returns
    -------
    Beads

    Raises
    ------
    BadValue
        There is no room for the stand, or items are to follow each other and need two nozzles.
    """
    half = np.array(build_mm[:2]) / 2
    levels = _levels(items)
    steps = _in_turn(items) if in_turn else levels
    found: list[list[Chain]] = []
    tops = []
    events: list[Event] = []
    for step in steps:
        by_item = [_there(items[k], layer) for k, layer in step]
        for k, layer in step:
            for event in items[k].beads.events:
                if event.layer == layer:
                    # Copies of an item ask for the same once.
                    moved = replace(event, layer=len(found))
                    events += [] if moved in events else [moved]
        k, layer = step[0]
        tops.append(float(items[k].beads.tops_mm[layer]))
        around = []
        if not found:
            around = _one_skirt([_there(items[k], layer) for k, layer in levels[0]], line_mm, half)
        found.append([*around, *(c for own in by_item for c in own if c.kind is not Kind.SKIRT)])
    x, y = half.tolist()
    if not in_turn:
        found = with_stand(by_nozzle(found), line_mm, (-x, -y, x, y))
    return packed(found, np.array(tops), items[0].beads.layer_mm, tuple(events))


def _levels(items: list[Placed]) -> list[list[tuple[int, int]]]:
    """Layers of all items by height: which item, and which of its layers."""
    levels: dict[int, list[tuple[int, int]]] = {}
    for k, item in enumerate(items):
        for layer, top in enumerate(item.beads.tops_mm.tolist()):
            levels.setdefault(round(top / SAME_MM), []).append((k, layer))
    return [levels[level] for level in sorted(levels)]


def _in_turn(items: list[Placed]) -> list[list[tuple[int, int]]]:
    """Layers of one item after the other, the lowest item first."""
    if any(item.beads.nozzle.any() for item in items):
        raise BadValue(
            "Items that need two nozzles are not printed one after the other.",
            "Print all at once, or without the second nozzle.",
        )
    order = in_order([float(item.beads.tops_mm[-1]) for item in items])
    return [[(k, layer)] for k in order for layer in range(len(items[k].beads.tops_mm))]


def _there(item: Placed, layer: int) -> list[Chain]:
    """Paths of a layer of an item where it stands; the plate has one stand for all."""
    swing = math.radians(item.swing_deg)
    turn = np.array([[math.cos(swing), math.sin(swing)], [-math.sin(swing), math.cos(swing)]])
    own = []
    for chain in item.beads.chains(layer):
        if chain.kind is Kind.PURGE:
            continue
        places = chain.places if item.swing_deg == 0 else chain.places @ turn
        own.append(chain._replace(places=places + (item.x_mm, item.y_mm)))
    return own


def _one_skirt(items: list[list[Chain]], line_mm: float, half: NDArray[np.float64]) -> list[Chain]:
    """One skirt round all of the lowest layer, as many lines as that of any item, within half (2,), mm."""
    skirts = [[c for c in own if c.kind is Kind.SKIRT] for own in items]
    count = max((len(lines) for lines in skirts), default=0)
    if not count:
        return []
    inner = []
    for own, lines in zip(items, skirts, strict=True):
        if lines:
            rings = [c.places[:-1] for c in lines]
            inner.append(CrossSection([min(rings, key=lambda ring: float(np.ptp(ring, axis=0).prod()))]))
        elif own:
            held = CrossSection.hull_points(np.concatenate([c.places for c in own]))
            inner.append(held.offset(AWAY_MM, JoinType.Round, 2.0, 64))
    whole = filled(CrossSection.batch_boolean(inner, OpType.Add))
    found = []
    for line in range(count):
        for ring in whole.offset(line * line_mm, JoinType.Round, 2.0, 64).to_polygons():
            if (np.abs(ring) + 0.5 * line_mm <= half).all():
                places = np.concatenate([ring, ring[:1]])
                found.append(Chain(places, np.full(len(places), line_mm), Kind.SKIRT))
    return found

"""In which order the paths of a layer are printed, and where closed ones begin."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .beads import Chain, Kind

# Corners that turn by less than this are none, radians.
CORNER = math.radians(20.0)
# A corner inwards hides a seam better than one outwards (common practice).
INWARDS = 2.0


class Seam(StrEnum):
    """Where outer walls begin."""

    BACK = "back"
    DIRECTION = "direction"
    CORNER = "corner"
    NEAREST = "nearest"
    HIDDEN = "hidden"
    PICKED = "picked"
    SCATTERED = "scattered"


@dataclass(frozen=True, slots=True)
class Order:
    """How paths follow each other.

    Attributes
    ----------
    seam : Seam
    seam_deg : float
        Direction that seams look to where one is typed, or the one away from the show side, from x towards y.
    outer_first : bool
        The outer wall comes before the inner ones.
    line : tuple of (x, y, z), mm
        Where seams lie along a line that was picked, from below upwards: on the part as it stands.
    """

    seam: Seam = Seam.BACK
    seam_deg: float = 90.0
    outer_first: bool = False
    line: tuple[tuple[float, float, float], ...] = ()

    def spot(self, z_mm: float) -> NDArray[np.float64]:
        """Place of the picked line at a height, (2,) mm: it goes on upright past its ends."""
        x, y, z = (np.array(column) for column in zip(*sorted(self.line, key=lambda p: p[2]), strict=True))
        return np.array([float(np.interp(z_mm, z, x)), float(np.interp(z_mm, z, y))])


def seam_index(
    ring: NDArray[np.float64], order: Order, at: NDArray[np.float64], layer: int, z_mm: float = 0.0
) -> int:
    """Corner that a closed path begins at.

    Parameters
    ----------
    ring : (k, 2) float64, mm
        Without the corner that it ends with; outer ones run counter-clockwise.
    order : Order
    at : (2,) float64, mm
        Where the nozzle is.
    layer : int
    z_mm : float
        Height of the layer over the plate, without footing.

    Returns
    -------
    int
    """
    if order.seam is Seam.PICKED and order.line:
        return int(np.argmin(((ring - order.spot(z_mm)) ** 2).sum(axis=1)))
    if order.seam is Seam.NEAREST:
        x, y = ring[:, 0] - at[0], ring[:, 1] - at[1]
        return int(np.argmin(x * x + y * y))
    if order.seam is Seam.SCATTERED:
        # The same in every run: a step of the golden ratio from layer to layer (Weyl's sequence).
        along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(ring, axis=0).T))])
        share = ((layer + 1) * 0.6180339887498949) % 1.0
        return int(np.argmin(np.abs(along - share * along[-1])))
    turned = order.seam in (Seam.DIRECTION, Seam.HIDDEN)
    angle = math.radians(order.seam_deg if turned else 90.0)
    toward = ring @ np.array([math.cos(angle), math.sin(angle)])
    if order.seam is Seam.CORNER:
        back, on = ring - np.roll(ring, 1, axis=0), np.roll(ring, -1, axis=0) - ring
        turn = np.arctan2(back[:, 0] * on[:, 1] - back[:, 1] * on[:, 0], (back * on).sum(axis=1))
        # Corners inwards turn right; the back decides between corners alike.
        sharp = np.where(turn < 0, -INWARDS * turn, turn)
        if sharp.max() > CORNER:
            near = sharp > sharp.max() - math.radians(2.0)
            return int(np.flatnonzero(near)[np.argmax(toward[near])])
    return int(np.argmax(toward))


def ordered(
    chains: list[Chain],
    ranks: list[tuple[int, int]],
    at: NDArray[np.float64],
    order: Order,
    layer: int,
    z_mm: float = 0.0,
) -> tuple[list[Chain], NDArray[np.float64]]:
    """Put the paths of a layer into the order in which they are printed.

    Parameters
    ----------
    chains : list of Chain
    ranks : list of (int, int)
        Of each: what it belongs to, and what comes first there. What belongs together follows each other; the
        nearest of what is left comes next.
    at : (2,) float64, mm
        Where the nozzle is.
    order : Order
    layer : int
    z_mm : float
        Height of the layer over the plate, without footing.

    Returns
    -------
    (list of Chain, (2,) float64)
        Closed paths begin at their seams, open ones where it is nearer; and where the nozzle is then, mm.
    """
    if not chains:
        return [], at
    # By group, and in it by rank; groups in their order, for of two as near the first is next.
    by_rank: dict[int, dict[int, list[Chain]]] = {}
    for chain, (group, rank) in sorted(zip(chains, ranks, strict=True), key=lambda one: one[1]):
        by_rank.setdefault(group, {}).setdefault(rank, []).append(chain)
    groups = np.array(sorted(group for group, _ in ranks))
    firsts = np.array([c.places[0] for some in by_rank.values() for one in some.values() for c in one])
    left = np.ones(len(groups), np.bool_)
    found: list[Chain] = []
    while by_rank:
        x, y = firsts[:, 0] - at[0], firsts[:, 1] - at[1]
        group = int(groups[np.argmin(np.where(left, x * x + y * y, np.inf))])
        left[groups == group] = False
        for chosen in by_rank.pop(group).values():
            some = [_begun(chain, order, at, layer, z_mm) for chain in chosen]
            first = np.array([c.places[0] for c in some])
            last = np.array([c.places[-1] for c in some])
            sequence, turned = _nearest(first, last, np.ascontiguousarray(at))
            for k, back in zip(sequence.tolist(), turned.tolist(), strict=True):
                chain = some[k]
                found.append(chain.backwards if back else chain)
            at = found[-1].places[-1]
    return found, at


def _begun(chain: Chain, order: Order, at: NDArray[np.float64], layer: int, z_mm: float) -> Chain:
    """A closed path that begins at its seam; inner ones where it is nearest."""
    if not chain.closed:
        return chain
    asked = order if chain.kind is Kind.OUTER else Order(Seam.NEAREST)
    k = seam_index(chain.places[:-1], asked, at, layer, z_mm)
    return chain.rolled(k) if k else chain


@njit(cache=True)
def _nearest(first, last, at):  # type: ignore[no-untyped-def]
    """Order of paths from end to nearest end, and which run backwards; then improved by turning stretches."""
    n = first.shape[0]
    order, turned = np.empty(n, np.int64), np.zeros(n, np.bool_)
    left = np.arange(n)
    x, y = at[0], at[1]
    for step in range(n):
        best, pick, back = np.inf, step, False
        for k in range(step, n):
            c = left[k]
            d = (first[c, 0] - x) ** 2 + (first[c, 1] - y) ** 2
            e = (last[c, 0] - x) ** 2 + (last[c, 1] - y) ** 2
            if d < best:
                best, pick, back = d, k, False
            if e < best:
                best, pick, back = e, k, True
        c = left[pick]
        left[pick] = left[step]
        order[step], turned[step] = c, back
        x, y = (first[c, 0], first[c, 1]) if back else (last[c, 0], last[c, 1])
    # One pass of 2-opt over neighbours: a stretch is turned round where that shortens the travel.
    for i in range(n - 1):
        px, py = (at[0], at[1])
        if i > 0:
            b = order[i - 1]
            px, py = (first[b, 0], first[b, 1]) if turned[i - 1] else (last[b, 0], last[b, 1])
        for j in range(i, min(i + WINDOW, n)):
            a, c = order[i], order[j]
            ax, ay = (last[a, 0], last[a, 1]) if turned[i] else (first[a, 0], first[a, 1])
            cx, cy = (first[c, 0], first[c, 1]) if turned[j] else (last[c, 0], last[c, 1])
            old = math.sqrt((ax - px) ** 2 + (ay - py) ** 2)
            new = math.sqrt((cx - px) ** 2 + (cy - py) ** 2)
            if j + 1 < n:
                d = order[j + 1]
                dx, dy = (last[d, 0], last[d, 1]) if turned[j + 1] else (first[d, 0], first[d, 1])
                old += math.sqrt((dx - cx) ** 2 + (dy - cy) ** 2)
                new += math.sqrt((dx - ax) ** 2 + (dy - ay) ** 2)
            if new < old - 1e-9:
                order[i : j + 1] = order[i : j + 1][::-1].copy()
                turned[i : j + 1] = ~turned[i : j + 1][::-1]
    return order, turned


# How far a stretch that is turned reaches.
WINDOW = 40

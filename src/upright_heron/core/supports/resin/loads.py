"""What each tip bears: the pull of the film on all that hangs on it, walked up the layers."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...layers.layer_components import Pieces

# Tips share a pull as they would under a rigid plate that gives by so many mm2 a tip: without it the load of
# two tips side by side has no bound (own measurement: a quarter of it leaves tips over their load).
GIVES_MM2 = 4.0
# No tip is added nearer to another than this.
APART_MM = 0.8


@dataclass(frozen=True, eq=False)
class Borne:
    """What was found walking up.

    Attributes
    ----------
    load_n : (t,) float64
        Most that each tip bears, N, those that were added last. It is as rough as the pull.
    added : (a,) int64
        Spare places that became tips, by their numbers.
    bare : (b,) int64
        Pieces that hang on no tip, the first of each body.
    """

    load_n: NDArray[np.float64]
    added: NDArray[np.int64]
    bare: NDArray[np.int64]


def walk_loads(
    found: Pieces,
    pairs: NDArray[np.int64],
    pull: tuple[NDArray[np.float64], NDArray[np.float64]],
    tips: tuple[NDArray[np.float64], NDArray[np.int64]],
    spare: tuple[NDArray[np.float64], NDArray[np.int64]],
    most_n: float,
    *,
    on_plate: bool,
) -> Borne:
    """Walk up the layers, and share the pull on each body among the tips that hold it.

    Parameters
    ----------
    found : Pieces
        Of the layers of the part.
    pairs : (K, 2) int64
        Upper and lower piece of each pair that share area.
    pull : (N,) float64 and (N, 2) float64
        On each piece, N, and where it acts, mm.
    tips : (t, 2) float64 and (t,) int64
        Places of tips in plan, and the pieces they touch; -1 for none.
    spare : (s, 2) float64 and (s,) int64
        Places where a tip can be added, likewise.
    most_n : float
        What a tip may bear: where one bears more, another is added beside it.
    on_plate : bool
        Pieces of the first layer lie on the plate, and what hangs together with them needs no tip.

    Returns
    -------
    Borne

    Notes
    -----
    What hangs together below a layer is one rigid body, which that layer pulls down at the centre of its
    pull: a tip at r bears F (1/n + (r - m) S^-1 (c - m)), with m the middle of n tips, c the centre of the
    pull, and S the sum of (r - m)(r - m)^T plus ``GIVES_MM2`` n: reactions of a rigid plate on equal springs,
    as for groups of bolts or piles (from memory). What is over its load gets the spare place nearest to the
    centre of the pull.
    """
    places = np.concatenate([tips[0], spare[0]]) if len(spare[0]) else tips[0]
    where = np.concatenate([tips[1], spare[1]])
    order = np.argsort(where, kind="stable")
    first = np.searchsorted(where[order], np.arange(len(found) + 1))
    upper = pairs[np.argsort(pairs[:, 0], kind="stable")]
    below = np.searchsorted(upper[:, 0], np.arange(len(found) + 1))
    load, taken, bare = _walk(
        found.start, pull[0], pull[1], upper[:, 1].copy(), below, np.ascontiguousarray(places), order, first,
        len(tips[0]), most_n, on_plate,
    )  # fmt: skip
    added = taken - len(tips[0])
    return Borne(np.concatenate([load[: len(tips[0])], load[taken]]), added, bare)


@njit(cache=True)
def _root(parent, p):  # type: ignore[no-untyped-def]
    while parent[p] != p:
        parent[p] = parent[parent[p]]
        p = parent[p]
    return p


@njit(cache=True)
def _append(head, tail, after, body, place):  # type: ignore[no-untyped-def]
    """Put a place at the end of the chain of a body."""
    after[place] = -1
    if head[body] < 0:
        head[body] = place
    else:
        after[tail[body]] = place
    tail[body] = place


@njit(cache=True)
def _take_over(head, tail, after, body, other):  # type: ignore[no-untyped-def]
    """Hang the chain of another body onto that of one."""
    if head[other] < 0:
        return
    if head[body] < 0:
        head[body] = head[other]
    else:
        after[tail[body]] = head[other]
    tail[body] = tail[other]


@njit(cache=True)
def _of_chain(first, after, out):  # type: ignore[no-untyped-def]
    """Write down the places of a chain, and return how many they are."""
    n = 0
    while first >= 0:
        out[n] = first
        n += 1
        first = after[first]
    return n


@njit(cache=True)
def _shares(places, own, n, cx, cy, out):  # type: ignore[no-untyped-def]
    """Shares of a pull at a centre that n tips bear."""
    mx = my = 0.0
    for k in range(n):
        mx += places[own[k], 0]
        my += places[own[k], 1]
    mx /= n
    my /= n
    xx = yy = GIVES_MM2 * n
    xy = 0.0
    for k in range(n):
        dx, dy = places[own[k], 0] - mx, places[own[k], 1] - my
        xx += dx * dx
        yy += dy * dy
        xy += dx * dy
    det = xx * yy - xy * xy
    ux = (yy * (cx - mx) - xy * (cy - my)) / det
    uy = (xx * (cy - my) - xy * (cx - mx)) / det
    for k in range(n):
        out[k] = 1.0 / n + (places[own[k], 0] - mx) * ux + (places[own[k], 1] - my) * uy


@njit(cache=True)
def _nearest(places, spare, taken, own, n, cx, cy):  # type: ignore[no-untyped-def]
    """The spare place nearest to a centre that is not too near to a tip; -1 for none."""
    best, least = -1, np.inf
    for s in spare:
        if taken[s]:
            continue
        d = (places[s, 0] - cx) ** 2 + (places[s, 1] - cy) ** 2
        if d >= least:
            continue
        free = True
        for k in range(n):
            dx, dy = places[own[k], 0] - places[s, 0], places[own[k], 1] - places[s, 1]
            if dx * dx + dy * dy < APART_MM * APART_MM:
                free = False
                break
        if free:
            best, least = s, d
    return best


@njit(cache=True)
def _walk(start, pull, centre, lower, below, places, order, first, tips, most, on_plate):  # type: ignore[no-untyped-def]
    """Walk up the pieces, compiled whole: loads of places, those that became tips, pieces without any."""
    count = pull.shape[0]
    total = places.shape[0]
    parent = np.arange(count)
    # What belongs to each body, by its root: a chain of tips and one of spare places, which are many.
    heads, tails = np.full((2, count), -1, np.int64), np.full((2, count), -1, np.int64)
    after = np.full((2, total), -1, np.int64)
    stands = np.zeros(count, np.bool_)
    told = np.zeros(count, np.bool_)
    is_tip = np.zeros(total, np.bool_)
    is_tip[:tips] = True
    load = np.zeros(total)
    chosen = np.empty(total, np.int64)
    chosen_count = 0
    bare = np.empty(count, np.int64)
    bares = 0
    own, spare = np.empty(total, np.int64), np.empty(total, np.int64)
    share = np.empty(total)
    force, at = np.zeros(count), np.zeros((count, 2))
    for layer in range(start.shape[0] - 1):
        lo, hi = start[layer], start[layer + 1]
        for p in range(lo, hi):
            stands[p] = on_plate and layer == 0
            for k in range(first[p], first[p + 1]):
                kind = 0 if is_tip[order[k]] else 1
                _append(heads[kind], tails[kind], after[kind], p, order[k])
            for k in range(below[p], below[p + 1]):
                a, b = _root(parent, lower[k]), _root(parent, p)
                if a == b:
                    continue
                parent[b] = a
                stands[a] = stands[a] or stands[b]
                told[a] = told[a] or told[b]
                for kind in range(2):
                    _take_over(heads[kind], tails[kind], after[kind], a, b)
        for p in range(lo, hi):
            r = _root(parent, p)
            force[r] = 0.0
            at[r, 0] = at[r, 1] = 0.0
        for p in range(lo, hi):
            r = _root(parent, p)
            force[r] += pull[p]
            at[r, 0] += pull[p] * centre[p, 0]
            at[r, 1] += pull[p] * centre[p, 1]
        for p in range(lo, hi):
            r = _root(parent, p)
            if force[r] <= 0.0 or stands[r]:
                continue
            f, cx, cy = force[r], at[r, 0] / force[r], at[r, 1] / force[r]
            force[r] = 0.0  # once a layer
            n = _of_chain(heads[0, r], after[0], own)
            m = -1
            while True:
                worst = np.inf
                if n:
                    _shares(places, own, n, cx, cy, share)
                    worst = f * share[:n].max()
                if worst <= most:
                    break
                if m < 0:
                    m = _of_chain(heads[1, r], after[1], spare)
                more = _nearest(places, spare[:m], is_tip, own, n, cx, cy)
                if more < 0:
                    break
                is_tip[more] = True
                _append(heads[0], tails[0], after[0], r, more)
                chosen[chosen_count] = more
                chosen_count += 1
                own[n] = more
                n += 1
            if not n:
                if not told[r]:
                    bare[bares] = p
                    bares += 1
                    told[r] = True
                continue
            for k in range(n):
                load[own[k]] = max(load[own[k]], f * share[k])
    return load, chosen[:chosen_count].copy(), bare[:bares].copy()

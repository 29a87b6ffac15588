"""Pieces of layers, and which piece lies on which: the base of islands and of support columns.

A piece is one outer ring with its holes. Two pieces of neighbouring layers are linked when they share
area. Links are decided by points known to lie inside, and by an exact intersection where no point
decides, so the answer does not depend on a grid.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, FillRule
from numba import njit
from numpy.typing import NDArray

from ..tolerances import DEFAULT, Tolerances
from .piece_links import link_kernel
from .stack import LayerStack


@dataclass(frozen=True, eq=False)
class Pieces:
    """The pieces of all layers of a stack, numbered from the bottom layer up.

    Attributes
    ----------
    stack : LayerStack
    ring_piece : (R,) int64
        Piece of each ring.
    layer : (N,) int64
        Layer of each piece.
    area_mm2 : (N,) float64
    inside_mm : (N, 2) float64
        A point inside each piece, well away from its contour.
    start : (L + 1,) int64
        Where the pieces of each layer begin.
    """

    stack: LayerStack
    ring_piece: NDArray[np.int64]
    layer: NDArray[np.int64]
    area_mm2: NDArray[np.float64]
    inside_mm: NDArray[np.float64]
    start: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.layer)

    def rings(self, piece: int) -> list[NDArray[np.float64]]:
        """Rings (k, 2) of one piece."""
        order, first = self.by_piece
        own = order[first[piece] : first[piece + 1]]
        return [
            self.stack.points[self.stack.ring_start[r] : self.stack.ring_start[r + 1]] for r in own.tolist()
        ]

    @cached_property
    def by_piece(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Rings (R,) ordered by their pieces, and where those of each piece begin (N + 1,)."""
        return _by_piece(self.ring_piece, len(self))

    def section(self, *some: int) -> CrossSection:
        """Cross-section of a piece, or of several together."""
        rings = [ring for piece in some for ring in self.rings(piece)]
        return CrossSection(rings, FillRule.NonZero) if rings else CrossSection()

    @cached_property
    def boxes(self) -> NDArray[np.float64]:
        """Boxes (N, 4) of x0, y0, x1, y1 round the pieces, mm."""
        found: NDArray[np.float64] = _piece_boxes(
            self.stack.points, self.stack.ring_start, self.ring_piece, len(self)
        )
        return found

    def below(self, piece: int, margin_mm: float) -> list[int]:
        """Pieces of the layer below whose boxes come that near to the box of a piece."""
        layer = int(self.layer[piece])
        lo, hi = int(self.start[layer - 1]), int(self.start[layer])
        x0, y0, x1, y1 = self.boxes[piece] + margin_mm * np.array([-1.0, -1.0, 1.0, 1.0])
        b = self.boxes[lo:hi]
        near = (b[:, 0] <= x1) & (b[:, 2] >= x0) & (b[:, 1] <= y1) & (b[:, 3] >= y0)
        numbers: list[int] = (np.flatnonzero(near) + lo).tolist()
        return numbers


def pieces(stack: LayerStack) -> Pieces:
    """Sort the rings of every layer into pieces.

    Parameters
    ----------
    stack : LayerStack

    Returns
    -------
    Pieces
    """
    areas, boxes = _ring_kernel(stack.points, stack.ring_start)
    ring_piece, layer, start = _group_kernel(stack.points, stack.ring_start, stack.layer_start, areas, boxes)
    count = len(layer)
    area = np.zeros(count)
    if count:
        np.add.at(area, ring_piece, areas)
    inside = _inside_kernel(stack.points, stack.ring_start, *_by_piece(ring_piece, count))
    return Pieces(stack, ring_piece, layer, area, inside, start)


def links(sorted_pieces: Pieces, tolerances: Tolerances = DEFAULT) -> NDArray[np.int64]:
    """Find all pairs of pieces of neighbouring layers that share area.

    Parameters
    ----------
    sorted_pieces : Pieces
    tolerances : Tolerances

    Returns
    -------
    (K, 2) int64
        Upper and lower piece of each pair.
    """
    p = sorted_pieces
    stack = p.stack
    if not len(p):
        return np.zeros((0, 2), np.int64)
    # Pieces are looked for along the axis that most are slim along: many are lines that lie side by side.
    axis = int(np.argmin((p.boxes[:, 2:] - p.boxes[:, :2]).sum(axis=0)))
    order = np.lexsort((p.boxes[:, axis], p.layer))
    sure, open_pairs = link_kernel(
        stack.points, stack.ring_start, np.concatenate(stack.ring_boxes, axis=1), *p.by_piece, p.start,
        p.inside_mm, p.boxes, axis, order,
    )  # fmt: skip
    extra = [
        (upper, lower)
        for upper, lower in open_pairs
        if (p.section(upper) ^ p.section(lower)).area() > tolerances.overlap_mm2
    ]
    return np.concatenate([sure, np.asarray(extra, np.int64).reshape(-1, 2)])


def _by_piece(ring_piece: NDArray[np.int64], count: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    order = np.argsort(ring_piece, kind="stable")
    return order, np.searchsorted(ring_piece[order], np.arange(count + 1))


def bodies(count: int, pairs: NDArray[np.int64]) -> NDArray[np.int64]:
    """Number the connected bodies of ``count`` pieces joined by ``pairs`` (K, 2).

    Returns
    -------
    (count,) int64
        Body of each piece, numbered from 0 in the order of their lowest piece.
    """
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    if not count:
        return np.zeros(0, np.int64)
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (count, count))
    _, labels = connected_components(graph, directed=False)
    _, first, inverse = np.unique(labels, return_index=True, return_inverse=True)
    rank = np.empty(len(first), np.int64)
    rank[np.argsort(first)] = np.arange(len(first))
    result: NDArray[np.int64] = rank[inverse]
    return result


@njit(cache=True)
def _ring_kernel(points, ring_start):  # type: ignore[no-untyped-def]
    n = ring_start.shape[0] - 1
    areas = np.zeros(n)
    boxes = np.empty((n, 4))
    for r in range(n):
        lo, hi = ring_start[r], ring_start[r + 1]
        x0 = y0 = np.inf
        x1 = y1 = -np.inf
        total = 0.0
        for i in range(lo, hi):
            j = i + 1 if i + 1 < hi else lo
            x, y = points[i, 0], points[i, 1]
            # Taken about the first corner, so that a part far from the origin keeps its small areas.
            ax, ay = x - points[lo, 0], y - points[lo, 1]
            bx, by = points[j, 0] - points[lo, 0], points[j, 1] - points[lo, 1]
            total += ax * by - bx * ay
            x0, y0, x1, y1 = min(x0, x), min(y0, y), max(x1, x), max(y1, y)
        areas[r] = 0.5 * total
        boxes[r, 0], boxes[r, 1], boxes[r, 2], boxes[r, 3] = x0, y0, x1, y1
    return areas, boxes


@njit(cache=True)
def _crosses(points, lo, hi, x, y):  # type: ignore[no-untyped-def]
    inside = False
    j = hi - 1
    for i in range(lo, hi):
        yi, yj = points[i, 1], points[j, 1]
        if (yi > y) != (yj > y) and x < (points[j, 0] - points[i, 0]) * (y - yi) / (yj - yi) + points[i, 0]:
            inside = not inside
        j = i
    return inside


@njit(cache=True)
def _group_kernel(points, ring_start, layer_start, areas, boxes):  # type: ignore[no-untyped-def]
    rings = ring_start.shape[0] - 1
    layers = layer_start.shape[0] - 1
    piece_of = np.full(rings, -1, np.int64)
    layer_of = np.empty(rings, np.int64)
    start = np.zeros(layers + 1, np.int64)
    count = 0
    for layer in range(layers):
        lo, hi = layer_start[layer], layer_start[layer + 1]
        for r in range(lo, hi):
            if areas[r] > 0.0:
                piece_of[r] = count
                layer_of[count] = layer
                count += 1
        for r in range(lo, hi):
            if areas[r] > 0.0:
                continue
            # A hole belongs to the smallest outer ring round it.
            best = -1
            x, y = points[ring_start[r], 0], points[ring_start[r], 1]
            for o in range(lo, hi):
                if areas[o] <= 0.0 or areas[o] < -areas[r]:
                    continue
                if x < boxes[o, 0] or x > boxes[o, 2] or y < boxes[o, 1] or y > boxes[o, 3]:
                    continue
                if best >= 0 and areas[o] >= areas[best]:
                    continue
                if _crosses(points, ring_start[o], ring_start[o + 1], x, y):
                    best = o
            if best < 0:
                # Its corner touches the outer ring: fall back to the smallest ring whose box holds the hole.
                for o in range(lo, hi):
                    if (
                        areas[o] > 0.0
                        and boxes[o, 0] <= boxes[r, 0]
                        and boxes[o, 1] <= boxes[r, 1]
                        and boxes[o, 2] >= boxes[r, 2]
                        and boxes[o, 3] >= boxes[r, 3]
                        and (best < 0 or areas[o] < areas[best])
                    ):
                        best = o
            if best >= 0:
                piece_of[r] = piece_of[best]
            elif count > start[layer]:
                piece_of[r] = count - 1
            else:
                piece_of[r] = count
                layer_of[count] = layer
                count += 1
        start[layer + 1] = count
    return piece_of, layer_of[:count].copy(), start


@njit(cache=True)
def _inside_kernel(points, ring_start, order, first):  # type: ignore[no-untyped-def]
    # The middle of the widest run of a few horizontal lines through the piece.
    count = first.shape[0] - 1
    result = np.zeros((count, 2))
    crossings = np.empty(points.shape[0] + 1)
    for piece in range(count):
        own = order[first[piece] : first[piece + 1]]
        y0, y1 = np.inf, -np.inf
        for r in own:
            for i in range(ring_start[r], ring_start[r + 1]):
                y0, y1 = min(y0, points[i, 1]), max(y1, points[i, 1])
        best = -1.0
        for step in range(3):
            # Odd fractions keep the line off the corners of regular shapes.
            y = y0 + (y1 - y0) * (0.5003 if step == 0 else (0.2507 if step == 1 else 0.7491))
            n = 0
            for r in own:
                a, b = ring_start[r], ring_start[r + 1]
                j = b - 1
                for i in range(a, b):
                    yi, yj = points[i, 1], points[j, 1]
                    if (yi > y) != (yj > y):
                        crossings[n] = (points[j, 0] - points[i, 0]) * (y - yi) / (yj - yi) + points[i, 0]
                        n += 1
                    j = i
            ordered = crossings[:n]
            if n > 2:
                ordered.sort()
            elif n == 2 and crossings[0] > crossings[1]:
                crossings[0], crossings[1] = crossings[1], crossings[0]
            for k in range(0, n - 1, 2):
                if ordered[k + 1] - ordered[k] > best:
                    best = ordered[k + 1] - ordered[k]
                    result[piece, 0] = 0.5 * (ordered[k] + ordered[k + 1])
                    result[piece, 1] = y
    return result


@njit(cache=True)
def _piece_boxes(points, ring_start, ring_piece, count):  # type: ignore[no-untyped-def]
    boxes = np.empty((count, 4))
    boxes[:, :2] = np.inf
    boxes[:, 2:] = -np.inf
    for r in range(ring_start.shape[0] - 1):
        p = ring_piece[r]
        for i in range(ring_start[r], ring_start[r + 1]):
            boxes[p, 0], boxes[p, 1] = min(boxes[p, 0], points[i, 0]), min(boxes[p, 1], points[i, 1])
            boxes[p, 2], boxes[p, 3] = max(boxes[p, 2], points[i, 0]), max(boxes[p, 3], points[i, 1])
    return boxes


@njit(cache=True)
def _in_piece(points, ring_start, around, own, x, y):  # type: ignore[no-untyped-def]
    inside = False
    for r in own:
        # Edges are passed on the way east.
        aside = y < around[r, 1] or y > around[r, 3] or x > around[r, 2]
        if not aside and _crosses(points, ring_start[r], ring_start[r + 1], x, y):
            inside = not inside
    return inside


def piece_at(found: Pieces, layers: NDArray[np.int64], places: NDArray[np.float64]) -> NDArray[np.int64]:
    """Piece (k,) of its layer (k,) that each place (k, 2) lies in; -1 where in none."""
    result: NDArray[np.int64] = _piece_at(
        found.stack.points, found.stack.ring_start, np.concatenate(found.stack.ring_boxes, axis=1),
        *found.by_piece, found.start, found.boxes, layers, places,
    )  # fmt: skip
    return result


@njit(cache=True)
def _piece_at(points, ring_start, around, by_piece, first, start, boxes, layers, places):  # type: ignore[no-untyped-def]
    result = np.full(layers.shape[0], -1, np.int64)
    for k in range(layers.shape[0]):
        if layers[k] < 0 or layers[k] + 1 >= start.shape[0]:
            continue
        x, y = places[k, 0], places[k, 1]
        for p in range(start[layers[k]], start[layers[k] + 1]):
            if x < boxes[p, 0] or x > boxes[p, 2] or y < boxes[p, 1] or y > boxes[p, 3]:
                continue
            if _in_piece(points, ring_start, around, by_piece[first[p] : first[p + 1]], x, y):
                result[k] = p
                break
    return result

"""What is left standing in a hollow: ribs or struts inside, and what lies behind painted places."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..geometry.frames import frame
from .depths import Lattice

# Ribs are open over this share of their distance, from bottom to top: resin runs through.
OPEN = 0.4
# Distances from what is painted are told so far.
BEYOND_MM = 60.0
# Where they part a room off all the same, they keep these shares of their arms, one after the other.
SHORTER = (0.6, 0.3, 0.0)
# Struts rise so many times as far as they go aside: more than 45 degrees, so that they hold themselves.
RISE = 1.05


class Filling(StrEnum):
    """What stands in a hollow."""

    NOTHING = "nothing"
    RIBS = "ribs"
    STRUTS = "struts"


@dataclass(frozen=True, eq=False)
class LeftIn:
    """What is left in a hollow.

    Attributes
    ----------
    kind : Filling
    apart_mm : float
        From rib to rib, or the side of a cell of struts.
    thick_mm : float
    down : (3,) float64
        Where the plate is: ribs stand upright, struts lean from upright.
    middle_mm : (3,) float64
        A place where ribs cross, or struts meet.
    solid_at_mm : (k, 3) float64
        Places of the surface behind which all stays solid,
    behind_mm : float
        so deep.
    """

    kind: Filling
    apart_mm: float
    thick_mm: float
    down: NDArray[np.float64]
    middle_mm: NDArray[np.float64]
    solid_at_mm: NDArray[np.float64]
    behind_mm: float

    def off_painted(self, places: NDArray[np.float64]) -> NDArray[np.float64]:
        """Distance (n,) of places (n, 3) from what stays solid behind painted places, mm; below 0 in it."""
        if not len(self.solid_at_mm):
            return np.full(len(places), np.inf)
        # Two steps of any lattice beyond its surface are enough to draw it.
        near = self._painted.query(places, distance_upper_bound=self.behind_mm + BEYOND_MM)[0]
        return np.asarray(np.minimum(near - self.behind_mm, BEYOND_MM), np.float64)

    @cached_property
    def _painted(self) -> cKDTree:
        return cKDTree(self.solid_at_mm)

    def off_filling(
        self, places: NDArray[np.float64], shorter: Mapping[tuple[int, int], float]
    ) -> NDArray[np.float64]:
        """Distance (n,) of places (n, 3) from the nearest rib or strut, mm; below 0 in it.

        ``shorter`` has those crossings, by their numbers along both ways, whose arms keep but a share of
        their length; with 0 there is none.
        """
        if self.kind is Filling.NOTHING:
            return np.full(len(places), np.inf)
        turned = self._turned(places)
        if self.kind is Filling.STRUTS:
            return _off_struts(turned, self.apart_mm, self.thick_mm)
        crossings, which = np.unique(self._crossings(turned), axis=0, return_inverse=True)
        share = np.array([shorter.get((a, b), 1.0) for a, b in crossings.tolist()])
        return _off_ribs(turned[:, :2], self.apart_mm, self.thick_mm, share[which.ravel()])

    def crossings(self, places: NDArray[np.float64]) -> list[tuple[int, int]]:
        """Numbers of the crossings that places (n, 3) lie nearest to."""
        found = np.unique(self._crossings(self._turned(places)), axis=0)
        return [(a, b) for a, b in found.tolist()]

    def _turned(self, places: NDArray[np.float64]) -> NDArray[np.float64]:
        return (places - self.middle_mm) @ frame(-self.down / np.linalg.norm(self.down)).T

    def _crossings(self, turned: NDArray[np.float64]) -> NDArray[np.int64]:
        return np.rint(turned[:, :2] / self.apart_mm).astype(np.int64)

    def painted_field(self, depth: NDArray[np.float32], lattice: Lattice) -> NDArray[np.float32]:
        """Distances (nz, ny, nx) from what stays solid behind paint, at the nodes of a hollow.

        ``depth`` (nz, ny, nx) is below 0 outside of the hollow.
        """
        return _field(self.off_painted, depth, lattice)

    def filling_field(
        self, depth: NDArray[np.float32], lattice: Lattice, least_nodes: float
    ) -> NDArray[np.float32]:
        """Distances (nz, ny, nx) from ribs and struts at the nodes of a hollow.

        Parameters
        ----------
        depth : (nz, ny, nx) float32
            Below 0 outside of the hollow.
        lattice : Lattice
        least_nodes : float
            Rooms of fewer nodes are left solid, and may be parted off.

        Notes
        -----
        Ribs that come to a wall can part rooms off. Their arms are made shorter then, until none is.
        """
        shorter: dict[tuple[int, int], float] = {}

        def off(places: NDArray[np.float64]) -> NDArray[np.float64]:
            return self.off_filling(places, shorter)

        found = _field(off, depth, lattice)
        for share in SHORTER if self.kind is Filling.RIBS else ():
            parted = _parted(depth > 0, np.minimum(depth, found) > 0, least_nodes)
            if not parted.any():
                break
            shorter.update(dict.fromkeys(self.crossings(lattice.at(np.argwhere(parted))), share))
            found = _field(off, depth, lattice)
        return found


def _field(
    off: Callable[[NDArray[np.float64]], NDArray[np.float64]], depth: NDArray[np.float32], lattice: Lattice
) -> NDArray[np.float32]:
    """Distances (nz, ny, nx) at the nodes of a hollow, and two steps beside it, where surfaces come from."""
    found = np.full(depth.shape, np.inf, np.float32)
    for k in range(len(depth)):
        nodes = np.argwhere(depth[k] > -2 * lattice.step_mm)
        if len(nodes):
            numbers = np.column_stack([np.full(len(nodes), k), nodes])
            found[k][tuple(nodes.T)] = off(lattice.at(numbers))
    return found


def _parted(before: NDArray[np.bool_], after: NDArray[np.bool_], least_nodes: float) -> NDArray[np.bool_]:
    """Nodes (nz, ny, nx) of rooms that were one with a larger one before."""
    from scipy.ndimage import label

    whole, _ = label(before)
    rooms, count = label(after)
    size = np.bincount(rooms.ravel(), minlength=count + 1)
    of = np.zeros(count + 1, np.int64)
    of[rooms.ravel()] = whole.ravel()
    small = size >= least_nodes
    small[0] = False
    for one in np.unique(of[1:]).tolist():
        mine = np.flatnonzero(of == one)
        mine = mine[mine > 0]
        small[mine[np.argmax(size[mine])]] = False
    found: NDArray[np.bool_] = small[rooms]
    return found


def _off_ribs(
    plan: NDArray[np.float64], apart: float, thick: float, share: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Distance (n,) in plan (n, 2) from crosses whose arms end before they meet those beside.

    ``share`` (n,) is that of their length which the nearest keeps; with 0 there is none.
    """
    off = np.abs(plan - apart * np.round(plan / apart))
    long = np.maximum((1 - OPEN) * apart / 2 * share, thick / 2)
    wide = np.full_like(long, thick / 2)
    arms = [np.column_stack(one) for one in ((long, wide), (wide, long))]
    return np.where(share > 0, np.minimum(*(_off_box(off, half) for half in arms)), np.inf)


def _off_box(off: NDArray[np.float64], half: NDArray[np.float64]) -> NDArray[np.float64]:
    """Distance (n,) of places (n, 2) from boxes round the origin with half sides (n, 2); below 0 in them."""
    beyond = off - half
    outside = np.hypot(*np.maximum(beyond, 0.0).T)
    return np.asarray(outside + np.minimum(beyond.max(axis=1), 0.0), np.float64)


def _off_struts(places: NDArray[np.float64], apart: float, thick: float) -> NDArray[np.float64]:
    """Distance (n,) of places (n, 3) from struts along the diagonals of cells."""
    cell = np.array([apart, apart, RISE * math.sqrt(2.0) * apart])
    off = places - cell * np.round(places / cell)
    nearest = np.full(len(places), np.inf)
    # The four diagonals through the middle of a cell; those of its corners are the same, of the next cells.
    for x, y in ((1, 1), (1, -1), (-1, 1), (-1, -1)):
        way = cell * (x, y, 1)
        way /= np.linalg.norm(way)
        along = off @ way
        nearest = np.minimum(nearest, (off**2).sum(axis=1) - along**2)
    return np.asarray(np.sqrt(np.maximum(nearest, 0.0)) - thick / 2, np.float64)

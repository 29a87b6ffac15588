"""What stays in a hollow once it has run out through its holes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.flood import flooded
from .cavity import Cavity
from .depths import Lattice
from .drains import Drain

# A pool is so many steps deep at least.
DEEP = 1.2


@dataclass(frozen=True, eq=False)
class Trapped:
    """What stays in.

    Attributes
    ----------
    volume_mm3 : float
        Of all that no way leads down from to a hole, pockets without holes too.
    sealed_mm3 : float
        Of pockets that no hole opens.
    pool_mm3 : float
        The largest pool,
    lowest_mm : (x, y, z) or None
        and its lowest place.
    """

    volume_mm3: float
    sealed_mm3: float
    pool_mm3: float
    lowest_mm: tuple[float, float, float] | None


class Basin:
    """The hollow of a part as nodes, to be flooded again and again.

    Parameters
    ----------
    cavity : Cavity
    """

    def __init__(self, cavity: Cavity) -> None:
        nodes = np.argwhere(cavity.depth_mm > 0)
        low, high = nodes.min(axis=0), nodes.max(axis=0) + 1
        self.lattice = Lattice(cavity.lattice.at(low[None])[0], cavity.lattice.step_mm)
        self.nodes = nodes - low
        self.room = np.zeros(high - low, np.bool_)
        self.room[tuple(self.nodes.T)] = True
        # The volume of a node is that of all of them by their surface.
        self.share_mm3 = cavity.volume_mm3 / len(nodes)

    def trapped(self, drains: tuple[Drain, ...], down: NDArray[np.float64]) -> Trapped:
        """Tell what stays in where ``down`` (3,) is down, through these holes.

        Notes
        -----
        From the holes the hollow is gone through along ways whose highest point is the lowest that there is
        (priority flood: R. Barnes, C. Lehman, D. Mulla, "Priority-flood", Computers & Geosciences 62, 2014).
        What lies lower than the highest point of its way stays. Surface tension is left out.
        """
        up = -np.asarray(down, np.float64) / np.linalg.norm(down)
        step = self.lattice.step_mm
        start, level = self._mouths(drains, up)
        rises = (up[::-1] * step).astype(np.float64)
        base = float(up @ self.lattice.low_mm)
        highest = flooded(self.room, start, level, base, rises)
        height = base + self.nodes @ rises
        over = highest[tuple(self.nodes.T)] - height
        closed = float(self.share_mm3 * np.count_nonzero(np.isinf(over)))
        # Pools no deeper than a step are the roughness of the lattice.
        if not (over > DEEP * step).any():
            return Trapped(0.0, closed, 0.0, None)
        pool, deepest = self._pools(over)
        size = np.bincount(pool, minlength=len(deepest)) * self.share_mm3 * (deepest > DEEP * step)
        best = int(np.argmax(size))
        mine = np.flatnonzero(pool == best)
        lowest = self.lattice.at(self.nodes[mine[height[mine] <= height[mine].min() + 0.3 * step]])
        # In the middle of a floor.
        aside = ((lowest - lowest.mean(axis=0)) ** 2).sum(axis=1)
        x, y, z = lowest[np.argmin(aside)].tolist()
        return Trapped(float(size.sum()), closed, float(size[best]), (x, y, z))

    def _pools(self, over: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Pool of each node (n,), 0 for none, and the depth (k,) of each; ``over`` (n,) is held back."""
        from scipy.ndimage import label

        grid = np.zeros(self.room.shape, np.bool_)
        grid[tuple(self.nodes.T)] = over > 0
        found, count = label(grid, np.ones((3, 3, 3)))
        own = found[tuple(self.nodes.T)]
        deepest = np.zeros(count + 1)
        np.maximum.at(deepest, own[own > 0], over[own > 0])
        return own, deepest

    def _mouths(
        self, drains: tuple[Drain, ...], up: NDArray[np.float64]
    ) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Nodes (n,) that holes open at, and how high the way out through each goes at least (n,)."""
        step = self.lattice.step_mm
        shape = np.array(self.room.shape)
        start, level = [], []
        for drain in drains:
            inner, outer = np.array(drain.inner_mm), np.array(drain.at_mm)
            reach = drain.inner_diameter_mm / 2 + step
            low = np.floor((np.minimum(inner, outer) - reach - self.lattice.low_mm) / step).astype(int)
            high = np.ceil((np.maximum(inner, outer) + reach - self.lattice.low_mm) / step).astype(int)
            low, high = np.maximum(low[::-1], 0), np.minimum(high[::-1] + 1, shape)
            z, y, x = np.nonzero(self.room[low[0] : high[0], low[1] : high[1], low[2] : high[2]])
            nodes = np.stack([z, y, x], axis=1) + low
            at = self.lattice.at(nodes) - inner
            axis = (inner - outer) / np.linalg.norm(inner - outer)
            along = at @ axis
            aside = np.linalg.norm(at - along[:, None] * axis, axis=1)
            # In the hole, or right where it ends.
            mine = nodes[(aside <= drain.inner_diameter_mm / 2 + 0.5 * step) & (along <= step)]
            start.append(
                np.ravel_multi_index(tuple(mine.T), self.room.shape) if len(mine) else np.zeros(0, int)
            )
            # It runs along the lower side of the hole, as far as that rises on the way out.
            lower = 0.5 * drain.diameter_mm * math.sqrt(max(0.0, 1.0 - float(up @ axis) ** 2))
            level.append(np.full(len(mine), float(up @ outer) - lower))
        if not start:
            return np.zeros(0, np.int64), np.zeros(0)
        return np.concatenate(start).astype(np.int64), np.concatenate(level)

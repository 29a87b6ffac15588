"""Resin that stays in hollows of a part while it hangs from the plate to drain, and what lets it out.

A machine that builds against a film lifts the part out head down: what is open towards the plate is a bowl
then. Such a bowl drips for days, or is turned over with the part still on the plate.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.flood import flooded
from ..geometry.pixels import fill
from ..layers.stack import LayerStack, packed
from ..tags import stored

# The lattice is as fine as this, and coarser where it would have more nodes; leans are tried on fewer.
STEP_MM, MOST_NODES, FEW_NODES = 0.5, 2_000_000, 200_000
# Less than this is a drop, or the roughness of the lattice.
LEAST_MM3, DEEP = 50.0, 1.6
# Leans that are tried, the sides that the top goes to with their directions, and what has to be out then.
LEANS_DEG = (10, 20, 30, 45)
OUT = 0.97
SIDES = {
    "right": 0, "back": 90, "left": 180, "front": 270,
    "back right": 45, "back left": 135, "front left": 225, "front right": 315,
}  # fmt: skip


@stored("pool")
@dataclass(frozen=True, slots=True)
class Pool:
    """Resin that stays in while the part hangs.

    Attributes
    ----------
    volume_mm3 : float
    x_mm, y_mm, z_mm : float
        Where it is deepest: the highest place of the hollow as it stands.
    stands : bool
        It runs into another pool, and stays in, when the part stands the other way up.
    lean_deg : int
        Leaning so much it runs out; 0 where no lean does.
    side : str
        Side that the top goes to then.
    """

    volume_mm3: float
    x_mm: float
    y_mm: float
    z_mm: float
    stands: bool
    lean_deg: int = 0
    side: str = ""


def find_pools(stack: LayerStack) -> list[Pool]:
    """Find where resin stays while a part hangs from the plate; what is shut in for good is none of it.

    Parameters
    ----------
    stack : LayerStack
        Of the part in its stance.

    Returns
    -------
    list of Pool
        The largest first.
    """
    room = _Room.of(stack, STEP_MM, MOST_NODES)
    if room is None:
        return []
    hangs = room.kept(np.array([0.0, 0.0, -1.0]))
    pools, sizes = room.pools(hangs)
    if not len(sizes):
        return []
    stands = room.over(room.kept(np.array([0.0, 0.0, 1.0])) > DEEP * room.step)
    leans = _leans(stack, room, pools, sizes)
    found = []
    for number, size in enumerate(sizes, 1):
        mine = np.argwhere(pools == number)
        x, y, z = room.at(_middle(mine, hangs[tuple(mine.T)], room.step))
        still = float(stands[tuple(mine.T)].mean()) > 0.5
        found.append(Pool(size, x, y, z, still, *leans[number - 1]))
    return sorted(found, key=lambda pool: -pool.volume_mm3)


@dataclass(eq=False)
class _Room:
    """Free nodes in and round a part."""

    free: NDArray[np.bool_]
    low_mm: NDArray[np.float64]
    step: float

    @classmethod
    def of(cls, stack: LayerStack, step_mm: float, most: int) -> _Room | None:
        """Nodes in steps of so much at least; one more lies free on every side."""
        if not len(stack.points):
            return None
        low, high = stack.points.min(axis=0), stack.points.max(axis=0)
        size = np.append(high - low, len(stack) * stack.layer_mm)
        step = max(step_mm, (float(np.prod(size + 3 * step_mm)) / most) ** (1 / 3))
        nx, ny, nz = (np.ceil(size / step).astype(int) + 2).tolist()
        solid = np.zeros((nz, ny, nx), np.bool_)
        corner = low - 1.0 * step
        for k in range(1, nz - 1):
            rings = stack.rings(min(int((k - 0.5) * step / stack.layer_mm), len(stack) - 1))
            if rings:
                points, starts = packed(rings)
                fill(solid[k], points, starts, 0, len(starts) - 1, corner, step, False)
        return cls(~solid, np.append(corner + step / 2, -0.5 * step + stack.base_mm), step)

    def at(self, node: NDArray[np.int64]) -> tuple[float, float, float]:
        """Place of a node (3,), which is numbered z, y, x."""
        x, y, z = (self.low_mm + node[::-1] * self.step).tolist()
        return x, y, z

    def kept(self, up: NDArray[np.float64]) -> NDArray[np.float64]:
        """How far below its way out each node (nz, ny, nx) lies, mm; 0 in the part and in what is shut in."""
        rises = up[::-1] * self.step
        height = sum(
            np.arange(n).reshape([-1 if k == axis else 1 for k in range(3)]) * rises[axis]
            for axis, n in enumerate(self.free.shape)
        )
        falls = self._falls(up)
        # Only those beside a node from which none falls lead on.
        edge = np.zeros_like(falls)
        hidden = self.free & ~falls
        for axis in range(3):
            edge[_but_last(axis)] |= hidden[_but_first(axis)]
            edge[_but_first(axis)] |= hidden[_but_last(axis)]
        start = np.flatnonzero(edge & falls)
        level = np.broadcast_to(height, falls.shape).ravel()[start]
        over = flooded(hidden | (edge & falls), start, level, 0.0, rises) - height
        over[~hidden | ~np.isfinite(over)] = 0.0
        result: NDArray[np.float64] = over
        return result

    def over(self, pools: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Free nodes from which a drop falls into pools (nz, ny, nx) below, and these themselves."""
        found = pools & self.free
        for k in range(1, len(found)):
            found[k] |= found[k - 1] & self.free[k]
        return found

    def _falls(self, up: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Nodes from which a drop falls out, or all round the outside where up is aslant."""
        if abs(up[2]) == 1.0:
            way = slice(None) if up[2] > 0 else slice(None, None, -1)
            result: NDArray[np.bool_] = np.logical_and.accumulate(self.free[way], axis=0)[way]
            return result
        outside = np.zeros_like(self.free)
        for axis in range(3):
            for end in (0, -1):
                outside[(slice(None),) * axis + (end,)] = True
        return outside

    def pools(self, over: NDArray[np.float64]) -> tuple[NDArray[np.int64], list[float]]:
        """Number (nz, ny, nx) of the pool of each node, 0 for none, and the volume of each, mm3."""
        from scipy.ndimage import label, maximum

        found, count = label(over > 0, np.ones((3, 3, 3)))
        if not count:
            return found, []
        size = np.bincount(found.ravel(), minlength=count + 1) * self.step**3
        deep = np.append(0.0, maximum(over, found, np.arange(1, count + 1)))
        good = (size > LEAST_MM3) & (deep > DEEP * self.step)
        good[0] = False
        numbers = np.zeros(count + 1, np.int64)
        numbers[good] = np.arange(1, int(good.sum()) + 1)
        return numbers[found], size[good].tolist()


def _middle(nodes: NDArray[np.int64], over: NDArray[np.float64], step: float) -> NDArray[np.int64]:
    """Of the deepest of some nodes (n, 3) that which lies in their middle: under a flat roof all are."""
    deepest = nodes[over >= over.max() - 0.3 * step]
    result: NDArray[np.int64] = deepest[np.argmin(((deepest - deepest.mean(axis=0)) ** 2).sum(axis=1))]
    return result


def _but_first(axis: int) -> tuple[slice, ...]:
    return (slice(None),) * axis + (slice(1, None),)


def _but_last(axis: int) -> tuple[slice, ...]:
    return (slice(None),) * axis + (slice(None, -1),)


def _leans(
    stack: LayerStack, fine: _Room, pools: NDArray[np.int64], sizes: list[float]
) -> list[tuple[int, str]]:
    """The least lean that lets each pool out, and the side that the top goes to; (0, "") where none does."""
    rough = _Room.of(stack, STEP_MM, FEW_NODES)
    found = [(0, "")] * len(sizes)
    if rough is None:
        return found
    nodes = np.argwhere(pools)
    number = pools[tuple(nodes.T)] - 1
    at = fine.low_mm + nodes[:, ::-1] * fine.step
    nearest = np.rint((at - rough.low_mm) / rough.step).astype(int)[:, ::-1]
    own = tuple(np.clip(nearest, 0, np.array(rough.free.shape) - 1).T)
    for lean in LEANS_DEG:
        for side, degrees in SIDES.items():
            if all(deg for deg, _ in found):
                return found
            tilt, turn = math.radians(lean), math.radians(degrees)
            up = np.array([math.sin(tilt) * math.cos(turn), math.sin(tilt) * math.sin(turn), -math.cos(tilt)])
            still = rough.pools(rough.kept(up))[0][own] > 0
            left = np.bincount(number, weights=still, minlength=len(sizes))
            share = left / np.bincount(number, minlength=len(sizes))
            found = [one if one[0] or share[k] > 1 - OUT else (lean, side) for k, one in enumerate(found)]
    return found

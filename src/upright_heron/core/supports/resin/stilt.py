"""Stilts and braces as objects."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...geometry.mesh import Mesh
from ...geometry.solid import Solid
from ...tags import stored
from ..rings import CIRCLE, CIRCLE_AREA, PRISM, SIDES


@stored("stilt", 2, {1: lambda fields: {**fields, "stands_on": "", "cone": 3}})
@dataclass(frozen=True, eq=False)
class Stilt:
    """A resin support: foot, shaft and tip, a stack of level circles.

    Attributes
    ----------
    id, reason, touch_mm, on_part, volume_mm3
        As for a column.
    circles : (k, 4) float64
        x, y, z and radius from the foot up, mm.
    bend : int
        Up to the circle before it the shaft is upright.
    size : str
        Name of its size.
    load_n, bears_n : float
        What its tip bears at most, and what it can: both guesses, N.
    snip : bool
        It touches a point, and is to be snipped off with care.
    seen : float
        How much its mark is seen: on the show side or not, or the share of the sides that it is seen from.
    stands_on : str
        Id of the stilt in whose shaft its own begins; empty for one that stands by itself.
    cone : int
        How many circles its tip has, from the knee where its shaft ends.
    """

    id: str
    reason: str
    touch_mm: tuple[float, float, float]
    on_part: bool
    volume_mm3: float
    circles: NDArray[np.float64]
    bend: int = 0
    size: str = ""
    load_n: float = 0.0
    bears_n: float = 0.0
    snip: bool = False
    seen: float = 0.0
    stands_on: str = ""
    cone: int = 3

    @property
    def upright(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Both ends (3,) of the upright part of its shaft: where braces hold on."""
        low = self.circles[max(self.bend - 1, 0), :3]
        return low, np.array([low[0], low[1], self.circles[self.bend, 2]])

    @property
    def shaft_mm(self) -> float:
        """Diameter of its shaft."""
        return float(2 * self.circles[-self.cone, 3])

    @property
    def axis(self) -> NDArray[np.float64]:
        """Places (k, 3) of its middle from the foot to its knee."""
        return self.circles[: len(self.circles) - self.cone + 1, :3]

    @property
    def tip_mm(self) -> float:
        """Diameter of its tip."""
        return float(2 * self.circles[-1, 3])

    @property
    def contact_mm2(self) -> float:
        """Area of the part that it touches, with its foot where that stands on the part."""
        ends = self.circles[[-1, 0] if self.on_part else [-1], 3]
        return float(np.pi * (ends**2).sum())

    @property
    def lean_deg(self) -> float:
        """The most that it leans, its cone too, from vertical."""
        steps = np.diff(self.circles[:, :3], axis=0)
        flat = np.hypot(steps[:, 0], steps[:, 1])
        return float(np.degrees(np.arctan2(flat, np.maximum(steps[:, 2], 1e-9))).max())

    @property
    def overloaded(self) -> bool:
        """Whether its tip bears more than it can."""
        return self.load_n > self.bears_n * (1 + 1e-9)

    def circle_at(self, z_mm: float) -> tuple[float, float, float] | None:
        """Centre and radius at a height, or ``None`` above and below the stilt."""
        rows = self._rows
        if not rows[0][2] <= z_mm <= rows[-1][2]:
            return None
        k = bisect_left(rows, z_mm, 1, len(rows) - 1, key=lambda row: row[2])
        (x, y, z, r), (u, v, w, s) = rows[k - 1], rows[k]
        share = min((z_mm - z) / (w - z), 1.0) if w > z else 1.0
        return x + share * (u - x), y + share * (v - y), r + share * (s - r)

    @cached_property
    def _rows(self) -> list[list[float]]:
        rows: list[list[float]] = self.circles.tolist()
        return rows

    def mesh(self) -> Mesh:
        """Closed surface of the stilt."""
        k = len(self.circles)
        around = CIRCLE[None, :, :] * self.circles[:, 3, None, None] + self.circles[:, None, :2]
        level = np.repeat(self.circles[:, 2], SIDES)
        walls = np.column_stack([around.reshape(-1, 2), level])
        i = np.arange(SIDES)
        j = (i + 1) % SIDES
        faces = []
        for s in range(k - 1):
            a, b = s * SIDES, (s + 1) * SIDES
            faces += [np.column_stack([a + i, a + j, b + j]), np.column_stack([a + i, b + j, b + i])]
        fan = np.arange(1, SIDES - 1)
        faces.append(np.column_stack([np.zeros_like(fan), fan + 1, fan]))
        top = (k - 1) * SIDES
        faces.append(top + np.column_stack([np.zeros_like(fan), fan, fan + 1]))
        return Mesh(walls, np.concatenate(faces).astype(np.int32))

    def manifolds(self) -> list[Any]:
        """Bodies that make up the stilt."""
        return [Solid.from_mesh(self.mesh()).manifold]


@stored("brace")
@dataclass(frozen=True, eq=False)
class Brace:
    """A bar from one shaft up to another.

    Attributes
    ----------
    id : str
    between : tuple of str
        Ids of both stilts.
    ends_mm : (2, 3) float64
        Lower and upper end, on the axes of the shafts.
    radius_mm : float
    """

    id: str
    between: tuple[str, str]
    ends_mm: NDArray[np.float64]
    radius_mm: float

    def rings(self, heights_mm: NDArray[np.float64]) -> NDArray[np.float64]:
        """Outlines (k, SIDES, 2) at heights (k,) between its ends."""
        low, high = self.ends_mm
        share = (heights_mm - low[2]) / (high[2] - low[2])
        middle = low[:2] + share[:, None] * (high[:2] - low[:2])
        flat, longer = self._slant
        across = np.array([-flat[1], flat[0]])
        ring = self.radius_mm * (CIRCLE[:, :1] * longer * flat + CIRCLE[:, 1:] * across)
        found: NDArray[np.float64] = middle[:, None, :] + ring
        return found

    @property
    def _slant(self) -> tuple[NDArray[np.float64], float]:
        """Its direction in plan (2,), and by how much a level cut through it is longer than wide."""
        way = self.ends_mm[1] - self.ends_mm[0]
        flat = float(np.hypot(*way[:2]))
        return way[:2] / max(flat, 1e-12), float(np.linalg.norm(way) / way[2])

    def mesh(self) -> Mesh:
        """Closed surface of the bar, cut level at its ends, which lie in shafts."""
        ends = self.rings(self.ends_mm[:, 2])
        walls = np.column_stack([ends.reshape(-1, 2), np.repeat(self.ends_mm[:, 2], SIDES)])
        return Mesh(walls, PRISM)

    @property
    def volume_mm3(self) -> float:
        """Volume, mm3, with what lies in the shafts."""
        _, longer = self._slant
        return float(CIRCLE_AREA * self.radius_mm**2 * longer * (self.ends_mm[1, 2] - self.ends_mm[0, 2]))

    def manifolds(self) -> list[Any]:
        """Bodies that make up the bar."""
        return [Solid.from_mesh(self.mesh()).manifold]


def stilt_volume_mm3(circles: NDArray[np.float64]) -> float:
    """Volume of circles (k, 4) of x, y, z and radius, as frusta between polygons of ``SIDES`` corners.

    A frustum is h/3 (A1 + A2 + sqrt(A1 A2)): Heron of Alexandria, Metrica II.
    """
    area = CIRCLE_AREA * circles[:, 3] ** 2
    height = np.diff(circles[:, 2])
    return float((height / 3 * (area[:-1] + area[1:] + np.sqrt(area[:-1] * area[1:]))).sum())

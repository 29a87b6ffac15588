"""A big machine part with many ribs: half a gearbox, 506 x 500 x 320 mm, as castings are."""

from __future__ import annotations

import math

from manifold3d import Manifold, OpType

from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid

LONG, WIDE, HIGH = 506.0, 500.0, 314.0
WALL = 9.0


def gearbox_half() -> Mesh:
    """Surface (about 27,000 facets, closed) of the half, its flange up and its ribs outside."""
    body = _block(LONG - 60, WIDE - 60, HIGH - 14, 0) - _block(
        LONG - 60 - 2 * WALL, WIDE - 60 - 2 * WALL, HIGH, WALL
    )
    flange = _block(LONG, WIDE, 14, HIGH - 14) - _block(LONG - 96, WIDE - 96, 30, HIGH - 20)
    bores, eyes = [], []
    for x, r in ((-110.0, 62.0), (95.0, 84.0)):
        for y in (-(WIDE - 60) / 2, (WIDE - 60) / 2):
            eyes.append(_across(r + 16, 44).translate((x, y, HIGH - 14)))
            bores.append(_across(r, 80).translate((x, y, HIGH)))
    ribs = [*_upright_ribs(), *_radial_ribs(), *_cooling_ribs()]
    bosses = [Manifold.cylinder(46, 13, 13, 48).translate((x, y, HIGH - 60)) for x, y in _bolts()]
    holes = [Manifold.cylinder(80, 6, 6, 48).translate((x, y, HIGH - 65)) for x, y in _bolts()]
    pads = [
        Manifold.cylinder(18, 20, 20, 48).translate((x, y, -6))
        for x in (-180, 0, 180)
        for y in (-170, 0, 170)
    ]
    whole = Manifold.batch_boolean([body, flange, *eyes, *ribs, *bosses, *pads], OpType.Add)
    upper = Manifold.cube((2 * LONG, 2 * WIDE, 100), True).translate((0, 0, HIGH + 50))
    drain = _across(11, 90, 48).translate((150, -(WIDE - 60) / 2, 24))
    cut = Manifold.batch_boolean([whole, upper, *bores, *holes, drain], OpType.Subtract)
    room = Manifold.cube((LONG, WIDE, HIGH + 6)).translate((-LONG / 2, -WIDE / 2, -6))
    return Solid((cut ^ room).translate((0, 0, 6))).mesh()


def _block(x: float, y: float, z: float, low: float) -> Manifold:
    return Manifold.cube((x, y, z)).translate((-x / 2, -y / 2, low))


def _across(radius: float, long: float, segments: int = 120) -> Manifold:
    """Cylinder along y."""
    return Manifold.cylinder(long, radius, radius, segments, True).rotate((90, 0, 0))


def _bolts() -> list[tuple[float, float]]:
    x, y = LONG / 2 - 24, WIDE / 2 - 24
    along = [(-x + 2 * x * k / 6, side * y) for k in range(7) for side in (-1, 1)]
    return along + [(side * x, -y + 2 * y * k / 5) for k in range(1, 5) for side in (-1, 1)]


def _upright_ribs() -> list[Manifold]:
    """Thin walls outside, between the floor and the flange, on all four sides."""
    found = []
    for k in range(11):
        t = -0.5 + k / 10
        for side in (-1, 1):
            found.append(
                Manifold.cube((6, 28, HIGH - 30), True).translate(
                    ((LONG - 90) * t, side * (WIDE - 34) / 2, HIGH / 2)
                )
            )
            found.append(
                Manifold.cube((28, 6, HIGH - 30), True).translate(
                    (side * (LONG - 34) / 2, (WIDE - 90) * t, HIGH / 2)
                )
            )
    return found


def _radial_ribs() -> list[Manifold]:
    """Stars of ribs round the bearings, leaning, with room below each."""
    found = []
    for x, r in ((-110.0, 78.0), (95.0, 100.0)):
        for side in (-1, 1):
            for k in range(9):
                turn = 180 + 180 * (k + 0.5) / 9
                a = math.radians(turn)
                rib = Manifold.cube((70, 20, 5), True).rotate((0, -turn, 0))
                across, up = (r + 30) * math.cos(a), (r + 30) * math.sin(a)
                found.append(rib.translate((x + across, side * (WIDE - 44) / 2, HIGH - 14 + up)))
    return found


def _cooling_ribs() -> list[Manifold]:
    """Level fins outside the ends: each hangs over the next, all the way round the corners."""
    fin = Manifold.cylinder(4, 26, 26, 72)
    return [
        fin.translate((sx * (LONG - 60) / 2, sy * (WIDE - 60) / 2, 26.0 + 19 * k))
        for k in range(14)
        for sx in (-1, 1)
        for sy in (-1, 1)
    ]

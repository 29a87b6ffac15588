"""The shapes of the demo jobs, made here and the same every time. Millimetres."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
from manifold3d import CrossSection, Manifold, Mesh64, OpType
from numpy.typing import NDArray

from ..core.geometry.mesh import Mesh
from ..core.geometry.solid import Solid

Field = NDArray[np.float32]
Point = tuple[float, float, float]


def _box(size: Point, at: Point) -> Manifold:
    """Box with its lowest corner at ``at``."""
    return Manifold.cube(size).translate(at)


def _rod(a: Point, b: Point, radius: float, sides: int = 48) -> Manifold:
    """Round rod with round ends from ``a`` to ``b``."""
    ball = Manifold.sphere(radius, sides)
    return Manifold.batch_hull([ball.translate(a), ball.translate(b)])


def _tube(points: list[Point], radius: float, sides: int = 40) -> Manifold:
    """Round rods through points, one after the other."""
    rods = [_rod(a, b, radius, sides) for a, b in pairwise(points)]
    return Manifold.batch_boolean(rods, OpType.Add)


def _plate(x: float, y: float, height: float, radius: float) -> Manifold:
    """Flat plate with round corners, its middle at the origin."""
    corners = CrossSection.square((x - 2 * radius, y - 2 * radius), True).offset(radius, circular_segments=64)
    return corners.extrude(height)


def bracket() -> Mesh:
    """Telescope bracket: foot plate, leaning arm with a curved cable channel, slit clamp ring."""
    foot = _plate(84.0, 62.0, 8.0, 8.0)
    for x in (-32.0, 32.0):
        for y in (-21.0, 21.0):
            foot -= Manifold.cylinder(10, 2.7, 2.7, 48).translate((x, y, -1))
            foot -= Manifold.cylinder(4, 2.7, 5.4, 48).translate((x, y, 5.01))
    arm = Manifold.batch_hull([_box((34, 30, 1), (-17, -15, 7)), _box((24, 22, 1), (2, -11, 62))])
    gusset = Manifold.batch_hull([_box((60, 6, 1), (-30, -3, 7)), _box((6, 6, 1), (11, -3, 50))])
    centre = (30.0, 0.0, 92.0)
    ring = Manifold.cylinder(24, 38, 38, 160, True).rotate((90, 0, 0)).translate(centre)
    ears = _box((16, 24, 22), (centre[0] - 8, -12, centre[2] + 32))
    bore = Manifold.cylinder(40, 29, 29, 160, True).rotate((90, 0, 0)).translate(centre)
    slit = _box((4, 40, 40), (centre[0] - 2, -20, centre[2] + 20))
    bolt = (
        Manifold.cylinder(40, 2.7, 2.7, 48, True).rotate((0, 90, 0)).translate((centre[0], 0, centre[2] + 46))
    )
    channel = _tube(
        [(-60, 0, 22), (-14, 0, 22), (-4, 0, 25), (3, 0, 32.3), (8, 0, 42), (14, 0, 56), (22, 0, 76)], 4.0
    )
    tray = _box((40, 26, 5), (46, -13, 60))
    brace = Manifold.batch_hull([_box((6, 10, 4), (46, -5, 61)), _box((4, 10, 3), (24, -5, 44))])
    body = foot + arm + gusset + ring + ears + tray + brace
    return Solid(body - bore - slit - bolt - channel).mesh()


def housing() -> Mesh:
    """Tide-gauge housing: a box with gland holes, posts and ears, and its lid beside it."""
    wall, x, y, z = 3.0, 96.0, 64.0, 46.0
    body = _plate(x, y, z, 8.0) - _plate(x - 2 * wall, y - 2 * wall, z, 5.0).translate((0, 0, wall))
    posts = [
        Manifold.cylinder(z - 6, 4.5, 4.5, 48).translate((i * 41.0, j * 25.0, 0.0))
        for i in (-1, 1)
        for j in (-1, 1)
    ]
    body += Manifold.batch_boolean(posts, OpType.Add)
    for i in (-1, 1):
        for j in (-1, 1):
            body -= Manifold.cylinder(14, 1.4, 1.4, 32).translate((i * 41.0, j * 25.0, z - 19))
    for side in (-1, 1):
        ear = _plate(20.0, 22.0, 5.0, 6.0).translate((side * (x / 2 + 5), 0, 0))
        ear -= Manifold.cylinder(9, 2.6, 2.6, 48).translate((side * (x / 2 + 8), 0, -2))
        body += ear - _plate(x - 2 * wall, y - 2 * wall, z, 5.0).translate((0, 0, wall))
    for at, radius in ((-24.0, 8.0), (0.0, 6.0), (22.0, 10.0)):
        body -= (
            Manifold.cylinder(20, radius, radius, 96, True).rotate((90, 0, 0)).translate((at, -y / 2, 24.0))
        )
    slots = [_box((2.4, 12, 18), (-30 + 6.0 * k, y / 2 - 6, 16)) for k in range(11)]
    body -= Manifold.batch_boolean(slots, OpType.Add)
    lid = _plate(x, y, 3.0, 8.0)
    lip = _plate(x - 2 * wall - 0.6, y - 2 * wall - 0.6, 4.0, 4.7) - _plate(
        x - 4 * wall, y - 4 * wall, 9.0, 3.0
    ).translate((0, 0, -1))
    for i in (-1, 1):
        for j in (-1, 1):
            lip -= Manifold.cylinder(20, 5.6, 5.6, 48, True).translate((i * 41.0, j * 25.0, 0.0))
            lid -= Manifold.cylinder(20, 1.8, 1.8, 32, True).translate((i * 41.0, j * 25.0, 0.0))
    lid += lip.translate((0, 0, 2.99))
    window = Manifold.cylinder(20, 12, 12, 96, True)
    return Solid(body + (lid - window).translate((0, y + 12.0, 0))).mesh()


class _Sculpture:
    """Signed distances on a grid, blended shape by shape; negative inside."""

    def __init__(self, low: Point, high: Point, step: float) -> None:
        self.low, self.step = np.asarray(low, np.float32), np.float32(step)
        axes = [np.arange(a, b + step, step, dtype=np.float32) for a, b in zip(low, high, strict=True)]
        self.x, self.y, self.z = np.meshgrid(*axes, indexing="ij", sparse=True)
        self.field: Field = np.full([len(a) for a in axes], 1e3, np.float32)

    def blend(self, other: Field, soft: float) -> None:
        """Unite with another field over a soft seam (polynomial smooth minimum)."""
        h = np.clip(0.5 + 0.5 * (self.field - other) / soft, 0.0, 1.0)
        self.field = self.field + (other - self.field) * h - soft * h * (1.0 - h)

    def cone(self, a: Point, b: Point, ra: float, rb: float) -> Field:
        """Round-ended rod whose radius goes from ``ra`` to ``rb``."""
        ax, ay, az = a
        dx, dy, dz = b[0] - ax, b[1] - ay, b[2] - az
        px, py, pz = self.x - ax, self.y - ay, self.z - az
        t = np.clip((px * dx + py * dy + pz * dz) / (dx * dx + dy * dy + dz * dz), 0.0, 1.0)
        gap = np.sqrt((px - t * dx) ** 2 + (py - t * dy) ** 2 + (pz - t * dz) ** 2)
        result: Field = (gap - (ra + (rb - ra) * t)).astype(np.float32)
        return result

    def ellipsoid(self, at: Point, radii: Point, lean_deg: float = 0.0, turn_deg: float = 0.0) -> Field:
        """Ellipsoid, leaned about y and then turned about z; distance to first order."""
        px, py, pz = self.x - at[0], self.y - at[1], self.z - at[2]
        t = np.radians(turn_deg)
        px, py = np.cos(t) * px + np.sin(t) * py, -np.sin(t) * px + np.cos(t) * py
        c, s = np.cos(np.radians(lean_deg)), np.sin(np.radians(lean_deg))
        px, pz = c * px - s * pz, s * px + c * pz
        k0 = np.sqrt((px / radii[0]) ** 2 + (py / radii[1]) ** 2 + (pz / radii[2]) ** 2)
        k1 = np.sqrt((px / radii[0] ** 2) ** 2 + (py / radii[1] ** 2) ** 2 + (pz / radii[2] ** 2) ** 2)
        result: Field = (k0 * (k0 - 1.0) / np.maximum(k1, 1e-6)).astype(np.float32)
        return result

    def path(self, points: list[Point], radii: list[float], soft: float) -> None:
        """Blend one smooth limb through points."""
        from scipy.interpolate import PchipInterpolator

        at = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
        fine = np.interp(np.arange(4 * len(points) - 3) / 4.0, np.arange(len(points)), at)
        curve = PchipInterpolator(at, np.column_stack([points, radii]))(fine).tolist()
        limb: Field | None = None
        for a, b in pairwise(curve):
            rod = self.cone((a[0], a[1], a[2]), (b[0], b[1], b[2]), a[3], b[3])
            limb = rod if limb is None else np.minimum(limb, rod)
        if limb is not None:
            self.blend(limb, soft)

    def carve(self, change: Callable[[Field, Field, Field], Field]) -> None:
        """Add a field to the distances: ridges and grooves."""
        self.field = self.field + change(self.x, self.y, self.z).astype(np.float32)

    def mesh(self, smooth_mm: float, floor_mm: float | None = None) -> Mesh:
        """Surface of the sculpture, cut flat at ``floor_mm``, thinned by up to ``smooth_mm``."""
        from skimage.measure import marching_cubes

        # A border of outside closes the surface where a shape reaches past the grid.
        field = np.pad(self.field, 1, constant_values=float(self.step))
        vertices, faces, _, _ = marching_cubes(field, 0.0, spacing=(float(self.step),) * 3)  # type: ignore[no-untyped-call]
        corners = (vertices - self.step + self.low).astype(np.float64)
        body = Manifold(Mesh64(corners, faces[:, ::-1].astype(np.uint64)))
        if body.volume() < 0:
            body = Manifold(Mesh64(corners, faces.astype(np.uint64)))
        largest = max(body.decompose(), key=lambda part: part.volume())
        if floor_mm is not None:
            largest = largest.trim_by_plane((0, 0, 1), floor_mm)
        return Solid(largest.simplify(smooth_mm)).mesh()


def heron() -> Mesh:
    """Heron figurine on one thin leg, with beak, crest and plumage; 118 mm tall, on a stone."""
    s = _Sculpture((-44, -24, -4), (52, 24, 122), 0.55)
    stone = s.ellipsoid((0, 0, 0), (23, 18, 8.5))
    s.blend(stone + 0.35 * np.sin(s.x * 0.55) * np.cos(s.y * 0.5 + 1.0), 0.5)
    # Body and tail, then the wings laid over them.
    s.blend(s.ellipsoid((-3, 0, 64), (24, 10.5, 12), 24), 1.0)
    s.path([(-18, 0, 57), (-30, 0, 50), (-38, 0, 45)], [7.0, 4.5, 1.6], 4.0)
    for side in (-1.0, 1.0):
        wing = s.ellipsoid((-8, side * 8.0, 63), (24, 4.2, 9.5), 27)
        along = (s.x + 8) * 0.89 - (s.z - 63) * 0.45
        across = (s.x + 8) * 0.45 + (s.z - 63) * 0.89
        feathers = 0.55 * np.abs(np.sin(across * 0.62 + along * 0.10)) * np.clip((10 - along) / 20, 0, 1)
        s.blend(wing + feathers.astype(np.float32), 1.2)
        for k in range(4):
            a = (-18.0 - 2.0 * k, side * (8.6 - 0.7 * k), 58.0 - 2.2 * k)
            b = (-35.0 - 1.2 * k, side * (6.4 - 1.1 * k), 47.5 - 1.0 * k)
            s.blend(s.cone(a, b, 2.2, 0.8), 1.0)
    # The neck is the S of a heron at rest; the chest plumes hang free of the breast.
    neck = [(13, 0, 70), (21, 0, 77), (22.5, 0, 85), (17, 0, 92), (12.5, 0, 98), (14, 0, 105), (18, 0, 109)]
    s.path([(float(x), float(y), float(z)) for x, y, z in neck], [7.2, 5.6, 4.4, 3.8, 3.5, 3.4, 3.9], 2.5)
    s.blend(s.ellipsoid((21, 0, 110), (7.2, 4.1, 4.2), 6), 2.0)
    s.blend(s.cone((26, 0, 109.6), (48, 0, 105.5), 2.5, 0.7), 1.4)
    s.path([(17, 0, 112.6), (8, 0, 114.2), (-2, 0, 111.5), (-9, 0, 107)], [1.7, 1.4, 1.1, 0.8], 0.8)
    for k, y in enumerate((-3.6, -1.2, 1.2, 3.6)):
        tip = (20.5 + 1.4 * (k % 2), 1.35 * y, 55.5 + 2.5 * (k % 2))
        s.path([(17, 0.6 * y, 74), (20.5, y, 66), tip], [2.6, 1.7, 0.8], 0.8)
    for side in (-1.0, 1.0):
        s.blend(s.ellipsoid((23.4, side * 3.2, 111.2), (1.25, 1.1, 1.25)), 0.25)
    # One leg carries the bird, the other is drawn up.
    s.path([(-2, 1, 56), (0.5, 1.2, 46), (1.5, 1, 31), (0.5, 1, 7)], [5.0, 2.4, 1.9, 1.75], 1.5)
    s.blend(s.ellipsoid((1.4, 1, 30.5), (2.3, 2.2, 2.6)), 1.0)
    s.path([(-3, -3, 55), (3, -3.4, 46.5), (11, -3.6, 42), (4.5, -3.6, 36.5)], [4.6, 2.2, 1.7, 1.3], 1.2)
    for turn in (-38.0, 0.0, 38.0, 180.0):
        t = np.radians(turn)
        reach = 11.0 if turn != 180.0 else 7.5
        s.blend(s.cone((0.5, 1, 8.2), (0.5 + reach * np.cos(t), 1 + reach * np.sin(t), 7.4), 1.7, 1.0), 0.8)
    return s.mesh(0.015, 0.0)


def dragonfly() -> Mesh:
    """Interpretive model of a dragonfly, 900 mm across the wings: too big for every demo printer."""
    s = _Sculpture((-360, -470, -20), (330, 470, 130), 4.0)
    body = [(-340, 0, 36), (-250, 0, 44), (-120, 0, 52), (0, 0, 58), (70, 0, 62), (150, 0, 66)]
    s.path([(float(x), float(y), float(z)) for x, y, z in body], [15, 17, 20, 24, 40, 44], 18.0)
    s.carve(lambda x, y, z: np.where(x < 10, 1.6 * np.cos(x * 0.17), 0.0) + 0.0 * y + 0.0 * z)
    s.blend(s.ellipsoid((210, 0, 66), (42, 46, 40)), 10.0)
    for side in (-1.0, 1.0):
        s.blend(s.ellipsoid((228, side * 30, 78), (34, 30, 36)), 4.0)
        for x, swing, reach, broad in ((118.0, 9.0, 226.0, 60.0), (48.0, -14.0, 212.0, 74.0)):
            turn = 90.0 * side - swing * side
            t = np.radians(turn)
            middle = (x + reach * np.cos(t), reach * np.sin(t), 92.0)
            wing = s.ellipsoid(middle, (reach, broad, 13.0), 0.0, turn)
            along = (s.x - x) * np.cos(t) + s.y * np.sin(t)
            across = -(s.x - x) * np.sin(t) + s.y * np.cos(t)
            veins = 1.5 * np.abs(np.sin(across * 0.10)) + 1.5 * np.abs(np.sin(along * 0.05 + across * 0.02))
            s.blend(wing + veins.astype(np.float32), 6.0)
        for k, x in enumerate((170.0, 125.0, 80.0)):
            reach = 70.0 + 22.0 * k
            s.path(
                [
                    (x, side * 26, 40),
                    (x + 18 - 20 * k, side * reach, 24),
                    (x + 34 - 34 * k, side * (reach + 34), -8),
                ],
                [11.0, 8.5, 7.5],
                5.0,
            )
    return s.mesh(0.2, -8.0)


SHAPES: dict[str, Callable[[], Mesh]] = {
    "telescope-bracket": bracket,
    "heron-figurine": heron,
    "tide-gauge-housing": housing,
    "dragonfly": dragonfly,
}

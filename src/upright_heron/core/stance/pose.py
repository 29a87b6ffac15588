"""Poses: a turn, a lift and the rule that drops a part on the plate."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from ..errors import BadValue
from ..geometry.mesh import Mesh

Matrix = NDArray[np.float64]
AXES = {"x": 0, "y": 1, "z": 2}


@dataclass(frozen=True, slots=True)
class Placement:
    """Where a part stands: ``world = rotation @ part + offset``.

    Attributes
    ----------
    rotation : (3, 3) float64
    offset_mm : (3,) float64
    """

    rotation: Matrix
    offset_mm: NDArray[np.float64]

    def points(self, places: Sequence[tuple[float, float, float]]) -> NDArray[np.float64]:
        """Places of the part (n, 3), as they come to lie."""
        at = np.array(places, np.float64).reshape(-1, 3)
        return np.asarray(at @ self.rotation.T + self.offset_mm, np.float64)

    def back(self, place: tuple[float, float, float]) -> tuple[float, float, float]:
        """A place (x, y, z) where the part stands, in its own frame."""
        x, y, z = (self.rotation.T @ (np.array(place) - self.offset_mm)).tolist()
        return (x, y, z)

    def apply(self, mesh: Mesh) -> Mesh:
        """Return the mesh in place."""
        return mesh.transformed(self.rotation, self.offset_mm)


def on_plate(
    size_mm: Iterable[float], build_mm: Iterable[float], spot_mm: tuple[float, float]
) -> tuple[float, float]:
    """Where the middle of a part comes to lie: at a spot, or as near to it as the plate has room.

    Parameters
    ----------
    size_mm : (x, y, z) of the part in its stance
    build_mm : (x, y, z)
    spot_mm : (x, y) from the middle of the plate

    Returns
    -------
    (x, y)
    """
    room = (max(0.0, (build - float(side)) / 2) for side, build in zip(size_mm, build_mm, strict=True))
    x, y = (min(max(at, -most), most) for at, most in zip(spot_mm, room, strict=False))
    return x, y


def place(
    mesh: Mesh,
    rotation: Matrix,
    lift_mm: float = 0.0,
    *,
    centred: bool = True,
    at: Callable[[NDArray[np.float64]], tuple[float, float]] | None = None,
) -> Placement:
    """Turn a part and drop it on the plate.

    Parameters
    ----------
    mesh : Mesh
    rotation : (3, 3) float64
    lift_mm : float
        Height of the lowest point above the plate.
    centred : bool
        Put the middle of the bounding box over the middle of the plate; otherwise x and y stay.
    at : callable of (3,), or None
        From the size (3,) in this stance to where the middle goes instead, such as ``on_plate``.

    Returns
    -------
    Placement
    """
    turned = mesh.vertices @ rotation.T
    low, high = turned.min(axis=0), turned.max(axis=0)
    middle = -0.5 * (low + high) if centred else np.zeros(3)
    spot = at(high - low) if at is not None else (0.0, 0.0)
    return Placement(rotation, np.array([middle[0] + spot[0], middle[1] + spot[1], lift_mm - low[2]]))


def about_axis(axis: str, degrees: float) -> Matrix:
    """Rotation (3, 3) about a plate axis, counter-clockwise seen from its positive end.

    Raises
    ------
    BadValue
        Another axis than x, y or z.
    """
    if axis not in AXES:
        raise BadValue(f"There is no axis “{axis}”.", "Use one of: x, y, z.")
    # Quarter turns are exact, so that four of them bring a part back bit by bit.
    quarter = round(degrees / 90.0)
    if abs(degrees - 90.0 * quarter) < 1e-9:
        c, s = ((1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[quarter % 4]
    else:
        c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    i, j = {0: (1, 2), 1: (2, 0), 2: (0, 1)}[AXES[axis]]
    result = np.eye(3)
    result[i, i] = result[j, j] = c
    result[j, i], result[i, j] = s, -s
    return result


def along_x_deg(turned: NDArray[np.float64]) -> float:
    """How far to swing a part about the vertical so that its longest side, seen from above, runs along x.

    Parameters
    ----------
    turned : (n, 3) float64
        Corners in the stance.

    Returns
    -------
    float
        Degrees, between -90 and 90. The side is that of the smallest rectangle round the shadow, which lies
        along an edge of its hull: H. Freeman and R. Shapira, Communications of the ACM 18(7), 1975.
    """
    import shapely

    box = shapely.MultiPoint(turned[:, :2]).minimum_rotated_rectangle
    if box.geom_type != "Polygon":
        return 0.0
    corners = np.asarray(box.exterior.coords)
    sides = np.diff(corners, axis=0)[:2]
    x, y = sides[int(np.argmax(np.hypot(sides[:, 0], sides[:, 1])))]
    degrees = math.degrees(math.atan2(y, x))
    # Either end of the side may point to the right: take the shorter swing.
    return -((degrees + 90.0) % 180.0 - 90.0)


def standing_on(normal: NDArray[np.float64]) -> Matrix:
    """Smallest rotation (3, 3) that turns an outward direction of the part to the plate.

    Raises
    ------
    BadValue
        A direction without length.
    """
    length = float(np.linalg.norm(normal))
    if not length > 1e-12 or not np.isfinite(length):
        raise BadValue("This face has no direction to stand on.", "Pick a larger facet of the face.")
    a = normal / length
    if not a[:2].any():
        return np.eye(3) if a[2] < 0 else about_axis("x", 180.0)
    turn: Matrix = Rotation.align_vectors([0.0, 0.0, -1.0], a)[0].as_matrix()
    return turn


def to_quaternion(rotation: Matrix) -> tuple[float, float, float, float]:
    """Unit quaternion (w, x, y, z) of a rotation, with w not negative."""
    w, x, y, z = (float(v) for v in Rotation.from_matrix(rotation).as_quat(canonical=True, scalar_first=True))
    return w, x, y, z


def from_quaternion(q: tuple[float, float, float, float]) -> Matrix:
    """Rotation (3, 3) of a quaternion (w, x, y, z); it need not be of unit length.

    Raises
    ------
    BadValue
        A quaternion without length.
    """
    length = float(np.linalg.norm(q))
    if not length > 1e-12 or not np.isfinite(length):
        raise BadValue("This turn is not a rotation.", "Choose the stance again.")
    turn: Matrix = Rotation.from_quat(q, scalar_first=True).as_matrix()
    return turn

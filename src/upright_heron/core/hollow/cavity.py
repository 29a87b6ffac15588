"""The room inside a part that leaves a wall of it all round."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from manifold3d import Manifold, Mesh64
from numpy.typing import NDArray

from ..errors import BadValue
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid, bodies_of, union
from ..geometry.tree import Tree
from ..progress import Progress, silent
from ..tags import stored
from .depths import Lattice, depths, inside, lattice_of
from .sweeps import squared_steps

# The surface of a hollow is drawn with straight lines between nodes, which cut corners: so many steps deeper
# it keeps the wall that is promised.
DEEPER = 0.05
# Nodes lie so much of a step off the surface of a hollow at least: facets right at one would have no area.
OFF_NODE = 0.02
# The inner surface is thinned by so much of a step: a third of its facets go.
THINNED = 0.02
# The wall is measured at no more than so many places.
MEASURED = 30_000
# What the walls of a machine allow; thicker than that nothing is hollowed.
THINNEST_MM, THICKEST_MM = 0.4, 30.0


@dataclass(frozen=True)
class HollowSetting:
    """How a part is hollowed.

    Attributes
    ----------
    wall_mm : float
        Distance of the hollow from the surface everywhere.
    detail_mm : float
        Step of the lattice that the inner surface is drawn on; half the wall at most.
    pocket_mm3 : float
        Smaller pockets stay solid.
    width_mm : float
        Narrower than this a hollow is left solid: what is in it would stay there.
    """

    wall_mm: float = 2.0
    detail_mm: float = 0.5
    pocket_mm3: float = 50.0
    width_mm: float = 2.0

    def checked(self) -> HollowSetting:
        """Return it, or say what is wrong with it.

        Raises
        ------
        BadValue
            A size that no hollow can have.
        """
        if not THINNEST_MM <= self.wall_mm <= THICKEST_MM:
            raise BadValue(
                f"The wall has to lie between {THINNEST_MM:g} and {THICKEST_MM:g} mm.",
                "Type a wall such as 2.",
            )
        if not 0.1 <= self.detail_mm <= self.wall_mm / 2:
            raise BadValue(
                f"The detail has to lie between 0.1 mm and half the wall, {self.wall_mm / 2:g} mm.",
                "Type a detail such as 0.5.",
            )
        if not (0 <= self.pocket_mm3 <= 1e9 and 0 <= self.width_mm <= 100):
            raise BadValue("The least pocket and width cannot be below 0.", "Type sizes in mm and mm3.")
        return self


@stored("wall")
@dataclass(frozen=True, slots=True)
class Wall:
    """The wall of a hollow part as it was measured, mm, and where it is least (x, y, z)."""

    least_mm: float
    mean_mm: float
    at_mm: tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Cavity:
    """The hollow of a part.

    Attributes
    ----------
    outer : Manifold
        The part as it was, in one piece where its shells cross.
    tree : Tree
        Of that surface.
    pockets : tuple of Manifold
        Rooms that are not joined inside, the largest first.
    lattice : Lattice
    depth_mm : (nz, ny, nx) float32
        How deep nodes lie in a pocket; below 0 outside of all.
    wall : Wall
    """

    outer: Any
    tree: Tree
    pockets: tuple[Any, ...]
    lattice: Lattice
    depth_mm: NDArray[np.float32]
    wall: Wall

    @property
    def volume_mm3(self) -> float:
        """Of all pockets."""
        return float(sum(one.volume() for one in self.pockets))


def find_cavity(solid: Solid, setting: HollowSetting, progress: Progress = silent) -> Cavity:
    """Find the hollow that leaves a wall of a part.

    Parameters
    ----------
    solid : Solid
    setting : HollowSetting
    progress : Progress

    Returns
    -------
    Cavity

    Raises
    ------
    BadValue
        Nothing is as thick as two walls and the least width, or the part is too large for such a wall.

    Notes
    -----
    The wall is the true distance to the surface: exact at the nodes round it (point to facet), and straight
    between them. Where the hollow is narrower than the least width it is opened (eroded and grown again), as
    a ball of that width would go through it. Beyond some size of the part the detail gets coarser.
    """
    setting.checked()
    outer = solid.manifold
    tree = Tree.of(solid.mesh())
    if len(tree.crossings(1)):
        # Surfaces within would count as walls.
        outer = union(bodies_of(outer))
        tree = Tree.of(Solid(outer).mesh())
    lattice, shape = lattice_of(solid.bounds, setting.detail_mm)
    step = lattice.step_mm
    if step > setting.wall_mm / 2 + 1e-9:
        raise BadValue(
            f"The part is so large that its walls are measured in steps of {step:.2g} mm, too coarse for"
            f" {setting.wall_mm:g} mm.",
            f"Type a wall of {2 * step:.1f} mm or more, or cut the part and hollow its pieces.",
        )
    level = setting.wall_mm + DEEPER * step
    within = inside(Solid(outer), lattice, shape, progress)
    progress("Measuring the wall", 0, 1)
    depth = depths(within, lattice, tree, level + setting.width_mm / 2)
    depth -= np.float32(level)
    depth[~within] = -level
    _open(depth, setting.width_mm / 2, step)
    _without_crumbs(depth, max(setting.pocket_mm3 / step**3, 2.0))
    pockets = _pockets(depth, lattice)
    if not pockets:
        raise BadValue(
            f"The part is nowhere thick enough for two walls of {setting.wall_mm:g} mm and a hollow.",
            "Type a thinner wall, or leave the part solid.",
        )
    return Cavity(outer, tree, pockets, lattice, depth, wall_of(pockets, tree))


def _open(depth: NDArray[np.float32], radius_mm: float, step: float) -> None:
    """Leave out of a hollow what no ball of a radius gets into; ``depth`` (nz, ny, nx) is changed."""
    if radius_mm <= 0:
        return
    away = np.sqrt(squared_steps(depth >= radius_mm))
    away *= step
    # Corners of wide rooms stay sharp; a step of slack, for nodes of the core lie that far from its end.
    np.minimum(depth, math.sqrt(3.0) * radius_mm + step - away, out=depth)


def _without_crumbs(depth: NDArray[np.float32], least_nodes: float) -> None:
    """Leave out rooms of fewer nodes; ``depth`` (nz, ny, nx) is changed."""
    from scipy.ndimage import label

    rooms, count = label(depth > 0)
    size = np.bincount(rooms.ravel(), minlength=count + 1)
    small = size < least_nodes
    small[0] = False
    if small.any():
        depth[small[rooms]] = -1.0


def _pockets(depth: NDArray[np.float32], lattice: Lattice) -> tuple[Any, ...]:
    """Bodies of a hollow, the largest first; ``depth`` (nz, ny, nx) is changed right at its surface."""
    from skimage.measure import marching_cubes

    if not (depth > 0).any():
        return ()
    step = lattice.step_mm
    least = np.float32(OFF_NODE * step)
    near = np.abs(depth) < least
    depth[near] = np.where(depth[near] < 0, -least, least)
    corners, faces, _, _ = marching_cubes(depth, 0.0, spacing=(step,) * 3)  # type: ignore[no-untyped-call]
    places = np.ascontiguousarray(corners[:, ::-1].astype(np.float64) + lattice.low_mm)
    whole = Manifold(Mesh64(places, np.ascontiguousarray(faces.astype(np.uint64))))
    if whole.volume() < 0:
        whole = Manifold(Mesh64(places, np.ascontiguousarray(faces[:, ::-1].astype(np.uint64))))
    return tuple(bodies_of(whole.simplify(THINNED * step)))


def wall_of(pockets: tuple[Any, ...], part: Tree) -> Wall:
    """Measure the wall: exact distances from corners and middles of the inner surface to the outer one."""
    corners, middles, areas = [], [], []
    for pocket in pockets:
        surface = Solid(pocket).mesh()
        three = surface.vertices[surface.faces]
        corners.append(surface.vertices)
        middles.append(three.mean(axis=1))
        areas.append(
            0.5 * np.linalg.norm(np.cross(three[:, 1] - three[:, 0], three[:, 2] - three[:, 0]), axis=1)
        )
    at, middle, area = np.concatenate(corners), np.concatenate(middles), np.concatenate(areas)
    every = max(1, math.ceil(len(middle) / MEASURED))
    middle, area = middle[::every], area[::every]
    at = at[:: max(1, math.ceil(len(at) / MEASURED))]
    away, off = part.distances(at), part.distances(middle)
    both, distances = np.concatenate([at, middle]), np.concatenate([away, off])
    k = int(np.argmin(distances))
    x, y, z = (float(v) for v in both[k])
    return Wall(float(distances[k]), float(np.average(off, weights=area)), (x, y, z))


def shelled(cavity: Cavity) -> Any:
    """The part with its hollow, as a Manifold: the surfaces side by side, for they do not meet."""
    outer = cavity.outer.to_mesh64()
    corners, faces = [np.asarray(outer.vert_properties)[:, :3]], [np.asarray(outer.tri_verts)]
    count = len(corners[0])
    for pocket in cavity.pockets:
        shell = pocket.to_mesh64()
        corners.append(np.asarray(shell.vert_properties)[:, :3])
        faces.append(np.asarray(shell.tri_verts)[:, ::-1] + count)
        count += len(corners[-1])
    return Manifold(Mesh64(np.concatenate(corners), np.concatenate(faces).astype(np.uint64)))


def surface_of(manifold: Any) -> Mesh:
    """The surface of a Manifold."""
    return Solid(manifold).mesh()

"""The room inside a part that leaves a wall of it all round."""

from __future__ import annotations

import math
from collections.abc import Callable
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
from .filling import OPEN, Filling, LeftIn
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
    filling : Filling
        What stands in it.
    apart_mm, thick_mm : float
        How far apart ribs or struts are, and how thick.
    behind_mm : float
        So deep it stays solid behind what is painted to stay so.
    """

    wall_mm: float = 2.0
    detail_mm: float = 0.5
    pocket_mm3: float = 50.0
    width_mm: float = 2.0
    filling: Filling = Filling.NOTHING
    apart_mm: float = 12.0
    thick_mm: float = 1.5
    behind_mm: float = 8.0

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
        if not 0 <= self.behind_mm <= 1000:
            raise BadValue("What stays solid behind paint is 0 to 1,000 mm deep.", "Type a depth such as 8.")
        if self.filling is not Filling.NOTHING:
            self._checked_filling()
        return self

    def _checked_filling(self) -> None:
        # What is round loses more of its thickness to straight lines between nodes than what is flat.
        least = max(0.4, (3 if self.filling is Filling.STRUTS else 2) * self.detail_mm)
        if not least <= self.thick_mm <= 20:
            raise BadValue(
                f"With this detail {self.filling} are {least:g} to 20 mm thick.",
                "Type them thicker, or a finer detail.",
            )
        if not self.thick_mm + max(self.width_mm, 1.0) / OPEN <= self.apart_mm <= 200:
            least = self.thick_mm + max(self.width_mm, 1.0) / OPEN
            raise BadValue(
                f"Ribs and struts have to be {least:g} to 200 mm apart, so that resin runs between them.",
                "Type them further apart.",
            )


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


def find_cavity(
    solid: Solid,
    setting: HollowSetting,
    progress: Progress = silent,
    *,
    down: tuple[float, float, float] = (0.0, 0.0, -1.0),
    solid_at_mm: NDArray[np.float64] | None = None,
) -> Cavity:
    """Find the hollow that leaves a wall of a part.

    Parameters
    ----------
    solid : Solid
    setting : HollowSetting
    progress : Progress
    down : (x, y, z)
        Where the plate is, as the part stands: ribs and struts go by it.
    solid_at_mm : (k, 3) float64, optional
        Places of the surface behind which it stays solid.

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
    left = LeftIn(
        setting.filling,
        setting.apart_mm,
        setting.thick_mm,
        np.array(down, np.float64),
        np.asarray(solid.bounds.mean(axis=0), np.float64),
        np.zeros((0, 3)) if solid_at_mm is None else solid_at_mm,
        setting.behind_mm,
    )
    least = max(setting.pocket_mm3 / step**3, 2.0)
    beside: list[NDArray[np.float32]] = []
    if len(left.solid_at_mm):
        beside.append(left.painted_field(depth, lattice))
        np.minimum(depth, beside[-1], out=depth)
    _open(depth, setting.width_mm / 2, step)
    if setting.filling is not Filling.NOTHING:
        progress(f"Leaving {setting.filling} inside", 0, 1)
        beside.append(left.filling_field(depth, lattice, least))
        np.minimum(depth, beside[-1], out=depth)
    _without_crumbs(depth, least)
    pockets = _pockets(depth, lattice)
    if not pockets:
        raise BadValue(
            f"The part is nowhere thick enough for two walls of {setting.wall_mm:g} mm and a hollow.",
            "Type a thinner wall, or leave the part solid.",
        )

    def of_wall(places: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Which places (n, 3) of the inner surface lie at the wall, not at what was left inside."""
        at = np.rint((places - lattice.low_mm) / step).astype(np.int64)[:, ::-1]
        found = np.ones(len(places), np.bool_)
        for field in beside:
            found &= field[tuple(np.clip(at, 0, np.array(field.shape) - 1).T)] > step
        return found

    return Cavity(outer, tree, pockets, lattice, depth, wall_of(pockets, tree, of_wall if beside else None))


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


def wall_of(
    pockets: tuple[Any, ...],
    part: Tree,
    of_wall: Callable[[NDArray[np.float64]], NDArray[np.bool_]] | None = None,
) -> Wall:
    """Measure the wall: exact distances from corners and middles of the inner surface to the outer one.

    Parameters
    ----------
    pockets : tuple of Manifold
    part : Tree
        Of the outer surface.
    of_wall : callable from (n, 3) to (n,), optional
        Which places of the inner surface are of the wall; all are where it is not given.
    """
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
    if of_wall is not None and (mine := of_wall(middle)).any():
        off, area = off[mine], area[mine]
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

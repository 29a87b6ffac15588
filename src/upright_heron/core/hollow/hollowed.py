"""A part hollowed and drained: the surface, and all that is told of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import BadValue
from ..geometry.frames import frame
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid, concatenated
from ..geometry.tree import Tree
from ..progress import Progress, silent
from ..tags import stored
from .cavity import Cavity, HollowSetting, Wall, find_cavity, shelled
from .drains import Drain, drain, drilled, inward
from .trapped import Basin

# Holes that are proposed at most, and what may stay in: a few drops of the lattice.
MOST_HOLES, STAYS_MM3 = 12, 1.0
# A hole that goes straight up or down meets the surface at an angle with at least this sine.
STEEP = 0.3
# The way straight down is taken unless another is shorter than this share of it.
STRAIGHT = 0.7
# Ways out of a hollow that are tried: leaning by so much from straight down, in so many directions.
LEANS_DEG, AROUND = (30.0, 60.0, 90.0), 8


@dataclass(frozen=True)
class Hole:
    """A hole that is pointed at: a place (x, y, z) on the surface, its width, and how much it narrows.

    It goes square to the surface, or ``upright``: straight up or down as the part stands.
    """

    at_mm: tuple[float, float, float]
    diameter_mm: float
    taper_deg: float = 0.0
    upright: bool = False


@stored("hollowed")
@dataclass(frozen=True, eq=False)
class Hollowed:
    """A hollow part.

    Attributes
    ----------
    mesh : Mesh
        Its surface, with the inner one and the holes.
    wall : Wall
        Measured before holes were drilled.
    cavity_mm3 : float
        What was taken out, holes aside.
    pockets : int
        Rooms that are not joined inside.
    drains : tuple of Drain
    sealed_mm3 : float
        Of rooms that no hole opens.
    standing_mm3, hanging_mm3 : float
        What stays in where the part drains as it stands, or hanging from its plate.
    detail_mm : float
        Step of the lattice in fact.
    """

    mesh: Mesh
    wall: Wall
    cavity_mm3: float
    pockets: int
    drains: tuple[Drain, ...]
    sealed_mm3: float
    standing_mm3: float
    hanging_mm3: float
    detail_mm: float


def hollow_out(
    solid: Solid,
    setting: HollowSetting,
    holes: Sequence[Hole] = (),
    *,
    proposed_mm: float | None = None,
    down: tuple[float, float, float] = (0.0, 0.0, -1.0),
    solid_at_mm: NDArray[np.float64] | None = None,
    progress: Progress = silent,
) -> Hollowed:
    """Hollow a part and drill its holes.

    Parameters
    ----------
    solid : Solid
    setting : HollowSetting
    holes : sequence of Hole
        That were pointed at.
    proposed_mm : float, optional
        Holes of this width are added where they are wanting: see ``propose``.
    down : (x, y, z)
        Where the plate is, as the part stands.
    solid_at_mm : (k, 3) float64, optional
        Places of the surface behind which it stays solid.
    progress : Progress

    Returns
    -------
    Hollowed

    Raises
    ------
    BadValue
        Sizes that no hollow or hole can have, no room for a hollow, or none behind a hole.
    """
    cavity = find_cavity(solid, setting, progress, down=down, solid_at_mm=solid_at_mm)
    inner = hollow_tree(cavity)
    below = np.array(down, np.float64) / np.linalg.norm(down)
    drains = tuple(_pointed(cavity, inner, one, below) for one in holes)
    basin = Basin(cavity)
    if proposed_mm is not None:
        drains += propose(cavity, inner, basin, drains, proposed_mm, below)
    stands, hangs = basin.trapped(drains, below), basin.trapped(drains, -below)
    body = drilled(shelled(cavity), drains, cavity.tree, inner)
    return Hollowed(
        Solid(body).mesh(), cavity.wall, cavity.volume_mm3, len(cavity.pockets), drains, stands.sealed_mm3,
        stands.volume_mm3, hangs.volume_mm3, cavity.lattice.step_mm,
    )  # fmt: skip


def hollow_tree(cavity: Cavity) -> Tree:
    """The surface of a hollow, to look at it."""
    return Tree.of(concatenated([Solid(pocket).mesh() for pocket in cavity.pockets]))


def _pointed(cavity: Cavity, inner: Tree, hole: Hole, down: NDArray[np.float64]) -> Drain:
    """A hole that was pointed at, square to the surface there or straight up or down."""
    at = np.array(hole.at_mm, np.float64)
    into = inward(cavity.tree, at)
    if hole.upright:
        across = float(into @ down)
        if abs(across) < STEEP:
            raise BadValue(
                "The surface stands upright there: no hole goes straight up or down into it.",
                "Point at an underside or a top, or let the hole go square to the surface.",
            )
        into = down if across > 0 else -down
    found = drain(inner, at, into, hole.diameter_mm, taper_deg=hole.taper_deg)
    if found is None:
        x, y, z = hole.at_mm
        raise BadValue(
            f"There is no hollow behind {x:.1f}, {y:.1f}, {z:.1f} mm.",
            "Point at a place of the surface with a hollow behind it.",
        )
    return found


def propose(
    cavity: Cavity,
    inner: Tree,
    basin: Basin,
    there: tuple[Drain, ...],
    diameter_mm: float,
    down: NDArray[np.float64],
) -> tuple[Drain, ...]:
    """Propose holes: where resin runs to and where air comes in.

    Parameters
    ----------
    cavity : Cavity
    inner : Tree
        Of the hollow.
    basin : Basin
    there : tuple of Drain
        Holes that are there already.
    diameter_mm : float
    down : (3,) float64

    Returns
    -------
    tuple of Drain
        One at the lowest place of the largest pool until no more than ``STAYS_MM3`` stays in, and one for
        air at the highest place of each room: one hole alone lets no air in (common practice).
    """
    found: list[Drain] = []
    while len(found) < MOST_HOLES:
        left = basin.trapped((*there, *found), down)
        if left.lowest_mm is None or left.volume_mm3 <= STAYS_MM3:
            break
        way = _way_out(cavity, inner, np.array(left.lowest_mm), down, diameter_mm)
        if way is None:
            break
        found.append(way)
    for pocket in cavity.pockets:
        place = _end(Solid(pocket).mesh().vertices, -down, cavity.lattice.step_mm)
        if not _is_open(place, (*there, *found), diameter_mm):
            way = _way_out(cavity, inner, place, -down, diameter_mm, vent=True)
            found += [] if way is None else [way]
    return tuple(found)


def _end(corners: NDArray[np.float64], way: NDArray[np.float64], step: float) -> NDArray[np.float64]:
    """The place (3,) of corners (n, 3) that lies furthest one way, in the middle where many do."""
    far = corners @ way
    most = corners[far >= far.max() - 0.3 * step]
    return np.asarray(most[np.argmin(((most - most.mean(axis=0)) ** 2).sum(axis=1))], np.float64)


def _is_open(place: NDArray[np.float64], drains: Sequence[Drain], diameter_mm: float) -> bool:
    """Whether a hole opens right beside a place."""
    return any(math.dist(place, one.inner_mm) < diameter_mm for one in drains)


def _way_out(
    cavity: Cavity,
    inner: Tree,
    place: NDArray[np.float64],
    way: NDArray[np.float64],
    diameter_mm: float,
    *,
    vent: bool = False,
) -> Drain | None:
    """A hole from a place of the hollow to the surface: straight one way, or where the wall is thinner.

    ``None`` where each way back misses the hollow: the place may be no more than its corner.
    """
    side, over, _ = frame(way)
    turn = 2 * np.pi * np.arange(AROUND)[:, None] / AROUND
    round_it = np.cos(turn) * side + np.sin(turn) * over
    leans = np.radians(LEANS_DEG)
    tried = np.concatenate([way[None], *(np.cos(lean) * way + np.sin(lean) * round_it for lean in leans)])
    far, _ = cavity.tree.first_hits(np.tile(place, (len(tried), 1)), tried)
    for k in np.argsort(np.where(np.arange(len(far)) == 0, STRAIGHT * far, far), kind="stable").tolist():
        if np.isfinite(far[k]):
            found = drain(inner, place + far[k] * tried[k], -tried[k], diameter_mm, vent=vent)
            if found is not None:
                return found
    return None

"""Where the defects of a surface are, grouped as an eye would: one hole, one torn region, one thin wall."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..geometry.mesh import Mesh
from ..geometry.tree import Tree
from ..tags import stored
from .defects import MOST_CROSSINGS, Health, examine, thickness_mm

# Places that are listed of one kind; the counts are of all.
MOST_PLACES = 200
# Facets that are drawn of one place.
MOST_FACETS = 4000
# Walls are measured at every facet of a part with up to so many, and at as many of a larger one.
MOST_MEASURED = 400_000

KINDS = ("open", "crowded", "flipped", "duplicate", "flat", "inside", "crossing", "thin")


@stored("place")
@dataclass(frozen=True, eq=False)
class Place:
    """One defect.

    Attributes
    ----------
    kind : str
        One of ``KINDS``.
    words : str
        What it is, in a few words.
    at_mm : (x, y, z)
        Its middle, in the frame of the part.
    facing : (x, y, z)
        Direction to look at it from, of unit length; zero where there is none.
    lines : (k, 2, 3) float32
        Edges to draw.
    facets : (k, 3, 3) float32
        Facets to draw.
    """

    kind: str
    words: str
    at_mm: tuple[float, float, float]
    facing: tuple[float, float, float]
    lines: NDArray[np.float32]
    facets: NDArray[np.float32]


@stored("report")
@dataclass(frozen=True, eq=False)
class Report:
    """Health of a part for the sheet.

    Attributes
    ----------
    found : tuple of (str, int)
        The pairs of ``Health.counts``.
    thin_facets : int
        Facets over a wall thinner than asked.
    thin_every : int
        Of so many facets one was measured, and all those round a thin one.
    thin_mm : float
    closed : bool
        As it is read back from a file: no open and no crowded edge, and one direction.
    sound : bool
        Closed, and free of crossings.
    left : str
        What keeps it from being sound, in words.
    places : tuple of Place
    """

    found: tuple[tuple[str, int], ...]
    thin_facets: int
    thin_every: int
    thin_mm: float
    closed: bool
    sound: bool
    left: str
    places: tuple[Place, ...]

    @property
    def counts(self) -> dict[str, int]:
        """How many of each defect, and how many bodies."""
        return dict(self.found)

    @property
    def capped(self) -> bool:
        """There may be more crossings than were looked for."""
        return self.counts["self_crossings"] >= MOST_CROSSINGS

    @property
    def defects(self) -> int:
        """All defects together; bodies and thin walls are none."""
        return sum(n for name, n in self.found if name != "bodies")


def report(mesh: Mesh, thin_mm: float, crossings: NDArray[np.int64] | None = None) -> Report:
    """Examine a part and list where its defects are.

    Parameters
    ----------
    mesh : Mesh
    thin_mm : float
        Walls thinner than this are listed; a machine cannot make them.
    crossings : (k, 2) int64, optional
        Pairs of facets that pass through each other, where they are known.

    Returns
    -------
    Report
    """
    health = examine(mesh, crossings)
    places = _places(mesh, health)
    thin, every = thin_walls(mesh, thin_mm)
    places += _regions(mesh, thin, "thin", f"wall under {thin_mm:g} mm")
    verdict = health.verdict
    return Report(
        tuple(health.counts.items()),
        len(thin),
        every,
        thin_mm,
        verdict.closed,
        verdict.sound,
        verdict.left,
        tuple(places),
    )


def thin_walls(mesh: Mesh, thin_mm: float, most: int = MOST_MEASURED) -> tuple[NDArray[np.int64], int]:
    """Facets (k,) over walls thinner than ``thin_mm``, and of how many facets one was measured.

    Rays through all facets of a very large part would take longer than the rest of its report: of such a part
    every so many facets are measured, and then all those that share a corner with a thin one, and so on.
    """
    every = max(1, -(-len(mesh.faces) // most))
    tree = Tree.of(mesh)
    measured = np.zeros(len(mesh.faces), bool)
    thin = np.zeros(len(mesh.faces), bool)
    asked = np.arange(0, len(mesh.faces), every)
    while len(asked):
        measured[asked] = True
        found = asked[thickness_mm(mesh, tree, asked) < thin_mm]
        thin[found] = True
        if every == 1 or measured.sum() > 2 * most:
            break
        touched = np.zeros(len(mesh.vertices), bool)
        touched[mesh.faces[found]] = True
        asked = np.flatnonzero(touched[mesh.faces].any(axis=1) & ~measured)
    return np.flatnonzero(thin), every


def _places(mesh: Mesh, health: Health) -> list[Place]:
    found: list[Place] = []
    for loop in sorted(health.holes, key=len, reverse=True)[:MOST_PLACES]:
        ring = mesh.vertices[loop]
        lines = np.stack([ring, np.roll(ring, -1, axis=0)], axis=1)
        found += [_place("open", f"hole of {len(loop)} edges", lines=lines)]
    found += [
        _place("crowded", "edge of three facets or more", lines=mesh.vertices[ends][None])
        for ends in health.crowded_edges[:MOST_PLACES]
    ]
    found += _regions(mesh, health.flipped, "flipped", "facing inwards")
    found += _regions(mesh, health.duplicates, "duplicate", "there twice")
    found += _regions(mesh, health.flat, "flat", "without area")
    for body in health.inside[:MOST_PLACES]:
        facets = mesh.vertices[mesh.faces[health.body == body]]
        found.append(_place("inside", "body inside another", facets=facets))
    seen: set[int] = set()
    for pair in health.crossings.tolist():
        # A crease of crossings is long: facets already shown are not shown again.
        if len(seen) < 2 * MOST_PLACES and not seen.issuperset(pair):
            seen.update(pair)
            found.append(
                _place("crossing", "facets through each other", facets=mesh.vertices[mesh.faces[pair]])
            )
    return found


def _regions(mesh: Mesh, facets: NDArray[np.int64], kind: str, words: str) -> list[Place]:
    """Group facets that share a corner, the largest groups first."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    if not len(facets):
        return []
    corners = mesh.faces[facets]
    rows = np.repeat(np.arange(len(facets)), 3)
    n = len(facets) + len(mesh.vertices)
    graph = coo_matrix((np.ones(len(rows)), (rows, len(facets) + corners.ravel())), (n, n))
    _, label = connected_components(graph, directed=False)
    label = label[: len(facets)]
    names, sizes = np.unique(label, return_counts=True)
    found = []
    for name, size in sorted(zip(names.tolist(), sizes.tolist(), strict=True), key=lambda e: -e[1])[
        :MOST_PLACES
    ]:
        members = facets[label == name]
        plural = "facet" if size == 1 else "facets"
        found.append(_place(kind, f"{size} {plural} {words}", facets=mesh.vertices[mesh.faces[members]]))
    return found


def _place(
    kind: str,
    words: str,
    *,
    lines: NDArray[np.float64] | None = None,
    facets: NDArray[np.float64] | None = None,
) -> Place:
    line = np.zeros((0, 2, 3)) if lines is None else lines
    facet = np.zeros((0, 3, 3)) if facets is None else facets
    points = np.concatenate([line.reshape(-1, 3), facet.reshape(-1, 3)])
    middle = 0.5 * (points.min(axis=0) + points.max(axis=0))
    # Newell's sum over the loop of a hole, which runs as its lid would; the areas of facets otherwise.
    normal = np.cross(line[:, 0] - middle, line[:, 1] - middle).sum(axis=0) if len(line) else np.zeros(3)
    if len(facet):
        normal = np.cross(facet[:, 1] - facet[:, 0], facet[:, 2] - facet[:, 0]).sum(axis=0)
    if kind == "flipped":
        normal = -normal
    length = float(np.linalg.norm(normal))
    x, y, z = (normal / length).tolist() if length > 0 else (0.0, 0.0, 0.0)
    return Place(
        kind,
        words,
        (float(middle[0]), float(middle[1]), float(middle[2])),
        (x, y, z),
        line[:MOST_FACETS].astype(np.float32),
        facet[:MOST_FACETS].astype(np.float32),
    )

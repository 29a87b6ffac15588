"""A mesh of what was read, and what was done to it on the way in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import BadCoordinates, BadFile, EmptyFile, NoExtent
from ..geometry.mesh import Mesh, edges, mass_properties, weld
from ..geometry.solid import concatenated
from .contents import EXPORT_AGAIN, Body


@dataclass(frozen=True, slots=True)
class Reading:
    """A mesh read from a file, and what was done to it on the way in.

    Attributes
    ----------
    mesh : Mesh
    dropped : int
        Facets left out because two of their corners are the same point.
    turned : bool
        The whole closed surface faced inwards and was turned outwards.
    marks : (m,) uint8 or None
        What is painted on each facet, where the file says so.
    """

    mesh: Mesh
    dropped: int
    turned: bool
    marks: NDArray[np.uint8] | None = None


def finish(corners: NDArray[np.float32]) -> Reading:
    """Make a mesh of the corners of facets.

    Parameters
    ----------
    corners : (m, 3, 3) float32, mm

    Returns
    -------
    Reading

    Raises
    ------
    EmptyFile
        No facets.
    BadCoordinates
        NaN or infinite coordinates.
    NoExtent
        All facets fall on one line or point.
    """
    if not len(corners):
        raise EmptyFile("The file has no facets.", EXPORT_AGAIN)
    bad = ~np.isfinite(corners).all(axis=(1, 2))
    if bad.any():
        first = int(np.argmax(bad))
        raise BadCoordinates(
            f"{int(bad.sum())} of {len(corners)} facets have coordinates that are not numbers"
            f" (the first is facet {first + 1}).",
            EXPORT_AGAIN,
        )
    mesh = weld(corners)
    if not len(mesh.faces) or int((mesh.size_mm > 0).sum()) < 2:
        raise NoExtent(
            "The part has no size: all its facets fall on one line or point.",
            "Check the unit and the scale it was exported with.",
        )
    dropped = len(corners) - len(mesh.faces)
    turned = edges(mesh).closed and mass_properties(mesh).volume_mm3 < 0
    if turned:
        mesh = Mesh(mesh.vertices, mesh.faces[:, ::-1])
    return Reading(mesh, dropped, turned)


@dataclass(frozen=True, slots=True)
class Apart:
    """Bodies of a file in one mesh, corners of different bodies apart also where they touch.

    Attributes
    ----------
    mesh : Mesh
    ends : tuple of int
        Facets of the mesh up to the last of each body.
    names : tuple of str
    """

    mesh: Mesh
    ends: tuple[int, ...]
    names: tuple[str, ...]


def kept_apart(bodies: Sequence[Body]) -> Apart | None:
    """Make meshes of the bodies of a file, each by itself.

    Parameters
    ----------
    bodies : sequence of Body

    Returns
    -------
    Apart or None
        Without bodies that have no size; ``None`` where fewer than two are left.
    """
    meshes, names = [], []
    for body in bodies:
        try:
            meshes.append(finish(body.corners).mesh)
        except BadFile:
            continue  # what is said of the file as a whole is said of all its bodies together
        names.append(body.name)
    if len(meshes) < 2:
        return None
    ends = np.cumsum([len(mesh.faces) for mesh in meshes]).tolist()
    return Apart(concatenated(meshes), tuple(ends), tuple(names))

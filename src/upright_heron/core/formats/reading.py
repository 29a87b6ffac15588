"""What readers of files give: bodies in millimetres, and what was done to them on the way in."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..errors import BadCoordinates, EmptyFile, NoExtent
from ..geometry.mesh import Mesh, edges, mass_properties, weld

EXPORT_AGAIN = "Export it again from the program it came from."

# Millimetres of the units that files state. The inch is 25.4 mm exactly (international yard and pound, 1959).
MM_OF = {
    "micron": 0.001,
    "millimeter": 1.0,
    "centimeter": 10.0,
    "inch": 25.4,
    "foot": 304.8,
    "meter": 1000.0,
}


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


@dataclass(frozen=True, slots=True)
class Body:
    """One named body of a file.

    Attributes
    ----------
    name : str
    corners : (m, 3, 3) float32
        Of its facets, mm.
    marks : (m,) uint8 or None
        Of its facets.
    support : bool
        The file says that it is a support of the others.
    """

    name: str
    corners: NDArray[np.float32]
    marks: NDArray[np.uint8] | None = None
    support: bool = False


@dataclass(frozen=True, slots=True)
class Contents:
    """What a file holds.

    Attributes
    ----------
    format : str
        Such as ``STL`` or ``3MF``.
    unit : str or None
        The unit that the file states, of ``MM_OF``; without one, its numbers were taken for millimetres.
    bodies : tuple of Body
    """

    format: str
    unit: str | None
    bodies: tuple[Body, ...]

    @property
    def parts(self) -> tuple[Body, ...]:
        """The bodies of the part: all but its supports, unless there is nothing else."""
        return tuple(body for body in self.bodies if not body.support) or self.bodies

    @property
    def supports(self) -> tuple[Body, ...]:
        """What the file holds of supports for the part."""
        every = all(body.support for body in self.bodies)
        return () if every else tuple(body for body in self.bodies if body.support)

    def whole(self) -> Reading:
        """All bodies of the part together as one mesh.

        Raises
        ------
        EmptyFile, BadCoordinates, NoExtent
        """
        kept = [body for body in self.parts if len(body.corners)]
        whole = finish(
            np.concatenate([body.corners for body in kept]) if kept else np.zeros((0, 3, 3), np.float32)
        )
        if all(body.marks is None for body in kept):
            return whole
        corners = np.concatenate([body.corners for body in kept])
        marks = np.concatenate(
            [np.zeros(len(b.corners), np.uint8) if b.marks is None else b.marks for b in kept]
        )
        # Facets with two equal corners were left out.
        same = [(corners[:, k] == corners[:, k - 1]).all(axis=1) for k in range(3)]
        return replace(whole, marks=marks[~(same[0] | same[1] | same[2])])


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

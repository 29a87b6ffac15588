"""What readers of files give: named bodies in millimetres. Quick to load: each file has its own process."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from .reading import Reading

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
        # What makes meshes is loaded only by those who make one: whoever reads a file need not.
        from .reading import finish

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

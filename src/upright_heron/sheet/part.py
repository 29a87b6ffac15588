"""A part as it came in: its surface with the facts that never change, its size, what is painted on it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import Field

from ..core.units import OFFERED
from .document import Digest, Document, Vector

# A file with more bodies than this is taken for one that tells none apart.
MOST_BODIES = 50


class PaintedMarks(Document):
    """What is painted on a part: the bytes are kept apart, under their digest.

    ``demand`` and ``show`` are digests of what supports and what stances depend on: a stroke for one leaves
    the results of the other as they are.
    """

    digest: Digest
    of: Digest
    prop_mm2: float = 0.0
    clear_mm2: float = 0.0
    show_mm2: float = 0.0
    solid_mm2: float = 0.0
    # Painted area that could not be carried when the part was sized or mended.
    lost_mm2: float = 0.0
    demand: str = ""
    show: str = ""


class Brought(Document):
    """Supports that the file of a part holds beside it, in its frame and unit: kept apart, as a mesh."""

    mesh: Digest
    count: int


class BodiesApart(Document):
    """Bodies of a file, in its frame and unit: one mesh, whose corners are not shared where they touch.

    ``ends`` counts the facets up to the last of each body; ``at_mm`` is a place on each, aside of the others.
    """

    mesh: Digest
    ends: Annotated[tuple[int, ...], Field(min_length=2, max_length=MOST_BODIES)]
    names: tuple[Annotated[str, Field(max_length=60)], ...]
    at_mm: tuple[Vector, ...]
    # A piece of a cut has them too, and is a bit of them only.
    whole: bool = True


class Part(Document):
    """A surface with the facts that never change."""

    file_name: str = Field(max_length=200)
    mesh: Digest
    facets: int
    size_mm: Vector
    volume_mm3: float
    area_mm2: float
    closed: bool
    shells: int
    open_edges: int = 0
    # Of the file as it came; and why the surface is not closed, where it is not.
    notes: tuple[str, ...] = ()
    opened: str = ""
    format: str = "STL"
    # The unit that the file stated, and what one of its numbers was taken for.
    stated_unit: str | None = None
    mm_per_number: float = 1.0
    # What the file came painted with.
    painted: PaintedMarks | None = None
    # Supports that came with it.
    brought: Brought | None = None
    # Bodies that the file tells apart, where there are several.
    bodies: BodiesApart | None = None


Share = Annotated[float, Field(gt=0, le=1e4, allow_inf_nan=False)]
Shrinkage = Annotated[float, Field(ge=-20, le=20, allow_inf_nan=False)]


class Size(Document):
    """How the part is sized, along its own axes as it came: unit, scale, mirror, shrinkage correction."""

    unit: Literal["", "mm", "cm", "inch", "m"] = ""
    scale: tuple[Share, Share, Share] = (1.0, 1.0, 1.0)
    mirror: tuple[bool, bool, bool] = (False, False, False)
    shrinkage_percent: tuple[Shrinkage, Shrinkage, Shrinkage] = (0.0, 0.0, 0.0)

    @property
    def unit_factor(self) -> float:
        """Millimetres of the unit chosen for a file that states none."""
        return OFFERED[self.unit] if self.unit else 1.0

    @property
    def factors(self) -> Vector:
        """What x, y and z are multiplied with."""
        x, y, z = (
            self.unit_factor * scale * (-1.0 if mirrored else 1.0) * (1.0 + shrinkage / 100.0)
            for scale, mirrored, shrinkage in zip(
                self.scale, self.mirror, self.shrinkage_percent, strict=True
            )
        )
        return (x, y, z)

    def scaled(self, percent: float) -> Size:
        """Return the size with all axes at a percentage of how the part came."""
        return self._with(scale=(percent / 100,) * 3)

    def mirrored(self, axis: str) -> Size:
        """Return the size with an axis mirrored, or back again."""
        return self._with(mirror=tuple(m != (a == axis) for a, m in zip("xyz", self.mirror, strict=True)))

    def reset(self) -> Size:
        """Return the size the part came with; a unit that was chosen stays."""
        return Size(unit=self.unit)

    def nominal_mm(self, sides_mm: Vector) -> Vector:
        """Sides of a part once it is printed: before shrinkage is corrected for."""
        x, y, z = (side * self.unit_factor * scale for side, scale in zip(sides_mm, self.scale, strict=True))
        return (x, y, z)

    def aimed(self, sides_mm: Vector, target_mm: Sequence[float | None], together: bool) -> Size:
        """Return the size that gives the part some of its sides.

        Parameters
        ----------
        sides_mm : (x, y, z)
            Of the part before sizing.
        target_mm : three of float or None
            Sides wanted of the printed part: shrinkage correction comes on top.
        together : bool
            All sides follow the first that is wanted.
        """
        wanted = [
            None if target is None or side <= 0 else target / (side * self.unit_factor)
            for side, target in zip(sides_mm, target_mm, strict=True)
        ]
        lead = next(((i, w) for i, w in enumerate(wanted) if w is not None), None)
        if lead is None:
            return self
        if together:
            ratio = lead[1] / self.scale[lead[0]]
            return self._with(scale=tuple(old * ratio for old in self.scale))
        return self._with(
            scale=tuple(old if w is None else w for old, w in zip(self.scale, wanted, strict=True))
        )

    def _with(self, **fields: object) -> Size:
        return Size.model_validate({**self.model_dump(), **fields})

    @property
    def plain(self) -> bool:
        """Nothing but the unit was chosen."""
        return self == self.reset()

    @property
    def untouched(self) -> bool:
        """The part has the size it came with."""
        return self.factors == (1.0, 1.0, 1.0)

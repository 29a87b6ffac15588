"""How an item is hollowed, and what came of it."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from ..core.footing.under_drains import Mouths
from ..core.hollow.cavity import HollowSetting
from ..core.hollow.drains import LEAST_MM, MOST_MM, MOST_TAPER_DEG
from ..core.hollow.filling import Filling
from ..core.hollow.hollowed import Hole
from .document import Document, Length, Vector

# So many holes can be pointed at.
MOST_POINTED = 40
Wide = Annotated[float, Field(ge=LEAST_MM, le=MOST_MM)]


class PointedHole(Document):
    """A hole that was pointed at, on the surface of the part as it is sized."""

    at_mm: Vector
    diameter_mm: Wide
    taper_deg: Annotated[float, Field(ge=0, le=MOST_TAPER_DEG)] = 0.0
    # Straight up or down, not square to the surface.
    upright: bool = False


class DrilledHole(Document):
    """A hole as it was drilled: pointed at, or proposed."""

    at_mm: Vector
    inner_mm: Vector
    diameter_mm: float
    inner_diameter_mm: float
    vent: bool = False


class Hollowing(Document):
    """How a part is hollowed; behind that what came of it, all of one result."""

    wall_mm: Length = 2.0
    detail_mm: Length = 0.5
    width_mm: Length = 2.0
    pocket_mm3: Annotated[float, Field(ge=0, le=1e9)] = 50.0
    # What stands inside, how far apart and how thick; and how deep it stays solid behind paint.
    filling: Filling = Filling.NOTHING
    apart_mm: Length = 12.0
    thick_mm: Length = 1.5
    behind_mm: Length = 8.0
    holes: Annotated[tuple[PointedHole, ...], Field(max_length=MOST_POINTED)] = ()
    # Width of holes that are added where they are wanting; none are where it is not given.
    proposed_mm: Wide | None = 3.0
    # Where down was, in the frame of the part.
    down: Vector = (0.0, 0.0, -1.0)
    drilled: tuple[DrilledHole, ...] = ()
    wall_least_mm: float = 0.0
    wall_mean_mm: float = 0.0
    wall_least_at_mm: Vector = (0.0, 0.0, 0.0)
    cavity_mm3: float = 0.0
    pockets: int = 0
    # Step of the lattice in fact: coarser than the detail where the part is very large.
    step_mm: float = 0.0
    sealed_mm3: float = 0.0
    standing_mm3: float = 0.0
    hanging_mm3: float = 0.0
    # Painted area that it stayed solid behind.
    solid_mm2: float = 0.0

    def setting(self) -> HollowSetting:
        """Return it as the core takes it.

        Raises
        ------
        BadValue
            A size that no hollow can have.
        """
        return HollowSetting(
            self.wall_mm,
            self.detail_mm,
            self.pocket_mm3,
            self.width_mm,
            self.filling,
            self.apart_mm,
            self.thick_mm,
            self.behind_mm,
        ).checked()

    def mouths(self) -> Mouths | None:
        """Holes as they were drilled; none where there are none."""
        if not self.drilled:
            return None
        outer, inner = (tuple(getattr(one, name) for one in self.drilled) for name in ("at_mm", "inner_mm"))
        return Mouths(outer, inner, tuple(one.diameter_mm for one in self.drilled))

    def pointed(self) -> list[Hole]:
        """Holes that were pointed at, as the core takes them."""
        return [Hole(one.at_mm, one.diameter_mm, one.taper_deg, one.upright) for one in self.holes]

    def sized(self, factors: Vector) -> Hollowing:
        """Return it for a part that is sized by factors: holes go along, walls stay as thick."""
        x, y, z = factors
        moved = tuple(
            one.model_copy(update={"at_mm": (one.at_mm[0] * x, one.at_mm[1] * y, one.at_mm[2] * z)})
            for one in self.holes
        )
        return self.model_copy(update={"holes": moved})

"""Changes of the stance: which way up, how high, and what stances are searched by."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ...core.errors import BadValue
from ...core.stance.names import COMPASS, is_leaning, lean, name_of
from ...core.stance.pose import about_axis, from_quaternion, standing_on, to_quaternion
from ...core.stance.proposals import USUAL_LIFT_MM
from ..document import Length, Quaternion, Vector
from ..item import Stance, StanceGoals
from ..models import ItemSheet
from .base import Change, altered

Degrees = Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)]


def _standing(
    sheet: ItemSheet, turned: NDArray[np.float64], name: str = "", *, by_hand: bool = False
) -> ItemSheet:
    """The sheet with the part turned; a resin part that is leaned by hand is lifted, unless it is already."""
    name = name or name_of(turned)
    lift = sheet.stance.lift_mm
    if by_hand and sheet.is_resin and lift == 0 and is_leaning(turned):
        lift = USUAL_LIFT_MM
    return altered(sheet, stance=Stance(quaternion=to_quaternion(turned), lift_mm=lift, name=name))


def _direction(normal: Vector | None) -> Vector | None:
    if normal is None:
        return None
    length = float(np.linalg.norm(normal))
    if not length > 1e-9 or not np.isfinite(length):
        raise BadValue("This face has no direction.", "Pick a larger facet of the face.")
    x, y, z = (float(v) / length for v in normal)
    return x, y, z


class StandOn(Change):
    """Stand the part on a face, given by its outward direction in the part as it came."""

    kind: Literal["stand"] = "stand"
    normal: Vector

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        turned = standing_on(np.asarray(self.normal, np.float64))
        return _standing(sheet, turned)

    def label(self, sheet: ItemSheet) -> str:
        return "Stand on a picked face"


class ChooseStance(Change):
    """Take a stance: a proposed one, or one that was turned by hand and is named by what is down."""

    kind: Literal["stance"] = "stance"
    quaternion: Quaternion
    name: str = Field(default="", max_length=80)
    # As it is, or as it was for a stance that is leaned by hand, without.
    lift_mm: Annotated[Length, Field(ge=0, le=100)] | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        turned = from_quaternion(self.quaternion)
        stood = _standing(sheet, turned, self.name, by_hand=not self.name)
        if self.lift_mm is None:
            return stood
        return altered(stood, stance=stood.stance.model_copy(update={"lift_mm": self.lift_mm}))

    def label(self, sheet: ItemSheet) -> str:
        return f"Stance: {self.name or name_of(from_quaternion(self.quaternion))}"


class Turn(Change):
    """Turn the part by degrees about axes of the plate: first x, then y, then z."""

    kind: Literal["turn"] = "turn"
    x_deg: Degrees = 0.0
    y_deg: Degrees = 0.0
    z_deg: Degrees = 0.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        turn = about_axis("z", self.z_deg) @ about_axis("y", self.y_deg) @ about_axis("x", self.x_deg)
        turned = turn @ from_quaternion(sheet.stance.quaternion)
        return _standing(sheet, turned, by_hand=True)

    def label(self, sheet: ItemSheet) -> str:
        turns = [
            f"{d:g}° about {n}" for n, d in (("x", self.x_deg), ("y", self.y_deg), ("z", self.z_deg)) if d
        ]
        return "Turn " + ", ".join(turns) if turns else "Turn by nothing"


class Lean(Change):
    """Lean the part by an angle towards a direction of the plate, from the way it stands."""

    kind: Literal["lean"] = "lean"
    degrees: Annotated[float, Field(ge=0, le=180, allow_inf_nan=False)]
    towards: Literal["right", "back right", "back", "back left", "left", "front left", "front", "front right"]

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        turned = lean(
            from_quaternion(sheet.stance.quaternion), self.degrees, 45.0 * COMPASS.index(self.towards)
        )
        return _standing(sheet, turned, by_hand=True)

    def label(self, sheet: ItemSheet) -> str:
        return f"Lean {self.degrees:g}° {self.towards}"


class LayLong(Change):
    """Swing the part about the vertical so that its longest side runs along x."""

    kind: Literal["lay-long"] = "lay-long"
    degrees: Degrees

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        turned = about_axis("z", self.degrees) @ from_quaternion(sheet.stance.quaternion)
        return _standing(sheet, turned, sheet.stance.name)

    def label(self, sheet: ItemSheet) -> str:
        return "Longest side along x"


class FindStances(StanceGoals, Change):
    """Search for stances by weights of the goals."""

    kind: Literal["find"] = "find"

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, goals=StanceGoals(**self.model_dump(exclude={"kind"})))

    def label(self, sheet: ItemSheet) -> str:
        return "Find stances"


class SetShow(Change):
    """Say which side must stay clean, by a direction of the part; without one, none."""

    kind: Literal["show"] = "show"
    normal: Vector | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, show=_direction(self.normal))

    def label(self, sheet: ItemSheet) -> str:
        return "Show side" if self.normal else "No show side"


class SetLoad(Change):
    """Say where the main load on the part points, in the frame of the part; without one, none."""

    kind: Literal["load"] = "load"
    normal: Vector | None = None

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, load=_direction(self.normal))

    def label(self, sheet: ItemSheet) -> str:
        return "Main load" if self.normal else "No load"


class SetLift(Change):
    """Lift the part above the plate."""

    kind: Literal["lift"] = "lift"
    lift_mm: Length

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(sheet, stance=Stance(**{**sheet.stance.model_dump(), "lift_mm": self.lift_mm}))

    def label(self, sheet: ItemSheet) -> str:
        return f"Lift {self.lift_mm:g} mm"

"""How items stand on plates: what is decided for all of them, and for each."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from .document import Document, ItemId, Length


class Turning(StrEnum):
    """How an item may be swung when plates are arranged."""

    NONE = "none"
    QUARTERS = "quarters"
    FREELY = "freely"


class Plating(Document):
    """How plates are arranged: clear distances in mm, how items may be swung, and by outlines or boxes.

    ``in_turn``: one item is printed after the other, each to its top (filament). ``by_due``: what is due
    first goes onto the first plates.
    """

    gap_mm: Annotated[Length, Field(ge=0, le=100)] = 3.0
    edge_mm: Annotated[Length, Field(ge=0, le=100)] = 0.0
    turning: Turning = Turning.QUARTERS
    boxes: bool = False
    in_turn: bool = False
    by_due: bool = False


class Instance(Document):
    """An item on a plate: where it was put (mm from the middle; arranged where not given), swing and copy.

    What is locked of its place stays when plates are arranged. Those of a plate with one tie, from 1, stay as
    they are to each other.
    """

    item: ItemId
    x_mm: Annotated[Length, Field(ge=-5000, le=5000)] | None = None
    y_mm: Annotated[Length, Field(ge=-5000, le=5000)] | None = None
    swing_deg: Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)] = 0.0
    copy_number: Annotated[int, Field(ge=1, le=1000)] = 1
    lock_x: bool = False
    lock_y: bool = False
    lock_swing: bool = False
    tie: Annotated[int, Field(ge=0, le=10_000)] = 0

    @property
    def locked(self) -> bool:
        """Whether anything of its place stays."""
        return self.lock_x or self.lock_y or self.lock_swing


class Plate(Document):
    """What is printed at once on the printer of the job."""

    instances: tuple[Instance, ...] = ()

"""The pieces of a cut item that are items: what each is like, and what the whole set takes."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING

from ....core.handoff.preflight import Weight
from ....core.recipes.values import Brief
from ....core.split.pieces import Split
from ....sheet.item import Item, Stance
from ....sheet.models import JobSheet

if TYPE_CHECKING:
    from collections.abc import Mapping


class PieceState(StrEnum):
    """How far a piece is."""

    TO_STAND = "to stand"
    WORKING = "being made"
    FAULTS = "in the way"
    TO_LOOK = "to look at"
    READY = "ready"


@dataclass(frozen=True, slots=True)
class PieceLine:
    """A piece that is an item.

    Attributes
    ----------
    number : int
        Of the item in the job, from 1.
    piece : int
        Of the piece in its cut; 0 where the cut has it no more.
    item : Item
    plate : int
        That it stands on, from 1.
    brief : Brief or None
        ``None`` while it is being made.
    joints : int
        That it has part in.
    """

    number: int
    piece: int
    item: Item
    plate: int
    brief: Brief | None
    joints: int

    @property
    def state(self) -> PieceState:
        """How far it is."""
        if self.item.goals is None and self.item.stance == Stance():
            return PieceState.TO_STAND
        if self.brief is None:
            return PieceState.WORKING
        if any(check.weight is Weight.WRONG for check in self.brief.checks):
            return PieceState.FAULTS
        return PieceState.TO_LOOK if self.brief.todo else PieceState.READY


@dataclass(frozen=True, slots=True)
class Takes:
    """What a whole set takes.

    Attributes
    ----------
    lines : list of PieceLine
    join_minutes : float
        By hand, for all joints.
    joints : int
    """

    lines: list[PieceLine]
    join_minutes: float
    joints: int

    @property
    def briefs(self) -> list[Brief]:
        """Those that are known."""
        return [line.brief for line in self.lines if line.brief is not None]

    @property
    def whole(self) -> bool:
        """Whether all of them are known."""
        return len(self.briefs) == len(self.lines)

    @property
    def plates(self) -> int:
        """On how many plates they stand."""
        return len({line.plate for line in self.lines})

    @property
    def seconds(self) -> float:
        """Of printing, one after the other."""
        return sum(one.seconds for one in self.briefs)

    @property
    def mass_g(self) -> float:
        """With supports and footing."""
        return sum(one.mass_g for one in self.briefs)

    @property
    def cost(self) -> float:
        """Of the material."""
        return sum(one.cost for one in self.briefs)

    @property
    def longest(self) -> PieceLine | None:
        """The piece that takes longest: what one failed print loses."""
        known = [line for line in self.lines if line.brief is not None]
        return max(known, key=lambda line: line.brief.seconds if line.brief else 0.0, default=None)

    @property
    def states(self) -> dict[PieceState, int]:
        """How many pieces are in each state that any is in."""
        every = [line.state for line in self.lines]
        return {state: every.count(state) for state in PieceState if state in every}


def takes(
    job: JobSheet, whole: str, made: Split | None, briefs: Mapping[str, Brief | None], join_minutes: float
) -> Takes:
    """Put together what the pieces of an item take.

    Parameters
    ----------
    job : JobSheet
    whole : str
        Id of the item that is cut.
    made : Split or None
        Its pieces, where they are known.
    briefs : mapping of str to Brief or None
        By the id of the item.
    join_minutes : float
        Of one joint.
    """
    numbers = {} if made is None else {piece.path: piece.number for piece in made.pieces}
    joints = () if made is None else made.joints
    lines = []
    for number, item in enumerate(job.items, 1):
        if item.piece is None or item.piece.item != whole:
            continue
        piece = numbers.get(item.piece.path, 0)
        mine = sum(piece in joint.between for joint in joints)
        lines.append(PieceLine(number, piece, item, job.plate_of(item.id) + 1, briefs.get(item.id), mine))
    return Takes(lines, join_minutes * len(joints), len(joints))


def as_csv(found: Takes) -> str:
    """The set as a table: a line a piece, and one for all."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(
        ["piece", "item", "path", "size_x_mm", "size_y_mm", "size_z_mm", "volume_mm3", "stance", "plate",
         "joints", "supports", "state", "hours", "grams", "price"]
    )  # fmt: skip
    for line in found.lines:
        part, brief = line.item.part, line.brief
        made = ["", "", ""] if brief is None else _figures(brief.seconds, brief.mass_g, brief.cost)
        path = line.item.piece.path if line.item.piece is not None else ""
        table.writerow(
            [line.piece or "", line.number, path, *(f"{v:.3f}" for v in part.size_mm),
             f"{part.volume_mm3:.1f}", line.item.stance.name, line.plate, line.joints,
             brief.supports if brief is not None else "", line.state.value, *made]
        )  # fmt: skip
    table.writerow(
        ["all", len(found.lines), "", "", "", "", "", "", found.plates, found.joints, "", "",
         *_figures(found.seconds, found.mass_g, found.cost)]
    )  # fmt: skip
    table.writerow(["joining", "", "", "", "", "", "", "", "", "", "", "", f"{found.join_minutes / 60:.2f}"])
    return out.getvalue()


def _figures(seconds: float, mass_g: float, cost: float) -> Sequence[str]:
    return f"{seconds / 3600:.2f}", f"{mass_g:.1f}", f"{cost:.2f}"

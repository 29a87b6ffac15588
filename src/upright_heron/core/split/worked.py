"""A piece while its joints are made: what they do to it is put together once, at the end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from manifold3d import Manifold, OpType

from .cuts import Bound

# What a body may have outside of another by rounding, mm3.
NOISE_MM3 = 1e-3


@dataclass(frozen=True, eq=False)
class Change:
    """What one joint does to a piece.

    Attributes
    ----------
    stands : tuple of Manifold
        Put to it.
    sunk : tuple of Manifold
        Cut out of it for what stands in it,
    letters : tuple of Manifold
        and for numbers.
    locks : tuple of Manifold
        Of a lap or dovetail: what stands in the other piece and what is cut there, for both pieces alike.
    added_mm3, removed_mm3 : float
        In all.
    """

    stands: tuple[Any, ...] = ()
    sunk: tuple[Any, ...] = ()
    letters: tuple[Any, ...] = ()
    locks: tuple[Any, ...] = ()
    added_mm3: float = 0.0
    removed_mm3: float = 0.0


class Worked:
    """A piece of a cut part, and the joints that are in it so far.

    Parameters
    ----------
    plain : Manifold
        As it was cut.
    bounds : list of Bound
        Planes that bound it.
    """

    def __init__(self, plain: Any, bounds: list[Bound]) -> None:
        self.plain, self.bounds = plain, bounds
        self.changes: list[Change] = []
        # Numbers of the joints, in their order: two pieces with the same ones are the same.
        self.serials: list[int] = []

    def take(self, change: Change, serial: int) -> None:
        """Note what a joint does to it."""
        self.changes.append(change)
        self.serials.append(serial)

    @property
    def sunk(self) -> list[Any]:
        """All that joints cut out of it."""
        return [one for change in self.changes for one in change.sunk]

    def left_of(self, body: Any) -> Any:
        """A body less what joints cut out of this piece where it lies."""
        near = [one for one in self.sunk if meet(body, one)]
        return Manifold.batch_boolean([body, *near], OpType.Subtract) if near else body

    def holds(self, room: Any) -> bool:
        """Whether a body lies all in its material."""
        if float((room - self.plain).volume()) > NOISE_MM3:
            return False
        return not any(meet(room, one) and float((room ^ one).volume()) > NOISE_MM3 for one in self.sunk)

    def locked_by(self, shapes: Sequence[Any]) -> bool:
        """Whether one of some bodies would meet a lap or dovetail of this piece."""
        return any(
            meet(one, two) and float((one ^ two).volume()) > NOISE_MM3
            for change in self.changes
            for two in change.locks
            for one in shapes
        )

    def falls_apart(self, more: Sequence[Any]) -> bool:
        """Whether more of it cut out would leave several bodies, each large enough to be one."""
        left = Manifold.batch_boolean([self.plain, *self.sunk, *more], OpType.Subtract)
        return sum(float(one.volume()) > NOISE_MM3 for one in left.decompose()) > 1

    def body(self) -> Any:
        """The piece with all its joints: everything at once, which is much faster than one after another."""
        stands = [one for change in self.changes for one in change.stands]
        gone = [one for change in self.changes for one in (*change.sunk, *change.letters)]
        body = Manifold.batch_boolean([self.plain, *stands], OpType.Add) if stands else self.plain
        body = Manifold.batch_boolean([body, *gone], OpType.Subtract) if gone else body
        # As one thing: else facets come in the order in which joints were thought of first.
        return body.as_original() if stands or gone else body


def meet(one: Any, other: Any) -> bool:
    """Whether the boxes of two bodies meet."""
    return boxes_meet(one.bounding_box(), other.bounding_box())


def boxes_meet(one: Sequence[float], other: Sequence[float]) -> bool:
    """Whether two boxes meet, each by its lowest and highest corner."""
    return all(one[k] <= other[k + 3] and one[k + 3] >= other[k] for k in range(3))

"""Outlines that are tied together: arranged as one body, and moved and swung as one."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from manifold3d import CrossSection, OpType

from .nesting import Laid
from .outline import NOTHING, Outline, of_plan


@dataclass(frozen=True, slots=True)
class Pose:
    """Where an outline lies: its origin, mm, and its swing, degrees counter-clockwise."""

    x_mm: float
    y_mm: float
    swing_deg: float

    def carried(self, old: Pose, new: Pose) -> Pose:
        """Where this goes when what is tied to it goes from one pose to another."""
        turned = new.swing_deg - old.swing_deg
        angle = math.radians(turned)
        cos, sin = math.cos(angle), math.sin(angle)
        x, y = self.x_mm - old.x_mm, self.y_mm - old.y_mm
        swing = self.swing_deg + turned
        # As it is typed: within half a turn to both sides.
        swing = math.remainder(swing, 360.0) if abs(swing) > 180.0 else swing
        return Pose(new.x_mm + cos * x - sin * y, new.y_mm + sin * x + cos * y, swing)


@dataclass(frozen=True, slots=True)
class Body:
    """What is arranged as one.

    Attributes
    ----------
    members : tuple of int
        Numbers of what belongs to it; its origin is that of the first.
    poses : tuple of Pose
        Where they lie, from its origin; a body of one lies at it as it is.
    """

    members: tuple[int, ...]
    poses: tuple[Pose, ...]

    @property
    def alone(self) -> bool:
        """Whether it is a single one."""
        return len(self.members) == 1

    def laid(self, where: Laid) -> list[Laid]:
        """Where its members lie once it is laid somewhere."""
        if self.alone:
            return [Laid(self.members[0], where.plate, where.x_mm, where.y_mm, where.swing_deg)]
        at = Pose(where.x_mm, where.y_mm, where.swing_deg)
        moved = [pose.carried(Pose(0.0, 0.0, 0.0), at) for pose in self.poses]
        return [
            Laid(number, where.plate, pose.x_mm, pose.y_mm, pose.swing_deg)
            for number, pose in zip(self.members, moved, strict=True)
        ]


def bodies(poses: Sequence[Pose], ties: Sequence[Sequence[int]]) -> list[Body]:
    """What is arranged as one: what is tied together, and each of the rest by itself.

    Parameters
    ----------
    poses : sequence of Pose
        Of all that is to be laid; of what is not tied they do not count.
    ties : sequence of sequence of int
        Numbers of what is tied together; none in two of them.

    Returns
    -------
    list of Body
        In the order of their first members.
    """
    tied = {numbers[0]: tuple(numbers) for numbers in ties}
    others = {number for numbers in ties for number in numbers[1:]}
    found = []
    for k in range(len(poses)):
        if k in others:
            continue
        members = tied.get(k, (k,))
        x, y = poses[k].x_mm, poses[k].y_mm
        own = tuple(Pose(poses[n].x_mm - x, poses[n].y_mm - y, poses[n].swing_deg) for n in members)
        found.append(Body(members, own if len(members) > 1 else (Pose(0.0, 0.0, 0.0),)))
    return found


def together(outlines: Sequence[Outline], poses: Sequence[Pose]) -> Outline:
    """Outlines that are tied together as one; nothing where one of them is."""
    if any(not len(one.points) for one in outlines):
        return NOTHING
    plans = [
        one.turned(pose.swing_deg).translate([pose.x_mm, pose.y_mm])
        for one, pose in zip(outlines, poses, strict=True)
    ]
    return of_plan(CrossSection.batch_boolean(plans, OpType.Add), max(one.high_mm for one in outlines))

"""Which way up a piece of a cut part prints best: on a joint face, never on its pegs."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..stance.names import name_of
from ..stance.proposals import Found, Proposal
from .cuts import Vector
from .pieces import Split
from .sizes import turn_that_fits

# A stance stands on a face, or on pegs, when it points that way within so many degrees.
FLAT_DEG, PEGS_DEG = 1.0, 30.0
# A joint face is flat and hides what it was printed on: worth so many points of the board (common practice:
# cut faces go on the plate). One with sockets rather than none, for their mouths come out of the plate clean.
FACE_POINTS, SOCKET_POINTS = 15.0, 3.0


@dataclass(frozen=True, slots=True)
class Outward:
    """What of a piece points outward, in the part as it was cut.

    Attributes
    ----------
    faces : tuple of (x, y, z)
        Directions of its joint faces.
    sockets : tuple of (x, y, z)
        Those of them with sockets or plain.
    pegs : tuple of (x, y, z)
        Directions in which pegs stand out.
    """

    faces: tuple[Vector, ...]
    sockets: tuple[Vector, ...]
    pegs: tuple[Vector, ...]


def outward(made: Split, number: int) -> Outward:
    """Tell what of a piece of a cut, by its number, points outward."""
    faces: list[Vector] = []
    sockets: list[Vector] = []
    pegs: list[Vector] = []
    for joint in made.joints:
        if number not in joint.between:
            continue
        x, y, z = joint.direction
        bears = joint.between[0] == number
        # The second piece is drawn off along the direction: the face of the first looks that way.
        face = (x, y, z) if bears else (-x, -y, -z)
        faces.append(face)
        if bears and joint.stands_out:
            pegs.append(face)
        else:
            sockets.append(face)
    return Outward(tuple(faces), tuple(sockets), tuple(pegs))


def stance_of(
    found: Found, made: Split, number: int, build_mm: Vector, *, on_face: bool = True
) -> tuple[NDArray[np.float64], str, float | None] | None:
    """Turn (3, 3) in which a piece of a cut, by its number, is best printed, its name and its lift.

    The lift, mm, is ``None`` where the board weighs none: on filament machines.

    Where no stance of the board fits the machine, the piece is turned so that it does: long pieces fit some
    machines only aslant. ``None`` where the board is empty. ``on_face`` as for ``best_stance``.
    """
    best = best_stance(found, outward(made, number), on_face=on_face)
    if best is None:
        return None
    piece = next((one for one in made.pieces if one.number == number), None)
    aslant = None if best.fits or piece is None else turn_that_fits(piece.mesh.vertices, build_mm)
    lift = best.lift_mm if best.other is not None else None
    return (best.rotation, best.name, lift) if aslant is None else (aslant, name_of(aslant), lift)


def best_stance(found: Found, sides: Outward, *, on_face: bool = True) -> Proposal | None:
    """Pick a stance of the board for a piece.

    Parameters
    ----------
    found : Found
        The board of the piece.
    sides : Outward
    on_face : bool
        Joint faces go on the plate where that is about as good; or else the goals of the board decide alone.

    Returns
    -------
    Proposal or None
        The best by the points of the board and ``FACE_POINTS`` for lying on a joint face, of those that fit
        the machine if any does; none in which the piece stands on its pegs, unless there is no other.
    """
    fitting = [one for one in found.proposals if one.fits] or list(found.proposals)
    steady = [one for one in fitting if not _along(one, sides.pegs, PEGS_DEG)] or fitting
    return max(steady, key=lambda one: _points(one, sides) if on_face else one.score, default=None)


def _points(one: Proposal, sides: Outward) -> float:
    if _along(one, sides.sockets, FLAT_DEG):
        return one.score + FACE_POINTS + SOCKET_POINTS
    return one.score + (FACE_POINTS if _along(one, sides.faces, FLAT_DEG) else 0.0)


def _along(one: Proposal, directions: Sequence[Vector], within_deg: float) -> bool:
    if not directions:
        return False
    most = float((np.asarray(directions) @ one.down).max())
    return most >= math.cos(math.radians(within_deg))

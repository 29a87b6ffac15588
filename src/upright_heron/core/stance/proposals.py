"""What a search for stances is asked and what it proposes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..tags import stored
from .figures import STANDS_MM2, Figures

# Room for stilts below a resin part (common practice).
USUAL_LIFT_MM = 5.0
# What lies flat does not tip over before so many degrees.
FLAT_DEG = 10.0
GOALS = ("less_support", "shorter_print", "clean_show", "better_surface", "firm", "smaller_layers")


@dataclass(frozen=True, slots=True)
class Goals:
    """Weights of the goals, 0 to 5 each; what is 0 does not count."""

    less_support: float = 3.0
    shorter_print: float = 1.0
    clean_show: float = 1.0
    better_surface: float = 1.0
    firm: float = 4.0
    smaller_layers: float = 0.0

    def weights(self) -> NDArray[np.float64]:
        """(6,) float64 in the order of ``GOALS``, summing to 1; all equal when none was set."""
        found = np.array([float(getattr(self, name)) for name in GOALS])
        total = float(found.sum())
        return np.asarray(found / total if total > 0 else np.full(len(GOALS), 1.0 / len(GOALS)), np.float64)


def lies_flat(found: Figures) -> bool:
    """Whether a part can lie on the plate as it stands, by its figures there."""
    return found.contact_area_mm2 >= STANDS_MM2 and found.tip_angle_deg >= FLAT_DEG


@stored("other-lift")
@dataclass(frozen=True, slots=True)
class OtherLift:
    """A stance lifted where it is proposed flat on the plate, or the other way about.

    Attributes
    ----------
    lift_mm : float
    score : float
        From 0 to 100, as that of the proposal.
    stands : bool
        Whether it stands so: flat it needs a face to lie on.
    overhang_area_mm2, contact_area_mm2, height_mm, seconds : float
    """

    lift_mm: float
    score: float
    stands: bool
    overhang_area_mm2: float
    contact_area_mm2: float
    height_mm: float
    seconds: float


@stored("proposal", version=2, upcasters={1: lambda old: {**old, "lift_mm": 0.0, "other": None}})
@dataclass(frozen=True, eq=False)
class Proposal:
    """One stance that is proposed.

    Attributes
    ----------
    letter : str
    name : str
    rotation : (3, 3) float64
    figures : Figures or None
        Exact; ``None`` while only weighed.
    score : float
        From 0 to 100, larger is better.
    costs : tuple of float
        Cost of each goal, 0 the best of all candidates and 1 the worst.
    fits : bool
    resting : bool
        It rests on a face of its own.
    front : bool
        No other candidate is as good in every goal and better in one.
    overhang_area_mm2, support_volume_mm3, contact_area_mm2, height_mm : float
        Weighed, or exact once ``figures`` are there.
    lift_mm : float
        That it is proposed with.
    other : OtherLift or None
        What comes of it lifted where it is proposed flat, or the other way about (resin).
    """

    letter: str
    name: str
    rotation: NDArray[np.float64]
    figures: Figures | None
    score: float
    costs: tuple[float, ...]
    fits: bool
    resting: bool
    front: bool
    overhang_area_mm2: float
    support_volume_mm3: float
    contact_area_mm2: float
    height_mm: float
    lift_mm: float = 0.0
    other: OtherLift | None = None

    @property
    def down(self) -> NDArray[np.float64]:
        """(3,) float64: the direction of the part that points to the plate."""
        return np.asarray(-self.rotation[2], np.float64)


@stored("found")
@dataclass(frozen=True, eq=False)
class Found:
    """Result of a search.

    Attributes
    ----------
    proposals : tuple of Proposal
        Best first; the stance the part came in is among them.
    weighed : int
        Candidates that were weighed.
    fitting : int
        How many of them fit the machine.
    exact : bool
        The proposals carry exact figures.
    """

    proposals: tuple[Proposal, ...]
    weighed: int
    fitting: int
    exact: bool

"""What a search for stances is asked and what it proposes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..tags import stored
from .figures import Figures

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


@stored("proposal")
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

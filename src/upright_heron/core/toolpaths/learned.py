"""What finished prints say of times: a factor of the machine, with its spread."""

from __future__ import annotations

import statistics
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Factor:
    """What times of a machine are really, against what they are told.

    Attributes
    ----------
    value : float
        Median over finished prints: a single print that was stopped or waited for does not count for much.
    spread : float
        Standard deviation; nought of a single print.
    prints : int
    """

    value: float
    spread: float
    prints: int


def factor(ratios: tuple[float, ...]) -> Factor | None:
    """Learn the factor of a machine; ``None`` where no print was compared.

    Parameters
    ----------
    ratios : tuple of float
        Real time of each finished print over what was told.
    """
    if not ratios:
        return None
    return Factor(
        statistics.median(ratios), statistics.stdev(ratios) if len(ratios) > 1 else 0.0, len(ratios)
    )

"""How plans of cuts compare for what counts: points from 0 to 100."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from .plan_figures import PlanFigures
from .planner import Plan


@dataclass(frozen=True)
class PlanGoals:
    """What counts in a plan, each from 0 to 5.

    Attributes
    ----------
    fewer_pieces : float
        Slivers count twice more.
    less_support : float
    clean_show : float
        Less seam on the show side, and what there is along creases; on the whole surface without one.
    shorter_print : float
        Of the longest piece: what one failure loses.
    even_pieces : float
    """

    fewer_pieces: float = 3.0
    less_support: float = 1.0
    clean_show: float = 2.0
    shorter_print: float = 1.0
    even_pieces: float = 0.0


def plan_points(
    plans: Sequence[Plan],
    figures: Mapping[str, PlanFigures],
    longest_s: Mapping[str, float],
    goals: PlanGoals,
) -> dict[str, float]:
    """Rate plans against each other.

    Parameters
    ----------
    plans : sequence of Plan
    figures : mapping
        By the name of the plan; a goal for which one is missing does not count.
    longest_s : mapping
        Seconds of the longest piece, by the name of the plan.
    goals : PlanGoals

    Returns
    -------
    dict of str to float
        100 for a plan that is best in all that counts, 0 for one that is worst in all.
    """
    total, weights = np.zeros(len(plans)), 0.0
    rows: list[tuple[float, list[float | None]]] = [
        (goals.fewer_pieces, [plan.score for plan in plans]),
        (goals.less_support, [f.support_mm3 if f else None for f in map(figures.get, _names(plans))]),
        (goals.clean_show, [_seen(f) if f else None for f in map(figures.get, _names(plans))]),
        (goals.shorter_print, [longest_s.get(name) for name in _names(plans)]),
        (goals.even_pieces, [-plan.balance for plan in plans]),
    ]
    for weight, told in rows:
        values = [v for v in told if v is not None]
        if weight <= 0 or len(values) < len(plans):
            continue
        costs = np.asarray(values, float)
        span = float(np.ptp(costs)) if len(costs) else 0.0
        total += weight * ((costs - costs.min()) / span if span > 0 else 0.0)
        weights += weight
    if weights == 0:
        return dict.fromkeys(_names(plans), 100.0)
    return {name: 100.0 * (1.0 - cost / weights) for name, cost in zip(_names(plans), total, strict=True)}


def _names(plans: Sequence[Plan]) -> list[str]:
    return [plan.name for plan in plans]


def _seen(figures: PlanFigures) -> float:
    """Seam that is seen, mm: none of it where it runs along creases."""
    length = figures.seam_mm if figures.show_mm is None else figures.show_mm
    return length * (1.0 - figures.crease_share)

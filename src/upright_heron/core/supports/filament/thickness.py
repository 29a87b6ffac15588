"""How thick branches are: from what they carry and how far they run, with one sturdiness for all of it."""

from __future__ import annotations

from dataclasses import dataclass

# A branch at its tip, and the thickest trunk, mm (common practice).
TIP_MM, MOST_MM = 1.2, 8.0
# A branch is nowhere longer, from its tip down, than so many times its thickness there: with half as much
# again it shakes (common practice).
SLENDERNESS = 1000.0 / 24.0
# Sturdier than this trunks have three lines around instead of two, and sturdier still some fill, in percent.
THREE_WALLS, FILLED = 150.0, 200.0
FILL = 0.15


@dataclass(frozen=True, slots=True)
class Thickness:
    """What thickness comes to; see ``SupportSettings`` for the names."""

    branch_mm: float
    trunk_mm: float
    taper_mm: float
    walls: int
    fill: float


def thickness(sturdiness_percent: float) -> Thickness:
    """Work out how thick branches are.

    Parameters
    ----------
    sturdiness_percent : float
        100 is usual; twice that is twice as thick everywhere.

    Returns
    -------
    Thickness

    Notes
    -----
    A branch of thickness d at its tip that has run a length l and carries n tips is as thick as the larger of
    d + l / slenderness and d n^0.45: cross-sections nearly add where branches meet, as in a real tree
    (a rule of L. da Vinci's, from memory); the numbers are common practice.
    """
    share = sturdiness_percent / 100.0
    return Thickness(
        branch_mm=TIP_MM * share,
        trunk_mm=MOST_MM * share,
        taper_mm=10.0 * share / SLENDERNESS,
        walls=3 if sturdiness_percent >= THREE_WALLS else 2,
        fill=FILL if sturdiness_percent >= FILLED else 0.0,
    )

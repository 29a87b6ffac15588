"""Preflight: what is wrong or doubtful before hand-off, each with its mend."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from .fit import Fit
from .machines import Technology


class Weight(StrEnum):
    """How much a finding matters."""

    WRONG = "wrong"
    DOUBTFUL = "doubtful"


@dataclass(frozen=True, slots=True)
class Finding:
    """One line of the list.

    Attributes
    ----------
    weight : Weight
    text : str
        What is so.
    mend : str
        What to do about it.
    section : int
        Section of the job sheet where it is mended.
    part : int or None
        Index of the part it is about, where there are several.
    """

    weight: Weight
    text: str
    mend: str
    section: int
    part: int | None = None


def preflight(
    *,
    closed: bool,
    fit: Fit,
    is_split: bool,
    technology: Technology,
    contact_area_mm2: float | None,
    lifted: bool,
    islands: int | None,
    overhang_area_mm2: float | None,
    has_supports: bool,
    unheld_islands: int,
    has_footing: bool,
) -> list[Finding]:
    """List what is wrong or doubtful; ``None`` stands for what is not known yet.

    Parameters
    ----------
    closed : bool
    fit : Fit
        Of the whole part in its stance.
    is_split : bool
        It has been cut into pieces that fit.
    technology : Technology
    contact_area_mm2 : float or None
    lifted : bool
    islands : int or None
    overhang_area_mm2 : float or None
    has_supports : bool
    unheld_islands : int
    has_footing : bool

    Returns
    -------
    list of Finding
        What is wrong first.
    """
    found: list[Finding] = []

    def note(weight: Weight, text: str, mend: str, section: int) -> None:
        found.append(Finding(weight, text, mend, section))

    if not closed:
        note(
            Weight.DOUBTFUL,
            "The surface is open.",
            "Layers are drawn as far as they close; export a closed part to be sure.",
            1,
        )
    if not fit.fits and not is_split:
        side, over = fit.over[0]
        mend = (
            "Turn it: another stance would fit."
            if fit.turned
            else "Cut it into pieces, or pick a larger printer."
        )
        note(Weight.WRONG, f"Too long by {over:.1f} mm along {side}.", mend, 3)
    if is_split:
        note(
            Weight.DOUBTFUL,
            "The part is cut; its pieces have no stance and supports of their own yet.",
            "Make a job of each piece.",
            3,
        )
        return found
    if islands and not has_supports:
        things = "1 island starts" if islands == 1 else f"{islands} islands start"
        note(Weight.WRONG, f"{things} in mid-air.", "Make supports, or choose another stance.", 6)
    elif unheld_islands:
        things = "1 island is" if unheld_islands == 1 else f"{unheld_islands} islands are"
        note(Weight.WRONG, f"{things} still not held.", "Turn the part, or make room below.", 6)
    elif overhang_area_mm2 is not None and overhang_area_mm2 > 25.0 and not has_supports:
        note(
            Weight.DOUBTFUL,
            f"{overhang_area_mm2:.0f} mm² hang past the limit without support.",
            "Make supports, or check that the machine holds this slope.",
            6,
        )
    if (
        contact_area_mm2 is not None
        and not lifted
        and contact_area_mm2 < 20.0
        and not has_footing
        and technology is Technology.FILAMENT
    ):
        note(
            Weight.DOUBTFUL,
            f"Only {contact_area_mm2:.1f} mm² lie on the plate.",
            "Add a brim or a raft, or stand it on another face.",
            7,
        )
    if lifted and not has_supports:
        note(
            Weight.WRONG,
            "The part is lifted and nothing stands under it.",
            "Make supports, or set the lift to 0.",
            4,
        )
    return sorted(found, key=lambda finding: finding.weight is not Weight.WRONG)

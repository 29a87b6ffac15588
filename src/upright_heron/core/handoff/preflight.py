"""Preflight: what is wrong or doubtful before hand-off, each with its mend."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from ..hanging.findings import Family, Finding, State
from ..machines.catalogue import Technology
from ..plates.fit import Fit
from ..supports.model import Fault


class Weight(StrEnum):
    """How much a finding matters."""

    WRONG = "wrong"
    DOUBTFUL = "doubtful"


# Less overhang than this in all is left to the machine.
LEAST_OVERHANG_MM2 = 25.0


@dataclass(frozen=True, slots=True)
class Check:
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
    findings: Sequence[Finding] | None,
    has_supports: bool,
    has_footing: bool,
    faults: Sequence[Fault] = (),
    trapped: int = 0,
) -> list[Check]:
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
    findings : sequence of Finding or None
    has_supports : bool
    has_footing : bool
    faults : sequence of Fault
        What the check of the supports found.
    trapped : int
        Supports that cannot be got out.

    Returns
    -------
    list of Check
        What is wrong first.
    """
    found: list[Check] = []

    def note(weight: Weight, text: str, mend: str, section: int) -> None:
        found.append(Check(weight, text, mend, section))

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
    found.extend(_open(findings or (), has_supports=has_supports))
    found.extend(_supports(faults, trapped))
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


def _supports(faults: Sequence[Fault], trapped: int) -> list[Check]:
    """What is wrong with the supports themselves; what they leave without is among the findings."""
    found = []
    for kinds, words, weight in (
        (("crosses the part", "too near"), "run into the part or what is kept clear", Weight.WRONG),
        (("floats",), "begin in mid-air", Weight.WRONG),
        (("slender",), "are too slender", Weight.DOUBTFUL),
    ):
        count = sum(fault.kind in kinds for fault in faults)
        if count:
            text = f"Supports {words} at {count} place{'s' if count > 1 else ''}."
            found.append(Check(weight, text, "Look at each under Check in section 6.", 6))
    if trapped:
        text = f"{trapped} support{'s' if trapped > 1 else ''} cannot be got out."
        mend = "Keep the channel clear, or take them out, in section 6."
        found.append(Check(Weight.DOUBTFUL, text, mend, 6))
    return found


def _open(findings: Sequence[Finding], *, has_supports: bool) -> list[Check]:
    """What is still to do in the list of findings."""
    todo = [f for f in findings if f.state is State.TODO]
    found = []
    islands = [f for f in todo if f.family is Family.ISLAND]
    regions = [f for f in todo if f.family is Family.OVERHANG]
    rest = [f for f in todo if f.family not in (Family.ISLAND, Family.OVERHANG)]
    if islands:
        many = len(islands) > 1
        things = f"{len(islands)} islands" if many else "1 island"
        if has_supports:
            text, mend = f"{things} {'are' if many else 'is'} still not held.", "Look at each in section 5."
        else:
            text = f"{things} {'start' if many else 'starts'} in mid-air."
            mend = "Make supports, or choose another stance."
        found.append(Check(Weight.WRONG, text, mend, 5 if has_supports else 6))
    area = sum(f.area_mm2 for f in regions)
    if area > LEAST_OVERHANG_MM2:
        long = sum(f.kind == "bridge" for f in regions)
        bridges = f", {long} of them as bridges that are too long" if long else ""
        things = "1 overhang is" if len(regions) == 1 else f"{len(regions)} overhangs are"
        mend = "Make supports, or check that the machine holds this slope."
        if has_supports:
            mend = "Look at each in section 5."
        text = f"{things} not held: {area:.0f} mm²{bridges}."
        found.append(Check(Weight.DOUBTFUL, text, mend, 5 if has_supports else 6))
    if rest:
        names = [(f.value, sum(g.family is f for g in rest)) for f in Family]
        words = ", ".join(f"{n} {name}{'s' if n > 1 else ''}" for name, n in names if n)
        mend = "Look at each in section 5; accept it, or turn the part."
        found.append(Check(Weight.DOUBTFUL, f"In the layers: {words}.", mend, 5))
    return found

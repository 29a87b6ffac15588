"""Preflight: what is wrong or doubtful before hand-off, each with its mend."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from ..footing.advice import TALL, TIPS_DEG
from ..footing.under_drains import UnderDrains
from ..hanging.findings import Family, Finding, State
from ..hollow.stays import Stays, Verdict
from ..machines.catalogue import Technology
from ..plates.arrange import Rectangle
from ..plates.extent import Extent
from ..plates.fit import Fit
from ..supports.support_set import Fault, FaultKind
from ..tags import stored
from ..topics import Topic


class Weight(StrEnum):
    """How much a finding matters."""

    WRONG = "wrong"
    DOUBTFUL = "doubtful"


# Less overhang than this in all is left to the machine.
LEAST_OVERHANG_MM2 = 25.0
# Less contact than this wants a wider footing (common practice).
LEAST_CONTACT_MM2 = 20.0


@stored("place-on-plate")
@dataclass(frozen=True, slots=True)
class Place:
    """Where an item goes on its plate (mm, from the middle; ``None`` where it is arranged), and its swing."""

    x_mm: float | None
    y_mm: float | None
    swing_deg: float


_CHECKS = {
    1: lambda old: {**old, "place": None},
    2: lambda old: {**old, "copy": 0},
    3: lambda old: {**old, "plate": 0},
}


@stored("check", 4, _CHECKS)
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
    topic : Topic
        Where it is mended.
    item : str
        Id of the item it is about, where there are several.
    place : Place or None
        Where the item stands well.
    copy : int
        Which copy of the item, where there are several on the plate; 0 otherwise.
    plate : int
        Which plate it is about, from 1; 0 where it is about an item or the job.
    """

    weight: Weight
    text: str
    mend: str
    topic: Topic
    item: str = ""
    place: Place | None = None
    copy: int = 0
    plate: int = 0


@dataclass(frozen=True, eq=False)
class Stood:
    """An item that stands somewhere on a plate: its name, what is printed of it, its place (mm) and swing.

    ``copy`` tells it from others of its name; 0 where there are none.
    """

    name: str
    extent: Extent
    x_mm: float
    y_mm: float
    swing_deg: float
    copy: int = 0

    def check(self, weight: Weight, text: str, mend: str, place: Place | None = None) -> Check:
        """What is so of it, told of its copy where there are several."""
        if self.copy:
            text = f"Copy {self.copy}: {text[0].lower()}{text[1:]}"
        return Check(weight, text, mend, Topic.HANDOFF, self.name, place, self.copy)

    @property
    def box(self) -> Rectangle:
        """Box round it, from the middle of the plate."""
        return self.extent.box(self.swing_deg).moved(self.x_mm, self.y_mm)


@dataclass(frozen=True, slots=True)
class Standing:
    """How a part stands on the plate.

    Attributes
    ----------
    technology : Technology
    contact_area_mm2 : float or None
        ``None`` while it is not known.
    lifted : bool
    has_supports : bool
    holds_down : bool
        A brim or a raft widens the contact.
    tip_deg, slenderness : float or None
        How far the plate may be tilted before it tips over, and its height over the narrowest width of its
        foot; ``None`` while they are not known.
    """

    technology: Technology
    contact_area_mm2: float | None
    lifted: bool
    has_supports: bool
    holds_down: bool
    tip_deg: float | None = None
    slenderness: float | None = None


@dataclass(frozen=True, slots=True)
class Surface:
    """What is known of the surface of a part.

    Attributes
    ----------
    closed : bool
        As it is read back from a file.
    left : str
        What keeps it from being sound, in words.
    thin : int
        Walls thinner than the machine makes.
    thin_mm : float
        As thick as it makes them.
    """

    closed: bool
    left: str = ""
    thin: int = 0
    thin_mm: float = 0.0


@dataclass(frozen=True, slots=True)
class HollowPart:
    """What stays in a hollow part, and what lies under its holes; neither where it is solid."""

    stays: Stays | None = None
    below: UnderDrains | None = None


SOLID = HollowPart()


def preflight(
    *,
    surface: Surface,
    fit: Fit,
    is_split: bool,
    standing: Standing,
    findings: Sequence[Finding] | None,
    faults: Sequence[Fault] = (),
    trapped: int = 0,
    brought: bool = False,
    hollow: HollowPart = SOLID,
) -> list[Check]:
    """List what is wrong or doubtful; ``None`` stands for what is not known yet.

    Parameters
    ----------
    surface : Surface
    fit : Fit
        Of the whole part in its stance.
    is_split : bool
        It has been cut into pieces that fit.
    standing : Standing
    findings : sequence of Finding or None
    faults : sequence of Fault
        What the check of the supports found.
    trapped : int
        Supports that cannot be got out.
    brought : bool
        The file holds supports, and nobody said what becomes of them.
    hollow : HollowPart, optional

    Returns
    -------
    list of Check
        What is wrong first.
    """
    found = _surface(surface, fit, is_split)
    if brought:
        text = "The file holds supports beside the part, and they are left out."
        found.append(Check(Weight.DOUBTFUL, text, "Say whether to keep them.", Topic.PART))
    if is_split:
        return found
    found.extend(_kept_in(hollow.stays, standing.technology))
    found.extend(_under(hollow.below))
    found.extend(_open(findings or (), has_supports=standing.has_supports))
    found.extend(_supports(faults, trapped))
    contact = standing.contact_area_mm2
    alone = standing.technology is Technology.FILAMENT and not standing.lifted and not standing.holds_down
    if alone and contact is not None and contact < LEAST_CONTACT_MM2:
        some = round(contact, 1) > 0
        text = f"Only {contact:.1f} mm² lie on the plate." if some else "Nothing of it lies on the plate."
        mend = "Add a brim or a raft, or stand it on another face."
        found.append(Check(Weight.DOUBTFUL, text, mend, Topic.FOOTING))
    elif alone and not standing.has_supports:
        found += _unsteady(standing)
    if standing.lifted and not standing.has_supports:
        text = "The part is lifted and nothing stands under it."
        found.append(Check(Weight.WRONG, text, "Make supports, or set the lift to 0.", Topic.STANCE))
    return worst_first(found)


def _kept_in(stays: Stays | None, technology: Technology) -> list[Check]:
    """What a hollow part keeps: resin that is shut in leaks for months, air does no harm."""
    if stays is None or technology is not Technology.RESIN or stays.verdict is Verdict.GOOD:
        return []
    wrong = stays.verdict is Verdict.WRONG
    mend = "Point at a place for a hole, or have holes proposed."
    if stays.turned and not wrong:
        mend = "Hollow it again as it stands now."
    return [Check(Weight.WRONG if wrong else Weight.DOUBTFUL, stays.words, mend, Topic.PART)]


def _under(below: UnderDrains | None) -> list[Check]:
    """Holes that resin cannot run out through while the part is on the plate."""
    found = []
    if below is not None and below.on_plate:
        holes = "A hole lies" if below.on_plate == 1 else f"{below.on_plate} holes lie"
        text = f"{holes} on the plate: the hollow is shut until the part comes off, and the film pulls on it."
        found.append(Check(Weight.WRONG, text, "Lift the part, or put a hole at its side.", Topic.STANCE))
    if below is not None and below.over_base:
        holes = "A hole opens" if below.over_base == 1 else f"{below.over_base} holes open"
        text = f"{holes} right over what the part stands on: resin runs onto it and hardens there."
        mend = "Stand it on pads or ties, or put the hole elsewhere."
        found.append(Check(Weight.DOUBTFUL, text, mend, Topic.FOOTING))
    return found


def unchosen(printer: str, material: str, asked: Sequence[str]) -> Check:
    """Tell that nobody chose the printer, the material, or both."""
    named = " and ".join({"printer": printer, "material": material}[what] for what in asked)
    text = f"Nobody chose {named}: {'they stand' if len(asked) > 1 else 'it stands'} in."
    return Check(Weight.DOUBTFUL, text, "Choose, or say that it is meant.", Topic.PRINTER)


def worst_first(found: Sequence[Check]) -> list[Check]:
    """Put what is wrong before what is doubtful."""
    return sorted(found, key=lambda check: check.weight is not Weight.WRONG)


def _unsteady(standing: Standing) -> list[Check]:
    """What may be knocked over while it is printed, with nothing that holds it."""
    tip, slender = standing.tip_deg, standing.slenderness
    if tip is not None and tip < TIPS_DEG:
        text = f"It tips over at {tip:.0f}°, and nothing holds it."
    elif slender is not None and slender > TALL:
        text = f"It is {slender:.0f} times as high as its foot is wide, and nothing holds it."
    else:
        return []
    mend = "Add a brim or a raft, or stand it on another face."
    return [Check(Weight.DOUBTFUL, text, mend, Topic.FOOTING)]


def _surface(surface: Surface, fit: Fit, is_split: bool) -> list[Check]:
    found = []
    closed, left = surface.closed, surface.left
    if not closed:
        mend = "Layers are drawn as far as they close; mend the part to be sure."
        text = f"The surface is not closed: {left}." if left else "The surface is open."
        found.append(Check(Weight.DOUBTFUL, text, mend, Topic.PART))
    elif left:
        text = f"Facets pass through each other: {left}."
        found.append(Check(Weight.DOUBTFUL, text, "Mend the part, or look at its layers there.", Topic.PART))
    if surface.thin and not is_split:
        walls = "1 wall is" if surface.thin == 1 else f"{surface.thin} walls are"
        text = f"{walls} thinner than {surface.thin_mm:g} mm, which the machine does not make."
        mend = "Look at each under Part: enlarge it, or pick a finer machine."
        found.append(Check(Weight.DOUBTFUL, text, mend, Topic.PART))
    if is_split:
        text = "The part is cut; it is printed as its pieces."
        mend = "Make items of the pieces, and stand and hold each."
        found.append(Check(Weight.DOUBTFUL, text, mend, Topic.SPLIT))
    elif not fit.fits and fit.swing_deg is None:
        # What only needs a swing is told of the plate that it stands on.
        side, over = fit.over[0]
        turn, cut = "Turn it: another stance would fit.", "Cut it into pieces, or pick a larger printer."
        counted = ", with supports and footing" if fit.whole else ""
        text = f"Too long by {over:.1f} mm along {side}{counted}."
        found.append(Check(Weight.WRONG, text, turn if fit.turned else cut, Topic.SPLIT))
    return found


def _supports(faults: Sequence[Fault], trapped: int) -> list[Check]:
    """What is wrong with the supports themselves; what they leave without is among the findings."""
    found = []
    for kinds, words, weight in (
        ((FaultKind.CROSSES, FaultKind.TOO_NEAR), "run into the part or what is kept clear", Weight.WRONG),
        ((FaultKind.FLOATS,), "begin in mid-air", Weight.WRONG),
        ((FaultKind.SLENDER,), "are too slender", Weight.DOUBTFUL),
    ):
        count = sum(fault.kind in kinds for fault in faults)
        if count:
            text = f"Supports {words} at {count} place{'s' if count > 1 else ''}."
            found.append(Check(weight, text, "Look at each under Check of the supports.", Topic.SUPPORTS))
    if trapped:
        text = f"{trapped} support{'s' if trapped > 1 else ''} cannot be got out."
        mend = "Keep the channel clear, or take them out, among the supports."
        found.append(Check(Weight.DOUBTFUL, text, mend, Topic.SUPPORTS))
    return found


def _open(findings: Sequence[Finding], *, has_supports: bool) -> list[Check]:
    """What is still to do in the list of findings."""
    todo = [f for f in findings if f.state is State.TODO]
    where = Topic.OVERHANGS if has_supports else Topic.SUPPORTS
    found = []
    islands = [f for f in todo if f.family is Family.ISLAND]
    regions = [f for f in todo if f.family is Family.OVERHANG]
    rest = [f for f in todo if f.family not in (Family.ISLAND, Family.OVERHANG)]
    if islands:
        many = len(islands) > 1
        things = f"{len(islands)} islands" if many else "1 island"
        if has_supports:
            text, mend = (
                f"{things} {'are' if many else 'is'} still not held.",
                "Look at each under Overhangs.",
            )
        else:
            text = f"{things} {'start' if many else 'starts'} in mid-air."
            mend = "Make supports, or choose another stance."
        found.append(Check(Weight.WRONG, text, mend, where))
    area = sum(f.area_mm2 for f in regions)
    if area > LEAST_OVERHANG_MM2:
        long = sum(f.kind == "bridge" for f in regions)
        bridges = f", {long} of them as bridges that are too long" if long else ""
        things = "1 overhang is" if len(regions) == 1 else f"{len(regions)} overhangs are"
        mend = "Make supports, or check that the machine holds this slope."
        if has_supports:
            mend = "Look at each under Overhangs."
        text = f"{things} not held: {area:.0f} mm²{bridges}."
        found.append(Check(Weight.DOUBTFUL, text, mend, where))
    if rest:
        names = [(f.value, sum(g.family is f for g in rest)) for f in Family]
        words = ", ".join(f"{n} {name}{'s' if n > 1 else ''}" for name, n in names if n)
        mend = "Look at each under Overhangs; accept it, or turn the part."
        found.append(Check(Weight.DOUBTFUL, f"In the layers: {words}.", mend, Topic.OVERHANGS))
    return found

"""The stance board and the figures of a stance, as the page shows them."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from ....core import quantities
from ....core.stance.figures import MEANING, MORE_IS_BETTER, Figures, LayerFigure
from ....core.stance.names import AS_IT_CAME, name_of
from ....core.stance.pose import from_quaternion, to_quaternion
from ....core.stance.proposals import GOALS, Found, Proposal
from ....core.stance.resting import RestingFace
from ....sheet.item import UPRIGHT
from ....sheet.models import ItemSheet
from ... import words

# Cosine above which two ways down are the same.
SAME = 1 - 1e-6
# So many resting faces stand on the board while no stances were searched; section 4 lists them all.
BOARD = 5
GOAL_WORDS = {
    "less_support": "Less support",
    "shorter_print": "Shorter print",
    "clean_show": "Clean show side",
    "better_surface": "Better surface",
    "firm": "Stands firmly",
    "smaller_layers": "Smaller layers",
}
assert tuple(GOAL_WORDS) == GOALS


@dataclass(frozen=True, slots=True)
class Row:
    """One figure on a card: name, words, difference from the chosen card, and whether it is the best."""

    name: str
    words: str
    difference: str = ""
    best: bool = False


@dataclass(frozen=True, slots=True)
class StanceCard:
    """One card of the stance board.

    Attributes
    ----------
    letter, name : str
    quaternion : str
        JSON, for the form and for the ghost in the view.
    overhang_area_mm2, contact_area_mm2, height_mm : float
    chosen : bool
    rows : tuple of Row
    note : str
        Such as the score.
    fits : bool
    """

    letter: str
    name: str
    quaternion: str
    overhang_area_mm2: float
    contact_area_mm2: float
    height_mm: float
    chosen: bool
    rows: tuple[Row, ...] = ()
    note: str = ""
    fits: bool = True
    lift_mm: float | None = None
    # Flat or lifted; what comes of it the other way, and by how much it is lifted so.
    way: str = ""
    other: str = ""
    other_mm: float = 0.0


@dataclass(frozen=True, slots=True)
class FigureLine:
    """One figure of the stance that stands: name, value, meaning, and what is shown when it is pointed at.

    ``shows`` is the name of a kind of facets or marks of the view, or ``layer``, with ``z_mm`` for the
    latter.
    """

    key: str
    name: str
    words: str
    meaning: str
    shows: str = ""
    z_mm: float | None = None


# Figures of a card in their order: its name there, the figure, how to read it off, how to write it.
Reading = tuple[str, str, Callable[[Figures], float], Callable[[float], str]]
ROWS: tuple[Reading, ...] = (
    ("Overhang", "overhang_area_mm2", lambda f: f.overhang_area_mm2, quantities.area),
    ("Supports", "support_volume_mm3", lambda f: f.support_volume_mm3, quantities.volume),
    ("Contact", "contact_area_mm2", lambda f: f.contact_area_mm2, quantities.area),
    ("Height", "height_mm", lambda f: f.height_mm, lambda v: f"{quantities.length(v)} mm"),
    ("Islands", "islands", lambda f: float(f.islands), lambda v: str(int(v))),
    ("Largest", "largest_layer", lambda f: f.largest_layer.value, quantities.area),
    ("Time", "seconds", lambda f: f.seconds, words.duration),
)
# Those that are known of a stance before its exact figures.
WEIGHED = ("overhang_area_mm2", "support_volume_mm3", "contact_area_mm2", "height_mm")
RESTING = ("overhang_area_mm2", "contact_area_mm2", "height_mm")


def _down(sheet: ItemSheet) -> Any:
    # The third row of a turn is the direction of the part that points up.
    return -from_quaternion(sheet.stance.quaternion)[2]


def _quaternion(q: Sequence[float]) -> str:
    return json.dumps([round(float(v), 12) for v in q])


def resting_cards(sheet: ItemSheet, faces: Sequence[RestingFace] | None) -> list[StanceCard]:
    """Cards of all resting faces, best first."""
    chosen, cards = _down(sheet), []
    for face in faces or ():
        came = face.down[2] < -SAME
        cards.append(
            StanceCard(
                face.letter,
                AS_IT_CAME if came else name_of(face.rotation),
                _quaternion(UPRIGHT if came else to_quaternion(face.rotation)),
                face.overhang_area_mm2,
                face.contact_area_mm2,
                face.height_mm,
                bool(face.down @ chosen > SAME),
            )
        )
    return _with_rows(cards, {key: [getattr(card, key) for card in cards] for key in RESTING})


def resting_board(stances: list[StanceCard]) -> list[StanceCard]:
    """The first few; the one that is chosen and the one the part came in are always among them."""
    kept = stances[:BOARD]
    for card in stances[BOARD:]:
        if card.chosen or card.name == AS_IT_CAME:
            kept = [*kept[: BOARD - 2], card, kept[BOARD - 2]][:BOARD]
    return sorted(kept, key=lambda card: (len(card.letter), card.letter))


def board(sheet: ItemSheet, found: Found, standing: Figures | None) -> list[StanceCard]:
    """Cards of the proposals, best first; differences are from the stance that stands."""
    down = _down(sheet)
    cards = [
        StanceCard(
            p.letter,
            p.name,
            _quaternion(to_quaternion(p.rotation)),
            p.overhang_area_mm2,
            p.contact_area_mm2,
            p.height_mm,
            bool(p.down @ down > SAME),
            note=_note(p, exact=found.exact),
            fits=p.fits,
            lift_mm=p.lift_mm if p.other is not None else None,
            way=_way(p),
            other=_other(p),
            other_mm=p.other.lift_mm if p.other is not None else 0.0,
        )
        for p in found.proposals
    ]
    if not found.exact:
        return _with_rows(cards, {key: [getattr(p, key) for p in found.proposals] for key in WEIGHED})
    known = [p.figures for p in found.proposals if p.figures]
    return _with_rows(
        cards,
        {key: [read(f) for f in known] for _, key, read, _ in ROWS},
        {key: read(standing) for _, key, read, _ in ROWS} if standing else {},
    )


def _way(proposal: Proposal) -> str:
    """How a stance of a resin part is proposed, and why not the other way where that cannot be."""
    other = proposal.other
    if other is None:
        return ""
    way = f"Lifted {proposal.lift_mm:g} mm" if proposal.lift_mm > 0 else "Flat on the plate"
    return way if other.stands else f"{way}: no face to lie on"


def _other(proposal: Proposal) -> str:
    """What comes of a stance lifted where it is proposed flat, or the other way about; empty if it cannot."""
    other = proposal.other
    if other is None or not other.stands:
        return ""
    way = f"Lifted {other.lift_mm:g} mm" if other.lift_mm > 0 else "Flat"
    return f"{way}: {other.score:.0f} of 100, {quantities.area(other.overhang_area_mm2)} overhang"


def _note(proposal: Proposal, *, exact: bool) -> str:
    if not proposal.fits:
        return "does not fit"
    return f"{'' if exact else '≈ '}{proposal.score:.0f} of 100{' · front' if proposal.front else ''}"


def _with_rows(
    cards: list[StanceCard], values: dict[str, list[float]], standing: dict[str, float] | None = None
) -> list[StanceCard]:
    """Give cards their rows, the values of each by figure; differences are from what stands."""
    if not cards:
        return cards
    at = next((k for k, card in enumerate(cards) if card.chosen), None)
    rows: list[list[Row]] = [[] for _ in cards]
    for name, key, _, text in ROWS:
        if key not in values:
            continue
        of_all = values[key]
        base = of_all[at] if at is not None else (standing or {}).get(key)
        best = max(of_all) if key in MORE_IS_BETTER else min(of_all)
        near = 1e-3 * max(1.0, abs(best))
        for k, value in enumerate(of_all):
            told = "" if base is None or k == at else _difference(value, base, text)
            rows[k].append(Row(name, text(value), told, abs(value - best) <= near))
    return [replace(card, rows=tuple(found)) for card, found in zip(cards, rows, strict=True)]


def _difference(value: float, chosen: float, text: Callable[[float], str]) -> str:
    if abs(value - chosen) <= 1e-3 * max(abs(value), abs(chosen), 1e-9):
        return "same"
    if abs(chosen) < 1e-9:
        return f"+{text(value)}"
    share = 100.0 * (value - chosen) / abs(chosen)
    return f"{share:+.0f} %" if abs(share) < 1000 else f"× {value / chosen:.0f}"


def _seen(sheet: ItemSheet) -> str:
    """What is looked at, in words: where nobody chose it of a resin part, its front as it came."""
    return "on the show side" if sheet.show_is_painted or sheet.show is not None else "in front"


def figure_lines(found: Figures | None, sheet: ItemSheet) -> list[FigureLine]:
    """All figures of the stance that stands, in the order they are read."""
    if found is None:
        return []
    lines: list[FigureLine] = []

    def tell(key: str, name: str, text: str, shows: str = "", z_mm: float | None = None) -> None:
        lines.append(FigureLine(key, name, text, MEANING[key], shows, z_mm))

    def at(figure: LayerFigure) -> str:
        return f"at {quantities.length(figure.z_mm)} mm"

    tell("overhang_area_mm2", "Overhang past the limit", quantities.area(found.overhang_area_mm2), "overhang")
    tell("support_volume_mm3", "Support columns", quantities.volume(found.support_volume_mm3), "overhang")
    if found.holding_mm3:
        tell("holding_mm3", "Posts to keep it upright", quantities.volume(found.holding_mm3), "contact")
    tell("support_mass_g", "Supports, as printed", quantities.mass(found.support_mass_g), "overhang")
    tell("touch_area_mm2", "Touched by supports", quantities.area(found.touch_area_mm2), "overhang")
    if sheet.setting().shows:
        tell("touch_show_mm2", f"Touched {_seen(sheet)}", quantities.area(found.touch_show_mm2), "show")
    if sheet.marks is not None and sheet.marks.clear_mm2 > 0:
        hanging = quantities.area(found.clear_overhang_mm2)
        tell("clear_overhang_mm2", "Overhang on keep clear", hanging, "overhang")
    tell("islands", "Islands", str(found.islands), "islands")
    layers = words.count(found.layer_count, "layer")
    top = found.height_mm - sheet.layer_mm / 2
    tell("height_mm", "Height", f"{quantities.length(found.height_mm)} mm, {layers}", "layer", top)
    tell("contact_area_mm2", "On the plate", quantities.area(found.contact_area_mm2), "contact")
    largest, growth, peel = found.largest_layer, found.largest_growth, found.peel_most
    tell(
        "largest_layer",
        "Largest layer",
        f"{quantities.area(largest.value)} {at(largest)}",
        "layer",
        largest.z_mm,
    )
    tell("shadow_area_mm2", "Shadow on the plate", quantities.area(found.shadow_area_mm2), "shadow")
    tell(
        "largest_growth",
        "Largest growth",
        f"{quantities.area(growth.value)} {at(growth)}",
        "layer",
        growth.z_mm,
    )
    if sheet.is_resin:
        if peel:
            tell("peel_most", "Hardest peel, a guess", f"{peel.value:.0f} N {at(peel)}", "layer", peel.z_mm)
        enclosed = f", {quantities.volume(sum(c.volume_mm3 for c in found.cups))}" if found.cups else ""
        tell("cups", "Suction cups", f"{len(found.cups)}{enclosed}", "cups")
        tell("flat_area_mm2", "Flat undersides", quantities.area(found.flat_area_mm2), "flat")
    slender = f"{found.slenderness:.1f}" if math.isfinite(found.slenderness) else "on an edge"
    tell("tip_angle_deg", "Tips over at", f"{found.tip_angle_deg:.1f}°", "centre")
    tell("slenderness", "Slenderness", slender, "contact")
    tell("cusp_mm", "Stairs on slopes, mean", f"{found.cusp_mm:.3f} mm", "stairs")
    if sheet.setting().shows:
        tell("cusp_show_mm", f"Stairs {_seen(sheet)}", f"{found.cusp_show_mm:.3f} mm", "show")
    if found.load_angle_deg is not None:
        tell("load_angle_deg", "Load to the layers", f"{found.load_angle_deg:.1f}°", "load")
    tell("seconds", "Time, rough", words.duration(found.seconds))
    tell("mass_g", "Material, rough", quantities.mass(found.mass_g))
    tell("fits", "Fits the machine", "yes" if found.fits else "no")
    return lines

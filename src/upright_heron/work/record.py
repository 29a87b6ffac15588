"""What was printed, as it is told: what became of each, what is looked for, and figures by month."""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ..core.errors import BadValue
from ..core.machines.catalogue import Printer
from ..core.units import length_mm
from ..sheet.shop import OwnPrinter
from ..store.prints import Print, Stage

# What fails, in words of the trade; others may be typed.
REASONS = (
    "came off the plate", "warped", "a support came loose", "layers shifted", "the nozzle clogged",
    "strings", "ran out of material", "an island floated", "layers parted", "surface too rough",
    "size is off", "power cut", "overhangs sagged", "pieces too tight", "pieces too loose",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Month:
    """Figures of a month: prints, hours, kilograms, and failures by reason."""

    name: str
    prints: int
    hours: float
    kg: float
    failed: int
    reasons: tuple[tuple[str, int], ...]


def outcome_of(one: Print) -> str:
    """What somebody said of it, or else what the machine did."""
    return one.outcome or {Stage.DONE: "done", Stage.FAILED: "failed"}.get(one.stage, "given up")


def used_g(one: Print) -> float:
    """What a print took of its material: given up on the way it took a part of it."""
    return one.told_g * (one.layer / one.layers if one.layers else 0.0)


def found(prints: Sequence[Print], words: str, outcome: str) -> list[Print]:
    """Those of some prints that every word is in somewhere, and that ended in one way where one is given."""
    asked = words.lower().split()
    kept = []
    for one in prints:
        names = [name for name, _ in one.items]
        told = [
            one.job_name,
            one.station,
            one.model,
            one.material,
            one.reason,
            one.notes,
            one.who,
            str(one.settings.get("spool", "")),
        ]
        text = " ".join([*told, one.file_name, *names]).lower()
        if all(word in text for word in asked) and (not outcome or outcome_of(one) == outcome):
            kept.append(one)
    return kept


def months(prints: Sequence[Print]) -> list[Month]:
    """Figures by month, the newest first: of what ended in it."""
    by: dict[str, list[Print]] = defaultdict(list)
    for one in prints:
        if one.ended is not None:
            by[f"{one.ended:%Y-%m}"].append(one)
    told = []
    for name, some in sorted(by.items(), reverse=True):
        failed = [one for one in some if outcome_of(one) == "failed"]
        used = sum(used_g(one) for one in some)
        hours = sum(one.real_s or 0.0 for one in some) / 3600
        reasons = Counter(one.reason or "not said" for one in failed).most_common()
        told.append(Month(name, len(some), hours, used / 1000, len(failed), tuple(reasons)))
    return told


# Failures so near to each other point at the plate, and so many of them.
SPOT_MM = 15.0
SPOT_COUNT = 2


@dataclass(frozen=True, slots=True)
class Failures:
    """Where prints failed on one kind of machine.

    Attributes
    ----------
    model : str
    build_mm : (x, y)
    places : tuple of (x, y, words)
        On the plate, mm from its middle, where somebody said so.
    by_height : tuple of int
        How many failed in each tenth of their height, from the plate.
    spots : tuple of (x, y, count)
        Where several lie close together, the most first: the plate may be worn there.
    """

    model: str
    build_mm: tuple[float, float]
    places: tuple[tuple[float, float, str], ...]
    by_height: tuple[int, ...]
    spots: tuple[tuple[float, float, int], ...]


def failures(prints: Sequence[Print], builds_mm: Mapping[str, tuple[float, float]]) -> list[Failures]:
    """Where prints failed, by kind of machine as far as its plate is known, the most first."""
    by: dict[str, list[Print]] = defaultdict(list)
    for one in prints:
        if outcome_of(one) == "failed" and one.model in builds_mm:
            by[one.model].append(one)
    told = []
    for model, some in sorted(by.items(), key=lambda one: -len(one[1])):
        heights = [0] * 10
        for one in some:
            if one.layers and one.layer:
                heights[min(9, 10 * one.layer // one.layers)] += 1
        places = tuple((*one.at_mm, one.reason) for one in some if one.at_mm is not None)
        told.append(Failures(model, builds_mm[model], places, tuple(heights), _spots(places)))
    return told


def _spots(places: Sequence[tuple[float, float, str]]) -> tuple[tuple[float, float, int], ...]:
    """Means of places that lie close together; each counts once, with the most others round it first."""
    left = [(x, y) for x, y, _ in places]
    found = []
    while left:
        near = max(
            ([p for p in left if math.dist(p, q) <= SPOT_MM] for q in left), key=lambda group: len(group)
        )
        if len(near) < SPOT_COUNT:
            break
        x, y = (sum(axis) / len(near) for axis in zip(*near, strict=True))
        found.append((round(x, 1), round(y, 1), len(near)))
        left = [p for p in left if p not in near]
    return tuple(found)


def kept_free(machine: Printer, spot: tuple[float, float, int]) -> bool:
    """Whether a place where prints failed is one that is kept free already."""
    return any(math.dist(spot[:2], (x, y)) <= radius for x, y, radius in machine.worn)


def with_worn(machine: Printer, x_mm: float, y_mm: float) -> OwnPrinter:
    """A machine as the shop keeps it from now on: with nothing laid on a place of its plate.

    Raises
    ------
    BadValue
        The place lies beside the plate.
    """
    if abs(x_mm) > machine.build_mm[0] / 2 or abs(y_mm) > machine.build_mm[1] / 2:
        raise BadValue("That place lies beside the plate.", "Type x and y in mm from the middle: 30, -40.")
    fields = {name: getattr(machine, name) for name in OwnPrinter.model_fields}
    return OwnPrinter.model_validate({**fields, "worn": (*machine.worn, (x_mm, y_mm, SPOT_MM))})


def place_of(words: str) -> tuple[float, float] | None:
    """Read a place such as ``30, -40``; nothing where nothing is said.

    Raises
    ------
    BadValue
    """
    if not words.strip():
        return None
    both = words.replace(";", ",").split(",")
    if len(both) != 2:
        raise BadValue(f"“{words.strip()[:30]}” is no place.", "Type x and y in mm from the middle: 30, -40.")
    x, y = (length_mm(one) for one in both)
    if not (math.isfinite(x) and math.isfinite(y) and max(abs(x), abs(y)) <= 5000):
        raise BadValue("That place lies on no plate.", "Type x and y in mm from the middle: 30, -40.")
    return x, y

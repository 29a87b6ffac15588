"""What was printed, as it is told: what became of each, what is looked for, and figures by month."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from ..store.prints import Print, Stage

# What fails, in words of the trade; others may be typed.
REASONS = (
    "came off the plate", "warped", "a support came loose", "layers shifted", "the nozzle clogged",
    "strings", "ran out of material", "an island floated", "layers parted", "surface too rough",
    "size is off", "power cut",
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
        told = [one.job_name, one.station, one.model, one.material, one.reason, one.notes, one.who]
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

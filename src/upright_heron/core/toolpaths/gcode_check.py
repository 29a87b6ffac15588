"""G-code read back, word by word, and held against what was asked: written another way than it was made."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field

from ..errors import BadValue
from .turns_check import Turns

# What is pushed out may differ by this share from the beads.
SHARE = 1e-3
# Rounded numbers may reach past the volume by this, mm.
ROUNDED_MM = 1e-3
# Outlines keep from each other what beads do to less than half a bead and the raster they are looked at on.
HEAD_MM = 1.2
# What is asked of it that a file may hold besides moves.
_KNOWN = frozenset({
    "G0", "G1", "G21", "G28", "G90", "G91", "G92", "M82", "M83", "M84", "M104", "M106", "M107", "M109",
    "M140", "M190", "M400", "M117", "G4", "M0", "T0", "T1",
})  # fmt: skip


@dataclass
class Readback:
    """What a file of G-code does.

    Attributes
    ----------
    machine : str
        That it names.
    low_mm, high_mm : list of float
        Corners of all beads.
    travel_low_mm, travel_high_mm : list of float
        Corners of all places that the nozzle goes to.
    pushed_mm : float
        Filament that beads take.
    net_mm : float
        Filament in all, with what was drawn back and pushed again.
    moves, beads : int
    layers : int
        Heights at which there are beads.
    nozzle_c, bed_c, second_c : list of float
        Temperatures asked for, of the first nozzle, the plate and the second nozzle; but for switching off.
    cold_mm : float
        Pushed out before the nozzle was waited for.
    unlifted : list of float
        Heights of travels behind a drawing back that were not lifted, mm.
    unknown : list of str
        Words that mean nothing here, with their lines.
    end_drawn_mm : float
        Still drawn back at the end.
    starved : int
        Beads that are laid while the filament is drawn back.
    second_mm : float
        Filament that beads of the second nozzle take.
    changes, pauses : int
        From one nozzle to the other, and how often the machine waits for someone.
    low_pauses : int
        Pauses where the nozzle waits no higher than what was printed.
    blob_mm : float
        Filament that is pushed on the spot, more than was drawn back, once a bead was laid.
    drawn_mm : float
        The furthest that filament is drawn back between beads.
    turns : Turns or None
        What follows what, where items are printed one after the other.
    """

    machine: str = ""
    low_mm: list[float] = field(default_factory=lambda: [math.inf] * 3)
    high_mm: list[float] = field(default_factory=lambda: [-math.inf] * 3)
    travel_low_mm: list[float] = field(default_factory=lambda: [math.inf] * 3)
    travel_high_mm: list[float] = field(default_factory=lambda: [-math.inf] * 3)
    pushed_mm: float = 0.0
    net_mm: float = 0.0
    moves: int = 0
    beads: int = 0
    layers: int = 0
    nozzle_c: list[float] = field(default_factory=list)
    bed_c: list[float] = field(default_factory=list)
    second_c: list[float] = field(default_factory=list)
    cold_mm: float = 0.0
    unlifted: list[float] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)
    end_drawn_mm: float = 0.0
    starved: int = 0
    second_mm: float = 0.0
    changes: int = 0
    pauses: int = 0
    low_pauses: int = 0
    blob_mm: float = 0.0
    drawn_mm: float = 0.0
    turns: Turns | None = None


def read(lines: Iterable[str], *, in_turn: bool = False) -> Readback:
    """Read G-code; items that follow each other are told apart where they are to.

    Raises
    ------
    BadValue
        A word is no letter with a number.
    """
    reader = _Reader()
    reader.found.turns = Turns() if in_turn else None
    for number, line in enumerate(lines, 1):
        code, _, comment = line.partition(";")
        words = code.split()
        if words:
            reader.take(words, number)
        elif comment.startswith(" machine: "):
            reader.found.machine = comment.removeprefix(" machine: ").strip()
    reader.found.layers = len(reader.heights)
    reader.found.end_drawn_mm = sum(reader.backs)
    return reader.found


class _Reader:
    """A machine in its mind: where it is, and what it was told."""

    def __init__(self) -> None:
        self.found = Readback()
        self.at = [0.0, 0.0, 0.0]
        self.e = 0.0
        self.active = 0
        # How much of each filament is drawn back.
        self.backs = [0.0, 0.0]
        self.furthest = 0.0
        self.absolute = self.absolute_e = True
        self.hot = [False, False]
        # Height at which the filament was drawn back.
        self.drawn_at = math.inf
        self.heights: set[float] = set()

    def take(self, words: list[str], number: int) -> None:
        """Do what the words of a line say."""
        head = words[0]
        if head in ("G0", "G1"):
            self._move(words[1:], number)
        elif head not in _KNOWN:
            self.found.unknown.append(f"{head[:20]} in line {number}")
        elif head in ("G90", "G91"):
            self.absolute = head == "G90"
        elif head in ("M82", "M83"):
            self.absolute_e = head == "M82"
        elif head == "G28":
            self.at = [0.0, 0.0, 0.0]
        elif head == "G92":
            for word in words[1:]:
                self.e = _value(word, number) if word[0] == "E" else self.e
        elif head in ("M140", "M190"):
            asked = _given("S", words, number, 0.0)
            self.found.bed_c += [asked] if asked > 0 else []
        elif head in ("M104", "M109"):
            asked, nozzle = _given("S", words, number, 0.0), int(_given("T", words, number, self.active))
            if asked > 0:
                (self.found.second_c if nozzle else self.found.nozzle_c).append(asked)
                self.hot[min(nozzle, 1)] |= head == "M109"
        elif head in ("T0", "T1"):
            self.found.changes += int(head[1]) != self.active
            self.active = int(head[1])
        elif head == "M0":
            self.found.pauses += 1
            self.found.low_pauses += self.at[2] <= max(self.heights, default=0.0)

    def _move(self, words: list[str], number: int) -> None:
        target, push, moved = list(self.at), 0.0, False
        for word in words:
            letter, value = word[0], _value(word, number)
            axis = "XYZ".find(letter)
            if axis >= 0:
                target[axis] = value if self.absolute else self.at[axis] + value
                moved = True
            elif letter == "E":
                push = value - self.e if self.absolute_e else value
                self.e += push
        self.found.moves += 1
        self.found.net_mm += push
        aside = target[0] != self.at[0] or target[1] != self.at[1]
        if moved and push > 0 and aside:
            self._bead(target, push)
        elif moved:
            drawn = self.backs[self.active] > 0
            if drawn and aside and self.at[2] <= self.drawn_at + 1e-9:
                self.found.unlifted.append(self.at[2])
            if self.found.turns is not None:
                self.found.turns.way(self.at, target)
            if self.found.beads:
                _reach(self.found.travel_low_mm, self.found.travel_high_mm, target)
        else:
            over = push - self.backs[self.active]
            # To what numbers are rounded to.
            self.found.blob_mm += over if self.found.beads and over > 1e-3 else 0.0
            self.backs[self.active] = max(-over, 0.0)
            self.furthest = max(self.furthest, self.backs[self.active] if self.found.beads else 0.0)
            self.drawn_at = self.at[2] if push < 0 else math.inf
        self.at = target

    def _bead(self, target: list[float], push: float) -> None:
        self.found.beads += 1
        self.found.drawn_mm = max(self.found.drawn_mm, self.furthest)
        self.furthest = 0.0
        self.found.pushed_mm += push
        # To what numbers are rounded to.
        self.found.starved += self.backs[self.active] > 1e-4
        self.found.second_mm += push if self.active else 0.0
        self.heights.add(target[2])
        self.found.cold_mm += 0.0 if self.hot[self.active] else push
        if self.found.turns is not None:
            self.found.turns.bead(self.at, target)
        for place in (self.at, target):
            _reach(self.found.low_mm, self.found.high_mm, place)


def _reach(low: list[float], high: list[float], place: list[float]) -> None:
    for axis, value in enumerate(place):
        if value < low[axis]:
            low[axis] = value
        if value > high[axis]:
            high[axis] = value


def _given(letter: str, words: list[str], number: int, otherwise: float) -> float:
    return next((_value(word, number) for word in words[1:] if word[0] == letter), otherwise)


def _value(word: str, number: int) -> float:
    try:
        return float(word[1:])
    except ValueError as error:
        told = f"Line {number} of the G-code has “{word[:20]}”, which is no letter with a number."
        raise BadValue(told, "Look at the start and end text of the machine.") from error


@dataclass(frozen=True, slots=True)
class Bounds:
    """What G-code must keep to.

    Attributes
    ----------
    machine : str
    build_mm : (x, y, z)
    volume_mm3 : float
        Of the beads that were laid.
    diameter_mm : float
        Of the filament.
    nozzle_c, bed_c : (lowest, highest)
        Of the material.
    layers : int
    lifted : bool
        Travels that are drawn back for are lifted.
    second_c : (lowest, highest)
        Of the material of the second nozzle.
    second_mm3 : float
        Of the beads of the second nozzle.
    pauses : int
    retract_mm : float
        Filament is drawn back by no more.
    items : int
        That follow each other.
    head_mm, rail_mm : float
        What the head and the rail of the machine need, where several do.
    """

    machine: str
    build_mm: tuple[float, float, float]
    volume_mm3: float
    diameter_mm: float
    nozzle_c: tuple[float, float]
    bed_c: tuple[float, float]
    layers: int
    lifted: bool = False
    second_c: tuple[float, float] = (0.0, 0.0)
    second_mm3: float = 0.0
    pauses: int = 0
    retract_mm: float = 1.0
    items: int = 1
    head_mm: float = 0.0
    rail_mm: float = math.inf


def faults(found: Readback, asked: Bounds) -> list[tuple[str, str]]:
    """What is wrong with G-code, each with what to do about it."""
    told: list[tuple[str, str]] = []
    if found.machine != asked.machine:
        told.append(
            (f"The file names the machine “{found.machine}”.", f"Write it for {asked.machine} again.")
        )
    if not found.beads:
        return [*told, ("The file has no bead.", "Lay the paths again.")]
    told += _past(found, asked) + _pushed_wrong(found, asked) + _too_hot(found, asked)
    if found.cold_mm > 0:
        told.append(("Filament is pushed before the nozzle is hot.", "Wait for it in the start text: M109."))
    if found.layers != asked.layers:
        told.append((f"The file has {found.layers} layers of {asked.layers}.", "Lay the paths again."))
    # At the very top there is no room to lift.
    unlifted = sum(z < asked.build_mm[2] - 1e-3 for z in found.unlifted)
    if asked.lifted and unlifted:
        told.append((f"{unlifted} travels are not lifted, as was asked.", "Write the file again."))
    if found.pauses != asked.pauses:
        told.append((f"The file has {found.pauses} pauses of {asked.pauses}.", "Write the file again."))
    if found.turns is not None:
        told += _in_turn(found.turns, asked)
    if found.low_pauses:
        told.append(("The nozzle waits in the print.", "Pause lower, or split the part."))
    told += [(f"Unknown: {word}.", "Look at the start and end text.") for word in found.unknown[:5]]
    return told


def _in_turn(turns: Turns, asked: Bounds) -> list[tuple[str, str]]:
    """What the head or the rail touches where items follow each other."""
    told = []
    if len(turns.parts) != asked.items:
        told.append(
            (f"{len(turns.parts)} items of {asked.items} follow each other.", "Write the file again.")
        )
    if turns.low_ways:
        told.append(("The nozzle goes through what stands on its way to an item.", "Print all at once."))
    near = turns.nearest_mm()
    if near < asked.head_mm - HEAD_MM:
        words = f"The head reaches {asked.head_mm:g} mm round the nozzle; a part stands {near:.1f} mm off."
        told.append((words, "Arrange the plate anew, or print all at once."))
    high = turns.under_rail(asked.rail_mm)
    if high:
        words = f"{high} items that others follow are higher than the rail: {asked.rail_mm:g} mm."
        told.append((words, "Put them on plates of their own, or print all at once."))
    return told


def _past(found: Readback, asked: Bounds) -> list[tuple[str, str]]:
    """What reaches out of the volume."""
    told = []
    for corners, what in (
        ((found.low_mm, found.high_mm), "Beads"),
        ((found.travel_low_mm, found.travel_high_mm), "Travels"),
    ):
        for axis, name in enumerate("xyz"):
            low, high = corners[0][axis], corners[1][axis]
            for past, side in ((-low, "below 0"), (high - asked.build_mm[axis], "past the volume")):
                if past > ROUNDED_MM and math.isfinite(past):
                    told.append(
                        (
                            f"{what} reach {past:.2f} mm {side} in {name}.",
                            "Move the item on the plate, or split it.",
                        )
                    )
    return told


def _pushed_wrong(found: Readback, asked: Bounds) -> list[tuple[str, str]]:
    """Filament that is more or less than that of the beads, or is drawn back and pushed unevenly."""
    told = []
    across = math.pi * asked.diameter_mm**2 / 4.0
    for pushed, volume, where in (
        (found.pushed_mm * across, asked.volume_mm3, ""),
        (found.second_mm * across, asked.second_mm3, " with the second nozzle"),
    ):
        if abs(pushed - volume) > SHARE * max(volume, 0.01 * asked.volume_mm3):
            words = f"The file pushes out {pushed / 1000:.2f} cm³{where}, and its beads have"
            told.append((f"{words} {volume / 1000:.2f}.", "Lay the paths again."))
    # What was drawn back is pushed again, but for the last time.
    uneven = abs(found.net_mm + found.end_drawn_mm - found.pushed_mm) > max(SHARE * found.pushed_mm, 0.01)
    if uneven or found.starved:
        told.append(("What is drawn back is not what is pushed again.", "Write the file again."))
    if found.drawn_mm > asked.retract_mm + 1e-3:
        told.append((f"Filament is drawn back by {found.drawn_mm:.1f} mm.", "Write the file again."))
    if found.blob_mm > 0:
        told.append((f"{found.blob_mm:.1f} mm of filament are pushed on the spot.", "Write the file again."))
    return told


def _too_hot(found: Readback, asked: Bounds) -> list[tuple[str, str]]:
    """Temperatures that the materials do not take."""
    told = []
    for name, asked_c, (low, high) in (
        ("nozzle", found.nozzle_c, asked.nozzle_c),
        ("second nozzle", found.second_c, asked.second_c),
        ("plate", found.bed_c, asked.bed_c),
    ):
        told += [
            (
                f"The {name} is set to {value:g} °C, and the material takes {low:g} to {high:g}.",
                "Change the temperature in section 8, or the start text.",
            )
            for value in sorted(set(asked_c))
            if not low <= value <= high
        ]
    return told

"""G-code of a print, as common firmware reads it (after RS-274): written as a stream of bytes."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..errors import BadValue
from .beads import Beads, Kind
from .motion import lengths
from .timing import Moves, Running, over_mm

# What is written before and after a print, where a machine has no text of its own.
START = """G21
G90
M140 S{bed_c}
M104 S{nozzle_c}
G28
M190 S{bed_c}
M109 S{nozzle_c}
G92 E0
G1 Z5 F3000
"""
END = """M104 S0
M140 S0
G90
G1 Z{above_z} F3000
M84
"""
# Names that texts may hold.
NAMES = (
    "machine", "material", "nozzle_c", "bed_c", "layer_mm", "layers", "seconds", "filament_mm", "grams",
    "low_x", "low_y", "high_x", "high_y", "high_z", "above_z", "second_material", "second_c",
)  # fmt: skip
# Where the nozzle waits in a pause: so far from the front left corner, and above the print.
PARK_MM, PARK_UP_MM = 5.0, 10.0
# So far above the print it ends, where the machine has room for that.
END_UP_MM = 5.0
_FIELD = re.compile(r"\{([^{}\n]*)\}|[{}]")


@dataclass(frozen=True, slots=True)
class Writing:
    """How G-code is written.

    Attributes
    ----------
    machine, material : str
        Named in its head, so that another machine refuses it.
    build_mm : (x, y, z)
        The origin is the front left corner of the plate.
    diameter_mm : float
        Of the filament.
    nozzle_c, bed_c : float
    relative : bool
        E tells what each move pushes out, and not all up to there.
    lift_mm : float
        The nozzle goes up so much on travels that it draws back for.
    second_material, second_c : str, float
        Of the second nozzle; empty where nothing is printed with it.
    fan_percent : float
        Behind the first layer.
    start, end : str
        Text before and after, with names in braces.
    """

    machine: str
    material: str
    build_mm: tuple[float, float, float]
    diameter_mm: float = 1.75
    nozzle_c: float = 205.0
    bed_c: float = 60.0
    second_material: str = ""
    second_c: float = 0.0
    relative: bool = True
    lift_mm: float = 0.0
    fan_percent: float = 100.0
    start: str = START
    end: str = END


def filled_text(text: str, values: dict[str, object], what: str) -> str:
    """Put values in place of names in braces.

    Raises
    ------
    BadValue
        An unknown name, or a brace by itself; with its place.
    """

    def value(found: re.Match[str]) -> str:
        name = found.group(1)
        if name is None or name.strip() not in values:
            line = text.count("\n", 0, found.start()) + 1
            column = found.start() - text.rfind("\n", 0, found.start())
            told = f"a single {found.group(0)}" if name is None else f"the name “{name[:40]}”"
            raise BadValue(
                f"The {what} has {told} in line {line}, column {column}, which means nothing here.",
                f"Names in braces are: {', '.join(NAMES)}.",
            )
        return _said(values[name.strip()])

    return _FIELD.sub(value, text)


def _said(value: object) -> str:
    return f"{value:.3f}".rstrip("0").rstrip(".") if isinstance(value, float) else str(value)


def written(
    beads: Beads,
    moves: Moves,
    asked: Writing,
    running: Running,
    at_mm: tuple[float, float],
    facts: dict[str, object],
) -> Iterator[bytes]:
    """Write G-code, layer by layer.

    Parameters
    ----------
    beads : Beads
    moves : Moves
        Along them, with the speeds they run at.
    asked : Writing
    running : Running
    at_mm : (x, y)
        Where the item stands on the plate, from its middle.
    facts : dict
        Values of names that texts hold, besides those of ``asked``.

    Yields
    ------
    bytes
        Whole lines.

    Raises
    ------
    BadValue
        A text holds what means nothing.
    """
    origin = np.array([asked.build_mm[0] / 2 + at_mm[0], asked.build_mm[1] / 2 + at_mm[1], 0.0])
    places = moves.places + origin
    columns = places.T if len(places) else np.zeros((3, 1))
    low, high = [float(one.min()) for one in columns], [float(one.max()) for one in columns]
    values: dict[str, object] = {
        "machine": asked.machine, "material": asked.material, "nozzle_c": asked.nozzle_c,
        "bed_c": asked.bed_c, "layer_mm": beads.layer_mm, "layers": len(beads.tops_mm),
        "low_x": low[0], "low_y": low[1], "high_x": high[0], "high_y": high[1], "high_z": high[2],
        "above_z": max(high[2], min(high[2] + END_UP_MM, asked.build_mm[2])),
        "second_material": asked.second_material, "second_c": asked.second_c, **facts,
    }  # fmt: skip
    start, end = filled_text(asked.start, values, "start text"), filled_text(asked.end, values, "end text")
    head = [f"; machine: {asked.machine}", f"; material: {asked.material}"]
    head += [f"; second material: {asked.second_material}"] if asked.second_material else []
    head += [f"; {name}: {_said(values[name])}" for name in ("layers", "layer_mm", *facts)]
    mode = ["M83" if asked.relative else "M82", "G92 E0"]
    if asked.second_material:
        mode += [f"M109 T1 S{_said(asked.second_c)}", "T0"]
    yield "\n".join([*head, start.rstrip("\n"), *mode, ""]).encode()
    yield from _layers(beads, moves, places, asked, running)
    yield (end.rstrip("\n") + "\n").encode()


def _layers(
    beads: Beads, moves: Moves, places: NDArray[np.float64], asked: Writing, running: Running
) -> Iterator[bytes]:
    names = [f"; {kind.words}\n".encode() for kind in Kind]
    text = np.frombuffer(b"".join(names), np.uint8)
    ends = np.concatenate([[0], np.cumsum([len(name) for name in names])]).astype(np.int64)
    push = moves.area * lengths(moves.places)
    push = push / (math.pi * asked.diameter_mm**2 / 4.0)
    settings = np.array([
        asked.lift_mm, running.retract_mm, 60 * running.retract_mm_s, 60 * running.travel_mm_s,
        asked.build_mm[2],
    ])  # fmt: skip
    # E so far, the kind that was last written, the nozzle that prints, and which of them ever did.
    state = np.array([0.0, -1.0, 0.0, 1.0, 0.0])
    layer = beads.layer[moves.path] if len(moves.path) else np.zeros(0, np.int64)
    bounds = np.searchsorted(layer, np.arange(len(beads.tops_mm) + 1))
    begins = beads.begins
    for k, top in enumerate(beads.tops_mm.tolist()):
        a, b = int(bounds[k]), int(bounds[k + 1])
        fan = 0 if begins[k] else round(255 * asked.fan_percent / 100)
        head = f"; layer {k + 1} of {len(beads.tops_mm)} at {top:.3f} mm\n"
        if begins[k] or begins[k - 1]:
            head += f"M106 S{fan}\n" if fan else "M107\n"
        if begins[k] and k and any(event.nozzle_c is not None for event in beads.events):
            # What was set for heights of the item before does not hold for the next.
            head += f"M104 S{_said(asked.nozzle_c)}\n"
        yield head.encode()
        yield from _events(beads, k, asked, running, places[a], state)
        if k == 0 and len(places):
            x, y, z = places[0]
            first = f"G0 X{x:.3f} Y{y:.3f} Z{z:.3f} F{60 * running.travel_mm_s:.0f}\n"
            first += names[int(beads.kind[0])].decode()
            yield first.encode()
            state[1] = float(beads.kind[0])
        elif begins[k] and b > a:
            kind = int(beads.kind[moves.path[a]])
            up = min(over_mm(beads, k), asked.build_mm[2])
            yield _over(places[a + 1], up, running, None if asked.relative else float(state[0]))
            yield names[kind]
            state[1] = float(kind)
            a += 1
        nozzle = beads.nozzle[moves.path[a:b]].astype(np.int64)
        kinds = beads.kind[moves.path[a:b]].astype(np.int64)
        data, size = _lines(
            places[a : b + 1], 60 * moves.feed[a:b], push[a:b], moves.travel[a:b], moves.back[a:b],
            kinds, nozzle, text, ends, settings, state, asked.relative,
        )  # fmt: skip
        yield data[:size].tobytes()


def _events(
    beads: Beads, layer: int, asked: Writing, running: Running, at: NDArray[np.float64],
    state: NDArray[np.float64],
) -> Iterator[bytes]:  # fmt: skip
    """What happens before a layer: temperatures, fans, and pauses aside of the print."""
    for event in beads.events:
        if event.layer != layer:
            continue
        if event.nozzle_c is not None:
            yield f"M104 S{_said(float(event.nozzle_c))}\n".encode()
        if event.fan_percent is not None:
            yield f"M106 S{round(255 * event.fan_percent / 100)}\n".encode()
        if not event.pause:
            continue
        # Items that were printed before may be higher.
        high = max(float(at[2]), float(beads.tops_mm[:layer].max(initial=0.0)))
        up = min(high + PARK_UP_MM, asked.build_mm[2])
        waits = [
            f"G0 X{PARK_MM:.3f} Y{PARK_MM:.3f} F{60 * running.travel_mm_s:.0f}",
            f"M0 {_plain_words(event.pause)}",
        ]
        yield _over(at, up, running, None if asked.relative else float(state[0]), waits)


def _over(
    to: NDArray[np.float64], up: float, running: Running, e: float | None, between: Sequence[str] = ()
) -> bytes:
    """The way over what stands to a place (3,): drawn back, up, across and down again; relative without E."""
    x, y, z = to.tolist()
    travel, pull = f"F{60 * running.travel_mm_s:.0f}", f"F{60 * running.retract_mm_s:.0f}"
    lines = [
        f"G1 E{(e or 0.0) - running.retract_mm:.5f} {pull}",
        f"G0 Z{up:.3f} {travel}",
        *between,
        f"G0 X{x:.3f} Y{y:.3f} {travel}",
        f"G0 Z{z:.3f} {travel}",
        f"G1 E{running.retract_mm if e is None else e:.5f} {pull}",
    ]
    return ("\n".join(lines) + "\n").encode()


def _plain_words(told: str) -> str:
    """Words that a line of G-code may hold: printable, without what begins a comment."""
    return "".join(c if c.isprintable() and c not in ";()*%" else " " for c in told).strip()[:60]


# By how many digits there are behind the point, what a number is multiplied with.
SCALES = np.array([1.0, 10.0, 100.0, 1e3, 1e4, 1e5])
WHOLES = SCALES.astype(np.uint64)
# Divisions by what is known, without a sign, are multiplications.
TEN, ZERO = np.uint64(10), np.uint64(48)


@njit(cache=True)
def _put(out, n, letter, value, digits):  # type: ignore[no-untyped-def]
    """Write a letter and a number with so many digits behind the point."""
    out[n] = 32
    out[n + 1] = letter
    n += 2
    whole = np.uint64(abs(value) * SCALES[digits] + 0.5)
    if value < 0 and whole > 0:
        out[n] = 45
        n += 1
    front, above = 1, WHOLES[digits] * TEN
    while whole >= above:
        front += 1
        above *= TEN
    # From the last digit to the first.
    at = n + front
    if digits:
        at += digits + 1
        for _ in range(digits):
            at -= 1
            out[at] = ZERO + whole % TEN
            whole //= TEN
        at -= 1
        out[at] = 46
        end = at + digits + 1
    else:
        end = at
    for _ in range(front):
        at -= 1
        out[at] = ZERO + whole % TEN
        whole //= TEN
    return end


@njit(cache=True)
def _pull(out, n, e, feed):  # type: ignore[no-untyped-def]
    """Write that filament is drawn back or pushed."""
    out[n], out[n + 1] = 71, 49
    n = _put(out, n + 2, 69, e, 5)
    n = _put(out, n, 70, feed, 0)
    out[n] = 10
    return n + 1


@njit(cache=True)
def _height(out, n, z):  # type: ignore[no-untyped-def]
    """Write that the nozzle goes up or down to a height."""
    out[n], out[n + 1] = 71, 48
    n = _put(out, n + 2, 90, z, 3)
    out[n] = 10
    return n + 1


@njit(cache=True)
def _lines(places, feed, push, travel, drawn, kinds, nozzle, text, ends, settings, state, relative):  # type: ignore[no-untyped-def]
    """Write the lines of moves: travels, drawn back for where they are long, and beads; compiled whole."""
    count = feed.shape[0]
    lift, back, back_feed, travel_feed, ceiling = settings
    out = np.empty(288 * count + 64, np.uint8)
    n = 0
    e = state[0]
    kind, active = int(state[1]), int(state[2])
    now = -1.0
    for k in range(count):
        x, y, z = places[k + 1, 0], places[k + 1, 1], places[k + 1, 2]
        if travel[k]:
            dx, dy, dz = x - places[k, 0], y - places[k, 1], z - places[k, 2]
            far = drawn[k]
            pushes = far
            if far:
                e -= back
                n = _pull(out, n, -back if relative else e, back_feed)
                if lift > 0:
                    n = _height(out, n, max(z, places[k, 2], min(max(z, places[k, 2]) + lift, ceiling)))
                if nozzle[k] != active:
                    active = nozzle[k]
                    out[n], out[n + 1], out[n + 2] = 84, 48 + active, 10
                    n += 3
                    if not relative:
                        # Each nozzle counts for itself.
                        out[n], out[n + 1], out[n + 2] = 71, 57, 50
                        n = _put(out, n + 3, 69, 0.0, 0)
                        out[n] = 10
                        n += 1
                        e = 0.0
                    # One that never printed was never drawn back: the stand takes what it begins with.
                    pushes = state[3 + active] > 0
                    state[3 + active] = 1.0
            if abs(dx) > 5e-4 or abs(dy) > 5e-4 or abs(dz) > 1e-9:
                out[n], out[n + 1] = 71, 48
                n = _put(out, n + 2, 88, x, 3)
                n = _put(out, n, 89, y, 3)
                if abs(dz) > 1e-9 and not (far and lift > 0):
                    n = _put(out, n, 90, z, 3)
                n = _put(out, n, 70, travel_feed, 0)
                now = travel_feed
                out[n] = 10
                n += 1
            if far and lift > 0:
                n = _height(out, n, z)
            if pushes:
                e += back
                n = _pull(out, n, back if relative else e, back_feed)
                now = back_feed
            if kinds[k] != kind and kinds[k] != TRAVEL:
                kind = kinds[k]
                for c in range(ends[kind], ends[kind + 1]):
                    out[n] = text[c]
                    n += 1
            continue
        e += push[k]
        out[n], out[n + 1] = 71, 49
        n = _put(out, n + 2, 88, x, 3)
        n = _put(out, n, 89, y, 3)
        n = _put(out, n, 69, push[k] if relative else e, 5)
        if abs(feed[k] - now) > 0.5:
            now = feed[k]
            n = _put(out, n, 70, now, 0)
        out[n] = 10
        n += 1
    state[0], state[1], state[2] = e, kind, active
    return out, n


TRAVEL = int(Kind.TRAVEL)

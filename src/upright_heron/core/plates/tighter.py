"""Outlines packed tighter than in one go, by a library that moves all of them at once for a while."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..progress import Progress, silent
from .gaps import Lying, least_gap_mm
from .nesting import FREELY, Laid, Lock, Room, nest
from .outline import OUTLINE_MM, Outline

# More outlines than found room are tried on a plate: this share of its area, and less where that fails.
_MORE = 0.12
# What each try takes of the time for a plate.
_TIMES = (0.6, 0.25, 0.15)
# Plates behind so many are filled in one go.
_PLATES = 3
# The library's corners are thinned by no more, and its gap is this much wider for it.
_THIN_MM = 0.05
# The library keeps its own gap to single precision.
_PRECISE_MM = 0.01


def nest_tighter(
    outlines: Sequence[Outline],
    which: Sequence[int],
    room: Room,
    locks: Sequence[Lock] = (),
    *,
    swings: Sequence[float] = (),
    ranks: Sequence[int] = (),
    lone: Collection[int] = (),
    seconds: int = 20,
    seed: int = 1,
    progress: Progress = silent,
) -> list[Laid]:
    """Lay outlines on plates as ``nest`` does, and try for a while to get more onto each plate.

    Parameters
    ----------
    outlines : sequence of Outline
    which : sequence of int
    room : Room
    locks : sequence of Lock, optional
    swings : sequence of float, optional
    ranks : sequence of int, optional
    lone : collection of int, optional
        All as for ``nest``. With worn places, locks, ranks, lone ones, or parts that are swung by hand they
        stay as ``nest`` lays them: the library knows of none of these.
    seconds : int
        For all plates together.
    seed : int
        Of what is drawn at random.
    progress : Progress

    Returns
    -------
    list of Laid
        By number; never fewer of them, nor on more plates, than ``nest`` lays.

    References
    ----------
    J. Gardeyn and G. Vanden Berghe, "An open-source heuristic to reboot 2D nesting research", 2025 (from
    memory): overlaps are allowed, weighed and worked off by a guided local search.
    """
    plain = nest(outlines, which, room, locks, swings=swings, ranks=ranks, lone=lone, progress=progress)
    count = max((one.plate for one in plain), default=-1) + 1
    if room.worn or locks or any(swings) or any(ranks) or len(lone) > 1 or len(plain) < 3:
        return plain
    done: list[Laid] = []
    left = [one.number for one in plain]
    each = seconds / max(1, min(count - 1, _PLATES))
    plate = 0
    while left:
        progress("Packing tighter", len(done), len(plain))
        own = {k: n for n, k in enumerate(left)}
        first = nest(outlines, [which[k] for k in left], room, plates=1)
        here = [replace(one, number=left[one.number], plate=plate) for one in first]
        if not here:
            break
        waiting = [k for k in left if k not in {one.number for one in here}]
        if waiting and plate < _PLATES:
            here = _fuller(here, waiting, outlines, which, room, each, seed)
        elif count == 1:
            tight = _packed([one.number for one in here], outlines, which, room, seconds, seed)
            here = here if tight is None else tight
        done += [replace(one, plate=plate) for one in here]
        left = [k for k in own if k not in {one.number for one in here}]
        plate += 1
    used = max((one.plate for one in done), default=-1) + 1
    return sorted(done, key=lambda one: one.number) if len(done) == len(plain) and used <= count else plain


def _fuller(
    here: list[Laid],
    waiting: Sequence[int],
    outlines: Sequence[Outline],
    which: Sequence[int],
    room: Room,
    seconds: float,
    seed: int,
) -> list[Laid]:
    """Try to get some of what waits onto a plate beside what lies there."""
    room_mm2 = _MORE * room.plate_mm[0] * room.plate_mm[1]
    for share in _TIMES:
        there = {one.number for one in here}
        more, taken = [], 0.0
        for k in waiting:
            size = outlines[which[k]].area_mm2
            if k not in there and taken + size <= room_mm2:
                more.append(k)
                taken += size
        if not more:
            break
        tight = _packed([*there, *more], outlines, which, room, share * seconds, seed)
        if tight is None:
            room_mm2 = taken / 2
        else:
            here = tight
    return here


def _packed(
    numbers: Sequence[int],
    outlines: Sequence[Outline],
    which: Sequence[int],
    room: Room,
    seconds: float,
    seed: int,
) -> list[Laid] | None:
    """Pack some outlines onto one plate; ``None`` where they do not all fit, or not with their gap."""
    import spyrrow

    # As where pixels are laid, and by what corners are thinned.
    wide, deep = (side - 2 * (room.edge_mm + OUTLINE_MM + _THIN_MM) for side in room.plate_mm)
    kinds = sorted({which[k] for k in numbers})
    turns = None if room.turns == FREELY else list(room.turns)
    items = [
        spyrrow.Item(str(kind), _outer(outlines[kind]), sum(which[k] == kind for k in numbers), turns)
        for kind in kinds
    ]
    asked = spyrrow.StripPackingConfig(
        early_termination=True,
        min_items_separation=room.gap_mm + 2 * (OUTLINE_MM + _THIN_MM) + _PRECISE_MM,
        total_computation_time=max(1, round(seconds)),
        num_workers=2,
        seed=seed,
    )
    found = spyrrow.StripPackingInstance("plate", deep, items).solve(asked)
    if found.width > wide:
        return None
    # Its strip begins at the left lower corner; what is left of the width lies on both sides alike.
    shift_x, shift_y = -found.width / 2, -deep / 2
    free = {kind: [k for k in numbers if which[k] == kind] for kind in kinds}
    laid = [
        Laid(
            free[int(one.id)].pop(0),
            0,
            one.translation[0] + shift_x,
            one.translation[1] + shift_y,
            one.rotation,
        )
        for one in found.placed_items
    ]
    lying = [Lying(outlines[which[one.number]], one.x_mm, one.y_mm, one.swing_deg) for one in laid]
    gap = least_gap_mm(lying)
    return None if gap is not None and gap < room.gap_mm else laid


def _outer(outline: Outline) -> list[tuple[float, float]]:
    """Outer ring of an outline, thinned; where it is in several pieces, the hull round all of them."""
    plan = outline.section.simplify(_THIN_MM)
    pieces = plan.decompose()
    whole = pieces[0] if len(pieces) == 1 else plan.hull()
    ring: NDArray[np.float64] = max(whole.to_polygons(), key=lambda one: float(np.ptp(one, axis=0).prod()))
    return [(float(x), float(y)) for x, y in ring]

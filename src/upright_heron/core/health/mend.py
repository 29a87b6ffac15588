"""Mending a surface: a ladder of ways, gentlest first, each kept only if what is read back is better.

What is told of the mended surface is true of the file: it is judged in single precision, with equal corners
one, as it is read back.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..errors import BadValue
from ..geometry.mesh import Mesh, facts
from ..progress import Progress, silent
from .apart import take_apart
from .arrange import arrange
from .defects import Health, examine, makes_solid
from .moves import NONE, Move, measure_move, winding_volume_mm3
from .outwards import face_outwards
from .patching import drop_needless, fill_holes, unite_bodies, weld_close
from .rewrap import rewrap
from .written import Verdict, as_written, judge

STEPS = ("weld", "drop", "outwards", "holes", "unite", "arrange", "apart", "rewrap")
# The step that takes each defect, by the names of ``Health.counts``.
STEP_FOR = {
    "open_edges": "holes",
    "nonmanifold_edges": "apart",
    "flipped_facets": "outwards",
    "duplicate_facets": "drop",
    "degenerate_facets": "drop",
    "self_crossings": "arrange",
}
# A volume that leaves that of the winding number by more is told, and a wrap of a closed surface not kept.
VOLUME_SHARE = 0.02
# Cut facets are not kept where the volume would leave it by more.
LOST_SHARE = 0.15
# Neither filled holes nor a wrap of an open surface are kept where the volume would become so many times that
# of the winding number, or less than that share of it.
FILLED = 2.0
# A wrap of a closed surface that moves more than this share of the longest side is not kept.
WRAP_SHARE = 0.0025


@dataclass(frozen=True, slots=True)
class Done:
    """What one step did.

    Attributes
    ----------
    step : str
        One of ``STEPS``.
    words : str
        For the technician; empty when there was nothing to do.
    """

    step: str
    words: str


@dataclass(frozen=True, slots=True)
class Way:
    """A step that was tried.

    Attributes
    ----------
    step : str
        One of ``STEPS``.
    kept : bool
    why : str
        What it did, or why it was not kept.
    left : str
        What was left after it, as read back; empty where nothing was.
    """

    step: str
    kept: bool
    why: str
    left: str


@dataclass(frozen=True, eq=False)
class Mended:
    """A surface before and after mending.

    Attributes
    ----------
    mesh : Mesh
        As it is read back from a file.
    done : tuple of Done
        Steps that changed something.
    ways : tuple of Way
        Every step that was tried and found something to do.
    before, after : Health
    verdict : Verdict
        Of the mended surface as it is read back.
    volume_before_mm3, volume_after_mm3 : float
    winding_volume_mm3 : float
        What the surface enclosed as it came, by its winding number; that of the surface where it was sound.
    move : Move
        How far the surface moved.
    """

    mesh: Mesh
    done: tuple[Done, ...]
    ways: tuple[Way, ...]
    before: Health
    after: Health
    verdict: Verdict
    volume_before_mm3: float
    volume_after_mm3: float
    winding_volume_mm3: float
    move: Move

    @property
    def closed(self) -> bool:
        """Read back it has no open and no crowded edge, and one direction."""
        return self.verdict.closed

    @property
    def sound(self) -> bool:
        """Closed, and free of crossings."""
        return self.verdict.sound

    @property
    def greatest_move_mm(self) -> float:
        """Greatest move of the surface."""
        return self.move.greatest_mm

    @property
    def doubts(self) -> tuple[str, ...]:
        """What a technician has to look at before the part is trusted."""
        found = []
        away = abs(self.volume_after_mm3 - self.winding_volume_mm3)
        if self.done and away > VOLUME_SHARE * abs(self.winding_volume_mm3):
            share = 100 * away / max(abs(self.winding_volume_mm3), 1e-9)
            found.append(f"The volume is {share:.0f} % off what the surface enclosed.")
        if self.move.over_share > 0.01:
            found.append(
                f"{100 * self.move.over_share:.0f} % of the surface lie over 1 mm from where it was,"
                f" up to {self.move.greatest_mm:.1f} mm."
            )
        return tuple(found)

    @property
    def others(self) -> tuple[str, ...]:
        """Steps that were not kept and can be asked for by themselves."""
        return tuple(dict.fromkeys(way.step for way in self.ways if not way.kept))


def mend(mesh: Mesh, steps: tuple[str, ...] | None = None, *, progress: Progress = silent) -> Mended:
    """Mend a surface.

    Parameters
    ----------
    mesh : Mesh
    steps : tuple of str, optional
        Of ``STEPS``, taken in their order there and kept whatever comes of them. Without any the ladder is
        climbed as far as it has to be.
    progress : Progress

    Returns
    -------
    Mended

    Raises
    ------
    BadValue
        No such step.
    """
    for name in steps or ():
        if name not in STEPS:
            raise BadValue(f"There is no step “{name[:20]}”.", f"Use one of: {', '.join(STEPS)}.")
    progress("Looking for defects", 0, 1)
    before = examine(mesh)
    climb = _Climb(mesh, progress)
    if steps is None:
        climb.ladder()
    else:
        climb.only(steps)
    current = climb.current if climb.done else mesh
    progress("Looking for defects", 0, 1)
    after = examine(current) if current is not mesh else before
    volume = facts(current).volume_mm3
    enclosed = climb.enclosed_mm3() if climb.done else volume
    move = measure_move(mesh, current) if climb.done else NONE
    return Mended(
        current,
        tuple(climb.done),
        tuple(climb.ways),
        before,
        after,
        climb.verdict,
        facts(mesh).volume_mm3,
        volume,
        enclosed,
        move,
    )


class _Climb:
    """A surface on its way up the ladder."""

    def __init__(self, mesh: Mesh, progress: Progress) -> None:
        self.start = mesh
        self.progress = progress
        self.current = as_written(mesh)
        self.verdict = judge(self.current)
        self.done: list[Done] = []
        self.ways: list[Way] = []
        joined = len(np.unique(mesh.faces)) - len(self.current.vertices)
        gone = len(mesh.faces) - len(self.current.faces)
        if joined or gone:
            counted = [f"{joined} corners in one place joined"] * (joined > 0)
            counted += [f"{gone} facets without three corners dropped"] * (gone > 0)
            self._keep("drop" if gone else "weld", self.current, ", ".join(counted), self.verdict)
        self._enclosed: float | None = None

    def enclosed_mm3(self) -> float:
        """What the surface enclosed as it came, faced outwards."""
        if self._enclosed is None:
            outwards, _ = face_outwards(drop_needless(weld_close(self.start)[0])[0])
            self._enclosed = winding_volume_mm3(outwards)
        return self._enclosed

    def only(self, steps: tuple[str, ...]) -> None:
        """Take some steps, whatever comes of them."""
        for number, step in enumerate(STEPS):
            self.progress("Mending", number, len(STEPS))
            if step in steps:
                changed, words = _STEPS[step](self.current, self.progress)
                if words:
                    self._keep(step, _tidy_filled(changed) if step == "holes" else changed, words)

    def ladder(self) -> None:
        """Take every step that makes better what is read back, until the surface is sound."""
        for number, step in enumerate(STEPS):
            self.progress("Mending", number, len(STEPS))
            if step in ("arrange", "apart", "rewrap") and self.verdict.sound:
                continue
            changed, words = _STEPS[step](self.current, self.progress)
            if not words:
                continue
            if step == "holes":
                changed = _tidy_filled(changed)
            self._try(step, changed, words)
        if any(done.step in ("holes", "arrange", "apart") for done in self.done):
            # Cutting leaves slivers; taking them out is undone where it would bring crossings back.
            changed, words = drop_needless(self.current)
            if words:
                self._try("drop", changed, words)

    def _try(self, step: str, changed: Mesh, words: str) -> None:
        verdict = judge(changed)
        why = self._against(step, verdict, changed)
        if why:
            self.ways.append(Way(step, False, f"{words}: {why}", verdict.left))
        else:
            self._keep(step, changed, words, verdict)

    def _keep(self, step: str, changed: Mesh, words: str, verdict: Verdict | None = None) -> None:
        self.current = as_written(changed)
        self.verdict = verdict or judge(self.current)
        self.done.append(Done(step, words))
        self.ways.append(Way(step, True, words, self.verdict.left))

    def _against(self, step: str, verdict: Verdict, changed: Mesh) -> str:
        """Why a step is not kept; empty where it is."""
        if not verdict.facets:
            return "nothing was left of it"
        better = verdict.better_than(self.verdict)
        worse = self.verdict.better_than(verdict)
        if step in ("weld", "drop", "outwards"):
            return "it left more defects than it took" if worse else ""
        if step == "unite":
            if worse or (not better and self.verdict.closed and len(self.current.faces) == verdict.facets):
                return "it left more defects than it took"
            return "" if self._encloses(verdict) else "the volume left what the surface encloses"
        if not better:
            return "what is read back is no better"
        if step == "arrange" and not self._encloses(verdict, LOST_SHARE):
            return "the volume left what the surface encloses"
        if step == "holes" or (step == "rewrap" and not self.verdict.closed):
            low, high = self.enclosed_mm3() / FILLED, self.enclosed_mm3() * FILLED
            jumps = verdict.closed and not low <= verdict.volume_mm3 <= high
            return "the volume would jump" if jumps else ""
        if step == "rewrap" and self.verdict.closed:
            if not self._encloses(verdict):
                return "the volume left what the surface encloses"
            limit = WRAP_SHARE * float(self.start.size_mm.max())
            if measure_move(self.start, changed).most_mm > limit:
                return f"the surface would move by more than {limit:.2g} mm"
        return ""

    def _encloses(self, verdict: Verdict, share: float = VOLUME_SHARE) -> bool:
        # By the surface as it is now: one with holes tells little of what it will enclose.
        enclosed = winding_volume_mm3(self.current)
        return abs(verdict.volume_mm3 - enclosed) <= share * abs(enclosed)


def _tidy_filled(mesh: Mesh) -> Mesh:
    """Face what was filled outwards; only out of a closed surface can facets without area be taken."""
    outwards, _ = face_outwards(mesh)
    return drop_needless(outwards)[0] if makes_solid(outwards) else outwards


_STEPS: dict[str, Callable[[Mesh, Progress], tuple[Mesh, str]]] = {
    "weld": lambda mesh, _: weld_close(mesh),
    "drop": lambda mesh, _: drop_needless(mesh),
    "outwards": lambda mesh, _: face_outwards(mesh),
    "holes": lambda mesh, _: fill_holes(mesh),
    "unite": lambda mesh, _: unite_bodies(mesh),
    "arrange": lambda mesh, progress: arrange(mesh, progress=progress),
    "apart": lambda mesh, _: take_apart(mesh),
    "rewrap": lambda mesh, progress: rewrap(mesh, progress=progress),
}

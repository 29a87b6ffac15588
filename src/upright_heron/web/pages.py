"""What the templates are given: one documented dataclass a page, put together from the store and the work."""

from __future__ import annotations

import json
import threading
from collections import OrderedDict
from dataclasses import dataclass, field, replace
from typing import Any

from ..core.footing.footing import FootingKind
from ..core.geometry.subdivision import Fine, refined
from ..core.hanging.findings import Family, State
from ..core.layers.peel import NEWTONS
from ..core.machines import catalogue as machines
from ..core.marking.marks import MEANING, Mark
from ..core.stance.pose import from_quaternion
from ..core.supports.checks.removal import ENOUGH, Access, Out
from ..sheet.models import HandWork, JobSheet
from ..sheet.process import Preset
from ..sheet.shop import OwnMaterial, OwnPrinter
from ..store.store import Job, Store
from ..work.keys import hand_of, keys
from ..work.runner import Task, Work
from ..work.summary import Summary, summary
from .stances import FigureLine, StanceCard, board, figure_lines, resting_board, resting_cards
from .supports import VariantLine, variant_lines

SECTIONS = (
    "Part",
    "Printer and material",
    "Fit and split",
    "Stance",
    "Overhangs",
    "Supports",
    "Footing",
    "Layers",
    "Plates and hand-off",
)


class Memo:
    """The last decoded results, so that a page does not unpack the same arrays at every swap."""

    def __init__(self, store: Store, size: int = 64) -> None:
        self._store = store
        self._size = size
        self._values: OrderedDict[str, Any] = OrderedDict()
        # Requests are served by several threads.
        self._lock = threading.Lock()

    def result(self, key: str) -> Any | None:
        """As ``Store.result``."""
        with self._lock:
            if key in self._values:
                self._values.move_to_end(key)
                return self._values[key]
        value = self._store.result(key)
        if value is not None:
            self.put(key, value)
        return value

    def put(self, key: str, value: Any) -> None:
        """Have a value at hand."""
        with self._lock:
            self._values[key] = value
            while len(self._values) > self._size:
                self._values.popitem(last=False)


@dataclass(frozen=True, slots=True)
class JobPage:
    """Everything the job page and its partials show.

    Attributes
    ----------
    job : Job
    sheet : JobSheet
    now : Summary
        With the last known results where new ones are still being made.
    stale : frozenset of str
        Names of the results that are such leftovers.
    task : Task or None
    open : int
        Number of the open section, or 0.
    sections : tuple of str
    printers, materials : tuples
    stances : list of StanceCard
        All resting faces, best first.
    board : list of StanceCard
        Those on the stance board: proposals, or else the best resting faces.
    figures : list of FigureLine
        All figures of the stance, to point at.
    footing_kinds : list of FootingKind
    presets : list of Preset
        Those of the shop for this kind of machine.
    state : str
        JSON for the view.
    variants : list of VariantLine
    said : str
        What a change by hand left without support, or in the way.
    picked : str
        Id of the support that was changed or put in.
    """

    job: Job
    sheet: JobSheet
    now: Summary
    stale: frozenset[str]
    task: Task | None
    open: int
    sections: tuple[str, ...]
    printers: tuple[machines.Printer, ...]
    materials: tuple[machines.Material, ...]
    stances: list[StanceCard]
    board: list[StanceCard]
    figures: list[FigureLine]
    footing_kinds: list[FootingKind]
    presets: list[Preset]
    state: str
    variants: list[VariantLine] = field(default_factory=list)
    said: str = ""
    picked: str = ""

    @property
    def meanings(self) -> list[tuple[str, str, str, float]]:
        """Marks: key, name, what it means, painted area."""
        marks = self.sheet.marks
        areas = (marks.prop_mm2, marks.clear_mm2, marks.show_mm2) if marks else (0.0, 0.0, 0.0)
        kinds = ((Mark.PROP, "prop"), (Mark.KEEP_CLEAR, "clear"), (Mark.SHOW, "show"))
        return [
            (key, MEANING[mark].name, MEANING[mark].words, area)
            for (mark, key), area in zip(kinds, areas, strict=True)
        ]

    @property
    def tally(self) -> dict[str, int]:
        """How many findings are in each state."""
        return {state.value: sum(f.state is state for f in self.now.listed or ()) for state in State}

    @property
    def families(self) -> dict[str, int]:
        """How many findings there are of each family that occurs."""
        found = {family.value: sum(f.family is family for f in self.now.listed or ()) for family in Family}
        return {name: number for name, number in found.items() if number}

    @property
    def trapped(self) -> list[Access]:
        """Supports that cannot be got out."""
        return [a for a in self.now.access or () if a.out == Out.TRAPPED]

    @property
    def punched(self) -> int:
        """How many supports stand in a straight hole and can be punched out of it."""
        return sum(a.out == Out.PUNCH for a in self.now.access or ())

    @property
    def reached(self) -> int:
        """How many supports the tool gets at."""
        return sum(a.tool_share >= ENOUGH for a in self.now.access or ())

    @property
    def stance_key(self) -> str:
        """Name of the stance, as work by hand has it."""
        return keys(self.sheet)["placed"]

    @property
    def hand(self) -> HandWork:
        """Work by hand in this stance."""
        return hand_of(self.sheet, self.stance_key)

    @property
    def next_variant(self) -> str:
        """A name for the next variant that none has yet."""
        names = {v.name for v in self.sheet.variants}
        return next(letter for letter in "ABCDEFGH" if letter not in names)

    def reason_of(self, support: str) -> str:
        """Why a support is there."""
        made = self.now.supports
        return next((s.reason for s in made.supports if s.id == support), "") if made else ""

    @property
    def busy(self) -> bool:
        """Whether something is being made."""
        return self.task is not None and self.task.state == "running"


_KEPT = (
    "placed",
    "findings",
    "hangs",
    "listed",
    "figures",
    "found",
    "supports",
    "footing",
    "split",
    "resting",
    "estimate",
    "access",
)


class Pages:
    """Puts pages together and remembers what each job last showed."""

    def __init__(self, store: Store, work: Work) -> None:
        self._store = store
        self._work = work
        self._memo = Memo(store)
        self._shown: OrderedDict[str, Summary] = OrderedDict()
        self._fine: OrderedDict[str, Fine] = OrderedDict()
        self._refining = threading.Lock()
        self._lock = threading.Lock()

    def result(self, key: str) -> Any | None:
        """A remembered result."""
        return self._memo.result(key)

    def remember(self, key: str, value: Any) -> None:
        """Remember a result that was worked out for an answer, and have it at hand."""
        self._store.remember(key, value)
        self._memo.put(key, value)

    def fine(self, digest: str) -> Fine:
        """The fine mesh of a part; the last few are kept, for a stroke must not wait for it."""
        with self._refining:
            if digest not in self._fine:
                self._fine[digest] = refined(self._store.mesh(digest))
                while len(self._fine) > 4:
                    self._fine.popitem(last=False)
            self._fine.move_to_end(digest)
            return self._fine[digest]

    def summary(self, sheet: JobSheet) -> Summary:
        """What is known of a sheet."""
        return summary(sheet, self._memo)

    def job_page(self, job: Job, open_section: int, *, again: bool = False) -> JobPage:
        """Start what is missing and gather what there is."""
        task = self._work.act(job.id) or self._work.ensure(job.id, job.sheet, again=again)
        live = self.summary(job.sheet)
        now, stale = self._with_leftovers(job, live)
        stances = resting_cards(job.sheet, now.resting)
        return JobPage(
            job=job,
            sheet=job.sheet,
            now=now,
            stale=stale,
            task=task,
            open=open_section,
            sections=SECTIONS,
            printers=(*machines.PRINTERS, *(p.core() for p in self._store.shelf(OwnPrinter))),
            materials=(
                *machines.materials_for(job.sheet.machine),
                *(
                    m.core()
                    for m in self._store.shelf(OwnMaterial)
                    if m.technology is job.sheet.machine.technology
                ),
            ),
            stances=stances,
            board=board(job.sheet, now.found, now.figures) if now.found else resting_board(stances),
            figures=figure_lines(now.figures, job.sheet),
            footing_kinds=list(FootingKind),
            presets=[p for p in self._store.shelf(Preset) if p.technology is job.sheet.machine.technology],
            state=json.dumps(view_state(job, live)).replace("<", "\\u003c"),
            variants=variant_lines(live, keys(job.sheet)),
        )

    def _with_leftovers(self, job: Job, live: Summary) -> tuple[Summary, frozenset[str]]:
        missing = {name for name in _KEPT if getattr(live, name) is None and _asked(job.sheet, name)}
        with self._lock:
            last = self._shown.get(job.id)
            if not missing:
                self._shown[job.id] = live
                self._shown.move_to_end(job.id)
                while len(self._shown) > 100:
                    self._shown.popitem(last=False)
                return live, frozenset()
        if last is None or last.sheet.part != job.sheet.part:
            return live, frozenset()
        old = {name: getattr(last, name) for name in missing if getattr(last, name) is not None}
        return replace(live, **old), frozenset(old)


def _asked(sheet: JobSheet, name: str) -> bool:
    always = ("estimate", "listed")
    return name in keys(sheet) or name in always or (name == "found" and sheet.goals is not None)


def view_state(job: Job, live: Summary) -> dict[str, Any]:
    """What the view needs to draw a job; keys stand for blocks under ``/api``."""
    sheet = job.sheet
    found = keys(sheet)
    held = {f.name for f in live.listed or () if f.state is State.HELD}
    rotation = from_quaternion(sheet.stance.quaternion)
    return {
        "job": job.id,
        "step": job.step,
        "mesh": sheet.part.mesh,
        "closed": sheet.part.closed,
        "before": sheet.unmended.mesh if sheet.unmended else None,
        "factors": list(sheet.size.factors),
        "rotation": [round(float(v), 15) for v in rotation.ravel()],
        "build": list(sheet.machine.build_mm),
        "limit": sheet.limit,
        "layer": sheet.layer_mm,
        "lift": sheet.lift_mm,
        "resin": sheet.is_resin,
        "at": [round(v, 9) for v in live.placed.at_mm] if live.placed else [0.0, 0.0],
        "raise": live.footing.raise_mm if live.footing else 0.0,
        "layers": found["layers"] if live.findings else None,
        "supports": found.get("supports") if live.supports else None,
        "footing": found.get("footing") if live.footing else None,
        "footingLayers": live.footing.layers if live.footing else 0,
        "split": found.get("split") if live.split else None,
        "wantsSupports": sheet.supports is not None,
        "wantsFooting": sheet.footing.kind is not FootingKind.NONE,
        "wantsSplit": sheet.grid is not None,
        "health": found["health"] if live.health else None,
        "hangs": found["hangs"] if live.hangs is not None else None,
        "findings": found["findings"] if live.findings is not None else None,
        "marks": sheet.marks.digest if sheet.marks else None,
        "show": sheet.show,
        "load": sheet.load,
        "cups": [[c.x_mm, c.y_mm, c.z_mm] for c in live.figures.cups] if live.figures else [],
        "centre": list(live.figures.centre_mm) if live.figures else None,
        "islands": [
            {
                "n": i.number,
                "z": i.z_mm,
                "x": i.x_mm,
                "y": i.y_mm,
                "layer": i.layer,
                "held": f"island {i.number}" in held,
            }
            for i in (live.findings.islands[:400] if live.findings else ())
        ],
        "peel": NEWTONS[sheet.stuff.peel] if sheet.is_resin else None,
        "steps": [step.z_mm for step in live.findings.walked.steps] if live.findings else [],
    }

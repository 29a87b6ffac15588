"""What the templates are given: one documented dataclass a page, put together from the store and the work."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from cachetools import LRUCache

from ..core.geometry.subdivision import Fine
from ..core.graph import Ref
from ..core.handoff.preflight import Check
from ..core.hanging.findings import State
from ..core.keys import Keys
from ..core.maker import Bound
from ..core.recipes.part import MESH
from ..core.split.assembly_map import AssemblyMap
from ..sheet.models import ItemSheet, JobSheet
from ..sheet.shop import Habits
from ..store.store import Job, Store
from ..work.bind import as_variant, keys_of, plate_keys
from ..work.checking import shop_checks
from ..work.files_of_plates import to_write
from ..work.known import Memo
from ..work.machine_board import NEEDED
from ..work.scheduler import Scheduler
from ..work.summary import Summary, item_summary, summary
from ..work.tasks import Rank, Standing
from ..work.tips import TipHand
from .looking import Looking
from .section import SECTIONS, Section
from .state import view_state

# Results of an item that every page shows or sums up.
ALWAYS = ("placed", "brief")
# What a variant of the supports is compared by.
COMPARED = ("findings", "supports", "access", "footing")


@dataclass(frozen=True, slots=True)
class JobPage:
    """Everything the job page and its partials show.

    Attributes
    ----------
    job : Job
    sheet : ItemSheet
        Of the item that is looked at.
    now : Summary
        With the last known results where new ones are still being made.
    stale : frozenset of str
        Names of the results that are such leftovers.
    task : Standing or None
        Where the work stands.
    open : int
        Number of the open section, or 0.
    sections : list of Section
    state : str
        JSON for the view.
    said : str
        What a change by hand left without support, or in the way.
    picked : str
        Id of the support that was changed or put in.
    waits : bool
        Results of this step are made when somebody asks.
    many_said : str
        What a change to many items left alone.
    assembly : AssemblyMap or None
        How a cut part goes together; on the traveller.
    copy : int
        Number of the copy that is looked at.
    """

    job: Job
    sheet: ItemSheet
    now: Summary
    stale: frozenset[str]
    task: Standing | None
    open: int
    sections: list[Section]
    state: str = "{}"
    said: str = ""
    picked: str = ""
    waits: bool = False
    many_said: str = ""
    assembly: AssemblyMap | None = None
    copy: int = 1

    @property
    def tally(self) -> dict[str, int]:
        """How many findings are in each state."""
        return {state.value: sum(f.state is state for f in self.now.listed or ()) for state in State}

    @property
    def busy(self) -> bool:
        """Whether something is being made."""
        return self.task is not None and self.task.state == "running"

    @property
    def several(self) -> bool:
        """Whether the job has more than one item."""
        return len(self.job.sheet.items) > 1

    @property
    def files(self) -> tuple[tuple[str, str], ...]:
        """Ids of the items of the job, each with the name of its file, and of the job that it came from."""
        return tuple(
            (item.id, f"{item.part.file_name} of {item.of.name}" if item.of else item.part.file_name)
            for item in self.job.sheet.items
        )

    @property
    def controllers(self) -> str:
        """Slugs of the sections that have a script of their own."""
        return " ".join(s.slug for s in self.sections if (s.folder / "controller.js").is_file())

    def section_of(self, check: Check) -> int:
        """Number of the section where a check is mended."""
        return SECTIONS.number_of(check.topic)

    def number_of(self, item: str) -> int:
        """Number of an item of the job, from 1; 0 where there is none of this id."""
        return next((n for n, one in enumerate(self.job.sheet.items, 1) if one.id == item), 0)


# Fields of a summary that keep their last values while new ones are made.
_LEFT = (
    "placed", "findings", "hangs", "listed", "figures", "found", "supports", "footing", "split", "resting",
    "estimate", "access",
)  # fmt: skip
_RESULT_OF = {"found": "search"}


class Pages:
    """Puts pages together and remembers what each item last showed."""

    def __init__(self, store: Store, work: Scheduler) -> None:
        self._store = store
        self._work = work
        self.memo = Memo(store)
        # Tips of stilts are changed where the pages are served: nothing is sent to and fro for it.
        self.tips = TipHand(store, self.memo)
        self._shown: LRUCache[tuple[str, str], Summary] = LRUCache(100)
        self._lock = threading.Lock()
        # The step of a job that somebody asked the results of, where they are not made at once.
        self._asked: LRUCache[str, int] = LRUCache(1000)
        # Plates of a step whose files somebody asked to have written and read back.
        self._verified: LRUCache[tuple[str, int], frozenset[int]] = LRUCache(1000)

    def result(self, key: str) -> Any | None:
        """A remembered result."""
        return self.memo.result(key)

    def fine(self, digest: str) -> Fine:
        """The fine mesh of a surface; made by a worker where it is not at hand."""
        keys = Keys(Bound(refs={MESH.name: Ref(digest, digest)}))
        found = self.result(keys["fine"])
        if found is None:
            self._work.make(keys, "fine").result()
            found = self.result(keys["fine"])
        assert isinstance(found, Fine)
        return found

    def made(self, sheet: ItemSheet, name: str) -> Any | None:
        """A result of an item, made by a worker where it is not there; ``None`` where it is not asked for."""
        keys = keys_of(sheet)
        if name not in keys:
            return None
        found = self.result(keys[name])
        if found is None:
            self._work.make(keys, name).result()
            found = self.result(keys[name])
        return found

    def wanted(self, job: JobSheet, item: str, sections: Iterable[Section]) -> list[tuple[Keys, str]]:
        """Results that a page shows, what is looked at first before the others."""
        sheet = job.on(item)
        keys = keys_of(sheet)
        opened = list(sections)
        names = [name for section in opened for name in section.wants]
        # Of all sections at once, none is looked at.
        names += [name for section in opened for name in section.opened if len(opened) == 1]
        names += [name for section in SECTIONS for name in section.facts]
        found = [(keys, name) for name in dict.fromkeys([*ALWAYS, *names])]
        for kept in sheet.variants:
            found += [(keys_of(as_variant(sheet, kept)), name) for name in COMPARED]
        others = [job.on(one.id) for one in job.printed if one.id != sheet.id]
        found += [(keys_of(other), name) for other in others for name in ("brief", "extent")]
        found += [(plate_keys(job, plate), "plate_checks") for plate in range(len(job.plates))]
        return found

    def ensure(
        self, job: Job, look: Looking, *, again: bool = False, every_section: bool = False
    ) -> Standing | None:
        """Start what a page shows and is not there."""
        if again or every_section:
            with self._lock:
                self._asked[job.id] = job.step_id
        if not self.makes(job):
            wanted = [(keys_of(job.sheet.on(look.item)), "placed")]
            return self._work.want(job.id, wanted, about=str(job.step_id))
        opened = SECTIONS.numbered(look.open)
        sections = list(SECTIONS) if every_section else [opened] if opened else []
        wanted = self.wanted(job.sheet, look.item, sections)
        with self._lock:
            plates = self._verified.get((job.id, job.step_id), frozenset())
        wanted += [file for plate, file in to_write(job.sheet).items() if plate in plates] if plates else []
        return self._work.want(job.id, wanted, about=str(job.step_id), again=again)

    def verify(self, job: Job, plate: int) -> None:
        """Have the file of a plate, from 1, written and read back for whoever looks at this step next."""
        place = (job.id, job.step_id)
        with self._lock:
            self._verified[place] = self._verified.get(place, frozenset()) | {plate}

    @property
    def at_once(self) -> bool:
        """Results are made as soon as something changes."""
        habits = self._store.on_shelf(Habits, "shop")
        return habits is None or habits.at_once

    def makes(self, job: Job) -> bool:
        """Whether results of a step are made: at once, or because somebody asked."""
        with self._lock:
            asked = self._asked.get(job.id)
        return asked == job.step_id or self.at_once

    def in_background(self, job: Job) -> None:
        """Have a card of the Yard made when nothing else is to do."""
        sheet = job.sheet.on()
        names = ("picture", "brief") if self.at_once else ("picture",)
        wanted = [(keys_of(sheet), name) for name in names]
        self._work.want(f"card {job.id}", wanted, rank=Rank.BACKGROUND)

    def in_advance(self, job: Job, sheets: Iterable[ItemSheet]) -> None:
        """Have variants of an item timed when nothing else is to do."""
        wanted = [(keys_of(sheet), "timed") for sheet in sheets]
        self._work.want(f"what if {job.id}", wanted, about=str(job.step_id), rank=Rank.BACKGROUND)

    def for_board(self, job: Job, sheets: Iterable[ItemSheet]) -> None:
        """Have items worked out as they would be on other machines, when nothing else is to do."""
        wanted = [(keys_of(sheet), name) for sheet in sheets for name in NEEDED]
        self._work.want(f"machines {job.id}", wanted, about=str(job.step_id), rank=Rank.BACKGROUND)

    def summary(self, sheet: ItemSheet) -> Summary:
        """What is known of an item."""
        return item_summary(sheet, self.memo)

    def job_page(self, job: Job, look: Looking, *, again: bool = False) -> JobPage:
        """Start what is missing and gather what there is."""
        task = self._work.act(job.id) or self.ensure(job, look, again=again)
        live = summary(
            job.sheet, look.item, self.memo, shop_checks(job.sheet, self._store), self._work.refused
        )
        now, stale = self._with_leftovers(job, live)
        page = JobPage(
            job=job,
            sheet=live.sheet,
            now=now,
            stale=stale,
            task=task,
            open=look.open,
            sections=list(SECTIONS),
            waits=not self.makes(job),
            copy=look.copy,
        )
        state = json.dumps(view_state(job, live, busy=task is not None)).replace("<", "\\u003c")
        return replace(page, state=state)

    def context(self, page: JobPage) -> Any:
        """What the open section shows besides the page."""
        section = SECTIONS.numbered(page.open)
        return section.context(page, self._store) if section is not None else None

    def _with_leftovers(self, job: Job, live: Summary) -> tuple[Summary, frozenset[str]]:
        keys = live.known.keys
        missing = {
            name
            for name in _LEFT
            if getattr(live, name) is None and keys.get(_RESULT_OF.get(name, name)) is not None
        }
        place = (job.id, live.sheet.id)
        with self._lock:
            last = self._shown.get(place)
            if not missing:
                self._shown[place] = live
                return live, frozenset()
        if last is None or last.sheet.part != live.sheet.part:
            return live, frozenset()
        old = {name: getattr(last, name) for name in missing if getattr(last, name) is not None}
        return replace(live, **old), frozenset(old)

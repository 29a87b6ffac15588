"""The store: one SQLite file with jobs, steps, blobs and remembered results."""

from __future__ import annotations

import datetime as dt
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from threading import Lock
from typing import TypeVar

from cachetools import LRUCache
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from ..core.errors import BadValue
from ..core.stance.pose import from_quaternion
from ..sheet.changes.base import Change
from ..sheet.document import Document
from ..sheet.merge import clashes
from ..sheet.models import JobSheet
from ..sheet.process import Preset
from ..sheet.shop import (
    Calibration,
    Finished,
    Habits,
    Learned,
    OwnMaterial,
    OwnPrinter,
    RunNotes,
    Spool,
    Station,
)
from ..sheet.upcast import read_preset, read_sheet
from .blobs import Blobs
from .database import NotFound, now
from .models import JobRow, ShelfRow, StepRow
from .prints import Prints
from .results import RESULT_BYTES, Results
from .yard import Yard

E = TypeVar("E", bound=Document)
SHELF: dict[type[Document], str] = {
    OwnPrinter: "printer",
    OwnMaterial: "material",
    Calibration: "calibration",
    Preset: "preset",
    Habits: "habits",
    Finished: "finished",
    Station: "station",
    RunNotes: "run notes",
    Spool: "spool",
    Learned: "learned",
}
STATES = ("open", "archived", "deleted")
# A deleted job can be brought back for this long.
DELETED_FOR = dt.timedelta(days=30)
# Sheets that were read last: a step never changes.
SHEETS = 200


@dataclass(frozen=True, slots=True)
class Job:
    """A job at the step that is shown.

    Attributes
    ----------
    id : str
    sheet : JobSheet
    step : int
        Number of the step, from 1.
    step_id : int
        What changes that were made on it are told by.
    label : str
        What that step did.
    item : str
        The item that the step which was made, undone or redone last was about.
    can_undo, can_redo : bool
    demo : bool
    touched : datetime
    state : str
        One of ``STATES``.
    """

    id: str
    sheet: JobSheet
    step: int
    step_id: int
    label: str
    can_undo: bool
    can_redo: bool
    demo: bool
    touched: dt.datetime
    state: str = "open"
    item: str = ""


class ChangedMeanwhile(BadValue):
    """Somebody else changed the very thing that a change is about."""


class Store(Blobs, Results, Prints, Yard):
    """Jobs and their steps, the shop's shelf, blobs and remembered results, in a database file.

    Parameters
    ----------
    path : Path
        The file; its folder is made.
    migrate : bool
        Bring the tables up to date; workers leave that to the server.
    result_bytes : int
        Remembered results may take so much.
    """

    def __init__(self, path: Path, *, migrate: bool = True, result_bytes: int = RESULT_BYTES) -> None:
        super().__init__(path, migrate=migrate, result_bytes=result_bytes)
        self._sheets: LRUCache[int, JobSheet] = LRUCache(SHEETS)
        self._lock = Lock()

    def _sheet(self, step: StepRow) -> JobSheet:
        with self._lock:
            if step.id in self._sheets:
                return self._sheets[step.id]
        sheet = read_sheet(step.sheet, self._size_of)
        self._known(step.id, sheet)
        return sheet

    def _known(self, step_id: int, sheet: JobSheet) -> None:
        with self._lock:
            self._sheets[step_id] = sheet

    def _size_of(
        self, digest: str, quaternion: tuple[float, float, float, float]
    ) -> tuple[float, float, float]:
        turned = self.mesh(digest).vertices @ from_quaternion(quaternion).T
        x, y, z = (float(v) for v in turned.max(axis=0) - turned.min(axis=0))
        return x, y, z

    # Jobs and steps -------------------------------------------------------

    def create_job(
        self, sheet: JobSheet, label: str, *, demo: bool = False, job_id: str | None = None
    ) -> Job:
        """Keep a new job with its first step."""
        job_id = job_id or uuid.uuid4().hex[:12]
        at = now()
        with self.session(write=True) as s:
            job = JobRow(id=job_id, demo=demo, created=at, touched=at)
            s.add(job)
            s.flush()
            step = StepRow(job_id=job_id, number=1, label=label, sheet=sheet.model_dump_json(), created=at)
            s.add(step)
            s.flush()
            job.step_id = step.id
        return self.job(job_id)

    def job(self, job_id: str) -> Job:
        """Fetch a job.

        Raises
        ------
        NotFound
            No such job.
        """
        with self.session() as s:
            return self._job(s, job_id)

    def _job(self, s: Session, job_id: str, item: str = "") -> Job:
        row = s.get(JobRow, job_id)
        step = s.get(StepRow, row.step_id) if row is not None and row.step_id else None
        if row is None or step is None:
            raise NotFound("There is no such job.", "Go back to the Yard and open another.")
        has_next = s.scalar(
            select(StepRow.id).where(StepRow.job_id == job_id, StepRow.parent_id == step.id).limit(1)
        )
        return self._told(row, step, has_next is not None, item)

    def _told(self, row: JobRow, step: StepRow, can_redo: bool, item: str = "") -> Job:
        return Job(
            id=row.id,
            sheet=self._sheet(step),
            step=step.number,
            step_id=step.id,
            label=step.label,
            can_undo=step.parent_id is not None,
            can_redo=can_redo,
            demo=row.demo,
            touched=row.touched,
            state=row.state,
            item=item,
        )

    def these(self, ids: Sequence[str]) -> list[Job]:
        """Fetch jobs by their identifiers, in that order; those that are gone are left out."""
        with self.session() as s:
            both = select(JobRow, StepRow).join(StepRow, StepRow.id == JobRow.step_id)
            found = {row.id: (row, step) for row, step in s.execute(both.where(JobRow.id.in_(ids)))}
            shown = [step.id for _, step in found.values()]
            ahead = set(s.scalars(select(StepRow.parent_id).where(StepRow.parent_id.in_(shown))))
            return [self._told(*found[name], found[name][1].id in ahead) for name in ids if name in found]

    def jobs(self, state: str = "open") -> list[Job]:
        """Fetch all jobs of a state, the last touched first."""
        with self.session() as s:
            asked = select(JobRow.id).where(JobRow.state == state)
            ids = s.scalars(asked.order_by(JobRow.touched.desc(), JobRow.id)).all()
            return [self._job(s, job_id) for job_id in ids]

    def count(self, state: str) -> int:
        """How many jobs of a state there are."""
        with self.session() as s:
            return s.scalar(select(func.count()).where(JobRow.state == state)) or 0

    def put(self, job_id: str, state: str) -> Job:
        """Put a job among the open, the archived or the deleted ones.

        Raises
        ------
        NotFound
            No such job.
        ValueError
            No such state.
        """
        if state not in STATES:
            raise ValueError(state)
        with self.session(write=True) as s:
            row, _ = self._current(s, job_id)
            row.state, row.moved = state, now()
            s.flush()
            return self._job(s, job_id)

    def duplicate(self, job_id: str) -> Job:
        """Make a new job from what a job shows now; the steps before stay with the old one."""
        sheet = self.job(job_id).sheet
        new = {"name": f"Copy of {sheet.name}"[:120], "order": sheet.order.again}
        return self.create_job(sheet.model_copy(update=new), f"Copy of {sheet.name}"[:200])

    def begin_from(self, step_id: int) -> Job:
        """Make a new job from what a step of any job holds, such as one that was printed."""
        with self.session() as s:
            step = s.get(StepRow, step_id)
            if step is None:
                raise NotFound("The job of this print is gone.", "Take the part in anew.")
            sheet = self._sheet(step)
        new = {"name": f"{sheet.name} again"[:120], "order": sheet.order.again}
        return self.create_job(sheet.model_copy(update=new), f"Again {sheet.name}"[:200])

    def purge(self, older_than: dt.timedelta = DELETED_FOR) -> int:
        """Forget jobs that were deleted long ago, and return how many."""
        with self.session(write=True) as s:
            old = select(JobRow.id).where(JobRow.state == "deleted", JobRow.moved < now() - older_than)
            ids = s.scalars(old).all()
            for job_id in ids:
                s.execute(delete(StepRow).where(StepRow.job_id == job_id))
                s.execute(delete(JobRow).where(JobRow.id == job_id))
            return len(ids)

    def has_job(self, job_id: str) -> bool:
        """Whether there is such a job."""
        with self.session() as s:
            return s.get(JobRow, job_id) is not None

    def sheet_now(self, job_id: str) -> JobSheet | None:
        """The sheet that a job shows; ``None`` where there is no such job."""
        with self.session() as s:
            row = s.get(JobRow, job_id)
            step = s.get(StepRow, row.step_id) if row is not None else None
            return self._sheet(step) if step is not None else None

    def sheet_at(self, step_id: int) -> JobSheet | None:
        """The sheet of a step; ``None`` where there is no such step."""
        with self.session() as s:
            step = s.get(StepRow, step_id)
            return self._sheet(step) if step is not None else None

    def apply(
        self, job_id: str, change: Change, item: str = "", *, made_on: int | None = None, author: str = ""
    ) -> Job:
        """Keep a change as a new step after the one that is shown.

        A change that changes nothing makes no step. Steps that were undone stay in the table; redo follows
        the newest branch.

        Parameters
        ----------
        job_id : str
        change : Change
        item : str
            Id of the item that it is about; it may be left out where the job has one only.
        made_on : int, optional
            Id of the step that whoever makes it was looking at. Steps of others that came after that are kept
            where they changed other things.
        author : str
            Who makes it: a name for one open page.

        Returns
        -------
        Job

        Raises
        ------
        BadValue
            It is not possible, or names no item of the job.
        ChangedMeanwhile
            Somebody else changed the same.
        """
        with self.session(write=True) as s:
            row, step = self._current(s, job_id)
            sheet = self._sheet(step)
            named = _item_of(sheet, change, item)
            if made_on is not None and made_on != step.id:
                self._merge(s, job_id, change, item, (made_on, step), author)
            changed = change.made(sheet, named)
            if changed != sheet:
                new = StepRow(
                    job_id=job_id,
                    parent_id=step.id,
                    number=step.number + 1,
                    label=change.label(sheet.on(named)),
                    sheet=changed.model_dump_json(),
                    created=now(),
                    author=author,
                    item=named,
                )
                s.add(new)
                s.flush()
                row.step_id, row.touched = new.id, new.created
                s.flush()
                self._known(new.id, changed)
            return self._job(s, job_id, named)

    def _merge(
        self, s: Session, job_id: str, change: Change, item: str, steps: tuple[int, StepRow], author: str
    ) -> None:
        """Refuse a change that was made on an older step where others changed the same since then."""
        made_on, step = steps
        seen = s.get(StepRow, made_on)
        if seen is None or seen.job_id != job_id:
            raise ChangedMeanwhile("The job was changed meanwhile.", "Look at it again, and repeat the step.")
        between: StepRow | None = step
        others = False
        while between is not None and between.id != made_on:
            others = others or not author or between.author != author
            between = s.get(StepRow, between.parent_id) if between.parent_id is not None else None
        if between is not None and not others:
            return
        before, theirs = self._sheet(seen), self._sheet(step)
        mine = change.made(before, _item_of(before, change, item))
        same = clashes(before, mine, theirs)
        if same:
            what = ", ".join(same[:3])
            raise ChangedMeanwhile(
                f"Somebody else changed the same meanwhile: {what}.",
                "Your change was not made. Look at theirs, and repeat yours if it still holds.",
            )

    def undo(self, job_id: str) -> Job:
        """Show the step before; at the first step nothing happens."""
        with self.session(write=True) as s:
            row, step = self._current(s, job_id)
            if step.parent_id is not None:
                row.step_id, row.touched = step.parent_id, now()
                s.flush()
            return self._job(s, job_id, step.item)

    def redo(self, job_id: str) -> Job:
        """Show the newest step made after this one; at the last step nothing happens."""
        with self.session(write=True) as s:
            row, step = self._current(s, job_id)
            newest = s.scalar(
                select(func.max(StepRow.id)).where(StepRow.job_id == job_id, StepRow.parent_id == step.id)
            )
            ahead = s.get(StepRow, newest) if newest is not None else None
            if ahead is not None:
                row.step_id, row.touched = ahead.id, now()
                s.flush()
            return self._job(s, job_id, ahead.item if ahead is not None else step.item)

    def _current(self, s: Session, job_id: str) -> tuple[JobRow, StepRow]:
        row = s.get(JobRow, job_id)
        step = s.get(StepRow, row.step_id) if row is not None and row.step_id else None
        if row is None or step is None:
            raise NotFound("There is no such job.", "Go back to the Yard and open another.")
        return row, step

    # The shop's shelf -------------------------------------------------------

    def shelf(self, entry: type[E]) -> list[E]:
        """Fetch the shop's printers, materials, calibrations or presets, by name."""
        with self.session() as s:
            asked = select(ShelfRow.data).where(ShelfRow.kind == SHELF[entry]).order_by(ShelfRow.name)
            return [_read(entry, data) for data in s.scalars(asked)]

    def on_shelf(self, entry: type[E], name: str) -> E | None:
        """Fetch one entry of the shelf; ``None`` when there is none of that name."""
        with self.session() as s:
            row = s.get(ShelfRow, (SHELF[entry], name))
            return _read(entry, row.data) if row is not None else None

    def shelve(
        self,
        entry: OwnPrinter
        | OwnMaterial
        | Calibration
        | Preset
        | Habits
        | Finished
        | RunNotes
        | Station
        | Spool
        | Learned,
    ) -> None:
        """Keep an entry, in place of one of the same name."""
        with self.session(write=True) as s:
            s.merge(ShelfRow(kind=SHELF[type(entry)], name=entry.name, data=entry.model_dump_json()))

    def unshelve(self, entry: type[Document], name: str) -> None:
        """Take an entry off the shelf; jobs that use it keep their copy."""
        with self.session(write=True) as s:
            s.execute(delete(ShelfRow).where(ShelfRow.kind == SHELF[entry], ShelfRow.name == name))


def _read(entry: type[E], data: str) -> E:
    if entry is Preset:
        return read_preset(data)  # type: ignore[return-value]
    return entry.model_validate_json(data)


def _item_of(sheet: JobSheet, change: Change, item: str) -> str:
    """Id of the item that a change is about."""
    if item:
        if all(one.id != item for one in sheet.items):
            raise BadValue("This item is not in the job any more.", "Look at the job again.")
        return item
    if change.about_item and len(sheet.items) > 1:
        raise BadValue("The job has several items, and none is named.", "Say which one is meant.")
    return sheet.items[0].id

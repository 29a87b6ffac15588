"""The store: one SQLite file with jobs, steps, blobs and remembered results."""

from __future__ import annotations

import datetime as dt
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from threading import Lock

from cachetools import LRUCache
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from ..core.errors import BadValue
from ..core.stance.pose import from_quaternion
from ..sheet.changes.base import Change
from ..sheet.merge import clashes
from ..sheet.models import JobSheet
from ..sheet.upcast import read_sheet
from .blobs import Blobs
from .database import NotFound, now
from .models import JobRow, StepRow
from .prints import Prints
from .results import RESULT_BYTES, Results
from .shelf import UNREADABLE, Shelf
from .trouble import Unreadable
from .yard import Yard

STATES = ("open", "archived", "deleted")
# A deleted job can be brought back for this long.
DELETED_FOR = dt.timedelta(days=30)
_GO_BACK = "Its steps are kept: in the Yard they can be taken as a file, or one can go back to a step before."
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


@dataclass(frozen=True, slots=True)
class Broken:
    """A job whose shown step cannot be read: its id and name, the number of that step, why, and its state."""

    id: str
    title: str
    step: int
    why: str
    state: str


class ChangedMeanwhile(BadValue):
    """Somebody else changed the very thing that a change is about."""


class Store(Blobs, Results, Prints, Shelf, Yard):
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
        try:
            sheet = read_sheet(step.sheet, self._size_of)
        except UNREADABLE as error:
            raise Unreadable(
                f"Step {step.number} of this job cannot be read: {_why(error)}", _GO_BACK
            ) from error
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
        try:
            return self._told(row, step, has_next is not None, item)
        except Unreadable as error:
            raise Unreadable(f"“{row.title or job_id}”: {error}", error.advice) from error

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

    def _readable(self, row: JobRow, step: StepRow, can_redo: bool) -> Job | Broken:
        try:
            return self._told(row, step, can_redo)
        except Unreadable as error:
            return Broken(row.id, row.title, step.number, str(error), row.state)

    def these(self, ids: Sequence[str]) -> list[Job]:
        """Fetch jobs by their identifiers, in that order; those that are gone or unreadable are left out."""
        return [one for one in self.each(ids) if isinstance(one, Job)]

    def each(self, ids: Sequence[str]) -> list[Job | Broken]:
        """Fetch jobs by their identifiers, in that order, or why one cannot be read."""
        with self.session() as s:
            both = select(JobRow, StepRow).join(StepRow, StepRow.id == JobRow.step_id)
            found = {row.id: (row, step) for row, step in s.execute(both.where(JobRow.id.in_(ids)))}
            shown = [step.id for _, step in found.values()]
            ahead = set(s.scalars(select(StepRow.parent_id).where(StepRow.parent_id.in_(shown))))
            return [self._readable(*found[name], found[name][1].id in ahead) for name in ids if name in found]

    def jobs(self, state: str = "open") -> list[Job]:
        """Fetch all jobs of a state that can be read, the last touched first."""
        with self.session() as s:
            asked = select(JobRow.id).where(JobRow.state == state)
            ids = s.scalars(asked.order_by(JobRow.touched.desc(), JobRow.id)).all()
        return self.these(ids)

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
        """The sheet that a job shows; ``None`` where there is no such job, or it cannot be read."""
        with self.session() as s:
            row = s.get(JobRow, job_id)
            return self._sheet_of(s.get(StepRow, row.step_id) if row is not None else None)

    def sheet_at(self, step_id: int) -> JobSheet | None:
        """The sheet of a step; ``None`` where there is no such step, or it cannot be read."""
        with self.session() as s:
            return self._sheet_of(s.get(StepRow, step_id))

    def _sheet_of(self, step: StepRow | None) -> JobSheet | None:
        try:
            return self._sheet(step) if step is not None else None
        except Unreadable:
            return None

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
                text = changed.model_dump_json()
                self.refuse_missing(s, text, step.sheet)
                new = StepRow(
                    job_id=job_id,
                    parent_id=step.id,
                    number=step.number + 1,
                    label=change.label(sheet.on(named)),
                    sheet=text,
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

    def step_back(self, job_id: str) -> Job:
        """Show the last step before this one that can be read.

        Raises
        ------
        Unreadable
            There is none.
        """
        with self.session(write=True) as s:
            row, step = self._current(s, job_id)
            while step.parent_id is not None:
                before = s.get(StepRow, step.parent_id)
                assert before is not None
                step = before
                if self._sheet_of(step) is not None:
                    row.step_id, row.touched = step.id, now()
                    s.flush()
                    return self._job(s, job_id)
        raise Unreadable("No step of this job before can be read.", "Take its steps as a file.")

    def title_of(self, job_id: str) -> str:
        """What a job is called, whether or not it can be read.

        Raises
        ------
        NotFound
        """
        with self.session() as s:
            return self._current(s, job_id)[0].title

    def _current(self, s: Session, job_id: str) -> tuple[JobRow, StepRow]:
        row = s.get(JobRow, job_id)
        step = s.get(StepRow, row.step_id) if row is not None and row.step_id else None
        if row is None or step is None:
            raise NotFound("There is no such job.", "Go back to the Yard and open another.")
        return row, step


def _why(error: Exception) -> str:
    """The first line of what a reader says."""
    return str(error).splitlines()[0][:200] if str(error) else type(error).__name__


def _item_of(sheet: JobSheet, change: Change, item: str) -> str:
    """Id of the item that a change is about."""
    if item:
        if all(one.id != item for one in sheet.items):
            raise BadValue("This item is not in the job any more.", "Look at the job again.")
        return item
    if change.about_item and len(sheet.items) > 1:
        raise BadValue("The job has several items, and none is named.", "Say which one is meant.")
    return sheet.items[0].id

"""The store: one SQLite file with jobs, steps, blobs and remembered results."""

from __future__ import annotations

import datetime as dt
import hashlib
import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from alembic import command
from alembic.config import Config
from numpy.typing import NDArray
from sqlalchemy import Connection, Engine, create_engine, delete, event, func, select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from ..core.errors import HeronError
from ..core.geometry.mesh import Mesh
from ..core.supports.model import Branches, Column
from ..sheet.change import Change
from ..sheet.document import Document
from ..sheet.models import JobSheet
from ..sheet.process import Preset
from ..sheet.shop import Calibration, OwnMaterial, OwnPrinter
from .codec import decode, encode
from .models import BlobRow, JobRow, ResultRow, ShelfRow, StepRow

T = TypeVar("T")
E = TypeVar("E", bound=Document)
SHELF: dict[type[Document], str] = {
    OwnPrinter: "printer",
    OwnMaterial: "material",
    Calibration: "calibration",
    Preset: "preset",
}
# Remembered results may take this much before the least recently used go.
RESULT_BYTES = 2_000_000_000
STATES = ("open", "archived", "deleted")
# A deleted job can be brought back for this long.
DELETED_FOR = dt.timedelta(days=30)


class NotFound(HeronError):
    """There is no such job or blob (any more)."""


@dataclass(frozen=True, slots=True)
class Job:
    """A job at the step that is shown.

    Attributes
    ----------
    id : str
    sheet : JobSheet
    step : int
        Number of the step, from 1.
    label : str
        What that step did.
    can_undo, can_redo : bool
    demo : bool
    touched : datetime
    state : str
        One of ``STATES``.
    """

    id: str
    sheet: JobSheet
    step: int
    label: str
    can_undo: bool
    can_redo: bool
    demo: bool
    touched: dt.datetime
    state: str = "open"


class Store:
    """Opens (and where needed migrates) a database file.

    Parameters
    ----------
    path : Path
        The file; its folder is made.
    migrate : bool
        Bring the tables up to date; workers leave that to the server.
    """

    def __init__(self, path: Path, *, migrate: bool = True, result_bytes: int = RESULT_BYTES) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
        self._result_bytes = result_bytes
        self._engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30})
        event.listen(self._engine, "connect", _prepare)
        event.listen(self._engine, "begin", _begin)
        self._writing = self._engine.execution_options(write=True)
        if migrate:
            migrate_to_head(self._engine)

    def close(self) -> None:
        """Close all connections."""
        self._engine.dispose()

    @contextmanager
    def _session(self, *, write: bool = False) -> Iterator[Session]:
        with Session(self._writing if write else self._engine) as session, session.begin():
            yield session

    # Jobs and steps -------------------------------------------------------

    def create_job(
        self, sheet: JobSheet, label: str, *, demo: bool = False, job_id: str | None = None
    ) -> Job:
        """Keep a new job with its first step."""
        job_id = job_id or uuid.uuid4().hex[:12]
        now = _now()
        with self._session(write=True) as s:
            job = JobRow(id=job_id, demo=demo, created=now, touched=now)
            s.add(job)
            s.flush()
            step = StepRow(job_id=job_id, number=1, label=label, sheet=sheet.model_dump_json(), created=now)
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
        with self._session() as s:
            return self._job(s, job_id)

    def _job(self, s: Session, job_id: str) -> Job:
        row = s.get(JobRow, job_id)
        step = s.get(StepRow, row.step_id) if row is not None and row.step_id else None
        if row is None or step is None:
            raise NotFound("There is no such job.", "Go back to the Yard and open another.")
        has_next = s.scalar(
            select(StepRow.id).where(StepRow.job_id == job_id, StepRow.parent_id == step.id).limit(1)
        )
        return Job(
            id=job_id,
            sheet=JobSheet.model_validate_json(step.sheet).showing(row.looking),
            step=step.number,
            label=step.label,
            can_undo=step.parent_id is not None,
            can_redo=has_next is not None,
            demo=row.demo,
            touched=row.touched,
            state=row.state,
        )

    def jobs(self, state: str = "open") -> list[Job]:
        """Fetch all jobs of a state, the last touched first."""
        with self._session() as s:
            asked = select(JobRow.id).where(JobRow.state == state)
            ids = s.scalars(asked.order_by(JobRow.touched.desc(), JobRow.id)).all()
            return [self._job(s, job_id) for job_id in ids]

    def count(self, state: str) -> int:
        """How many jobs of a state there are."""
        with self._session() as s:
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
        with self._session(write=True) as s:
            row, _ = self._current(s, job_id)
            row.state, row.moved = state, _now()
            s.flush()
            return self._job(s, job_id)

    def duplicate(self, job_id: str) -> Job:
        """Make a new job from what a job shows now; the steps before stay with the old one."""
        sheet = self.job(job_id).sheet
        name = f"Copy of {sheet.name}"[:120]
        return self.create_job(sheet.model_copy(update={"name": name}), f"Copy of {sheet.name}"[:200])

    def purge(self, older_than: dt.timedelta = DELETED_FOR) -> int:
        """Forget jobs that were deleted long ago, and return how many."""
        with self._session(write=True) as s:
            old = select(JobRow.id).where(JobRow.state == "deleted", JobRow.moved < _now() - older_than)
            ids = s.scalars(old).all()
            for job_id in ids:
                s.execute(delete(StepRow).where(StepRow.job_id == job_id))
                s.execute(delete(JobRow).where(JobRow.id == job_id))
            return len(ids)

    def has_job(self, job_id: str) -> bool:
        """Whether there is such a job."""
        with self._session() as s:
            return s.get(JobRow, job_id) is not None

    def apply(self, job_id: str, change: Change) -> Job:
        """Keep a change as a new step after the one that is shown.

        A change that changes nothing makes no step. Steps that were undone stay in the table; redo follows
        the newest branch.
        """
        with self._session(write=True) as s:
            row, step = self._current(s, job_id)
            sheet = JobSheet.model_validate_json(step.sheet).showing(row.looking)
            changed = change.apply(sheet)
            if changed != sheet:
                now = _now()
                new = StepRow(
                    job_id=job_id,
                    parent_id=step.id,
                    number=step.number + 1,
                    label=change.label(sheet),
                    sheet=changed.model_dump_json(),
                    created=now,
                )
                s.add(new)
                s.flush()
                row.step_id, row.touched, row.looking = new.id, now, changed.at
                s.flush()
            return self._job(s, job_id)

    def look_at(self, job_id: str, index: int) -> Job:
        """Show another part of a job; it makes no step."""
        with self._session(write=True) as s:
            row, _ = self._current(s, job_id)
            row.looking = max(0, index)
            s.flush()
            return self._job(s, job_id)

    def undo(self, job_id: str) -> Job:
        """Show the step before; at the first step nothing happens."""
        with self._session(write=True) as s:
            row, step = self._current(s, job_id)
            if step.parent_id is not None:
                row.step_id, row.touched = step.parent_id, _now()
                # Where the change was, so that one sees what is undone.
                row.looking = JobSheet.model_validate_json(step.sheet).at
                s.flush()
            return self._job(s, job_id)

    def redo(self, job_id: str) -> Job:
        """Show the newest step made after this one; at the last step nothing happens."""
        with self._session(write=True) as s:
            row, step = self._current(s, job_id)
            newest = s.scalar(
                select(func.max(StepRow.id)).where(StepRow.job_id == job_id, StepRow.parent_id == step.id)
            )
            ahead = s.get(StepRow, newest) if newest is not None else None
            if ahead is not None:
                row.step_id, row.touched = ahead.id, _now()
                row.looking = JobSheet.model_validate_json(ahead.sheet).at
                s.flush()
            return self._job(s, job_id)

    def _current(self, s: Session, job_id: str) -> tuple[JobRow, StepRow]:
        row = s.get(JobRow, job_id)
        step = s.get(StepRow, row.step_id) if row is not None and row.step_id else None
        if row is None or step is None:
            raise NotFound("There is no such job.", "Go back to the Yard and open another.")
        return row, step

    # The shop's shelf -------------------------------------------------------

    def shelf(self, entry: type[E]) -> list[E]:
        """Fetch the shop's printers, materials, calibrations or presets, by name."""
        with self._session() as s:
            asked = select(ShelfRow.data).where(ShelfRow.kind == SHELF[entry]).order_by(ShelfRow.name)
            return [entry.model_validate_json(data) for data in s.scalars(asked)]

    def on_shelf(self, entry: type[E], name: str) -> E | None:
        """Fetch one entry of the shelf; ``None`` when there is none of that name."""
        with self._session() as s:
            row = s.get(ShelfRow, (SHELF[entry], name))
            return entry.model_validate_json(row.data) if row is not None else None

    def shelve(self, entry: OwnPrinter | OwnMaterial | Calibration | Preset) -> None:
        """Keep an entry, in place of one of the same name."""
        with self._session(write=True) as s:
            s.merge(ShelfRow(kind=SHELF[type(entry)], name=entry.name, data=entry.model_dump_json()))

    def unshelve(self, entry: type[Document], name: str) -> None:
        """Take an entry off the shelf; jobs that use it keep their copy."""
        with self._session(write=True) as s:
            s.execute(delete(ShelfRow).where(ShelfRow.kind == SHELF[entry], ShelfRow.name == name))

    # Meshes ---------------------------------------------------------------

    def keep_mesh(self, mesh: Mesh) -> str:
        """Keep a mesh for good and return its digest."""
        try:
            with self._session(write=True) as s:
                if s.get(BlobRow, mesh.digest) is None:
                    s.add(BlobRow(digest=mesh.digest, data=encode(mesh)))
        except IntegrityError:
            pass  # another request kept the same mesh at the same moment
        return mesh.digest

    def keep_marks(self, marks: NDArray[np.uint8]) -> str:
        """Keep the marks of a part for good and return their digest."""
        digest = hashlib.blake2b(marks.tobytes(), digest_size=16).hexdigest()
        with self._session(write=True) as s:
            if s.get(BlobRow, digest) is None:
                s.add(BlobRow(digest=digest, data=encode(marks)))
        return digest

    def marks(self, digest: str) -> NDArray[np.uint8]:
        """Fetch the marks of a part.

        Raises
        ------
        NotFound
            No such marks.
        """
        marks: NDArray[np.uint8] = self._blob(digest, "There are no such marks.")
        return marks

    def keep_supports(self, supports: Sequence[Column | Branches]) -> str:
        """Keep supports that were made or changed by hand for good and return their digest."""
        data = encode(tuple(supports))
        digest = hashlib.blake2b(data, digest_size=16).hexdigest()
        with self._session(write=True) as s:
            if s.get(BlobRow, digest) is None:
                s.add(BlobRow(digest=digest, data=data))
        return digest

    def supports(self, digest: str) -> tuple[Column | Branches, ...]:
        """Fetch supports that were made or changed by hand.

        Raises
        ------
        NotFound
            No such supports.
        """
        found: tuple[Column | Branches, ...] = self._blob(digest, "There are no such supports.")
        return found

    def _blob(self, digest: str, missing: str) -> Any:
        with self._session() as s:
            row = s.get(BlobRow, digest)
            if row is None:
                raise NotFound(missing, "Reload the page.")
            data = row.data
        return decode(data)

    def mesh(self, digest: str) -> Mesh:
        """Fetch a mesh.

        Raises
        ------
        NotFound
            No such mesh.
        """
        mesh: Mesh = self._blob(digest, "There is no such mesh.")
        return mesh

    # Remembered results ---------------------------------------------------

    def has_result(self, key: str) -> bool:
        """Whether a result is remembered."""
        with self._session() as s:
            return s.scalar(select(ResultRow.key).where(ResultRow.key == key)) is not None

    def result(self, key: str) -> Any | None:
        """Fetch a remembered result, or ``None``."""
        with self._session() as s:
            row = s.get(ResultRow, key)
            if row is None:
                return None
            data, used = row.data, row.used
        if time.time() - used > 60:
            with self._session(write=True) as s:
                s.execute(update(ResultRow).where(ResultRow.key == key).values(used=time.time()))
        return decode(data)

    def remember(self, key: str, value: Any) -> None:
        """Keep a result and, over the cap, drop those not used for longest."""
        data = encode(value)
        with self._session(write=True) as s:
            s.merge(ResultRow(key=key, data=data, size=len(data), used=time.time()))
            s.flush()
            over = (s.scalar(select(func.sum(ResultRow.size))) or 0) - self._result_bytes
            if over > 0:
                rows = s.execute(select(ResultRow.key, ResultRow.size).order_by(ResultRow.used)).all()
                for old, size in rows:
                    if over <= 0:
                        break
                    if old != key:
                        s.execute(delete(ResultRow).where(ResultRow.key == old))
                        over -= size

    def recall(self, key: str, make: Callable[[], T]) -> T:
        """Fetch a result, making and remembering it where it is missing."""
        known = self.result(key)
        if known is not None:
            return known  # type: ignore[no-any-return]
        value = make()
        self.remember(key, value)
        return value


def _now() -> dt.datetime:
    return dt.datetime.now(dt.UTC).replace(tzinfo=None)


def _prepare(connection: Any, _record: Any) -> None:
    connection.isolation_level = None  # transactions are begun below, not by the driver
    cursor = connection.cursor()
    # Readers do not wait for a writer, and a killed process loses no finished step.
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA synchronous=NORMAL")
    cursor.execute("PRAGMA foreign_keys=ON")
    cursor.close()


def _begin(connection: Connection) -> None:
    # A transaction that reads first and then writes would fail at once when another process wrote in between;
    # one that asks for the write lock at its start waits for its turn.
    writes = connection.get_execution_options().get("write", False)
    connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")


def alembic_config() -> Config:
    """Configuration of the migrations that ship with the package."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).with_name("migrations")))
    return config


def migrate_to_head(engine: Engine) -> None:
    """Bring the tables of a database up to date."""
    config = alembic_config()
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")

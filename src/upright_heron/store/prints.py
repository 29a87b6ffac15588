"""Prints of plates: the queue of each machine, what is under way, and the record of what ran."""

from __future__ import annotations

import datetime as dt
import json
import uuid
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.errors import BadValue
from .database import Database, NotFound, now
from .models import PrintFileRow, PrintPhotoRow, PrintRow


class Stage(StrEnum):
    """Where a print is."""

    QUEUED = "queued"
    SENDING = "sending"
    PRINTING = "printing"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"

    @property
    def ended(self) -> bool:
        """Whether nothing more comes of it."""
        return self in (Stage.DONE, Stage.FAILED, Stage.CANCELLED)


WAITING = (Stage.QUEUED,)
UNDER_WAY = (Stage.SENDING, Stage.PRINTING)
ENDED = (Stage.DONE, Stage.FAILED, Stage.CANCELLED)


@dataclass(frozen=True, slots=True)
class Plated:
    """A plate as it is printed.

    Attributes
    ----------
    job_id, job_name : str
    step_id : int
        The step of the job that the file was made from.
    plate : int
        From 1.
    items : tuple of (str, int)
        What stands on it: name and how often.
    settings : dict
        What a record tells of how it was printed.
    station, model, material : str
        The machine, its kind, and what it prints with.
    file_name : str
    layers : int
    told_s, told_g : float
        What it takes, as it was told.
    """

    job_id: str
    job_name: str
    step_id: int
    plate: int
    items: tuple[tuple[str, int], ...]
    settings: dict[str, Any]
    station: str
    model: str
    material: str
    file_name: str
    layers: int
    told_s: float
    told_g: float


@dataclass(frozen=True, slots=True)
class NewPrint(Plated):
    """A plate that is to be printed.

    Attributes
    ----------
    data : bytes
        The file.
    excuse : str
        Why it goes though preflight was not clear.
    who : str
    """

    data: bytes = field(repr=False)
    excuse: str = ""
    who: str = ""


@dataclass(frozen=True, slots=True)
class Print(Plated):
    """A print as it is kept; fields as in ``PrintRow``."""

    id: str
    stage: Stage
    rank: int
    created: dt.datetime
    started: dt.datetime | None
    ended: dt.datetime | None
    layer: int
    real_s: float | None
    reason: str
    excuse: str
    cleared: bool
    outcome: str
    who: str
    notes: str
    at_mm: tuple[float, float] | None = None


class Prints(Database):
    """The prints of a database."""

    def queue(self, new: NewPrint) -> Print:
        """Put a print at the end of the queue of its machine."""
        with self.session(write=True) as s:
            last = s.scalar(select(func.max(PrintRow.rank)).where(PrintRow.station == new.station)) or 0
            row = PrintRow(
                id=uuid.uuid4().hex, job_id=new.job_id, step_id=new.step_id, job_name=new.job_name[:120],
                plate=new.plate, items=json.dumps(new.items), settings=json.dumps(new.settings),
                station=new.station, model=new.model, material=new.material, file_name=new.file_name[:200],
                layers=new.layers, told_s=new.told_s, told_g=new.told_g, state=Stage.QUEUED.value,
                rank=last + 1, created=now(), excuse=new.excuse[:400], who=new.who[:60],
            )  # fmt: skip
            s.add(row)
            s.add(PrintFileRow(print_id=row.id, data=new.data))
            s.flush()
            return _print(row)

    def print_of(self, print_id: str) -> Print:
        """One print.

        Raises
        ------
        NotFound
        """
        with self.session() as s:
            return _print(_row(s, print_id))

    def file_of(self, print_id: str) -> bytes:
        """The file of a print that is not over."""
        with self.session() as s:
            row = s.get(PrintFileRow, print_id)
            if row is None:
                raise NotFound("The file of this print is gone.", "Send its plate again.")
            return row.data

    def prints(self, *stages: Stage, station: str = "", limit: int = 100_000) -> list[Print]:
        """Prints in some stages, in the order of their queue; those that ended are the newest first."""
        asked = select(PrintRow).where(PrintRow.state.in_([one.value for one in stages]))
        if station:
            asked = asked.where(PrintRow.station == station)
        ended = all(one.ended for one in stages)
        order = (PrintRow.ended.desc(), PrintRow.id) if ended else (PrintRow.rank, PrintRow.id)
        with self.session() as s:
            return [_print(row) for row in s.scalars(asked.order_by(*order).limit(limit))]

    def prints_of(self, job_id: str) -> list[Print]:
        """All prints of a job, the newest first."""
        with self.session() as s:
            asked = select(PrintRow).where(PrintRow.job_id == job_id).order_by(PrintRow.created.desc())
            return [_print(row) for row in s.scalars(asked)]

    def last_good(self, job_ids: Iterable[str]) -> dict[str, dict[int, int]]:
        """From jobs to their plates that printed well, from 1, and the step that each was last made from."""
        good = (PrintRow.state == Stage.DONE.value, PrintRow.outcome != "failed")
        asked = select(PrintRow.job_id, PrintRow.plate, PrintRow.step_id).where(
            PrintRow.job_id.in_(list(job_ids)), *good
        )
        found: dict[str, dict[int, int]] = {}
        with self.session() as s:
            for job_id, plate, step_id in s.execute(asked.order_by(PrintRow.ended, PrintRow.id)):
                found.setdefault(job_id, {})[plate] = step_id
        return found

    def take_next(self, station: str) -> Print | None:
        """Begin to send the first of a queue; ``None`` where nothing waits or something is under way."""
        with self.session(write=True) as s:
            mine = select(PrintRow).where(PrintRow.station == station)
            if s.scalar(mine.where(PrintRow.state.in_([one.value for one in UNDER_WAY])).limit(1)):
                return None
            waiting = mine.where(PrintRow.state == Stage.QUEUED.value)
            row = s.scalar(waiting.order_by(PrintRow.rank, PrintRow.id).limit(1))
            if row is None:
                return None
            row.state = Stage.SENDING.value
            s.flush()
            return _print(row)

    def is_print(self, print_id: str) -> bool:
        """Whether there is such a print here."""
        with self.session() as s:
            return s.get(PrintRow, print_id) is not None

    def is_cleared(self, print_id: str) -> bool:
        """Whether a print is here and its plate was cleared."""
        with self.session() as s:
            row = s.get(PrintRow, print_id)
            return row is not None and row.cleared

    def has_begun(self, print_id: str, spool: str = "") -> None:
        """A machine prints it, from a spool of the shop where one is named; told again it changes nothing."""
        with self.session(write=True) as s:
            row = _row(s, print_id)
            if row.state == Stage.SENDING.value:
                row.state, row.started = Stage.PRINTING.value, now()
                if spool:
                    row.settings = json.dumps({**json.loads(row.settings), "spool": spool})

    def has_ended(
        self, print_id: str, stage: Stage, *, layer: int = 0, real_s: float | None = None, reason: str = ""
    ) -> bool:
        """A print is over; whether nobody had said so before."""
        with self.session(write=True) as s:
            row = _row(s, print_id)
            if Stage(row.state).ended:
                return False
            row.state, row.ended = stage.value, now()
            row.layer, row.real_s, row.reason = layer, real_s, reason[:200]
            file = s.get(PrintFileRow, print_id)
            if file is not None:
                s.delete(file)
            return True

    def clear_plate(self, print_id: str) -> None:
        """Somebody took the plate off, or what is on it."""
        with self.session(write=True) as s:
            row = _row(s, print_id)
            if not Stage(row.state).ended:
                raise BadValue("This print is not over.", "Wait for it, or give it up.")
            row.cleared = True

    def withdraw(self, print_id: str) -> None:
        """Take a print out of its queue."""
        with self.session(write=True) as s:
            row = _row(s, print_id)
            if row.state != Stage.QUEUED.value:
                raise BadValue("This print does not wait any more.", "Give it up at the machine.")
            row.state, row.ended, row.cleared = Stage.CANCELLED.value, now(), True
            row.reason = "taken out of the queue"
            file = s.get(PrintFileRow, print_id)
            if file is not None:
                s.delete(file)

    def move(self, print_id: str, by: int) -> None:
        """Move a print that waits up (-1) or down (1) in its queue."""
        with self.session(write=True) as s:
            row = _row(s, print_id)
            same = (PrintRow.station == row.station, PrintRow.state == Stage.QUEUED.value)
            waiting = list(s.scalars(select(PrintRow).where(*same).order_by(PrintRow.rank, PrintRow.id)))
            if row not in waiting:
                raise BadValue("This print does not wait any more.", "Look at the queue again.")
            k = waiting.index(row)
            if 0 <= k + by < len(waiting):
                other = waiting[k + by]
                row.rank, other.rank = other.rank, row.rank

    def judge(
        self,
        print_id: str,
        outcome: str,
        reason: str,
        notes: str,
        who: str,
        at_mm: tuple[float, float] | None = None,
    ) -> Print:
        """Keep what somebody says of a print that is over, and where on the plate it failed."""
        with self.session(write=True) as s:
            row = _row(s, print_id)
            if not Stage(row.state).ended:
                raise BadValue("This print is not over.", "Wait for it, or give it up.")
            row.outcome, row.notes, row.who = outcome, notes[:2000], who[:60] or row.who
            row.reason = reason[:200]
            row.at_x_mm, row.at_y_mm = at_mm if at_mm is not None else (None, None)
            s.flush()
            return _print(row)

    def keep_photo(self, print_id: str, jpeg: bytes) -> None:
        """Keep a photo of what was printed, in place of one that there was.

        Raises
        ------
        NotFound
        """
        with self.session(write=True) as s:
            _row(s, print_id)
            s.merge(PrintPhotoRow(print_id=print_id, data=jpeg))

    def photo_of(self, print_id: str) -> bytes:
        """The photo of a print, as JPEG.

        Raises
        ------
        NotFound
        """
        with self.session() as s:
            row = s.get(PrintPhotoRow, print_id)
            if row is None:
                raise NotFound("There is no photo of this print.", "Drop one on it in the record.")
            return row.data

    def with_photos(self) -> frozenset[str]:
        """Ids of the prints that there is a photo of."""
        with self.session() as s:
            return frozenset(s.scalars(select(PrintPhotoRow.print_id)))


def _row(s: Session, print_id: str) -> PrintRow:
    row = s.get(PrintRow, print_id)
    if row is None:
        raise NotFound("There is no such print.", "Look at the record again.")
    return row


def _items(row: PrintRow) -> tuple[tuple[str, int], ...]:
    # One row that cannot be read does not close the record for all.
    try:
        return tuple((str(name), int(count)) for name, count in json.loads(row.items))
    except (ValueError, TypeError):
        return (("cannot be read", 0),)


def _settings(row: PrintRow) -> dict[str, Any]:
    try:
        return dict(json.loads(row.settings))
    except (ValueError, TypeError):
        return {}


def _print(row: PrintRow) -> Print:
    at = (row.at_x_mm, row.at_y_mm) if row.at_x_mm is not None and row.at_y_mm is not None else None
    return Print(
        id=row.id, job_id=row.job_id, step_id=row.step_id, job_name=row.job_name, plate=row.plate,
        items=_items(row), settings=_settings(row), station=row.station,
        model=row.model, material=row.material,
        file_name=row.file_name, layers=row.layers, told_s=row.told_s, told_g=row.told_g,
        stage=Stage(row.state), rank=row.rank, created=row.created, started=row.started, ended=row.ended,
        layer=row.layer, real_s=row.real_s, reason=row.reason, excuse=row.excuse, cleared=row.cleared,
        outcome=row.outcome, who=row.who, notes=row.notes, at_mm=at,
    )  # fmt: skip

"""A job, or all of a shop, as one file: every step, and everything that steps name, held against its digest.

A zip of ``contents.json`` and of ``blobs/DIGEST``; see docs/archive.md. What is computed is not in it: it is
made again, under the same keys.
"""

from __future__ import annotations

import hashlib
import json
import uuid
import zipfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from typing import IO, Annotated, Any, Literal

import numpy as np
from pydantic import Field, ValidationError
from sqlalchemy import literal, select
from sqlalchemy.orm import Session

from ..core.errors import BadValue
from ..core.geometry.mesh import Mesh
from ..sheet.document import Document
from ..sheet.shop import Spool, Station
from ..sheet.upcast import read_sheet
from .archived_prints import (
    JPEG,
    MOST_PHOTO,
    ArchivedPrint,
    archived_prints,
    photo_digest,
    take_prints,
)
from .blobs import DIGEST
from .codec import decode
from .database import NotFound
from .models import BlobRow, JobRow, PrintPhotoRow, ShelfRow, StepRow
from .shelf import SHELF, UNREADABLE
from .store import Store

FORMAT = "upright-heron-archive"
# 2: the record of prints goes along. 3: so do their photos. 4: steps that could not be read where they were.
VERSION = 4
CONTENTS = "contents.json"
# A file that claims to hold more than this is not opened.
MOST_BYTES = 8 << 30
MOST_BLOB = 2 << 30
BROKEN = "Fetch it again from where it was made."

Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]


class Step(Document):
    """A step: its number among those of the archive, the one it was made on, and the whole sheet after it."""

    id: int
    parent: int | None = None
    number: Annotated[int, Field(ge=1)]
    label: Annotated[str, Field(max_length=200)]
    sheet: str
    created: datetime
    author: Annotated[str, Field(max_length=40)] = ""
    item: Annotated[str, Field(max_length=100)] = ""


class ArchivedJob(Document):
    """A job with all its steps, the one that was shown, and those that could not be read where they were.

    ``title`` is what it is called by a step that can be shown, or was before it could not be read.
    """

    id: Annotated[str, Field(pattern=r"^[0-9A-Za-z_-]{1,32}$")]
    shown: int
    created: datetime
    touched: datetime
    state: Literal["open", "archived", "deleted"] = "open"
    steps: Annotated[tuple[Step, ...], Field(min_length=1)]
    title: Annotated[str, Field(max_length=120)] = ""
    unreadable: tuple[int, ...] = ()

    @property
    def can_be_shown(self) -> bool:
        """Whether the step that was shown can be read."""
        return self.shown not in self.unreadable


class Shelved(Document):
    """An entry of the shop's shelf."""

    kind: Annotated[str, Field(max_length=12)]
    name: Annotated[str, Field(max_length=130)]
    data: str


class Contents(Document):
    """What is in an archive."""

    format: Literal["upright-heron-archive"]
    version: int
    jobs: tuple[ArchivedJob, ...]
    shelf: tuple[Shelved, ...] = ()
    blobs: tuple[Digest, ...] = ()
    prints: tuple[ArchivedPrint, ...] = ()


@dataclass(frozen=True, slots=True)
class TakenIn:
    """What came of an archive: ids of its jobs here by those they had there, and what was new of the rest.

    ``unreadable`` are ids there of jobs that came as they were, with a last step that cannot be read.
    """

    jobs: dict[str, str]
    shelved: int
    prints: int
    unreadable: tuple[str, ...] = ()


def write_archive(store: Store, out: IO[bytes], jobs: Sequence[str] | None = None) -> None:
    """Write jobs with all their steps, or the whole shop with its shelf.

    Parameters
    ----------
    store : Store
        It may be changed meanwhile: what is written is of one moment.
    out : binary file
    jobs : sequence of str, optional
        Ids of jobs; the whole shop where there are none.

    Raises
    ------
    NotFound
        There is no such job.
    """
    with store.session() as s:
        rows = s.scalars(select(JobRow).order_by(JobRow.created, JobRow.id)).all()
        if jobs is not None:
            known = {row.id: row for row in rows}
            if any(one not in known for one in jobs):
                raise NotFound("There is no such job.", "Go back to the Yard and pick another.")
            rows = [known[one] for one in jobs]
        numbers = {row.id: _numbers(s, row.id) for row in rows}
        archived = [_archived(s, row, numbers[row.id]) for row in rows]
        named = sorted({d for one in archived for step in one.steps for d in DIGEST.findall(step.sheet)})
        kept = [d for d in named if s.get(BlobRow, d) is not None]
        shelf = () if jobs is not None else tuple(_shelved(s))
        prints = tuple(archived_prints(s, jobs, lambda job, step: numbers.get(job, {}).get(step, 0)))
        contents = Contents(
            format=FORMAT,
            version=VERSION,
            jobs=tuple(archived),
            shelf=shelf,
            blobs=tuple(kept),
            prints=prints,
        )
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as folder:
            folder.writestr(_entry(CONTENTS), contents.model_dump_json())
            for digest in kept:
                row = s.get(BlobRow, digest)
                assert row is not None
                # They are packed already.
                folder.writestr(_entry(f"blobs/{digest}"), row.data, zipfile.ZIP_STORED)
                s.expunge(row)
            written: set[str] = set()
            for one in prints:
                photo = s.get(PrintPhotoRow, one.id) if one.photo not in {"", *written} else None
                if photo is not None:
                    written.add(one.photo)
                    folder.writestr(_entry(f"photos/{one.photo}"), photo.data, zipfile.ZIP_STORED)
                    s.expunge(photo)


def _entry(name: str) -> zipfile.ZipInfo:
    # The same job makes the same file, byte for byte.
    entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    entry.compress_type = zipfile.ZIP_DEFLATED
    return entry


def _numbers(s: Session, job_id: str) -> dict[int, int]:
    """Numbers of the steps of a job: their ids are of this database; in the archive they count from 1."""
    ids = s.scalars(select(StepRow.id).where(StepRow.job_id == job_id).order_by(StepRow.id))
    return {step: k for k, step in enumerate(ids, 1)}


def _archived(s: Session, row: JobRow, numbers: dict[int, int]) -> ArchivedJob:
    steps = s.scalars(select(StepRow).where(StepRow.job_id == row.id).order_by(StepRow.id)).all()
    made = tuple(
        Step(
            id=numbers[step.id],
            parent=None if step.parent_id is None else numbers[step.parent_id],
            number=step.number,
            label=step.label,
            sheet=step.sheet,
            created=step.created,
            author=step.author,
            item=step.item,
        )
        for step in steps
    )
    return ArchivedJob(
        id=row.id,
        shown=numbers[row.step_id or steps[-1].id],
        created=row.created,
        touched=row.touched,
        state=row.state,
        steps=made,
        title=row.title,
        unreadable=tuple(step.id for step in made if _why_unreadable(step, partial(_kept, s)) is not None),
    )


# Entries of the shelf that go along. Machines do not: where they are spoken to holds in one shop only, and is
# nothing to be taken from a file.
_KINDS = {kind: entry for entry, kind in SHELF.items() if entry is not Station}


def _shelved(s: Session) -> Iterator[Shelved]:
    asked = select(ShelfRow).where(ShelfRow.kind.in_(_KINDS)).order_by(ShelfRow.kind, ShelfRow.name)
    for row in s.scalars(asked):
        try:
            entry = _KINDS[row.kind].model_validate_json(row.data)
        except ValidationError:
            # Nobody can use it here either.
            continue
        # Machines do not go along, and so nothing is on them.
        on_none = isinstance(entry, Spool)
        data = entry.model_copy(update={"on": ""}).model_dump_json() if on_none else row.data
        yield Shelved(kind=row.kind, name=row.name, data=data)


def _sound(entry: Shelved) -> bool:
    """Whether an entry of the shelf is one that comes in; what is damaged is refused."""
    if entry.kind not in _KINDS:
        return False
    try:
        _KINDS[entry.kind].model_validate_json(entry.data)
    except ValidationError as error:
        raise BadValue(f"“{entry.name[:60]}” on the shelf of the archive cannot be read.", BROKEN) from error
    return True


def read_archive(store: Store, file: IO[bytes]) -> TakenIn:
    """Take in what an archive holds: all of it, or nothing.

    A job whose id is taken here by another gets a new one. What the shelf holds already stays as it is.

    Parameters
    ----------
    store : Store
    file : binary file
        It can be sought in.

    Raises
    ------
    BadValue
        It is no archive, is damaged, or was written by a later version of the program.
    """
    contents, blobs, photos = _looked_through(file)
    shelf = [entry for entry in contents.shelf if _sound(entry)]
    with store.session(write=True) as s:
        for digest, data in blobs.items():
            if s.get(BlobRow, digest) is None:
                s.add(BlobRow(digest=digest, data=data))
        s.flush()
        taken = {job.id: _take(s, job) for job in contents.jobs}
        names = {was: name for was, (name, _) in taken.items()}
        prints = take_prints(
            s,
            contents.prints,
            lambda job: names.get(job, job),
            lambda job, step: taken[job][1].get(step, 0) if job in taken else 0,
            photos,
        )
        fresh = [one for one in shelf if s.get(ShelfRow, (one.kind, one.name)) is None]
        for one in fresh:
            s.add(ShelfRow(kind=one.kind, name=one.name, data=one.data))
    return TakenIn(names, len(fresh), prints, tuple(job.id for job in contents.jobs if not job.can_be_shown))


def check_archive(file: IO[bytes]) -> None:
    """Look through an archive and take nothing in: what it comes to can be limited where this runs.

    Raises
    ------
    BadValue
        As for ``read_archive``.
    """
    _looked_through(file)


def _looked_through(file: IO[bytes]) -> tuple[Contents, dict[str, bytes], dict[str, bytes]]:
    with _opened(file) as folder:
        contents = _contents(folder)
        blobs = {digest: _blob(folder, digest) for digest in contents.blobs}
        photos = {one.photo: _photo(folder, one.photo) for one in contents.prints if one.photo}
    for job in contents.jobs:
        _check(job)
    # Sheets of any schema are read once here: what cannot be read is refused before anything is kept.
    for job in contents.jobs:
        for step in job.steps:
            why = _why_unreadable(step, lambda digest, whole: blobs.get(digest))
            # What could not be read where it was comes in as it is: the steps before it can.
            if why is not None and step.id not in job.unreadable:
                raise why
    return contents, blobs, photos


def _opened(file: IO[bytes]) -> zipfile.ZipFile:
    try:
        folder = zipfile.ZipFile(file)
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise BadValue("This is no archive of jobs.", "Give a file that was made by “Whole job”.") from error
    if sum(entry.file_size for entry in folder.infolist()) > MOST_BYTES:
        raise BadValue("The archive claims to hold more than 8 GB.", BROKEN)
    return folder


def _contents(folder: zipfile.ZipFile) -> Contents:
    try:
        raw: dict[str, Any] = json.loads(_read(folder, CONTENTS))
    except (KeyError, ValueError, RecursionError) as error:
        raise BadValue("This is no archive of jobs.", "Give a file that was made by “Whole job”.") from error
    if isinstance(raw, dict) and isinstance(raw.get("version"), int) and raw["version"] > VERSION:
        raise BadValue(
            "The archive was written by a later version of the program.", "Update the program, and try again."
        )
    try:
        return Contents.model_validate(raw)
    except ValidationError as error:
        place = ".".join(str(p) for p in error.errors()[0]["loc"])
        raise BadValue(f"The archive is damaged at {place or 'its beginning'}.", BROKEN) from error


def _read(folder: zipfile.ZipFile, name: str) -> bytes:
    if folder.getinfo(name).file_size > MOST_BLOB:
        raise BadValue(f"{name} in the archive is too large.", BROKEN)
    try:
        return folder.read(name)
    except (zipfile.BadZipFile, zlib.error, OSError, EOFError, NotImplementedError, RuntimeError) as error:
        raise BadValue(f"{name} in the archive is damaged.", BROKEN) from error


def _blob(folder: zipfile.ZipFile, digest: str) -> bytes:
    """What is kept under a digest, once it was seen to be that."""
    try:
        data = _read(folder, f"blobs/{digest}")
    except KeyError as error:
        raise BadValue(f"The archive lacks {digest}, which its jobs need.", BROKEN) from error
    try:
        value = decode(data)
    except Exception as error:
        # Whatever is wrong with it: it was not written by us, or was changed since.
        raise BadValue(f"{digest} in the archive cannot be read.", BROKEN) from error
    if _digest(value, data) != digest:
        raise BadValue(f"{digest} in the archive is not what it was.", BROKEN)
    return data


def _photo(folder: zipfile.ZipFile, digest: str) -> bytes:
    """The photo that is kept under a digest, once it was seen to be that."""
    try:
        data = _read(folder, f"photos/{digest}")
    except KeyError as error:
        raise BadValue(f"The archive lacks a photo, {digest}.", BROKEN) from error
    if photo_digest(data) != digest:
        raise BadValue(f"The photo {digest} in the archive is not what it was.", BROKEN)
    if not data.startswith(JPEG) or len(data) > MOST_PHOTO:
        raise BadValue(f"The photo {digest} in the archive is no photo that we keep.", BROKEN)
    return data


def _digest(value: Any, data: bytes) -> str:
    """Under which digest a value is kept, as ``Blobs`` keeps it."""
    if isinstance(value, Mesh):
        return Mesh(value.vertices, value.faces).digest
    if isinstance(value, np.ndarray):
        data = value.tobytes()
    return hashlib.blake2b(data, digest_size=16).hexdigest()


def _check(job: ArchivedJob) -> None:
    """Steps are a tree whose branches were made one after the other."""
    numbers = [step.id for step in job.steps]
    good = numbers == list(range(1, len(numbers) + 1)) and job.shown in numbers
    for step in job.steps:
        good = good and (step.parent is None) is (step.id == 1) and (step.parent or 0) < step.id
    if not good:
        raise BadValue(f"The steps of job {job.id} in the archive do not follow each other.", BROKEN)


def _kept(s: Session, digest: str, whole: bool) -> bytes | None:
    """What the store keeps under a digest; without the whole of it something where it is there."""
    if whole:
        return s.scalar(select(BlobRow.data).where(BlobRow.digest == digest))
    return s.scalar(select(literal(b"there")).where(BlobRow.digest == digest))


def _why_unreadable(step: Step, kept: Callable[[str, bool], bytes | None]) -> BadValue | None:
    """What is wrong with a step, if anything is; ``kept`` is as ``_kept``."""

    def size_of(digest: str, _: tuple[float, float, float, float]) -> tuple[float, float, float]:
        data = kept(digest, True)
        if data is None:
            raise NotFound(f"The archive lacks {digest}, which its jobs need.", BROKEN)
        x, y, z = (float(v) for v in decode(data).size_mm)
        return x, y, z

    try:
        sheet = read_sheet(step.sheet, size_of)
    except BadValue as error:
        # It says itself what is wrong: a later version wrote it.
        return error
    except UNREADABLE:
        return BadValue(f"Step {step.id} of the archive cannot be read.", BROKEN)
    missing = sorted({item.part.mesh for item in sheet.items if kept(item.part.mesh, False) is None})
    return BadValue(f"The archive lacks {missing[0]}, which its jobs need.", BROKEN) if missing else None


def _take(s: Session, job: ArchivedJob) -> tuple[str, dict[int, int]]:
    """Keep a job with its steps, in their order, and return its id here and those of its steps."""
    name = job.id if s.get(JobRow, job.id) is None else uuid.uuid4().hex[:12]
    row = JobRow(id=name, created=job.created, touched=job.touched, state=job.state)
    s.add(row)
    s.flush()
    made: dict[int, int] = {}
    for step in job.steps:
        new = StepRow(
            job_id=name,
            parent_id=None if step.parent is None else made[step.parent],
            number=step.number,
            label=step.label,
            sheet=step.sheet,
            created=step.created,
            author=step.author,
            item=step.item,
        )
        s.add(new)
        s.flush()
        made[step.id] = new.id
    row.step_id = made[job.shown]
    s.flush()
    if not job.can_be_shown:
        # Titles are those of the sheets, and this one tells none.
        s.refresh(row)
        row.title = job.title
        s.flush()
    return name, made

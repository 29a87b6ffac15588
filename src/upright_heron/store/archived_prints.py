"""The record of prints in an archive: what ended, with what became of it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..sheet.document import Document
from .models import PrintPhotoRow, PrintRow
from .prints import ENDED

Number = Annotated[float, Field(ge=0, le=1e9, allow_inf_nan=False)]
Place = Annotated[float, Field(ge=-5000, le=5000, allow_inf_nan=False)]
Words = Annotated[tuple[Annotated[str, Field(max_length=200)], ...], Field(max_length=1000)]


class HowPrinted(Document):
    """What a record tells of how something was printed."""

    layer_mm: Number
    stances: Words = ()
    supports: Words = ()
    walls: Annotated[int, Field(ge=0, le=1000)] | None = None
    infill_percent: Annotated[float, Field(ge=0, le=100)] | None = None
    footing: Words | None = None
    spool: Annotated[str, Field(max_length=60)] | None = None


class ArchivedPrint(Document):
    """A print that is over; fields as in ``PrintRow``.

    ``step`` is the step of its job that the file was made from, by its number in the archive; 0 where the job
    is gone. ``photo`` is the digest of the photo that was kept with it; empty where there is none.
    """

    id: Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]
    job: Annotated[str, Field(max_length=32)]
    step: Annotated[int, Field(ge=0)] = 0
    job_name: Annotated[str, Field(max_length=120)]
    plate: Annotated[int, Field(ge=1, le=10_000)]
    items: tuple[tuple[Annotated[str, Field(max_length=500)], Annotated[int, Field(ge=1, le=10_000)]], ...]
    settings: HowPrinted
    station: Annotated[str, Field(max_length=60)]
    model: Annotated[str, Field(max_length=60)]
    material: Annotated[str, Field(max_length=60)]
    file_name: Annotated[str, Field(max_length=200)]
    layers: Annotated[int, Field(ge=0, le=10_000_000)]
    told_s: Number
    told_g: Number
    state: Literal["done", "failed", "cancelled"]
    created: datetime
    started: datetime | None = None
    ended: datetime | None = None
    layer: Annotated[int, Field(ge=0, le=10_000_000)] = 0
    real_s: Number | None = None
    reason: Annotated[str, Field(max_length=200)] = ""
    excuse: Annotated[str, Field(max_length=400)] = ""
    outcome: Literal["", "good", "done", "failed"] = ""
    who: Annotated[str, Field(max_length=60)] = ""
    notes: Annotated[str, Field(max_length=2000)] = ""
    at_x_mm: Place | None = None
    at_y_mm: Place | None = None
    photo: Annotated[str, Field(pattern=r"^([0-9a-f]{32})?$")] = ""


# Fields that are kept in a row as they are in the archive.
_SAME = tuple(
    name
    for name in ArchivedPrint.model_fields
    if name not in ("id", "job", "step", "items", "settings", "photo")
)
# Photos are JPEG, and made small before they are kept.
JPEG = b"\xff\xd8\xff"
MOST_PHOTO = 8_000_000


def photo_digest(jpeg: bytes) -> str:
    """Under which a photo is in an archive."""
    return hashlib.blake2b(jpeg, digest_size=16).hexdigest()


def archived_prints(
    s: Session, job_ids: Iterable[str] | None, step_of: Callable[[str, int], int]
) -> Iterator[ArchivedPrint]:
    """What ended, of some jobs or of all, the oldest first.

    Parameters
    ----------
    s : Session
    job_ids : iterable of str or None
    step_of : callable
        From the id of a job and of a step here to the number that the step has in the archive.
    """
    asked = select(PrintRow).where(PrintRow.state.in_([one.value for one in ENDED]))
    if job_ids is not None:
        asked = asked.where(PrintRow.job_id.in_(list(job_ids)))
    for row in s.scalars(asked.order_by(PrintRow.created, PrintRow.id)):
        photo = s.get(PrintPhotoRow, row.id)
        if photo is not None:
            # They are many and large: one at a time.
            s.expunge(photo)
        yield ArchivedPrint(
            id=row.id,
            job=row.job_id,
            step=step_of(row.job_id, row.step_id),
            items=json.loads(row.items),
            settings=HowPrinted.model_validate(json.loads(row.settings)),
            photo="" if photo is None else photo_digest(photo.data),
            **{name: getattr(row, name) for name in _SAME},
        )


def take_prints(
    s: Session,
    prints: Iterable[ArchivedPrint],
    job_of: Callable[[str], str],
    step_of: Callable[[str, int], int],
    photos: Mapping[str, bytes],
) -> int:
    """Keep prints that are not known here, and return how many those are.

    Parameters
    ----------
    s : Session
    prints : iterable of ArchivedPrint
    job_of : callable
        From the id of a job in the archive to that which it has here.
    step_of : callable
        From the id of a job and the number of a step in the archive to the id of the step here; 0 for none.
    photos : mapping of str to bytes
        By their digests.
    """
    fresh = {one.id: one for one in prints if s.get(PrintRow, one.id) is None}.values()
    for one in fresh:
        s.add(
            PrintRow(
                id=one.id,
                job_id=job_of(one.job),
                step_id=step_of(one.job, one.step),
                items=json.dumps(one.items),
                settings=one.settings.model_dump_json(exclude_none=True),
                rank=0,
                # Whatever lay on a plate then does not lie on one here.
                cleared=True,
                **{name: getattr(one, name) for name in _SAME},
            )
        )
        if one.photo:
            s.add(PrintPhotoRow(print_id=one.id, data=photos[one.photo]))
    return len(fresh)

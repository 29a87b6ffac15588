"""Tables."""

from __future__ import annotations

import datetime as dt

from sqlalchemy import ForeignKey, Index, LargeBinary, String, Text, false
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Base of all tables."""


class JobRow(Base):
    """A job; ``step_id`` points at the step that is shown, and undo and redo move it."""

    __tablename__ = "job"
    __table_args__ = (Index("job_by_state", "state", "touched"),)

    id: Mapped[str] = mapped_column(String(32), primary_key=True)
    step_id: Mapped[int | None] = mapped_column(default=None)
    demo: Mapped[bool] = mapped_column(default=False)
    created: Mapped[dt.datetime]
    touched: Mapped[dt.datetime]
    state: Mapped[str] = mapped_column(String(10), default="open", server_default="open")
    moved: Mapped[dt.datetime | None] = mapped_column(default=None)
    # Of the step that is shown, kept by the database itself whenever another one is: what the Yard looks for.
    title: Mapped[str] = mapped_column(String(120), default="", server_default="")
    words: Mapped[str] = mapped_column(Text, default="", server_default="")
    folder: Mapped[str] = mapped_column(String(60), default="", server_default="")
    due: Mapped[str] = mapped_column(String(10), default="", server_default="")
    handed_over: Mapped[str] = mapped_column(String(10), default="", server_default="")
    goes_with: Mapped[str] = mapped_column(String(32), default="", server_default="")
    plates: Mapped[int] = mapped_column(default=1, server_default="1")
    high_mm: Mapped[float] = mapped_column(default=0.0, server_default="0")


class StepRow(Base):
    """One kept change: rows are added and never altered, so nothing is ever lost."""

    __tablename__ = "step"
    __table_args__ = (Index("step_by_parent", "job_id", "parent_id"),)

    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    job_id: Mapped[str] = mapped_column(ForeignKey("job.id", ondelete="CASCADE"), index=True)
    parent_id: Mapped[int | None] = mapped_column(default=None)
    number: Mapped[int]
    label: Mapped[str] = mapped_column(String(200))
    sheet: Mapped[str] = mapped_column(Text)
    created: Mapped[dt.datetime]
    # Which open page made it, and of which item it is.
    author: Mapped[str] = mapped_column(String(40), default="", server_default="")
    item: Mapped[str] = mapped_column(String(100), default="", server_default="")


class ShelfRow(Base):
    """A printer, material, calibration or preset of the shop; jobs keep copies of what they use."""

    __tablename__ = "shelf"

    kind: Mapped[str] = mapped_column(String(12), primary_key=True)
    name: Mapped[str] = mapped_column(String(130), primary_key=True)
    data: Mapped[str] = mapped_column(Text)


class BlobRow(Base):
    """Bytes that must be kept, under the digest of what they hold: meshes."""

    __tablename__ = "blob"

    digest: Mapped[str] = mapped_column(String(32), primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)


class ResultRow(Base):
    """A remembered result: can be thrown away and made again."""

    __tablename__ = "result"

    key: Mapped[str] = mapped_column(String(64), primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)
    size: Mapped[int]
    used: Mapped[float] = mapped_column(index=True)


class RoomRow(Base):
    """What remembered results take in all; the database itself keeps it."""

    __tablename__ = "result_room"

    id: Mapped[int] = mapped_column(primary_key=True)
    bytes: Mapped[int]


class PrintRow(Base):
    """A print of a plate: in the queue of a machine, under way, or in the record. It is never deleted."""

    __tablename__ = "print"
    __table_args__ = (
        Index("print_by_station", "station", "state", "rank"),
        Index("print_by_job", "job_id", "state"),
    )

    id: Mapped[str] = mapped_column(String(32), primary_key=True)
    # What it was made from; the job may be gone since.
    job_id: Mapped[str] = mapped_column(String(32))
    step_id: Mapped[int]
    job_name: Mapped[str] = mapped_column(String(120))
    plate: Mapped[int]
    items: Mapped[str] = mapped_column(Text)
    settings: Mapped[str] = mapped_column(Text)
    station: Mapped[str] = mapped_column(String(60))
    model: Mapped[str] = mapped_column(String(60))
    material: Mapped[str] = mapped_column(String(60))
    file_name: Mapped[str] = mapped_column(String(200))
    layers: Mapped[int]
    told_s: Mapped[float]
    told_g: Mapped[float]
    state: Mapped[str] = mapped_column(String(10))
    rank: Mapped[int]
    created: Mapped[dt.datetime]
    started: Mapped[dt.datetime | None] = mapped_column(default=None)
    ended: Mapped[dt.datetime | None] = mapped_column(default=None)
    layer: Mapped[int] = mapped_column(default=0, server_default="0")
    real_s: Mapped[float | None] = mapped_column(default=None)
    # Why it failed; and why it was sent though preflight was not clear.
    reason: Mapped[str] = mapped_column(String(200), default="", server_default="")
    excuse: Mapped[str] = mapped_column(String(400), default="", server_default="")
    cleared: Mapped[bool] = mapped_column(default=False, server_default=false())
    outcome: Mapped[str] = mapped_column(String(10), default="", server_default="")
    who: Mapped[str] = mapped_column(String(60), default="", server_default="")
    notes: Mapped[str] = mapped_column(String(2000), default="", server_default="")
    # Where on the plate it failed, mm from its middle, as somebody said.
    at_x_mm: Mapped[float | None] = mapped_column(default=None)
    at_y_mm: Mapped[float | None] = mapped_column(default=None)


class PrintPhotoRow(Base):
    """A photo of what was printed, as JPEG."""

    __tablename__ = "print_photo"

    print_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)


class PrintFileRow(Base):
    """The file of a print until that is over."""

    __tablename__ = "print_file"

    print_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)

"""Tables."""

from __future__ import annotations

import datetime as dt

from sqlalchemy import ForeignKey, Index, LargeBinary, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Base of all tables."""


class JobRow(Base):
    """A job; ``step_id`` points at the step that is shown, and undo and redo move it."""

    __tablename__ = "job"

    id: Mapped[str] = mapped_column(String(32), primary_key=True)
    step_id: Mapped[int | None] = mapped_column(default=None)
    demo: Mapped[bool] = mapped_column(default=False)
    created: Mapped[dt.datetime]
    touched: Mapped[dt.datetime]
    state: Mapped[str] = mapped_column(String(10), default="open", server_default="open")
    moved: Mapped[dt.datetime | None] = mapped_column(default=None)


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

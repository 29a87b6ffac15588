"""One SQLite file: its connections, and the tables brought up to date."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.orm import Session

from ..core.errors import HeronError


class NotFound(HeronError):
    """There is no such job or blob (any more)."""


class Database:
    """Opens (and where needed migrates) a database file.

    Parameters
    ----------
    path : Path
        The file; its folder is made.
    migrate : bool
        Bring the tables up to date; workers leave that to the server.
    """

    def __init__(self, path: Path, *, migrate: bool = True) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path = path
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
    def session(self, *, write: bool = False) -> Iterator[Session]:
        """A transaction; one that writes waits for its turn."""
        with Session(self._writing if write else self._engine) as session, session.begin():
            yield session


def now() -> dt.datetime:
    """The time of day and date, UTC, as it is kept."""
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

"""One SQLite file: its connections, and the tables brought up to date."""

from __future__ import annotations

import contextlib
import datetime as dt
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DatabaseError
from sqlalchemy.orm import Session

from ..core.errors import HeronError
from .trouble import StoreTrouble, trouble_of

# A connection waits so long for another that writes; nothing here holds the lock for more than moments.
LOCKED_S = 10.0
# Pages that are free are given back to the disk so many at a time: each is moved in the write lock.
FREED_PAGES = 500


class NotFound(HeronError):
    """There is no such job or blob (any more)."""


class Database:
    """Opens (and where needed migrates) a database file.

    Parameters
    ----------
    path : Path
        The file; its folder is made.
    migrate : bool
        Bring the tables up to date; workers leave that to the server. What the server writes is on the disk
        when it is acknowledged; what workers remember can be made again.

    Raises
    ------
    StoreTrouble
        It cannot be opened or brought up to date.
    """

    def __init__(self, path: Path, *, migrate: bool = True) -> None:
        self.path = path
        self._engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": LOCKED_S})
        event.listen(self._engine, "connect", _prepare if migrate else _prepare_worker)
        event.listen(self._engine, "begin", _begin)
        self._writing = self._engine.execution_options(write=True)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if migrate:
                migrate_to_head(self._engine, path)
        except (DatabaseError, sqlite3.DatabaseError, OSError) as error:
            self._engine.dispose()
            raise trouble_of(error, path) or _unopened(path, error) from error
        except StoreTrouble:
            self._engine.dispose()
            raise

    def close(self) -> None:
        """Close all connections."""
        self._engine.dispose()

    @contextmanager
    def session(self, *, write: bool = False) -> Iterator[Session]:
        """A transaction; one that writes waits for its turn.

        Raises
        ------
        StoreTrouble
            The file is locked by another program, may not be written, is damaged, or its disk is full.
        """
        try:
            with Session(self._writing if write else self._engine) as session, session.begin():
                yield session
        except (DatabaseError, sqlite3.DatabaseError) as error:
            told = trouble_of(error, self.path)
            if told is None:
                raise
            raise told from error

    def give_back(self, pages: int = FREED_PAGES) -> None:
        """Give so many of the pages that are free back to the disk."""
        with self._engine.connect() as connection:
            raw = connection.connection.cursor()
            # Each step of this statement frees a page, and the driver makes but one of a statement without
            # columns; of a script it makes all. While somebody else writes it is left for another time.
            with contextlib.suppress(sqlite3.OperationalError):
                raw.executescript(f"PRAGMA incremental_vacuum({pages})")
            raw.close()


def _unopened(path: Path, error: Exception) -> StoreTrouble:
    why = getattr(error, "strerror", None) or str(getattr(error, "orig", error))
    return StoreTrouble(f"The database {path} cannot be opened: {why}.", "Check the path.")


def now() -> dt.datetime:
    """The time of day and date, UTC, as it is kept."""
    return dt.datetime.now(dt.UTC).replace(tzinfo=None)


def _prepare(connection: Any, _record: Any) -> None:
    # A step that is acknowledged survives the power; less syncs at checkpoints only (sqlite.org/wal.html).
    _set_up(connection, "FULL")


def _prepare_worker(connection: Any, _record: Any) -> None:
    _set_up(connection, "NORMAL")


def _set_up(connection: Any, synchronous: str) -> None:
    connection.isolation_level = None  # transactions are begun below, not by the driver
    cursor = connection.cursor()
    # Readers do not wait for a writer, and a killed process loses no finished step.
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute(f"PRAGMA synchronous={synchronous}")
    cursor.execute("PRAGMA foreign_keys=ON")
    # What a large transaction left is cut off again.
    cursor.execute("PRAGMA journal_size_limit=67108864")
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


def migrate_to_head(engine: Engine, path: Path) -> None:
    """Bring the tables of a database up to date; a copy is made before that.

    Raises
    ------
    StoreTrouble
        It was made by a later version or another program, or there is no room for the copy.
    """
    config = alembic_config()
    script = ScriptDirectory.from_config(config)
    head = script.get_current_head()
    at, tables = _found(path)
    if at is None and tables:
        raise StoreTrouble(f"{path} is the database of another program.", "Name another with --database.")
    if at is not None and at not in {one.revision for one in script.walk_revisions()}:
        raise StoreTrouble(
            f"The database {path} was made by a later version of the program.", "Update the program."
        )
    if at == head:
        return
    if at is None:
        _begin_file(path)
    else:
        copy_before(path, at)
    with engine.connect().execution_options(write=True) as connection, connection.begin():
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
    if at is not None:
        _give_back_at_once(engine, path)


def _found(path: Path) -> tuple[str | None, list[str]]:
    """The revision that a file is at and the tables that it has; a file of another program is not touched."""
    if not path.is_file() or not path.stat().st_size:
        return None, []
    with contextlib.closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)) as raw:
        raw.execute(f"PRAGMA busy_timeout={1000 * LOCKED_S:.0f}")
        tables = [name for (name,) in raw.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        if "alembic_version" not in tables:
            return None, tables
        row = raw.execute("SELECT version_num FROM alembic_version").fetchone()
        return (None if row is None else str(row[0])), tables


def _begin_file(path: Path) -> None:
    """Begin a new file, so that free pages can be given back: that is settled before the first table.

    Connections do not say it again: it takes the write lock, even where it changes nothing.
    """
    with contextlib.closing(sqlite3.connect(path, timeout=LOCKED_S)) as raw:
        raw.execute("PRAGMA auto_vacuum=INCREMENTAL")
        raw.execute("PRAGMA journal_mode=WAL")


def _give_back_at_once(engine: Engine, path: Path) -> None:
    """Rewrite a file of former versions once, so that pages that are free can be given back later."""
    with engine.connect() as connection:
        raw = connection.connection.cursor()
        incremental = raw.execute("PRAGMA auto_vacuum").fetchone()[0] == 2
        # The new file goes through the log; without the room for both it stays as it is.
        if not incremental and shutil.disk_usage(path.parent).free > 2.5 * path.stat().st_size:
            raw.execute("PRAGMA auto_vacuum=INCREMENTAL")
            raw.execute("VACUUM")
            raw.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchall()
        raw.close()


def copy_before(path: Path, revision: str) -> Path:
    """Copy a database as it is before it is brought up to date, without what can be made again.

    Parameters
    ----------
    path : Path
    revision : str
        That it is at.

    Returns
    -------
    Path
        The copy, beside it.

    Raises
    ------
    StoreTrouble
        There is no room for it.
    """
    copy = path.with_name(f"{path.name}.before-{revision}")
    begun = copy.with_name(f"{copy.name}.begun")
    size = sum(one.stat().st_size for one in (path, path.with_name(f"{path.name}-wal")) if one.exists())
    if shutil.disk_usage(path.parent).free < 1.2 * size:
        told = f"There is no room to copy the database {path} before it is brought up to date."
        raise StoreTrouble(told, f"Free {1.2 * size / 1e6:.0f} MB, and start again.")
    begun.unlink(missing_ok=True)
    try:
        with (
            contextlib.closing(sqlite3.connect(path)) as old,
            contextlib.closing(sqlite3.connect(begun)) as new,
        ):
            old.backup(new)
            new.execute("PRAGMA journal_mode=DELETE")
            new.execute("DELETE FROM result")
            new.commit()
            new.execute("VACUUM")
        begun.replace(copy)
    finally:
        begun.unlink(missing_ok=True)
    return copy

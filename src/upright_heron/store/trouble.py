"""What can be wrong with a database file or the disk that it is on, in words."""

from __future__ import annotations

import errno
import sqlite3
from pathlib import Path

from sqlalchemy.exc import DatabaseError, IntegrityError

from ..core.errors import HeronError


class StoreTrouble(HeronError):
    """The database cannot be opened, read or written; nothing of what was acknowledged is lost."""


class Unreadable(HeronError):
    """A row of the database that cannot be read; the others can."""


_FREE = "Free some room and try again; what was kept before is as it was."
# How SQLite says it (sqlite.org/rescode.html), what that means here, and what to do.
_SAID = (
    ("is locked", "is locked by another program", "Close that, and try again."),
    ("readonly database", "may only be read", "Allow it to be written, or name another with --database."),
    ("disk is full", "has no room left on its disk", _FREE),
    ("disk I/O error", "cannot be read or written: the disk refuses", "Look at the disk, or at its room."),
    ("not a database", "is no database of this program", "Name another file with --database."),
    ("malformed", "is damaged", "Take the last copy of it, or a whole-shop archive."),
    ("unable to open", "cannot be opened", "Check the path, and who may write there."),
)
_NO_ROOM = (errno.ENOSPC, errno.EDQUOT)


def trouble_of(error: BaseException, path: Path | None = None) -> StoreTrouble | None:
    """What an error of the database or the disk means; ``None`` where it is of another kind.

    Parameters
    ----------
    error : BaseException
    path : Path, optional
        Of the database.
    """
    # What happens while a connection is set up comes from the driver itself.
    if isinstance(error, DatabaseError | sqlite3.DatabaseError) and not isinstance(error, IntegrityError):
        said = str(getattr(error, "orig", error))
        for words, told, advice in _SAID:
            if words in said:
                return StoreTrouble(f"The database{f' {path}' if path else ''} {told}.", advice)
    if isinstance(error, OSError) and error.errno in _NO_ROOM:
        where = f" for {error.filename}" if error.filename else ""
        return StoreTrouble(f"There is no room left on the disk{where}.", _FREE)
    if isinstance(error, OSError) and error.errno == errno.EROFS:
        return StoreTrouble("The disk may only be read.", "Allow it to be written, and try again.")
    return None

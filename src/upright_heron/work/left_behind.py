"""What a process puts into the folder for temporary files: one that is killed leaves nothing for good."""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import tempfile
from multiprocessing import util
from pathlib import Path

from ..store.trouble import StoreTrouble

PREFIX = "upright-heron-"
# Tells the process that workers are forked from where that is.
FOLDER = "UPRIGHT_HERON_SOCKETS"
_own: list[int] = []


def keep_together() -> None:
    """Give this process a folder of its own for the sockets of its workers, and take away those of the dead.

    A folder belongs to a process that lives as long as somebody holds the lock in it: the system lets go of
    that when the process ends, however it ends.

    Raises
    ------
    StoreTrouble
        No folder for temporary files can be written to.
    """
    if _own:
        return
    try:
        for left in Path(tempfile.gettempdir()).glob(f"{PREFIX}*"):
            with contextlib.suppress(OSError):
                _sweep(left)
        own, lock = _made()
    except OSError as error:
        words = f"Nothing can be put into a folder for temporary files ({error.strerror or error})."
        raise StoreTrouble(words, "Free some room there, or name another folder with TMPDIR.") from error
    _own.append(lock)
    usual, tempfile.tempdir = tempfile.tempdir, str(own)
    try:
        # Made once for a process, wherever temporary files go at that time.
        util.get_temp_dir()
    finally:
        tempfile.tempdir = usual
    os.environ[FOLDER] = str(own)
    # Behind what Python takes away in there itself.
    util.Finalize(None, shutil.rmtree, (own,), {"ignore_errors": True}, exitpriority=-200)


def _made() -> tuple[Path, int]:
    """A new folder, and its lock, which is held."""
    own = Path(tempfile.mkdtemp(prefix=PREFIX))
    # It appears with the lock held: nobody takes the folder away in between.
    lock = os.open(own / "lock.new", os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600)
    fcntl.flock(lock, fcntl.LOCK_EX)
    (own / "lock.new").rename(own / "lock")
    return own, lock


def _sweep(left: Path) -> None:
    """Take a folder away where nobody holds its lock."""
    lock = os.open(left / "lock", os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        shutil.rmtree(left, ignore_errors=True)
    finally:
        os.close(lock)

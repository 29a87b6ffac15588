"""Files from strangers, read in a process of its own with limits of memory and time."""

from __future__ import annotations

import contextlib
import json
import math
import signal
import subprocess
import sys
import threading
import time
from dataclasses import dataclass
from typing import IO, Any

import numpy as np

from ..core import errors
from ..core.errors import BadFile, NotAMesh, TooLarge
from ..core.formats.contents import Body, Contents
from ..core.progress import Progress, silent
from .read_child import ARCHIVE

# How often it is looked whether somebody wants to stop, s.
_LOOKED_S = 0.05
# A reader on a machine with other work gets so many times its processor time before it is given up.
_WALL = 4
# More than a mesh of as many facets as any reader lets through.
_MOST_ANSWER = 1 << 30


@dataclass(frozen=True, slots=True)
class Limits:
    """What reading a file may take.

    Attributes
    ----------
    memory_mb : int
    seconds : float
        Of processor time, for the smallest file.
    seconds_per_mb : float
        More of it for each megabyte of the file: text takes its time.
    """

    memory_mb: int = 1800
    seconds: float = 12.0
    seconds_per_mb: float = 0.6

    def seconds_for(self, size: int) -> int:
        """Processor time for a file of so many bytes, s."""
        return math.ceil(self.seconds + self.seconds_per_mb * size / 1e6)


USUAL = Limits()
# Whoever takes an archive in holds all of it once more.
OF_ARCHIVES = Limits(memory_mb=1200)


def read_apart(
    data: bytes,
    file_name: str = "",
    *,
    tolerance_mm: float = 0.1,
    limits: Limits = USUAL,
    progress: Progress = silent,
) -> Contents:
    """Read a file as ``core.formats.read`` does, in a process that may break.

    Parameters
    ----------
    data : bytes
    file_name : str
    tolerance_mm : float
        For the curved faces of STEP.
    limits : Limits
    progress : Progress
        It is asked all the time; what it raises ends the reading.

    Returns
    -------
    Contents

    Raises
    ------
    BadFile
        It cannot become a part, takes too much memory or time, or broke its reader.
    """
    seconds = limits.seconds_for(len(data))
    command = [
        sys.executable, "-P", "-m", "upright_heron.work.read_child",
        str(limits.memory_mb), str(seconds), repr(tolerance_mm), file_name.replace("\0", ""),
    ]  # fmt: skip
    with subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
    ) as child:
        assert child.stdin is not None and child.stdout is not None
        answer = bytearray()
        ways = [
            threading.Thread(target=_fed, args=(child.stdin, data), daemon=True),
            threading.Thread(target=_drained, args=(child.stdout, answer), daemon=True),
        ]
        for way in ways:
            way.start()
        try:
            _waited(child, _WALL * seconds, progress)
        except BaseException:
            child.kill()
            raise
        finally:
            child.wait()
            for way in ways:
                way.join()
    if child.returncode < 0:
        raise _broken(file_name, -child.returncode, seconds)
    return _told(bytes(answer), file_name)


def check_apart(data: bytes) -> None:
    """Look through an archive of jobs in a process that may break.

    Raises
    ------
    BadFile, BadValue
        It cannot be taken in, or takes too much memory or time.
    """
    read_apart(data, f"archive{ARCHIVE}", limits=OF_ARCHIVES)


def _fed(pipe: IO[bytes], data: bytes) -> None:
    # A reader that has seen enough reads no further.
    with contextlib.suppress(BrokenPipeError), pipe:
        pipe.write(data)


def _drained(pipe: IO[bytes], answer: bytearray) -> None:
    while len(answer) <= _MOST_ANSWER and (chunk := pipe.read(1 << 20)):
        answer += chunk


def _waited(child: subprocess.Popen[bytes], within_s: float, progress: Progress) -> None:
    until = time.monotonic() + within_s
    while True:
        progress("Reading the file", 0, 1)
        try:
            child.wait(_LOOKED_S)
        except subprocess.TimeoutExpired:
            if time.monotonic() > until:
                child.kill()
                return
        else:
            return


def _broken(file_name: str, number: int, seconds: int) -> BadFile:
    named = f"“{file_name[:80]}”" if file_name else "The file"
    if number in (signal.SIGXCPU, signal.SIGKILL):
        return TooLarge(
            f"{named} takes more than {seconds} s to read: it was given up.",
            "Export it again, simpler or as another kind of file.",
        )
    return NotAMesh(
        f"{named} cannot be read: its reader broke down.", "Export it again, or as another kind of file."
    )


def _told(answer: bytes, file_name: str) -> Contents:
    size = int.from_bytes(answer[:8], "little")
    try:
        head: dict[str, Any] = json.loads(answer[8 : 8 + size])
        if "error" in head:
            raise getattr(errors, head["error"])(head["message"], head["advice"])
        bodies, at = [], 8 + size
        for one in head["bodies"]:
            count = int(one["facets"])
            corners = np.frombuffer(answer, "<f4", 9 * count, at).reshape(-1, 3, 3)
            at += corners.nbytes
            marks = np.frombuffer(answer, np.uint8, count, at) if one["marks"] else None
            at += count if one["marks"] else 0
            bodies.append(Body(one["name"], corners.astype(np.float32), marks, one["support"]))
        return Contents(head["format"], head["unit"], tuple(bodies))
    except (ValueError, KeyError, TypeError) as error:
        named = f"“{file_name[:80]}”" if file_name else "The file"
        raise NotAMesh(f"{named} cannot be read: its reader broke off.", "Export it again.") from error

"""Reads one file in a process of its own: whatever the file does to its reader, only this process ends.

Started by ``reading_apart.py`` as ``python -m upright_heron.work.read_child``, with the file on its input and
the answer on its output: eight bytes of length, a head as JSON, then the corners and marks of all bodies. Of
an archive of jobs it only says whether it can be taken in.
"""

from __future__ import annotations

import io
import json
import os
import resource
import sys
from typing import Any, BinaryIO

from .ends import end_with_parent

# What files of whole jobs end with.
ARCHIVE = ".heron"


def main(memory_mb: str, seconds: str, tolerance_mm: str, file_name: str) -> None:
    """Read the input, and write what is in it or why it cannot be read."""
    _limit(int(memory_mb), int(seconds))
    answer = os.fdopen(os.dup(1), "wb")
    # What libraries print goes nowhere.
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    os.dup2(nowhere, 2)
    # Imported behind the limits: what loads counts too.
    import numpy as np

    from ..core.errors import BadFile, BadValue, NotAMesh, TooLarge
    from ..core.formats.contents import Contents
    from ..core.formats.read import read

    try:
        data = sys.stdin.buffer.read()
        if file_name.lower().endswith(ARCHIVE):
            from ..store.archive import check_archive

            check_archive(io.BytesIO(data))
            found = Contents("archive", None, ())
        else:
            found = read(data, file_name, tolerance_mm=float(tolerance_mm))
    except (BadFile, BadValue) as error:
        _head(answer, {"error": type(error).__name__, "message": str(error), "advice": error.advice})
        return
    except (MemoryError, RecursionError):
        message, advice = "It needs more memory than a file may take.", "Export it again, with fewer facets."
        _head(answer, {"error": TooLarge.__name__, "message": message, "advice": advice})
        return
    except Exception as error:
        # Whatever a reader did not foresee: the file is none that it can read.
        message = f"The file is damaged ({type(error).__name__})."
        _head(answer, {"error": NotAMesh.__name__, "message": message, "advice": "Export it again."})
        return
    bodies = [
        {
            "name": body.name.encode("utf-8", "replace").decode(),
            "facets": len(body.corners),
            "marks": body.marks is not None,
            "support": body.support,
        }
        for body in found.bodies
    ]
    _head(answer, {"format": found.format, "unit": found.unit, "bodies": bodies})
    for body in found.bodies:
        answer.write(np.ascontiguousarray(body.corners, "<f4").data)
        if body.marks is not None:
            answer.write(np.ascontiguousarray(body.marks, np.uint8).data)
    answer.flush()


def _limit(memory_mb: int, seconds: int) -> None:
    end_with_parent()
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_DATA, (memory_mb << 20, memory_mb << 20))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))


def _head(answer: BinaryIO, told: dict[str, Any]) -> None:
    text = json.dumps(told).encode()
    answer.write(len(text).to_bytes(8, "little") + text)
    answer.flush()


if __name__ == "__main__":
    main(*sys.argv[1:])

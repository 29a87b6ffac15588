"""How a worker process ends: with its server, and without taking its values apart."""

from __future__ import annotations

import ctypes
import os
import signal
import sys
import threading
from multiprocessing import parent_process, util
from multiprocessing.connection import wait

# PR_SET_PDEATHSIG of Linux.
_DIE_WITH_PARENT = 1


def end_with_server() -> None:
    """Watch, in a thread, for the end of the server: killed, it cannot tell, and its queues never close.

    The process that this one was forked from may be lost by itself: it then ends too, and is replaced.
    """
    end_with_parent()
    threading.Thread(target=_watch, name="server-watch", daemon=True).start()
    # With a thread that never ends the interpreter cannot free what is at hand, and complains of each.
    util.Finalize(None, _leave, exitpriority=-1)


def end_with_parent() -> None:
    """End at once when the process that this one was forked from does, however it ends."""
    ctypes.CDLL(None).prctl(_DIE_WITH_PARENT, signal.SIGKILL)
    if os.getppid() == 1:
        # It was gone before it could be asked.
        os._exit(1)


def _watch() -> None:
    server = parent_process()
    if server is not None:
        wait([server.sentinel])
        os._exit(1)


def _leave() -> None:
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(0)

"""How a worker process ends: with its server, and without taking its values apart."""

from __future__ import annotations

import os
import sys
import threading
from multiprocessing import parent_process, util
from multiprocessing.connection import wait


def end_with_server() -> None:
    """Watch, in a thread, for the end of the server: killed, it cannot tell, and its queues never close."""
    threading.Thread(target=_watch, name="server-watch", daemon=True).start()
    # With a thread that never ends the interpreter cannot free what is at hand, and complains of each.
    util.Finalize(None, _leave, exitpriority=-1)


def _watch() -> None:
    server = parent_process()
    if server is not None:
        wait([server.sentinel])
        os._exit(1)


def _leave() -> None:
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(0)

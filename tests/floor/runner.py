"""A server's floor in a process of its own, to be killed: ``runner.py DATABASE``."""

import sys
import time
from pathlib import Path

from upright_heron.store.store import Store
from upright_heron.work.floor import Floor

if __name__ == "__main__":
    Floor(Store(Path(sys.argv[1]), migrate=False), asked_s=0.05).start()
    while True:
        time.sleep(1)

"""Several simulated printers beside a server, each in a process of its own."""

from __future__ import annotations

import atexit
import socket
import subprocess
import sys
from pathlib import Path

from ..sheet.shop import Station

# What stands in the demo workshop: kind, its own name, how much longer its prints take than told, and grams.
DEMO = (
    ("Sedge 300", "Sedge, by the door", 1.08, 900.0),
    ("Sedge 300", "Sedge, at the window", 1.0, 120.0),
    ("Tarn 9", "Tarn, in the dark room", 1.02, 480.0),
)
SPEED_UP = 60.0


def start_demo(folder: Path, speed_up: float = SPEED_UP) -> list[Station]:
    """Start the machines of the demo workshop; they end with this process.

    Parameters
    ----------
    folder : Path
        Where they keep what they do.
    speed_up : float
        So much faster than the clock.

    Returns
    -------
    list of Station
        Where each is spoken to.
    """
    found = []
    for model, name, slower, grams in DEMO:
        port = _free_port()
        command = [
            sys.executable, "-m", "upright_heron.cli", "stand-in", model, "--name", name, "--port", str(port),
            "--folder", str(folder / name.replace(", ", "-").replace(" ", "-")), "--slower", str(slower),
            "--grams", str(grams), "--speed-up", str(speed_up),
        ]  # fmt: skip
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        atexit.register(process.terminate)
        found.append(Station(name=name, model=model, url=f"http://127.0.0.1:{port}"))
    return found


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])

"""Simulated printers that really listen, for tests."""

import socket
import threading
import time

import uvicorn

from upright_heron.core.machines.catalogue import printer
from upright_heron.stand_in.app import create_app
from upright_heron.stand_in.machine import StandIn


class Rack:
    """Machines that listen on ports of their own until they are closed."""

    def __init__(self, folder):
        self.folder = folder
        self._running = []

    def add(self, model, name, **options):
        """Start one; itself, and where it is spoken to."""
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        machine = StandIn(printer(model), name, self.folder / name.replace(" ", "-"), **options)
        config = uvicorn.Config(create_app(machine), host="127.0.0.1", port=port, log_level="warning")
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run, daemon=True)
        thread.start()
        while not server.started:
            time.sleep(0.01)
        self._running.append((server, thread))
        return machine, f"http://127.0.0.1:{port}"

    def close(self):
        for server, thread in self._running:
            server.should_exit = True
            thread.join(timeout=10)

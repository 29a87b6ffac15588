"""Settings of the server, from the environment: names begin with UPRIGHT_HERON_."""

from __future__ import annotations

from pathlib import Path

from pydantic_settings import BaseSettings, SettingsConfigDict


class Settings(BaseSettings):
    """Where things are and how much is allowed."""

    model_config = SettingsConfigDict(env_prefix="UPRIGHT_HERON_")

    database: Path = Path("var/heron.sqlite3")
    host: str = "127.0.0.1"
    port: int = 8420
    workers: int = 2
    upload_mb: int = 256
    # What reading one file may take: memory, and processor time for the smallest.
    read_mb: int = 1800
    read_s: float = 12.0
    # What a worker may keep of memory once it is done with something: over that it is replaced.
    worker_mb: int = 3000
    demo: bool = False
    # Other names than those of this machine that the server is asked for by, and what people have to know
    # to come in: both are needed to listen at an address that other machines reach.
    hosts: tuple[str, ...] = ()
    token: str = ""
    # Other hosts that machines may be spoken to at, and how often each is asked what it does.
    machine_hosts: tuple[str, ...] = ()
    machines_asked_s: float = 1.0

    @property
    def incoming(self) -> Path:
        """Where files are while they come in: what is there at the start is of a server that was killed."""
        return self.database.parent / f"{self.database.stem}-incoming"

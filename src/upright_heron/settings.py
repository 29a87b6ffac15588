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
    demo: bool = False

"""Commands that run the web application."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer


def serve(
    host: Annotated[str | None, typer.Option(help="Address to listen at.")] = None,
    port: Annotated[int | None, typer.Option(help="Port to listen at.")] = None,
    database: Annotated[Path | None, typer.Option(help="Database file.")] = None,
) -> None:
    """Run the web application."""
    _serve(host, port, database, demo=False)


def demo(
    host: Annotated[str | None, typer.Option(help="Address to listen at.")] = None,
    port: Annotated[int | None, typer.Option(help="Port to listen at.")] = None,
    database: Annotated[Path | None, typer.Option(help="Database file.")] = None,
) -> None:
    """Run the web application with the jobs of the demo workshop."""
    _serve(host, port, database, demo=True)


def _with_machines(database: Path) -> None:
    """Start the simulated printers of the demo workshop, and let the shop know them."""
    from ..stand_in.rack import SPEED_UP, start_demo
    from ..store.store import Store

    store = Store(database)
    for station in start_demo(database.parent / "machines"):
        store.shelve(station)
        typer.echo(f"{station.name} stands in at {station.url}, {SPEED_UP:g} times as fast as the clock")
    store.close()


def _serve(host: str | None, port: int | None, database: Path | None, *, demo: bool) -> None:
    import uvicorn

    from ..settings import Settings
    from ..store.store import Store
    from ..web.app import create_app
    from ..web.guard import may_listen
    from ..work.left_behind import keep_together

    given = {"host": host, "port": port, "database": database}
    settings = Settings(**{k: v for k, v in given.items() if v is not None}, demo=demo)  # type: ignore[arg-type]
    may_listen(settings)
    # What is wrong with the database or the disk is one line here; inside the server it would end a trace.
    Store(settings.database).close()
    keep_together()
    typer.echo(f"Upright Heron starts at http://{settings.host}:{settings.port}")
    if demo:
        typer.echo("The first start makes the demo jobs; this takes up to a minute.")
        _with_machines(settings.database)
    uvicorn.run(
        create_app(settings),
        host=settings.host,
        port=settings.port,
        log_level="warning",
        timeout_graceful_shutdown=3,
    )

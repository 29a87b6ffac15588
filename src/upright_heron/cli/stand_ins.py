"""The command that runs a simulated printer."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ..core.errors import BadValue
from ..core.machines import catalogue as machines


def stand_in(
    model: Annotated[str, typer.Argument(help="The kind of machine, of the demo workshop.")] = "Sedge 300",
    name: Annotated[str, typer.Option(help="Its own name.")] = "",
    port: Annotated[int, typer.Option(help="Port to listen at, on this computer only.")] = 8431,
    folder: Annotated[Path, typer.Option(help="Where it keeps what it does.")] = Path("var/stand-in"),
    speed_up: Annotated[float, typer.Option(help="So much faster than the clock.", min=0.01)] = 60.0,
    slower: Annotated[float, typer.Option(help="Prints take so much longer than told.", min=0.2)] = 1.0,
    grams: Annotated[float, typer.Option(help="On its first spool or in its bottle.", min=0)] = 1000.0,
) -> None:
    """Run a printer that is not there; see docs/machine-protocol.md."""
    import uvicorn

    from ..stand_in.app import create_app
    from ..stand_in.machine import StandIn

    if not 0 < port < 65536:
        raise BadValue(f"There is no port {port}.", "Use 1024 to 65535.")
    machine = StandIn(
        machines.printer(model), name or model, folder, speed_up=speed_up, slower=slower, grams=grams
    )
    typer.echo(f"{machine.name} stands in at http://127.0.0.1:{port}")
    uvicorn.run(create_app(machine), host="127.0.0.1", port=port, log_level="warning")

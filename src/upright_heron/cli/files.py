"""Files in and answers out: what all commands of the shell share."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer

from ..core.errors import BadValue, EmptyFile, NotAMesh
from ..core.formats.contents import Contents
from ..core.geometry.mesh import Mesh
from ..core.machines import catalogue as machines
from ..core.marking.marks import Marks
from ..core.stance.pose import place
from ..work.reading_apart import read_apart

File = Annotated[Path, typer.Argument(help="An STL, OBJ, PLY, 3MF, GLB, AMF or STEP file.")]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object and nothing else.")]
Limit = Annotated[float, typer.Option(help="Self-supporting limit, degrees from vertical.")]
Layer = Annotated[float, typer.Option(help="Layer height, mm.")]
PrinterName = Annotated[str, typer.Option("--printer", help="Name of a printer of the demo workshop.")]


def contents(path: Path) -> Contents:
    """Read a file of a part; see ``core.formats`` for the errors."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise NotAMesh(f"{path} cannot be read: {error.strerror or error}.", "Check the path.") from error
    if not data:
        raise EmptyFile(f"{path} is empty.", "Export it again.")
    return read_apart(data, path.name)


def part(path: Path) -> tuple[Mesh, Marks | None]:
    """The part as it stands in its file, its lowest point put at z = 0, and what it is painted with."""
    reading = contents(path).whole()
    return place(reading.mesh, np.eye(3), centred=False).apply(reading.mesh), reading.marks


def checked(limit: float) -> float:
    """A limit that makes sense."""
    if not 0 <= limit <= 90:
        raise BadValue(f"A limit of {limit:g} degrees makes no sense.", "Use 0 to 90, from vertical.")
    return limit


def tell(result: dict[str, Any], as_json: bool) -> None:
    """Print an answer: as JSON, or in lines to read."""
    if as_json:
        typer.echo(json.dumps(result))
        return
    for key, value in result.items():
        if isinstance(value, list) and value and isinstance(value[0], dict):
            typer.echo(f"{key.replace('_', ' ')}:")
            for row in value:
                typer.echo("  " + ", ".join(f"{k} {_short(v)}" for k, v in row.items()))
        else:
            typer.echo(f"{key.replace('_', ' ')}: {_short(value)}")


def _short(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, list):
        return "[" + ", ".join(_short(v) for v in value) + "]"
    if isinstance(value, dict):
        return ", ".join(f"{k} {_short(v)}" for k, v in value.items())
    return str(value)


def text_in(path: Path) -> str:
    """Read a file of text.

    Raises
    ------
    BadValue
        It cannot be read, or is no text.
    """
    try:
        return path.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise BadValue(f"{path.name} cannot be read.", "Give a file of text, such as CSV.") from error


def write(path: Path, data: bytes) -> None:
    """Write a file; its folder is made."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    except OSError as error:
        raise BadValue(f"{path} cannot be written: {error.strerror or error}.", "Check the path.") from error


def machine_of(name: str, layer: float | None, limit: float | None) -> tuple[machines.Printer, float, float]:
    """A printer with the layer height and limit that are asked for, or its usual ones."""
    machine = machines.printer(name)
    usual = machines.limit_for(machine, machines.materials_for(machine)[0])
    return machine, machine.layer_mm if layer is None else layer, usual if limit is None else checked(limit)

"""The shell command: the same graph on files. With ``--json`` one JSON object goes out and nothing else.

Errors go to standard error; the exit status is 2 for bad input.
"""

from __future__ import annotations

import sys

import typer
from pydantic import ValidationError

from ..core.errors import HeronError
from ..sheet.document import misfit
from . import archives, hollows, look, make, paths, pieces, plates, server, stand_ins

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False)
for _command in (
    look.inspect,
    make.mend,
    hollows.hollow,
    look.overhangs,
    look.layers,
    look.stances,
    make.supports,
    pieces.split,
    pieces.coupon,
    plates.arrange,
    archives.preflight,
    archives.export_job,
    archives.import_job,
    make.handoff,
    make.masks,
    paths.estimate,
    paths.gcode,
    paths.whatif,
    stand_ins.stand_in,
    server.serve,
    server.demo,
):
    app.command()(_command)


def main() -> None:
    """Run the command; expected errors become one line on standard error and exit status 2."""
    try:
        app()
    except ValidationError as error:
        sys.stderr.write(f"upright-heron: {misfit(error.errors())}\n")
        sys.exit(2)
    except HeronError as error:
        sys.stderr.write(f"upright-heron: {error} {error.advice}\n".replace("  ", " "))
        sys.exit(2)

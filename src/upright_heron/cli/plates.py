"""The command that lays parts on plates."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import numpy as np
import typer

from ..core.errors import BadValue
from ..core.handoff.threemf import FileObject, Role, write_3mf
from ..core.machines import catalogue as machines
from ..core.plates.gaps import Lying, least_gap_mm, used_share
from ..core.plates.nesting import Room, nest
from ..core.plates.outline import NOTHING, boxed
from ..core.plates.tighter import nest_tighter
from ..core.stance.pose import about_axis
from ..sheet.plating import Turning
from ..work.alone import Alone
from ..work.bind_plates import TURNS
from .files import Json, PrinterName, part, tell, write


def arrange(
    files: Annotated[list[Path], typer.Argument(help="Files of parts, each as it is to stand.")],
    printer: PrinterName = "Sedge 300",
    gap: Annotated[float, typer.Option(help="Clear distance between parts, mm.")] = 3.0,
    edge: Annotated[float, typer.Option(help="Clear distance from the edges of the plate, mm.")] = 0.0,
    copies: Annotated[int, typer.Option(help="How often each is printed.", min=1, max=500)] = 1,
    turning: Annotated[Turning, typer.Option(help="How parts may be swung.")] = Turning.QUARTERS,
    boxes: Annotated[bool, typer.Option("--boxes", help="Keep boxes apart instead of outlines.")] = False,
    tighter: Annotated[
        int, typer.Option(help="Look for a tighter arrangement for so many seconds.", min=0, max=600)
    ] = 0,
    out: Annotated[Path | None, typer.Option(help="Write each plate as 3MF into this folder.")] = None,
    as_json: Json = False,
) -> None:
    """Lay parts on as many plates as they need, by their true outlines, and measure the gaps.

    Places are of the middle of the box of each part as it came, from the middle of the plate.
    """
    if not 0 <= gap <= 100 or not 0 <= edge <= 100:
        raise BadValue("A gap is 0 to 100 mm.", "Use 2 to 5 mm.")
    machine = machines.printer(printer)
    alone = [Alone(part(file)[0], machine.name) for file in files]
    true = [one.make("outline") for one in alone]
    low = [one if one.high_mm <= machine.build_mm[2] + 1e-6 else NOTHING for one in true]
    plans = [boxed(one) for one in low] if boxes else low
    which = [k for k in range(len(files)) for _ in range(copies)]
    room = Room(machine.build_mm[:2], gap, edge, machine.spot_mm, machine.worn, TURNS[turning])
    laid = nest_tighter(plans, which, room, seconds=tighter) if tighter else nest(plans, which, room)
    missing = sorted(set(which) - {which[one.number] for one in laid})
    if missing:
        names = ", ".join(files[k].name for k in missing)
        raise BadValue(f"{names}: too large for {machine.name}.", "Turn it, cut it, or pick a larger one.")
    plates, gaps = [], []
    for plate in range(max(one.plate for one in laid) + 1):
        here = [one for one in laid if one.plate == plate]
        lying = [Lying(true[which[one.number]], one.x_mm, one.y_mm, one.swing_deg) for one in here]
        gaps.append(least_gap_mm(lying))
        items = [
            {"file": str(files[which[o.number]]), "x_mm": o.x_mm, "y_mm": o.y_mm, "turn_deg": o.swing_deg}
            for o in here
        ]
        plates.append({"items": items, "utilisation": used_share(lying, machine.build_mm[:2])})
        if out is not None:
            objects = []
            for n, one in enumerate(here, 1):
                mesh = alone[which[one.number]].make("placed_mesh")
                turned = mesh.transformed(about_axis("z", one.swing_deg), np.zeros(3))
                name = f"part {files[which[one.number]].stem} {n}"
                objects.append(FileObject(name, turned.moved(one.x_mm, one.y_mm), role=Role.PART))
            write(out / f"plate-{plate + 1:02d}.3mf", write_3mf(objects, f"plate {plate + 1}"))
    known = [one for one in gaps if one is not None]
    tell({"printer": machine.name, "plates": plates, "least_gap_mm": min(known, default=None)}, as_json)

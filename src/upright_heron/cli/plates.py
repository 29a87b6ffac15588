"""The command that lays parts on plates."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer

from ..core.errors import BadValue
from ..core.geometry.mesh import Mesh
from ..core.graph import Source
from ..core.handoff.threemf import FileObject, Role, write_3mf
from ..core.machines import catalogue as machines
from ..core.maker import Maker, Recent
from ..core.plates.gaps import Lying, used_share
from ..core.recipes.values import OnPlates
from ..core.stance.pose import about_axis
from ..sheet.changes import MakeCopies
from ..sheet.changes.plate import MOST_COPIES
from ..sheet.item import Item, fresh_id
from ..sheet.models import JobSheet
from ..sheet.plating import Turning
from ..work.alone import part_of
from ..work.bind import keys_of
from ..work.bind_job import arranging_keys
from .files import Json, PrinterName, part, tell, write


def arrange(
    files: Annotated[list[Path], typer.Argument(help="Files of parts, each as it is to stand.")],
    printer: PrinterName = "Sedge 300",
    gap: Annotated[float, typer.Option(help="Clear distance between parts, mm.")] = 3.0,
    edge: Annotated[float, typer.Option(help="Clear distance from the edges of the plate, mm.")] = 0.0,
    copies: Annotated[int, typer.Option(help="How often each is printed.", min=1, max=MOST_COPIES)] = 1,
    turning: Annotated[Turning, typer.Option(help="How parts may be swung.")] = Turning.QUARTERS,
    boxes: Annotated[bool, typer.Option("--boxes", help="Keep boxes apart instead of outlines.")] = False,
    in_turn: Annotated[
        bool, typer.Option("--in-turn", help="Leave room to print one after the other.")
    ] = False,
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
    meshes = [part(file)[0] for file in files]
    job = _job(files, meshes, machine, copies)
    asked = job.plating.model_copy(
        update={"gap_mm": gap, "edge_mm": edge, "turning": turning, "boxes": boxes, "in_turn": in_turn}
    )
    job = job.model_copy(update={"plating": asked})
    at_hand = {mesh.digest: mesh for mesh in meshes}

    def load(source: Source[Any], digest: str) -> Mesh:
        return at_hand[digest]

    everything = Recent(1_000_000)
    maker = Maker(load, everything, at_hand=everything)
    (keys,) = arranging_keys(job, tighter)
    found: OnPlates = maker.make(keys, "on_plates")
    of_file = {item.id: k for k, item in enumerate(job.items)}
    if found.left:
        names = ", ".join(files[k].name for k in sorted({of_file[item] for item, _ in found.left}))
        raise BadValue(f"{names}: too large for {machine.name}.", "Turn it, cut it, or pick a larger one.")
    plates = []
    for plate in range(max(found.plates) + 1):
        here = [
            (item, *place)
            for item, on, place in zip(found.items, found.plates, found.places, strict=True)
            if on == plate
        ]
        lying = [Lying(maker.make(keys_of(job.on(item)), "outline"), *place) for item, *place in here]
        items = [
            {"file": str(files[of_file[item]]), "x_mm": x, "y_mm": y, "turn_deg": swing}
            for item, x, y, swing in here
        ]
        plates.append({"items": items, "utilisation": used_share(lying, machine.build_mm[:2])})
        if out is not None:
            objects = []
            for n, (item, x, y, swing) in enumerate(here, 1):
                mesh = maker.make(keys_of(job.on(item)), "placed_mesh")
                turned = mesh.transformed(about_axis("z", swing), np.zeros(3))
                name = f"part {files[of_file[item]].stem} {n}"
                objects.append(FileObject(name, turned.moved(x, y), role=Role.PART))
            write(out / f"plate-{plate + 1:02d}.3mf", write_3mf(objects, f"plate {plate + 1}"))
    tell({"printer": machine.name, "plates": plates, "least_gap_mm": found.least_gap_mm}, as_json)


def _job(files: list[Path], meshes: list[Mesh], machine: machines.Printer, copies: int) -> JobSheet:
    """A job of the files, each an item with so many copies."""
    items: list[Item] = []
    for file, mesh in zip(files, meshes, strict=True):
        known = part_of(mesh, file.name)
        items.append(Item(id=fresh_id(known, {one.id for one in items}), part=known))
    stuff = machines.materials_for(machine)[0].name
    job = JobSheet.of(items, name="Plates", printer=machine.name, material=stuff, layer_mm=machine.layer_mm)
    for item in items:
        job = MakeCopies(count=copies).made(job, item.id)
    return job

"""The command that hollows a part."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import numpy as np
import typer
from numpy.typing import NDArray

from ..core.errors import BadValue
from ..core.formats.reading import Reading
from ..core.geometry.solid import Solid
from ..core.geometry.subdivision import refined
from ..core.handoff.stl import write_stl
from ..core.handoff.threemf import FileObject, write_3mf
from ..core.health.written import judge
from ..core.hollow.cavity import HollowSetting
from ..core.hollow.filling import Filling
from ..core.hollow.hollowed import Hole, hollow_out
from ..core.marking.mark import Mark
from ..core.marking.marks import places_mm
from .files import File, Json, contents, tell, write

# Width of holes that are proposed where none is given, mm (common practice: 3 mm and more).
HOLE_MM = 3.0


def hollow(
    file: File,
    wall: Annotated[float, typer.Option(help="Wall that stays all round, mm.")],
    out: Annotated[Path, typer.Option(help="Where to write the hollow part: .stl or .3mf.")],
    drain: Annotated[
        list[str] | None,
        typer.Option(help="A hole: auto, or X,Y,Z,D at a place of the surface, D wide; may be given again."),
    ] = None,
    detail: Annotated[float | None, typer.Option(help="Detail of the inner surface, mm.")] = None,
    width: Annotated[float, typer.Option(help="Narrower than this a hollow is left solid, mm.")] = 2.0,
    pocket: Annotated[float, typer.Option(help="Smaller pockets stay solid, mm3.")] = 50.0,
    hole: Annotated[float, typer.Option(help="Width of the holes that auto puts, mm.")] = HOLE_MM,
    inside: Annotated[Filling, typer.Option(help="What stands in the hollow.")] = Filling.NOTHING,
    apart: Annotated[float, typer.Option(help="How far apart ribs or struts are, mm.")] = 12.0,
    thick: Annotated[float, typer.Option(help="How thick ribs or struts are, mm.")] = 1.5,
    behind: Annotated[
        float, typer.Option(help="So deep it stays solid behind what a 3MF has painted to keep solid, mm.")
    ] = 8.0,
    as_json: Json = False,
) -> None:
    """Hollow a part and drill holes that it drains by, as it stands in its file."""
    if out.suffix.lower() not in (".stl", ".3mf"):
        raise BadValue(
            f"A part cannot be written as “{out.suffix}”.", "Give a name that ends in .stl or .3mf."
        )
    asked = drain or []
    holes = [_hole(text) for text in asked if text != "auto"]
    step = min(0.5, wall / 2) if detail is None else detail
    setting = HollowSetting(wall, step, pocket, width, inside, apart, thick, behind).checked()
    reading = contents(file).whole()
    solid = Solid.from_mesh(reading.mesh)
    found = hollow_out(
        solid,
        setting,
        holes,
        proposed_mm=hole if "auto" in asked else None,
        solid_at_mm=_kept_solid(reading),
    )
    verdict = judge(found.mesh)
    is_3mf = out.suffix.lower() == ".3mf"
    named = FileObject(f"part {file.stem}", found.mesh)
    write(out, write_3mf([named], file.stem) if is_3mf else write_stl(found.mesh))
    tell(
        {
            "file": str(out),
            "wall_least_mm": found.wall.least_mm,
            "wall_mean_mm": found.wall.mean_mm,
            "cavity_mm3": found.cavity_mm3,
            "drains": [
                {
                    "at_mm": list(one.at_mm),
                    "inner_mm": list(one.inner_mm),
                    "diameter_mm": one.diameter_mm,
                    "vent": one.vent,
                }
                for one in found.drains
            ],
            "sealed_mm3": found.sealed_mm3,
            "trapped_mm3": found.standing_mm3,
            "trapped_hanging_mm3": found.hanging_mm3,
            "pockets": found.pockets,
            "wall_least_at_mm": list(found.wall.at_mm),
            "detail_mm": found.detail_mm,
            "volume_before_mm3": solid.volume_mm3,
            "volume_mm3": verdict.volume_mm3,
            "closed": verdict.closed,
            "sound": verdict.sound,
        },
        as_json,
    )


def _kept_solid(reading: Reading) -> NDArray[np.float64]:
    """Places (k, 3) of a part that are painted to stay solid, as far as its file tells of marks."""
    if reading.marks is None or not (reading.marks == Mark.SOLID).any():
        return np.zeros((0, 3))
    fine = refined(reading.mesh)
    return places_mm(fine, reading.marks[fine.parent], Mark.SOLID)


def _hole(text: str) -> Hole:
    try:
        x, y, z, wide = (float(v) for v in text.split(","))
    except ValueError as error:
        raise BadValue(
            f"“{text[:40]}” is no hole.",
            "Give auto, or four numbers such as 10,0,5,3: x, y, z and the width.",
        ) from error
    return Hole((x, y, z), wide)

"""The command that cuts a part into pieces."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer

from ..core.errors import BadValue
from ..core.geometry.mesh import Mesh
from ..core.geometry.solid import Solid, bodies_of
from ..core.handoff.stl import write_stl
from ..core.health.written import judge
from ..core.machines import catalogue as machines
from ..core.machines.coupons import CLEARANCES_MM, SLOPES_DEG, SPANS_MM
from ..core.machines.coupons import coupon as make_coupon
from ..core.split.cuts import Cut, cut
from ..core.split.fittings import JointKind, JointSetting
from ..core.split.grid import box_for, grid_cuts
from ..core.split.pieces import Split
from ..core.split.pieces import split as split_solid
from ..core.split.planner import plans
from ..core.split.sizes import fits
from .files import File, Json, part, tell, write


def split(
    file: File,
    box: Annotated[str | None, typer.Option(help="Largest size of a piece, mm: X,Y,Z.")] = None,
    printer: Annotated[str | None, typer.Option(help="Printer that each piece has to fit.")] = None,
    margin: Annotated[float, typer.Option(help="Kept free on every side of the printer, mm.")] = 3.0,
    size: Annotated[str | None, typer.Option(help="Length that the part is sized to: x=1219.")] = None,
    plane: Annotated[
        list[str] | None, typer.Option(help="A plane, NX,NY,NZ,D; may be given again. Boxes without.")
    ] = None,
    plan: Annotated[bool, typer.Option("--plan", help="Take the best plan instead of boxes.")] = False,
    joint: Annotated[JointKind, typer.Option(help="What holds the pieces.")] = JointKind.BUTT,
    sides: Annotated[int, typer.Option("--keyed", help="Sides of a section that cannot turn.")] = 4,
    may_turn: Annotated[bool, typer.Option("--may-turn", help="Round sections.")] = False,
    reach: Annotated[float | None, typer.Option(help="How far a peg stands into a piece, mm.")] = None,
    width: Annotated[float | None, typer.Option(help="Width of the pegs, mm; follows the face.")] = None,
    most: Annotated[int | None, typer.Option(help="Pegs on a face at most.")] = None,
    clearance: Annotated[float, typer.Option(help="Of a peg on each side, mm.")] = 0.15,
    taper: Annotated[float, typer.Option(help="By how much the sides of a peg lean in, degrees.")] = 0.0,
    snap: Annotated[bool, typer.Option(help="Split pegs with a lip that springs in.")] = False,
    to_wall: Annotated[
        bool, typer.Option("--to-wall", help="Pegs as deep as the wall there lets them, instead of --reach.")
    ] = False,
    numbers: Annotated[bool, typer.Option("--numbers", help="Sink numbers into the joint faces.")] = False,
    out: Annotated[Path | None, typer.Option(help="Write each piece as STL into this folder.")] = None,
    as_json: Json = False,
) -> None:
    """Cut a part into pieces: boxes, planes or a plan, with joints."""
    setting = JointSetting(
        kind=joint, sides=0 if may_turn else sides, reach_mm=reach, width_mm=width, most=most,
        clearance_mm=clearance, numbers=numbers, taper_deg=taper, snap=snap, to_wall=to_wall,
    ).checked()  # fmt: skip
    if (box is None) == (printer is None):
        raise BadValue("Either a box or a printer is needed.", "Give --box X,Y,Z or --printer NAME.")
    mesh, _ = part(file)
    if size is not None:
        mesh = _sized(mesh, size)
    if box is not None:
        x, y, z = _numbers(box, 3, "200,200,180")
        room = box_for((x, y, z), 0.0, setting.stands_out_mm)
    else:
        room = box_for(machines.printer(printer or "").build_mm, margin, setting.stands_out_mm)
    solid = Solid.from_mesh(mesh)
    if plane and plan:
        raise BadValue("Planes and a plan are two ways to cut.", "Give either --plane or --plan.")
    if plane:
        cuts = [_plane(text, str(n)) for n, text in enumerate(plane, 1)]
    elif plan:
        cuts = list(plans(solid, room)[0].cuts)
    else:
        cuts = grid_cuts(solid.bounds, room)
    made = split_solid(solid, cuts, room, setting, boxes=not plane and not plan)
    files = {p.number: f"{file.stem}-piece-{p.number:03d}.stl" for p in made.pieces}
    if out is not None:
        for piece in made.pieces:
            write(out / files[piece.number], write_stl(piece.mesh))
    tell(_told(made, cuts, files if out is not None else {}), as_json)


class CouponKind(StrEnum):
    """What a coupon shows."""

    SLOPES = "slopes"
    BRIDGES = "bridges"
    FIT = "fit"


def coupon(
    kind: Annotated[CouponKind, typer.Argument(help="What it shows.")],
    out: Annotated[Path, typer.Option(help="The STL file to write.")],
    printer: Annotated[str, typer.Option(help="Printer that it has to fit.")] = "Sedge 300",
    as_json: Json = False,
) -> None:
    """Write a coupon to print and read off."""
    mesh = make_coupon("fits" if kind is CouponKind.FIT else kind.value)
    build = machines.printer(printer).build_mm
    if not fits(mesh.vertices, build):
        raise BadValue(f"The coupon does not fit {printer}.", "Pick a larger printer.")
    write(out, write_stl(mesh))
    steps = {"fit": CLEARANCES_MM, "slopes": SLOPES_DEG, "bridges": SPANS_MM}[kind.value]
    told = {"file": str(out), "size_mm": [float(v) for v in mesh.size_mm], "steps": list(steps)}
    tell(told, as_json)


def _told(made: Split, cuts: list[Cut], files: dict[int, str]) -> dict[str, Any]:
    return {
        "pieces": [
            {
                "number": p.number,
                "size_mm": list(p.size_mm),
                "volume_mm3": p.volume_mm3,
                "cell": list(p.cell),
                "id": p.path,
                "closed": judge(p.mesh).closed,
                "bodies": len(bodies_of(Solid.from_mesh(p.mesh).manifold)),
                "fits": p.fits,
                "neighbours": made.neighbours(p.number),
                "dowel": bool(p.loose),
                **({"file": files[p.number]} if files else {}),
            }
            for p in made.pieces
        ],
        "cuts": [{"id": c.id, "normal": list(c.normal), "offset_mm": c.offset_mm} for c in cuts],
        "joints": [
            {
                "between": list(j.between),
                "cut": j.cut,
                "area_mm2": j.area_mm2,
                "kind": j.kind.value,
                "pegs": [
                    {
                        "at": list(p.at_mm),
                        "axis": list(p.axis),
                        "width_mm": p.width_mm,
                        "depth_mm": p.depth_mm,
                        "clearance_mm": p.clearance_mm,
                        "lip_mm": p.lip_mm,
                    }
                    for p in j.pegs
                ],
                "refused": j.refused,
                "numbers": [label.text for label in j.labels],
                "width_mm": j.width_mm,
                "reach_mm": j.reach_mm,
                "slides": list(j.slides) if j.slides is not None else None,
            }
            for j in made.joints
        ],
        "volume_error": made.volume_error_mm3,
        "overlap_mm3": sum(f.mm3 for f in made.faults),
        "faults": [{"kind": f.kind, "between": list(f.between), "words": f.words} for f in made.faults],
        "assembly": [[list(s.first), list(s.second), list(s.direction)] for s in made.steps],
        "slivers": made.slivers,
    }


def _numbers(text: str, count: int, example: str) -> list[float]:
    try:
        found = [float(v) for v in text.split(",")]
    except ValueError:
        found = []
    if len(found) != count:
        raise BadValue(f"“{text}” is not {count} numbers.", f"Write them with commas: {example}.")
    return found


def _plane(text: str, name: str) -> Cut:
    x, y, z, offset = _numbers(text, 4, "0,0,1,120")
    return cut((x, y, z), offset, name)


def _sized(mesh: Mesh, text: str) -> Mesh:
    """A part sized so that one of its sides has a length."""
    axis, _, length = text.partition("=")
    if axis not in ("x", "y", "z") or not length:
        raise BadValue(f"“{text}” is no size.", "Write a side and its length: x=1219.")
    wanted = _numbers(length, 1, "1219")[0]
    before = float(mesh.size_mm["xyz".index(axis)])
    if not 0 < wanted < 1e6 or before <= 0:
        raise BadValue(f"The part cannot be {wanted:g} mm long.", "Type a length in mm, such as 1219.")
    factor = wanted / before
    return mesh.sized((factor, factor, factor))

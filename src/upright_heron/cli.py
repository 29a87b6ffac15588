"""The shell command: the same core on files. With ``--json`` one JSON object goes out and nothing else.

Errors go to standard error; the exit status is 2 for bad input.
"""

from __future__ import annotations

import contextlib
import json
import os
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer
from numpy.typing import NDArray

from .core.errors import BadValue, EmptyFile, HeronError, NotAMesh, NotClosed
from .core.formats.read import read as read_file
from .core.formats.reading import MM_OF, Contents
from .core.geometry.mesh import Mesh, facts
from .core.geometry.solid import Solid
from .core.geometry.tree import Tree
from .core.handoff.stl import write_stl
from .core.handoff.threemf import FileObject, write_3mf
from .core.hanging.findings import walk
from .core.hanging.islands import find_islands
from .core.hanging.overhang_regions import hanging_regions
from .core.hanging.overhangs import overhangs as find_overhangs
from .core.health.defects import examine
from .core.health.mend import STEPS
from .core.health.mend import mend as mend_mesh
from .core.layers.stack import LayerStack, cut
from .core.machines import catalogue as machines
from .core.split.grid import split_into_grid
from .core.stance.figures import Base, Figures, Setting, figures
from .core.stance.names import name_of
from .core.stance.pose import place
from .core.stance.resting import letter as letter_of
from .core.stance.resting import resting_faces
from .core.stance.search import GOALS, MIXES, Goals, search, slicer
from .core.supports.demand.patches import Style
from .core.supports.filament.styles import hold_part, in_figures
from .core.supports.model import SupportSet, SupportSettings
from .core.supports.resin.stilts import make_stilts
from .core.units import judge_unit, number

app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False)

File = Annotated[Path, typer.Argument(help="An STL, OBJ, PLY, 3MF, GLB, AMF or STEP file.")]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object and nothing else.")]
Limit = Annotated[float, typer.Option(help="Self-supporting limit, degrees from vertical.")]
Layer = Annotated[float, typer.Option(help="Layer height, mm.")]
# What the shell calls a goal for short.
SHORT_GOALS = {
    "clean": "clean_show",
    "surface": "better_surface",
    "smaller": "smaller_layers",
    "shorter": "shorter_print",
}
_GOAL = "less-support=3"
PrinterName = Annotated[str, typer.Option("--printer", help="Name of a printer of the demo workshop.")]


def _contents(path: Path) -> Contents:
    try:
        data = path.read_bytes()
    except OSError as error:
        raise NotAMesh(f"{path} cannot be read: {error.strerror or error}.", "Check the path.") from error
    if not data:
        raise EmptyFile(f"{path} is empty.", "Export it again.")
    with _quiet():
        return read_file(data, path.name)


@contextlib.contextmanager
def _quiet() -> Iterator[None]:
    """Keep what OpenCASCADE prints off the output of the process, where the shell command's answer goes."""
    sys.stdout.flush()
    kept = os.dup(1), os.dup(2)
    try:
        with open(os.devnull, "wb") as nowhere:
            os.dup2(nowhere.fileno(), 1)
            os.dup2(nowhere.fileno(), 2)
        yield
    finally:
        for number, handle in enumerate(kept, 1):
            os.dup2(handle, number)
            os.close(handle)


def _read(path: Path) -> Mesh:
    """The part as it stands in the file, its lowest point put at z = 0."""
    mesh = _contents(path).whole().mesh
    return place(mesh, _as_it_came(), centred=False).apply(mesh)


def _as_it_came() -> Any:
    import numpy as np

    return np.eye(3)


def _solid(mesh: Mesh) -> Solid | None:
    try:
        return Solid.from_mesh(mesh)
    except NotClosed:
        return None


def _checked(limit: float) -> float:
    if not 0 <= limit <= 90:
        raise BadValue(f"A limit of {limit:g} degrees makes no sense.", "Use 0 to 90, from vertical.")
    return limit


def _tell(result: dict[str, Any], as_json: bool) -> None:
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


@app.command()
def inspect(file: File, as_json: Json = False) -> None:
    """Size, volume, area, closedness, bodies, unit and defects of a part."""
    contents = _contents(file)
    reading = contents.whole()
    found = facts(reading.mesh)
    health = examine(reading.mesh)
    judged = judge_unit(
        found.size_mm, contents.unit, machines.PRINTERS[0].build_mm, MM_OF[contents.unit or "millimeter"]
    )
    _tell(
        {
            "facets": found.facets,
            "vertices": found.vertices,
            "size_mm": list(found.size_mm),
            "volume_mm3": found.volume_mm3,
            "area_mm2": found.area_mm2,
            "closed": found.closed,
            "shells": found.shells,
            "units": {
                "stated": judged.stated,
                "name": judged.name,
                "question": judged.question,
                "sizes_mm": {unit: list(size) for unit, size in judged.sizes_mm.items()},
            },
            "defects": health.counts_as_read(reading),
        },
        as_json,
    )


@app.command()
def mend(
    file: File,
    out: Annotated[Path, typer.Option(help="Where to write the mended part: .stl or .3mf.")],
    step: Annotated[
        list[str] | None, typer.Option(help=f"Only this step; may be given again. One of {', '.join(STEPS)}.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Mend a part: weld, drop needless facets, face outwards, fill holes, unite bodies, re-wrap."""
    if out.suffix.lower() not in (".stl", ".3mf"):
        raise BadValue(
            f"A part cannot be written as “{out.suffix}”.", "Give a name that ends in .stl or .3mf."
        )
    reading = _contents(file).whole()
    found = mend_mesh(reading.mesh, tuple(step) if step else None)
    data = (
        write_3mf([FileObject(f"part {file.stem}", found.mesh)], file.stem)
        if out.suffix.lower() == ".3mf"
        else write_stl(found.mesh)
    )
    _write(out, data)
    _tell(
        {
            "closed": found.closed,
            "defects_before": found.before.counts_as_read(reading),
            "defects_after": found.after.counts,
            "volume_before_mm3": found.volume_before_mm3,
            "volume_after_mm3": found.volume_after_mm3,
            "greatest_move_mm": found.greatest_move_mm,
            "done": [done.words for done in found.done],
        },
        as_json,
    )


def _largest(stack: LayerStack) -> dict[str, float]:
    index = stack.largest
    return {"z_mm": float(stack.z_mm[index]), "area_mm2": float(stack.area_mm2[index])} if len(stack) else {}


@app.command()
def overhangs(
    file: File,
    limit: Limit = 45.0,
    layer: Layer = 0.2,
    bridge: Annotated[float, typer.Option(help="Longest bridge that carries itself, mm.")] = 10.0,
    spot: Annotated[
        float, typer.Option(help="Nozzle, or three pixels: what starts smaller is a point, mm.")
    ] = 0.4,
    as_json: Json = False,
) -> None:
    """Overhang area, contact area and islands of a part as it stands."""
    mesh = _read(file)
    stack = cut(mesh, _solid(mesh), layer)
    area = find_overhangs(mesh, _checked(limit))
    found = walk(mesh, stack, spot_mm=spot, resin=True)
    regions = hanging_regions(mesh, limit)
    _tell(
        {
            "overhang_area_mm2": area.overhang_area_mm2,
            "contact_area_mm2": area.contact_area_mm2,
            "islands": [
                {
                    "number": i.number,
                    "z_mm": i.z_mm,
                    "area_mm2": i.area_mm2,
                    "x_mm": i.x_mm,
                    "y_mm": i.y_mm,
                    "point": i.point,
                    "grown_mm2": i.grown_mm2,
                    "joins_z_mm": i.joins_z_mm,
                    "hanging_mm3": i.hanging_mm3,
                }
                for i in found.islands
            ],
            "low_points": [
                {"x_mm": p.x_mm, "y_mm": p.y_mm, "z_mm": p.z_mm, "depth_mm": p.depth_mm, "wide_mm": p.wide_mm}
                for p in found.lows
            ],
            "layer_steps": [
                {"z_mm": s.z_mm, "below_mm2": s.below_mm2, "above_mm2": s.above_mm2} for s in found.steps
            ],
            "necks": [
                {"z_mm": n.z_mm, "area_mm2": n.area_mm2, "above_mm3": n.above_mm3} for n in found.necks
            ],
            "layer_count": len(stack),
            "largest_layer": _largest(stack),
            "regions": [
                {
                    "number": r.number,
                    "kind": str(r.kind),
                    "area_mm2": r.area_mm2,
                    "steepest_deg": r.steepest_deg,
                    "lowest": list(r.lowest_mm),
                    "gap_mm": r.gap_mm,
                }
                for r in regions
            ],
            "bridges": [
                {
                    "span_mm": r.bridge.span_mm,
                    "width_mm": r.bridge.width_mm,
                    "carries": r.carries_itself(bridge),
                }
                for r in regions
                if r.bridge
            ],
            "cups": len(found.cups),
        },
        as_json,
    )


@app.command()
def layers(file: File, layer: Layer = 0.2, as_json: Json = False) -> None:
    """Area of each layer at its middle height."""
    mesh = _read(file)
    stack = cut(mesh, _solid(mesh), layer)
    _tell({"z_mm": stack.z_mm.tolist(), "area_mm2": stack.area_mm2.tolist()}, as_json)


@app.command()
def stances(
    file: File,
    printer: Annotated[
        str | None, typer.Option(help="Printer to search for; resting faces without one.")
    ] = None,
    material: Annotated[
        str | None, typer.Option(help="Material; the printer's first when not given.")
    ] = None,
    goal: Annotated[list[str] | None, typer.Option(help=f"Weight such as {_GOAL}, 0 to 5.")] = None,
    layer: Annotated[float | None, typer.Option(help="Layer height, mm.")] = None,
    limit: Annotated[float | None, typer.Option(help="Limit, degrees from vertical.")] = None,
    exact: Annotated[bool, typer.Option(help="All figures of the other resting faces too.")] = False,
    out: Annotated[Path | None, typer.Option(help="Write the part in the first stance here, as STL.")] = None,
    as_json: Json = False,
) -> None:
    """Propose ways to stand, best first; without a printer or goals the resting faces."""
    mesh = _read(file)
    if printer is None and not goal and not exact and out is None:
        found = resting_faces(mesh, facts(mesh), _checked(45.0 if limit is None else limit))
        names = ("letter", "overhang_area_mm2", "contact_area_mm2", "height_mm")
        rows = [{**{n: getattr(f, n) for n in names}, "down": f.down.tolist()} for f in found]
        order = ("letter", "down", *names[1:])
        _tell({"stances": [{n: row[n] for n in order} for row in rows]}, as_json)
        return
    machine, height, most = _machine(printer or "Sedge 300", layer, limit)
    stuff = machines.material(material) if material else machines.materials_for(machine)[0]
    if stuff.technology is not machine.technology:
        raise BadValue(f"{machine.name} cannot use {stuff.name}.", "Pick another material.")
    if material and limit is None:
        most = machines.limit_for(machine, stuff)
    setting = Setting(machine, stuff, most, height)
    solid = _solid(mesh)
    cutter = slicer(mesh, solid, height)
    result = search(mesh, cutter, setting, _goals(goal, setting), closed=solid is not None)
    rows = [
        _stance(p.letter, p.name, p.rotation, p.figures, p.fits, p.score)
        for p in result.proposals
        if p.figures
    ]
    if exact:
        base = Base.of(mesh, setting, closed=solid is not None)
        for face in resting_faces(mesh, facts(mesh), most):
            if all(float(face.down @ p.down) < 1 - 1e-9 for p in result.proposals):
                turned = face.rotation
                all_figures = figures(
                    mesh, turned, cutter(turned), setting, closed=solid is not None, base=base
                )
                letter = letter_of(len(rows))
                rows.append(_stance(letter, name_of(turned), turned, all_figures, all_figures.fits, None))
    if out is not None:
        _write(out, write_stl(place(mesh, result.proposals[0].rotation).apply(mesh)))
    _tell({"stances": rows}, as_json)


def _goals(asked: list[str] | None, setting: Setting) -> Goals:
    if not asked:
        return MIXES["resin" if setting.resin else "filament"]
    weights = dict.fromkeys(GOALS, 0.0)
    for text in asked:
        name, _, value = text.partition("=")
        name = SHORT_GOALS.get(name.strip(), name.strip().replace("-", "_"))
        if name not in weights:
            known = ", ".join(goal.replace("_", "-") for goal in GOALS)
            raise BadValue(f"There is no goal “{text[:40]}”.", f"Use one of: {known}.")
        weight = number(value or "1")
        if not 0 <= weight <= 5:
            raise BadValue(f"A weight of {weight:g} is out of reach.", "Use 0 to 5.")
        weights[name] = weight
    return Goals(**weights)


def _stance(
    letter: str, name: str, rotation: Any, found: Figures, fits: bool, score: float | None
) -> dict[str, Any]:
    largest = found.largest_layer
    return {
        "letter": letter,
        "name": name,
        "down": (-rotation[2]).tolist(),
        "rotation": rotation.tolist(),
        "overhang_area_mm2": found.overhang_area_mm2,
        "support_volume_mm3": found.support_volume_mm3,
        "contact_area_mm2": found.contact_area_mm2,
        "height_mm": found.height_mm,
        "layer_count": found.layer_count,
        "largest_layer": {"z_mm": largest.z_mm, "area_mm2": largest.value},
        "shadow_area_mm2": found.shadow_area_mm2,
        "tip_angle_deg": found.tip_angle_deg,
        "cusp_mm": found.cusp_mm,
        "islands": found.islands,
        "cups": len(found.cups),
        "fits": fits,
        "score": score,
    }


def _supports(
    mesh: Mesh, machine: machines.Printer, layer: float, limit: float, style: Style | None = None,
    settings: SupportSettings | None = None, clear: NDArray[np.int64] | None = None,
) -> SupportSet:  # fmt: skip
    solid = _solid(mesh)
    stack = cut(mesh, solid, layer)
    settings = settings or SupportSettings(line_mm=machine.line_width_mm)
    if machine.technology is machines.Technology.FILAMENT:
        return hold_part(
            mesh, stack, limit, settings, spot_mm=machine.finest_mm, style=style, clear_facets=clear
        )
    if solid is None:
        raise NotClosed("Stilts need a closed part, and this surface is open.", "Export a closed part.")
    return make_stilts(mesh, solid, stack, limit, find_islands(stack)[0], settings)


@app.command()
def supports(
    file: File,
    printer: PrinterName = "Sedge 300",
    layer: Annotated[
        float | None, typer.Option(help="Layer height, mm; the printer's when not given.")
    ] = None,
    limit: Annotated[float | None, typer.Option(help="Limit, degrees; the printer's when not given.")] = None,
    style: Annotated[str, typer.Option(help="auto, lines, grid, pillars or tree (filament).")] = "auto",
    origin: Annotated[str, typer.Option("--from", help="plate: never from the part; any: both.")] = "any",
    keep_clear: Annotated[
        Path | None, typer.Option(help='JSON with the numbers of facets to keep clear: {"facets": [...]}.')
    ] = None,
    out: Annotated[Path | None, typer.Option(help="Write part and supports as 3MF here.")] = None,
    as_json: Json = False,
) -> None:
    """Make supports under a part as it stands, and check them."""
    mesh = _read(file)
    machine, layer, limit = _machine(printer, layer, limit)
    known = {"auto": None, "pillars": Style.PILLAR, **{s.value: s for s in Style}}
    if style not in known or origin not in ("plate", "any"):
        raise BadValue("There is no such style.", "Use auto, lines, grid, pillars or tree; plate or any.")
    settings = SupportSettings(line_mm=machine.line_width_mm, from_plate=origin == "plate")
    clear = _facets(keep_clear, len(mesh.faces)) if keep_clear is not None else None
    made = _supports(mesh, machine, layer, limit, known[style], settings, clear)
    if out is not None:
        _write(out, _package(file, mesh, made))
    stuff = machines.materials_for(machine)[0]
    told: dict[str, Any] = {
        "count": len(made.supports),
        "volume_mm3": made.volume_mm3,
        "mass_g": made.volume_mm3 * stuff.density_g_cm3 / 1000.0,
        "held_area_mm2": made.held_area_mm2,
        "unheld_islands": len(made.unheld_islands),
    }
    if machine.technology is machines.Technology.FILAMENT:
        told |= in_figures(made, Tree.of(mesh))
        told["seconds_rough"] = made.volume_mm3 / (machine.line_width_mm * layer * machine.speed_mm_s)
    _tell(told, as_json)


def _facets(path: Path, count: int) -> NDArray[np.int64]:
    try:
        found = np.asarray(json.loads(path.read_text())["facets"], np.int64).reshape(-1)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise BadValue(f"{path} holds no list of facets.", 'Write {"facets": [0, 1, 2]}.') from error
    if len(found) and not 0 <= int(found.min()) <= int(found.max()) < count:
        raise BadValue(f"{path} names facets that the part does not have.", f"It has {count}.")
    return found


def _machine(name: str, layer: float | None, limit: float | None) -> tuple[machines.Printer, float, float]:
    machine = machines.printer(name)
    usual = machines.limit_for(machine, machines.materials_for(machine)[0])
    return machine, machine.layer_mm if layer is None else layer, usual if limit is None else _checked(limit)


def _package(file: Path, mesh: Mesh, made: SupportSet | None) -> bytes:
    items = [FileObject(f"part {file.stem}", mesh)]
    if made is not None:
        items.append(FileObject(f"support of {file.stem}", made.handoff_mesh(), "support"))
    return write_3mf(items, file.stem)


def _write(path: Path, data: bytes) -> None:
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    except OSError as error:
        raise BadValue(f"{path} cannot be written: {error.strerror or error}.", "Check the path.") from error


@app.command()
def split(
    file: File,
    box: Annotated[str, typer.Option(help="Largest size of a piece, mm: X,Y,Z.")],
    out: Annotated[Path | None, typer.Option(help="Write each piece as STL into this folder.")] = None,
    as_json: Json = False,
) -> None:
    """Cut a part into a grid of boxes."""
    try:
        x, y, z = (float(v) for v in box.split(","))
    except ValueError as error:
        raise BadValue(f"“{box}” is not a box.", "Write three numbers with commas: 200,200,180.") from error
    mesh = _read(file)
    cuts = split_into_grid(Solid.from_mesh(mesh), (x, y, z))
    if out is not None:
        for piece in cuts.pieces:
            _write(out / f"{file.stem}-piece-{piece.number:03d}.stl", write_stl(piece.mesh))
    _tell(
        {
            "pieces": [
                {
                    "number": p.number,
                    "size_mm": list(p.size_mm),
                    "volume_mm3": p.volume_mm3,
                    "cell": list(p.cell),
                }
                for p in cuts.pieces
            ]
        },
        as_json,
    )


@app.command()
def handoff(
    file: File,
    out: Annotated[Path, typer.Option(help="The 3MF file to write.")],
    printer: PrinterName = "Sedge 300",
    layer: Annotated[
        float | None, typer.Option(help="Layer height, mm; the printer's when not given.")
    ] = None,
    limit: Annotated[float | None, typer.Option(help="Limit, degrees; the printer's when not given.")] = None,
    as_json: Json = False,
) -> None:
    """Write a part with its supports as 3MF."""
    mesh = _read(file)
    machine, layer, limit = _machine(printer, layer, limit)
    made = _supports(mesh, machine, layer, limit)
    data = _package(file, mesh, made)
    _write(out, data)
    _tell(
        {
            "file": str(out),
            "bytes": len(data),
            "printer": machine.name,
            "objects": ["part", "support"] if made.supports else ["part"],
            "supports": len(made.supports),
            "unheld_islands": len(made.unheld_islands),
        },
        as_json,
    )


@app.command()
def serve(
    host: Annotated[str | None, typer.Option(help="Address to listen at.")] = None,
    port: Annotated[int | None, typer.Option(help="Port to listen at.")] = None,
    database: Annotated[Path | None, typer.Option(help="Database file.")] = None,
) -> None:
    """Run the web application."""
    _serve(host, port, database, demo=False)


@app.command()
def demo(
    host: Annotated[str | None, typer.Option(help="Address to listen at.")] = None,
    port: Annotated[int | None, typer.Option(help="Port to listen at.")] = None,
    database: Annotated[Path | None, typer.Option(help="Database file.")] = None,
) -> None:
    """Run the web application with the jobs of the demo workshop."""
    _serve(host, port, database, demo=True)


def _serve(host: str | None, port: int | None, database: Path | None, *, demo: bool) -> None:
    import uvicorn

    from .settings import Settings
    from .web.app import create_app

    given = {"host": host, "port": port, "database": database}
    settings = Settings(**{k: v for k, v in given.items() if v is not None}, demo=demo)  # type: ignore[arg-type]
    typer.echo(f"Upright Heron starts at http://{settings.host}:{settings.port}")
    if demo:
        typer.echo("The first start makes the demo jobs; this takes up to a minute.")
    uvicorn.run(
        create_app(settings),
        host=settings.host,
        port=settings.port,
        log_level="warning",
        timeout_graceful_shutdown=3,
    )


def main() -> None:
    """Run the command; expected errors become one line on standard error and exit status 2."""
    try:
        app()
    except HeronError as error:
        sys.stderr.write(f"upright-heron: {error} {error.advice}\n".replace("  ", " "))
        sys.exit(2)


if __name__ == "__main__":
    main()

"""Commands that make something of a part."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer
from numpy.typing import NDArray

from ..core.errors import BadValue
from ..core.footing.footing import BASES, FootingKind
from ..core.geometry.mesh import Mesh
from ..core.geometry.subdivision import refined
from ..core.handoff.masks import Screen, checked, write_masks
from ..core.handoff.plate_layers import PlateLayers, Standing
from ..core.handoff.slices import SliceObject, write_slices
from ..core.handoff.stl import write_stl
from ..core.handoff.threemf import FileObject, Role, write_3mf
from ..core.health.mend import STEPS
from ..core.health.mend import mend as mend_mesh
from ..core.machines import catalogue as machines
from ..core.marking.mark import Mark
from ..core.marking.marks import Marks, blank, of_parents
from ..core.marking.marks import painted as paint
from ..core.recipes.handoff import outline_of
from ..core.recipes.settings import Masking
from ..core.supports.demand.patches import Style
from ..core.supports.filament.styles import in_figures
from ..core.supports.resin.figures import in_figures as stilts_in_figures
from ..core.toolpaths.process_table import from_csv, rows_for, steps
from ..sheet.process import FilamentSupports, Footing, Process, ResinSupports
from ..work.alone import Alone
from .files import File, Json, PrinterName, contents, machine_of, part, tell, text_in, write


def mend(
    file: File,
    out: Annotated[Path, typer.Option(help="Where to write the mended part: .stl or .3mf.")],
    step: Annotated[
        list[str] | None, typer.Option(help=f"Only this step; may be given again. One of {', '.join(STEPS)}.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Mend a part, gentlest first: weld, drop, face outwards, fill, unite, cut what crosses, re-wrap."""
    if out.suffix.lower() not in (".stl", ".3mf"):
        raise BadValue(
            f"A part cannot be written as “{out.suffix}”.", "Give a name that ends in .stl or .3mf."
        )
    reading = contents(file).whole()
    found = mend_mesh(reading.mesh, tuple(step) if step else None)
    data = (
        write_3mf([FileObject(f"part {file.stem}", found.mesh)], file.stem)
        if out.suffix.lower() == ".3mf"
        else write_stl(found.mesh)
    )
    write(out, data)
    tell(
        {
            "closed": found.closed,
            "defects_before": found.before.counts_as_read(reading),
            "defects_after": found.after.counts,
            "volume_before_mm3": found.volume_before_mm3,
            "volume_after_mm3": found.volume_after_mm3,
            "greatest_move_mm": found.greatest_move_mm,
            "done": [done.words for done in found.done],
            "sound": found.sound,
            "left": found.verdict.left,
            "winding_volume_mm3": found.winding_volume_mm3,
            "moved_share_over_1_mm": found.move.over_share,
            "doubts": list(found.doubts),
            "ways": [
                {"step": way.step, "kept": way.kept, "why": way.why, "left": way.left} for way in found.ways
            ],
        },
        as_json,
    )


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
    base: Annotated[
        str | None, typer.Option(help="none, raft, pads or ties under stilts; the printer's when not given.")
    ] = None,
    out: Annotated[Path | None, typer.Option(help="Write part and supports as 3MF here.")] = None,
    as_json: Json = False,
) -> None:
    """Make supports under a part as it stands, and check them."""
    mesh, painted = part(file)
    machine, layer, limit = machine_of(printer, layer, limit)
    known = {"auto": None, "pillars": Style.PILLAR, **{s.value: s for s in Style}}
    if style not in known or origin not in ("plate", "any"):
        raise BadValue("There is no such style.", "Use auto, lines, grid, pillars or tree; plate or any.")
    resin = machine.technology is machines.Technology.RESIN
    if base is not None and (not resin or base not in BASES):
        raise BadValue(
            "There is no such base." if resin else f"The {machine.name} prints no stilts for a base.",
            f"Use {', '.join(BASES)} on a resin printer.",
        )
    clear = _facets(keep_clear, len(mesh.faces)) if keep_clear is not None else None
    asked = {"style": known[style], "from_plate": origin == "plate"}
    alone = _held(mesh, painted, (machine, layer, limit), asked, clear, base)
    made = alone.make("supports")
    if out is not None:
        write(out, _package(file, alone))
    told: dict[str, Any] = {
        "count": len(made.supports),
        "volume_mm3": made.volume_mm3,
        "mass_g": made.volume_mm3 * alone.sheet.stuff.density_g_cm3 / 1000.0,
        "held_area_mm2": made.held_area_mm2,
        "unheld_islands": len(made.unheld_islands),
    }
    if not resin:
        told |= in_figures(made, alone.make("tree"), alone.moved_mm)
        told["seconds_rough"] = made.volume_mm3 / (machine.line_width_mm * layer * machine.speed_mm_s)
    else:
        told |= stilts_in_figures(made, alone.make("tree"), alone.moved_mm)
        bare = alone.sheet.footing.kind is FootingKind.NONE
        told["base_mm3"] = 0.0 if bare else alone.make("footing").volume_mm3
    tell(told, as_json)


def _held(
    mesh: Mesh,
    painted: Marks | None,
    on: tuple[machines.Printer, float, float],
    asked: dict[str, Any],
    clear: NDArray[np.int64] | None = None,
    base: str | None = None,
    process: Process = Process(),
    *,
    held: bool = True,
) -> Alone:
    """A part with supports as a job on a machine would have them, what it is painted with among it."""
    machine, layer, limit = on
    resin = machine.technology is machines.Technology.RESIN
    supports = (
        ResinSupports(from_plate=asked.get("from_plate", False)) if resin else FilamentSupports(**asked)
    )
    job = {"layer_mm": layer, "limit_deg": limit, "process": process}
    item: dict[str, Any] = {"supports": supports if held else None}
    if base is not None:
        item["footing"] = Footing(kind=FootingKind(base))
    marks = None
    if painted is not None or (clear is not None and len(clear)):
        fine = refined(mesh)
        marks = blank(fine) if painted is None else painted[fine.parent]
        if clear is not None:
            marks = paint(marks, of_parents(fine, clear), Mark.KEEP_CLEAR)
    return Alone(mesh, machine.name, item=item, job=job, marks=marks)


def _facets(path: Path, count: int) -> NDArray[np.int64]:
    try:
        found = np.asarray(json.loads(path.read_text())["facets"], np.int64).reshape(-1)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise BadValue(f"{path} holds no list of facets.", 'Write {"facets": [0, 1, 2]}.') from error
    if len(found) and not 0 <= int(found.min()) <= int(found.max()) < count:
        raise BadValue(f"{path} names facets that the part does not have.", f"It has {count}.")
    return found


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
    mesh, painted = part(file)
    machine, layer, limit = machine_of(printer, layer, limit)
    alone = _held(mesh, painted, (machine, layer, limit), {})
    made, data = alone.make("supports"), _package(file, alone)
    write(out, data)
    tell(
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


def masks(
    file: File,
    out: Annotated[Path, typer.Option(help="The zip to write.")],
    printer: PrinterName = "Tarn 9",
    layer: Annotated[
        float | None, typer.Option(help="Layer height, mm; the printer's when not given.")
    ] = None,
    limit: Annotated[float | None, typer.Option(help="Limit, degrees; the printer's when not given.")] = None,
    supports: Annotated[bool, typer.Option("--supports", help="With stilts.")] = False,
    base: Annotated[str | None, typer.Option(help="With stilts: none, raft, pads or ties.")] = None,
    table: Annotated[
        Path | None, typer.Option(help="CSV with exposures, lifts and waits; the usual when not given.")
    ] = None,
    outline: Annotated[float, typer.Option(help="Outlines moved outwards, mm; inwards below 0.")] = 0.0,
    first_outline: Annotated[float, typer.Option(help="The same of the first layers, mm.")] = 0.0,
    slices: Annotated[Path | None, typer.Option(help="Write the layers as 3MF here too.")] = None,
    as_json: Json = False,
) -> None:
    """Write the layers of a resin part as masks, in the pixels of the machine, and read them back."""
    mesh, painted = part(file)
    machine, layer, limit = machine_of(printer, layer, limit)
    screen = Screen.of(machine)
    if base is not None and base not in BASES:
        raise BadValue("There is no such base.", f"Use {', '.join(BASES)}.")
    typed = from_csv(text_in(table)) if table is not None else ()
    if typed:
        rows_for(typed, layer)
    process = Process(table=typed, outline_mm=outline, first_outline_mm=first_outline)
    alone = _held(mesh, painted, (machine, layer, limit), {}, None, base, process, held=supports)
    asked = alone.settings(Masking)
    assert isinstance(asked, Masking)
    standing = Standing(alone.make("printed_layers"))
    plate = PlateLayers([standing], outline_of(asked))
    done = steps(asked.rows, len(plate))
    data = write_masks(map(plate.rings, range(len(plate))), screen, layer, done, plate.bounds)
    back = checked(data)
    write(out, data)
    if slices is not None:
        one = SliceObject(f"part {file.stem}", alone.make("placed_mesh"), [standing])
        write(slices, write_slices([one], file.stem, plate.outline))
    tell(
        {
            "file": str(out),
            "bytes": len(data),
            "printer": machine.name,
            "layers": len(back.layers),
            "width_px": back.screen.width_px,
            "height_px": back.screen.height_px,
            "pixel_mm": back.screen.pixel_mm,
            "area_mm2": back.area_mm2.tolist(),
            "volume_ml": float(back.area_mm2.sum()) * layer / 1000.0,
            "seconds_rough": back.steps.seconds,
        },
        as_json,
    )


def _package(file: Path, alone: Alone) -> bytes:
    """Part, supports and what they stand on as 3MF, where the part stands in its file."""
    dx, dy, _ = (-alone.moved_mm).tolist()
    names = {
        Role.PART: f"part {file.stem}",
        Role.SUPPORT: f"support of {file.stem}",
        Role.FOOTING: f"footing of {file.stem}",
    }
    return write_3mf(
        [
            replace(one, name=names[one.role], mesh=one.mesh.moved(dx, dy))
            for one in alone.make("objects").objects
        ],
        file.stem,
    )

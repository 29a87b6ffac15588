"""Paths of the nozzle, what they take, and the G-code of a plate."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import asdict, replace

import numpy as np
from numpy.typing import NDArray

from ..errors import BadValue
from ..footing.footing import Footing
from ..geometry.mesh import Mesh
from ..geometry.solid import taken_apart
from ..graph import Keep, maybe, recipe
from ..health.patching import separated
from ..health.report import Report
from ..layers.stack import LayerStack
from ..progress import Progress
from ..stance.pose import Placement
from ..supports.support_set import SupportSet
from ..toolpaths.beads import Beads
from ..toolpaths.bill import bill
from ..toolpaths.bodies import SecondBodies, layers_of_bodies, nearest_bodies
from ..toolpaths.gcode import written
from ..toolpaths.gcode_check import Bounds, Readback, faults, read
from ..toolpaths.laying import lay
from ..toolpaths.notes import PathNotes
from ..toolpaths.notes import path_notes as notes_of
from ..toolpaths.plate_paths import Placed, merged
from ..toolpaths.support_paths import lay_supports
from ..toolpaths.surfaces import Skins, Surfaces, make_surfaces
from ..toolpaths.timing import Speeds, Timed, speeds_of
from ..toolpaths.timing import timed as timed_of
from ..toolpaths.walls import Walls, as_region, make_walls
from ..toolpaths.zones import at_height
from .footing import footing
from .layers import layers
from .part import BODIES, health
from .plate import arranged
from .settings import (
    FootingSetting,
    GcodeSetting,
    HiddenSeam,
    PathSetting,
    RunSetting,
    SkinSetting,
    SupportPathSetting,
    WallSetting,
)
from .stance import placed_mesh, placement, show_facets, shown_mesh
from .supports_filament import filament_supports
from .values import Arranged, Package


@recipe(
    "second_layers",
    version=2,
    stage="Cutting layers of bodies",
    needs=(placed_mesh, maybe(BODIES), layers, placement),
    reads=SecondBodies,
)
def second_layers(
    mesh: Mesh,
    apart: Mesh | None,
    stack: LayerStack,
    where: Placement,
    asked: SecondBodies,
    progress: Progress,
) -> LayerStack:
    """What of the part the second nozzle prints: of the bodies of the file, or of those of the surface."""
    if apart is None:
        bodies = separated(mesh)
    else:
        bodies = taken_apart(where.apply(apart.sized(asked.factors)), asked.ends)
    picked = nearest_bodies(bodies, where.points(asked.at_mm))
    return layers_of_bodies(picked, stack, progress=progress)


@recipe("walls", version=5, stage="Laying walls", needs=(layers, maybe(second_layers)), reads=WallSetting)
def walls(stack: LayerStack, second: LayerStack | None, asked: WallSetting, progress: Progress) -> Walls:
    """Walls of the part, and what lies inside them."""

    def count(z_mm: float) -> int:
        zone = at_height(asked.zones, z_mm)
        return asked.count if zone is None or zone.walls is None else zone.walls

    counts = count if asked.zones else None
    return make_walls(
        stack, asked.count, asked.line_mm, counts=counts, aside=asked.aside, second=second, progress=progress
    )


@recipe(
    "surfaces",
    version=2,
    stage="Finding tops and bottoms",
    needs=(layers, walls, maybe(filament_supports)),
    reads=SkinSetting,
)
def surfaces(
    stack: LayerStack, laid: Walls, made: SupportSet | None, asked: SkinSetting, progress: Progress
) -> Surfaces:
    """What is filled whole, and what spans air."""
    lift = round(stack.base_mm / stack.layer_mm)
    gap = round(asked.gap_mm / stack.layer_mm)
    held = None if made is None else lambda k: as_region(made.layers, k + lift - 1 - gap)
    skins = Skins(asked.top, asked.bottom, asked.line_mm, bare=asked.bare, roofed=asked.roofed)
    return make_surfaces(stack, laid.inside, skins, held, progress=progress)


@recipe(
    "support_paths",
    version=1,
    stage="Laying paths of supports",
    needs=(filament_supports,),
    reads=SupportPathSetting,
)
def support_paths(made: SupportSet, asked: SupportPathSetting, progress: Progress) -> Beads:
    """Paths of the supports: they stay when only the part is laid in another way."""
    return lay_supports(made, asked.asked, progress=progress)


@recipe(
    "hidden_side",
    version=1,
    needs=(shown_mesh, show_facets, placement),
    reads=HiddenSeam,
    keep=Keep.PASSING,
)
def hidden_side(
    mesh: Mesh, shown: NDArray[np.bool_], where: Placement, asked: HiddenSeam
) -> tuple[float, float]:
    """Direction away from the painted show side, on the plate."""
    corners = mesh.vertices[mesh.faces[shown]]
    # Cross products are as long as twice the area: they weigh themselves.
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    x, y, _ = (where.rotation @ normals.sum(axis=0)).tolist()
    return -x, -y


@recipe(
    "toolpaths",
    version=8,
    stage="Laying paths",
    needs=(
        layers,
        walls,
        surfaces,
        maybe(support_paths),
        maybe(footing),
        placement,
        maybe(hidden_side),
    ),
    reads=(PathSetting, maybe(FootingSetting)),
)
def toolpaths(
    stack: LayerStack,
    laid: Walls,
    filled: Surfaces,
    props: Beads | None,
    base: Footing | None,
    where: Placement,
    hidden: tuple[float, float] | None,
    asked: PathSetting,
    on: FootingSetting | None,
    progress: Progress,
    early: Callable[[Beads], None],
) -> Beads:
    """All paths of an item, in the order in which they are printed; the lowest layers are told of first."""
    how, order = asked.laying, asked.laying.order
    if asked.seam_line:
        order = replace(order, line=tuple(map(tuple, where.points(asked.seam_line).tolist())))
    if hidden is not None and any(hidden):
        order = replace(order, seam_deg=math.degrees(math.atan2(hidden[1], hidden[0])))
    how = replace(how, order=order)
    under = (base, on.settings.kind) if base is not None and on is not None else None
    return lay(stack, laid, filled, how, props, under, first=early, progress=progress)


@recipe("path_notes", version=3, stage="Looking at the paths", needs=(surfaces,), reads=PathSetting)
def path_notes(filled: Surfaces, asked: PathSetting) -> PathNotes:
    """What is to be said of paths besides what they take."""
    return notes_of(filled, asked.laying.strands)


@recipe("timed", version=2, stage="Timing moves", needs=(toolpaths,), reads=RunSetting)
def timed(beads: Beads, asked: RunSetting) -> Timed:
    """Time and filament of an item by itself, from its moves."""
    return timed_of(beads, asked.running)[0]


@recipe("speeds", version=1, stage="Timing moves", needs=(toolpaths,), reads=RunSetting)
def speeds(beads: Beads, asked: RunSetting) -> Speeds:
    """How fast the nozzle really goes along each path, with speeding up and slowing down."""
    return speeds_of(beads, asked.running)


@recipe(
    "gcode",
    version=4,
    stage="Writing G-code",
    needs=(arranged,),
    each=(toolpaths, health),
    reads=GcodeSetting,
)
def gcode(
    where: Arranged, items: tuple[Beads, ...], surfaces_of: tuple[Report, ...], asked: GcodeSetting
) -> Package:
    """The G-code of a plate, read back before it leaves.

    Raises
    ------
    BadValue
        Nothing stands on it, a part is open, or what is read back is not what was asked for.
    """
    if not where.places:
        raise BadValue("Nothing stands on this plate.", "Put an item on it.")
    for report in surfaces_of:
        refuse_open(report.closed, report.left)
    by_item = dict(zip(where.items, items, strict=True))
    placed = [Placed(by_item[p.item], p.x_mm, p.y_mm, p.swing_deg) for p in where.places]
    whole = merged(placed, asked.line_mm, asked.writing.build_mm, in_turn=asked.in_turn is not None)
    return Package(gcode_of(whole, asked)[0])


def refuse_open(closed: bool, left: str = "") -> None:
    """Refuse a part that is open: nobody knows what is inside it.

    Raises
    ------
    BadValue
        It is open.
    """
    if not closed:
        told = f": {left}" if left else ""
        raise BadValue(f"The part is not closed{told}. Its paths may go wrong.", "Mend it in section 1.")


def gcode_of(whole: Beads, asked: GcodeSetting) -> tuple[bytes, Readback]:
    """Write the G-code of paths on a plate, and read it back.

    Returns
    -------
    bytes
    Readback
        What it does.

    Raises
    ------
    BadValue
        What is read back is not what was asked for.
    """
    told, moves = timed_of(whole, asked.running)
    how = asked.writing
    taken = bill(told, *asked.spools)
    facts: dict[str, object] = {
        "seconds": round(told.seconds),
        "filament_mm": round(1000 * taken.metres, 1),
        "grams": round(taken.mass_g, 2),
    }
    data = b"".join(written(whole, moves, how, asked.running, (0.0, 0.0), facts))
    bounds = Bounds(
        how.machine, how.build_mm, told.volume_mm3, how.diameter_mm, asked.nozzle_range, asked.bed_range,
        len(np.unique(whole.tops_mm.round(4))), how.lift_mm > 0, asked.second_range, told.second_mm3,
        told.pauses, asked.running.retract_mm,
    )  # fmt: skip
    if asked.in_turn is not None:
        bounds = replace(bounds, items=1 + int((np.diff(whole.tops_mm) < 0).sum()), **asdict(asked.in_turn))
    back = read(data.decode().splitlines(), in_turn=asked.in_turn is not None)
    found = faults(back, bounds)
    if found:
        words, mend = found[0]
        more = f" And {len(found) - 1} more." if len(found) > 1 else ""
        raise BadValue(f"The G-code is not written: {words}{more}", mend)
    return data, back

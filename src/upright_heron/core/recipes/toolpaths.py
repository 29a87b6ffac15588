"""Paths of the nozzle, what they take, and the G-code of a plate."""

from __future__ import annotations

from ..errors import BadValue
from ..footing.footing import Footing
from ..graph import maybe, recipe
from ..health.report import Report
from ..layers.stack import LayerStack
from ..progress import Progress
from ..supports.support_set import SupportSet
from ..toolpaths.beads import Beads
from ..toolpaths.gcode import written
from ..toolpaths.gcode_check import Bounds, faults, read
from ..toolpaths.laying import Laying, lay
from ..toolpaths.plate_paths import Placed, merged
from ..toolpaths.surfaces import Skins, Surfaces, make_surfaces
from ..toolpaths.timing import Timed
from ..toolpaths.timing import timed as timed_of
from ..toolpaths.walls import Walls, as_region, make_walls
from .footing import footing
from .layers import layers
from .part import health
from .plate import arranged
from .settings import FootingSetting, GcodeSetting, PathSetting, RunSetting, SkinSetting, WallSetting
from .supports_filament import filament_supports
from .values import Arranged, Package


@recipe("walls", version=1, stage="Laying walls", needs=(layers,), reads=WallSetting)
def walls(stack: LayerStack, asked: WallSetting, progress: Progress) -> Walls:
    """Walls of the part, and what lies inside them."""
    return make_walls(stack, asked.count, asked.line_mm, progress=progress)


@recipe(
    "surfaces",
    version=1,
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
    skins = Skins(asked.top, asked.bottom, asked.line_mm)
    return make_surfaces(stack, laid.inside, skins, held, progress=progress)


@recipe(
    "toolpaths",
    version=1,
    stage="Laying paths",
    needs=(layers, walls, surfaces, maybe(filament_supports), maybe(footing)),
    reads=(PathSetting, maybe(FootingSetting)),
)
def toolpaths(
    stack: LayerStack,
    laid: Walls,
    filled: Surfaces,
    made: SupportSet | None,
    base: Footing | None,
    asked: PathSetting,
    on: FootingSetting | None,
    progress: Progress,
) -> Beads:
    """All paths of an item, in the order in which they are printed."""
    how = Laying(asked.line_mm, asked.pattern, asked.density, asked.order)
    under = (base, on.kind) if base is not None and on is not None else None
    return lay(stack, laid, filled, how, made, under, progress=progress)


@recipe("timed", version=1, stage="Timing moves", needs=(toolpaths,), reads=RunSetting)
def timed(beads: Beads, asked: RunSetting) -> Timed:
    """Time and filament of an item by itself, from its moves."""
    return timed_of(beads, asked.running)[0]


@recipe(
    "gcode",
    version=1,
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
    whole = merged([Placed(by_item[p.item], p.x_mm, p.y_mm, p.swing_deg) for p in where.places])
    return Package(gcode_of(whole, asked))


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


def gcode_of(whole: Beads, asked: GcodeSetting) -> bytes:
    """Write the G-code of paths on a plate, and read it back.

    Raises
    ------
    BadValue
        What is read back is not what was asked for.
    """
    told, moves = timed_of(whole, asked.running)
    how = asked.writing
    facts: dict[str, object] = {
        "seconds": round(told.seconds),
        "filament_mm": round(1000 * told.metres(how.diameter_mm), 1),
        "grams": round(told.mass_g(asked.density_g_cm3), 2),
    }
    data = b"".join(written(whole, moves, how, asked.running, (0.0, 0.0), facts))
    bounds = Bounds(
        how.machine, how.build_mm, told.volume_mm3, how.diameter_mm, asked.nozzle_range, asked.bed_range,
        len(whole.tops_mm), how.lift_mm > 0,
    )  # fmt: skip
    found = faults(read(data.decode().splitlines()), bounds)
    if found:
        words, mend = found[0]
        more = f" And {len(found) - 1} more." if len(found) > 1 else ""
        raise BadValue(f"The G-code is not written: {words}{more}", mend)
    return data

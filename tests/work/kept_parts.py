"""Parts and decisions whose results are kept: between them they ask for nearly all that can be made."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np
from manifold3d import Manifold, OpType

from tests.broken import soup
from tests.support import box, mesh_of
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid, concatenated
from upright_heron.core.health.mend import mend
from upright_heron.core.hollow.cavity import HollowSetting
from upright_heron.core.hollow.filling import Filling
from upright_heron.core.hollow.hollowed import Hole, hollow_out
from upright_heron.core.keys import Keys
from upright_heron.core.maker import Maker, Recent
from upright_heron.core.recipes.part import MESH
from upright_heron.core.split.fittings import JointKind
from upright_heron.core.stance.pose import about_axis, to_quaternion
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.toolpaths.ordering import Seam
from upright_heron.core.toolpaths.patterns import Pattern
from upright_heron.sheet.by_height import ByHeight, Pause, StrandZone, Zone
from upright_heron.sheet.item import Grid, Item, Joints, Plane, Stance, StanceGoals
from upright_heron.sheet.models import JobSheet
from upright_heron.sheet.plating import Instance, Plate, Plating, Turning
from upright_heron.sheet.process import FilamentSupports, Footing, Price, Process, ResinSupports, Second
from upright_heron.sheet.shop import OwnPrinter
from upright_heron.work.alone import Alone, part_of
from upright_heron.work.bind import PlateBinding
from upright_heron.work.bind_job import arranging_keys

SMALL = OwnPrinter(
    name="Willow", technology="filament", build_mm=(31, 30, 29), layer_heights_mm=(0.3,), layer_mm=0.3,
    finest_mm=0.4, speed_mm_s=60, nozzles=2,
)  # fmt: skip
# Stances are looked for once: it takes seconds.
USUAL = frozenset({"search", "plans", "plan_figures"})


def specimen() -> Any:
    """Foot with a counterbored hole, wall with a ceiling, doorway, leaning rod with a ball, fin and two points."""
    foot = box(34, 22, 4) - Manifold.cylinder(9, 2.1, 2.1, 40).translate((6.3, 5.7, -1))
    foot -= Manifold.cylinder(3, 3.8, 3.8, 40).translate((6.3, 5.7, -0.5))
    wall = box(5, 22, 19, (28, 0, 4)) + box(19, 11.5, 2.6, (10.4, 9.3, 20.4))
    door = box(3, 4, 10, (12, 1, 4)) + box(3, 4, 10, (23, 1, 4)) + box(14, 4, 2.2, (12, 1, 14))
    ends = [Manifold.sphere(r, 40).translate(at) for r, at in ((2.3, (5, 17, 4)), (1.9, (-5.5, 21, 17)))]
    rod = Manifold.batch_hull(ends) + Manifold.sphere(4.4, 56).translate((-6, 21.5, 20))
    fin = box(9, 0.7, 8, (14, 12.1, 4))
    points = [Manifold.cylinder(4.5, 0.05, 1.6, 24).translate((x, 18, 16)) for x in (15.2, 21.7)]
    return Manifold.batch_boolean([foot, wall, door, rod, fin, *points], OpType.Add)


def cup() -> Any:
    """Leaning figure for resin: an egg on a stem, a beak that points down, a bowl that keeps what is in it."""
    egg = Manifold.sphere(7, 64).scale((1.0, 0.8, 1.3)).translate((0, 0, 24))
    stem = Manifold.cylinder(18, 2.6, 1.8, 32) + Manifold.cylinder(1.5, 7, 6, 48)
    beak = Manifold.cylinder(9, 1.7, 0.08, 24).rotate((0, 125, 0)).translate((5, 0.6, 27))
    bowl = Manifold.sphere(5.6, 64) - Manifold.sphere(4.5, 64) - box(12, 12, 6, (-6, -6, 1.2))
    return egg + stem + beak + bowl.translate((-9.5, 1, 27))


def turned(axis: str, degrees: float, swing: float = 0.0) -> Stance:
    """A stance that no face of the part is along."""
    return Stance(quaternion=to_quaternion(about_axis("z", swing) @ about_axis(axis, degrees)), name="turned")


def _painted(alone: Alone) -> np.ndarray:
    """All kinds of marks, by where facets lie."""
    mesh = alone.fine.mesh
    middle = mesh.vertices[mesh.faces].mean(axis=1)
    marks = np.zeros(len(middle), np.uint8)
    for kind, axis, share in ((1, 0, 0.12), (2, 0, 0.9), (3, 1, 0.88), (4, 2, 0.93)):
        low, high = middle[:, axis].min(), middle[:, axis].max()
        past = (middle[:, axis] - low) / (high - low)
        marks[past < share if share < 0.5 else past > share] = kind
    return marks


def lines() -> Alone:
    """Filament as most is printed: supports by themselves, brim, grid, a channel; seen from the front."""
    return Alone(
        mesh_of(specimen()), "Sedge 300", "PETG",
        item={
            "supports": FilamentSupports(tool_mm=2.0), "footing": Footing(kind="brim", lines=4),
            "show": (0.2, -1, 0), "load": (0, 0, -1), "channel_mm": 5.0, "stance": turned("z", 17),
            "goals": StanceGoals(less_support=1, clean_show=2, firm=1),
        },
        job={"layer_mm": 0.3, "process": Process(seam=Seam.HIDDEN, price=Price(per_gram=0.05, per_hour=2, setup=1, round_to=0.1))},
    )  # fmt: skip


def leaning() -> Alone:
    """The same aslant on trees, painted, with two nozzles, a raft and heights of their own."""
    stance = turned("x", 34, 12)
    mesh = mesh_of(specimen())
    each = [pattern for pattern in Pattern if pattern is not Pattern.CUBIC]
    by = ByHeight(
        zones=(
            Zone(low_mm=6, high_mm=8, walls=5, infill_percent=40, pattern=Pattern.GYROID, speed_percent=60),
            *(Zone(low_mm=9 + k, high_mm=10 + k, pattern=one, fan_percent=20 + k) for k, one in enumerate(each)),
        ),
        pauses=(Pause(z_mm=8, why="nut"),), strands=(StrandZone(low_mm=3, high_mm=4.5, turns=1, angle_deg=20),),
    )  # fmt: skip
    given = {
        "supports": FilamentSupports(
            style=Style.TREE, second=Second.INTERFACE, second_material="PLA", brim_mm=2, every=2
        ),
        "footing": Footing(kind="raft", second=True), "stance": stance, "by_height": by,
        "seam_line": ((3.0, 0.0, 2.0), (28.0, 0.0, 15.0)),
    }  # fmt: skip
    process = Process(
        pattern=Pattern.CUBIC, infill_percent=23, seam=Seam.PICKED, outer_first=True, smooth=True, relative_e=False,
        infill_every=2, roof_percent=50, roof_layers=3, bridge_flow_percent=80, fan_percent=70, hole_mm=0.1,
        outline_mm=-0.05, first_outline_mm=-0.15, travel_lift_mm=0.4, inside_ways=False,
    )  # fmt: skip
    job = {
        "layer_mm": 0.15,
        "own_printer": SMALL.model_copy(update={"build_mm": (120, 120, 90)}),
        "process": process,
    }
    bare = Alone(mesh, "Sedge 300", "PETG", item=given, job=job)
    return Alone(mesh, "Sedge 300", "PETG", item=given, job=job, marks=_painted(bare))


def columns() -> Alone:
    """Upside down on columns from the plate, walls that vary, zigzag, a skirt."""
    return Alone(
        mesh_of(specimen()), "Reed 190", "PLA",
        item={
            "supports": FilamentSupports(style=Style.GRID, from_plate=True, gap_mm=0.3, interface_layers=1, slit_mm=8),
            "footing": Footing(kind="skirt", lines=2), "stance": turned("y", 197, 40),
        },
        job={"layer_mm": 0.25, "process": Process(pattern=Pattern.ZIGZAG, seam=Seam.SCATTERED, walls=2)},
    )  # fmt: skip


def resin() -> Alone:
    """A figure in resin on stilts, leaning, with marks and a base."""
    given = {
        "supports": ResinSupports(spacing_mm=2.2, tip_mm=0.35), "footing": Footing(kind="pads"),
        "stance": turned("y", -27, 15).model_copy(update={"lift_mm": 5.0}), "show": (1, 0.2, 0.1),
    }  # fmt: skip
    mesh = mesh_of(cup())
    bare = Alone(mesh, "Tarn 9", item=given, job={"layer_mm": 0.1})
    return Alone(mesh, "Tarn 9", item=given, job={"layer_mm": 0.1}, marks=_painted(bare))


def pieces() -> Alone:
    """Cut into pieces that fit a small machine, with pegs and numbers, and plans that do better."""
    return Alone(
        mesh_of(specimen().scale((1.5, 1.5, 1.5)).rotate((0, 0, 9))), "Sedge 300", "PLA",
        item={
            "grid": Grid(margin_mm=1.5, joints=Joints(kind=JointKind.PEG, numbers=True, clearance_mm=0.2)),
            "show": (0, -1, 0), "footing": Footing(kind="corners"),
        },
        job={"layer_mm": 0.3, "own_printer": SMALL, "process": Process(seam=Seam.CORNER)},
    )  # fmt: skip


def broken() -> Alone:
    """A part with holes, crossings and flipped facets: what is told of it, and what still can be made."""
    mesh = mesh_of(specimen())
    faces = np.delete(mesh.faces, slice(3, 9), axis=0)
    faces[40:52] = faces[40:52, ::-1]
    other = mesh_of(Manifold.sphere(3, 20).translate((30, 11, 12)))
    job = {"process": Process(seam=Seam.DIRECTION, seam_deg=35)}
    both = np.concatenate([faces, other.faces + len(mesh.vertices)])
    return Alone(
        type(mesh)(np.concatenate([mesh.vertices, other.vertices]), both), "Sedge 300", "PLA", job=job
    )


def plate() -> tuple[Keys, Maker]:
    """Two parts on one plate of filament, a copy among them, written as G-code."""
    lying = {"stance": turned("x", 90, 30), "supports": FilamentSupports(style=Style.LINES)}
    stands = [Instance(item="a0"), Instance(item="a1"), Instance(item="a1", copy_number=2, swing_deg=25)]
    return _plate(
        {"a0": (specimen(), lying), "a1": (cup().scale((0.6, 0.6, 0.6)), {})}, stands,
        name="Two", printer="Sedge 300", material="PLA", layer_mm=0.3, plating=Plating(gap_mm=2),
        process=Process(infill_percent=10, pattern=Pattern.TRIANGLES, seam=Seam.NEAREST),
    )  # fmt: skip


def tray() -> tuple[Keys, Maker]:
    """Two of a figure in resin on one plate."""
    given = {"supports": ResinSupports(), "stance": turned("x", 20), "footing": Footing(kind="ties")}
    return _plate(
        {"a0": (cup().scale((0.7, 0.7, 0.7)), given)}, [Instance(item="a0"), Instance(item="a0", copy_number=2)],
        name="Tray", printer="Mere 13", material="Tough resin", layer_mm=0.1,
    )  # fmt: skip


def inlaid() -> Alone:
    """A cup in a slab with a little room round it, which the second nozzle prints; tops are smoothed."""
    slab = box(26, 24, 5) - Manifold.cylinder(4, 7.7, 7.7, 48).translate((12, 11, 1.97))
    inlay = Manifold.cylinder(4, 7.65, 6.0, 48).translate((12, 11, 2)) - Manifold.sphere(3.0, 32).translate(
        (12, 11, 6)
    )
    return Alone(
        mesh_of(slab + inlay), "Sedge 300", "PLA",
        item={"second_bodies": ((12.0, 11.0, 3.0),), "stance": turned("z", 21)},
        job={"process": Process(smooth=True, infill_percent=30, pattern=Pattern.TRIANGLES, second_material="ABS")},
    )  # fmt: skip


def _plate(
    parts: dict[str, tuple[Any, dict[str, Any]]], stands: list[Instance], **job: Any
) -> tuple[Keys, Maker]:
    meshes = {name: mesh_of(body) for name, (body, _) in parts.items()}
    items = [
        Item.model_validate({"stance": Stance(), **given, "id": name, "part": part_of(meshes[name])})
        for name, (_, given) in parts.items()
    ]
    sheet = JobSheet.of(items, plates=(Plate(instances=tuple(stands)),), **job)
    return Keys(PlateBinding(sheet, 0)), _maker(meshes.values())


def _maker(meshes: Iterable[Mesh]) -> Maker:
    by_digest = {mesh.digest: mesh for mesh in meshes}
    everything = Recent(1_000_000)

    def load(source: Any, digest: str) -> Any:
        return by_digest[digest] if source is MESH else None

    return Maker(load, everything, at_hand=everything)


def bristles() -> Alone:
    """The same as of filament in resin: many stilts, that join and are braced."""
    return Alone(
        mesh_of(specimen()), "Mere 13", "Castable resin",
        item={
            "supports": ResinSupports(spacing_mm=1.8, tip_mm=0.3, rounded=True, hollows_free=True),
            "stance": turned("x", 24, 33).model_copy(update={"lift_mm": 9.0}), "footing": Footing(kind="raft"),
        },
        job={"layer_mm": 0.1},
    )  # fmt: skip


def arranged() -> tuple[Keys, Maker]:
    """Several copies of three parts that are laid onto plates one after the other, swung and locked."""
    bodies = {"a": specimen(), "b": cup(), "c": box(70, 9, 6) + box(9, 50, 6)}
    meshes = {name: mesh_of(body) for name, body in bodies.items()}
    items = [
        Item.model_validate({"stance": turned("z", 10), "id": name, "part": part_of(mesh)})
        for name, mesh in meshes.items()
    ]
    stands = [Instance(item=name, copy_number=k) for name in bodies for k in range(1, 5)]
    stands[0] = Instance(item="a", x_mm=12, y_mm=-8, swing_deg=70, lock_x=True, lock_y=True, lock_swing=True)
    sheet = JobSheet.of(
        items, name="Many", own_printer=SMALL.model_copy(update={"build_mm": (150, 140, 90)}), layer_mm=0.3,
        plates=(Plate(instances=tuple(stands)),), plating=Plating(gap_mm=1.5, edge_mm=4, turning=Turning.FREELY),
    )  # fmt: skip
    return arranging_keys(sheet)[0], _maker(meshes.values())


def _told_apart(values: Iterable[tuple[str, Any]], told: Callable[[Any], Any]) -> dict[str, Any]:
    """What is no result of a recipe has no version."""
    return {name: {"version": 0, "parts": told(value)} for name, value in values}


def hollowed() -> Iterator[tuple[str, Any]]:
    """An egg hollowed in each way, and one that keeps its beak solid."""
    solid = Solid(cup())
    for filling in Filling:
        setting = HollowSetting(1.2, 0.5, 5.0, 1.5, filling, 6.0, 1.5, 3.0).checked()
        yield f"hollow, {filling.value}", hollow_out(solid, setting, proposed_mm=1.5, down=(0.2, 0.1, -0.97))
    hole = Hole((0.0, 0.0, 33.0), 1.6, 8.0, True)
    kept = np.array([[0.0, 5.5, 24.0], [1.0, 5.4, 25.0]])
    yield "hollow, pointed", hollow_out(solid, HollowSetting(1.0, 0.4).checked(), [hole], solid_at_mm=kept)


def mended() -> Iterator[tuple[str, Any]]:
    """What comes of parts that are broken in several ways at once."""
    yield "mended, flipped and crossed", mend(broken().mesh)
    bar = mesh_of(box(30, 6, 5))
    others = [mesh_of(box(30, 6, 5).rotate((11, 7, 37 * k)).translate((9, 2.1, 0.7 * k))) for k in (1, 2)]
    yield "mended, bars", mend(concatenated([bar, *others]))
    rod = mesh_of(specimen())
    yield (
        "mended, torn",
        mend(soup(type(rod)(rod.vertices, np.delete(rod.faces, [5, 90, 91, 400], axis=0)), 2e-4)),
    )


def jointed() -> Iterator[tuple[str, Any]]:
    """A cut with joints of each kind."""
    mesh = mesh_of(specimen().scale((1.7, 1.7, 1.7)).rotate((0, 0, 9)))
    planes = (
        Plane(id="p1", normal=(1.0, 0.1, 0.0), offset_mm=26.0),
        Plane(id="p2", normal=(0.0, 0.2, 1.0), offset_mm=12.0),
    )
    for kind in JointKind:
        joints = Joints(
            kind=kind, clearance_mm=0.15, numbers=kind is JointKind.DOWEL, taper_deg=2.0, wall_mm=1.0
        )
        job = {"own_printer": SMALL.model_copy(update={"build_mm": (60, 60, 60)})}
        alone = Alone(mesh, "Sedge 300", "PLA", item={"grid": Grid(planes=planes, joints=joints)}, job=job)
        yield f"split, {kind.value}", alone.make("split")


APART: dict[str, Callable[[], Iterator[tuple[str, Any]]]] = {
    "hollowed": hollowed,
    "mended": mended,
    "jointed": jointed,
}
PLATES: dict[str, tuple[Callable[[], tuple[Keys, Maker]], frozenset[str]]] = {
    "plate": (plate, frozenset()),
    # Masks are pictures, and large.
    "tray": (tray, frozenset({"masks"})),
    "arranged": (arranged, frozenset()),
}
SINGLE: dict[str, tuple[Callable[[], Alone], frozenset[str]]] = {
    "lines": (lines, frozenset({"plans", "plan_figures"})),
    "leaning": (leaning, USUAL | {"item_package"}),
    "columns": (columns, USUAL | {"item_package", "support_paths", "toolpaths"}),
    "resin": (resin, USUAL),
    "pieces": (pieces, frozenset({"search", "assembly_map"})),
    "bristles": (bristles, USUAL | {"item_package"}),
    "broken": (broken, USUAL),
    "inlaid": (inlaid, USUAL | {"item_package"}),
}
CASES = (*SINGLE, *PLATES, *APART)


def made(case: str, results: Callable[..., dict[str, Any]], told: Callable[[Any], Any]) -> dict[str, Any]:
    """All results of a case, by recipe."""
    if case in APART:
        return _told_apart(APART[case](), told)
    if case in PLATES:
        on, left = PLATES[case]
        return results(*on(), left)
    begin, leave = SINGLE[case]
    alone = begin()
    return results(alone.keys, alone.maker, leave)

"""Files that leave."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from manifold3d import Manifold
from numpy.typing import NDArray

from ..errors import BadValue
from ..footing.footing import Footing
from ..geometry.mesh import Mesh
from ..geometry.picture import PART, coloured_picture
from ..geometry.solid import Solid
from ..geometry.subdivision import Fine
from ..graph import Keep, Source, maybe, recipe
from ..handoff.masks import checked, write_masks
from ..handoff.plate_layers import Outline, PlateLayers, Standing
from ..handoff.slices import SliceObject, write_slices
from ..handoff.stl import write_stl
from ..handoff.threemf import FileObject, Role, Spot, write_3mf
from ..layers.printed_layers import PrintedLayers
from ..layers.stack import LayerStack
from ..marking.marks import Marks, as_marks
from ..plates.arrange import Rectangle, in_rows
from ..progress import Progress, tracked
from ..split.pieces import Split
from ..stance.pose import Placement, about_axis
from ..supports.support_set import SupportSet
from ..toolpaths.process_table import Stretch, steps
from .footing import footing
from .layers import layers
from .part import fine
from .plate import arranged
from .settings import FootingSetting, Layout, Masking, Naming, Title
from .split import split
from .stance import placed_mesh, placement
from .supports_resin import supports
from .values import Arranged, FileObjects, Package, Picture

Coat = tuple[Mesh, Marks]
# How thick a plate is drawn, and the colours of it and of what holds parts.
BED_MM = 2.0
BED = np.array([222.0, 214.0, 197.0])
HELD = np.array([180.0, 105.0, 59.0])

# All that is painted on the part.
MARKS: Source[NDArray[np.uint8]] = Source("marks", np.ndarray)


@recipe("coat", version=1, needs=(fine, MARKS), keep=Keep.PASSING)
def coat(divided: Fine, marks: NDArray[np.uint8]) -> Coat:
    """The fine mesh of a painted part, with all its marks."""
    return divided.mesh, as_marks(divided, marks)


@recipe(
    "objects",
    version=2,
    stage="Putting objects together",
    needs=(placed_mesh, placement, maybe(coat), maybe(supports), maybe(footing)),
    reads=(Naming, maybe(FootingSetting)),
    keep=Keep.PASSING,
)
def objects(
    mesh: Mesh,
    where: Placement,
    painted: Coat | None,
    made: SupportSet | None,
    base: Footing | None,
    names: Naming,
    asked: FootingSetting | None,
) -> FileObjects:
    """Part, supports and footing of an item; a raft raises the first two."""
    raised = base.raise_mm if base is not None else 0.0
    part = FileObject(f"part {names.item}", mesh.moved(z=raised), role=Role.PART)
    if painted is not None:
        part = replace(part, mesh=where.apply(painted[0]).moved(z=raised), marks=painted[1])
    found = [part]
    if made is not None:
        found += _held(made, names, raised)
    # A skirt is no object: whoever lays paths of the file lays one of its own.
    if base is not None and asked is not None and not base.around:
        found.append(
            FileObject(f"footing {asked.settings.kind.value} of {names.item}", base.mesh(), role=Role.FOOTING)
        )
    return FileObjects(tuple(found))


def _held(made: SupportSet, names: Naming, raised: float) -> list[FileObject]:
    """Supports to hand off, apart by nozzle where two print them."""
    name = f"support of {names.item}"
    second = f"{name}, nozzle 2, {names.second_material}"
    if names.second == "interface":
        walls, interface = (mesh.moved(z=raised) for mesh in made.parted_meshes())
        pairs = [(name, walls), (second, interface)]
    else:
        whole = made.handoff_mesh().moved(z=raised)
        pairs = [(second if names.second == "everything" else name, whole)]
    return [FileObject(told, mesh, "support", role=Role.SUPPORT) for told, mesh in pairs]


@recipe(
    "plate_picture", version=1, stage="Drawing the plate", needs=(arranged,), each=(objects,), reads=Layout
)
def plate_picture(where: Arranged, items: tuple[FileObjects, ...], plate: Layout) -> Picture:
    """All that stands on a plate, on the plate itself: parts, what holds them, and what they stand on."""
    wide, deep, _ = plate.build_mm
    bed = Manifold.cube((wide, deep, BED_MM), True).translate((0.0, 0.0, -BED_MM / 2))
    meshes, colours = [Solid(bed).mesh()], [BED]
    for one in _on_plate(where, items):
        meshes.append(one.mesh)
        colours.append(PART if one.role is Role.PART else HELD)
    return Picture(coloured_picture(meshes, np.array(colours)))


def _on_plate(where: Arranged, items: tuple[FileObjects, ...]) -> Iterator[FileObject]:
    """Objects of all that stands on a plate, where they stand."""
    by_item = dict(zip(where.items, items, strict=True))
    for place in where.places:
        turn = about_axis("z", place.swing_deg)
        copy = f", copy {place.copy}" if place.copy > 1 else ""
        for one in by_item[place.item].objects:
            if len(one.mesh.faces) == 0:
                continue
            mesh = one.mesh if place.swing_deg == 0 else one.mesh.transformed(turn, np.zeros(3))
            yield replace(one, name=one.name + copy, mesh=mesh.moved(place.x_mm, place.y_mm))


@recipe(
    "package", version=6, stage="Writing 3MF", needs=(arranged, plate_picture), each=(objects,), reads=Title
)
def package(where: Arranged, seen: Picture, items: tuple[FileObjects, ...], title: Title) -> Package:
    """The 3MF file of a plate, with its picture; what stands there several times is in it once."""
    often = Counter(one.item for one in where.places)
    alone = replace(where, places=tuple(one for one in where.places if often[one.item] == 1))
    found = list(_on_plate(alone, items))
    spots: dict[int, list[Spot]] = {}
    for item, some in zip(where.items, items, strict=True):
        if often[item] > 1:
            here = [Spot(at.x_mm, at.y_mm, at.swing_deg) for at in where.places if at.item == item]
            spots |= {len(found) + k: here for k in range(len(some.objects))}
            found += some.objects
    return Package(write_3mf(found, title.name, seen.png, spots))


@recipe(
    "printed_layers",
    version=1,
    needs=(layers, maybe(supports), maybe(footing)),
    keep=Keep.PASSING,
)
def printed_layers(part: LayerStack, made: SupportSet | None, base: Footing | None) -> PrintedLayers:
    """All that is printed of an item, layer by layer."""
    return PrintedLayers(part, made.layers if made is not None else None, base)


def _standing(where: Arranged, items: tuple[PrintedLayers, ...]) -> list[tuple[str, Standing]]:
    by_item = dict(zip(where.items, items, strict=True))
    return [
        (one.item, Standing(by_item[one.item], one.x_mm, one.y_mm, one.swing_deg)) for one in where.places
    ]


def outline_of(asked: Masking) -> Outline:
    """By how much the outlines of masks move."""
    first = sum(row.layers or 0 for row in asked.rows if row.stretch is Stretch.FIRST)
    return Outline(asked.outline_mm, asked.first_outline_mm, first)


@recipe("masks", version=2, stage="Drawing masks", needs=(arranged,), each=(printed_layers,), reads=Masking)
def masks(where: Arranged, items: tuple[PrintedLayers, ...], asked: Masking, progress: Progress) -> Package:
    """The masks of a plate, read back before they leave.

    Raises
    ------
    BadValue
        Nothing stands on it, or what is read back is not what was drawn.
    """
    if not where.places:
        raise BadValue("Nothing stands on this plate.", "Put an item on it.")
    plate = PlateLayers([one for _, one in _standing(where, items)], outline_of(asked))
    layer_mm = items[0].layer_mm
    process = steps(asked.rows, len(plate))
    rings = (plate.rings(level) for level in tracked(range(len(plate)), "Drawing masks", progress))
    data = write_masks(rings, asked.screen, layer_mm, process, plate.bounds)
    checked(data)
    return Package(data)


@recipe(
    "slices",
    version=1,
    stage="Writing slices",
    needs=(arranged,),
    each=(printed_layers, objects),
    reads=(Masking, Title),
)
def slices(
    where: Arranged,
    items: tuple[PrintedLayers, ...],
    found: tuple[FileObjects, ...],
    asked: Masking,
    title: Title,
) -> Package:
    """The layers of a plate as 3MF, each item once with the places where it stands."""
    by_item: dict[str, list[Standing]] = {}
    for item, one in _standing(where, items):
        by_item.setdefault(item, []).append(one)
    shown = dict(zip(where.items, found, strict=True))
    every = [
        SliceObject(shown[item].objects[0].name, shown[item].objects[0].mesh, places)
        for item, places in by_item.items()
    ]
    return Package(write_slices(every, title.name, outline_of(asked)))


@recipe("item_package", version=2, stage="Writing 3MF", needs=(objects,), reads=Naming)
def item_package(found: FileObjects, names: Naming) -> Package:
    """The 3MF file of one item by itself, as it stands, its middle over the origin."""
    there = [one for one in found.objects if len(one.mesh.faces)]
    return Package(write_3mf(there, names.item))


def _stl(found: FileObjects, role: Role) -> Package:
    meshes = [one.mesh for one in found.objects if one.role is role and len(one.mesh.faces)]
    # More than one where two nozzles print the supports: the first is that of the walls.
    return Package(write_stl(meshes[0]) if meshes else b"")


@recipe("stl_part", version=1, stage="Writing STL", needs=(objects,))
def stl_part(found: FileObjects) -> Package:
    """The part as STL."""
    return _stl(found, Role.PART)


@recipe("stl_support", version=1, stage="Writing STL", needs=(objects, supports))
def stl_support(found: FileObjects, made: SupportSet) -> Package:
    """The supports as STL; no bytes where there are none."""
    return _stl(found, Role.SUPPORT)


@recipe("stl_footing", version=1, stage="Writing STL", needs=(objects, footing))
def stl_footing(found: FileObjects, base: Footing) -> Package:
    """The footing as STL."""
    return _stl(found, Role.FOOTING)


@recipe("pieces_package", version=2, stage="Writing 3MF", needs=(split,), reads=Naming)
def pieces_package(cut: Split, names: Naming) -> Package:
    """All pieces of a cut item as one 3MF, set out in rows beside each other, on the plate."""
    return Package(pieces_3mf(cut, names.item))


def pieces_3mf(cut: Split, name: str) -> bytes:
    """Write pieces set out in rows beside each other, each with its lowest point on the plate."""
    meshes = [p.mesh.moved(z=-float(p.mesh.bounds[0][2])) for p in cut.pieces]
    boxes = [Rectangle.of(m.bounds) for m in meshes]
    every = [
        FileObject(f"part {name} piece {p.number}", mesh.moved(x, y), role=Role.PART)
        for p, mesh, (x, y) in zip(cut.pieces, meshes, in_rows(boxes), strict=True)
    ]
    return write_3mf(every, f"{name}, {len(every)} pieces")
